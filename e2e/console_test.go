package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/internal/app"
)

// page is a tab of a headless browser.
type page struct {
	t      testing.TB
	ctx    context.Context
	url    string
	mu     sync.Mutex
	errors []string // what the browser's console told of errors
}

func browse(t testing.TB, url string) *page {
	t.Helper()
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.Flag("disable-quic", true), chromedp.WindowSize(1280, 800))
	ctx, stop := chromedp.NewExecAllocator(context.Background(), opts...)
	t.Cleanup(stop)
	ctx, stop = chromedp.NewContext(ctx)
	t.Cleanup(stop)
	p := &page{t: t, ctx: ctx, url: url}
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	go func() {
		for m, err := range chromedp.Console(ctx) {
			if err != nil {
				return
			}
			if text := fmt.Sprint(m); strings.HasPrefix(text, "error") || strings.HasPrefix(text, "exception") {
				p.mu.Lock()
				p.errors = append(p.errors, text)
				p.mu.Unlock()
			}
		}
	}()
	if key := app.KeyOf(url); key != "" {
		require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(url+"/#key="+key)))
		p.until(`document.querySelector("main") && location.hash === ""`)
	}
	return p
}

func (p *page) open(path string) {
	p.t.Helper()
	require.NoError(p.t, chromedp.Do(p.ctx, chromedp.Navigate(p.url+path)))
	p.until(`document.querySelector("main")`)
}

// js evaluates an expression.
func js[T any](p *page, expr string) T {
	p.t.Helper()
	v, err := chromedp.Run(p.ctx, chromedp.Evaluate[T](expr))
	require.NoError(p.t, err, expr)
	return v
}

// until waits for an expression to be true.
func (p *page) until(expr string) {
	p.t.Helper()
	require.Eventuallyf(p.t, func() bool {
		v, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool]("!!("+expr+")"))
		return err == nil && v
	}, 20*time.Second, 30*time.Millisecond, "never true: %s\non the page: %s", expr, lazy(func() string { return js[string](p, "document.body.innerText") }))
}

type lazy func() string

func (l lazy) String() string { return l() }

// sees waits for a text on the page.
func (p *page) sees(text string) {
	p.t.Helper()
	q, _ := json.Marshal(text)
	p.until(fmt.Sprintf("document.body.innerText.includes(%s)", q))
}

// click clicks the button, link, tab or row with a text.
func (p *page) click(text string) {
	p.t.Helper()
	q, _ := json.Marshal(text)
	find := fmt.Sprintf(`[...document.querySelectorAll('button,a,[role=tab],[role=option],summary')].find(e => e.innerText.includes(%s) && !e.disabled)`, q)
	// tabs listen to the button going down; what was there can be drawn anew before the click
	for clicked := false; !clicked; {
		p.until(find)
		clicked = js[bool](p, `(e => { e?.dispatchEvent(new MouseEvent("mousedown", {bubbles: true, button: 0})); e?.click(); return !!e })(`+find+")")
	}
}

// keys types behind what is in a field, or over what is selected in it. It types where the
// focus is and asks the browser for no node: what reads those races with what changes them.
func (p *page) keys(selector, text string) {
	p.t.Helper()
	field := fmt.Sprintf("document.querySelector(%q)", selector)
	p.until(field + " && !" + field + ".disabled")
	js[chromedp.Void](p, `(e => { e.focus(); if (e.type !== "number" && e.selectionStart === e.selectionEnd) e.setSelectionRange?.(e.value.length, e.value.length) })(`+field+")")
	p.until("document.activeElement === " + field)
	require.NoError(p.t, chromedp.Do(p.ctx, chromedp.KeyEvent(text)))
}

