package loop_test

import (
	"encoding/json"
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

// courses are relays of coretest.Letters, each with an input.
var courses = [][2]string{
	{"card", `{"name":"a","berth":"C4"}`}, {"letter", `{"name":"a"}`}, {"round", `{"vessels":["a","b","c"]}`}, {"judged", `{"text":"x"}`}, {"line", `{"text":"x"}`}, {"talk", `{"text":"x"}`},
	{"trip", `{"text":"x"}`}, {"asked", `{"text":"x"}`}, {"better", `{"text":"x"}`}, {"tried", `{"text":"x"}`}, {"hooks", `{"text":"x"}`}, {"slow", `{}`},
}

var (
	someWords = []string{"fine", "agreed", `"short"`, `{"fine":true}`, `{"fine":"no"}`, `{"good":true,"remarks":""}`, `{"good":false,"remarks":"no","score":3}`, "", "a long answer"}
	someAsks  = []string{`look {"name":"a"}`, "look {}", `reserve {"berth":"C4"}`, `card {"name":"a"}`, `letter {"name":"b"}`, `next_step {"who":"reader","ask":"read"}`, `next_step {"who":"look","with":{"name":"a"}}`, `next_step {"who":"reserve","with":{"berth":"C4"}}`, `next_step {"who":"card","with":{"name":"a","berth":"D2"}}`, `next_step {"who":"me"}`, "pass_to_judge", "nothing {}", "look {"}
)

// course plays chance for a run through a relay until it is closed.
func course(t *rapid.T, w *coretest.World) {
	choose := func(label string, n int) int { return rapid.IntRange(0, n-1).Draw(t, label) }
	for i := 0; w.S.Closed() == nil; i++ {
		if i > 800 {
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
		case choose("stop", 120) == 1 && w.S.Stop() == nil:
			w.Append(ledger.New("", &ledger.StopAsked{By: "ann"}))
		case len(flight) > 0:
			step := flight[choose("which", len(flight))]
			switch {
			case w.S.Call(step) != nil && choose("result", 5) == 0:
				w.Fail(step, deed.Failure{Outcome: ledger.NotDone, Class: "refused", Say: "no"})
			case w.S.Call(step) != nil:
				w.Return(step, map[string]any{"length_m": float64(30 + choose("length", 90)), "ok": true})
			case choose("turn", 10) == 0:
				w.Append(loop.TurnFailed(w.P, w.S, step, deed.ModelFailure{Class: "server", Say: "500"}, time.Millisecond, w.Now, 0))
			case choose("words", 2) == 0:
				w.ReplyTo(step, someWords[choose("word", len(someWords))])
			default:
				var calls []string
				for range 1 + choose("calls", 2) {
					calls = append(calls, someAsks[choose("call", len(someAsks))])
				}
				w.ReplyTo(step, "", calls...)
			}
		case len(w.S.Tickets()) > 0 && choose("settle", 3) > 0:
			tk := w.S.Tickets()[choose("ticket", len(w.S.Tickets()))]
			verbs := tk.Raised.Form.Verbs()
			x := loop.Settlement{Verb: verbs[choose("verb", len(verbs))], By: "master", As: "master", Because: "I say so", Result: "3"}
			if x.Verb == ledger.Amend {
				x.Args = map[string]any{"berth": "D5"}
			}
			if x.Verb == ledger.Happened {
				x.Result = nil
			}
			if e, err := loop.Settle(w.P, w.S, tk.Step, x); err == nil && e != nil {
				w.Append(*e)
			}
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

// Whatever models, tools and people do, a run through a relay ends; its ledger folds the same
// when it is read back; every call and every thread ends once; what was sent can be built
// again; and from any place on it can be driven to an end.
func TestWhateverHappensARelayEndsAndIsRetoldTheSame(t *testing.T) {
	p := coretest.Project(t, coretest.Letters)
	rapid.Check(t, func(t *rapid.T) {
		c := rapid.SampledFrom(courses).Draw(t, "course")
		w := coretest.Begin(p, ledger.RunOpened{Relay: c[0], Input: json.RawMessage(c[1]), Text: c[0]})
		course(t, w)
		raw, err := json.Marshal(w.Events)
		require.NoError(t, err)
		var read []ledger.Event
		require.NoError(t, json.Unmarshal(raw, &read))
		again, err := run.Fold("w-1", read)
		require.NoError(t, err)
		require.NotNil(t, again.Closed())
		assert.Equal(t, w.S.Closed(), again.Closed())
		assert.Equal(t, w.S.Facts(), again.Facts())
		assert.Equal(t, w.S.Kept(), again.Kept())
		ends, open := map[ledger.StepID]int{}, map[ledger.StepID]bool{}
		n := 0
		s := run.New("w-1")
		for _, e := range w.Events {
			switch d := e.Data.(type) {
			case *ledger.CallDecided:
				open[e.Step] = true
			case *ledger.CallReturned, *ledger.CallRefused:
				ends[e.Step]++
			case *ledger.CallFailed:
				if d.Final {
					ends[e.Step]++
				}
			case *ledger.TurnSent:
				b, err := prompt.Build(p, s, s.Thread(e.Step.Parent()), d.Model, e.At)
				require.NoError(t, err)
				assert.Equal(t, d.System, b.SystemHash)
				assert.Equal(t, d.Tools, b.ToolsHash)
				assert.Equal(t, w.Asked[n].Hashes, b.Hashes, "what was sent can be built again")
				n++
			}
			require.NoError(t, s.Apply(e))
		}
		for step := range open {
			assert.Equal(t, 1, ends[step], step)
		}
		assert.Len(t, s.Threads(), 1, "every thread is closed")

		cut := rapid.IntRange(1, len(w.Events)-1).Draw(t, "cut")
		part, err := run.Fold("w-1", w.Events[:cut])
		require.NoError(t, err)
		other := &coretest.World{P: p, S: part, Events: append([]ledger.Event{}, w.Events[:cut]...), Now: part.At()}
		if part.Closed() == nil {
			other.Append(ledger.New("", &ledger.RunRecovered{Lost: part.InFlight(), Why: "back"}))
		}
		course(t, other)
		assert.NotNil(t, other.S.Closed())
	})
}
