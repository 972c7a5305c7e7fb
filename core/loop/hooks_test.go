package loop_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/run"
)

func TestHooksDoThingsWithNoModel(t *testing.T) {
	w := through(t, "hooks", `{"text":"Petrel"}`)
	w.Step()
	thread := ledger.StepID("r.hooked:1")
	assert.Empty(t, w.Asked, "the turn waits for what the hook calls")
	assert.Equal(t, "Petrel", w.S.Thread(thread).Facts()["booking"])
	w.Return(thread.Hook(2).Turn(0).Call(1), map[string]any{"length_m": 46.0})
	w.Step()
	require.Len(t, w.Asked, 1)
	assert.Equal(t, 46.0, w.S.Thread(thread).Facts()["length_m"], "what it sets is the thread's")
	w.Reply("", `look {"name":"Tern"}`)
	w.Step()
	assert.Equal(t, "Tern", w.S.Thread(thread).Facts()["booking"])
	w.Return(thread.Turn(1).Call(1), map[string]any{"length_m": 9.0})
	w.Step()
	assert.Contains(t, w.S.Thread(thread).Facts()["booking"], "Tern, ")
	w.Reply("It is 9 m long.")
	w.Step()
	require.Nil(t, w.S.Closed(), "it has a last call to make")
	last := w.S.InFlight()
	require.Len(t, last, 1)
	w.Return(last[0], map[string]any{"ok": true})
	w.Step()
	assert.Equal(t, "It is 9 m long.", w.S.Closed().Answer)
	assert.Equal(t, "C4", w.S.Facts()["booking"])
	var fired []string
	for _, e := range w.Events {
		if d, ok := e.Data.(*ledger.HookFired); ok {
			fired = append(fired, string(d.On)+" "+d.Note)
		}
	}
	assert.Equal(t, []string{"taking ", "taking ", "taking false does not hold", "calling ", "hearing ", "leaving "}, fired)
	_, err := run.Fold("w-1", w.Events)
	require.NoError(t, err)
}

func TestAHookThatFailsChangesNothing(t *testing.T) {
	w := through(t, "hooks", `{"text":"Petrel"}`)
	w.Step()
	w.Fail("r.hooked:1.h2.t0.c1", deed.Failure{Outcome: ledger.NotDone, Class: "refused", Say: "no"})
	w.Step()
	assert.NotEmpty(t, w.Asked)
}
