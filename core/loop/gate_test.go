package loop_test

import (
	"encoding/json"
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

// waiving is a project whose agent waives dues with a gate.
func waiving(t *testing.T, gate string, says ...string) *coretest.World {
	p := coretest.Project(t, strings.Replace(`project: office
approvers: [ann, ben, cleo]
start: desk
model: m
models: {m: {speaks: understudy, retry: 0}}
limits: {turns: 3}
state: {type: object, properties: {owner: {type: string}, owners: {type: array, items: {type: string}}}}
---
tool: dues_of
summary: Tell what a vessel owes.
effect: read
input: {type: object, required: [vessel], properties: {vessel: {type: string, description: Its name.}}}
output: {type: object, required: [eur], properties: {eur: {type: number}}}
stubs: [{returns: {eur: 5}}]
---
tool: waive
summary: Waive what a vessel owes.
input: {type: object, required: [vessel], properties: {vessel: {type: string, description: Its name.}, eur: {type: number, description: In EUR.}}}
unless: [{when: "args.vessel == 'Gannet'", say: "The Gannet owes nothing."}]
gate: GATE
stubs: [{returns: null}]
---
tool: tell # accept gate: it is a test
summary: Tell somebody of it.
stubs: [{returns: null}]
---
agent: desk
summary: Waives dues.
prompt: You waive dues.
tools: [waive, tell]
passes_to: [clerk]
consults: [clerk]
---
agent: clerk
summary: Waives dues for the desk.
prompt: You waive dues.
tools: [waive]
`, "GATE", gate, 1))
	w := coretest.Open(p, "Waive it.")
	w.Step()
	if len(says) == 0 {
		says = []string{`waive {"vessel":"Petrel","eur":600}`}
	}
	w.Reply("", says...)
	w.Step()
	return w
}

// says settles the ticket of a step as somebody.
func says(w *coretest.World, step ledger.StepID, s loop.Settlement) error {
	e, err := loop.Settle(w.P, w.S, step, s)
	if err == nil && e != nil {
		w.Append(*e)
	}
	return err
}

func TestTwoPeopleHaveToAgree(t *testing.T) {
	w := waiving(t, "{by: [ann, ben, cleo], need: 2}")
	require.Len(t, w.S.Tickets(), 1)
	assert.Equal(t, 2, w.S.Tickets()[0].Raised.Need)
	require.NoError(t, says(w, "t1.c1", loop.Settlement{ID: "1", Verb: ledger.Allow, As: "ben", Because: "a loyal guest"}))
	assert.Empty(t, w.Step(), "one is not enough")
	assert.Equal(t, ledger.Held, w.S.Status())
	n := len(w.Events)
	require.NoError(t, says(w, "t1.c1", loop.Settlement{ID: "1", Verb: ledger.Allow, As: "ben"}))
	assert.Len(t, w.Events, n, "a repeated click votes once")
	err := says(w, "t1.c1", loop.Settlement{ID: "2", Verb: ledger.Allow, As: "ben"})
	assert.EqualError(t, err, "ben has agreed already", "one vote each")
	var notFor *loop.NotEntitledError
	assert.ErrorAs(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Allow, As: "dan"}), &notFor)
	require.NoError(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Allow}), "the first who has not agreed")
	require.Len(t, w.Step(), 1)
	st := w.S.Settlement("t1.c1")
	assert.Equal(t, "ben and ann", st.By)
	assert.Equal(t, "a loyal guest", st.Because)
	assert.Equal(t, map[string]any{"by": "ben and ann", "because": "a loyal guest"}, loop.Vars(w.P, w.S, "t1.c1")["gate"], "what the tool sends may say who agreed")
	again, err := run.Fold("w-1", w.Events)
	require.NoError(t, err)
	same(t, again, w.S)
}

func TestAnAmendmentSetsTheVotesBeforeItAside(t *testing.T) {
	w := waiving(t, "{by: [ann, ben, cleo], need: 2}")
	before := w.S.Tickets()[0].Shown()
	require.NoError(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Allow, As: "ann", Shown: before}))
	assert.Equal(t, map[ledger.Verb][]string{ledger.Amend: {"What ann agreed to no longer counts.", "One more has to agree to the new values."}}, loop.Leads(w.P, w.S, "t1.c1"))
	require.NoError(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Amend, As: "ben", Args: map[string]any{"eur": 400.0}, Because: "half is enough"}))
	tk := w.S.Tickets()[0]
	assert.Len(t, tk.Votes, 1)
	assert.JSONEq(t, `{"vessel":"Petrel","eur":400}`, string(tk.Args()))
	assert.EqualError(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Allow, As: "ann", Shown: before}), "the ticket is not what you were shown", "nobody agrees to what they did not see")
	require.NoError(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Allow, As: "ann", Shown: tk.Shown()}), "who agreed to other values may agree to these")
	st := w.S.Settlement("t1.c1")
	assert.Equal(t, ledger.Amend, st.Verb)
	assert.Equal(t, "ben and ann", st.By)
	w.Step()
	w.Return("t1.c1", nil)
	w.Step()
	assert.Equal(t, []string{`Ben and ann changed eur from "600" to "400" before agreeing and said: half is enough. Done; there is no result.`}, w.Words())
}

