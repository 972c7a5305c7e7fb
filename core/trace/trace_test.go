package trace_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/drill"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/trace"
)

// story is a run with a read, a handoff, a gate that a person amends, an answer.
func story(t *testing.T) *coretest.World {
	w := coretest.Open(coretest.Project(t, coretest.Main), "Reserve C4")
	w.Step()
	w.Reply("Let me see.", `look {"name":"Marrow Light"}`, `pass_to_berths {"because":"a berth"}`)
	w.Step()
	w.Return("t1.c1", map[string]any{"length_m": 46.0, "home": ""})
	w.Step()
	w.Reply("", `reserve {"berth":"C4"}`)
	w.Step()
	w.Settle("t2.c1", ledger.Amend, map[string]any{"berth": "D2"})
	w.Step()
	w.Return("t2.c1", map[string]any{"ok": true})
	w.Step()
	w.Reply("Reserved D2.")
	w.Step()
	return w
}

func TestStepsTellWhoDidWhatAndWhy(t *testing.T) {
	w := story(t)
	tr, err := trace.Of("w-1", w.Events)
	require.NoError(t, err)
	type row struct{ agent, name, title, brief, status, why string }
	var got []row
	for i, s := range tr.Steps {
		assert.Equal(t, i+1, s.N)
		got = append(got, row{s.Agent, s.Name, s.Title, s.Brief, s.Status, s.Why})
	}
	assert.Equal(t, []row{
		{"desk", "turn 1", "", "look, pass_to_berths", "returned", "a message came in"},
		{"desk", "look", "name: Marrow Light", "46 m", "returned", "turn 1 made 2 calls; reads start at once"},
		{"desk", "pass_to_berths", "", "", "returned", "handoffs come last"},
		{"berths", "turn 2", "", "reserve", "returned", "berths holds the baton"},
		{"berths", "reserve", "berth: D2", "ok", "returned", "gate: over 40 m"},
		{"berths", "turn 3", "", "Reserved D2.", "returned", "the call of turn 2 has ended"},
	}, got)
	wait := tr.Steps[4].Wait
	require.NotNil(t, wait)
	assert.Equal(t, ledger.Amend, wait.Verb)
	assert.Equal(t, "master", wait.Who)
	tot := tr.Totals()
	assert.Equal(t, []trace.Lane{{ID: "desk", Agent: "desk", Turns: 1, Calls: 2}, {ID: "berths", Agent: "berths", Turns: 2, Calls: 1}}, tot.Lanes)
	assert.Equal(t, []int{3, 2, 1, 45}, []int{tot.Turns, tot.Calls, tot.Passes, tot.Tokens.In + tot.Tokens.Out})
	assert.Equal(t, "Reserved D2.", tot.Answer)
}

func TestATraceGrowsEventByEvent(t *testing.T) {
	w := story(t)
	whole, err := trace.Of("w-1", w.Events)
	require.NoError(t, err)
	grown := trace.New("w-1")
	seen := map[ledger.StepID]bool{}
	for _, e := range w.Events {
		changed, err := grown.Apply(e)
		require.NoError(t, err)
		for _, s := range changed {
			seen[s.ID] = true
		}
	}
	assert.Len(t, seen, len(whole.Steps), "every step was told of")
	a, _ := json.Marshal(whole.Steps)
	b, _ := json.Marshal(grown.Steps)
	assert.JSONEq(t, string(a), string(b))
}

func TestDetail(t *testing.T) {
	w := story(t)
	d, err := trace.DetailOf("w-1", w.Events, "5")
	require.NoError(t, err)
	assert.JSONEq(t, `{"berth":"C4"}`, string(d.In), "as the model made it")
	assert.JSONEq(t, `{"berth":"D2"}`, string(d.Args), "as it was sent")
	assert.Contains(t, d.Words, `Master changed berth from "C4" to "D2"`)
	assert.Equal(t, map[string]any{"length_m": 46.0}, d.Before)
	assert.Equal(t, map[string]any{"length_m": 46.0, "booking": "D2"}, d.After)
	same, err := trace.DetailOf("w-1", w.Events, "t2.c1")
	require.NoError(t, err)
	assert.Equal(t, d.Step.N, same.Step.N, "by number or by id")
	none, err := trace.DetailOf("w-1", w.Events, "99")
	require.NoError(t, err)
	assert.Nil(t, none)
}

func expectation(t *testing.T, text string) *project.Expect {
	p := coretest.Project(t, coretest.Main+"---\ndrill: d\nsay: x\nexpect: "+text+"\n")
	return p.Drills[0].Says[0].Expect
}

func TestDrillsHoldARunAgainstWhatIsExpected(t *testing.T) {
	w := story(t)
	for name, c := range map[string]struct{ expect, want, got string }{
		"all right":     {`{path: [desk, berths], calls: [{tool: look}, {tool: reserve, args: {berth: D2}, gate: amend, status: returned}], never: [pay], answer: {says: [d2], avoids: [C4]}, state: {booking: D2}, where: "run.turns == 3 && run.passes == 1"}`, "", ""},
		"path":          {`{path: [desk]}`, "desk", "desk → berths"},
		"other values":  {`{calls: [{tool: reserve, args: {berth: C4}}]}`, `reserve {"berth":"C4"}, returned`, `reserve {"berth":"D2"}, returned, gate: amend`},
		"order":         {`{calls: [{tool: reserve}, {tool: look}]}`, "look, returned", "no such call; what was called: look, pass_to_berths, reserve"},
		"never":         {`{never: [look]}`, "no call of look", `look {"name":"Marrow Light"}, returned`},
		"answer":        {`{answer: {says: [B-1041]}}`, `says "B-1041"`, `"Reserved D2."`},
		"avoids":        {`{answer: {avoids: [reserved]}}`, `does not say "reserved"`, `"Reserved D2."`},
		"state":         {`{state: {booking: C4}}`, `booking is "C4"`, `"D2"`},
		"where":         {`{where: run.turns > 5}`, "run.turns > 5", "run.turns 3, run.calls 2, run.passes 1, run.tokens 45, run.cost 0"},
		"status":        {`{status: held}`, "held", "done"},
		"problem":       {`{problem: limit}`, "failed", "done"},
		"gate not seen": {`{calls: [{tool: reserve, gate: none}]}`, "reserve, returned, gate: none", `reserve {"berth":"D2"}, returned, gate: amend`},
	} {
		t.Run(name, func(t *testing.T) {
			faults, err := drill.Check(w.P, expectation(t, c.expect), "w-1", w.Events)
			require.NoError(t, err)
			if c.want == "" {
				assert.Empty(t, faults)
				return
			}
			require.NotEmpty(t, faults)
			assert.Equal(t, c.want, faults[0].Want)
			assert.Equal(t, c.got, faults[0].Got)
			assert.Equal(t, project.Main, faults[0].Place.File)
		})
	}
}
