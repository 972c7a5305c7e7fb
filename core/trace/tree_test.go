package trace_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/drill"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/trace"
)

// asked is a run in which the desk asks dues and tides at once; dues asks tides in turn.
func asked(t *testing.T) *coretest.World {
	w := coretest.Open(coretest.Project(t, coretest.Tree), "What does it cost?")
	w.Step()
	w.Reply("", `consult_dues {"question":"What does it cost?","nights":2}`, `consult_tides {"question":"When?"}`)
	w.Step()
	w.ReplyTo("t1.c1.t1", "", `consult_tides {"question":"And when?"}`, `look {"name":"a"}`)
	w.Step()
	w.Return("t1.c1.t1.c2", map[string]any{"length_m": 12.0})
	w.ReplyTo("t1.c2.t1", "At noon.")
	w.Step()
	w.ReplyTo("t1.c1.t1.c1.t1", "At six.")
	w.Step()
	w.ReplyTo("t1.c1.t2", "57 EUR, at six.")
	w.Step()
	w.Reply("57 EUR.")
	w.Step()
	require.NotNil(t, w.S.Closed())
	return w
}

func TestLanesAreATree(t *testing.T) {
	tr, err := trace.Of("w-1", asked(t).Events)
	require.NoError(t, err)
	assert.Equal(t, []trace.Lane{
		{ID: "desk", Agent: "desk", Turns: 2, Calls: 2},
		{ID: "desk/dues", Agent: "dues", Depth: 1, Under: "desk", Turns: 2, Calls: 2, Times: 1},
		{ID: "desk/dues/tides", Agent: "tides", Depth: 2, Under: "desk/dues", Turns: 1, Times: 1},
		{ID: "desk/tides", Agent: "tides", Depth: 1, Under: "desk", Turns: 1, Times: 1},
	}, tr.Totals().Lanes, "what a lane consults stands right below it")
	assert.Equal(t, []string{"desk"}, tr.Totals().Path)
	dues, tides := tr.Find("t1.c1"), tr.Find("t1.c2")
	assert.Equal(t, []any{trace.Consult, "dues", "desk", 0, "returned", "What does it cost?", "57 EUR, at six."}, []any{dues.Kind, dues.To, dues.Lane, dues.Depth, dues.Status, dues.Title, dues.Brief})
	assert.Equal(t, trace.Asked{Question: "What does it cost?\n\nnights: 2", Outcome: ledger.EndDone, Kept: true, Turns: 3, Calls: 2, Tokens: ledger.Usage{In: 30, Out: 15}}, *dues.Asked, "with all below it")
	assert.Equal(t, trace.Asked{Question: "When?", Outcome: ledger.EndDone, Turns: 1, Tokens: ledger.Usage{In: 10, Out: 5}}, *tides.Asked)
	inner := tr.Find("t1.c1.t1.c1.t1")
	assert.Equal(t, []any{"tides", "desk/dues/tides", 2, ledger.StepID("t1.c1.t1.c1"), "turn 1"}, []any{inner.Agent, inner.Lane, inner.Depth, inner.Thread, inner.Name})
}

func TestAConsultIsToldWithItsThread(t *testing.T) {
	w := asked(t)
	d, err := trace.DetailOf("w-1", w.Events, "t1.c1")
	require.NoError(t, err)
	assert.Equal(t, []string{"What does it cost?\n\nnights: 2", "57 EUR, at six."}, []string{d.Question, d.Answer})
	var thread []ledger.StepID
	for _, s := range d.Thread {
		thread = append(thread, s.ID)
	}
	assert.Equal(t, []ledger.StepID{"t1.c1.t1", "t1.c1.t1.c1", "t1.c1.t1.c2", "t1.c1.t2"}, thread, "without what is below it")
	assert.Empty(t, d.Before)
	assert.Equal(t, 12.0, d.After["length_m"], "the facts that it brought")
	d, err = trace.DetailOf("w-1", w.Events, "t1.c1.t1.c2")
	require.NoError(t, err)
	assert.Equal(t, 12.0, d.After["length_m"], "of its own thread")
}

func TestAnAgentThatIsAskedAThousandTimesHasOneLane(t *testing.T) {
	text := strings.Replace(coretest.Tree, "turns: 40, calls: 40, same_call: 3", "turns: 9999, calls: 9999, same_call: 9999", 1)
	w := coretest.Open(coretest.Project(t, text), "Ask on")
	w.Step()
	for i := range 1000 {
		w.Reply("", fmt.Sprintf(`consult_tides {"question":"%d"}`, i))
		w.Step()
		w.Reply("noon")
		w.Step()
	}
	tr, err := trace.Of("w-1", w.Events)
	require.NoError(t, err)
	assert.Len(t, tr.Totals().Lanes, 2)
	assert.Len(t, w.S.Threads(), 1, "and the state holds what is open alone")
}

func TestADrillExpectsConsults(t *testing.T) {
	w := asked(t)
	faults := func(want ...project.ExpectConsult) string {
		f, err := drill.Check(w.P, &project.Expect{Consults: want}, "w-1", w.Events)
		require.NoError(t, err)
		var out []string
		for _, x := range f {
			out = append(out, fmt.Sprintf("%s: %s | %s | %d", x.What, x.Want, x.Got, x.Step))
		}
		return strings.Join(out, "\n")
	}
	assert.Empty(t, faults(project.ExpectConsult{Agent: "dues", By: "desk", Asked: "COST", Answer: "57 eur"}, project.ExpectConsult{Agent: "tides", By: "dues", Answer: "six"}))
	assert.Empty(t, faults(project.ExpectConsult{Agent: "tides", Asked: "and when", Outcome: "done"}))
	assert.Equal(t, `consults: gauge is consulted | no such consult; who was asked: dues, tides, tides | 0`, faults(project.ExpectConsult{Agent: "gauge"}))
	assert.Equal(t, `consults: dues is consulted, answers "58" | dues was asked "What does it cost?\n\nnights: 2", done: "57 EUR, at six." | 2`, faults(project.ExpectConsult{Agent: "dues", Answer: "58"}))
	assert.Equal(t, `consults: dues is consulted by tides, asked "x", outcome failed | no such consult; who was asked: dues, tides, tides | 0`, faults(project.ExpectConsult{Agent: "dues", By: "tides", Asked: "x", Outcome: "failed"}))
	assert.NotEmpty(t, faults(project.ExpectConsult{Agent: "tides", By: "dues"}, project.ExpectConsult{Agent: "dues"}), "in this order")
}

func TestALaneCountsHowOftenItWasOpened(t *testing.T) {
	w := coretest.Begin(coretest.Project(t, coretest.Letters), ledger.RunOpened{Relay: "talk", Input: json.RawMessage(`{"text":"the letter"}`), Text: "talk"})
	for _, said := range []string{"a", "b", "c", "d"} {
		w.Step()
		w.Reply(said)
	}
	w.Step()
	tr, err := trace.Of("w-1", w.Events)
	require.NoError(t, err)
	assert.Equal(t, []trace.Lane{
		{ID: "talk", Agent: "talk", Calls: 7},
		{ID: "talk/writer", Agent: "writer", Depth: 1, Under: "talk", Turns: 2, Times: 2},
		{ID: "talk/reader", Agent: "reader", Depth: 1, Under: "talk", Turns: 2, Times: 2},
	}, tr.Totals().Lanes, "a bundle of threads is one lane with a count")
	assert.Equal(t, "3 writer", tr.Find("r.talk:1.i3").Name)
}
