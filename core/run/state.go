package run

import (
	"maps"
	"slices"
	"time"

	"stonebaton.example/core/ledger"
)

// State is what the events of a run add up to. Only Apply changes it. What its methods give
// must not be changed; maps and lists that they give are never changed in place, so they
// stay what they were.
type State struct {
	run      string
	seq      int64
	at       time.Time
	openedAt time.Time
	closedAt time.Time // zero while it is open
	opened   *ledger.RunOpened
	closed   *ledger.RunClosed
	stop     *ledger.StopAsked
	limit    *ledger.LimitReached
	more     map[string]float64 // that people have given the run beyond a limit, by its name
	timeUp   bool               // the timer of the time limit has fired
	epoch    int64

	main    *Thread
	root    *Result   // how the relay that the run began with has ended; nil before
	threads []*Thread // open, in order of opening; main is the first
	byID    map[ledger.StepID]*Thread
	turns   map[ledger.StepID]*Turn // the newest of each thread
	calls   map[ledger.StepID]*Call // of these turns

	turnsSent int
	made      int // calls decided, handoffs and those beyond the limit not counted, other refusals counted
	tokens    ledger.Usage
	cost      float64
	reserved  ledger.Reserve
	asking    int // turns in flight
	passes    int // handoffs, over all threads
	legs      int // visits of legs, over all relays
	lost      map[ledger.StepID]int
	settled   map[ledger.StepID]*ledger.GateSettled
	agreed    map[string]ledger.Agreed // in the session, by tool
	freed     bool                     // a person has said that nobody looks at every step any more

	heldSince time.Time
	heldFor   time.Duration
}

// New gives the state of a run with no events.
func New(id string) *State {
	s := &State{run: id, byID: map[ledger.StepID]*Thread{}, turns: map[ledger.StepID]*Turn{}, calls: map[ledger.StepID]*Call{},
		lost: map[ledger.StepID]int{}, settled: map[ledger.StepID]*ledger.GateSettled{}}
	s.main = &Thread{facts: map[string]any{}, same: map[ledger.Hash]again{}, handles: map[string]bool{}, lines: map[string]*line{}}
	s.threads, s.byID[""] = []*Thread{s.main}, s.main
	return s
}

// Run is the id of the run.
func (s *State) Run() string { return s.run }

// Seq is the number of the newest event, and At its date.
func (s *State) Seq() int64 { return s.seq }

// At is the date of the newest event.
func (s *State) At() time.Time { return s.at }

// Opened is how the run began; nil before it did.
func (s *State) Opened() *ledger.RunOpened { return s.opened }

// OpenedAt is when the run began.
func (s *State) OpenedAt() time.Time { return s.openedAt }

// Closed is how the run ended; nil while it is open.
func (s *State) Closed() *ledger.RunClosed { return s.closed }

// ClosedAt is when the run ended; zero while it is open.
func (s *State) ClosedAt() time.Time { return s.closedAt }

// Stop is the wish to end the run; nil where there is none.
func (s *State) Stop() *ledger.StopAsked { return s.stop }

// Limit is the limit of the run that is reached; nil where none is.
func (s *State) Limit() *ledger.LimitReached { return s.limit }

// Ending says whether all that the run does is ended.
func (s *State) Ending() bool { return s.closed == nil && (s.stop != nil || s.limit != nil) }

// Ended says whether a limit has ended the run, so that at most a summing-up is left of it.
func (s *State) Ended() bool { return s.closed == nil && s.limit != nil && s.stop == nil }

// Summing says whether the run, which a limit has ended, has begun to sum up.
func (s *State) Summing() bool { return s.closed == nil && s.main.turn != nil && s.main.turn.last }

// AsksForMore says whether people are being asked for more than a limit.
func (s *State) AsksForMore() bool {
	for _, t := range s.threads {
		if t.pause.Open() && t.pause.Raised.Form == ledger.LimitTicket {
			return true
		}
	}
	return false
}

// More is how much people have given the run beyond a limit.
func (s *State) More(limit string) float64 { return s.more[limit] }

// TimeUp says whether the timer of the run's time limit has fired.
func (s *State) TimeUp() bool { return s.timeUp }

// Epoch is that of the newest driver that recovered the run.
func (s *State) Epoch() int64 { return s.epoch }

// Main is the main thread.
func (s *State) Main() *Thread { return s.main }

// Threads lists the open threads in order of opening; the main thread is the first.
func (s *State) Threads() []*Thread { return s.threads[:len(s.threads):len(s.threads)] }

// Thread finds an open thread; nil where it is not open.
func (s *State) Thread(id ledger.StepID) *Thread { return s.byID[id] }

// Turn finds the newest turn of an open thread by its step.
func (s *State) Turn(step ledger.StepID) *Turn { return s.turns[step] }

// Call finds a call of the newest turn of an open thread by its step.
func (s *State) Call(step ledger.StepID) *Call { return s.calls[step] }

// Turns counts the turns of the run over all threads.
func (s *State) Turns() int { return s.turnsSent }

// Calls counts the calls that were decided over all threads: refusals are counted, handoffs
// and what was refused since the calls are used up are not.
func (s *State) Calls() int { return s.made }

// Tokens counts what models read and wrote.
func (s *State) Tokens() ledger.Usage { return s.tokens }

// Cost is what turns have cost.
func (s *State) Cost() float64 { return s.cost }