// sound says that nothing went wrong in the browser, and that axe finds no violation.
func (p *page) sound(where string) {
	p.t.Helper()
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	require.NoError(p.t, err)
	js[chromedp.Void](p, string(axe)+";0")
	found, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`axe.run(document, {resultTypes: ["violations"]}).then(r => r.violations.map(v => v.id + ": " + v.nodes.slice(0, 3).map(n => n.html.slice(0, 160) + " " + n.failureSummary).join(" | ")).join("\n"))`, chromedp.EvalAwaitPromise))
	require.NoError(p.t, err)
	assert.Empty(p.t, found, where)
	p.mu.Lock()
	defer p.mu.Unlock()
	assert.Empty(p.t, p.errors, where)
	p.errors = nil
}

func TestTheConsole(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "harbour")
	s := demo(t, dir)
	p := browse(t, s.url)

	p.open("/")
	p.sees("Say something to desk")
	p.sees("no problems")
	p.sound("an empty Try")
	p.keys("textarea", "Reserve a berth for the Marrow Light from "+inFourDays()+" noon, two nights, please.\r")
	p.sees("desk hands over to berths")
	p.sees("Reserve C4 for the Marrow Light, 46 m?")
	p.sees("held: a person is asked")
	p.until(`document.querySelectorAll("svg [data-step]").length === 8`)
	p.until(`document.querySelector('svg [data-status="waiting"]')`)
	p.sees("gate: length over 40 m, waits for harbourmaster")
	p.sees("berths says: The request was: Reserve a berth")
	p.until(`document.title.startsWith("(7) harbour")`)
	p.sound("a held run")

	// the inspector: what went out, the proof, the exact request, the state before and after
	js[chromedp.Void](p, `document.querySelector("#step-2").click()`)
	p.sees("2 · find_vessel")
	p.until(`document.querySelector("aside pre")?.innerText.includes('"length_m": 46')`)
	p.click("Sent")
	p.sees("/vessels/Marrow%20Light")
	p.sees("→ 200 application/json")
	p.sees("Bearer ${secret:OFFICE_TOKEN}")
	p.click("State")
	p.until(`[...document.querySelectorAll("aside td")].some(e => e.innerText.includes('"Marrow Light"'))`)
	js[chromedp.Void](p, `document.querySelector("#step-5").click()`)
	p.click("Request")
	p.sees("exactly as sent; this program would build the same today")
	p.sees("You are the berthing office of Kelmere.")
	p.click("real time")
	p.until(`document.querySelectorAll("svg [data-step]").length === 8`)
	p.click("even steps")
	js[chromedp.Void](p, `document.querySelector("#step-7").click()`) // a turn says which words earned the call
	js[chromedp.Void](p, `[...document.querySelectorAll("aside [role=tab]")].find(e => e.innerText.trim().toLowerCase() === "out").focus()`)
	p.until(`document.querySelector("aside details[open]")?.innerText.includes("assign_berth")`)
	p.until(`document.querySelector("aside details[open]")?.innerText.includes("(its summary)")`)

	// a reload keeps all of it; the service goes away and comes back
	at := js[string](p, "location.pathname")
	p.open(at)
	p.sees("Reserve C4 for the Marrow Light, 46 m?")
	addr := strings.TrimPrefix(s.url, "http://")
	require.NoError(t, s.end(syscall.SIGTERM))
	p.sees("The service does not answer.")
	l, err := net.Listen("tcp", addr)
	require.NoError(t, err, "the port is ours to take again")
	l.Close()
	launch(t, "demo", "-dir", dir, "-listen", addr)
	p.until(`!document.body.innerText.includes("The service does not answer.")`)
	p.mu.Lock()
	p.errors = nil // that the stream broke off is what was wanted
	p.mu.Unlock()

	// allowed by the key, once the ticket has the focus; the run resumes where it waited
	js[chromedp.Void](p, `document.body.dispatchEvent(new KeyboardEvent("keydown", {key: "a", bubbles: true}))`)
	p.sees("Reserve C4 for the Marrow Light, 46 m?")
	assert.Contains(t, s.run(t, "tickets").out, "assign_berth", "a letter that is pressed anywhere settles nothing")
	js[chromedp.Void](p, `{ const t = document.querySelector("[role=group][aria-label^=Ticket]"); t.focus(); t.dispatchEvent(new KeyboardEvent("keydown", {key: "a", bubbles: true})) }`)
	p.until(`!document.querySelector("[role=group][aria-label^=Ticket]") || document.body.innerText.includes("booking B-")`)
	p.sees("Reserved C4 for the Marrow Light")
	p.until(`document.title.startsWith("(6) harbour")`)
	p.sound("a finished run")
	p.keys("textarea", "What are the dues for 2 nights at 46 m length?\r")
	p.sees("Dues: 211.2 EUR")
}

