package e2e

import (
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheLocalPersonActsAsAnother(t *testing.T) {
	s := demo(t, filepath.Join(t.TempDir(), "harbour"))
	list := s.run(t, "tickets").out
	of := func(ask string) string {
		t.Helper()
		m := regexp.MustCompile(`ticket (\d+): ` + ask).FindStringSubmatch(list)
		require.NotNil(t, m, list)
		return m[1]
	}
	waiver, letter := of("Waive 600"), of("May this letter")
	p := browse(t, s.url)
	p.open("/tickets/" + letter)
	p.click("local")
	p.sees("Act as another in this tab")
	p.sound("who the local person is")
	p.keys("[role=dialog] input", "treasurer")
	p.click("Act as them")
	p.sees("You act as treasurer in this tab")
	p.sees("It waits for others to decide.")
	p.sound("a ticket that the other may not decide")

	p.open("/tickets/" + waiver)
	p.click("Agree")
	p.sees("treasurer agrees")
	p.sees("You have agreed; it waits for others.")

	question := of("What is the draught")
	p.open("/tickets/" + question)
	p.keys("main textarea, main input", "3.1")
	p.click("Answer")
	p.sees("answered by treasurer")
	record := s.run(t, "record").out
	assert.Regexp(t, `local +settle +ticket `+waiver+`: allow as treasurer`, record, "the record says who, and as whom")
	assert.Regexp(t, `local +settle +ticket `+question+`: answer as treasurer`, record)

	p.open("/try")
	p.keys("textarea", "Which vessels are in the harbour?\r")
	p.until(`location.pathname !== "/try"`)
	p.until(`document.querySelector("header")`)
	p.sees("Which vessels are in the harbour?")
	id := js[string](p, "location.pathname.split('/').pop()")
	assert.Regexp(t, `^treasurer +Which vessels`, s.run(t, "show", id+"-1").out, "what they say is the other's")

	p.click("Act as yourself")
	p.until(`!document.body.innerText.includes("You act as")`)
	p.open("/tickets/" + letter)
	p.sees("Send back")
	assert.NotContains(t, js[string](p, "document.body.innerText"), "It waits for others")
	p.sound("as oneself again")

	require.Equal(t, 0, s.run(t, "refuse", letter, "-because", "It names no berth.").code)
	assert.Regexp(t, `local +settle +ticket `+letter+`: refuse as harbourmaster: It names no berth\.`, s.run(t, "record").out, "also as whom nobody said")
}
