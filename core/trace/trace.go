package trace

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
	"stonebaton.example/core/value"
)

// Kind is what a step is.
type Kind string

// The kinds of steps.
const (
	Turn Kind = "turn"
	Call Kind = "call"
	Pass Kind = "pass"
)

// Outside is the lane of a call that no agent made.
const Outside = "outside"

// Step is one block of the track and one row of the list.
type Step struct {
	N        int             `json:"n"`  // counts from 1, in the order of beginning
	ID       string          `json:"id"` // structural, such as t2.c1
	Kind     Kind            `json:"kind"`
	Agent    string          `json:"agent"`
	Name     string          `json:"name"`  // "turn 2", the tool, or the handoff
	Title    string          `json:"title"` // what went in, in a few words
	Brief    string          `json:"brief"` // what came out, in a few words
	Why      string          `json:"why"`
	Status   string          `json:"status"` // going, waiting, retrying, lost, returned, failed, refused
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
	To       string          `json:"to,omitempty"`        // of a handoff
	Wait     *Wait           `json:"wait,omitempty"`
}

// Wait is a ticket on a step.
type Wait struct {
	Form    ledger.TicketKind `json:"form"`
	Ask     string            `json:"ask"`
	Why     string            `json:"why"`
	By      []string          `json:"by"`
	Shown   ledger.Hash       `json:"shown"`
	Raised  time.Time         `json:"raised_at"`
	Due     *time.Time        `json:"due,omitempty"`
	Settled *time.Time        `json:"settled_at,omitempty"`
	Verb    ledger.Verb       `json:"verb,omitempty"`
	Who     string            `json:"settled_by,omitempty"`
	Because string            `json:"because,omitempty"`
}

// Totals is the head of a run.
type Totals struct {
	ID      string                 `json:"id"`
	Session string                 `json:"session"`
	Status  ledger.Status          `json:"status"`
	Agent   string                 `json:"agent"`
	Lanes   []string               `json:"lanes"`  // agents in the order in which they first acted
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
	Problem *ledger.Problem        `json:"problem,omitempty"`
	Facts   map[string]any         `json:"state"`
	Seq     int64                  `json:"seq"`
}

// Trace is the picture of a run so far.
type Trace struct {
	Steps                []*Step
	state                *run.State
	byID                 map[string]*Step
	lanes                []string
	path, called, models []string // as in Totals
}

// New gives the trace of a run with no events.
func New(id string) *Trace { return &Trace{state: run.New(id), byID: map[string]*Step{}} }

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
	o := Totals{ID: s.Run, Path: list(t.path), Called: list(t.called), Models: list(t.models), Status: s.Status(), Agent: s.Agent, Lanes: append([]string{}, t.lanes...), Turns: s.Turns, Calls: s.Calls, Passes: s.Passes, Tokens: s.Tokens,
		Cost: s.Cost, MS: s.Worked(s.At).Milliseconds(), Opened: s.OpenedAt, Last: s.At, Facts: s.Facts, Seq: s.Seq}
	if s.Opened != nil {
		o.Session, o.Person, o.Text, o.Tools, o.Model = s.Opened.Session, s.Opened.Person, s.Opened.Text, s.Opened.Tools, s.Opened.Model
		o.Rung, o.Rungs, o.Via = s.Opened.Rung, s.Opened.Rungs, s.Opened.Via
	}
	if s.Closed != nil {
		o.Answer, o.Problem = s.Closed.Answer, s.Closed.Problem
	}
	return o
}

func list(s []string) []string { return append([]string{}, s...) }

// tally keeps what the totals tell beside the state.
func (t *Trace) tally(e ledger.Event) {
	put := func(l *[]string, s string) {
		if !slices.Contains(*l, s) {
			*l = append(*l, s)
		}
	}
	switch d := e.Data.(type) {
	case *ledger.RunOpened:
		if d.Agent != "" {
			t.path = append(t.path, d.Agent)
		}
	case *ledger.BatonPassed:
		t.path = append(t.path, d.To)
	case *ledger.CallDecided:
		put(&t.called, d.Tool)
	case *ledger.TurnReceived:
		put(&t.models, t.state.Turn.Model)
	}
}