func TestThePagesOfTheConsole(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "harbour")
	s := demo(t, dir)
	p := browse(t, s.url)

	p.open("/runs")
	p.sees("the list follows")
	p.until(`document.querySelectorAll("[role=table] a").length === 12`)
	p.sound("runs")
	p.keys("input", "Gannet")
	p.until(`document.querySelectorAll("[role=table] a").length === 5`)
	p.open("/runs?status=failed&tool=find_vessel&text=Keep")
	p.until(`document.querySelectorAll("[role=table] a").length === 1`)
	js[chromedp.Void](p, `document.querySelector("[role=table] a").click()`)
	p.sees("the same call of find_vessel in 3 turns")
	p.until(`document.querySelectorAll("svg [data-step]").length === 6`)
	p.sound("a failed run")
	p.open("/runs")
	p.until(`document.querySelectorAll("[role=table] a").length === 12`)
	require.Equal(t, 0, s.run(t, "say", "-quiet", "What are the dues for 2 nights at 9 m length?").code)
	p.until(`document.querySelectorAll("[role=table] a").length === 13`)

	p.open("/bench/find_vessel")
	p.until(`document.querySelector("#bench_name")`)
	p.keys("#bench_name", "Marow Light")
	p.click("Call it")
	p.sees(`find_vessel failed: the register has no vessel "Marow Light"; "Marrow Light" is nearest`)
	p.sound("the bench")
	p.open("/bench/assign_berth")
	p.until(`document.querySelector("#bench_berth")`)
	p.keys("#bench_berth", "quay")
	p.click("Call it")
	p.sees("assign_berth was not called")
	p.sees("vessel is missing")
	p.sees("Reserve a free berth for one call of a vessel.")

	p.open("/tickets")
	p.sees("Reserve C4 for the Marrow Light, 46 m?")
	p.sees("what led here")
	p.sound("tickets")
	p.click("Change…")
	p.until(`document.querySelector("input[id$=_berth]")`)
	p.sound("a ticket that is changed")
	p.click("Back")
	p.click("Refuse…")
	p.keys("form textarea", "The pontoon is broken.")
	js[chromedp.Void](p, `document.querySelector("form button[type=submit]").click()`)
	p.until(`!document.querySelector('[aria-label="Ticket 6"]')`)
	js[chromedp.Void](p, `[...document.querySelectorAll("[role=radio]")].find(e => e.innerText === "all").click()`)
	p.sees("refused by harbourmaster")
	p.sees("The pontoon is broken.")

	p.open("/drills")
	p.click("Run all")
	p.sees("26 passed")
	p.until(`document.querySelectorAll("svg [data-step]").length > 0`)
	p.sound("drills")
	js[chromedp.Void](p, `[...document.querySelectorAll("header button")].find(e => e.innerText === "dark").click()`)
	p.until(`document.documentElement.dataset.theme === "dark"`)
	for _, path := range []string{"/try", "/runs", "/tickets", "/tickets/1", "/map", "/map/berth_letter", "/bench/assign_berth", "/drills/nobody_decides_in_time", "/people", "/record"} {
		p.open(path)
		p.until(`document.querySelector("main").innerText.length > 20`)
		p.sound("dark " + path)
	}

	// a failed drill shows what was expected against what happened
	file := filepath.Join(dir, "drills", "drills.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), "args: {berth: A3, vessel: Petrel}", "args: {berth: A7, vessel: Petrel}", 1)), 0o644))
	p.open("/drills")
	require.Eventually(t, func() bool {
		p.click("Run all")
		v, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](`document.body.innerText.includes("1 failed")`))
		return err == nil && v
	}, 20*time.Second, 200*time.Millisecond)
	p.sees(`assign_berth {"berth":"A7","vessel":"Petrel"}`)
	p.sees("happened")
	p.sound("a failed drill")

	// broken files are told of in the frame
	require.NoError(t, os.WriteFile(file, []byte("drill: [\n"), 0o644))
	p.sees("1 error")
	p.click("1 error")
	p.sees("this is not YAML")
	p.sees("the last good version is in use")
	p.sound("problems")
}

