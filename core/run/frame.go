package run

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/value"
)

// Frame is a relay at work: where it is, what it has kept, and how often it has visited each
// of its legs. Nobody speaks on it: its legs open threads and other relays under it.
type Frame struct {
	Relay  string
	Input  map[string]any
	Kept   map[string]any             // never changed in place
	Visits map[string]int             // of each leg; never changed in place
	Ended  map[string]*ledger.LegLeft // the newest end of each leg; never changed in place
	Visit  *Visit                     // of the leg where it is; nil between legs
	Last   *Visit                     // the newest that is over; nil before the first
	typed  struct {
		made  sync.Once
		value any
	}
	Go string // the leg that comes next, where there is no visit; "" before the first and at the end
}

// Visit is one visit of a leg.
type Visit struct {
	Step    ledger.StepID
	Leg     string
	Entered *ledger.LegEntered
	Left    *ledger.LegLeft // nil while it goes on
	Opened  int             // items that were opened
	Results []*Result       // of the items, as they ended; nil while one is open
	Done    int             // items that have ended
	Failed  int             // of these, the ones that did not end well
	Late    bool            // its time is over: it ends

	at        time.Time // of its beginning
	heldFor   time.Duration
	heldSince time.Time // zero where not all below it waits for people
}

// Result is how a thread or relay that a leg opened has ended.
type Result struct {
	Outcome ledger.End
	Answer  string
	Value   json.RawMessage // "" is the answer
	Remarks string          // of an answer that is not as good as it has to be
	Problem *ledger.Problem
	Why     string
	Said    string         // of the run's relay: what the session keeps in place of what the person said
	Changed map[string]any // the facts that it changed, as it left them; nil for one that it removed
	Clashed []string
	Acted   bool
}

// Wrong says what is wrong, where it did not end well.
func (r *Result) Wrong() ledger.Problem {
	if r.Problem != nil {
		return *r.Problem
	}
	return ledger.Problem{Class: "stopped", Say: r.Why}
}

// Item gives the step of what the leg opens as its n-th, from 1.
func (v *Visit) Item(n int) ledger.StepID {
	if v.Entered.Many {
		return v.Step.Item(n)
	}
	return v.Step
}

// Typed gives the input as expressions see it by its schema. It is made once: a list of it may
// be long, and is looked at for each of its items.
func (f *Frame) Typed(doc map[string]any) any {
	f.typed.made.Do(func() { f.typed.value = expr.Typed(doc, any(f.Input)) })
	return f.typed.value
}

// Held says whether all that the visit has opened waits for people.
func (v *Visit) Held() bool { return !v.heldSince.IsZero() }

// Until gives when the visit has worked for a while, waits for people not counted.
func (v *Visit) Until(d time.Duration) time.Time { return v.at.Add(d + v.heldFor) }

// clock notes on the visit of a relay at work whether it waits for people from now on.
func (t *Thread) clock(now time.Time) {
	if t.frame == nil || t.frame.Visit == nil {
		return
	}
	v := t.frame.Visit
	held := t.sum.tickets > 0 && t.sum.flight == 0 && t.sum.timers == 0 && t.sum.able == 0
	switch {
	case held && v.heldSince.IsZero():
		v.heldSince = now
	case !held && !v.heldSince.IsZero():
		v.heldFor += now.Sub(v.heldSince)
		v.heldSince = time.Time{}
	}
}

// Late says whether the thread is part of what a leg has opened whose time is over.
func (t *Thread) Late() bool {
	for ; t.parent != nil; t = t.parent {
		if v := t.visit; v != nil && v.Late {
			return true
		}
	}
	return false
}

// Frame is the relay that is at work on the thread; nil where agents speak.
func (t *Thread) Frame() *Frame { return t.frame }

// Room says whether the leg may open another item.
func (v *Visit) Room() bool {
	return v.Opened < v.Entered.Items && v.Opened-v.Done < v.Entered.AtOnce && !v.gaveUp()
}

// Over says whether all that the leg opens has ended.
func (v *Visit) Over() bool {
	return v.Opened == v.Done && (v.Done == v.Entered.Items || v.gaveUp())
}

// gaveUp says whether an item ended badly, which ends the leg.
func (v *Visit) gaveUp() bool { return v.Failed > 0 && !v.Entered.Collect }

// openFrame sets a relay to work under what opens it.
func (s *State) openFrame(e ledger.Event, d *ledger.FrameOpened) error {
	input, err := value.ReadObject(d.Input)
	if err != nil {
		return fmt.Errorf("its input cannot be read: %w", err)
	}
	t, err := s.under(e, ledger.Course)
	if err != nil {
		return err
	}
	kept := map[string]any{}
	if e.Step == ledger.Root && len(s.opened.Kept) > 0 {
		if kept, err = value.ReadObject(s.opened.Kept); err != nil {
			return fmt.Errorf("what is kept cannot be read: %w", err)
		}
	}
	t.agent = d.Relay
	t.frame = &Frame{Relay: d.Relay, Input: input, Kept: kept, Visits: map[string]int{}, Ended: map[string]*ledger.LegLeft{}}
	s.enroll(t)
	return nil
}

