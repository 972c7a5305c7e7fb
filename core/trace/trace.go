package trace

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
	"stonebaton.example/core/value"
	"stonebaton.example/core/view"
)

// Kind is what a step is.
type Kind string

// The kinds of steps.
const (
	Turn    Kind = "turn"
	Call    Kind = "call"
	Pass    Kind = "pass"
	Consult Kind = "consult" // a call that another agent answers, on a thread of its own
	Relay   Kind = "relay"   // a relay at work: for a call, or the whole of the run
	Leg     Kind = "leg"     // a visit of a leg of a relay
	Planned Kind = "step"    // a call that takes a step of a plan
	Judged  Kind = "judge"   // another agent judges an answer
	Hooked  Kind = "hook"    // a call that an agent's hook makes
)

// Outside is the lane of a call that no agent made.
const Outside = "outside"

// Step is one block of the track and one row of the list.
type Step struct {
	N        int             `json:"n"`  // counts from 1, in the order of beginning
	ID       ledger.StepID   `json:"id"` // structural, such as t2.c1
	Kind     Kind            `json:"kind"`
	Agent    string          `json:"agent"`
	Lane     string          `json:"lane"`             // where it stands on the track: the id of a Lane
	Depth    int             `json:"depth"`            // threads above it
	Thread   ledger.StepID   `json:"thread,omitempty"` // the consult that it is part of
	Name     string          `json:"name"`             // "turn 2", the tool, or the handoff
	Title    string          `json:"title"`            // what went in, in a few words
	Brief    string          `json:"brief"`            // what came out, in a few words
	Why      string          `json:"why"`
	Status   string          `json:"status"`          // going, waiting, retrying, lost, returned, failed, refused, aside
	Aside    string          `json:"aside,omitempty"` // the run in which a call waits for people
	Began    time.Time       `json:"began"`
	Ended    *time.Time      `json:"ended,omitempty"`
	MS       int64           `json:"ms"` // of work, waits for people not counted
	Tokens   *ledger.Usage   `json:"tokens,omitempty"`
	Cost     float64         `json:"cost,omitempty"`
	Attempts int             `json:"attempts"`
	Effect   ledger.Effect   `json:"effect,omitempty"`
	Stub     bool            `json:"stub,omitempty"`
	Rung     ledger.Rung     `json:"rung,omitempty"`    // how far the tool was let
	Repairs  []string        `json:"repairs,omitempty"` // what was put right in the arguments
	Because  string          `json:"because,omitempty"` // the model's reason, for reason_first
	Reads    int             `json:"reads,omitempty"`   // tokens of the words that the model reads of a call, about
	Model    string          `json:"model,omitempty"`
	Text     string          `json:"text,omitempty"`      // a turn's words
	Answered string          `json:"answered,omitempty"`  // the model's name as the endpoint gave it
	Args     json.RawMessage `json:"args,omitempty"`      // of a call, as they were sent on
	Undone   *time.Time      `json:"undone_at,omitempty"` // when a person undid the change that it made
	To       string          `json:"to,omitempty"`        // of a handoff or a consult
	Asked    *Asked          `json:"asked,omitempty"`     // of a consult
	Link     string          `json:"link,omitempty"`      // opens the outside record of a call
	Wait     *Wait           `json:"wait,omitempty"`
}

// Asked is what a consult came to: the sums are over all that happened on its thread.
type Asked struct {
	Question string       `json:"question"`
	Outcome  ledger.End   `json:"outcome,omitempty"` // "" while it goes on
	Kept     bool         `json:"kept,omitempty"`    // its agent remembered what it was asked before
	Turns    int          `json:"turns"`
	Calls    int          `json:"calls"`
	Tokens   ledger.Usage `json:"tokens"`
	Cost     float64      `json:"cost,omitempty"`
	Open     int          `json:"open"`             // tickets on it that wait for a person
	Course   *Course      `json:"course,omitempty"` // of a leg that plans, once it has taken a step
}

