package project

import (
	"maps"
	"slices"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/schema"
)

// courses looks at relays when all else is compiled: what their legs name, and whether they
// can come to an end.
func (c *compiler) courses() {
	for _, n := range keysOf(c.p.Relays) {
		r := c.p.Relays[n]
		for _, l := range r.Legs {
			c.does(r, l)
		}
		if len(r.Legs) > 0 {
			c.reach(r)
		}
	}
	c.nested()
	for _, n := range keysOf(c.p.Relays) {
		c.p.Relays[n].Effect = c.effectOf(c.p.Relays[n], map[string]bool{})
	}
}

// Each step of a leg that works: itself, or its branches.
func (l *Leg) parts() []*Leg {
	if l.Kind == LegTogether {
		return l.Branches
	}
	return []*Leg{l}
}

// does holds what a leg names, and what it gives it, against what there is.
func (c *compiler) does(r *Relay, l *Leg) {
	switch l.Kind {
	case LegTogether:
		for _, b := range l.Branches {
			c.does(r, b)
		}
	case LegOfAgent, LegPlan:
		if c.p.Agents[l.Does] == nil {
			c.missing(l.Place, "agent", l.Does, keysOf(c.p.Agents))
		}
		if l.Kind == LegPlan {
			c.among(r, l)
		}
	case LegExchange:
		for _, n := range l.Between {
			if c.p.Agents[n] == nil {
				c.missing(l.Place, "agent", n, keysOf(c.p.Agents))
			}
		}
		if l.Between[0] == l.Between[1] {
			c.report(Error, l.Place, "Name two agents.", "in the leg %q %s would talk to itself", l.Name, l.Between[0])
		}
	case LegOfTool:
		t := c.p.Tools[l.Does]
		if t == nil {
			c.missing(l.Place, "tool", l.Does, keysOf(c.p.Tools))
			return
		}
		c.given(r, l, "argument", t.Input)
	case LegOfRelay:
		x := c.p.Relays[l.Does]
		if x == nil {
			c.missing(l.Place, "relay", l.Does, keysOf(c.p.Relays))
			return
		}
		c.given(r, l, "input", x.Input)
	case LegPrompt, LegAsk, LegSet, LegChoose, LegFinish:
	}
}

// given holds the names of what a leg gives against a schema.
func (c *compiler) given(r *Relay, l *Leg, what string, s *schema.Schema) {
	have := schema.Keys(s.Doc())
	given := l.With.Keys()
	for _, k := range given {
		if !slices.Contains(have, k) {
			c.report(Error, l.Place, "There is: "+near.List(have)+".", "the leg %s of %s gives %s an %s %q that it does not take.%s", l.Name, r.Name, l.Does, what, k, near.Hint(k, have))
		}
	}
	need, _ := s.Doc()["required"].([]any)
	for _, k := range need {
		if name, _ := k.(string); !slices.Contains(given, name) && given != nil {
			c.report(Error, l.Place, "Give it.", "the leg %s of %s does not give %s its %s %q", l.Name, r.Name, l.Does, what, name)
		}
	}
}

// reach warns of legs that no course comes to, and of relays that cannot end.
func (c *compiler) reach(r *Relay) {
	seen := map[string]bool{}
	ends := false
	var walk func(name string)
	walk = func(name string) {
		if name == "" {
			ends = true
			return
		}
		l := r.Leg(name)
		if l == nil {
			ends = true // that it is not there is told elsewhere
			return
		}
		if !seen[name] {
			seen[name] = true
			for _, to := range r.Ways(l) {
				walk(to)
			}
		}
	}
	walk(r.Legs[0].Name)
	for _, l := range r.Legs {
		if !seen[l.Name] {
			c.report(Warning, l.Place, "Remove it, or name it in go:.", "no course of %s comes to the leg %q", r.Name, l.Name)
		}
	}
	if !ends {
		c.report(Error, r.Place, "Let one of its legs be a finish, or the last one.", "the relay %s cannot come to an end: its legs go round in a circle", r.Name)
	}
}

// nested refuses relays that go through themselves.
func (c *compiler) nested() {
	var walk func(r *Relay, path []string)
	told := map[string]bool{}
	walk = func(r *Relay, path []string) {
		if i := slices.Index(path, r.Name); i >= 0 {
			circle := append(path[i:], r.Name)
			if key := slices.Min(circle); !told[key] {
				told[key] = true
				c.report(Error, r.Place, "Take the inner one out: a choose leg with go: goes round within one relay.", "relays go through themselves: %s", strings.Join(circle, " → "))
			}
			return
		}
		for _, leg := range r.Legs {
			for _, l := range leg.parts() {
				for _, n := range l.relays() {
					if x := c.p.Relays[n]; x != nil {
						walk(x, append(slices.Clone(path), r.Name))
					}
				}
			}
		}
	}
	for _, n := range keysOf(c.p.Relays) {
		walk(c.p.Relays[n], nil)
	}
}

// effectOf gives the strongest effect of what a relay may do.
func (c *compiler) effectOf(r *Relay, seen map[string]bool) ledger.Effect {
	out := ledger.Read
	if seen[r.Name] {
		return out
	}
	seen[r.Name] = true
	var parts []*Leg
	for _, l := range r.Legs {
		parts = append(parts, l.parts()...)
	}
	strongest := func(name string) {
		if t := c.p.Tools[name]; t != nil {
			out = out.Stronger(t.Effect)
		} else if x := c.p.Relays[name]; x != nil {
			out = out.Stronger(c.effectOf(x, seen))
		}
	}
	for _, l := range parts {
		switch l.Kind {
		case LegOfTool, LegOfRelay:
			strongest(l.Does)
		case LegOfAgent, LegPlan, LegExchange:
			for _, n := range l.agents() {
				for _, a := range c.reachable(n) {
					for _, t := range a.Tools {
						strongest(t)
					}
				}
			}
			for _, n := range l.Among {
				strongest(n)
			}
		case LegTogether, LegPrompt, LegAsk, LegSet, LegChoose, LegFinish:
		}
	}
	return out
}

// agents lists the agents that a leg, or a branch, sets to work itself.
func (l *Leg) agents() []string {
	switch l.Kind {
	case LegOfAgent:
		return []string{l.Does}
	case LegPlan:
		return append([]string{l.Does}, l.Among...) // of which some may be tools and relays
	case LegExchange:
		return l.Between[:]
	case LegOfTool, LegOfRelay, LegPrompt, LegAsk, LegSet, LegChoose, LegFinish, LegTogether:
	}
	return nil
}

// relays lists the relays that a leg, or a branch, may go through.
func (l *Leg) relays() []string {
	switch l.Kind {
	case LegOfRelay:
		return []string{l.Does}
	case LegPlan:
		return l.Among
	case LegOfAgent, LegExchange, LegOfTool, LegPrompt, LegAsk, LegSet, LegChoose, LegFinish, LegTogether:
	}
	return nil
}

// reachable lists an agent and those that it may pass to or consult, however far.
func (c *compiler) reachable(agent string) []*Agent {
	seen := map[string]*Agent{}
	var walk func(name string)
	walk = func(name string) {
		a := c.p.Agents[name]
		if a == nil || seen[name] != nil {
			return
		}
		seen[name] = a
		for _, to := range a.PassesTo {
			walk(to)
		}
		for _, x := range a.Consults {
			walk(x.Agent)
		}
	}
	walk(agent)
	out := make([]*Agent, 0, len(seen))
	for _, n := range slices.Sorted(maps.Keys(seen)) {
		out = append(out, seen[n])
	}
	return out
}
