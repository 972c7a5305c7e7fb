package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a model says is shown for what it is, what appears waits for a person, and a
// narrow screen shows it all.
func TestTheConsoleMarksConfirmsAndFits(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "p")
	require.Zero(t, command(t, "", "", "new", dir).code)
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("clerk.yaml", "agent: clerk\nsummary: Keeps the notes.\nprompt: You are the clerk.\ntools: [edit_note]\n")
	write("edit.yaml", "tool: edit_note\nsummary: Replace a passage of a note when it has to be changed.\nbuiltin: {do: files.replace, in: [notes]}\ngate: {when: \"true\", why: notes are ours, by: [foreman], ask: \"Change {{ args.path }}?\"}\n")
	write("notes/plan.md", "Open on Friday.\n")
	write("l/a.yaml", "lines:\n  - {who: clerk, said: Monday, calls: [{tool: edit_note, args: {path: plan.md, old: Friday, new: \"Mon\\u202eday\\u00a0x\"}}]}\n  - {who: clerk, said: \".\", came: {from: edit_note}, say: \"It costs $5, and $10 with power.\"}\n")
	main := filepath.Join(dir, "stonebaton.yaml")
	text, err := os.ReadFile(main)
	require.NoError(t, err)
	write("stonebaton.yaml", strings.Replace(string(text), "house: {speaks: understudy}", `house: {speaks: understudy, lines: "l/*.yaml"}`, 1))
	s := launch(t, "serve", dir, "-listen", "127.0.0.1:0")
	j := sayJSON(t, s, 4, "-to", "clerk", "Change it to Monday")
	p := browse(t, s.url)

	p.open("/tickets")
	p.sees("Change plan.md?")
	p.sees("U+202E")
	p.until(`[...document.querySelectorAll("mark")].some(m => m.title === "right-to-left override")`)
	p.until(`[...document.querySelectorAll("mark")].some(m => m.title === "no-break space")`)
	p.sees("-Open on Friday.")
	p.sound("a ticket with a difference")
	p.click("Allow")
	p.open("/try/" + j.Session)
	p.sees("It costs $5, and $10 with power.")
	assert.False(t, js[bool](p, `!!document.querySelector(".katex")`), "money is no formula")

	// what appears waits; the page confirms it
	write("late.yaml", "source: late\nmcp: {command: [no-such-program-xy], sandbox: none, timeout: 1s}\ntake: [look]\n")
	p.sees("1 to confirm")
	p.click("1 to confirm")
	p.sees("starts the program no-such-program-xy outside the sandbox")
	p.sound("what waits to be confirmed")
	p.click("Let it run")
	p.until(`!document.body.innerText.includes("to confirm")`)
	p.click("Close")
	p.keys("textarea", "Hello\r")
	p.sees("Answered by the last good version of the project.")
	p.sees("late.yaml:1:9")
	require.NoError(t, os.Remove(filepath.Join(dir, "late.yaml")))

	// an order, and what is told of it
	p.open("/runs")
	p.until(`document.querySelectorAll("[role=row]").length >= 3`)
	sort := func(column, want string) {
		t.Helper()
		p.click(column)
		p.until(`[...document.querySelectorAll("[role=columnheader]")].find(e => e.innerText.includes("` + column + `")).getAttribute("aria-sort") === "` + want + `"`)
	}
	sort("tokens", "descending")
	sort("tokens", "ascending")
	sort("message", "ascending")
	assert.Equal(t, "3", js[string](p, `document.querySelector("[role=table]").getAttribute("aria-rowcount")`), "two runs and the head")

	require.NoError(t, chromedp.Do(p.ctx, chromedp.EmulateViewport(390, 800)))
	for _, path := range []string{"/try", "/try/" + j.Session, "/runs", "/runs/" + j.ID, "/tickets", "/bench/lend_tool", "/drills"} {
		p.open(path)
		p.until(`document.querySelector("main h1, main h2, main section, main nav")`)
		assert.LessOrEqual(t, js[int](p, `Math.max(document.documentElement.scrollWidth, document.querySelector("main").scrollWidth)`), 390, "%s does not have to be moved sideways", path)
		p.sound(path + " at 390 px")
	}
}
