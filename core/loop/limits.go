package loop

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
)

// where says on which thread something is, for a sentence; "" on the main thread.
func where(t *run.Thread) string {
	if t.Parent() == nil {
		return ""
	}
	return ", on the thread " + string(t.ID()) + " (" + strings.Join(chain(t), " → ") + ")"
}

// turnsOf is how many turns the run may have.
func turnsOf(p *project.Project, s *run.State) int {
	return cmp.Or(s.Opened().Turns, p.Limits.Turns) + int(s.More("turns"))
}

// limitsOf gives the limits of a run, with what people have given it beyond them.
func limitsOf(p *project.Project, s *run.State) project.Limits {
	l := p.Limits
	l.Calls += int(s.More("calls"))
	if l.Tokens > 0 {
		l.Tokens += int(s.More("tokens"))
	}
	if l.Cost > 0 {
		l.Cost += s.More("cost")
	}
	return l
}

const raise = "Look at the run to see why it went on; raise limits: in stonebaton.yaml if it was right to."

// turns counts turns in words.
func turns(n int) string {
	if n == 1 {
		return "one turn"
	}
	return fmt.Sprintf("%d turns", n)
}

// overLimit says which limit of the run forbids another turn on a thread.
func overLimit(p *project.Project, s *run.State, t *run.Thread) *ledger.LimitReached {
	l := limitsOf(p, s)
	limit := func(name, format string, args ...any) *ledger.LimitReached {
		return &ledger.LimitReached{Limit: name, Where: t.ID(), Why: t.Agent() + " would have gone on" + where(t),
			Problem: ledger.Problem{Class: "limit", Say: fmt.Sprintf(format, args...), Remedy: raise}}
	}
	tokens := s.Tokens().In + s.Tokens().Out
	times, pressed := t.Pressed()
	switch {
	case pressed && s.Calls() >= l.Calls && (l.More != nil || times > 1): // once it may answer with what it has
		return limit("calls", "the run has made its %d calls, and %s wants more (limit calls: %[1]d)", l.Calls, t.Agent())
	case s.Turns() >= turnsOf(p, s):
		return limit("turns", "the run has used its %s (limit turns: %d)%s", turns(s.Turns()), turnsOf(p, s), where(t))
	case l.Tokens > 0 && tokens >= l.Tokens:
		return limit("tokens", "the run has used %d tokens (limit tokens: %d)%s", tokens, l.Tokens, where(t))
	case l.Cost > 0 && s.Cost() >= l.Cost:
		return limit("cost", "the run has cost %g (limit cost: %g)%s", s.Cost(), l.Cost, where(t))
	}
	return nil
}

// overOwn says which limit of a thread, or of the agent on it, forbids another turn. It ends
// that thread alone.
func overOwn(p *project.Project, t *run.Thread) *ledger.Problem {
	limit := func(remedy, format string, args ...any) *ledger.Problem {
		return &ledger.Problem{Class: "limit", Say: fmt.Sprintf(format, args...) + where(t), Remedy: remedy}
	}
	if tool, times := t.Repeated(); times >= p.Limits.SameCall {
		return limit("Look at what the model reads of the result: it should say what to do instead.", "the model made the same call of %s in %d turns, with the same arguments, and got the same result (limit same_call: %d)", tool, times, p.Limits.SameCall)
	}
	if l, c := prompt.Planned(p, t), t.Planned(); l != nil && c != nil && c.Decided.Planned > l.Steps+1 {
		return limit("Raise steps: of the leg if it was right to go on, or let the agent's instructions say when the aim is reached.", "the plan of %s has taken its %d steps and would not end (steps: %d of the leg %s); it wanted %s next", t.Agent(), l.Steps, l.Steps, l.Name, c.Decided.To)
	}
	name := t.Agent()
	if a := p.Agents[name]; a != nil && a.Turns > 0 && t.TurnsOf(name) >= a.Turns {
		return limit("Look at the run; raise limits: of the agent if it was right to go on.", "%s has used its %d turns (limit turns: %d of the agent)", name, t.TurnsOf(name), a.Turns)
	}
	return nil
}