// Course is how far a plan is.
type Course struct {
	Aim   string          `json:"aim"`
	Who   string          `json:"who"` // takes the newest step
	N     int             `json:"n"`   // steps taken, the newest too
	Of    int             `json:"of"`  // at most
	Ahead []project.Ahead `json:"ahead"`
}

// Lane is a line of the track: an agent on the main thread, or one that is consulted from
// another lane, however often.
type Lane struct {
	ID    string `json:"id"` // the agents down to it, joined by /
	Agent string `json:"agent"`
	Depth int    `json:"depth"`
	Under string `json:"under,omitempty"` // the lane that consults it
	Turns int    `json:"turns"`
	Calls int    `json:"calls"`
	Times int    `json:"times,omitempty"` // that it was opened: consulted, or set to work by legs and their items; 0 on the main thread
}

// Wait is a ticket on a step.
type Wait struct {
	Form     ledger.TicketKind  `json:"form"`
	Ask      string             `json:"ask"`
	Why      string             `json:"why"`
	By       []string           `json:"by"`
	Shown    ledger.Hash        `json:"shown"`
	Raised   time.Time          `json:"raised_at"`
	Due      *time.Time         `json:"due,omitempty"`
	Settled  *time.Time         `json:"settled_at,omitempty"`
	Verb     ledger.Verb        `json:"verb,omitempty"`
	Who      string             `json:"settled_by,omitempty"`
	Because  string             `json:"because,omitempty"`
	Need     int                `json:"need,omitempty"`   // how many have to agree, where it is more than one
	Votes    []view.Vote        `json:"votes,omitempty"`  // of those who have
	Spare    bool               `json:"spare,omitempty"`  // one may say that this need not be asked again
	Wants    json.RawMessage    `json:"wants,omitempty"`  // the JSON Schema of the answer to a question
	Barred   string             `json:"barred,omitempty"` // who asked, and may not agree as well
	Escalate *ledger.Escalation `json:"escalate,omitempty"`
}

// Totals is the head of a run.
type Totals struct {
	ID      string                 `json:"id"`
	Session string                 `json:"session"`
	Status  ledger.Status          `json:"status"`
	Agent   string                 `json:"agent"`
	Lanes   []Lane                 `json:"lanes"`  // as a tree: what a lane consults stands below it
	Path    []string               `json:"path"`   // agents that held the baton, in order
	Called  []string               `json:"called"` // tools
	Models  []string               `json:"models"` // that answered
	Turns   int                    `json:"turns"`
	Calls   int                    `json:"calls"`
	Passes  int                    `json:"passes"`
	Tokens  ledger.Usage           `json:"tokens"`
	Cost    float64                `json:"cost"`
	MS      int64                  `json:"ms"` // of work, held time not counted
	Opened  time.Time              `json:"opened_at"`
	Last    time.Time              `json:"last_at"`
	Person  string                 `json:"person"`
	Text    string                 `json:"text"`
	Tools   ledger.Tools           `json:"tools"`
	Rung    ledger.Rung            `json:"rung,omitempty"` // of all tools, where the run lowered it
	Rungs   map[string]ledger.Rung `json:"rungs,omitempty"`
	Via     string                 `json:"via,omitempty"`
	Model   string                 `json:"model,omitempty"`
	Answer  string                 `json:"answer,omitempty"`
	Remarks string                 `json:"remarks,omitempty"` // what is open about it
	Problem *ledger.Problem        `json:"problem,omitempty"`
	Facts   map[string]any         `json:"state"`
	Seq     int64                  `json:"seq"`
}

// Trace is the picture of a run so far.
type Trace struct {
	Steps  []*Step
	state  *run.State
	byID   map[ledger.StepID]*Step
	lanes  []*Lane
	laneOf map[string]*Lane
	seen   map[ledger.StepID]bool // threads that have a step
	tally  view.Tally
}

// New gives the trace of a run with no events.
func New(id string) *Trace {
	return &Trace{state: run.New(id), byID: map[ledger.StepID]*Step{}, laneOf: map[string]*Lane{}, seen: map[ledger.StepID]bool{}}
}

