package loop_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/run"
)

func TestALegThatTakesTooLongIsEnded(t *testing.T) {
	w := through(t, "slow", `{}`)
	w.Step()
	due, e, ok := loop.Wake(w.P, w.S)
	require.True(t, ok)
	assert.Equal(t, ledger.StepID("r.both:1"), e.Step)
	assert.InDelta(t, 5*time.Minute, due.Sub(w.S.At()), float64(time.Second))
	w.Now = due
	w.Append(e)
	assert.Empty(t, w.Step(), "what is in flight is waited for")
	assert.Nil(t, w.S.Closed())
	w.Reply("", `look {"name":"x"}`) // it would go on
	w.Step()
	require.NotNil(t, w.S.Closed())
	assert.Equal(t, "too late", w.S.Closed().Answer)
	var verbs []ledger.Verb
	for _, e := range w.Events {
		if d, ok := e.Data.(*ledger.GateSettled); ok {
			verbs = append(verbs, d.Verb)
		}
		assert.NotEqual(t, ledger.KindCallStarted, e.Kind, "nothing begins any more")
	}
	assert.Equal(t, []ledger.Verb{ledger.Withdrawn}, verbs)
	_, err := run.Fold("w-1", w.Events)
	require.NoError(t, err)
}

func TestAWaitForPeopleIsNotCounted(t *testing.T) {
	w := through(t, "slow", `{}`)
	w.Step()
	w.Now = w.Now.Add(time.Minute)
	w.Reply("Dear all")
	w.Step()
	_, e, ok := loop.Wake(w.P, w.S)
	require.True(t, ok)
	assert.NotEqual(t, ledger.ForLeg, e.Data.(*ledger.TimerFired).What, "only the ticket's own deadline is left")
	w.Now = w.Now.Add(20 * time.Minute)
	w.Settle("r.both:1.i2.t0.c1", ledger.Allow, nil)
	w.Step()
	due, e, ok := loop.Wake(w.P, w.S)
	require.True(t, ok)
	assert.Equal(t, ledger.ForLeg, e.Data.(*ledger.TimerFired).What)
	assert.InDelta(t, 4*time.Minute, due.Sub(w.S.At()), float64(time.Second))
	w.Return("r.both:1.i2.t0.c1", map[string]any{"ok": true})
	w.Step()
	assert.Equal(t, "in time", w.S.Closed().Answer)
}
