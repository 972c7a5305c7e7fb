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
)

// bounded begins a run with a limit of two turns, of which people may give more.
func bounded(t *testing.T, limits string) *coretest.World {
	p := coretest.Project(t, strings.Replace(coretest.Main, "limits: {turns: 8, calls: 12,", "limits: {"+limits+", more: {by: [master], within: 1h},", 1))
	w := coretest.Open(p, "Go on for ever.")
	w.Step()
	return w
}

// looks lets the model make a call, and gives its result.
func looks(w *coretest.World, name string) {
	w.Reply("", `look {"name":"`+name+`"}`)
	w.Step()
	for _, step := range w.S.InFlight() {
		w.Return(step, map[string]any{"length_m": 12.0})
	}
	w.Step()
}

func TestALimitThatIsReachedAsksForMore(t *testing.T) {
	w := bounded(t, "turns: 2, calls: 12")
	looks(w, "a")
	looks(w, "b")
	require.Len(t, w.S.Tickets(), 1)
	tk := w.S.Tickets()[0]
	assert.Equal(t, ledger.LimitTicket, tk.Raised.Form)
	assert.Equal(t, "turns", tk.Raised.Tool)
	assert.Equal(t, "The run has used its 2 turns (limit turns: 2). May desk go on, with 2 more?", tk.Raised.Ask)
	assert.Equal(t, []string{"master"}, tk.Raised.By)
	assert.Equal(t, ledger.Held, w.S.Status())
	assert.JSONEq(t, `{"more": 2}`, string(tk.Args()))

	require.Error(t, says(w, tk.Step, loop.Settlement{Verb: ledger.Amend, By: "master", Args: map[string]any{"more": 0.0}}))
	require.Error(t, says(w, tk.Step, loop.Settlement{Verb: ledger.Amend, By: "master", Args: map[string]any{"turns": 3.0}}))
	goes(t, w, loop.Settlement{Verb: ledger.Amend, Args: map[string]any{"more": 1.0}})
	assert.Len(t, w.Asked, 3, "the turn is sent at once")
	looks(w, "c")
	require.Len(t, w.S.Tickets(), 1, "and the one after it asks again")
	goes(t, w, loop.Settlement{Verb: ledger.Allow})
	looks(w, "d")
	w.Reply("That is all.")
	w.Step()
	assert.Equal(t, "That is all.", w.S.Closed().Answer)
	assert.EqualValues(t, 3, w.S.More("turns"))
}

func TestALimitThatIsNotRaised(t *testing.T) {
	w := bounded(t, "turns: 1, calls: 12")
	looks(w, "a")
	goes(t, w, loop.Settlement{Verb: ledger.RefuseIt, Because: "It goes round in a circle."})
	assert.Equal(t, ledger.Failed, w.S.Closed().Status)
	assert.Contains(t, w.S.Closed().Problem.Say, "master gives it no more: It goes round in a circle.")

	w = bounded(t, "turns: 1, calls: 12")
	looks(w, "a")
	due, e, ok := loop.Wake(w.P, w.S)
	require.True(t, ok)
	assert.WithinDuration(t, w.Now.Add(time.Hour), due, time.Second)
	w.Now = due
	w.Append(e)
	w.Step()
	assert.Equal(t, ledger.Failed, w.S.Closed().Status)
	assert.Contains(t, w.S.Closed().Problem.Say, "limit turns: 1", "nobody decided in time")
}

func TestEachLimitMayBeRaised(t *testing.T) {
	for limits, name := range map[string]string{"turns: 8, calls: 1": "calls", "turns: 8, calls: 12, tokens: 20": "tokens"} {
		w := bounded(t, limits)
		looks(w, "a")
		looks(w, "b")
		require.Len(t, w.S.Tickets(), 1, limits)
		assert.Equal(t, name, w.S.Tickets()[0].Raised.Tool)
		goes(t, w, loop.Settlement{Verb: ledger.Amend, Args: map[string]any{"more": 500.0}})
		w.Reply("Done.")
		w.Step()
		assert.Equal(t, "Done.", w.S.Closed().Answer, limits)
	}
}

func TestARunIsStoppedWhileItAsksForMore(t *testing.T) {
	w := bounded(t, "turns: 1, calls: 12")
	looks(w, "a")
	w.Append(ledger.New("", &ledger.StopAsked{By: "ann", Because: "enough"}))
	w.Step()
	assert.Equal(t, ledger.Stopped, w.S.Closed().Status)
}
