package loop

import (
	"fmt"
	"slices"
	"time"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
)

// ending withdraws what waits, refuses what has not begun, and closes the threads, the
// deepest first, then the run, once nothing is in flight.
func ending(p *project.Project, s *run.State, at time.Time) []Action {
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
		answer, acts := lastWord(p, s, at)
		if acts != nil {
			return acts
		}
		prob := s.Limit().Problem
		return one(ledger.New("", &ledger.RunClosed{Status: ledger.Failed, Answer: answer, Problem: &prob, Why: "a limit of the run is reached"}))
	}
	say := "stopped by " + s.Stop().By
	if s.Stop().Because != "" {
		say += ": " + s.Stop().Because
	}
	return one(ledger.New("", &ledger.RunClosed{Status: ledger.Stopped, Problem: &ledger.Problem{Class: "stopped", Say: say}, Why: why}))
}

// lastWord asks the agent that holds the baton for one more turn without tools that sums up,
// where a limit ends the run and the project wants it; answer is what it said.
func lastWord(p *project.Project, s *run.State, at time.Time) (answer string, acts []Action) {
	t, u := s.Main(), s.Main().Turn()
	if !p.Limits.LastWord || !t.Speaks() || u == nil || u.N == 0 {
		return "", nil
	}
	n, attempt, model := t.Turns()+1, 1, u.Model
	if u.Last() {
		if u.Phase == run.Received {
			return u.Reply.Text, nil
		}
		if u.Phase != run.TurnLost || s.Lost(u.Step) >= maxLost {
			return "", nil // it failed
		}
		n, attempt = u.N, u.Attempt+1
	}
	b, err := prompt.Build(p, s, t, model, at)
	if err != nil {
		return "", nil // the limit is what is told
	}
	step := t.ID().Turn(n)
	b.Step = step
	skip, kept, added := prompt.Delta(t.Sent(), b.Hashes)
	return "", []Action{AskModel{Built: b, Event: ledger.New(step, &ledger.TurnSent{Agent: t.Agent(), Model: model, N: n, Attempt: attempt,
		System: b.SystemHash, Tools: b.ToolsHash, Skip: skip, Kept: kept, Added: added, Temp: b.Temperature, Why: "a limit is reached: it sums up, without tools"})}}
}

// endingOf says what is recorded of a thread's newest turn as it ends.
func endingOf(t *run.Thread, why string) []Action {
	var acts []Action
	u := t.Turn()
	add := func(step ledger.StepID, d ledger.Data) { acts = append(acts, Record{ledger.New(step, d)}) }
	if tk := t.Pause(); tk.Open() {
		add(tk.Step, &ledger.GateSettled{Verb: ledger.Withdrawn, Why: why})
	}
	if u == nil {
		return acts
	}
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
