package loop

import (
	"fmt"
	"time"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
)

// Bounds of the loop that no file sets.
const (
	readsAtOnce = 8 // reads of one turn that run side by side
	maxLost     = 3 // times a step may be lost before a person is asked
)

// Action is one thing that has to happen: Record, Ask, Look or Call.
type Action interface{ action() }

// Record is an event to append; nothing else follows from it but what Next says then.
type Record struct{ Event ledger.Event }

// Ask is a turn: append Event, its intent, then send Request.
type Ask struct {
	Event ledger.Event
	Built prompt.Built
}

// Look is a look at what a call would do, without any consequence, before a person is
// asked: take it, and append what Looked gives.
type Look struct {
	Tool *project.Tool
	Call *run.Call
}

// Call is a tool call: append Event, its intent, then carry it out.
type Call struct {
	Event   ledger.Event
	Tool    *project.Tool
	Call    *run.Call
	Started *ledger.CallStarted
}

func (Record) action() {}
func (Ask) action()    {}
func (Look) action()   {}
func (Call) action()   {}

// Next gives what has to happen now and has not begun. It is empty when the
// run waits: for a deed in flight, for a person, for time, or for ever.
func Next(p *project.Project, s *run.State, now time.Time) []Action {
	if s.Opened == nil || s.Closed != nil {
		return nil
	}
	if s.Stop != nil || s.TimeUp {
		return ending(p, s)
	}
	t := s.Turn
	if t == nil {
		return ask(p, s, now, "a message came in")
	}
	switch t.Phase {
	case run.Sent, run.AskPeople:
		return nil
	case run.Retrying:
		if t.Fired {
			return again(p, s, now, fmt.Sprintf("attempt %d failed, and the wait after it is over", t.Attempt))
		}
		return nil
	case run.TurnLost:
		if s.Lost[t.Step] >= maxLost {
			return one(lostTicket(s, t.Step, "", nil))
		}
		return again(p, s, now, "the service came back; what this turn would have answered was lost")
	case run.TurnOver:
		prob := ledger.Problem{Class: "given_up", Say: "a person gave this turn up"}
		if t.Problem != nil {
			prob = *t.Problem
		}
		return fail(prob, "the turn brought no reply")
	case run.Received:
	default:
		panic(fmt.Sprintf("loop: a turn has no phase %d", t.Phase))
	}
	if len(t.Reply.Calls) == 0 {
		return answer(s, t)
	}
	if !t.Decided() {
		return decide(p, s)
	}
	if acts := carry(p, s); len(acts) > 0 {
		return acts
	}
	if !t.Over() {
		return nil
	}
	if s.Opened.Call != nil {
		return called(t.Calls[0])
	}
	if c := t.Calls[0]; len(t.Calls) == 1 && c.Progress == run.Returned && p.Tools[c.Decided.Tool] != nil && p.Tools[c.Decided.Tool].Direct {
		return closed(ledger.RunClosed{Status: ledger.Done, Answer: c.Words, Why: c.Decided.Tool + " is direct: its result is the answer"})
	}
	if prob := overLimit(p, s); prob != nil {
		return fail(*prob, "a limit of the run is reached")
	}
	why := fmt.Sprintf("all calls of turn %d have ended", t.N)
	if len(t.Calls) == 1 {
		why = fmt.Sprintf("the call of turn %d has ended", t.N)
	}
	if s.Agent != t.Agent {
		why = s.Agent + " holds the baton"
	}
	return ask(p, s, now, why)
}

func one(e ledger.Event) []Action { return []Action{Record{e}} }

func closed(d ledger.RunClosed) []Action { return one(ledger.New("", &d)) }

func fail(prob ledger.Problem, why string) []Action {
	return closed(ledger.RunClosed{Status: ledger.Failed, Problem: &prob, Why: why})
}

// called closes a run that was one call from outside.
func called(c *run.Call) []Action {
	if c.Progress == run.Returned {
		return closed(ledger.RunClosed{Status: ledger.Done, Answer: c.Words, Why: "the call has returned"})
	}
	class := "refused"
	if c.Failure != nil {
		class = c.Failure.Class
	}
	return closed(ledger.RunClosed{Status: ledger.Failed, Problem: &ledger.Problem{Class: "call." + class, Say: c.Words}, Why: "the call did not return"})
}

func answer(s *run.State, t *run.Turn) []Action {
	if t.Reply.Finish == "length" {
		return closed(ledger.RunClosed{Status: ledger.Failed, Answer: t.Reply.Text, Why: "the reply was cut",
			Problem: &ledger.Problem{Class: "model.length", Say: fmt.Sprintf("the model %q stopped at its length limit, so the reply is cut off", t.Model), Remedy: "Raise max_tokens of the model, or ask for less."}})
	}
	return closed(ledger.RunClosed{Status: ledger.Done, Answer: t.Reply.Text, Why: "no calls left: this is the answer"})
}

// stepOfTurn names the n-th turn. Steps are structural: parent, then ordinal.
func stepOfTurn(n int) string { return fmt.Sprintf("t%d", n) }

func stepOfCall(turn string, n int) string { return fmt.Sprintf("%s.c%d", turn, n) }

// ask begins the next turn of the agent that holds the baton.
func ask(p *project.Project, s *run.State, now time.Time, why string) []Action {
	if prob := overLimit(p, s); prob != nil {
		return fail(*prob, "a limit of the run is reached")
	}
	model := s.Opened.Model
	if model == "" {
		if a := p.Agents[s.Agent]; a != nil {
			model = a.Model
		}
	}
	return send(p, s, now, stepOfTurn(s.Turns+1), s.Turns+1, model, 1, why)
}

// again sends the newest turn once more.
func again(p *project.Project, s *run.State, now time.Time, why string) []Action {
	t := s.Turn
	return send(p, s, now, t.Step, t.N, t.Model, t.Attempt+1, why)
}