func (t *Trace) add(s *Step) *Step {
	s.N = len(t.Steps) + 1
	t.Steps = append(t.Steps, s)
	t.byID[s.ID] = s
	if !slices.Contains(t.lanes, s.Agent) {
		t.lanes = append(t.lanes, s.Agent)
	}
	return s
}

// Apply takes one event in and gives the steps it changed.
func (t *Trace) Apply(e ledger.Event) ([]*Step, error) {
	before := t.state.Agent
	if err := t.state.Apply(e); err != nil {
		return nil, err
	}
	t.tally(e)
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
	case *ledger.CallDecided:
		st := &Step{ID: e.Step, Kind: Call, Agent: before, Name: d.Tool, Title: named(d.Args), Args: d.Args, Why: d.Why, Began: e.At, Status: "waiting", Effect: d.Effect, Rung: d.Rung, Repairs: d.Repairs, Because: d.Because}
		if before == "" {
			st.Agent = Outside
		}
		if d.Verdict == ledger.Pass {
			st.Kind, st.To, st.Title = Pass, d.To, ""
		}
		s = t.add(st)
	case *ledger.CallStarted:
		s.Status, s.Attempts, s.Stub = "going", d.Attempt, d.Stub
		if d.Attempt == 1 && s.Wait == nil {
			s.Began = e.At
		}
		if d.Attempt > 1 {
			s.Why = d.Why
		}
	case *ledger.CallReturned:
		s.MS += d.MS
		end("returned", brief(d.Result))
		if s.Kind == Pass {
			s.Brief = ""
		}
	case *ledger.CallFailed:
		s.MS += d.MS
		end("failed", d.Say)
		if !d.Final {
			s.Status, s.Ended = "retrying", nil
		}
	case *ledger.CallRefused:
		end("refused", d.Words)
	case *ledger.GateRaised:
		s.Status = "waiting"
		s.Wait = &Wait{Form: d.Form, Ask: d.Ask, Why: d.Why, By: append([]string{}, d.By...), Shown: d.Shown, Raised: e.At, Due: d.Due}
	case *ledger.GateSettled:
		at := e.At
		s.Wait.Settled, s.Wait.Verb, s.Wait.Who, s.Wait.Because = &at, d.Verb, d.By, d.Because
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

// Find gives a step by its number or its id.
func (t *Trace) Find(name string) *Step {
	if s := t.byID[name]; s != nil {
		return s
	}
	for _, s := range t.Steps {
		if fmt.Sprint(s.N) == name {
			return s
		}
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
				parts = append(parts, fmt.Sprintf("%d %s", len(e), k))
			case bool:
				if !e {
					k = "not " + k
				}
				parts = append(parts, k)
			default:
				val := expr.Show(e)
				if at, err := time.Parse(time.RFC3339, val); err == nil {
					val = at.Format("2 Jan 15:04")
				}
				if names {
					parts = append(parts, k+": "+cut(val, 40))
					continue
				}
				if i := strings.LastIndexByte(k, '_'); i > 0 && len(k)-i <= 4 && val != "" {
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
	st := run.New(id)
	for _, e := range events {
		mine := e.Step == s.ID
		if mine && d.Before == nil {
			d.Before = copyOf(st.Facts)
		}
		if err := st.Apply(e); err != nil {
			return nil, err
		}
		if !mine {
			continue
		}
		d.Events = append(d.Events, e)
		d.After = copyOf(st.Facts)
		switch x := e.Data.(type) {
		case *ledger.TurnReceived:
			d.Text, d.Calls, d.Reasoning = x.Text, x.Calls, x.Reasoning
		case *ledger.TurnFailed:
			d.Words = x.Problem.Say
		case *ledger.CallDecided:
			d.In = x.Args
			if len(x.Args) == 0 && st.Turn != nil && x.N <= len(st.Turn.Reply.Calls) {
				d.In, _ = json.Marshal(st.Turn.Reply.Calls[x.N-1].Args) // what was not JSON is shown as text
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

func copyOf(m map[string]any) map[string]any {
	out := map[string]any{}
	for k, v := range m {
		out[k] = v
	}
	return out
}
