package run

import (
	"cmp"
	"encoding/json"
	"fmt"
	"iter"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	jsonpatch "github.com/evanphx/json-patch/v5"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/value"
)

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
	if err := s.fits(e); err != nil {
		return fmt.Errorf("run %s, event %d (%s, step %q): %w", s.run, e.Seq, e.Kind, e.Step, err)
	}
	s.seq, s.at = e.Seq, e.At
	if err := s.apply(e); err != nil {
		return fmt.Errorf("run %s, event %d (%s, step %q): %w", s.run, e.Seq, e.Kind, e.Step, err)
	}
	if held := s.Held(); held && s.heldSince.IsZero() {
		s.heldSince = e.At
	} else if !held && !s.heldSince.IsZero() {
		s.heldFor += e.At.Sub(s.heldSince)
		s.heldSince = time.Time{}
	}
	for t := s.byID[e.Step.Thread()]; t != nil; t = t.parent {
		t.clock(e.At)
	}
	return nil
}

// fits says what is wrong with an event before it is looked into.
func (s *State) fits(e ledger.Event) error {
	switch {
	case e.Seq != s.seq+1:
		return fmt.Errorf("the event after %d was expected", s.seq)
	case e.At.Before(s.at):
		return fmt.Errorf("it is dated before the event it follows")
	case s.opened == nil && e.Kind != ledger.KindRunOpened:
		return fmt.Errorf("the run is not open")
	case s.closed != nil && e.Kind != ledger.KindFileUndone:
		return fmt.Errorf("the run is closed")
	case e.Thread != ledger.ThreadName(e.Step):
		return fmt.Errorf("it names the thread %q, and its step lies on %q", e.Thread, ledger.ThreadName(e.Step))
	}
	return e.Step.Check()
}

func (s *State) apply(e ledger.Event) error {
	switch d := e.Data.(type) {
	case *ledger.RunOpened:
		return s.open(e, d)
	case *ledger.StopAsked:
		s.stop = d
	case *ledger.LimitReached:
		s.limit = d
	case *ledger.RunRecovered:
		return s.recover(d)
	case *ledger.RunClosed:
		if len(s.threads) > 1 {
			return fmt.Errorf("the thread %s is open", s.threads[len(s.threads)-1].id)
		}
		s.closed, s.closedAt = d, e.At
	case *ledger.ThreadOpened:
		return s.openThread(e, d)
	case *ledger.ThreadClosed:
		return s.close(e.Step, false, &Result{Outcome: d.Outcome, Answer: d.Answer, Value: d.Value, Remarks: d.Remarks, Problem: d.Problem, Why: d.Why})
	case *ledger.FrameOpened:
		return s.openFrame(e, d)
	case *ledger.FrameClosed:
		return s.close(e.Step, true, &Result{Outcome: d.Outcome, Answer: d.Answer, Value: d.Value, Problem: d.Problem, Why: d.Why, Said: d.Said})
	case *ledger.LegEntered, *ledger.LegLeft:
		return s.legEvent(e)
	case *ledger.TurnSent, *ledger.TurnReceived, *ledger.TurnFailed:
		t := s.byID[e.Step.Parent()]
		if t == nil {
			return fmt.Errorf("its thread is not open")
		}
		return s.turnEvent(t, e)
	case *ledger.GuardrailSettled:
		return s.sendBack(s.turns[e.Step.Parent()], d)
	case *ledger.HookFired:
		return s.fireHook(e.Step, d)
	case *ledger.CallDecided:
		return s.decide(e, d)
	case *ledger.CallLooked, *ledger.CallStarted, *ledger.CallReturned, *ledger.CallFailed, *ledger.CallRefused:
		c := s.calls[e.Step]
		if c == nil {
			return fmt.Errorf("there is no such call in the newest turn")
		}
		return s.callEvent(c, e)
	case *ledger.BatonPassed:
		t := s.byID[e.Step.Thread()]
		if t == nil {
			return fmt.Errorf("its thread is not open")
		}
		t.agent = d.To
		t.row++
		t.view, t.passed = 0, e.Step
		t.look(d)
		s.passes++
	case *ledger.StateChanged:
		t := s.byID[e.Step.Thread()]
		if t == nil {
			return fmt.Errorf("its thread is not open")
		}
		facts, err := patched(t.facts, d.Patch)
		if err != nil {
			return err
		}
		t.facts = facts
	case *ledger.FileUndone:
		s.undone(e.Step, d)
	case *ledger.GateRaised:
		return s.raise(e, d)
	case *ledger.GateVoted:
		return s.vote(e.Step, d)
	case *ledger.GateSettled:
		return s.settle(e.Step, d)
	case *ledger.TimerFired:
		s.fire(e.Step, d)
	default:
		return fmt.Errorf("an event of this kind has no place in the state")
	}
	return nil
}

