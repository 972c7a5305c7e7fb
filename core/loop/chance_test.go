package loop_test

import (
	"time"

	"pgregory.net/rapid"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/run"
)

// chance plays models, tools and people for a run, and kills and stops it.
type chance struct {
	words []string // what models say
	asks  []string // what models call
	stop  int      // a person stops the run one time in so many
	most  int      // rounds, within which every run must end
}

// drive goes on with a run until it is closed.
func (c chance) drive(t *rapid.T, w *coretest.World) {
	choose := drawn(t)
	for i := 0; w.S.Closed() == nil; i++ {
		if i > c.most {
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
		case choose("stop", c.stop) == 1 && w.S.Stop() == nil:
			w.Append(ledger.New("", &ledger.StopAsked{By: "ann"}))
		case len(flight) > 0:
			c.end(choose, w, flight[choose("which", len(flight))])
		case len(w.S.Tickets()) > 0 && choose("settle", 3) > 0:
			settle(choose, w, w.S.Tickets()[choose("ticket", len(w.S.Tickets()))])
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

// end ends a deed that is in flight.
func (c chance) end(choose choose, w *coretest.World, step ledger.StepID) {
	if w.S.Call(step) == nil {
		switch choose("turn", 10) {
		case 0:
			w.Append(loop.TurnFailed(w.P, w.S, step, deed.ModelFailure{Class: "server", Say: "500", Retry: choose("retry", 2) == 1}, time.Millisecond, w.Now, 0))
		case 1, 2, 3, 4:
			w.ReplyTo(step, c.words[choose("word", len(c.words))])
		default:
			var calls []string
			for range 1 + choose("calls", 3) {
				calls = append(calls, c.asks[choose("call", len(c.asks))])
			}
			w.ReplyTo(step, "", calls...)
		}
		return
	}
	switch choose("result", 8) {
	case 0:
		w.Fail(step, deed.Failure{Outcome: ledger.NotDone, Class: "refused", Say: "no", Retry: choose("retry", 2) == 1})
	case 1:
		w.Fail(step, deed.Failure{Outcome: ledger.Unknown, Class: "timeout", Say: "late", Retry: true})
	default:
		w.Return(step, map[string]any{"length_m": float64(30 + choose("length", 90)), "ok": true})
	}
}

// settle lets a person decide what waits for one.
func settle(choose choose, w *coretest.World, tk *run.Ticket) {
	verbs := tk.Raised.Verbs()
	x := loop.Settlement{Verb: verbs[choose("verb", len(verbs))], By: "master", As: "master", Because: "I say so", Spare: tk.Raised.Step && choose("spare", 4) == 0}
	switch x.Verb {
	case ledger.Amend:
		x.Args = map[string]any{"berth": "E5"}
		if tk.Raised.Form != ledger.GateTicket {
			x.Args = map[string]any{"text": "other words"}
		}
	case ledger.Answer:
		x.Result = "3"
	}
	if e, err := loop.Settle(w.P, w.S, tk.Step, x); err == nil && e != nil {
		w.Append(*e)
	}
}