// Of gives the trace of a whole ledger.
func Of(id string, events []ledger.Event) (*Trace, error) {
	t := New(id)
	for _, e := range events {
		if _, err := t.Apply(e); err != nil {
			return nil, err
		}
	}
	return t, nil
}

// State is the state of the run so far.
func (t *Trace) State() *run.State { return t.state }

// Totals gives the head of the run so far.
func (t *Trace) Totals() Totals {
	s := t.state
	o := Totals{ID: s.Run(), Path: list(t.tally.Path), Called: list(t.tally.Called), Models: list(t.tally.Models), Status: s.Status(), Agent: s.Agent(), Lanes: make([]Lane, len(t.lanes)), Turns: s.Turns(), Calls: s.Calls(), Passes: s.Passes(), Tokens: s.Tokens(),
		Cost: s.Cost(), MS: s.Worked(s.At()).Milliseconds(), Opened: s.OpenedAt(), Last: s.At(), Facts: s.Facts(), Seq: s.Seq()}
	for i, l := range t.lanes {
		o.Lanes[i] = *l
	}
	if x := s.Opened(); x != nil {
		o.Session, o.Person, o.Text, o.Tools, o.Model = x.Session, x.Person, x.Text, x.Tools, x.Model
		o.Rung, o.Rungs, o.Via = x.Rung, x.Rungs, x.Via
	}
	if x := s.Closed(); x != nil {
		o.Answer, o.Remarks, o.Problem = x.Answer, x.Remarks, x.Problem
	}
	return o
}

func list(s []string) []string { return append([]string{}, s...) }

func (t *Trace) add(s *Step) *Step {
	s.N = len(t.Steps) + 1
	s.Thread = s.ID.Thread()
	lane := t.lane(s.Thread, s.Agent)
	s.Lane, s.Depth = lane.ID, lane.Depth
	if on := t.byID[s.Thread]; on != nil && on.Lane != lane.ID && !t.seen[s.Thread] {
		t.seen[s.Thread] = true
		lane.Times++
	}
	if s.Kind == Turn {
		lane.Turns++
	} else {
		lane.Calls++
	}
	t.Steps = append(t.Steps, s)
	t.byID[s.ID] = s
	return s
}

// lane finds the lane of an agent on a thread, and makes it behind all that stands under
// the lane that consults it.
func (t *Trace) lane(thread ledger.StepID, agent string) *Lane {
	l := &Lane{ID: agent, Agent: agent}
	at := len(t.lanes)
	if opener := t.byID[thread]; opener != nil {
		under := t.laneOf[opener.Lane]
		if opener.Agent == agent && opener.Asked != nil && opener.Kind != Consult {
			return under // a relay and its legs stand on one lane
		}
		l.ID, l.Under, l.Depth = under.ID+"/"+agent, under.ID, under.Depth+1
		for at = slices.Index(t.lanes, under) + 1; at < len(t.lanes) && t.lanes[at].Depth > under.Depth; at++ {
		}
	}
	if have := t.laneOf[l.ID]; have != nil {
		return have
	}
	t.lanes = slices.Insert(t.lanes, at, l)
	t.laneOf[l.ID] = l
	return l
}

// around lists the consults that a step is part of, the nearest first.
func (t *Trace) around(step ledger.StepID) []*Step {
	var out []*Step
	for s := t.byID[step.Thread()]; s != nil; s = t.byID[s.ID.Thread()] {
		out = append(out, s)
	}
	return out
}

// Apply takes one event in and gives the steps it changed.
func (t *Trace) Apply(e ledger.Event) ([]*Step, error) {
	before := ""
	if on := t.state.Thread(e.Step.Thread()); on != nil {
		before = on.Agent()
	}
	if err := t.state.Apply(e); err != nil {
		return nil, err
	}
	t.tally.Note(e)
	changed, err := t.steps(e, before)
	if len(changed) > 0 && err == nil {
		around := t.around(e.Step)
		for _, s := range around {
			sum(s, e)
		}
		changed = append(changed, around...)
	}
	return changed, err
}