// sendBack puts the words of a guardrail after the answer of a turn, so that another turn comes.
func (s *State) sendBack(u *Turn, d *ledger.GuardrailSettled) error {
	if u == nil || u.Phase != Received || len(u.Reply.Calls) > 0 || u.revise || u.judging {
		return fmt.Errorf("no answer is there that could be sent back")
	}
	u.revise = true
	t := u.Thread
	if t.revised == nil {
		t.revised = map[string]int{}
	}
	t.revised[d.Guardrail]++
	if d.Guardrail == ledger.GoodWhen {
		t.drafts = append(t.drafts, Draft{Text: u.Reply.Text, Remarks: d.Words, Score: d.Score})
	}
	t.say(ledger.Message{Role: ledger.User, Text: d.Words})
	t.recountTurn()
	return nil
}

// fireHook notes what a hook changes, and the call that it makes.
func (s *State) fireHook(step ledger.StepID, d *ledger.HookFired) error {
	t := s.byID[step.Thread()]
	if t == nil || step != t.id.Hook(t.hooks+1) || t.Hooking() {
		return fmt.Errorf("its thread is not open, or this is not its next hook")
	}
	t.hooks++
	if t.fired == nil {
		t.fired = map[string]bool{}
	}
	t.fired[hookKey(d.On, d.N, d.About)] = true
	if d.Patch != nil {
		facts, err := patched(t.facts, d.Patch)
		if err != nil {
			return err
		}
		t.facts = facts
	}
	if d.Call != nil {
		t.hooked = d
	}
	return nil
}

func (s *State) open(e ledger.Event, d *ledger.RunOpened) error {
	if s.opened != nil {
		return fmt.Errorf("the run is already open")
	}
	t := s.main
	s.opened, s.openedAt, t.agent, t.at = d, e.At, d.Agent, e.At
	for _, m := range d.Memory {
		t.say(m)
	}
	if d.Relay != "" {
		t.agent, t.relay = d.Relay, true
	}
	if d.State != nil {
		t.facts = d.State
	}
	for _, h := range d.Handles {
		t.handles[h] = true
	}
	s.agreed = d.Agreed
	for key, messages := range d.Lines {
		l := &line{messages: messages}
		for _, m := range messages {
			l.hashes = append(l.hashes, hashOf(m))
		}
		t.lines[key] = l
	}
	if d.Call == nil {
		t.say(ledger.Message{Role: ledger.User, Text: d.Text})
	} else {
		s.outside(t, *d.Call, e.At)
	}
	t.recountTurn()
	return nil
}

func (s *State) recover(d *ledger.RunRecovered) error {
	s.epoch = max(s.epoch, d.Epoch)
	for _, step := range d.Lost {
		s.lost[step]++
		if u := s.turns[step]; u != nil {
			s.land(u)
			u.Phase = TurnLost
			u.Thread.recountTurn()
		} else if c := s.calls[step]; c != nil {
			c.Progress = CallLost
			c.recountCall()
		}
	}
	return nil
}

