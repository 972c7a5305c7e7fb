package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// TestScreenshots takes the pictures of the documentation again, from the demo
// data: `make screenshots`. Terminals are drawn by xterm under Xvfb.
func TestScreenshots(t *testing.T) {
	to := os.Getenv("SCREENSHOTS")
	if to == "" {
		t.Skip("SCREENSHOTS names no folder")
	}
	require.NoError(t, os.MkdirAll(to, 0o755))
	dir := filepath.Join(t.TempDir(), "harbour")
	s := demo(t, dir)
	p := browse(t, s.url)
	shoot := func(name string) {
		time.Sleep(400 * time.Millisecond) // fonts and fades
		png, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(to, name+".png"), png, 0o644))
	}
	p.open("/try")
	p.keys("textarea", "Reserve a berth for the Marrow Light from next Friday noon, two nights, please.\r")
	p.sees("held: a person is asked")
	p.sees("Reserve C4 for the Marrow Light")
	js[chromedp.Void](p, `document.querySelector("#step-6").click()`)
	p.sees("6 · find_berth")
	p.until(`document.querySelector("aside pre")`)
	shoot("try")
	j := sayJSON(t, s, 4, "Reserve a berth for the Long Hope from next Friday noon, two nights, please.")
	require.Equal(t, 0, s.run(t, "amend", itoa(j.Tickets[0]), "-args", `{"vessel":"Long Hope of Stranmure"}`, "-because", "as the register has it").code)
	s.run(t, "follow", j.ID)
	waiver := sayJSON(t, s, 4, "Waive 600 EUR of the dues of the Gannet, because the pontoon was broken.")
	require.Equal(t, 0, s.run(t, "amend", itoa(waiver.Tickets[0]), "-as", "deputy", "-args", `{"eur":550}`, "-because", "Half of it was our pontoon.").code)
	letter := s.run(t, "say", "-json", "-relay", "berth_letter", "-input", `{"vessel": "Marrow Light", "nights": 2}`)
	require.Equal(t, 4, letter.code, letter.err)
	var wrote struct {
		ID      string
		Tickets []int
	}
	require.NoError(t, json.Unmarshal([]byte(letter.out), &wrote))
	require.Equal(t, 0, s.run(t, "back", itoa(wrote.Tickets[0]), "-because", "Say that she lies at C4.").code)
	p.open("/tickets")
	p.sees("She lies at C4.")
	js[chromedp.Void](p, `[...document.querySelectorAll('[role=group][aria-label^="Ticket"]')].find(e => e.innerText.includes("Waive")).scrollIntoView()`)
	shoot("tickets")
	require.Equal(t, 0, s.run(t, "allow", itoa(wrote.Tickets[0]+1)).code)
	p.open("/bench/find_vessel")
	p.until(`document.querySelector("#bench_name")`)
	p.keys("#bench_name", "Marow Light")
	p.click("Call it")
	p.sees("is nearest")
	shoot("bench")
	p.open("/runs")
	p.until(`document.querySelectorAll("[role=table] a").length >= 11`)
	shoot("runs")
	p.open("/runs?text=ketch")
	p.until(`document.querySelectorAll("[role=table] a").length === 1`)
	js[chromedp.Void](p, `document.querySelector("[role=table] a").click()`)
	p.until(`document.querySelectorAll("svg [data-step]").length === 9`)
	js[chromedp.Void](p, `document.querySelector("#step-5").click()`)
	p.click("Thread")
	p.sees("reckon_dues EUR")
	shoot("consult")
	p.open("/runs/" + wrote.ID)
	p.until(`document.querySelectorAll("svg [data-step]").length > 4`)
	js[chromedp.Void](p, `[...document.querySelectorAll("[id^=step-]")].find(e => e.innerText.includes("write 3"))?.click()`)
	p.sees("write 3")
	shoot("relay")
	p.open("/map/berth_letter?run=" + wrote.ID)
	p.until(`document.querySelector("[data-node=again]")`)
	js[chromedp.Void](p, `document.querySelector("[data-node=again]").dispatchEvent(new MouseEvent("click", {bubbles: true}))`)
	p.sees("kept.review.fine = true")
	shoot("map")
	p.open("/people")
	p.sees("mara@kelmere.example")
	shoot("people")
	works := sayJSON(t, s, 4, "Write me a table of the tide windows of the weekend as a program.")
	for range 2 {
		id := regexp.MustCompile(`ticket (\d+): Run windows.sh`).FindStringSubmatch(s.run(t, "tickets").out)[1]
		require.Equal(t, 0, s.run(t, "allow", id).code)
		require.Eventually(t, func() bool {
			return strings.Contains(s.run(t, "tickets").out, "Run windows.sh") || strings.Contains(s.run(t, "show", works.ID).out, "Here is the table")
		}, 20*time.Second, 50*time.Millisecond)
	}
	p.open("/runs/" + works.ID)
	p.until(`document.querySelectorAll("svg [data-step]").length >= 7`)
	js[chromedp.Void](p, `document.querySelector("#step-6").click()`)
	p.click("Sent")
	p.until(`document.querySelector("section[aria-label=files] button")`)
	js[chromedp.Void](p, `document.querySelector("section[aria-label=files] button").click()`)
	p.until(`document.querySelector("[role=dialog] table")`)
	shoot("program")
	link := regexp.MustCompile(`(?s)to mara@kelmere.example: Reserve.*?Decide here: http://[^/]+(/link#\S+)`).FindStringSubmatch(s.run(t, "outbox").out)[1]
	require.NoError(t, chromedp.Do(p.ctx, chromedp.EmulateViewport(390, 800)))
	p.open(link)
	p.sees("For mara")
	shoot("link")
	require.NoError(t, chromedp.Do(p.ctx, chromedp.EmulateViewport(1280, 800)))
	p.open("/runs")
	js[chromedp.Void](p, `localStorage.setItem("theme", "dark")`)
	p.open("/runs/" + j.ID)
	p.until(`document.querySelectorAll("svg [data-step]").length > 6`)
	js[chromedp.Void](p, `document.querySelector("#step-8").click()`)
	p.sees("8 · assign_berth")
	p.click("State")
	p.until(`document.querySelector("aside td")`)
	shoot("run-dark")
	js[chromedp.Void](p, `localStorage.setItem("theme", "light")`)
	file := filepath.Join(dir, "drills", "drills.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), "args: {berth: A3, vessel: Petrel}", "args: {berth: A7, vessel: Petrel}", 1)), 0o644))
	p.open("/drills")
	require.Eventually(t, func() bool {
		p.click("Run all")
		time.Sleep(500 * time.Millisecond)
		return js[bool](p, `document.body.innerText.includes("1 failed")`)
	}, 20*time.Second, 300*time.Millisecond)
	p.open("/drills/short_vessel_needs_nobody")
	p.until(`document.querySelectorAll("svg [data-step]").length > 0`)
	shoot("drills")

	talkAndFollow(t, s, p, filepath.Join(to, "talk.png"))
	terminal(t, s, filepath.Dir(dir), filepath.Join(to, "say.png"), "stonebaton say -relay berth_letter -input '{\"vessel\": \"Marrow Light\", \"nights\": 2}' </dev/null")
	terminal(t, s, filepath.Dir(dir), filepath.Join(to, "show.png"), "stonebaton runs -limit 8; echo; stonebaton show "+j.ID+" -step 8")
	terminal(t, s, filepath.Dir(dir), filepath.Join(to, "bench-terminal.png"), "stonebaton tools; echo; stonebaton try daylight -args '{\"day\": \"2026-05-08\"}'; echo; stonebaton source inspect station")
	terminal(t, s, filepath.Dir(dir), filepath.Join(to, "why.png"), "stonebaton say 'Find a berth for a 38 m ketch drawing 3.2 m tomorrow noon for two nights and tell me what it costs'; echo; stonebaton understudy -dir harbour -why 'When can the Marrow Light, drawing 5.2 m, come in on Friday?'")
	terminal(t, s, filepath.Dir(dir), filepath.Join(to, "drill.png"), "stonebaton drill -dir harbour")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tools", "tides.yaml"), []byte("tool: tide_windows\nsumary: When the tide lets a draught in.\neffect: red\nstubs: [{returns: high}]\n"), 0o644))
	terminal(t, s, filepath.Dir(dir), filepath.Join(to, "check.png"), "stonebaton check harbour")
}

