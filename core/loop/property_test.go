package loop_test

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
)

var someCalls = []string{`look {"name":"a"}`, `look {}`, "tide", `reserve {"berth":"C4"}`, `reserve {"berth":"D2"}`, "pay", "toot", "pass_to_berths", "pass_to_desk", "nothing", "toot {"}

// drive plays chance for a world until its run is closed: what models answer,
// what calls bring, what people decide, when the service is killed.
func drive(t *rapid.T, w *coretest.World, choose func(label string, n int) int) {
	for i := 0; w.S.Closed() == nil; i++ {
		if i > 400 {
			t.Fatalf("the run does not end: %d events", len(w.Events))
		}
		w.Step()
		if w.S.Closed() != nil {
			return
		}
		flight := w.S.InFlight()
		switch {
		case choose("kill", 25) == 1:
			w.Append(ledger.New("", &ledger.RunRecovered{Lost: flight, Why: "back"}))
		case choose("stop", 60) == 1 && w.S.Stop() == nil:
			w.Append(ledger.New("", &ledger.StopAsked{By: "ann"}))
		case len(flight) > 0:
			one(t, w, flight[choose("which", len(flight))], choose)
		case len(w.S.Tickets()) > 0 && choose("settle", 3) > 0:
			tk := w.S.Tickets()[0]
			verbs := tk.Raised.Form.Verbs()
			v := verbs[choose("verb", len(verbs))]
			var args any
			if v == ledger.Amend {
				args = map[string]any{"berth": "E5"}
			}
			w.Settle(tk.Step, v, args)
		default:
			due, ev, ok := loop.Wake(w.P, w.S)
			if !ok {
				continue
			}
			if due.After(w.Now) {
				w.Now = due
			}
			w.Append(ev)
		}
	}
}

// one ends one deed that is in flight.
func one(t *rapid.T, w *coretest.World, step ledger.StepID, choose func(string, int) int) {
	c := w.S.Call(step)
	if c == nil {
		switch choose("turn", 8) {
		case 0:
			w.Append(loop.TurnFailed(w.P, w.S, step, deed.ModelFailure{Class: "server", Say: "500", Retry: choose("retry", 2) == 1}, time.Millisecond, w.Now, 0))
		case 1:
			w.ReplyTo(step, "done")
		default:
			var calls []string
			for range 1 + choose("calls", 3) {
				calls = append(calls, someCalls[choose("call", len(someCalls))])
			}
			w.ReplyTo(step, "", calls...)
		}
		return
	}
	switch choose("result", 6) {
	case 0:
		w.Fail(step, deed.Failure{Outcome: ledger.NotDone, Class: "refused", Say: "no", Retry: choose("retry", 2) == 1})
	case 1:
		w.Fail(step, deed.Failure{Outcome: ledger.Unknown, Class: "timeout", Say: "late", Retry: true})
	default:
		w.Return(step, map[string]any{"length_m": float64(30 + choose("length", 30))})
	}
}

func chance(t *rapid.T) func(string, int) int {
	return func(label string, n int) int { return rapid.IntRange(0, n-1).Draw(t, label) }
}

func TestAnyLedgerFoldedTwiceIsTheSameState(t *testing.T) {
	p := coretest.Project(t, coretest.Main)
	rapid.Check(t, func(t *rapid.T) {
		w := coretest.Open(p, "x")
		drive(t, w, chance(t))
		raw, err := json.Marshal(w.Events)
		require.NoError(t, err)
		var read []ledger.Event
		require.NoError(t, json.Unmarshal(raw, &read), "what is written can be read")
		once, err := run.Fold("w-1", w.Events)
		require.NoError(t, err)
		twice, err := run.Fold("w-1", read)
		require.NoError(t, err)
		same(t, once, twice)
		same(t, once, w.S)
	})
}

// same holds two states against each other, every field of them.
func same(t require.TestingT, a, b *run.State) {
	if !assert.ObjectsAreEqual(a, b) {
		assert.Fail(t, "the states differ") // they refer to themselves: they cannot be printed
	}
}

func TestAnyPrefixOfALedgerCanBeDrivenToAnEnd(t *testing.T) {
	p := coretest.Project(t, coretest.Main)
	rapid.Check(t, func(t *rapid.T) {
		w := coretest.Open(p, "x")
		drive(t, w, chance(t))
		cut := rapid.IntRange(1, len(w.Events)-1).Draw(t, "cut")
		s, err := run.Fold("w-1", w.Events[:cut])
		require.NoError(t, err)
		again := &coretest.World{P: p, S: s, Events: append([]ledger.Event{}, w.Events[:cut]...), Now: s.At()}
		if s.Closed() == nil {
			again.Append(ledger.New("", &ledger.RunRecovered{Lost: s.InFlight(), Why: "back"}))
		}
		drive(t, again, chance(t))
		assert.NotNil(t, again.S.Closed())
	})
}

func TestRebuiltIsSent(t *testing.T) {
	p := coretest.Project(t, coretest.Main)
	rapid.Check(t, func(t *rapid.T) {
		w := coretest.Open(p, "x")
		drive(t, w, chance(t))
		n := 0
		for i, e := range w.Events {
			sent, ok := e.Data.(*ledger.TurnSent)
			if !ok {
				continue
			}
			before, err := run.Fold("w-1", w.Events[:i])
			require.NoError(t, err)
			b, err := prompt.Build(p, before, before.Main(), sent.Model, e.At)
			require.NoError(t, err)
			assert.Equal(t, sent.System, b.SystemHash)
			assert.Equal(t, sent.Tools, b.ToolsHash)
			assert.Equal(t, append(before.Main().Sent()[sent.Skip:sent.Skip+sent.Kept], sent.Added...), b.Hashes)
			assert.Equal(t, w.Asked[n].System, b.System)
			n++
		}
		assert.Equal(t, len(w.Asked), n)
	})
}

func TestEveryCallEndsOnce(t *testing.T) {
	p := coretest.Project(t, coretest.Main)
	rapid.Check(t, func(t *rapid.T) {
		w := coretest.Open(p, "x")
		drive(t, w, chance(t))
		ends, decided := map[ledger.StepID]int{}, map[ledger.StepID]bool{}
		for _, e := range w.Events {
			switch d := e.Data.(type) {
			case *ledger.CallDecided:
				decided[e.Step] = true
			case *ledger.CallReturned, *ledger.CallRefused:
				ends[e.Step]++
			case *ledger.CallFailed:
				if d.Final {
					ends[e.Step]++
				}
			}
		}
		for step := range decided {
			assert.Equal(t, 1, ends[step], fmt.Sprintf("step %s", step))
		}
		assert.Equal(t, ledger.KindRunClosed, w.Events[len(w.Events)-1].Kind, "run.closed is always last")
	})
}