// sum counts an event of a thread for the consult that it is part of.
func sum(s *Step, e ledger.Event) {
	a := s.Asked
	switch d := e.Data.(type) {
	case *ledger.TurnSent:
		if d.Attempt == 1 {
			a.Turns++
		}
	case *ledger.TurnReceived:
		a.Tokens.In += d.Usage.In
		a.Tokens.Out += d.Usage.Out
		a.Tokens.Estimated = a.Tokens.Estimated || d.Usage.Estimated
		a.Cost += d.Cost
		s.MS += d.MS
	case *ledger.TurnFailed:
		a.Cost += d.Cost
		s.MS += d.MS
	case *ledger.CallDecided:
		if d.Verdict != ledger.Pass {
			a.Calls++
		}
	case *ledger.CallReturned:
		a.Cost += d.Cost
		s.MS += d.MS
	case *ledger.CallFailed:
		a.Cost += d.Cost
		s.MS += d.MS
	case *ledger.GateRaised:
		a.Open++
	case *ledger.GateSettled:
		a.Open--
	}
}

// steps changes what an event is about.
func (t *Trace) steps(e ledger.Event, before string) ([]*Step, error) {
	s := t.byID[e.Step]
	end := func(status, brief string) {
		at := e.At
		s.Status, s.Brief, s.Ended = status, brief, &at
	}
	switch d := e.Data.(type) {
	case *ledger.CallReturned:
		s.Reads = prompt.Tokens(d.Words)
	case *ledger.CallFailed:
		s.Reads = prompt.Tokens(d.Words)
	case *ledger.CallRefused:
		s.Reads = prompt.Tokens(d.Words)
	}
	switch d := e.Data.(type) {
	case *ledger.RunRecovered:
		var changed []*Step
		for _, id := range d.Lost {
			if l := t.byID[id]; l != nil {
				l.Status, l.Brief = "lost", "the service ended while this was under way"
				changed = append(changed, l)
			}
		}
		return changed, nil
	case *ledger.CallLooked:
		return nil, nil // its difference is on the ticket
	case *ledger.TurnSent:
		if s == nil {
			s = t.add(&Step{ID: e.Step, Kind: Turn, Agent: d.Agent, Name: fmt.Sprintf("turn %d", d.N), Why: d.Why, Began: e.At})
		}
		s.Status, s.Attempts, s.Model, s.Brief = "going", d.Attempt, d.Model, ""
		if d.Attempt > 1 {
			s.Why = d.Why
		}
	case *ledger.TurnReceived:
		u := d.Usage
		s.Answered = d.Model
		s.Tokens, s.Cost, s.MS = &u, s.Cost+d.Cost, s.MS+d.MS
		s.Text = d.Text
		brief := cut(d.Text, 60)
		if n := len(d.Calls); n > 0 {
			names := make([]string, n)
			for i, c := range d.Calls {
				names[i] = c.Tool
			}
			brief = strings.Join(names, ", ")
		}
		end("returned", brief)
	case *ledger.TurnFailed:
		s.MS += d.MS
		end("failed", d.Problem.Say)
		if d.RetryAt != nil {
			s.Status, s.Ended = "retrying", nil
		}
	case *ledger.GuardrailSettled:
		s = t.byID[e.Step.Parent()]
		s.Brief = cut("sent back: "+d.Why, 120)
	case *ledger.CallDecided:
		name, title := d.Tool, named(d.Args)
		if name == project.GateOfLeg {
			name, title = "gate", ""
		}
		st := &Step{ID: e.Step, Kind: Call, Agent: before, Name: name, Title: title, Args: d.Args, Why: d.Why, Began: e.At, Status: "waiting", Effect: d.Effect, Rung: d.Rung, Repairs: d.Repairs, Because: d.Because}
		if before == "" {
			st.Agent = Outside
		}
		switch {
		case d.Verdict == ledger.Pass:
			st.Kind, st.To, st.Title = Pass, d.To, ""
		case d.Opens == ledger.Consult:
			st.Kind, st.To, st.Effect = Consult, d.To, ""
			st.Asked = &Asked{}
			if args, err := value.ReadObject(d.Args); err == nil {
				st.Asked.Question, _ = args[project.Question].(string)
			}
			st.Title = cut(st.Asked.Question, 80)
		case d.Planned > 0 && d.Opens != "":
			step := project.StepOf(d.Args)
			st.Kind, st.To, st.Name, st.Effect = Planned, d.To, fmt.Sprintf("%d %s", d.Planned, d.To), ""
			st.Asked = &Asked{Question: step.Ask}
			if st.Title = cut(step.Ask, 80); st.Title == "" {
				st.Title = named(step.With)
			}
			t.course(e.Step.Thread(), d.Planned, step)
		case d.Opens == ledger.Course:
			st.Kind, st.To, st.Asked = Relay, d.To, &Asked{Question: named(d.Args)}
		}
		s = t.add(st)
	case *ledger.FrameOpened:
		if s == nil && e.Step.ItemNumber() > 0 {
			s = t.item(e, before)
		}
		if s == nil {
			s = t.add(&Step{ID: e.Step, Kind: Relay, Agent: d.Relay, To: d.Relay, Name: d.Relay, Title: named(d.Input), Why: d.Why, Asked: &Asked{Question: named(d.Input)}})
		}
		s.Status, s.Attempts, s.Began = "going", 1, e.At
		if e.Step.ItemNumber() > 0 {
			s.Title, s.Asked.Question = named(d.Input), named(d.Input)
		}
	case *ledger.FrameClosed:
		s.Asked.Outcome = d.Outcome
		if e.Step == ledger.Root || e.Step.ItemNumber() > 0 {
			end(outcomes[d.Outcome], cut(said(d.Outcome, d.Answer, d.Problem, d.Why), 80))
		}
	case *ledger.LegEntered:
		name, n := e.Step.LegName()
		if n > 1 {
			name = fmt.Sprintf("%s %d", name, n)
		}
		s = t.add(&Step{ID: e.Step, Kind: Leg, Agent: before, Name: name, Title: d.Kind, Why: d.Why, Began: e.At, Status: "going", Attempts: 1, Asked: &Asked{}})
	case *ledger.LegLeft:
		s.Asked.Outcome = d.Outcome
		brief := brief(d.Value)
		if d.Problem != nil {
			brief = cut(d.Problem.Say, 80)
		}
		if s.To = d.Go; brief == "" && d.Go != "" {
			brief = d.Why
		}
		end(outcomes[d.Outcome], brief)
	case *ledger.ThreadOpened:
		if d.Role == ledger.HookCall {
			s = t.add(&Step{ID: e.Step, Kind: Hooked, Agent: before, Name: "hook", Title: d.Call.Tool, Why: d.Why, Asked: &Asked{}})
		}
		if d.Role == ledger.Judge {
			s = t.add(&Step{ID: e.Step, Kind: Judged, Agent: before, To: d.Agent, Name: "judged by " + d.Agent, Title: cut(d.Say, 80), Why: d.Why, Asked: &Asked{}})
		}
		if s == nil {
			s = t.item(e, before)
		}
		s.Status, s.Attempts, s.Began = "going", 1, e.At
		s.Asked.Kept = d.Line != ""
		switch {
		case d.Call != nil:
			s.Asked.Question = named(json.RawMessage(d.Call.Args))
			if d.Call.Tool == project.GateOfLeg {
				var asks struct{ Ask string }
				_ = json.Unmarshal([]byte(d.Call.Args), &asks) // the loop wrote it
				s.Asked.Question = asks.Ask
			}
		default:
			s.Asked.Question = d.Say
		}
		if s.Kind == Leg {
			s.Title = cut(s.Asked.Question, 80)
		}
	case *ledger.ThreadClosed:
		s.Asked.Outcome = d.Outcome
		if e.Step.ItemNumber() > 0 || s.Kind == Judged || s.Kind == Hooked {
			end(outcomes[d.Outcome], cut(said(d.Outcome, d.Answer, d.Problem, d.Why), 80))
		}
	case *ledger.CallStarted:
		s.Status, s.Attempts, s.Stub = "going", d.Attempt, d.Stub
		if d.Attempt == 1 && s.Wait == nil {
			s.Began = e.At
		}
		if d.Attempt > 1 {
			s.Why = d.Why
		}
	case *ledger.CallReturned:
		s.MS, s.Cost, s.Link = s.MS+d.MS, s.Cost+d.Cost, d.Link
		end("returned", brief(d.Result))
		switch s.Kind {
		case Pass:
			s.Brief = ""
		case Consult, Relay, Planned:
			s.Brief, s.Stub = cut(d.Words, 80), d.Sent != nil
		case Turn, Call, Leg, Judged, Hooked:
		}
	case *ledger.CallFailed:
		s.MS, s.Cost = s.MS+d.MS, s.Cost+d.Cost
		end("failed", d.Say)
		if !d.Final {
			s.Status, s.Ended = "retrying", nil
		}
	case *ledger.CallRefused:
		if end("refused", d.Words); d.Aside != nil {
			s.Status, s.Aside = "aside", d.Aside.Run()
		}
	case *ledger.GateRaised:
		if s == nil { // a turn that a person looks at before it is sent
			s = t.add(&Step{ID: e.Step, Kind: Turn, Agent: d.Agent, Name: d.Tool, Why: d.Why, Began: e.At})
		}
		s.Status = "waiting"
		s.Wait = &Wait{Form: d.Form, Ask: d.Ask, Why: d.Why, By: append([]string{}, d.By...), Shown: d.Shown, Raised: e.At, Due: d.Due, Need: d.Need, Spare: d.Spare, Barred: d.Not, Wants: d.Wants, Escalate: d.Escalate}
	case *ledger.GateVoted:
		s.Wait.Votes = view.Voted(s.Wait.Votes, d, e.At)
		s.Wait.Shown = d.Shown
		if len(d.Args) > 0 {
			s.Wait.Ask = d.Ask
			s.Title, s.Args = named(d.Args), d.Args
		}
	case *ledger.TimerFired:
		if d.What != ledger.ForMore || s == nil || s.Wait == nil || s.Wait.Escalate == nil {
			return nil, nil
		}
		s.Wait.By = append(s.Wait.By, s.Wait.Escalate.To...)
	case *ledger.GateSettled:
		at := e.At
		s.Wait.Settled, s.Wait.Verb, s.Wait.Who, s.Wait.Because = &at, d.Verb, d.By, d.Because
		if s.Kind == Turn && s.Wait.Form == ledger.TextTicket {
			s.Status = "returned"
			return []*Step{s}, nil
		}
		if len(d.Args) > 0 {
			s.Title, s.Args = named(d.Args), d.Args
		}
	case *ledger.FileUndone:
		if s == nil {
			return nil, nil // an earlier run made the change, and has the mark
		}
		at := e.At
		s.Undone = &at
	default:
		return nil, nil
	}
	return []*Step{s}, nil
}