func (s *State) openThread(e ledger.Event, d *ledger.ThreadOpened) error {
	t, err := s.under(e, d.Role)
	if err != nil {
		return err
	}
	p := t.parent
	t.opened, t.agent = d, d.Agent
	if d.Line != "" {
		if l := p.line(d.Line); l != nil {
			if l.from != d.From {
				return fmt.Errorf("the line %s was taken on by %q, not by %q", d.Line, l.from, d.From)
			}
			t.messages, t.hashes, t.sent = slices.Clip(l.messages), slices.Clip(l.hashes), slices.Clip(l.sent)
		}
	}
	if d.Call != nil {
		s.outside(t, *d.Call, e.At)
	} else {
		asker := ""
		if t.opener != nil {
			asker = t.opener.Turn.Agent
		}
		t.say(ledger.Message{Role: ledger.User, Agent: asker, Text: d.Say})
	}
	s.enroll(t)
	return nil
}

// outside gives a thread the turn that stands for that of a call which no model made.
func (s *State) outside(t *Thread, call ledger.Ask, at time.Time) {
	t.turn = &Turn{Step: t.id.Turn(0), Thread: t, Phase: Received, Reply: &ledger.TurnReceived{Calls: []ledger.Ask{call}}, At: at, Facts: t.facts}
	s.turns[t.turn.Step] = t.turn
}

// close ends a thread or a relay.
func (s *State) close(id ledger.StepID, frame bool, r *Result) error {
	t := s.byID[id]
	switch {
	case t == nil || t == s.main || (t.frame != nil) != frame:
		return fmt.Errorf("no such thread or relay is open")
	case t.under > 0:
		return fmt.Errorf("a thread below it is open")
	case t.sum.flight > 0 || t.sum.tickets > 0:
		return fmt.Errorf("something on it is in flight, or waits for a person")
	}
	p := t.parent
	for key, l := range t.lines {
		if !strings.HasPrefix(key, ledger.LineOf(id, "")) { // what its legs remember is its own
			p.lines[key] = l
		}
	}
	if t.opened != nil && t.opened.Line != "" {
		kept := rounded(t.messages)
		p.lines[t.opened.Line] = &line{from: id, messages: kept, hashes: slices.Clip(t.hashes[:len(kept)]), sent: slices.Clip(t.sent)}
	}
	for h := range t.handles {
		p.handles[h] = true
	}
	p.acted = p.acted || t.acted
	r.Acted = t.acted
	r.Changed, r.Clashed = changes(t.base, t.facts, p.facts)
	for x := p; x != nil; x = x.parent { // what could still be done on it will not be
		x.sum = x.sum.less(t.sum)
	}
	if u := t.turn; u != nil {
		s.forget(u)
	}
	delete(s.byID, id)
	s.threads = slices.DeleteFunc(s.threads, func(x *Thread) bool { return x == t })
	p.under--
	s.ended(t, r)
	return nil
}

// changes gives the top-level facts that differ from a base, and of these the names that
// another changed meanwhile to something else.
func changes(base, facts, others map[string]any) (changed map[string]any, clashed []string) {
	for _, k := range sorted(maps.Keys(merged(base, facts))) {
		v, is := facts[k]
		was, had := base[k]
		if is == had && reflect.DeepEqual(v, was) {
			continue
		}
		if changed == nil {
			changed = map[string]any{}
		}
		changed[k] = v
		if o, set := others[k]; set != had || !reflect.DeepEqual(o, was) {
			if set != is || !reflect.DeepEqual(o, v) {
				clashed = append(clashed, k)
			}
		}
	}
	return changed, clashed
}

func merged(a, b map[string]any) map[string]any {
	out := maps.Clone(a)
	if out == nil {
		out = map[string]any{}
	}
	maps.Copy(out, b)
	return out
}

// forget takes a turn and its calls out of the index.
func (s *State) forget(u *Turn) {
	delete(s.turns, u.Step)
	delete(s.lost, u.Step)
	for _, c := range u.Calls {
		delete(s.calls, c.Step)
		delete(s.lost, c.Step)
	}
}

// land takes a turn out of what is in flight.
func (s *State) land(u *Turn) {
	if u.Phase == Sent {
		s.asking--
		s.reserved.Tokens -= u.reserve.Tokens
		s.reserved.Cost -= u.reserve.Cost
		u.reserve = ledger.Reserve{}
	}
}

