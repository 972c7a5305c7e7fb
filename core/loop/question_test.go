package loop_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
)

const asking = `project: asking
start: desk
model: m
models: {m: {speaks: understudy, retry: 0}}
---
agent: desk
summary: Asks.
prompt: You ask.
tools: [ask_person]
passes_to: [mute]
consults: [desk2, {agent: mute, asks: person}]
---
agent: mute
summary: Does not ask.
prompt: You do not ask.
---
agent: desk2
summary: Asks too.
prompt: You ask.
tools: [ask_person]
---
relay: form
legs:
  size: {ask: "How long is she?", answer: {type: number, exclusiveMinimum: 0}, keep: size}
  done: {finish: "={'doubled': kept.size * 2.0}"}
`

// puts begins a run in which the desk puts a question.
func puts(t *testing.T, question string) *coretest.World {
	w := coretest.Open(coretest.Project(t, asking), "Reserve.")
	w.Step()
	w.Reply("", "ask_person "+question)
	w.Step()
	return w
}

func TestAnAgentPutsAQuestionToThePerson(t *testing.T) {
	w := puts(t, `{"question":"Which berth?"}`)
	require.Len(t, w.S.Tickets(), 1)
	assert.Equal(t, "Which berth?", w.S.Tickets()[0].Raised.Ask)
	assert.Nil(t, w.S.Tickets()[0].Raised.Wants)
	require.NoError(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Answer, By: "ann", Result: "C4"}))
	w.Step()
	assert.Equal(t, []string{"Ann answers: C4"}, w.Words())
}

func TestAQuestionWithChoicesTakesOneOfThem(t *testing.T) {
	w := puts(t, `{"question":"Which berth?","choices":["C4","D2"]}`)
	assert.JSONEq(t, `{"enum":["C4","D2"]}`, string(w.S.Tickets()[0].Raised.Wants))
	assert.ErrorContains(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Answer, By: "ann", Result: "E5"}), "the answer does not fit")
	require.NoError(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Answer, By: "ann", Result: "D2"}))
	w.Step()
	assert.Equal(t, []string{"Ann answers: D2"}, w.Words())
}

func TestAQuestionWithFieldsTakesAForm(t *testing.T) {
	w := puts(t, `{"question":"What is she like?","fields":{"length_m":{"type":"number"},"name":{"type":"string","description":"As registered."}}}`)
	assert.JSONEq(t, `{"type":"object","additionalProperties":false,"required":["length_m","name"],"properties":{"length_m":{"type":"number"},"name":{"type":"string","description":"As registered."}}}`, string(w.S.Tickets()[0].Raised.Wants))
	assert.ErrorContains(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Answer, By: "ann", Result: `{"length_m": 12}`}), "name")
	require.NoError(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Answer, By: "ann", Result: `{"length_m": 12, "name": "Petrel"}`}))
	assert.JSONEq(t, `{"length_m":12,"name":"Petrel"}`, string(w.S.Settlement("t1.c1").Result))
}

func TestAQuestionThatIsNoneIsRefusedInWords(t *testing.T) {
	for question, want := range map[string]string{
		`{"question":"Which?","choices":["a","b"],"fields":{"a":{"type":"string"}}}`:                               "give choices or fields, not both",
		`{"question":"Which?","choices":["a"]}`:                                                                    "choices",
		`{"question":"Which?","fields":{"__proto__":{"type":"string"}}}`:                                           "fields",
		`{"question":"Which?","fields":{"a":{"type":"string","pattern":"(a+)+$"}}}`:                                "pattern",
		`{"question":"Which?","fields":{"a":{"type":"object","properties":{"b":{"$ref":"https://x.example/y"}}}}}`: "fields",
		`{"choices":["a","b"]}`: "question",
	} {
		w := puts(t, question)
		require.Empty(t, w.S.Tickets(), question)
		assert.Contains(t, w.Words()[0], want)
	}
}

func TestWhoHasNoQuestionsPutsNone(t *testing.T) {
	w := coretest.Open(coretest.Project(t, asking), "Reserve.")
	w.Step()
	w.Reply("", "pass_to_mute")
	w.Step()
	w.Reply("", `ask_person {"question":"Which?"}`)
	w.Step()
	assert.Equal(t, []string{"You cannot ask the person from here. Say in your answer what is missing."}, w.Words())
	w = coretest.Open(coretest.Project(t, asking), "Reserve.")
	w.Step()
	w.Reply("", `consult_desk2 {"question":"a"}`)
	w.Step()
	w.Reply("", `ask_person {"question":"Which?"}`)
	w.Step()
	assert.Empty(t, w.S.Tickets(), "one that is consulted asks only through who asked it, who has to let it")
	w = coretest.Open(coretest.Project(t, asking), "Reserve.")
	w.Step()
	w.Reply("", `consult_mute {"question":"a"}`)
	w.Step()
	w.Reply("", `ask_person {"question":"Which?"}`)
	w.Step()
	assert.Len(t, w.S.Tickets(), 1)
}

func TestTheQuestionOfALegShowsWhatItTakes(t *testing.T) {
	w := coretest.Begin(coretest.Project(t, asking), ledger.RunOpened{Relay: "form", Input: []byte("{}"), Text: "form"})
	w.Step()
	require.Len(t, w.S.Tickets(), 1)
	assert.JSONEq(t, `{"type":"number","exclusiveMinimum":0}`, string(w.S.Tickets()[0].Raised.Wants))
	step := w.S.Tickets()[0].Step
	assert.Error(t, says(w, step, loop.Settlement{Verb: ledger.Answer, By: "ann", Result: "-3"}))
	require.NoError(t, says(w, step, loop.Settlement{Verb: ledger.Answer, By: "ann", Result: "12.4"}))
	w.Step()
	assert.JSONEq(t, `{"doubled": 24.8}`, w.S.Closed().Answer)
}
