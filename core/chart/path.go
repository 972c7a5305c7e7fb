package chart

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
)

// Path draws a run into the map: how often it was where, and which ways it took. Of a relay's
// map it tells on which values a condition held.
func (c *Chart) Path(id string, events []ledger.Event) error {
	at := len(c.Runs)
	c.Runs = append(c.Runs, id)
	for _, n := range c.Nodes {
		n.Taken = append(n.Taken, 0)
	}
	for _, w := range c.Ways {
		w.Taken = append(w.Taken, 0)
	}
	s := run.New(id)
	p := &path{c: c, s: s, at: at}
	for _, e := range events {
		before := ""
		if t := s.Thread(e.Step.Thread()); t != nil {
			before = t.Agent()
		}
		if c.Relay {
			p.leg(e)
		}
		if err := s.Apply(e); err != nil {
			return fmt.Errorf("the run %s cannot be read: %w", id, err)
		}
		if !c.Relay {
			p.step(e, before)
		}
	}
	return nil
}

type path struct {
	c  *Chart
	s  *run.State
	at int
}

func (p *path) was(id string) {
	if n := p.c.by[id]; n != nil {
		n.Taken[p.at]++
	}
}

// took counts a way; of several with the same ends the one with the condition is meant, where
// it is given.
func (p *path) took(from, to, when string, links ...Link) *Way {
	for _, link := range links {
		for _, w := range p.c.Ways {
			if w.From == from && w.To == to && w.Link == link && w.When == when {
				w.Taken[p.at]++
				return w
			}
		}
	}
	return nil
}

// step notes an event on the map of a project.
func (p *path) step(e ledger.Event, before string) {
	owner := func(t *run.Thread) string { // the node of who acts on a thread
		if t.Opened() != nil && t.Opened().Call != nil { // a leg, or a step of a plan, is one call
			t = t.Parent()
		}
		if c := t.Planned(); c != nil && c.Progress == run.Opened { // the plan is the relay's
			t = t.Parent()
		}
		if t.Frame() != nil {
			return id(Relay, t.Frame().Relay)
		}
		return id(Agent, t.Agent())
	}
	switch d := e.Data.(type) {
	case *ledger.TurnSent:
		if d.Attempt == 1 {
			p.was(id(Agent, d.Agent))
		}
	case *ledger.BatonPassed:
		p.took(id(Agent, d.From), id(Agent, d.To), "", Passes)
	case *ledger.CallStarted:
		if d.Attempt == 1 {
			c := p.s.Call(e.Step)
			p.was(id(Tool, c.Decided.Tool))
			p.took(owner(c.Turn.Thread), id(Tool, c.Decided.Tool), "", Calls)
		}
	case *ledger.ThreadOpened:
		up := p.s.Thread(e.Step).Parent()
		switch {
		case d.Call != nil:
		case d.Role != ledger.Judge:
			p.took(owner(up), id(Agent, d.Agent), "", Consults, Works)
		case p.took(owner(up), id(Agent, d.Agent), "", Judged) == nil && up.Parent() != nil: // the leg says that it is judged
			p.took(owner(up.Parent()), id(Agent, d.Agent), "", Works)
		}
	case *ledger.FrameOpened:
		p.was(id(Relay, d.Relay))
		if up := p.s.Thread(e.Step).Parent(); up != nil {
			p.took(owner(up), id(Relay, d.Relay), "", Goes)
		}
	}
}

// leg notes an event on the map of a relay.
func (p *path) leg(e ledger.Event) {
	t := p.s.Thread(e.Step.Thread())
	if t == nil || t.Frame() == nil || t.Frame().Relay != p.c.Title {
		return
	}
	f := t.Frame()
	switch d := e.Data.(type) {
	case *ledger.LegEntered:
		name, _ := e.Step.LegName()
		p.was(id(Leg, name))
	case *ledger.LegLeft:
		name, visit := e.Step.LegName()
		from, to := id(Leg, name), id(Leg, d.Go)
		if d.Go == "" {
			to = string(End)
			p.was(to)
		}
		if !d.Outcome.Well() {
			p.took(from, to, "", Fails)
			return
		}
		if f.Visit != nil && f.Visit.Entered.Kind == string(project.LegChoose) {
			if w := p.took(from, to, d.Why, When); w != nil {
				w.Held = append(w.Held, Held{Run: p.s.Run(), Visit: visit, Values: values(w.When, map[string]any{"kept": f.Kept, "input": any(f.Input), "visits": visits(f), "state": any(t.Facts())})})
				return
			}
			if p.took(from, to, "", When) != nil {
				return
			}
		}
		for _, link := range []Link{verdict(d), Next} {
			if link != "" && p.took(from, to, "", link) != nil {
				return
			}
		}
	}
}

// verdict gives the way that people sent a relay from a gate; "" where they let it go on, and
// for other legs.
func verdict(d *ledger.LegLeft) Link {
	var x ledger.Decision
	if json.Unmarshal(d.Value, &x) != nil {
		return ""
	}
	return map[string]Link{ledger.TextBack: Back, ledger.TextRefused: Refused, ledger.TextLapsed: Lapsed}[x.Verdict]
}

func visits(f *run.Frame) map[string]any {
	out := map[string]any{}
	for k, n := range f.Visits {
		out[k] = n
	}
	return out
}

var namesRE = regexp.MustCompile(`\b(kept|input|visits|state)((?:\.\??[a-z_][a-z0-9_]*)+)`)

// values gives what the names in a condition stood for.
func values(when string, vars map[string]any) []string {
	out := []string{}
	seen := map[string]bool{}
	for _, m := range namesRE.FindAllStringSubmatch(when, -1) {
		name, v := m[1], vars[m[1]]
		for _, k := range strings.Split(strings.TrimPrefix(m[2], "."), ".") {
			fields, ok := v.(map[string]any)
			k = strings.TrimPrefix(k, "?")
			next, there := fields[k]
			if !ok || !there {
				break // a function of it, or it is not there
			}
			name, v = name+"."+k, next
		}
		if !seen[name] && name != m[1] {
			seen[name] = true
			out = append(out, name+" = "+clip(expr.Show(v)))
		}
	}
	return out
}

func clip(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > 60 {
		return string(r[:59]) + "…"
	}
	return s
}