func (s *State) turnEvent(t *Thread, e ledger.Event) error {
	u := t.turn
	mine := u != nil && u.Step == e.Step
	switch d := e.Data.(type) {
	case *ledger.TurnSent:
		if d.Skip+d.Kept > len(t.sent) {
			return fmt.Errorf("it keeps %d messages after %d of %d", d.Kept, d.Skip, len(t.sent))
		}
		if !mine {
			if u != nil {
				s.forget(u)
				u.Thread.recount(&u.counted, counts{})
			}
			u = &Turn{Step: e.Step, Thread: t, N: d.N, Agent: d.Agent, last: s.limit != nil}
			t.pause = nil
			t.turn, s.turns[e.Step] = u, u
			t.turns++
			s.turnsSent++
			if t.byAgent == nil {
				t.byAgent = map[string]int{}
			}
			t.byAgent[d.Agent]++
		}
		if u.Tries++; d.Model != u.asked {
			u.asked, u.Tries = d.Model, 1
		}
		u.Model, u.Attempt, u.Phase, u.SentAt, u.Fired, u.Problem = d.Model, d.Attempt, Sent, e.At, false, nil
		s.asking++
		if d.Reserve != nil {
			u.reserve = *d.Reserve
			s.reserved.Tokens += d.Reserve.Tokens
			s.reserved.Cost += d.Reserve.Cost
		}
		kept := t.sent[d.Skip : d.Skip+d.Kept]
		if d.Skip+d.Kept < len(t.sent) {
			kept = slices.Clip(kept) // what others hold of it stays
		}
		t.sent = append(kept, d.Added...)
	case *ledger.TurnReceived:
		if !mine || u.Phase != Sent {
			return fmt.Errorf("no such turn is in flight")
		}
		s.land(u)
		u.Phase, u.Reply, u.At, u.Facts = Received, d, e.At, t.facts
		s.tokens.In += d.Usage.In
		s.tokens.Out += d.Usage.Out
		s.tokens.Estimated = s.tokens.Estimated || d.Usage.Estimated
		s.cost += d.Cost
		m := ledger.Message{Agent: u.Agent, Role: ledger.Assistant, Text: d.Text, Calls: d.Calls}
		if d.SentOn {
			m.Reasoning = d.Reasoning
		}
		t.say(m)
		if len(d.Calls) == 0 {
			t.tellNotes()
		}
	case *ledger.TurnFailed:
		if !mine {
			return fmt.Errorf("there is no such turn")
		}
		s.land(u)
		s.cost += d.Cost
		u.Problem, u.Phase = &d.Problem, TurnOver
		if d.RetryAt != nil {
			u.Phase, u.RetryAt, u.Fired = Retrying, *d.RetryAt, false
			if d.Next != "" {
				u.Model = d.Next
			}
		}
	}
	t.recountTurn()
	return nil
}

func (s *State) decide(e ledger.Event, d *ledger.CallDecided) error {
	u := s.turns[d.Of]
	if u == nil || u.Phase != Received || e.Step.Parent() != d.Of || u.Decided() {
		return fmt.Errorf("no reply of turn %q is here", d.Of)
	}
	c := &Call{Step: e.Step, Turn: u, Decided: d, Args: d.Args, At: e.At, first: e.V == 1}
	u.Calls = append(u.Calls, c)
	s.calls[e.Step] = c
	u.left++
	if d.Planned > 0 {
		u.Thread.planned = c
	}
	if d.Verdict == ledger.Pass {
		u.passes = append(u.passes, c)
	} else {
		u.plain++
		if !d.Beyond {
			s.made++
		} else if u.Thread.beyond != u {
			u.Thread.beyond, u.Thread.pressed = u, u.Thread.pressed+1
		}
		u.Thread.row = 0
	}
	if u.Decided() { // now they can be carried out
		for u.next < len(u.Calls) && !u.Calls[u.next].writes() {
			u.next++
		}
		for _, c := range u.Calls {
			c.own()
		}
		u.Thread.recountTurn()
	}
	return nil
}

