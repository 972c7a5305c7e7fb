package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"stonebaton.example/core/drill"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/core/trace"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/live"
	"stonebaton.example/internal/model"
	"stonebaton.example/internal/model/chat"
	"stonebaton.example/internal/understudy"
)

// noDay is the clock of a drill that names none.
var noDay = time.Date(2026, 1, 5, 9, 0, 0, 0, time.UTC)

// UnknownDrillError names a drill that is not there.
type UnknownDrillError struct {
	Name string
	Have []string
}

func (e *UnknownDrillError) Error() string {
	return fmt.Sprintf("unknown drill %q.%s", e.Name, near.Hint(e.Name, e.Have))
}

// Remedy says where the names of the drills are found.
func (e *UnknownDrillError) Remedy() string { return "`stonebaton drill` runs all there are." }

// RunDrills runs drills in memory, several side by side, and tells of each as
// it ends. Names picks some; none is all. The results come in the order of names.
func RunDrills(ctx context.Context, p *project.Project, shop *Workshop, names []string, tell func(drill.Result)) ([]drill.Result, error) {
	var pick []*project.Drill
	var have []string
	for _, d := range p.Drills {
		have = append(have, d.Name)
		if len(names) == 0 || slices.Contains(names, d.Name) {
			pick = append(pick, d)
		}
	}
	for _, n := range names {
		if !slices.Contains(have, n) {
			return nil, &UnknownDrillError{n, have}
		}
	}
	out := make([]drill.Result, len(pick))
	var mu sync.Mutex
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(2 * runtime.NumCPU())
	for i, d := range pick {
		g.Go(func() error {
			r := runDrill(ctx, p, shop, d)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			out[i] = r
			if tell != nil {
				mu.Lock()
				tell(r)
				mu.Unlock()
			}
			return nil
		})
	}
	return out, g.Wait()
}

// NewDrillResult is the result of a drill that has not been run.
func NewDrillResult(d *project.Drill) drill.Result {
	r := drill.Result{ID: d.Name, Status: "new", Faults: []drill.Fault{}, Says: []drill.Said{}, Place: d.Place, Summary: d.Summary, Messages: []string{}}
	for _, m := range d.Says {
		r.Messages = append(r.Messages, m.Text)
	}
	return r
}

func runDrill(ctx context.Context, p *project.Project, shop *Workshop, d *project.Drill) drill.Result {
	r := NewDrillResult(d)
	r.Status, r.At = "passed", time.Now().UTC()
	began := time.Now()
	err := rehearse(ctx, p, shop, d, &r)
	r.MS = time.Since(began).Milliseconds()
	switch {
	case err != nil:
		r.Status, r.Error = "broken", err.Error()
	case len(r.Faults) > 0:
		r.Status = "failed"
	}
	return r
}

// rehearse drives a drill's messages, one run each, and settles its gates.
func rehearse(ctx context.Context, p *project.Project, shop *Workshop, d *project.Drill, r *drill.Result) error {
	p = p.WithStubs(d.Stubs)
	clock := &madeUp{now: d.Now}
	if clock.now.IsZero() {
		clock.now = noDay
	}
	log := engine.NewMemory()
	everywhere := &understudy.Wire{Always: true, Slips: d.Slips, Seed: d.Seed}
	var models engine.Models = model.Set{"understudy": everywhere, "chat-completions": everywhere}
	if d.Model != "" {
		models = model.Set{"understudy": &understudy.Wire{}, "chat-completions": chat.New(shop.Secrets, nil)}
	}
	e := engine.New(engine.Config{Log: log, Models: models, Tools: shop.Set.Rehearsal(), Projects: fixed{p}, Blanker: shop.Secrets,
		Live: &live.Hub{}, Clock: clock, Jitter: func() float64 { return 0 }, NewID: func() string { return "drill" }})
	defer e.Close()
	session := ""
	for _, say := range d.Says {
		st := engine.Start{Session: session, Text: say.Text, Person: d.Person, Tools: d.Tools, Rungs: d.Rungs, Model: d.Model, Consults: d.Consults, Legs: d.Legs}
		if session == "" {
			st.State = d.State
		}
		if st.Relay = say.Relay; say.Input != nil {
			raw, err := json.Marshal(say.Input)
			if err != nil {
				return err
			}
			st.Input = raw
		}
		b, err := e.Begin(ctx, st)
		if err != nil {
			return err
		}
		if b.Run == "" {
			return errors.New("the run before this message still waits for a person; say under gates: what the person does")
		}
		session = b.Session
		if err := e.Wait(ctx); err != nil {
			return err
		}
		if err := settleAll(ctx, e, d, b.Run, clock); err != nil {
			return err
		}
		events, err := engine.All(log.Read(ctx, b.Run, 0))
		if err != nil {
			return err
		}
		t, err := trace.Of(b.Run, events)
		if err != nil {
			return err
		}
		r.Says = append(r.Says, drill.Said{Text: say.Text, Totals: t.Totals(), Steps: t.Steps})
		faults, err := drill.Check(p, say.Expect, b.Run, events)
		if err != nil {
			return err
		}
		r.Faults = append(r.Faults, faults...)
	}
	return nil
}

// settleAll does what the drill's person does at each gate, until the run ends
// or waits for what the drill leaves open.
func settleAll(ctx context.Context, e *engine.Engine, d *project.Drill, run string, clock *madeUp) error {
	done := map[string]int{} // tickets that were settled, by what they were about
	for {
		s, err := e.State(ctx, run)
		if err != nil {
			return err
		}
		acted := false
		for _, t := range s.Tickets() {
			var g project.DrillGate
			if list := d.Gates[t.Raised.Tool]; len(list) > 0 {
				g = list[min(done[t.Raised.Tool], len(list)-1)]
			}
			switch {
			case g.Verb == "" || t.Raised.Form == ledger.OutcomeTicket:
				continue
			case g.Verb == ledger.Lapsed:
				if t.Raised.Due == nil {
					return fmt.Errorf("the gate of %s has no within:, so it cannot lapse", t.Raised.Tool)
				}
				clock.jump(*t.Raised.Due)
				if _, err := e.FireDue(ctx); err != nil {
					return err
				}
			default:
				because := g.Because
				if g.Verb == ledger.RefuseIt && because == "" {
					because = "the drill refuses it"
				}
				s := loop.Settlement{Verb: g.Verb, By: d.Person, Because: because, Args: g.Args}
				if g.Verb == ledger.Answer {
					s.Result = g.Answer
				}
				if err := e.Settle(ctx, run, t.Step, s); err != nil {
					return err
				}
			}
			acted = true
			if now, err := e.State(ctx, run); err != nil {
				return err
			} else if !now.Ticket(t.Step).Open() { // more people may have to agree
				done[t.Raised.Tool]++
			}
			break
		}
		if !acted {
			return nil
		}
		if err := e.Wait(ctx); err != nil {
			return err
		}
	}
}

// fixed is one version of a project.
type fixed struct{ p *project.Project }

func (f fixed) Current() (*project.Project, error) { return f.p, nil }

func (f fixed) Version(context.Context, ledger.Hash) (*project.Project, error) { return f.p, nil }

// madeUp is a clock that stands still, and jumps where only time is waited for.
type madeUp struct {
	mu  sync.Mutex
	now time.Time
}

func (c *madeUp) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now
}

func (c *madeUp) jump(to time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if to.After(c.now) {
		c.now = to
	}
}

func (c *madeUp) Until(due time.Time, idle bool) (<-chan time.Time, func()) {
	ch := make(chan time.Time, 1)
	if idle {
		c.jump(due)
		ch <- due
	}
	return ch, func() {}
}