func TestOneOfSeveralRefuses(t *testing.T) {
	w := waiving(t, "{by: [ann, ben], need: 2}", `waive {"vessel":"Petrel"}`, "tell", "pass_to_clerk")
	assert.Equal(t, []string{"Tell and the handoff to clerk of the same turn will not be done either."}, loop.Leads(w.P, w.S, "t1.c1")[ledger.RefuseIt])
	require.NoError(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Allow, As: "ann"}))
	require.NoError(t, says(w, "t1.c1", loop.Settlement{ID: "no", Verb: ledger.RefuseIt, As: "ben", Because: "Not this year."}))
	var was *loop.SettledError
	require.ErrorAs(t, says(w, "t1.c1", loop.Settlement{ID: "no", Verb: ledger.Allow, As: "ben"}), &was, "an id that comes again with another verb")
	assert.Equal(t, "the ticket is already settled: refuse by ben", was.Error())
	w.Step()
	assert.Equal(t, []string{"Not done: ben refused waive and said: Not this year.", "tell was not done, because waive before it did not succeed.", "Not handed over to clerk, because waive did not succeed."}, w.Words())
}

func TestWhoMaySettleIsSaidByTheStateAndByWhoAsks(t *testing.T) {
	var why string // of the last call that was refused
	by := func(gate string, facts string) []string {
		w := waiving(t, gate, "tell")
		w.Append(ledger.New("t1.c1", &ledger.StateChanged{Patch: json.RawMessage(facts)}))
		w.Return("t1.c1", nil)
		w.Step()
		w.Reply("", `waive {"vessel":"Petrel"}`)
		w.Step()
		if len(w.S.Tickets()) == 0 {
			for _, e := range w.Events {
				if r, ok := e.Data.(*ledger.CallRefused); ok {
					why = r.Why
				}
			}
			return w.Words()
		}
		return w.S.Tickets()[0].Raised.By
	}
	const none = `[]`
	assert.Equal(t, []string{"ann"}, by("{by: [asker]}", none))
	assert.Equal(t, []string{"dan", "ann"}, by(`{by: ["=state.?owner.orValue('')", ann]}`, `[{"op":"add","path":"/owner","value":"dan"}]`))
	assert.Equal(t, []string{"dan", "eve"}, by(`{by: ["=state.?owners.orValue([])"]}`, `[{"op":"add","path":"/owners","value":["dan","eve","dan"]}]`))
	assert.Equal(t, []string{"Not done: waive needs the agreement of a person, and there is nobody who may give it."}, by(`{by: ["=state.?owner.orValue('')"]}`, none), "nobody is not anybody")
	assert.Equal(t, []string{"Not done: waive needs the agreement of a person, and there is nobody who may give it."}, by(`{by: [asker], self: false}`, none))
	assert.Equal(t, "its gate names nobody who may settle it", why)
	assert.Equal(t, []string{"Not done: waive needs the agreement of 2 people, and there is nobody who may give it."}, by(`{by: ["=state.?owners.orValue([])"], need: 2}`, `[{"op":"add","path":"/owners","value":["dan"]}]`))
	assert.Equal(t, "2 people have to agree, and its gate names 1 who may settle it", why)
}

func TestWhoAskedMayNotAgreeAsWell(t *testing.T) {
	w := waiving(t, "{self: false}")
	person := w.S.Opened().Person
	assert.Error(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Allow, By: person}))
	assert.NoError(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Allow, By: "ben"}))
}

func TestAGateThatFailsWhenNobodyDecides(t *testing.T) {
	w := waiving(t, "{by: [ann], within: 30m, lapse: fail}", `waive {"vessel":"Petrel"}`)
	due, e, ok := loop.Wake(w.P, w.S)
	require.True(t, ok)
	w.Now = due
	w.Append(e)
	w.Step()
	require.NotNil(t, w.S.Closed())
	assert.Equal(t, ledger.Failed, w.S.Closed().Status)
	assert.Equal(t, "nobody decided about waive in time", w.S.Closed().Problem.Say)

	w = waiving(t, "{by: [ann], within: 30m, lapse: fail}", `consult_clerk {"question":"Waive it."}`)
	w.Reply("", `waive {"vessel":"Petrel"}`)
	w.Step()
	w.Now, e, _ = loop.Wake(w.P, w.S)
	w.Append(e)
	w.Step()
	assert.Nil(t, w.S.Closed(), "the agent that asked goes on")
	require.Len(t, w.Words(), 1)
	assert.Contains(t, w.Words()[0], "nobody decided about waive in time")
}