// course notes the newest step of the plan that is made on a thread.
func (t *Trace) course(thread ledger.StepID, n int, step project.Step) {
	leg := t.byID[thread]
	if leg == nil || leg.Asked == nil {
		return
	}
	c := leg.Asked.Course
	if c == nil {
		c = &Course{}
		leg.Asked.Course = c
		if v, _ := t.state.Thread(thread).Visit(); v != nil {
			c.Of = v.Entered.Steps
		}
	}
	if c.N, c.Who, c.Ahead = n, step.Who, append([]project.Ahead{}, step.Ahead...); step.Aim != "" {
		c.Aim = step.Aim
	}
}

// item adds the step of an item or branch of a leg, which has no leg events.
func (t *Trace) item(e ledger.Event, relay string) *Step {
	name, n := "", e.Step.ItemNumber()
	if f := t.state.Thread(e.Step.Thread()).Frame(); f.Visit != nil && n <= len(f.Visit.Entered.Over) {
		name = f.Visit.Leg + " " + strconv.Itoa(n)
		if f.Visit.Entered.Kind == ledger.LegBranches {
			_ = json.Unmarshal(f.Visit.Entered.Over[n-1], &name) // the loop wrote it
		}
	}
	if d, ok := e.Data.(*ledger.ThreadOpened); ok && name == "" {
		name = fmt.Sprintf("%d %s", n, d.Agent) // of an exchange
	}
	return t.add(&Step{ID: e.Step, Kind: Leg, Agent: relay, Name: name, Title: "item", Why: "one of what the leg does several of", Began: e.At, Attempts: 1, Asked: &Asked{}})
}

