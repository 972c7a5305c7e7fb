package loop_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
)

// stepwise begins a run at every step of which a person looks.
func stepwise(t *testing.T, at ...ledger.Place) *coretest.World {
	w := coretest.Begin(coretest.Project(t, coretest.Main), ledger.RunOpened{Text: "Look up the Petrel.", PersonAt: at})
	w.Step()
	return w
}

// goes settles the one open ticket.
func goes(t *testing.T, w *coretest.World, s loop.Settlement) []loop.Action {
	t.Helper()
	require.Len(t, w.S.Tickets(), 1)
	s.By = "ann"
	require.NoError(t, says(w, w.S.Tickets()[0].Step, s))
	return w.Step()
}

func TestARunGoesStepByStep(t *testing.T) {
	w := stepwise(t, ledger.AtTurns, ledger.AtCalls, ledger.AtAnswer)
	tk := w.S.Tickets()[0]
	assert.Equal(t, ledger.StepID("t1"), tk.Step)
	assert.Equal(t, ledger.PauseTicket, tk.Raised.Form)
	assert.Equal(t, "Send turn 1 of desk?", tk.Raised.Ask)
	assert.Equal(t, ledger.Held, w.S.Status())
	assert.Empty(t, w.Asked, "nothing was sent")
	goes(t, w, loop.Settlement{Verb: ledger.Amend, Args: map[string]any{"text": "Look up the Gannet."}})
	require.Len(t, w.Asked, 1)
	assert.Equal(t, "Look up the Gannet.", w.Asked[0].Messages[0].Text, "the model reads the changed message")

	w.Reply("", `look {"name":"Gannet"}`)
	w.Step()
	tk = w.S.Tickets()[0]
	assert.Equal(t, ledger.StepID("t1.c1"), tk.Step)
	assert.Equal(t, []ledger.Verb{ledger.Allow, ledger.RefuseIt, ledger.Amend, ledger.Happened}, tk.Raised.Verbs())
	deeds := goes(t, w, loop.Settlement{Verb: ledger.Amend, Args: map[string]any{"name": "Petrel"}})
	require.Len(t, deeds, 1)
	assert.JSONEq(t, `{"name":"Petrel"}`, string(deeds[0].(loop.CallTool).Call.Args))
	w.Return("t1.c1", map[string]any{"length_m": 12.0})
	w.Step()
	assert.Equal(t, ledger.StepID("t2"), w.S.Tickets()[0].Step)
	goes(t, w, loop.Settlement{Verb: ledger.Allow})
	w.Reply("It is 12 m long.")
	w.Step()
	assert.Equal(t, ledger.TextTicket, w.S.Tickets()[0].Raised.Form)
	goes(t, w, loop.Settlement{Verb: ledger.Allow})
	assert.Equal(t, "It is 12 m long.", w.S.Closed().Answer)
}

func TestAPersonGivesTheResultOfACallInPlaceOfTheTool(t *testing.T) {
	w := stepwise(t, ledger.AtCalls)
	w.Reply("", `look {"name":"Petrel"}`)
	w.Step()
	for _, d := range goes(t, w, loop.Settlement{Verb: ledger.Happened, Result: map[string]any{"length_m": 99.0}}) {
		_, called := d.(loop.CallTool)
		assert.False(t, called, "the tool is not called")
	}
	assert.Equal(t, 99.0, w.S.Facts()["length_m"], "it counts as if the tool had given it")
	assert.NotContains(t, w.Words()[0], "says ann")
}

func TestWhoGoesOnWithoutLookingIsAskedNoMore(t *testing.T) {
	w := stepwise(t, ledger.AtTurns, ledger.AtCalls)
	goes(t, w, loop.Settlement{Verb: ledger.Allow, Spare: true})
	w.Reply("", `look {"name":"Petrel"}`)
	require.Len(t, w.Step(), 1, "neither calls nor turns wait any more")
	assert.Nil(t, w.S.Kept().Agreed)

	w = stepwise(t, ledger.AtTurns)
	w.Append(ledger.New("", &ledger.StopAsked{By: "ann"}))
	w.Step()
	assert.Equal(t, ledger.Stopped, w.S.Closed().Status, "a run that waits before its first turn can be stopped")
}

func TestAPersonPutsALineBetweenTheRoundsOfAnExchange(t *testing.T) {
	w := coretest.Begin(coretest.Project(t, coretest.Letters), ledger.RunOpened{Relay: "talk", Input: []byte(`{"text":"the tide"}`), Text: "talk", PersonAt: []ledger.Place{ledger.AtTurns}})
	w.Step()
	goes(t, w, loop.Settlement{Verb: ledger.Allow})
	w.Reply("It rises.")
	w.Step()
	assert.Contains(t, w.S.Tickets()[0].Raised.Ask, "of reader?")
	goes(t, w, loop.Settlement{Verb: ledger.Amend, Args: map[string]any{"text": "It rises. The person says: speak of noon."}})
	heard := w.Asked[len(w.Asked)-1].Messages
	assert.Equal(t, "It rises. The person says: speak of noon.", heard[len(heard)-1].Text, "the other hears it")
}

// TestAPersonSaysALineBeforeATurn: between the rounds of an exchange, and anywhere else.
func TestAPersonSaysALineBeforeATurn(t *testing.T) {
	w := stepwise(t, ledger.AtTurns)
	goes(t, w, loop.Settlement{Verb: ledger.Answer, Result: "And say where she lies."})
	require.Len(t, w.Asked, 1)
	m := w.Asked[0].Messages
	assert.Equal(t, "Look up the Petrel.", m[len(m)-2].Text)
	assert.Equal(t, ledger.Message{Role: ledger.User, Text: "And say where she lies."}, m[len(m)-1])
	w.Reply("", `look {"name":"Petrel"}`)
	w.Step()
	w.Return("t1.c1", map[string]any{"length_m": 12.0})
	w.Step()
	require.Error(t, says(w, w.S.Tickets()[0].Step, loop.Settlement{Verb: ledger.Answer, By: "ann", Result: " "}))
	goes(t, w, loop.Settlement{Verb: ledger.Answer, Result: "Briefly."})
	m = w.Asked[1].Messages
	assert.Equal(t, "Briefly.", m[len(m)-1].Text, "after what the call brought")
}
