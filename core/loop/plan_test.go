package loop_test

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
)

const planner = ledger.StepID("r.plan:1")

func TestAPlanTakesOneStepAfterAnother(t *testing.T) {
	w := through(t, "trip", `{"text":"to Kelmere"}`)
	w.Step()
	box := w.Asked[0].Tools
	require.Equal(t, "next_step", box[len(box)-1].Name)
	assert.Contains(t, box[len(box)-1].Summary, "reader: Reads letters for mistakes. | look: Look a vessel up by its name.")
	var params map[string]any
	require.NoError(t, json.Unmarshal(box[len(box)-1].Parameters, &params))
	assert.Contains(t, params["$defs"], "card")
	w.Reply("", `next_step {"aim":"a berth","who":"look","with":{"name":"Petrel"},"ahead":[{"who":"reader","ask":"read it"}]}`)
	w.Step()
	assert.Equal(t, "look", w.S.Thread(planner).Planned().Decided.To)
	assert.Equal(t, []string{"read it"}, []string{project.StepOf(w.S.Thread(planner).Planned().Args).Ahead[0].Ask})
	w.Return(planner.Turn(1).Call(1).Turn(0).Call(1), map[string]any{"length_m": 46.0})
	w.Step()
	assert.Equal(t, map[string]any{"length_m": 46.0}, w.S.Thread(planner).Facts(), "what a step sets, the next one sees")
	w.Reply("", `next_step {"who":"reserve","with":{"berth":"C4"}}`)
	w.Step()
	w.Settle(planner.Turn(2).Call(1).Turn(0).Call(1), ledger.Allow, nil)
	w.Step()
	w.Return(planner.Turn(2).Call(1).Turn(0).Call(1), map[string]any{"ok": true})
	w.Step()
	w.Reply("", `next_step {"who":"reader","ask":"read it"}`)
	w.Step()
	assert.Equal(t, "read it", w.S.Thread(planner.Turn(3).Call(1)).Messages()[0].Text)
	w.Reply("it is fine")
	w.Step()
	msgs := w.S.Thread(planner).Messages()
	assert.Equal(t, "it is fine", msgs[len(msgs)-1].Text)
	w.Reply("All is done.")
	w.Step()
	assert.Equal(t, "All is done.", w.S.Closed().Answer)
	_, err := run.Fold("w-1", w.Events)
	require.NoError(t, err)
}

func TestAPlanThatDoesNotEndIsEnded(t *testing.T) {
	w := through(t, "trip", `{"text":"to Kelmere"}`)
	said := func() string {
		m := w.S.Thread(planner).Messages()
		return m[len(m)-1].Text
	}
	w.Step()
	w.Reply("", `next_step {"who":"harbour","ask":"x"}`)
	w.Step()
	assert.Equal(t, `"harbour" cannot take a step. Candidates: reader, look, reserve, card.`, said())
	w.Reply("", `next_step {"who":"reader"}`)
	w.Step()
	assert.Equal(t, `reader was not set to work: say in "ask" what it is to do.`, said())
	w.Reply("", `next_step {"who":"look","with":{"nam":"Petrel"}}`)
	w.Step()
	assert.Contains(t, said(), `look was not called: `)
	for i := range 6 {
		w.Reply("", fmt.Sprintf(`next_step {"who":"reader","ask":"read it, %d"}`, i), fmt.Sprintf(`next_step {"who":"reader","ask":"again, %d"}`, i))
		w.Step()
		if w.S.Closed() != nil {
			break
		}
		if w.S.Thread(planner).Under() > 0 {
			w.Reply("fine")
			w.Step()
		}
	}
	require.NotNil(t, w.S.Closed())
	assert.Equal(t, "the plan of desk has taken its 3 steps and would not end (steps: 3 of the leg plan); it wanted reader next, on the thread r.plan:1 (trip → desk) (trip, at the leg plan)", w.S.Closed().Problem.Say)
}

func TestTwoAgentsSpeakInTurnUntilItHolds(t *testing.T) {
	w := through(t, "talk", `{"text":"the letter"}`)
	w.Step()
	assert.Equal(t, "the letter", w.Asked[0].Messages[0].Text)
	w.Reply("It says much.")
	w.Step()
	assert.Equal(t, "the letter\n\nwriter: It says much.", w.Asked[1].Messages[0].Text)
	w.Reply("Too much.")
	w.Step()
	m := w.Asked[2].Messages
	require.Len(t, m, 3, "the writer goes on with what it said")
	assert.Equal(t, "Too much.", m[2].Text)
	w.Reply("Now it is fine.")
	w.Step()
	assert.Equal(t, "until after 3: Now it is fine.", w.S.Closed().Answer)
	_, err := run.Fold("w-1", w.Events)
	require.NoError(t, err)

	for _, c := range []struct {
		said []string
		want string
	}{{[]string{"a", "we AGREED on it"}, "phrase after 2: we AGREED on it"}, {[]string{"a", "b", "c", "d"}, "rounds after 4: d"}} {
		w := through(t, "talk", `{"text":"the letter"}`)
		w.Step()
		for _, s := range c.said {
			w.Reply(s)
			w.Step()
		}
		require.NotNil(t, w.S.Closed())
		assert.Equal(t, c.want, w.S.Closed().Answer)
	}
}

func TestALegAsksThePerson(t *testing.T) {
	w := through(t, "asked", `{"text":"boats"}`)
	w.Step()
	step := ledger.Root.Leg("which", 1).Turn(0).Call(1)
	require.True(t, w.S.Ticket(step).Open())
	assert.Equal(t, "How many of boats?", w.S.Ticket(step).Raised.Ask)
	_, err := loop.Settle(w.P, w.S, step, loop.Settlement{Verb: ledger.Answer, By: "ann", Result: "some"})
	require.ErrorContains(t, err, "the answer does not fit: ")
	assert.Equal(t, "asked asks", w.S.Ticket(step).Raised.Why)
	e, err := loop.Settle(w.P, w.S, step, loop.Settlement{Verb: ledger.Answer, By: "ann", Result: "3"})
	require.NoError(t, err)
	w.Append(*e)
	w.Step()
	assert.Equal(t, "Say 3 in words.", w.Asked[0].Messages[0].Text)
	assert.Empty(t, w.Asked[0].Tools)
	assert.Contains(t, w.Asked[0].System, "fits this JSON Schema")
	w.Reply(`"three"`)
	w.Step()
	assert.Equal(t, "three", w.S.Closed().Answer)

	w = through(t, "asked", `{}`)
	w.Step()
	w.Settle(step, ledger.RefuseIt, nil)
	w.Step()
	assert.Equal(t, "Nobody said.", w.S.Closed().Answer)
}