func TestMorePeopleMayDecideAfterAWhile(t *testing.T) {
	w := waiving(t, "{by: [ann], within: 30m, escalate: {after: 10m, to: [ben, ann]}}")
	tk := w.S.Tickets()[0]
	assert.Equal(t, []string{"ben"}, tk.Raised.Escalate.To)
	assert.Error(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Allow, As: "ben"}))
	due, e, _ := loop.Wake(w.P, w.S)
	assert.Equal(t, tk.Raised.Escalate.At, due)
	assert.Equal(t, 20*time.Minute, tk.Raised.Due.Sub(due))
	w.Now = due
	w.Append(e)
	assert.Empty(t, w.Step())
	due, _, _ = loop.Wake(w.P, w.S)
	assert.Equal(t, *tk.Raised.Due, due, "and it lapses all the same")
	assert.NoError(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Allow, As: "ben"}))
}

func TestAGateThatAsksTheFirstTimesInASession(t *testing.T) {
	w := waiving(t, "{by: [ann], first: 2}")
	agree := func(step ledger.StepID, spare bool) {
		require.NoError(t, says(w, step, loop.Settlement{Verb: ledger.Allow, Spare: spare}))
		w.Step()
		w.Return(step, nil)
		w.Step()
	}
	agree("t1.c1", false)
	assert.Equal(t, map[string]ledger.Agreed{"waive": {Times: 1}}, w.S.Kept().Agreed)
	w.Reply("", `waive {"vessel":"Petrel"}`)
	w.Step()
	agree("t2.c1", false)
	w.Reply("", `waive {"vessel":"Petrel"}`)
	assert.Len(t, w.Step(), 1, "the third time nobody is asked")

	next := coretest.Begin(w.P, ledger.RunOpened{Text: "Once more.", Agreed: w.S.Kept().Agreed})
	next.Step()
	next.Reply("", `waive {"vessel":"Petrel"}`)
	assert.Len(t, next.Step(), 1, "nor in the next run of the session")

	w = waiving(t, "{by: [ann], first: 99}")
	agree("t1.c1", true)
	w.Reply("", `waive {"vessel":"Petrel"}`)
	assert.Len(t, w.Step(), 1, "a person has said that this need not be asked again")

	w = waiving(t, "{by: [ann]}")
	assert.EqualError(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Allow, Spare: true}), "this gate is asked every time")
}

func TestAGateLooksThingsUpBeforeItAsks(t *testing.T) {
	gate := `{by: ["=found.debt.eur > 100.0 ? ['ann'] : ['ben']"], looks_up: {debt: {tool: dues_of, args: {vessel: "=args.vessel"}}}, ask: "Waive the {{ found.debt.eur }} EUR of the {{ args.vessel }}?"}`
	w := waiving(t, gate, "tell")
	w.Finds = map[string]any{"debt": map[string]any{"eur": 600.0}}
	w.Return("t1.c1", nil)
	w.Step()
	w.Reply("", `waive {"vessel":"Petrel"}`)
	w.Step()
	require.Len(t, w.S.Tickets(), 1)
	assert.Equal(t, "Waive the 600 EUR of the Petrel?", w.S.Tickets()[0].Raised.Ask)
	assert.Equal(t, []string{"ann"}, w.S.Tickets()[0].Raised.By)

	w = waiving(t, strings.Replace(gate, `"=found.debt.eur > 100.0 ? ['ann'] : ['ben']"`, "ann", 1))
	require.Len(t, w.S.Tickets(), 1)
	assert.Equal(t, `May desk call waive with {"vessel":"Petrel","eur":600}? (debt could not be looked up: it is not there)`, w.S.Tickets()[0].Raised.Ask, "a person is asked all the same, and told")
}

func TestWhatADecisionLeadsTo(t *testing.T) {
	w := waiving(t, "{by: [ann, ben], need: 2}")
	assert.Equal(t, []string{"It goes ahead when one more has agreed."}, loop.Leads(w.P, w.S, "t1.c1")[ledger.Allow])
	for _, step := range []ledger.StepID{"t1.c1", "t2.c1"} {
		require.NoError(t, says(w, step, loop.Settlement{Verb: ledger.RefuseIt, Because: "No."}))
		w.Step()
		w.Reply("", `waive {"vessel":"Petrel"}`)
		w.Step()
	}
	assert.Contains(t, loop.Leads(w.P, w.S, "t3.c1")[ledger.Allow], "The run has used its 3 turns: it ends after this, and the agent cannot tell the result of it.")

	w = waiving(t, "{by: [ann, ben], need: 2}")
	require.NoError(t, says(w, "t1.c1", loop.Settlement{Verb: ledger.Amend, Args: map[string]any{"vessel": "Gannet"}}))
	assert.Contains(t, loop.Leads(w.P, w.S, "t1.c1")[ledger.Allow], "A rule of the tool would reject it now all the same: The Gannet owes nothing.")
}