// under makes what opens at a step: of a call, of a leg, or of the run itself.
func (s *State) under(e ledger.Event, role ledger.Opening) (*Thread, error) {
	t := &Thread{id: e.Step, at: e.At, same: map[ledger.Hash]again{}, handles: map[string]bool{}, lines: map[string]*line{}}
	if c := s.calls[e.Step]; c != nil {
		if (c.Progress != Allowed && (c.Progress != Decided || c.Decided.Verdict != ledger.Start)) || c.Decided.Opens != role {
			return nil, fmt.Errorf("no call that opens one is due there")
		}
		t.opener, t.parent = c, c.Turn.Thread
		c.Progress = Opened
		c.recountCall()
	} else if e.Step == ledger.Root {
		if s.opened.Relay == "" || role != ledger.Course || s.byID[e.Step] != nil || s.root != nil {
			return nil, fmt.Errorf("the run does not begin with a relay, or has begun with it")
		}
		t.parent = s.main
		s.main.recount(&s.main.first, counts{})
	} else if role == ledger.HookCall {
		p := s.byID[e.Step.Thread()]
		if p == nil || p.hooked == nil || e.Step != p.id.Hook(p.hooks) {
			return nil, fmt.Errorf("no hook that calls was fired there")
		}
		p.hooked = nil
		p.hooking++
		t.parent = p
	} else if role == ledger.Judge {
		u := s.turns[e.Step.Parent()]
		if u == nil || u.Phase != Received || len(u.Reply.Calls) > 0 || u.revise || u.judging || u.judged != nil {
			return nil, fmt.Errorf("no answer that is to be judged is there")
		}
		u.judging = true
		t.judges, t.parent = u, u.Thread
		u.Thread.recountTurn()
	} else {
		p := s.byID[e.Step.Thread()]
		if p == nil || p.frame == nil || p.frame.Visit == nil {
			return nil, fmt.Errorf("nothing that opens one is due there")
		}
		v := p.frame.Visit
		if role == ledger.Consult || v.Opened >= v.Entered.Items || v.Item(v.Opened+1) != e.Step {
			return nil, fmt.Errorf("the leg does not open one there")
		}
		v.Opened++
		v.Results = append(v.Results, nil)
		t.parent, t.visit, t.item = p, v, v.Opened
		p.recountFrame()
	}
	t.facts, t.base = t.parent.facts, t.parent.facts
	return t, nil
}

// enroll takes a new thread or relay into the tree.
func (s *State) enroll(t *Thread) {
	t.parent.under++
	s.threads = append(s.threads, t)
	s.byID[t.id] = t
	t.recountTurn()
}

// closed puts the end of a thread or relay where what opened it finds it.
func (s *State) ended(t *Thread, r *Result) {
	switch p := t.parent; {
	case t.opener != nil:
		c := t.opener
		c.Closed, c.Progress = r, Left
		c.recountCall()
	case t.IsHook():
		p.hooking--
	case t.judges != nil:
		t.judges.judging, t.judges.judged = false, r
		p.recountTurn()
	case t.visit != nil:
		v := t.visit
		v.Results[t.item-1] = r
		if v.Done++; !r.Outcome.Well() {
			v.Failed++
		}
		p.recountFrame()
	default:
		s.root = r
		if r.Said != "" {
			at := len(s.opened.Memory) // where what the person said stands
			p.messages, p.hashes = slices.Clone(p.messages), slices.Clone(p.hashes)
			p.messages[at].Text = r.Said
			p.hashes[at] = hashOf(p.messages[at])
		}
		if r.Outcome.Well() {
			p.say(ledger.Message{Agent: t.frame.Relay, Role: ledger.Assistant, Text: r.Answer})
		}
		p.recount(&p.first, counts{able: 1})
	}
}

// recountFrame counts anew whether something can be done about a relay itself: a leg can be
// entered or left, or the relay ended.
func (t *Thread) recountFrame() {
	n := counts{}
	if v := t.frame.Visit; v == nil || v.Room() || v.Over() || v.Late {
		n.able = 1
	}
	t.recount(&t.first, n)
}

func (s *State) legEvent(e ledger.Event) error {
	t := s.byID[e.Step.Thread()]
	if t == nil || t.frame == nil {
		return fmt.Errorf("no relay is at work there")
	}
	f := t.frame
	switch d := e.Data.(type) {
	case *ledger.LegEntered:
		name, n := e.Step.LegName()
		if f.Visit != nil || n != f.Visits[name]+1 {
			return fmt.Errorf("the relay has not left its leg, or this is not its next visit")
		}
		f.Visits = maps.Clone(f.Visits)
		f.Visits[name] = n
		s.legs++
		f.Visit = &Visit{Step: e.Step, Leg: name, Entered: d, at: e.At}
	case *ledger.LegLeft:
		v := f.Visit
		if v == nil || v.Step != e.Step || v.Opened != v.Done || (d.Outcome.Well() && !v.Over() && v.Entered.Kind != ledger.LegRounds) {
			return fmt.Errorf("the relay is not at that leg, or something that it opened is open")
		}
		v.Left = d
		f.Visit, f.Last, f.Go = nil, v, d.Go
		f.Ended = maps.Clone(f.Ended)
		f.Ended[v.Leg] = d
		if d.Amend != "" {
			var x ledger.Decision
			if err := json.Unmarshal(d.Value, &x); err != nil {
				return fmt.Errorf("what people decided cannot be read: %w", err)
			}
			f.Kept = maps.Clone(f.Kept)
			f.Kept[d.Amend] = x.Text
		}
		if d.Outcome.Well() && (d.Keep != "" || v.Entered.Kind == ledger.LegSets) {
			val, err := value.Read(d.Value)
			if err != nil {
				return fmt.Errorf("its value cannot be read: %w", err)
			}
			f.Kept = maps.Clone(f.Kept)
			if d.Keep != "" {
				f.Kept[d.Keep] = val
			} else if fields, ok := val.(map[string]any); ok {
				maps.Copy(f.Kept, fields)
			}
		}
	}
	t.recountFrame()
	return nil
}