func TestTheSwitchesOfTry(t *testing.T) {
	s := demo(t, filepath.Join(t.TempDir(), "harbour"))
	p := browse(t, s.url)
	key := func(k string) { t.Helper(); require.NoError(t, chromedp.Do(p.ctx, chromedp.KeyEvent(k))) }
	pick := func(label, shows string) {
		t.Helper()
		trigger := fmt.Sprintf(`button[aria-label=%q]`, label)
		p.until(fmt.Sprintf(`document.querySelector('%s')`, trigger))
		js[chromedp.Void](p, fmt.Sprintf(`document.querySelector('%s').focus()`, trigger))
		key(" ")
		option := fmt.Sprintf(`[...document.querySelectorAll("[role=option]")].find(e => e.innerText.trim() === %q)`, shows)
		p.until(option + `&& document.activeElement.getAttribute("role") === "option"`)
		js[chromedp.Void](p, option+".focus()")
		key("\r")
		// the list gives the focus back only when it has closed; keys sent before that go astray
		p.until(fmt.Sprintf(`document.querySelector('%[1]s').innerText.includes(%[2]q) && document.activeElement === document.querySelector('%[1]s') && document.body.style.pointerEvents !== "none"`, trigger, shows))
	}
	p.open("/try")
	p.click("When can a vessel drawing 3.1 m come in tomorrow") // what the drills say is offered
	p.until(`document.querySelector("textarea").value.startsWith("When can a vessel")`)
	pick("How tools are carried out", "stubs")
	pick("Model", "house")
	p.keys("textarea", " Please.\r")
	p.sees("tools stubs")
	p.sees("06:10")
	js[chromedp.Void](p, `document.querySelector("#step-1").click()`)
	p.until(`document.querySelector("aside").innerText.includes("house")`)
	p.open("/try") // a new page begins with live tools
	p.keys("textarea", "Reserve a berth for the Marrow Light from "+inFourDays()+" noon, two nights, please.\r")
	p.sees("held: a person is asked")
	p.keys("textarea", "And the dues?\r")
	p.sees("waits until the run before it is over")
	p.click("Stop the run")
	p.sees("The run was stopped by local.")
	p.sound("a stopped run")

	// a relay is gone through with a form made from its input
	p.open("/try")
	pick("Whom it is for", "relay berth_letter")
	p.keys("#relay-berth_letter_vessel", "Marrow Light")
	p.sound("the form of a relay")
	p.click("Go through it")
	p.sees("May this letter to the Marrow Light leave the office?")
	p.sees("Dear Marrow Light")
	p.sound("a text that a person decides about")
	p.click("Send back…")
	p.keys(`[aria-label^="Ticket"] textarea`, "Say that she lies at C4.")
	p.click("Send back")
	p.sees("+A berth is kept for you")
	p.sees("She lies at C4.")
	p.click("Allow")
	p.until(`document.querySelectorAll("svg [data-step]").length > 4 && document.body.innerText.includes("done")`)
	run := js[string](p, `document.body.innerText.match(/Run ([a-z0-9]+-1)/)[1]`)
	p.open("/map/berth_letter?run=" + run)
	p.until(`document.body.textContent.includes("kept.review.fine (×2)")`)
	js[chromedp.Void](p, `document.querySelector("[data-node=again]").dispatchEvent(new MouseEvent("click", {bubbles: true}))`)
	p.sees("kept.review.fine = true")
	p.sees("relays/letters.yaml:")
	p.sound("the map of a relay")
	p.open("/map")
	p.click("berths")
	p.click("Another like it…")
	p.sees("It begins with the text of berths and has its tools.")
	p.sound("an agent is added")
	p.keys("[role=dialog] input", "buoys")
	p.keys("[role=dialog] textarea", "Says which buoys are free.")
	js[chromedp.Void](p, `[...document.querySelectorAll("[role=dialog] label")].find((l) => l.innerText.trim() === "desk").click()`)
	p.click("Write it")
	p.sees("agents/buoys.yaml:1 is new")
	p.sees("agents/desk.yaml:")
	p.click("Close")
	p.until(`document.querySelector("[data-node=buoys]")`)
	p.until(`document.querySelector("[data-node=assign_berth]")`)
	js[chromedp.Void](p, `document.querySelector("[data-node=assign_berth]").dispatchEvent(new MouseEvent("click", {bubbles: true}))`)
	p.sees("write · gate")
	p.click("try it on the bench")
	p.sees("rung free · gate")

	// beside the talk: the state, and the moorings as they are after each write
	p.open("/try")
	pick("Whom it is for", "moorings")
	p.keys("textarea", "The Petrel takes the mooring M3 in the river, please.\r")
	p.sees("Shall the Petrel have the mooring M3?")
	p.sees("+mooring: M3")
	p.click("beside")
	p.sees("all_moorings")
	const m3 = `[...document.querySelectorAll("aside tr")].find((r) => r.innerText.includes("M3")).innerText.includes("Petrel")`
	assert.False(t, js[bool](p, m3))
	p.sound("beside the talk")
	p.click("Allow")
	p.until(m3)
	assert.Contains(t, s.run(t, "database", "moorings").out, "M3        Abbey   11         Petrel")
	assert.Contains(t, s.run(t, "database", "reset", "moorings").out, "The database moorings is made anew: log (0 rows) moorings (6 rows)")
	assert.NotContains(t, s.run(t, "database").out, "Petrel")

	// step by step, with an argument changed on the way
	p.open("/try")
	pick("Where the run waits", "at each turn and call")
	p.keys("textarea", "What is known of the vessel Petrel?\r")
	p.sees("Send turn 1 of desk?")
	p.sound("a turn that waits")
	p.click("Go on")
	p.sees("May desk call find_vessel")
	p.click("Change…")
	p.until(`document.querySelector("input[id$=_name]")`)
	js[chromedp.Void](p, `document.querySelector("input[id$=_name]").select()`)
	p.keys("input[id$=_name]", "Gannet")
	p.click("Change and allow")
	p.sees("Send turn 2 of desk?")
	p.sees("go on without looking at every step")
	p.until(`document.querySelector('[role=group][aria-label^="Ticket"]').innerText.includes("Send turn 2")`)
	js[chromedp.Void](p, `document.querySelector('[role=group][aria-label^="Ticket"] input[type=checkbox]').click()`)
	p.click("Go on")
	p.sees(`"length_m":18.5`)
	p.until(`document.body.innerText.includes("done")`)
}