// said gives an answer, or why there is none.
func said(how ledger.End, answer string, p *ledger.Problem, why string) string {
	switch {
	case p != nil:
		return p.Say
	case how == ledger.EndStopped:
		return why
	}
	return answer
}

// outcomes gives the status of a step by how what it opened has ended.
var outcomes = map[ledger.End]string{ledger.EndDone: "returned", ledger.EndShort: "returned", ledger.EndFailed: "failed", ledger.EndStopped: "failed", ledger.HandedBack: "returned"}

// Find gives a step by its number or its id.
func (t *Trace) Find(name string) *Step {
	if s := t.byID[ledger.StepID(name)]; s != nil {
		return s
	}
	if n, err := strconv.Atoi(name); err == nil && n >= 1 && n <= len(t.Steps) {
		return t.Steps[n-1]
	}
	return nil
}

func cut(s string, n int) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

// brief tells a result in a few words.
func brief(raw json.RawMessage) string { return short(raw, false) }

// named tells arguments in a few words, each with its name.
func named(raw json.RawMessage) string { return short(raw, true) }

func short(raw json.RawMessage, names bool) string {
	if len(raw) == 0 {
		return ""
	}
	v, err := value.Read(raw)
	if err != nil {
		return cut(string(raw), 60)
	}
	switch x := v.(type) {
	case []any:
		if len(x) == 1 {
			return "1 row"
		}
		return fmt.Sprintf("%d rows", len(x))
	case map[string]any:
		var parts []string
		for _, k := range keysInOrder(raw) {
			switch e := x[k].(type) {
			case map[string]any:
				parts = append(parts, k)
			case []any:
				many := fmt.Sprintf("%d %s", len(e), k)
				if len(e) == 1 {
					many = "1 of " + k
				}
				parts = append(parts, many)
			case bool:
				if !e {
					k = "not " + k
				}
				parts = append(parts, k)
			default:
				val := expr.Show(e)
				_, text := e.(string)
				if at, err := time.Parse(time.RFC3339, val); err == nil {
					val = at.Format("2 Jan 15:04")
				}
				if names {
					parts = append(parts, k+": "+cut(val, 40))
					continue
				}
				if val == "" {
					continue
				}
				if i := strings.LastIndexByte(k, '_'); i > 0 && len(k)-i <= 4 && !text {
					val += " " + k[i+1:] // 46 m
				}
				parts = append(parts, val)
			}
		}
		return cut(strings.Join(parts, " · "), 80)
	}
	return cut(expr.Show(v), 60)
}

