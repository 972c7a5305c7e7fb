package view

import (
	"cmp"
	"slices"
	"time"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/run"
)

// Head is what the list of runs shows of a run; it is stored with every append.
type Head struct {
	Status           ledger.Status
	Agent            string
	Path             []string // the agents that have held the baton on the main thread, in order
	Agents           []string // that had a turn, on any thread
	Called           []string // tools, on any thread
	Models           []string // that answered
	Turns, Calls     int
	Tokens           ledger.Usage
	Cost             float64
	Worked           time.Duration
	Answer           string
	Problem          *ledger.Problem
	OpenedAt, LastAt time.Time
}

// Tally keeps what a head tells beside the state. Its zero value is that of a run with no
// events.
type Tally struct {
	Path, Agents, Called, Models []string
	asked                        map[ledger.StepID]string // the model of each turn in flight
}

// Note counts an event.
func (t *Tally) Note(e ledger.Event) {
	put := func(l *[]string, s string) {
		if !slices.Contains(*l, s) {
			*l = append(*l, s)
		}
	}
	switch d := e.Data.(type) {
	case *ledger.RunOpened:
		if who := cmp.Or(d.Agent, d.Relay); who != "" {
			t.Path = append(t.Path, who)
		}
	case *ledger.BatonPassed:
		if e.Thread == ledger.MainThread {
			t.Path = append(t.Path, d.To)
		}
	case *ledger.CallDecided:
		put(&t.Called, d.Tool)
	case *ledger.TurnSent:
		if t.asked == nil {
			t.asked = map[ledger.StepID]string{}
		}
		t.asked[e.Step] = d.Model
		put(&t.Agents, d.Agent)
	case *ledger.TurnReceived:
		put(&t.Models, t.asked[e.Step])
		delete(t.asked, e.Step)
	}
}

// Head gives the head of a run.
func (t *Tally) Head(s *run.State) Head {
	h := Head{Status: s.Status(), Agent: s.Agent(), Path: t.Path, Agents: t.Agents, Called: t.Called, Models: t.Models, Turns: s.Turns(), Calls: s.Calls(), Tokens: s.Tokens(), Cost: s.Cost(),
		Worked: s.Worked(s.At()), OpenedAt: s.OpenedAt(), LastAt: s.At()}
	if c := s.Closed(); c != nil {
		h.Answer, h.Problem = c.Answer, c.Problem
	}
	return h
}
