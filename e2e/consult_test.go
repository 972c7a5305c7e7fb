package e2e

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
)

const ketch = "Find a berth for a 38 m ketch drawing 3.2 m tomorrow noon for two nights and tell me what it costs"

const half = "When can a vessel come in tomorrow, and what does a stay of 3 nights cost for 12.4 m?"

func TestAConsultThroughTheCommands(t *testing.T) {
	s := demo(t, filepath.Join(t.TempDir(), "harbour"))
	r := s.run(t, "say", ketch)
	assert.Equal(t, 0, r.code, r.err)
	assert.Regexp(t, `(?m)^berths   asks dues +Tell me what it costs$`, r.out, "it is told when it begins")
	assert.Regexp(t, `(?m)^  dues   reckon_dues .* length_m: 38 · nights: 2`, r.out, "what happens on its thread is set off")
	assert.Regexp(t, `(?m)^berths   asks dues +\d+ ms +1.508 tok   Tell me what it costs → Dues: 177.6 EUR.*\(2 turns, 1 call, cost 0\.\d+\)$`, r.out, "and told again with what it came to")
	assert.Contains(t, r.out, "| C4    | 52 ")

	// what only the person can say is asked for in the middle, and the rest goes on meanwhile
	j := sayJSON(t, s, 4, half)
	r = s.run(t, "tickets")
	assert.Contains(t, r.out, "tides asks, through desk")
	assert.Contains(t, r.out, "What is the draught in metres?")
	r = s.run(t, "show", j.ID)
	assert.Contains(t, r.out, "Dues: 77.52 EUR")
	assert.Contains(t, r.out, "waits for a person")
	r = s.run(t, "answer", itoa(j.Tickets[0]), " ")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "an answer needs words")
	r = s.run(t, "answer", itoa(j.Tickets[0]), "It draws 3.1 m.")
	assert.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.out, "answered by local")
	r = s.run(t, "follow", j.ID)
	assert.Regexp(t, `\d windows?: opens `, r.out, "two on most days")
	r = s.run(t, "show", j.ID, "-step", "2")
	assert.Contains(t, r.out, "asked When can a vessel come in tomorrow")
	assert.Regexp(t, `(?m)^ +\d+    tides  ask_person .*It draws 3.1 m.   answered by local$`, r.out)
	r = s.run(t, "show", j.ID, "-whole")
	assert.Contains(t, r.out, "on the thread t1.c1")
	r = s.run(t, "request", j.ID, "-step", "t1.c1.t1")
	assert.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.out, "You know the tides of Kelmere.")
	assert.NotContains(t, r.out, "what does a stay of 3 nights cost", "the private thread has the question alone")

	// it remembers: the dues office was asked before in this session
	r = s.run(t, "say", "-session", strings.Split(j.ID, "-")[0], "When can a vessel drawing 3.1 m come in tomorrow, and what does a stay of 4 nights cost for 12.4 m?")
	assert.Contains(t, r.out, "it remembers")
	r = s.run(t, "show", strings.Split(j.ID, "-")[0]+"-2", "-json")
	assert.Contains(t, r.out, `"lane": "desk/dues"`)
	assert.Contains(t, r.out, `"under": "desk"`)
}

func TestATreeInTheConsole(t *testing.T) {
	s := demo(t, filepath.Join(t.TempDir(), "harbour"))
	p := browse(t, s.url)
	run := sayJSON(t, s, 0, ketch)
	p.open("/runs/" + run.ID)
	p.until(`document.querySelectorAll("svg [data-step]").length === 9`)
	p.until(`document.querySelectorAll("[role=option]").length === 9`)
	p.sound("a run with a consult")
	p.click("▾")
	p.until(`document.querySelectorAll("svg [data-step]").length === 6`)
	p.until(`document.querySelectorAll("[role=option]").length === 6`)
	p.sees("folded")
	p.sees("2 turns, 1 508 tok")
	p.sound("folded")
	p.click("▸")
	p.until(`document.querySelectorAll("svg [data-step]").length === 9`)
	js[chromedp.Void](p, `document.querySelector("svg [data-kind=consult]").dispatchEvent(new MouseEvent("click", {bubbles: true}))`)
	p.sees("berths asks dues")
	p.click("Question")
	p.sees("length_m: 38")
	p.click("Answer")
	p.sees("Dues: 177.6 EUR")
	p.click("Thread")
	p.sound("the inspector of a consult")
	p.click("turn 1 reckon_dues")
	p.click("Request")
	p.sees("exactly as sent; this program would build the same today")
	p.sees("You work out harbour dues at Kelmere.")

	held := sayJSON(t, s, 4, half)
	p.open("/tickets")
	p.sees("What is the draught in metres?")
	p.sees("tides asks, through desk")
	p.sound("a question")
	js[chromedp.Void](p, `[...document.querySelectorAll("[role=group]")].find(e => e.innerText.includes("What is the draught")).querySelector("textarea").focus()`)
	p.keys(`[aria-label="Ticket `+itoa(held.Tickets[0])+`"] textarea`, "It draws 3.1 m.")
	js[chromedp.Void](p, `document.querySelector('[aria-label="Ticket `+itoa(held.Tickets[0])+`"] form button[type=submit]').click()`)
	p.until(`!document.querySelector('[aria-label="Ticket ` + itoa(held.Tickets[0]) + `"]')`)
	p.open("/runs/" + held.ID)
	p.sees("answered by local")
}