// reserve sets aside what a turn may use of the run's limits, and says whether so much is
// left. With the main thread alone nothing is: no turn goes beside it.
func reserve(p *project.Project, s *run.State, b prompt.Built, aside ledger.Reserve) (*ledger.Reserve, bool) {
	l := limitsOf(p, s)
	if len(s.Threads()) == 1 || (l.Tokens == 0 && l.Cost == 0) {
		return nil, true
	}
	in := b.Estimate()
	r := &ledger.Reserve{Tokens: in + b.MaxTokens}
	if m := p.Models[b.Model]; m != nil {
		r.Cost = m.Price.Of(ledger.Usage{In: in, Out: b.MaxTokens})
	}
	used, held := s.Tokens(), s.Reserved()
	held.Tokens, held.Cost = held.Tokens+aside.Tokens, held.Cost+aside.Cost
	fits := (l.Tokens == 0 || used.In+used.Out+held.Tokens+r.Tokens <= l.Tokens) && (l.Cost == 0 || s.Cost()+held.Cost+r.Cost <= l.Cost)
	return r, fits
}

func timeUp(p *project.Project, s *run.State) *ledger.LimitReached {
	return &ledger.LimitReached{Limit: "time", Why: "the run's time is used up", Problem: ledger.Problem{Class: "limit", Remedy: "Look at what took so long; raise limits: time in stonebaton.yaml if it was right to.",
		Say: fmt.Sprintf("the run has worked for %s (limit time: %s)", s.Worked(s.At()).Round(time.Millisecond), p.Limits.Time)}}
}

// Wake gives the next moment at which time alone makes something happen: a
// retry, a ticket's deadline, the time limit. At that moment the engine appends
// the event, and Next sees it.
func Wake(p *project.Project, s *run.State) (due time.Time, e ledger.Event, ok bool) {
	if s.Opened() == nil || s.Closed() != nil || s.Ending() || s.TimeUp() {
		return
	}
	at := func(step ledger.StepID, what ledger.Timer, t time.Time, why string) {
		if !ok || t.Before(due) {
			due, ok = t, true
			e = ledger.New(step, &ledger.TimerFired{What: what, Due: t, Why: why})
		}
	}
	const (
		retry     = "the wait before the next attempt is over"
		lapses    = "the ticket's time is over"
		escalates = "nobody has decided yet: more people may"
	)
	for _, t := range s.Threads() {
		if f := t.Frame(); f != nil && f.Visit != nil && !f.Visit.Late && !f.Visit.Held() {
			if r := p.Relays[f.Relay]; r != nil && r.Leg(f.Visit.Leg) != nil && r.Leg(f.Visit.Leg).Within > 0 {
				at(f.Visit.Step, ledger.ForLeg, f.Visit.Until(r.Leg(f.Visit.Leg).Within), "the leg's time is over")
			}
		}
		u := t.Turn()
		if !t.Waits() {
			continue
		}
		if tk := t.Pause(); tk.Open() && tk.Raised.Due != nil && !tk.Fired {
			at(tk.Step, ledger.ForTicket, *tk.Raised.Due, lapses)
		}
		if tk := t.Pause(); tk.Open() && tk.Raised.Escalate != nil && !tk.Escalated {
			at(tk.Step, ledger.ForMore, tk.Raised.Escalate.At, escalates)
		}
		if u == nil {
			continue
		}
		if u.Phase == run.Retrying && !u.Fired {
			at(u.Step, ledger.ForRetry, u.RetryAt, retry)
		}
		tickets := []*run.Ticket{u.Ticket}
		for _, c := range u.Calls {
			if c.Progress == run.Again && !c.Fired {
				at(c.Step, ledger.ForRetry, c.RetryAt, retry)
			}
			tickets = append(tickets, c.Ticket)
		}
		for _, tk := range tickets {
			if tk.Open() && tk.Raised.Due != nil && !tk.Fired {
				at(tk.Step, ledger.ForTicket, *tk.Raised.Due, lapses)
			}
			if tk.Open() && tk.Raised.Escalate != nil && !tk.Escalated {
				at(tk.Step, ledger.ForMore, tk.Raised.Escalate.At, escalates)
			}
		}
	}
	if p.Limits.Time > 0 && !s.Held() {
		at(ledger.LimitTimer, ledger.ForLimit, s.At().Add(p.Limits.Time-s.Worked(s.At())), "the run's time is used up")
	}
	return due, e, ok
}
