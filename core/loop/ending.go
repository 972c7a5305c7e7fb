package loop

import (
	"fmt"
	"slices"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/run"
)

// ending withdraws what waits, refuses what has not begun, and closes the threads, the
// deepest first, then the run, once nothing is in flight.
func ending(s *run.State) []Action {
	why := "the run was stopped"
	if s.Stop() == nil {
		why = s.Limit().Why
	}
	threads := slices.Clone(s.Threads())
	slices.Reverse(threads) // what was opened by another comes after it
	var acts, closings []Action
	for _, t := range threads {
		mine := endingOf(t, why)
		acts = append(acts, mine...)
		if len(mine) == 0 && t.Parent() != nil && t.Under() == 0 && t.Quiet() {
			closings = append(closings, end(t, ledger.EndStopped, "", nil, why)...)
		}
	}
	switch {
	case len(acts) > 0:
		return acts
	case len(closings) > 0:
		return closings
	case len(threads) > 1 || !s.Main().Quiet():
		return nil
	}
	if s.Stop() == nil {
		prob := s.Limit().Problem
		return one(ledger.New("", &ledger.RunClosed{Status: ledger.Failed, Problem: &prob, Why: "a limit of the run is reached"}))
	}
	say := "stopped by " + s.Stop().By
	if s.Stop().Because != "" {
		say += ": " + s.Stop().Because
	}
	return one(ledger.New("", &ledger.RunClosed{Status: ledger.Stopped, Problem: &ledger.Problem{Class: "stopped", Say: say}, Why: why}))
}

// endingOf says what is recorded of a thread's newest turn as it ends.
func endingOf(t *run.Thread, why string) []Action {
	var acts []Action
	u := t.Turn()
	if u == nil {
		return nil
	}
	add := func(step ledger.StepID, d ledger.Data) { acts = append(acts, Record{ledger.New(step, d)}) }
	if u.Ticket.Open() {
		add(u.Step, &ledger.GateSettled{Verb: ledger.Withdrawn, Why: why})
	}
	for _, c := range u.Calls {
		if c.Ticket.Open() {
			add(c.Step, &ledger.GateSettled{Verb: ledger.Withdrawn, Why: why})
		}
		switch {
		case c.Progress.Over() || c.Progress == run.InFlight || c.Progress == run.Opened:
		case c.Progress == run.Left || c.Attempt > 0:
			outcome := ledger.Unknown
			words := "Not known whether it was done: " + why + "."
			if c.Progress == run.Left {
				outcome, words = ledger.NotDone, unanswered(c.Decided.To, why, c.Closed.Acted)
				if c.Closed.Acted {
					outcome = ledger.Partly
				}
			}
			add(c.Step, &ledger.CallFailed{Attempt: max(c.Attempt, 1), Outcome: outcome, Class: string(deed.Stopped), Say: why, Words: words, Final: true, Why: why})
		default:
			add(c.Step, &ledger.CallRefused{Words: "Not done: " + why + ".", Why: why})
		}
	}
	return acts
}

// GiveUp gives the ends of what a run that is ending still has in flight, when it is not
// waited for any longer.
func GiveUp(s *run.State, waited string) []ledger.Event {
	var out []ledger.Event
	why := fmt.Sprintf("it had not ended %s after the run was to end", waited)
	for _, step := range s.InFlight() {
		if c := s.Call(step); c != nil {
			out = append(out, ledger.New(step, &ledger.CallFailed{Attempt: c.Attempt, Outcome: ledger.Unknown, Class: string(deed.Stopped), Say: why, Words: "Not known whether it was done: the run was stopped.", Final: true, Why: why}))
			continue
		}
		out = append(out, ledger.New(step, &ledger.TurnFailed{Attempt: s.Turn(step).Attempt, Problem: ledger.Problem{Class: string(deed.Stopped), Say: why}, Why: why}))
	}
	return out
}