// keysInOrder gives the keys of a JSON object as they stand in it.
func keysInOrder(raw []byte) []string {
	dec := json.NewDecoder(bytes.NewReader(raw))
	var out []string
	if _, err := dec.Token(); err != nil {
		return nil
	}
	for dec.More() {
		k, err := dec.Token()
		name, ok := k.(string)
		var skip json.RawMessage
		if err != nil || !ok || dec.Decode(&skip) != nil {
			break
		}
		out = append(out, name)
	}
	return out
}

// Detail is everything about one step.
type Detail struct {
	Step      *Step           `json:"step"`
	In        json.RawMessage `json:"in,omitempty"`        // a call's arguments as the model made them
	Args      json.RawMessage `json:"args,omitempty"`      // as they were sent, where a person changed them
	Out       json.RawMessage `json:"out,omitempty"`       // a call's result
	Reasoning string          `json:"reasoning,omitempty"` // a turn's, where the endpoint sent it apart
	Text      string          `json:"text,omitempty"`      // a turn's words
	Calls     []ledger.Ask    `json:"calls,omitempty"`     // a turn's calls, as they came
	Words     string          `json:"words,omitempty"`     // what the model read of a call
	Sent      *ledger.Sent    `json:"sent,omitempty"`      // the proof of a call
	Note      string          `json:"note,omitempty"`      // what went wrong beside it
	Handle    string          `json:"handle,omitempty"`    // names the whole result in later arguments
	Before    map[string]any  `json:"before,omitempty"`    // the state before and after it
	After     map[string]any  `json:"after,omitempty"`
	Question  string          `json:"question,omitempty"` // of a consult, in full
	Answer    string          `json:"answer,omitempty"`   // likewise; why there is none where it failed
	Thread    []*Step         `json:"thread,omitempty"`   // of a consult: what happened on its thread, without what is below it
	Events    []ledger.Event  `json:"events"`
}