func send(p *project.Project, s *run.State, now time.Time, step string, n int, model string, attempt int, why string) []Action {
	b, err := prompt.Build(p, s, model, now)
	if err != nil {
		return fail(ledger.Problem{Class: "prompt", Say: err.Error(), Remedy: "Fix the project's file and ask again."}, "the request could not be made")
	}
	b.Step = step
	kept, added := prompt.Delta(s.LastSent, b.Hashes)
	return []Action{Ask{Built: b, Event: ledger.New(step, &ledger.TurnSent{Agent: s.Agent, Model: model, N: n, Attempt: attempt,
		System: b.SystemHash, Tools: b.ToolsHash, Kept: kept, Added: added, Temp: b.Temperature, Why: why})}}
}

// overLimit says which limit forbids another turn.
func overLimit(p *project.Project, s *run.State) *ledger.Problem {
	l := p.Limits
	limit := func(remedy, format string, args ...any) *ledger.Problem {
		return &ledger.Problem{Class: "limit", Say: fmt.Sprintf(format, args...), Remedy: remedy}
	}
	const raise = "Look at the run to see why it went on; raise limits: in stonebaton.yaml if it was right to."
	switch {
	case s.SameMost >= l.SameCall:
		return limit("Look at what the model reads of the result: it should say what to do instead.", "the model made the same call of %s %d times with the same arguments and got the same result (limit same_call: %d)", s.SameTool, s.SameMost, l.SameCall)
	case s.Turns >= l.Turns:
		return limit(raise, "the run has used its %d turns (limit turns: %d)", s.Turns, l.Turns)
	case s.Calls > l.Calls:
		return limit(raise, "the run has made %d calls (limit calls: %d)", s.Calls, l.Calls)
	case l.Tokens > 0 && s.Tokens.In+s.Tokens.Out >= l.Tokens:
		return limit(raise, "the run has used %d tokens (limit tokens: %d)", s.Tokens.In+s.Tokens.Out, l.Tokens)
	case l.Cost > 0 && s.Cost >= l.Cost:
		return limit(raise, "the run has cost %g (limit cost: %g)", s.Cost, l.Cost)
	}
	if a := p.Agents[s.Agent]; a != nil && a.Turns > 0 && s.AgentTurns[s.Agent] >= a.Turns {
		return limit("Look at the run; raise limits: of the agent if it was right to go on.", "%s has used its %d turns (limit turns: %d of the agent)", s.Agent, s.AgentTurns[s.Agent], a.Turns)
	}
	return nil
}

// ending withdraws what waits, refuses what has not begun, and closes the run
// once nothing is in flight.
func ending(p *project.Project, s *run.State) []Action {
	why := "the run was stopped"
	if s.TimeUp {
		why = "the run's time is used up"
	}
	var acts []Action
	if t := s.Turn; t != nil {
		for _, tk := range s.Tickets() {
			acts = append(acts, Record{ledger.New(tk.Step, &ledger.GateSettled{Verb: ledger.Withdrawn, Why: why})})
		}
		for _, c := range t.Calls {
			if c.Progress.Over() || c.Progress == run.InFlight {
				continue
			}
			if c.Attempt > 0 {
				acts = append(acts, Record{ledger.New(c.Step, &ledger.CallFailed{Attempt: c.Attempt, Outcome: ledger.Unknown, Class: "stopped", Say: why, Words: "Not known whether it was done: " + why + ".", Final: true, Why: why})})
			} else {
				acts = append(acts, Record{ledger.New(c.Step, &ledger.CallRefused{Words: "Not done: " + why + ".", Why: why})})
			}
		}
	}
	if len(acts) > 0 || len(s.InFlight()) > 0 {
		return acts
	}
	if s.Stop == nil {
		return fail(ledger.Problem{Class: "limit", Say: fmt.Sprintf("the run has worked for %s (limit time: %s)", s.Worked(s.At).Round(time.Millisecond), p.Limits.Time), Remedy: "Look at what took so long; raise limits: time in stonebaton.yaml if it was right to."}, why)
	}
	say := "stopped by " + s.Stop.By
	if s.Stop.Because != "" {
		say += ": " + s.Stop.Because
	}
	return closed(ledger.RunClosed{Status: ledger.Stopped, Problem: &ledger.Problem{Class: "stopped", Say: say}, Why: why})
}

// Wake gives the next moment at which time alone makes something happen: a
// retry, a ticket's deadline, the time limit. At that moment the engine appends
// the event, and Next sees it.
func Wake(p *project.Project, s *run.State) (due time.Time, e ledger.Event, ok bool) {
	if s.Opened == nil || s.Closed != nil || s.Stop != nil || s.TimeUp {
		return
	}
	at := func(step string, t time.Time, why string) {
		if !ok || t.Before(due) {
			due, ok = t, true
			e = ledger.New(step, &ledger.TimerFired{Due: t, Why: why})
		}
	}
	if t := s.Turn; t != nil {
		if t.Phase == run.Retrying && !t.Fired {
			at(t.Step, t.RetryAt, "the wait before the next attempt is over")
		}
		for _, c := range t.Calls {
			if c.Progress == run.Again && !c.Fired {
				at(c.Step, c.RetryAt, "the wait before the next attempt is over")
			}
			if c.Ticket.Open() && c.Ticket.Raised.Due != nil && !c.Ticket.Fired {
				at(c.Step, *c.Ticket.Raised.Due, "the ticket's time is over")
			}
		}
	}
	if p.Limits.Time > 0 && !s.Held() {
		at(run.LimitTimer, s.At.Add(p.Limits.Time-s.Worked(s.At)), "the run's time is used up")
	}
	return due, e, ok
}
