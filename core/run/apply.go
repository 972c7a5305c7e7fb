package run

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	jsonpatch "github.com/evanphx/json-patch/v5"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/value"
)

// New gives the state of a run with no events.
func New(id string) *State {
	return &State{Run: id, AgentTurns: map[string]int{}, Same: map[ledger.Hash]int{}, Lost: map[string]int{}, Settled: map[string]*ledger.GateSettled{}, Facts: map[string]any{}, Handles: map[string]bool{}}
}

// Fold applies events in order to a new state.
func Fold(id string, events []ledger.Event) (*State, error) {
	s := New(id)
	for _, e := range events {
		if err := s.Apply(e); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// Apply takes the state over one event. An error means that the event cannot
// follow the ones before it: the ledger is damaged, or the engine is wrong.
func (s *State) Apply(e ledger.Event) error {
	bad := func(format string, args ...any) error {
		return fmt.Errorf("run %s, event %d (%s, step %q): %s", s.Run, e.Seq, e.Kind, e.Step, fmt.Sprintf(format, args...))
	}
	if e.Seq != s.Seq+1 {
		return bad("the event after %d was expected", s.Seq)
	}
	if e.At.Before(s.At) {
		return bad("it is dated before the event it follows")
	}
	if s.Opened == nil && e.Kind != ledger.KindRunOpened {
		return bad("the run is not open")
	}
	if s.Closed != nil && e.Kind != ledger.KindFileUndone {
		return bad("the run is closed")
	}
	s.Seq, s.At = e.Seq, e.At
	if err := s.apply(e); err != nil {
		return bad("%v", err)
	}
	if held := s.Held(); held && s.heldSince.IsZero() {
		s.heldSince = e.At
	} else if !held && !s.heldSince.IsZero() {
		s.heldFor += e.At.Sub(s.heldSince)
		s.heldSince = time.Time{}
	}
	return nil
}

func (s *State) apply(e ledger.Event) error {
	var c *Call
	switch e.Kind {
	case ledger.KindCallLooked, ledger.KindCallStarted, ledger.KindCallReturned, ledger.KindCallFailed, ledger.KindCallRefused:
		if c = s.Call(e.Step); c == nil {
			return fmt.Errorf("there is no such call in the newest turn")
		}
		if c.Progress.Over() {
			return fmt.Errorf("the call has already ended")
		}
		c.At = e.At
	}
	switch d := e.Data.(type) {
	case *ledger.RunOpened:
		if s.Opened != nil {
			return fmt.Errorf("the run is already open")
		}
		s.Opened, s.OpenedAt, s.Agent = d, e.At, d.Agent
		for _, m := range d.Memory {
			s.say(m)
		}
		if d.State != nil {
			s.Facts = d.State
		}
		for _, h := range d.Handles {
			s.Handles[h] = true
		}
		if d.Call == nil {
			s.say(ledger.Message{Role: ledger.User, Text: d.Text})
			break
		}
		s.Turn = &Turn{Step: OutsideTurn, Phase: Received, Reply: &ledger.TurnReceived{Calls: []ledger.Ask{*d.Call}}, At: e.At, Facts: s.Facts}
	case *ledger.StopAsked:
		s.Stop = d
	case *ledger.RunRecovered:
		for _, step := range d.Lost {
			s.Lost[step]++
			if s.Turn != nil && s.Turn.Step == step {
				s.Turn.Phase = TurnLost
			} else if c := s.Call(step); c != nil {
				c.Progress = CallLost
			}
		}
	case *ledger.RunClosed:
		s.Closed, s.ClosedAt = d, e.At
	case *ledger.TurnSent:
		if d.Kept > len(s.LastSent) {
			return fmt.Errorf("it keeps %d messages of %d", d.Kept, len(s.LastSent))
		}
		if s.Turn == nil || s.Turn.Step != e.Step {
			s.Turn = &Turn{Step: e.Step, N: d.N, Agent: d.Agent}
			s.Turns++
			s.AgentTurns[d.Agent]++
		}
		t := s.Turn
		if t.Tries++; d.Model != t.asked {
			t.asked, t.Tries = d.Model, 1
		}
		t.Model, t.Attempt, t.Phase, t.SentAt, t.Fired, t.Problem = d.Model, d.Attempt, Sent, e.At, false, nil
		if d.Kept < len(s.LastSent) {
			s.LastSent = s.LastSent[:d.Kept:d.Kept] // what others hold of it stays
		}
		s.LastSent = append(s.LastSent, d.Added...)
	case *ledger.TurnReceived:
		t := s.Turn
		if t == nil || t.Step != e.Step || t.Phase != Sent {
			return fmt.Errorf("no such turn is in flight")
		}
		t.Phase, t.Reply, t.At, t.Facts = Received, d, e.At, s.Facts
		s.Tokens.In += d.Usage.In
		s.Tokens.Out += d.Usage.Out
		s.Tokens.Estimated = s.Tokens.Estimated || d.Usage.Estimated
		s.Cost += d.Cost
		s.say(ledger.Message{Agent: t.Agent, Role: ledger.Assistant, Text: d.Text, Calls: d.Calls})
		if len(d.Calls) == 0 {
			s.tellNotes()
		}
	case *ledger.TurnFailed:
		t := s.Turn
		if t == nil || t.Step != e.Step {
			return fmt.Errorf("there is no such turn")
		}
		s.Cost += d.Cost
		t.Problem, t.Phase = &d.Problem, TurnOver
		if d.RetryAt != nil {
			t.Phase, t.RetryAt, t.Fired = Retrying, *d.RetryAt, false
			if d.Next != "" {
				t.Model = d.Next
			}
		}
	case *ledger.CallDecided:
		t := s.Turn
		if t == nil || t.Step != d.Turn || t.Phase != Received {
			return fmt.Errorf("no reply of turn %q is here", d.Turn)
		}
		t.Calls = append(t.Calls, &Call{Step: e.Step, Decided: d, Args: d.Args, At: e.At})
		if d.Verdict != ledger.Pass {
			s.Calls++
			s.PassesRow = 0
		}
	case *ledger.CallLooked:
		c.Looked = d
	case *ledger.CallStarted:
		c.Progress, c.Attempt, c.Fired = InFlight, d.Attempt, false
	case *ledger.CallReturned:
		c.Progress, c.Words = Returned, d.Words
		if d.Handle != "" {
			s.Handles[d.Handle] = true
		}
		s.ended(c)
	case *ledger.CallFailed:
		c.Failure, c.Words = d, d.Words
		switch {
		case d.Final:
			c.Progress = CallFailed
			s.ended(c)
		case d.RetryAt != nil:
			c.Progress, c.RetryAt, c.Fired = Again, *d.RetryAt, false
		default:
			c.Progress = Unsure
		}
	case *ledger.CallRefused:
		c.Progress, c.Words = CallRefused, d.Words
		s.ended(c)
	case *ledger.BatonPassed:
		s.Agent = d.To
		s.Passes++
		s.PassesRow++
	case *ledger.StateChanged:
		facts, err := patched(s.Facts, d.Patch)
		if err != nil {
			return err
		}
		s.Facts = facts
	case *ledger.FileUndone:
		s.notes = append(s.notes, d.Words)
		if t := s.Turn; s.Closed != nil || t == nil || t.complete || t.Phase == TurnOver {
			s.tellNotes()
		}
	case *ledger.GateRaised:
		t := &Ticket{Step: e.Step, Raised: d, At: e.At}
		if c := s.Call(e.Step); c != nil {
			c.Ticket = t
			c.Progress = Waiting
		} else if s.Turn != nil && s.Turn.Step == e.Step {
			s.Turn.Ticket, s.Turn.Phase = t, AskPeople
		} else {
			return fmt.Errorf("there is no such step")
		}
	case *ledger.GateSettled:
		return s.settle(e.Step, d)
	case *ledger.TimerFired:
		s.fire(e.Step)
	default:
		return fmt.Errorf("an event of this kind has no place in the state")
	}
	return nil
}

func (s *State) settle(step string, d *ledger.GateSettled) error {
	t := s.Ticket(step)
	if !t.Open() {
		return fmt.Errorf("no ticket is open there")
	}
	if d.Verb != ledger.Lapsed && d.Verb != ledger.Withdrawn && !slices.Contains(t.Raised.Form.Verbs(), d.Verb) {
		return fmt.Errorf("a ticket of the kind %q is not settled by %q", t.Raised.Form, d.Verb)
	}
	t.Settled = d
	s.Settled[step] = d
	c := s.Call(step)
	if c == nil {
		if d.Verb == ledger.NotHappened {
			s.Turn.Phase = TurnLost
			delete(s.Lost, step)
		} else {
			s.Turn.Phase = TurnOver
		}
		return nil
	}
	if t.Raised.Form == ledger.GateTicket {
		c.Verdict = d
	}
	switch d.Verb {
	case ledger.Allow:
		c.Progress = Allowed
	case ledger.Amend:
		c.Progress, c.Args = Allowed, d.Args
	case ledger.Lapsed:
		c.Progress = Settled
		if c.Decided.Lapse == ledger.Allow {
			c.Progress = Allowed
		}
	case ledger.NotHappened:
		c.Progress = Allowed
		delete(s.Lost, step)
	case ledger.RefuseIt, ledger.Happened, ledger.GiveUp, ledger.Withdrawn:
		c.Progress = Settled
	default:
		return fmt.Errorf("there is no verb %q", d.Verb)
	}
	return nil
}

// OutsideTurn is the step that stands for the turn of a run that is one call
// from outside: no model made it.
const OutsideTurn = "t0"

// LimitTimer is the step of the timer of a run's time limit.
const LimitTimer = "limit"

func (s *State) fire(step string) {
	if step == LimitTimer {
		s.TimeUp = true
		return
	}
	if t := s.Turn; t != nil && t.Step == step && t.Phase == Retrying {
		t.Fired = true
	}
	if c := s.Call(step); c != nil {
		if c.Progress == Again {
			c.Fired = true
		}
		if c.Ticket.Open() {
			c.Ticket.Fired = true
		}
	}
}

// ended counts a call against same_call and, when it was the turn's last one,
// puts the results into the thread in call order.
func (s *State) ended(c *Call) {
	key := ledger.HashOf([]byte(c.Decided.Tool + "\x00" + string(c.Decided.Args) + "\x00" + c.Words))
	s.Same[key]++
	if n := s.Same[key]; n > s.SameMost {
		s.SameMost, s.SameTool = n, c.Decided.Tool
	}
	t := s.Turn
	if t.complete || !t.Over() {
		return
	}
	t.complete = true
	if t.Step == OutsideTurn {
		return // no model reads it
	}
	for _, c := range t.Calls {
		s.say(ledger.Message{Role: ledger.FromTool, Tool: c.Decided.Tool, Call: c.Decided.ID, Text: c.Words})
	}
	s.tellNotes()
}

// tellNotes puts into the thread what the next turn has to know, where no call is
// left without its result.
func (s *State) tellNotes() {
	for _, n := range s.notes {
		s.say(ledger.Message{Role: ledger.User, Text: n})
	}
	s.notes = nil
}

func (s *State) say(m ledger.Message) {
	s.Messages = append(s.Messages, m)
	b, err := json.Marshal(m)
	if err != nil {
		panic("a message is plain text: " + err.Error())
	}
	s.Hashes = append(s.Hashes, ledger.HashOf(b))
}

func patched(facts map[string]any, patch json.RawMessage) (map[string]any, error) {
	p, err := jsonpatch.DecodePatch(patch)
	if err != nil {
		return nil, fmt.Errorf("the patch cannot be read: %w", err)
	}
	doc, err := json.Marshal(maps.Clone(facts))
	if err != nil {
		return nil, err
	}
	if facts == nil {
		doc = []byte("{}")
	}
	out, err := p.Apply(doc)
	if err != nil {
		return nil, fmt.Errorf("the patch does not fit the state: %w", err)
	}
	return value.ReadObject(out)
}
