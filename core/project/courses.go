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
		if t := c.p.Tools[n]; t != nil {
			c.report(Error, r.Place, oneName, "%q is the name of a relay, and of a tool in %s:%d", n, t.Place.File, t.Place.Line)
		}
		if a := c.p.Agents[n]; a != nil {
			c.report(Error, r.Place, oneName, "%q is the name of a relay, and of an agent in %s:%d", n, a.Place.File, a.Place.Line)
		}
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

// oneName is the remedy where a name does not say of what it is.
const oneName = "Give one of them another name: tools:, among: and start: say no more than the name."

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
	case LegGate:
		if a := l.Gate.Amend; a != "" && !slices.Contains(r.Keeps(), a) {
			c.report(Error, l.Place, "There is: "+near.List(r.Keeps())+".", "the gate of the leg %s changes %q, which no leg of %s keeps.%s", l.Name, a, r.Name, near.Hint(a, r.Keeps()))
		}
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
		for _, l := range r.Legs {
			for _, n := range c.p.ByLeg(l).Relays {
				if x := c.p.Relays[n]; x != nil {
					walk(x, append(slices.Clone(path), r.Name))
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
	strongest := func(u Uses) {
		for _, n := range u.Tools {
			if t := c.p.Tools[n]; t != nil {
				out = out.Stronger(t.Effect)
			}
		}
		for _, n := range u.Relays {
			if x := c.p.Relays[n]; x != nil {
				out = out.Stronger(c.effectOf(x, seen))
			}
		}
	}
	for _, l := range r.Legs {
		u := c.p.ByLeg(l)
		strongest(u)
		for _, n := range u.Agents {
			for _, a := range c.reachable(n) {
				strongest(c.p.ByAgent(a))
			}
		}
	}
	return out
}

// reachable lists an agent and those that it may set to work, however far.
func (c *compiler) reachable(agent string) []*Agent {
	seen := map[string]*Agent{}
	var walk func(name string)
	walk = func(name string) {
		a := c.p.Agents[name]
		if a == nil || seen[name] != nil {
			return
		}
		seen[name] = a
		for _, to := range c.p.ByAgent(a).Agents {
			walk(to)
		}
	}
	walk(agent)
	out := make([]*Agent, 0, len(seen))
	for _, n := range slices.Sorted(maps.Keys(seen)) {
		out = append(out, seen[n])
	}
	return out
}
