package loop_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/run"
)

const signed = `project: signed
approvers: [ann, ben]
start: writer
model: m
models: {m: {speaks: understudy, retry: 0}}
---
agent: writer
summary: Writes.
prompt: You write.
---
relay: letter
legs:
  write: {agent: writer, say: "Write to the Petrel.", thread: same, keep: letter}
  sign:  {gate: {by: [ann, ben], show: "{{ kept.letter }}", ask: "Sign it?", amend: letter, within: 1d}, back: write, tries: 2, refused: no, lapsed: late, keep: sign}
  done:  {finish: "{{ kept.letter }} ({{ kept.sign.verdict }} by {{ kept.sign.by }}, {{ visits.write }})"}
  no:    {finish: "Refused by {{ kept.sign.by }}: {{ kept.sign.because }}"}
  late:  {finish: "Nobody signed."}
---
relay: plain
legs:
  write: {agent: writer, keep: letter}
  sign: {gate: {show: "{{ kept.letter }}"}}
`

// signing is a run through a relay whose letter is before people.
func signing(t *testing.T, relay string) *coretest.World {
	w := coretest.Begin(coretest.Project(t, signed), ledger.RunOpened{Relay: relay, Input: []byte("{}"), Text: relay})
	w.Step()
	w.Reply("Dear Petrel,\nall is well.")
	w.Step()
	require.Len(t, w.S.Tickets(), 1)
	return w
}

func settleText(t *testing.T, w *coretest.World, s loop.Settlement) {
	t.Helper()
	require.NoError(t, says(w, w.S.Tickets()[0].Step, s))
	w.Step()
}

func TestATextIsLetThrough(t *testing.T) {
	w := signing(t, "letter")
	raised := w.S.Tickets()[0].Raised
	assert.Equal(t, ledger.TextTicket, raised.Form)
	assert.Equal(t, "Sign it?", raised.Ask)
	assert.JSONEq(t, `{"text":"Dear Petrel,\nall is well."}`, string(raised.Args))
	assert.Equal(t, []ledger.Verb{ledger.Allow, ledger.RefuseIt, ledger.Amend, ledger.SendBack}, raised.Verbs())
	assert.Equal(t, ledger.Held, w.S.Status())
	settleText(t, w, loop.Settlement{Verb: ledger.Allow, As: "ben"})
	assert.Equal(t, "Dear Petrel,\nall is well. (allowed by ben, 1)", w.S.Closed().Answer)
	again, err := run.Fold("w-1", w.Events)
	require.NoError(t, err)
	assert.Equal(t, w.S.Closed(), again.Closed())
}

func TestATextIsSentBackWithRemarks(t *testing.T) {
	w := signing(t, "letter")
	assert.EqualError(t, says(w, w.S.Tickets()[0].Step, loop.Settlement{Verb: ledger.SendBack, As: "ann"}), "a text is sent back with remarks")
	assert.ErrorContains(t, says(w, w.S.Tickets()[0].Step, loop.Settlement{Verb: ledger.SendBack, As: "ann", Because: strings.Repeat("x", 30_000)}), "a reason may have 20000 bytes")
	settleText(t, w, loop.Settlement{Verb: ledger.SendBack, As: "ann", Because: "Say where she lies."})
	told := w.Asked[len(w.Asked)-1].Messages
	assert.Equal(t, "Write to the Petrel.\n\nIt came back with remarks of ann: Say where she lies.", told[len(told)-1].Text, "the writer reads the remarks")
	assert.Len(t, told, 3, "and has its first letter before it")
	w.Reply("Dear Petrel,\nall is well.\nYou lie at C4.")
	w.Step()
	assert.Contains(t, w.S.Tickets()[0].Raised.Diff, "+You lie at C4.", "what has changed is shown")
	settleText(t, w, loop.Settlement{Verb: ledger.SendBack, As: "ann", Because: "Shorter."})
	w.Reply("Petrel: C4.")
	w.Step()
	assert.Equal(t, []ledger.Verb{ledger.Allow, ledger.RefuseIt, ledger.Amend}, w.S.Tickets()[0].Raised.Verbs(), "it has been sent back twice: that is all")
	assert.ErrorContains(t, says(w, w.S.Tickets()[0].Step, loop.Settlement{Verb: ledger.SendBack, As: "ann", Because: "Again."}), "is settled by allow, refuse, amend")
	settleText(t, w, loop.Settlement{Verb: ledger.Amend, As: "ann", Args: map[string]any{"text": "Petrel: C5."}})
	assert.Equal(t, "Petrel: C5. (changed by ann, 3)", w.S.Closed().Answer)
}

func TestATextIsRefusedOrForgotten(t *testing.T) {
	w := signing(t, "letter")
	settleText(t, w, loop.Settlement{Verb: ledger.RefuseIt, As: "ann", Because: "Not now."})
	assert.Equal(t, "Refused by ann: Not now.", w.S.Closed().Answer)

	w = signing(t, "letter")
	due, e, ok := loop.Wake(w.P, w.S)
	require.True(t, ok)
	assert.Equal(t, 24*time.Hour, due.Sub(w.S.Tickets()[0].At).Round(time.Minute))
	w.Now = due
	w.Append(e)
	w.Step()
	assert.Equal(t, "Nobody signed.", w.S.Closed().Answer)

	w = signing(t, "plain")
	assert.Equal(t, "Is this fine?", w.S.Tickets()[0].Raised.Ask)
	assert.Equal(t, []ledger.Verb{ledger.Allow, ledger.RefuseIt}, w.S.Tickets()[0].Raised.Verbs())
	settleText(t, w, loop.Settlement{Verb: ledger.RefuseIt, By: "ann", Because: "Not now."})
	require.NotNil(t, w.S.Closed().Problem)
	assert.Equal(t, "ann refused it: Not now (plain, at the leg sign)", w.S.Closed().Problem.Say)
	w = signing(t, "plain")
	settleText(t, w, loop.Settlement{Verb: ledger.Allow, By: "ann"})
	assert.Equal(t, "Dear Petrel,\nall is well.", w.S.Closed().Answer, "the text is the value of the relay's last leg")
}

func TestAStopWithdrawsAText(t *testing.T) {
	w := signing(t, "letter")
	w.Append(ledger.New("", &ledger.StopAsked{By: "ann"}))
	w.Step()
	assert.Equal(t, ledger.Stopped, w.S.Closed().Status)
}