// talkAndFollow holds a conversation of ten messages in one half of a terminal, while the
// other half follows whatever runs next, also what is said in the console.
func talkAndFollow(t *testing.T, s *server, p *page, to string) {
	t.Helper()
	for _, tool := range []string{"Xvfb", "xterm", "import", "tmux"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Logf("%s is not taken: %s is not installed (apt-get install xvfb xterm imagemagick tmux)", to, tool)
			return
		}
	}
	socket := filepath.Join(t.TempDir(), "tmux")
	tmux := func(args ...string) string {
		t.Helper()
		c := exec.Command("tmux", append([]string{"-S", socket, "-f", "/dev/null"}, args...)...)
		c.Env = append(os.Environ(), "PATH="+filepath.Dir(binary)+":"+os.Getenv("PATH"), "STONEBATON_URL="+s.url, "TERM=xterm-256color")
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	tmux("new-session", "-d", "-x", "212", "-y", "60", "stonebaton talk")
	defer exec.Command("tmux", "-S", socket, "kill-server").Run() //nolint:errcheck // it may be gone
	tmux("set", "-g", "status", "off")
	tmux("set", "-g", "history-limit", "5000")
	tmux("split-window", "-h", "-l", "104", "stonebaton follow")
	wait := func(pane, text string, n int) {
		t.Helper()
		require.Eventually(t, func() bool {
			return strings.Count(tmux("capture-pane", "-p", "-J", "-S", "-2000", "-t", pane), text) >= n
		}, 60*time.Second, 50*time.Millisecond, "%s", text)
	}
	wait("0", "> ", 1)
	wait("1", "Waiting for what runs next", 1)
	for i, say := range []string{"When can a vessel drawing 3.1 m come in tomorrow?", "Is the bar fit to cross on Friday?", "What are the dues for 2 nights at 12.4 m length?", "What is known of the vessel Gannet?", "What are the dues for 1 night at 46 m length?",
		"Who wins on Sunday?", "When does the sun set on 8 May 2026?", "What is known of the vessel Petrel?", "What are the dues for 3 nights at 9 m length?", "When can a vessel drawing 2 m come in tomorrow?"} {
		tmux("send-keys", "-t", "0", "-l", say)
		tmux("send-keys", "-t", "0", "Enter")
		wait("0", "   session ", i+1)
	}
	p.open("/try")
	p.keys("textarea", "Is the bar fit to cross on Saturday?\r")
	wait("1", "Is the bar fit to cross on Saturday?", 1)
	wait("1", "   session ", 11)
	picture := exec.Command("xvfb-run", "-a", "-s", "-screen 0 1280x800x24", "bash", "-c", fmt.Sprintf(
		`xterm -fa "DejaVu Sans Mono" -fs 7 -bg '#f7f9f6' -fg '#1b2320' -geometry 212x60+0+0 -e tmux -S %s attach & sleep 3; import -window root %s; kill %%1`, socket, to))
	out, err := picture.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// terminal runs a command in a terminal window, in a folder, and takes its picture.
func terminal(t *testing.T, s *server, in, to, run string) {
	t.Helper()
	for _, tool := range []string{"Xvfb", "xterm", "import"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Logf("%s is not taken: %s is not installed (apt-get install xvfb xterm imagemagick)", to, tool)
			return
		}
	}
	done := filepath.Join(t.TempDir(), "done")
	script := fmt.Sprintf("export PATH=%s:$PATH STONEBATON_URL=%s; printf '$ %%s\\n' \"$CMD\"; eval \"$CMD\"; touch %s; sleep 30", filepath.Dir(binary), s.url, done)
	c := exec.Command("xvfb-run", "-a", "-s", "-screen 0 1280x800x24", "bash", "-c", fmt.Sprintf(
		`xterm -fa "DejaVu Sans Mono" -fs 9 -bg '#f7f9f6' -fg '#1b2320' -geometry 158x53+0+0 -e bash -c "$SCRIPT" & while [ ! -e %s ]; do sleep 0.2; done; sleep 0.5; import -window root %s; kill %%1`, done, to))
	c.Dir = in
	c.Env = append(os.Environ(), "SCRIPT="+script, "CMD="+run)
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
}