// DetailOf gives everything about one step; nil where there is no such step.
func DetailOf(id string, events []ledger.Event, name string) (*Detail, error) {
	t, err := Of(id, events)
	if err != nil {
		return nil, err
	}
	s := t.Find(name)
	if s == nil {
		return nil, nil
	}
	d := &Detail{Step: s, Events: []ledger.Event{}}
	for _, x := range t.Steps {
		if s.Asked != nil && x.Thread == s.ID {
			d.Thread = append(d.Thread, x)
		}
	}
	st := run.New(id)
	facts := func() map[string]any {
		if on := st.Thread(s.Thread); on != nil {
			return maps.Clone(on.Facts())
		}
		return nil
	}
	for _, e := range events {
		mine := e.Step == s.ID
		if mine && d.Before == nil {
			d.Before = facts()
		}
		if err := st.Apply(e); err != nil {
			return nil, err
		}
		if !mine {
			continue
		}
		d.Events = append(d.Events, e)
		if now := facts(); now != nil {
			d.After = now
		}
		switch x := e.Data.(type) {
		case *ledger.TurnReceived:
			d.Text, d.Calls, d.Reasoning = x.Text, x.Calls, x.Reasoning
		case *ledger.TurnFailed:
			d.Words = x.Problem.Say
		case *ledger.ThreadOpened:
			d.Question = x.Say
		case *ledger.ThreadClosed:
			if d.Answer = x.Answer; x.Problem != nil {
				d.Answer = x.Problem.Say
			}
		case *ledger.FrameOpened:
			d.In = x.Input
		case *ledger.FrameClosed:
			if d.Out, d.Answer = x.Value, x.Answer; x.Problem != nil {
				d.Answer = x.Problem.Say
			}
		case *ledger.LegLeft:
			if d.Out, d.Answer = x.Value, x.Answer; x.Problem != nil {
				d.Answer = x.Problem.Say
			}
		case *ledger.CallDecided:
			d.In = x.Args
			if u := st.Turn(x.Of); len(x.Args) == 0 && u != nil && x.N <= len(u.Reply.Calls) {
				d.In, _ = json.Marshal(u.Reply.Calls[x.N-1].Args) // what was not JSON is shown as text
			}
		case *ledger.GateSettled:
			d.Args = x.Args
		case *ledger.CallReturned:
			d.Out, d.Words, d.Sent, d.Note, d.Handle = x.Result, x.Words, x.Sent, x.Note, x.Handle
		case *ledger.CallFailed:
			d.Words, d.Sent, d.Note = x.Words, x.Sent, x.Say
		case *ledger.CallRefused:
			d.Words = x.Words
		}
	}
	return d, nil
}