func TestAPersonSaysWhatBecameOfACall(t *testing.T) {
	peer := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusBadGateway) }))
	defer peer.Close()
	dir := t.TempDir()
	for name, text := range map[string]string{
		"stonebaton.yaml": "project: parcels\nstart: desk\nmodels: {house: {speaks: understudy, lines: lines.yaml}}\n---\ntool: send_parcel\nsummary: Send the parcel when somebody asks for it.\nhttp: {method: POST, url: \"" + peer.URL + "/parcels\"}\n---\nagent: desk\nsummary: Sends parcels.\nprompt: You send parcels.\ntools: [send_parcel]\n",
		"lines.yaml":      "lines:\n  - {who: desk, said: send, calls: [{tool: send_parcel}]}\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	s := launch(t, "serve", dir, "-listen", "127.0.0.1:0")
	p := browse(t, s.url)
	p.open("/try")
	p.keys("textarea", "Please send it.\r")
	p.sees("Did send_parcel happen?")
	p.click("It happened…")
	p.keys("textarea.font-mono", "{id: 1}")
	p.click("It happened")
	p.sees("The result is not JSON.")
	js[chromedp.Void](p, `document.querySelector("textarea.font-mono").select()`)
	p.keys("textarea.font-mono", `{"id": 9007199254740993}`)
	p.sound("what became of a call")
	p.click("It happened")
	p.sees(`send_parcel was done, says local. Its result: {"id":9007199254740993}`) // a long number stays what it is
}

