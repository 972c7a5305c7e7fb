package run

import (
	"encoding/json"
	"time"

	"stonebaton.example/core/ledger"
)

// State is what the events of a run add up to. Only Apply changes it. Facts is
// never changed in place, so a copy of the map's reference stays what it was.
type State struct {
	Run      string
	Seq      int64
	At       time.Time
	OpenedAt time.Time
	ClosedAt time.Time // zero while it is open
	Opened   *ledger.RunOpened
	Closed   *ledger.RunClosed
	Stop     *ledger.StopAsked
	Agent    string // holds the baton

	Messages []ledger.Message // the thread, memory first
	Hashes   []ledger.Hash    // of the messages, one each
	LastSent []ledger.Hash    // the messages of the last turn that was sent
	Facts    map[string]any   // the session's state

	Turn  *Turn // the newest turn; nil before the first
	Turns int
	Calls int // decided, handoffs not counted, refusals counted

	AgentTurns map[string]int
	Tokens     ledger.Usage
	Cost       float64
	Passes     int             // in all
	PassesRow  int             // with no other call between them
	Handles    map[string]bool // of results that can be named in arguments
	Same       map[ledger.Hash]int
	SameTool   string // the call that was repeated most
	SameMost   int
	Lost       map[string]int                 // how often a step was lost to a restart
	Settled    map[string]*ledger.GateSettled // the newest settlement of each step's ticket
	TimeUp     bool                           // the time limit's timer has fired

	heldSince time.Time
	heldFor   time.Duration
	notes     []string // for the next turn, not yet in the thread
}

// Phase is how far a turn has come.
type Phase int

// The phases of a turn.
const (
	Sent      Phase = iota // in flight
	Retrying               // failed, to be sent again at RetryAt
	TurnLost               // in flight when the service ended
	TurnOver               // failed for good
	Received               // a reply is here; its calls may be open
	AskPeople              // lost too often; a ticket asks
)

// Turn is one request to a model and its reply.
type Turn struct {
	Step     string
	N        int
	Agent    string
	Model    string // asked now, or next
	Attempt  int
	Tries    int // of the model asked now
	Phase    Phase
	SentAt   time.Time
	RetryAt  time.Time
	Fired    bool // the timer of RetryAt has fired
	Problem  *ledger.Problem
	Reply    *ledger.TurnReceived
	At       time.Time      // of the reply
	Facts    map[string]any // at the reply
	Calls    []*Call        // in the order the model made them
	complete bool
	asked    string // the model of the newest attempt
	Ticket   *Ticket
}

// Progress is how far a call has come.
type Progress int

// The progress of a call. The last three are ends.
const (
	Decided  Progress = iota
	Waiting           // an open ticket
	Allowed           // its ticket was settled: it may start
	InFlight          // started
	Again             // failed, to be started again at RetryAt
	CallLost          // in flight when the service ended
	Unsure            // nobody knows whether it happened
	Settled           // a person said what became of it; to be recorded
	Returned
	CallFailed
	CallRefused
)

// Over says whether the call has ended.
func (p Progress) Over() bool { return p >= Returned }

// Call is one call of a turn.
type Call struct {
	Step     string
	Decided  *ledger.CallDecided
	Args     json.RawMessage // as they will be sent: amended, perhaps
	Progress Progress
	Attempt  int
	At       time.Time // of the newest event about it
	RetryAt  time.Time
	Fired    bool
	Words    string
	Failure  *ledger.CallFailed
	Looked   *ledger.CallLooked // what was seen before a person is asked; nil: nothing was looked at
	Ticket   *Ticket
	Verdict  *ledger.GateSettled // of the gate, not of an outcome ticket
}

// Ticket is a wait for a person.
type Ticket struct {
	Step    string
	Raised  *ledger.GateRaised
	At      time.Time
	Settled *ledger.GateSettled
	Fired   bool // its deadline has passed
}

// Open says whether the ticket still waits.
func (t *Ticket) Open() bool { return t != nil && t.Settled == nil }

// Status gives how the run stands.
func (s *State) Status() ledger.Status {
	switch {
	case s.Closed != nil:
		return s.Closed.Status
	case s.Held():
		return ledger.Held
	}
	return ledger.Going
}

// Held says whether the run waits for people alone: a ticket is open, nothing is in
// flight, and no attempt is due.
func (s *State) Held() bool {
	return s.Closed == nil && len(s.Tickets()) > 0 && len(s.InFlight()) == 0 && !s.retries()
}

// retries says whether an attempt that failed is to be made again.
func (s *State) retries() bool {
	if s.Turn.Phase == Retrying {
		return true
	}
	for _, c := range s.Turn.Calls {
		if c.Progress == Again {
			return true
		}
	}
	return false
}

// Tickets lists the open tickets in call order.
func (s *State) Tickets() []*Ticket {
	if s.Turn == nil {
		return nil
	}
	var out []*Ticket
	if s.Turn.Ticket.Open() {
		out = append(out, s.Turn.Ticket)
	}
	for _, c := range s.Turn.Calls {
		if c.Ticket.Open() {
			out = append(out, c.Ticket)
		}
	}
	return out
}

// InFlight lists the steps whose intent is recorded and whose end is not.
func (s *State) InFlight() []string {
	if s.Turn == nil || s.Closed != nil {
		return nil
	}
	if s.Turn.Phase == Sent {
		return []string{s.Turn.Step}
	}
	var out []string
	for _, c := range s.Turn.Calls {
		if c.Progress == InFlight {
			out = append(out, c.Step)
		}
	}
	return out
}

// Call finds a call of the newest turn by its step.
func (s *State) Call(step string) *Call {
	if s.Turn != nil {
		for _, c := range s.Turn.Calls {
			if c.Step == step {
				return c
			}
		}
	}
	return nil
}

// Ticket finds the newest ticket of a step.
func (s *State) Ticket(step string) *Ticket {
	if s.Turn != nil && s.Turn.Step == step {
		return s.Turn.Ticket
	}
	if c := s.Call(step); c != nil {
		return c.Ticket
	}
	return nil
}

// Decided says whether every call of the turn has its verdict.
func (t *Turn) Decided() bool { return t.Reply != nil && len(t.Calls) == len(t.Reply.Calls) }

// Over says whether every call of the turn has ended.
func (t *Turn) Over() bool {
	if !t.Decided() {
		return false
	}
	for _, c := range t.Calls {
		if !c.Progress.Over() {
			return false
		}
	}
	return true
}

// Worked gives how long the run has worked until a moment: the time since it
// was opened without the time it was held. A closed run does not work any more.
func (s *State) Worked(until time.Time) time.Duration {
	if s.Closed != nil {
		until = s.ClosedAt
	}
	d := until.Sub(s.OpenedAt) - s.heldFor
	if !s.heldSince.IsZero() {
		d -= until.Sub(s.heldSince)
	}
	return d
}

// Memory gives the messages that the session keeps of the run: all up to the
// last one with no dangling call.
func (s *State) Memory() []ledger.Message {
	m := s.Messages
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