func (s *State) callEvent(c *Call, e ledger.Event) error {
	if c.Progress.Over() {
		return fmt.Errorf("the call has already ended")
	}
	if c.Progress == Opened {
		return fmt.Errorf("the thread that it opened is open")
	}
	c.At = e.At
	switch d := e.Data.(type) {
	case *ledger.CallLooked:
		c.Looked, c.Fresh = d, true
	case *ledger.CallStarted:
		c.Progress, c.Attempt, c.Fired = InFlight, d.Attempt, false
	case *ledger.CallReturned:
		s.cost += d.Cost
		c.Progress, c.Words, c.Pictures = Returned, d.Words, d.Pictures
		if c.Turn.N == 0 {
			c.Result = d.Result
		}
		t := c.Turn.Thread
		if d.Handle != "" {
			t.handles[d.Handle] = true
		}
		t.acted = t.acted || (c.writes() && c.Decided.Opens == "")
		s.repeated(c)
	case *ledger.CallFailed:
		s.cost += d.Cost
		c.Failure, c.Words = d, d.Words
		switch {
		case d.Final:
			c.Progress = CallFailed
			t := c.Turn.Thread
			t.acted = t.acted || (c.writes() && d.Outcome == ledger.Unknown)
			s.repeated(c)
		case d.RetryAt != nil:
			c.Progress, c.RetryAt, c.Fired = Again, *d.RetryAt, false
		default:
			c.Progress = Unsure
		}
	case *ledger.CallRefused:
		c.Progress, c.Words = CallRefused, d.Words
		s.repeated(c)
	}
	c.recountCall()
	if u := c.Turn; c.Progress.Over() && u.Over() {
		u.Thread.results(u)
	}
	return nil
}

func (s *State) undone(step ledger.StepID, d *ledger.FileUndone) {
	t := s.byID[step.Thread()]
	if t == nil {
		t = s.main // the thread that did it is closed: who asked is told
	}
	t.notes = append(t.notes, d.Words)
	if u := t.turn; s.closed != nil || u == nil || u.Phase == TurnOver || (u.Phase == Received && u.Over()) {
		t.tellNotes()
	}
}

func (s *State) raise(e ledger.Event, d *ledger.GateRaised) error {
	t := &Ticket{Step: e.Step, Raised: d, At: e.At}
	if c := s.calls[e.Step]; c != nil {
		c.Ticket, c.Progress = t, Waiting
		c.recountCall()
		return nil
	}
	u := s.turns[e.Step]
	if d.Form == ledger.PauseTicket || d.Form == ledger.LimitTicket {
		p := s.byID[e.Step.Parent()]
		asked := p != nil && p.pause != nil && (p.pause.Open() || p.pause.Raised.Form != ledger.LimitTicket)
		if p == nil || u != nil || asked || e.Step != p.id.Turn(p.turns+1) {
			return fmt.Errorf("no turn comes next there that could wait")
		}
		p.pause = t
		p.recountTurn()
		return nil
	}
	switch {
	case u == nil:
		return fmt.Errorf("there is no such step")
	case d.Form == ledger.TextTicket && (u.Phase != Received || len(u.Reply.Calls) > 0 || u.revise || u.judging || (u.Ticket != nil && u.Ticket.Raised.Form == ledger.TextTicket)):
		return fmt.Errorf("no answer is there that people could decide about")
	case d.Form == ledger.TextTicket:
	default:
		u.Phase = AskPeople
	}
	u.Ticket = t
	u.Thread.recountTurn()
	return nil
}

func (s *State) vote(step ledger.StepID, d *ledger.GateVoted) error {
	t := s.Ticket(step)
	if !t.Open() || (t.Raised.Form != ledger.GateTicket && t.Raised.Form != ledger.TextTicket && t.Raised.Form != ledger.LimitTicket) {
		return fmt.Errorf("no gate is open there")
	}
	switch d.Verb {
	case ledger.Allow:
		t.Votes = append(slices.Clip(t.Votes), d)
	case ledger.Amend:
		t.Votes, t.changed = []*ledger.GateVoted{d}, d
	default:
		return fmt.Errorf("nobody votes to %q", d.Verb)
	}
	return nil
}