// Reserved is what turns in flight may still use.
func (s *State) Reserved() ledger.Reserve { return s.reserved }

// Asking counts the turns in flight.
func (s *State) Asking() int { return s.asking }

// Passes counts the handoffs over all threads.
func (s *State) Passes() int { return s.passes }

// Legs counts the visits of legs over all relays.
func (s *State) Legs() int { return s.legs }

// Agent holds the baton on the main thread; the relay, where the run goes through one.
func (s *State) Agent() string { return s.main.agent }

// Root is how the relay that the run began with has ended; nil before it has.
func (s *State) Root() *Result { return s.root }

// Facts is the state that the session will have of the run: that of the main thread.
func (s *State) Facts() map[string]any { return s.main.facts }

// Lost says how often a step was lost to a restart.
func (s *State) Lost(step ledger.StepID) int { return s.lost[step] }

// Settlement gives the newest settlement of a step's ticket; nil where there is none.
func (s *State) Settlement(step ledger.StepID) *ledger.GateSettled { return s.settled[step] }

// Status gives how the run stands.
func (s *State) Status() ledger.Status {
	switch {
	case s.closed != nil:
		return s.closed.Status
	case s.Held():
		return ledger.Held
	}
	return ledger.Going
}

// Held says whether the run waits for people alone: a ticket is open on some thread, nothing
// is in flight, no attempt is due, and nothing can be done.
func (s *State) Held() bool {
	n := s.main.sum
	return s.closed == nil && n.tickets > 0 && n.flight == 0 && n.timers == 0 && !s.Able()
}

// Able says whether something may have to happen now. Where it is false, loop.Next is empty.
func (s *State) Able() bool {
	return s.closed == nil && (s.main.sum.able > 0 || s.timeUp || s.Ending())
}

// Agreed gives how often people have agreed in the session to calls of a tool whose gate
// counts it.
func (s *State) Agreed(tool string) ledger.Agreed { return s.agreed[tool] }

// Steps says whether a person looks at every step of a place, as the run was begun, or as who
// acts on the thread says.
func (s *State) Steps(at ledger.Place, own []ledger.Place) bool {
	return !s.freed && (slices.Contains(s.opened.PersonAt, at) || slices.Contains(own, at))
}

// Tickets lists the open tickets in order of their threads and calls.
func (s *State) Tickets() []*Ticket {
	var out []*Ticket
	if s.closed != nil {
		return out
	}
	for _, t := range s.threads {
		if t.own.tickets == 0 {
			continue
		}
		if t.pause.Open() {
			out = append(out, t.pause)
		}
		if t.turn == nil {
			continue
		}
		if t.turn.Ticket.Open() {
			out = append(out, t.turn.Ticket)
		}
		for _, c := range t.turn.Calls {
			if c.Ticket.Open() {
				out = append(out, c.Ticket)
			}
		}
	}
	return out
}

// InFlight lists the steps whose intent is recorded and whose end is not.
func (s *State) InFlight() []ledger.StepID {
	var out []ledger.StepID
	if s.closed != nil {
		return out
	}
	for _, t := range s.threads {
		if t.own.flight == 0 {
			continue
		}
		if t.turn.Phase == Sent {
			out = append(out, t.turn.Step)
		}
		for _, c := range t.turn.Calls {
			if c.Progress == InFlight {
				out = append(out, c.Step)
			}
		}
	}
	return out
}

// Flying says whether a step is in flight.
func (s *State) Flying(step ledger.StepID) bool {
	if s.closed != nil {
		return false
	}
	if t := s.turns[step]; t != nil {
		return t.Phase == Sent
	}
	c := s.calls[step]
	return c != nil && c.Progress == InFlight
}

// Ticket finds the newest ticket of a step.
func (s *State) Ticket(step ledger.StepID) *Ticket {
	if t := s.byID[step.Parent()]; t != nil && t.pause.Open() && t.pause.Step == step {
		return t.pause
	}
	if t := s.turns[step]; t != nil {
		return t.Ticket
	}
	if c := s.calls[step]; c != nil {
		return c.Ticket
	}
	return nil
}

// Worked gives how long the run has worked until a moment: the time since it
// was opened without the time it was held. A closed run does not work any more.
func (s *State) Worked(until time.Time) time.Duration {
	if s.closed != nil {
		until = s.closedAt
	}
	d := until.Sub(s.openedAt) - s.heldFor
	if !s.heldSince.IsZero() {
		d -= until.Sub(s.heldSince)
	}
	return d
}

// Memory gives the messages that the session keeps of the run: all of the main thread up to
// the last one with no dangling call.
func (s *State) Memory() []ledger.Message { return rounded(s.main.messages) }

// rounded gives messages up to the last one with no dangling call.
func rounded(m []ledger.Message) []ledger.Message {
	for i := len(m) - 1; i >= 0; i-- {
		if m[i].Role != ledger.Assistant || len(m[i].Calls) == 0 {
			continue
		}
		answered := map[string]bool{}
		for _, r := range m[i+1:] {
			if r.Role == ledger.FromTool {
				answered[r.Call] = true
			}
		}
		for _, c := range m[i].Calls {
			if !answered[c.ID] {
				return m[:i:i]
			}
		}
		break
	}
	return m[:len(m):len(m)]
}

// Handles lists the results of the main thread that can be named in arguments.
func (s *State) Handles() map[string]bool { return maps.Clone(s.main.handles) }
