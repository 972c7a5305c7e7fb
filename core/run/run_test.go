package run_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/run"
)

func TestADamagedLedgerIsNotFolded(t *testing.T) {
	w := coretest.Open(coretest.Project(t, coretest.Main), "x")
	w.Step()
	for name, spoil := range map[string]func([]ledger.Event) []ledger.Event{
		"a gap":          func(e []ledger.Event) []ledger.Event { e[1].Seq = 3; return e },
		"time goes back": func(e []ledger.Event) []ledger.Event { e[1].At = e[0].At.Add(-1); return e },
		"not opened":     func(e []ledger.Event) []ledger.Event { e = e[1:]; e[0].Seq = 1; return e },
		"no such call": func(e []ledger.Event) []ledger.Event {
			x := ledger.New("t1.c9", &ledger.CallReturned{})
			x.Seq, x.At = 3, e[1].At
			return append(e, x)
		},
		"opened twice": func(e []ledger.Event) []ledger.Event { x := e[0]; x.Seq, x.At = 3, e[1].At; return append(e, x) },
		"a bad patch": func(e []ledger.Event) []ledger.Event {
			x := ledger.New("", &ledger.StateChanged{Patch: json.RawMessage(`[{"op":"remove","path":"/none"}]`)})
			x.Seq, x.At = 3, e[1].At
			return append(e, x)
		},
		"behind its close": func(e []ledger.Event) []ledger.Event {
			x := ledger.New("", &ledger.RunClosed{Status: ledger.Done})
			x.Seq, x.At = 3, e[1].At
			y := x
			y.Seq = 4
			return append(e, x, y)
		},
	} {
		_, err := run.Fold("w-1", spoil(append([]ledger.Event{}, w.Events...)))
		require.ErrorContains(t, err, "run w-1, event", name)
	}
}

func TestWhatANewerProgramWroteIsLeftAlone(t *testing.T) {
	var e ledger.Event
	err := json.Unmarshal([]byte(`{"run":"a-1","seq":4,"v":1,"kind":"relay.danced","thread":"main","data":{}}`), &e)
	var unknown *ledger.UnknownError
	require.ErrorAs(t, err, &unknown)
	assert.Contains(t, err.Error(), "was written by a newer Stone Baton")
	require.ErrorAs(t, json.Unmarshal([]byte(`{"run":"a-1","seq":4,"v":9,"kind":"run.closed","thread":"main","data":{}}`), &e), &unknown)
}

func TestMemoryEndsBeforeADanglingCall(t *testing.T) {
	w := coretest.Open(coretest.Project(t, coretest.Main), "x")
	w.Step()
	w.Reply("Looking.", "tide")
	assert.Len(t, w.S.Memory(), 1, "the call has no result yet")
	w.Step()
	w.Return("t1.c1", "high")
	assert.Len(t, w.S.Memory(), 3)
}