func (s *State) settle(step ledger.StepID, d *ledger.GateSettled) error {
	t := s.Ticket(step)
	if !t.Open() {
		return fmt.Errorf("no ticket is open there")
	}
	if d.Verb != ledger.Lapsed && d.Verb != ledger.Withdrawn && !slices.Contains(t.Raised.Verbs(), d.Verb) {
		return fmt.Errorf("a ticket of the kind %q is not settled by %q", t.Raised.Form, d.Verb)
	}
	t.Settled = d
	s.settled[step] = d
	s.freed = s.freed || (t.Raised.Step && d.Spare)
	if t.Raised.Form == ledger.PauseTicket {
		p := s.byID[step.Parent()]
		switch d.Verb {
		case ledger.Amend:
			p.reword(d.Args)
		case ledger.Answer:
			var line string
			if err := json.Unmarshal(d.Result, &line); err != nil {
				return fmt.Errorf("what the person says is not a text")
			}
			p.say(ledger.Message{Role: ledger.User, Text: line})
		}
		p.recountTurn()
		return nil
	}
	if t.Raised.Form == ledger.LimitTicket {
		s.grant(t, d)
		s.byID[step.Parent()].recountTurn()
		return nil
	}
	c := s.calls[step]
	if c == nil {
		u := s.turns[step]
		if t.Raised.Form == ledger.TextTicket {
			if d.Verb == ledger.Amend {
				u.Thread.reword(d.Args)
			}
			u.Thread.recountTurn()
			return nil
		}
		u.Phase = TurnOver
		if d.Verb == ledger.NotHappened {
			u.Phase = TurnLost
			delete(s.lost, step)
		}
		u.Thread.recountTurn()
		return nil
	}
	if t.Raised.Form == ledger.GateTicket {
		c.Verdict = d
	}
	if t.Raised.Spare && !t.Raised.Step && (d.Verb == ledger.Allow || d.Verb == ledger.Amend) {
		was := s.agreed[t.Raised.Tool]
		if s.agreed = maps.Clone(s.agreed); s.agreed == nil {
			s.agreed = map[string]ledger.Agreed{}
		}
		s.agreed[t.Raised.Tool] = ledger.Agreed{Times: was.Times + 1, Spare: was.Spare || d.Spare}
	}
	if t.Raised.Form == ledger.TextTicket {
		c.Progress = Settled
		c.recountCall()
		return nil
	}
	c.Fresh = false
	switch d.Verb {
	case ledger.Allow:
		c.Progress = Allowed
	case ledger.Amend:
		c.Progress, c.Args = Allowed, d.Args
	case ledger.Lapsed:
		c.Progress = Settled
		if c.Decided.Lapse == ledger.LapseAllows {
			c.Progress = Allowed
		}
	case ledger.NotHappened:
		c.Progress = Allowed
		delete(s.lost, step)
	case ledger.RefuseIt, ledger.Happened, ledger.GiveUp, ledger.Withdrawn, ledger.Answer:
		c.Progress = Settled
	default:
		return fmt.Errorf("there is no verb %q", d.Verb)
	}
	c.recountCall()
	return nil
}

func (s *State) fire(step ledger.StepID, d *ledger.TimerFired) {
	if d.What == ledger.ForLeg {
		if t := s.byID[step.Thread()]; t != nil && t.frame != nil && t.frame.Visit != nil && t.frame.Visit.Step == step {
			t.frame.Visit.Late = true
			t.recountFrame()
		}
		return
	}
	if d.What == ledger.ForLimit {
		s.timeUp = true
		return
	}
	if u := s.turns[step]; u != nil && u.Phase == Retrying {
		u.Fired = true
		u.Thread.recountTurn()
	}
	if t := s.Ticket(step); t.Open() && d.What != ledger.ForRetry {
		if d.What == ledger.ForMore {
			t.Escalated = true
		} else {
			t.Fired = true
		}
	}
	if c := s.calls[step]; c != nil {
		if c.Progress == Again && d.What != ledger.ForTicket {
			c.Fired = true
		}
		c.recountCall()
	} else if u := s.turns[step]; u != nil {
		u.Thread.recountTurn()
	} else if t := s.byID[step.Parent()]; t != nil && t.pause.Open() {
		t.recountTurn()
	}
}

