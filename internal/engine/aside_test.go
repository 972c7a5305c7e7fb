package engine_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/internal/engine"
)

// waitsAside is an engine whose desk lets calls wait aside. The desk answers with the newest
// thing that it was told.
func waitsAside(t *testing.T, log engine.Records, a *actor) *engine.Engine {
	text := strings.Replace(coretest.Main, "tools: [look, tide, reserve, pay, toot]", "tools: [look, tide, reserve, pay, toot]\nwaits: aside", 1)
	if a.say == nil { // one engine may follow another, whose model was still being asked
		a.say = asideSays
	}
	return start(t, log, a, func(c *engine.Config) { c.Projects = one{coretest.Project(t, text)} })
}

func asideSays(r deed.Request) (deed.Reply, *deed.ModelFailure) {
	last := r.Messages[len(r.Messages)-1]
	if last.Role == ledger.User && strings.HasPrefix(last.Text, "Reserve ") {
		return deed.Reply{Calls: []ledger.Ask{{ID: last.Text, Tool: "reserve", Args: `{"berth":"` + last.Text[8:10] + `"}`}}}, nil
	}
	return deed.Reply{Text: "I hear: " + last.Text, Finish: "stop"}, nil
}

// answerOf gives the answer of a run when it has one.
func answerOf(t *testing.T, e *engine.Engine, run string) (answer string) {
	t.Helper()
	require.Eventually(t, func() bool {
		s, err := e.State(ctx, run)
		if err != nil || s.Closed() == nil {
			return false
		}
		answer = s.Closed().Answer
		return true
	}, 20*time.Second, time.Millisecond, "run %s has no answer", run)
	return answer
}

// beside gives the one call that waits aside, when it does.
func beside(t *testing.T, log engine.Records) (x engine.Aside) {
	t.Helper()
	require.Eventually(t, func() bool {
		list, err := log.Asides(ctx, "")
		require.NoError(t, err)
		require.Len(t, list, 1)
		x = list[0]
		return x.Status == ledger.Held
	}, 20*time.Second, time.Millisecond)
	return x
}

func stepOf(t *testing.T, e *engine.Engine, x engine.Aside) ledger.StepID {
	t.Helper()
	s, err := e.State(ctx, x.Session+"-1")
	require.NoError(t, err)
	require.Len(t, s.Tickets(), 1)
	return s.Tickets()[0].Step
}

func TestAConversationGoesOnWhileACallWaits(t *testing.T) {
	log, a := engine.NewMemory(), &actor{}
	e := waitsAside(t, log, a)
	b := begin(t, e, engine.Start{Text: "Reserve C4", State: map[string]any{"length_m": 46.0}})
	wait(t, e)
	assert.Contains(t, answerOf(t, e, b.Run), "I hear: Not done yet: master decides about reserve")
	next := begin(t, e, engine.Start{Text: "And the tide?", Session: b.Session})
	wait(t, e)
	assert.Equal(t, "I hear: And the tide?", answerOf(t, e, next.Run), "it goes on about other things")

	x := beside(t, log)
	assert.Equal(t, ledger.Held, x.Status)
	require.NoError(t, e.Settle(ctx, x.Session+"-1", stepOf(t, e, x), loop.Settlement{Verb: ledger.Allow, By: "ann", As: "master"}))
	wait(t, e)
	assert.Equal(t, `I hear: (What had to wait has been decided. reserve {"berth":"C4"}: Reserved C4.)`, answerOf(t, e, b.Session+"-3"))
	s, err := e.State(ctx, b.Session+"-3")
	require.NoError(t, err)
	assert.Equal(t, "C4", s.Facts()["booking"], "what the call sets is the session's")
	assert.InDelta(t, 46.0, s.Facts()["length_m"], 0)
	list, err := log.Asides(ctx, "")
	require.NoError(t, err)
	assert.Empty(t, list)
	assert.EqualValues(t, 1, a.done.Load())
}

func TestACallThatWaitsAsideIsRefused(t *testing.T) {
	log, a := engine.NewMemory(), &actor{}
	e := waitsAside(t, log, a)
	b := begin(t, e, engine.Start{Text: "Reserve C4", State: map[string]any{"length_m": 46.0}})
	wait(t, e)
	x := beside(t, log)
	require.NoError(t, e.Settle(ctx, x.Session+"-1", stepOf(t, e, x), loop.Settlement{Verb: ledger.RefuseIt, By: "ann", As: "master", Because: "The pontoon is broken."}))
	wait(t, e)
	assert.Contains(t, answerOf(t, e, b.Session+"-2"), "master refused reserve and said: The pontoon is broken.")
	assert.Zero(t, a.done.Load())
}

// TestACallWaitsAsideOverRestarts ends the service at each moment: before the call's run is
// begun, while it waits, and after it is over and nobody was told.
func TestACallWaitsAsideOverRestarts(t *testing.T) {
	log, a := engine.NewMemory(), &actor{}
	e := waitsAside(t, log, a)
	b := begin(t, e, engine.Start{Text: "Reserve C4", State: map[string]any{"length_m": 46.0}})
	wait(t, e)
	x := beside(t, log)
	again := func() *engine.Engine {
		e.Close()
		e = waitsAside(t, log, a)
		wait(t, e)
		return e
	}
	again()
	again()
	assert.Equal(t, x, beside(t, log), "it is begun once")
	require.NoError(t, e.Settle(ctx, x.Session+"-1", stepOf(t, e, x), loop.Settlement{Verb: ledger.Allow, By: "ann", As: "master"}))
	again()
	again()
	assert.Contains(t, answerOf(t, e, b.Session+"-2"), "Reserved C4.")
	_, err := e.State(ctx, b.Session+"-3")
	require.ErrorIs(t, err, engine.ErrNoRun, "and told once")
	assert.EqualValues(t, 1, a.done.Load())
}