func TestTheBench(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "harbour")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "tools"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "notes"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tools", "notes.yaml"), []byte(notes), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tools", "vague.yaml"), []byte("tool: vague\nsummary: The data.\neffect: read\ninput: {type: object, properties: {day: {type: string, description: The day.}}}\nstubs: [{returns: 1}]\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tools", "crate.yaml"), []byte("tool: open_crate\nsummary: Open a crate by its number when somebody asks for it.\neffect: read\ninput: {type: object, required: [number], properties: {number: {type: integer, description: Its number.}}}\ncommand: {run: [cat]}\n"), 0o644))
	s := demo(t, dir)
	p := browse(t, s.url)

	// problems beside what causes them
	p.open("/bench/vague")
	p.sees("the summary of \"vague\" says what it is, but not when to use it")
	p.sees("tools/vague.yaml:4")
	p.sees("warnings, 3 hints")
	p.sees("summary: The data.")
	p.sees("2 problems")
	p.sound("a tool with problems")

	// a tool of each kind: request, reply, words for the model
	for tool, c := range map[string]struct {
		fill       map[string]string
		words, out []string
	}{
		"find_vessel":  {map[string]string{"name": "Petrel"}, []string{`"length_m":12.4`}, []string{"GET", "/vessels/Petrel", "Authorization", "→ 200 application/json", "raw reply", `"home": "Ardmallow"`}},
		"berth_facts":  {map[string]string{"berth": "C4"}, []string{"C4 is in the Customs basin"}, []string{"SELECT * FROM berths WHERE berth = :berth", "1 row"}},
		"reckon_dues":  {map[string]string{"length_m": "12.4", "nights": "2"}, []string{"Dues: 57.68 EUR"}, []string{"FUNCTION", "rate 1.6"}},
		"tell":         {map[string]string{"to": "ann", "text": "Hello."}, []string{`"id":"M-`}, []string{"OUTBOX", "to ann"}},
		"open_crate":   {map[string]string{"number": "9007199254740993"}, []string{`"number":9007199254740993`}, []string{"standard input", `"number": 9007199254740993`}}, // longer than a number of the browser's
		"assign_berth": {map[string]string{"berth": "quay"}, []string{"assign_berth was not called"}, []string{"Nothing was sent anywhere."}},
	} {
		p.open("/bench/" + tool)
		p.until(`document.querySelector("form button[type=submit]")`)
		for field, v := range c.fill {
			p.keys("#bench_"+field, v)
		}
		p.click("Call it")
		for _, w := range c.words {
			p.sees(w)
		}
		p.click("Sent and received")
		for _, w := range c.out {
			p.sees(w)
		}
		p.sound("sent by " + tool)
	}
	for _, tool := range []string{"daylight", "sig_bar_report"} {
		r := s.run(t, "try", tool, "-args", `{"day":"2026-05-08"}`)
		require.Zero(t, r.code, r.out)
		p.open("/bench/" + tool)
		p.click("Tries")
		p.until(`document.querySelector("[role=listitem] button")`)
		js[chromedp.Void](p, `document.querySelector("[role=listitem] button").click()`)
		p.sees("returned in")
		p.click("Sent and received")
		p.sees(map[string]string{"daylight": "perl daylight.pl", "sig_bar_report": "station bar_report"}[tool])
		p.sees("2026-05-08")
	}

	// a changed file: the difference, and undoing it
	p.open("/bench/keep_note")
	p.until(`document.querySelector("#bench_path")`)
	p.keys("#bench_path", "a.md")
	p.keys("#bench_text", "One.")
	p.click("Call it")
	p.sees(`"created":true`)
	p.click("Sent and received")
	p.sees("+One.")
	p.click("Undo the change")
	p.sees("notes/a.md is as it was before.")
	assert.NoFileExists(t, filepath.Join(dir, "notes/a.md"))

	// a file of functions that is dropped, and a source whose tools are ticked
	js[chromedp.Void](p, `(() => { const d = new DataTransfer(); d.items.add(new File(["# effect: read\ndef price(of: str) -> float:\n    'Tell the price of a thing, when somebody asks.'\n    return 1\n"], "shop.py")); document.querySelector("nav[aria-label=Tools]").dispatchEvent(new DragEvent("drop", {bubbles: true, dataTransfer: d})) })()`)
	p.sees("shop.py would bring 1 tool")
	p.sees("its file says: read")
	p.sound("a file of functions that was dropped")
	p.click("Close")
	p.click("station")
	p.sees("kelmere-station 1.0")
	p.click("Bench")
	p.click("station")
	p.until(`document.querySelector("li[aria-label=log_sighting] input")`)
	js[chromedp.Void](p, `document.querySelector("li[aria-label=log_sighting] input").click()`)
	p.sees("Say first what log_sighting does to the world.")
	p.sound("tools of a source that are ticked")
	p.until(`document.querySelector("li[aria-label=log_sighting] select")`)
	js[chromedp.Void](p, `(e => { Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(e, "write"); e.dispatchEvent(new Event("change", {bubbles: true})) })(document.querySelector("li[aria-label=log_sighting] select"))`)
	js[chromedp.Void](p, `[...document.querySelectorAll("fieldset label")].find((l) => l.innerText.trim() === "watch").click()`)
	p.click("Write it into the files")
	p.until(`document.body.innerText.includes("3 tools, 3 taken")`)
	watch, err := os.ReadFile(filepath.Join(dir, "tools", "watch.yaml"))
	require.NoError(t, err)
	assert.Contains(t, string(watch), "log_sighting")
	agent, err := os.ReadFile(filepath.Join(dir, "agents", "watch.yaml"))
	require.NoError(t, err)
	assert.Contains(t, string(agent), "sig_log_sighting")

	// would it be chosen, and why
	p.open("/bench/reckon_dues")
	p.click("Chosen?")
	p.keys("section[aria-label=Result] input", "what are the dues for 3 nights\r")
	p.sees("for “what are the dues for 3 nights”")
	p.sees("dues +1.3 (its name)")
	p.sees("lacks length_m")
	p.sees("It says: What is the length of the vessel in metres?")
	p.sound("candidates")

	p.open("/bench/tell")
	p.click("Outbox")
	p.sees("to ann")
	p.sound("the outbox")

	// a stub of a try, and two tries side by side
	for _, berth := range []string{"A1", "B2"} {
		require.Zero(t, s.run(t, "try", "berth_facts", "-args", `{"berth":"`+berth+`"}`).code)
	}
	p.open("/bench/berth_facts")
	p.click("Tries")
	p.sees("3 tries, the newest first")
	js[chromedp.Void](p, `[...document.querySelectorAll("[role=listitem] button")][0].click()`)
	p.click("Make a stub of it")
	p.sees("A stub was made of it: tools/berths.yaml:")
	raw, err := os.ReadFile(filepath.Join(dir, "tools/berths.yaml"))
	require.NoError(t, err)
	assert.Contains(t, string(raw), `{when: "args.berth == 'B2'", returns: {`)
	p.click("Tries")
	js[chromedp.Void](p, `[...document.querySelectorAll("[role=listitem] input")].slice(0, 2).forEach(e => e.click())`)
	p.click("Compare two")
	p.sees("what differs is marked")
	p.until(`document.querySelector("section[aria-label='words, differs']").innerText.includes("Abbey")`)
	p.sound("two tries compared")

	// the rung of a run, of all tools and of one
	p.open("/try")
	p.click("each…")
	p.sees("A run can go down from what the files say, never up.")
	p.sound("the rungs")
}
