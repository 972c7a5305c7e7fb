package engine

import (
	"time"

	"stonebaton.example/core/ledger"
)

// Timer names what becomes due: a step, and what for.
type Timer struct {
	Step ledger.StepID
	What ledger.Timer
}

// Set tells which timer an event sets and which it ends. Whoever keeps timers keeps them in
// the same transaction as the event.
func Set(e ledger.Event, set func(t Timer, due time.Time), end func(t Timer)) {
	retry, ticket, more := Timer{e.Step, ledger.ForRetry}, Timer{e.Step, ledger.ForTicket}, Timer{e.Step, ledger.ForMore}
	switch d := e.Data.(type) {
	case *ledger.TurnFailed:
		if d.RetryAt != nil {
			set(retry, *d.RetryAt)
		}
	case *ledger.CallFailed:
		if d.RetryAt != nil {
			set(retry, *d.RetryAt)
		} else if d.Attempt > 1 {
			end(retry)
		}
	case *ledger.TurnSent:
		if d.Attempt > 1 {
			end(retry)
		}
	case *ledger.CallStarted:
		if d.Attempt > 1 {
			end(retry)
		}
	case *ledger.CallRefused:
		end(retry)
	case *ledger.GateRaised:
		if d.Due != nil {
			set(ticket, *d.Due)
		}
		if d.Escalate != nil {
			set(more, d.Escalate.At)
		}
	case *ledger.GateSettled:
		end(ticket)
		end(more)
	case *ledger.TimerFired:
		end(Timer{e.Step, d.What})
		if d.What == ledger.ForEither {
			end(retry)
			end(ticket)
		}
	}
}
