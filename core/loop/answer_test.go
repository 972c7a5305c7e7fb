package loop_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/run"
	"stonebaton.example/core/view"
)

const guarded = `project: guarded
approvers: [ann, ben]
start: desk
model: m
models: {m: {speaks: understudy, retry: 0}}
---
agent: desk
summary: Answers.
prompt: You answer.
consults: [clerk]
gate: {when: "answer.contains('EUR')", by: [ann, ben], ask: "May this be told?", within: 1h, tries: 1}
---
agent: clerk
summary: Answers in numbers.
prompt: You answer in numbers.
answer: {type: object, required: [eur], properties: {eur: {type: number, description: In EUR.}}}
gate: {within: 1h, lapse: allow}
`

// answered is a run whose agent has answered.
func answered(t *testing.T, answer string) *coretest.World {
	w := coretest.Open(coretest.Project(t, guarded), "What does it cost?")
	w.Step()
	w.Reply(answer)
	w.Step()
	return w
}

func TestPeopleDecideAboutAnAnswer(t *testing.T) {
	w := answered(t, "Nothing.")
	assert.Equal(t, "Nothing.", w.S.Closed().Answer, "the gate does not hold of it")

	w = answered(t, "5 EUR.")
	require.Len(t, w.S.Tickets(), 1)
	tk := w.S.Tickets()[0]
	assert.Equal(t, ledger.StepID("t1"), tk.Step)
	assert.Equal(t, "May this be told?", tk.Raised.Ask)
	assert.Equal(t, ledger.Held, w.S.Status())
	talk := view.Talk(w.Events)
	require.Len(t, talk, 1, "what people have not let through is not said")
	require.NoError(t, says(w, "t1", loop.Settlement{Verb: ledger.Allow, As: "ben"}))
	w.Step()
	assert.Equal(t, "5 EUR.", w.S.Closed().Answer)
	talk = view.Talk(w.Events)
	assert.Equal(t, "5 EUR.", talk[1].Text)
	again, err := run.Fold("w-1", w.Events)
	require.NoError(t, err)
	same(t, again, w.S)
}

func TestAnAnswerIsSentBackAndChanged(t *testing.T) {
	w := answered(t, "5 EUR.")
	require.NoError(t, says(w, "t1", loop.Settlement{Verb: ledger.SendBack, As: "ann", Because: "Say for how long."}))
	w.Step()
	told := w.Asked[1].Messages
	assert.Equal(t, "Ann sent your answer back: Say for how long. Answer again, with the whole of it.", told[len(told)-1].Text)
	w.Reply("5 EUR a night.")
	w.Step()
	raised := w.S.Tickets()[0].Raised
	assert.Contains(t, raised.Diff, "-5 EUR.\n+5 EUR a night.")
	assert.NotContains(t, raised.Verbs(), ledger.SendBack, "it has been sent back once: that is all")
	require.NoError(t, says(w, "t2", loop.Settlement{Verb: ledger.Amend, As: "ann", Args: map[string]any{"text": "6 EUR a night."}}))
	w.Step()
	assert.Equal(t, "6 EUR a night.", w.S.Closed().Answer)
	memory := w.S.Memory()
	assert.Equal(t, "6 EUR a night.", memory[len(memory)-1].Text, "the session remembers what was said")
	talk := view.Talk(w.Events)
	require.Len(t, talk, 2)
	assert.Equal(t, "6 EUR a night.", talk[1].Text)
}

func TestAnAnswerIsRefusedOrForgotten(t *testing.T) {
	w := answered(t, "5 EUR.")
	require.NoError(t, says(w, "t1", loop.Settlement{Verb: ledger.RefuseIt, As: "ann", Because: "It is free."}))
	w.Step()
	assert.Equal(t, "ann refused the answer of desk: It is free.", w.S.Closed().Problem.Say)
	w = answered(t, "5 EUR.")
	w.Now, _, _ = loop.Wake(w.P, w.S)
	_, e, ok := loop.Wake(w.P, w.S)
	require.True(t, ok)
	w.Append(e)
	w.Step()
	assert.Equal(t, "nobody decided about the answer of desk in time", w.S.Closed().Problem.Say)
	w = answered(t, "5 EUR.")
	w.Append(ledger.New("", &ledger.StopAsked{By: "ann"}))
	w.Step()
	assert.Equal(t, ledger.Stopped, w.S.Closed().Status)
}

func TestTheAnswerOfOneThatIsConsultedWaitsToo(t *testing.T) {
	w := coretest.Open(coretest.Project(t, guarded), "What does it cost?")
	w.Step()
	w.Reply("", `consult_clerk {"question":"cost?"}`)
	w.Step()
	w.Reply(`{"eur": 5}`)
	w.Step()
	step := w.S.Tickets()[0].Step
	assert.Equal(t, ledger.StepID("t1.c1.t1"), step)
	assert.ErrorContains(t, says(w, step, loop.Settlement{Verb: ledger.Amend, By: "ann", Args: map[string]any{"text": `{"eur": "a lot"}`}}), "the new answer does not fit")
	require.NoError(t, says(w, step, loop.Settlement{Verb: ledger.Amend, By: "ann", Args: map[string]any{"text": `{"eur": 6}`}}))
	w.Step()
	assert.Equal(t, []string{`{"eur":6}`}, w.Words())
	w = coretest.Open(coretest.Project(t, guarded), "What does it cost?")
	w.Step()
	w.Reply("", `consult_clerk {"question":"cost?"}`)
	w.Step()
	w.Reply(`{"eur": 5}`)
	w.Step()
	due, e, _ := loop.Wake(w.P, w.S)
	w.Now = due
	w.Append(e)
	w.Step()
	assert.Equal(t, []string{`{"eur":5}`}, w.Words(), "its gate allows where nobody decides")
}