// grant notes what people have given the run beyond a limit.
func (s *State) grant(t *Ticket, d *ledger.GateSettled) {
	if d.Verb != ledger.Allow && d.Verb != ledger.Amend {
		return
	}
	args := t.Args()
	if len(d.Args) > 0 {
		args = d.Args
	}
	var more struct{ More float64 }
	if err := json.Unmarshal(args, &more); err != nil {
		return // it was checked when it was settled
	}
	was := s.more
	s.more = maps.Clone(was)
	if s.more == nil {
		s.more = map[string]float64{}
	}
	s.more[t.Raised.Tool] += more.More
}

// reword puts what somebody has made of the newest answer in its place.
func (t *Thread) reword(args json.RawMessage) {
	m, err := value.ReadObject(args)
	text, ok := m["text"].(string)
	if err != nil || !ok {
		return
	}
	at := len(t.messages) - 1
	t.messages, t.hashes = slices.Clone(t.messages), slices.Clone(t.hashes)
	t.messages[at].Text = text
	t.hashes[at] = hashOf(t.messages[at])
}

// repeated counts a call against same_call: once for a turn, since whoever makes a call twice at
// once has not read what it brings. Those beyond the run's limit are counted there.
func (s *State) repeated(c *Call) {
	if c.Decided.Beyond {
		return
	}
	args := string(c.Decided.Args)
	if n, r := c.Decided.N, c.Turn.Reply; args == "" && r != nil && n > 0 && n <= len(r.Calls) {
		args = r.Calls[n-1].Args // they could not be read
	}
	t := c.Turn.Thread
	key := ledger.HashOf([]byte(c.Decided.Tool + "\x00" + args + "\x00" + c.Words))
	x := t.same[key]
	if x.last == c.Turn.Step {
		return
	}
	x.turns, x.last = x.turns+1, c.Turn.Step
	t.same[key] = x
	if x.turns > t.sameMost {
		t.sameMost, t.sameTool = x.turns, c.Decided.Tool
	}
}

// results puts the results of a turn whose calls have all ended into the thread, in call order.
func (t *Thread) results(u *Turn) {
	if u.N == 0 {
		return // no model made the calls, and none reads of them
	}
	for _, c := range u.Calls {
		m := ledger.Message{Role: ledger.FromTool, Tool: c.Decided.Tool, Call: c.Decided.ID, Text: c.Words, Pictures: c.Pictures}
		switch {
		case c.first:
		case c.Progress == CallFailed:
			m.Ended = ledger.EndedFailed
		case c.Progress == CallRefused:
			m.Ended = ledger.EndedRefused
		}
		t.say(m)
	}
	t.tellNotes()
}

// look narrows what who has just been handed the baton sees, as the handoff says.
func (t *Thread) look(d *ledger.BatonPassed) {
	switch d.Sees {
	case ledger.SeesLast:
		for i := len(t.messages) - 1; i >= 0; i-- {
			if t.messages[i].Role == ledger.User {
				t.view = i
				break
			}
		}
	case ledger.SeesNote:
		t.view = len(t.messages)
		t.say(ledger.Message{Role: ledger.User, Text: cmp.Or(d.Because, d.Words)})
	}
}

// tellNotes puts into the thread what the next turn has to know, where no call is
// left without its result.
func (t *Thread) tellNotes() {
	for _, n := range t.notes {
		t.say(ledger.Message{Role: ledger.User, Text: n})
	}
	t.notes = nil
}

func (t *Thread) say(m ledger.Message) {
	t.messages = append(t.messages, m)
	t.hashes = append(t.hashes, hashOf(m))
}

func hashOf(m ledger.Message) ledger.Hash {
	b, err := json.Marshal(m)
	if err != nil {
		panic("a message is plain text: " + err.Error())
	}
	return ledger.HashOf(b)
}

func sorted(names iter.Seq[string]) []string { return slices.Sorted(names) }

func patched(facts map[string]any, patch json.RawMessage) (map[string]any, error) {
	p, err := jsonpatch.DecodePatch(patch)
	if err != nil {
		return nil, fmt.Errorf("the patch cannot be read: %w", err)
	}
	doc, err := json.Marshal(facts)
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
