package project

import (
	"maps"
	"slices"
)

// Uses names what an agent, or a leg, sets to work: each once, in the order of the file. A
// name that nothing has may be among them; that is told where it stands.
type Uses struct{ Agents, Tools, Relays []string }

// Users names what uses a tool, in order of their names.
type Users struct {
	Agents []string // that have it, so that their models choose it
	Hooks  []string // agents whose hooks call it
	Gates  []string // tools whose gates look things up with it
	Relays []string // with a leg that calls it, or a plan that may
	Beside bool     // it is shown beside conversations
}

func once(to *[]string, names ...string) {
	for _, n := range names {
		if n != "" && !slices.Contains(*to, n) {
			*to = append(*to, n)
		}
	}
}

// ByAgent gives what an agent sets to work: whom it passes to and consults and who judges
// its answers, and the tools and relays that it or its hooks call.
func (p *Project) ByAgent(a *Agent) Uses {
	var u Uses
	once(&u.Agents, a.PassesTo...)
	for _, x := range a.Consults {
		once(&u.Agents, x.Agent)
	}
	if a.Good != nil {
		once(&u.Agents, a.Good.Judge)
	}
	for _, n := range a.Tools {
		p.named(&u, n)
	}
	once(&u.Tools, a.hookTools()...)
	return u
}

// ByLeg gives what a leg sets to work, itself or by its branches.
func (p *Project) ByLeg(leg *Leg) Uses {
	var u Uses
	parts := []*Leg{leg}
	if leg.Kind == LegTogether {
		parts = leg.Branches
	}
	for _, l := range parts {
		switch l.Kind {
		case LegOfAgent:
			once(&u.Agents, l.Does)
		case LegOfTool:
			once(&u.Tools, l.Does)
		case LegOfRelay:
			once(&u.Relays, l.Does)
		case LegExchange:
			once(&u.Agents, l.Between[:]...)
		case LegPlan:
			once(&u.Agents, l.Does)
			for _, n := range l.Among {
				p.named(&u, n)
			}
		case LegPrompt, LegAsk, LegGate, LegSet, LegChoose, LegFinish, LegTogether:
		}
		if l.Good != nil {
			once(&u.Agents, l.Good.Judge)
		}
	}
	return u
}

// ByGate lists the tools with which the rules and the gate of a tool look things up.
func (p *Project) ByGate(t *Tool) []string {
	var out []string
	for _, l := range t.LooksUp {
		once(&out, l.Tool)
	}
	if t.Gate != nil {
		for _, l := range t.Gate.LooksUp {
			once(&out, l.Tool)
		}
		if n := p.Notices[t.Gate.Notify]; n != nil {
			once(&out, n.Tool)
		}
	}
	return out
}

// named adds a name where the file does not say of what. No two kinds share one there.
func (p *Project) named(u *Uses, name string) {
	switch {
	case p.Tools[name] != nil:
		once(&u.Tools, name)
	case p.Relays[name] != nil:
		once(&u.Relays, name)
	case p.Agents[name] != nil:
		once(&u.Agents, name)
	}
}

// Users gives what uses each tool, by the tool. Tools that nothing uses are not in it.
func (p *Project) Users() map[string]Users {
	out := map[string]Users{}
	note := func(tools []string, to func(*Users)) {
		for _, n := range tools {
			u := out[n]
			to(&u)
			out[n] = u
		}
	}
	for _, n := range slices.Sorted(maps.Keys(p.Agents)) {
		a := p.Agents[n]
		note(a.Tools, func(u *Users) { once(&u.Agents, n) })
		note(a.hookTools(), func(u *Users) { once(&u.Hooks, n) })
	}
	for _, n := range slices.Sorted(maps.Keys(p.Tools)) {
		note(p.ByGate(p.Tools[n]), func(u *Users) { once(&u.Gates, n) })
	}
	for _, n := range slices.Sorted(maps.Keys(p.Relays)) {
		for _, l := range p.Relays[n].Legs {
			note(p.ByLeg(l).Tools, func(u *Users) { once(&u.Relays, n) })
		}
	}
	for _, b := range p.Beside {
		note([]string{b.Tool}, func(u *Users) { u.Beside = true })
	}
	return out
}

// hookTools lists the tools that the hooks of an agent call.
func (a *Agent) hookTools() []string {
	var out []string
	for _, on := range slices.Sorted(maps.Keys(a.On)) {
		for _, h := range a.On[on] {
			once(&out, h.Tool)
		}
	}
	return out
}
