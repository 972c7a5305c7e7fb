package chart

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
)

// Kind is what a node is.
type Kind string

// The kinds of nodes.
const (
	Agent Kind = "agent"
	Tool  Kind = "tool"
	Relay Kind = "relay"
	Leg   Kind = "leg"
	End   Kind = "end" // of a relay
)

// Link is what a way says of its two ends.
type Link string

// The links: the first seven of a project, the others of a relay.
const (
	Calls    Link = "calls"
	Passes   Link = "passes to"
	Consults Link = "consults"
	Judged   Link = "is judged by"
	LooksUp  Link = "looks up with" // a gate, a tool
	Works    Link = "sets to work"  // a relay, an agent
	Goes     Link = "goes through"  // a relay, another
	Next     Link = "then"
	When     Link = "when" // a way of a leg that chooses
	Fails    Link = "fails"
	Back     Link = "sent back"
	Refused  Link = "refused"
	Lapsed   Link = "lapsed"
)

// Node is one thing on the map. X and Y are of its middle, in pixels of the drawing.
type Node struct {
	ID      string        `json:"id"` // its kind and name, such as agent:desk
	Kind    Kind          `json:"kind"`
	Name    string        `json:"name"`
	About   string        `json:"about"` // what it does, in a few words
	Summary string        `json:"summary,omitempty"`
	Start   bool          `json:"start,omitempty"`
	Effect  ledger.Effect `json:"effect,omitempty"`
	Rung    ledger.Rung   `json:"rung,omitempty"`
	Gate    bool          `json:"gate,omitempty"` // a person may be asked before it
	Place   project.Place `json:"place"`
	Taken   []int         `json:"taken,omitempty"` // how often each run was there
	X       int           `json:"x"`
	Y       int           `json:"y"`
	W       int           `json:"w"`

	column int
}

// Way leads from one node to another.
type Way struct {
	From  string `json:"from"`
	To    string `json:"to"`
	Link  Link   `json:"link"`
	When  string `json:"when,omitempty"`  // the condition; "" where it always holds
	Taken []int  `json:"taken,omitempty"` // how often each run took it
	Held  []Held `json:"held,omitempty"`  // on which values the condition held
	Path  string `json:"path"`            // in the drawing, as the d of an SVG path
	X     int    `json:"x"`               // where its words stand there
	Y     int    `json:"y"`

	back bool // against the direction of the drawing
}

// Held is one time that a run took a way with a condition.
type Held struct {
	Run    string   `json:"run"`
	Visit  int      `json:"visit"`
	Values []string `json:"values"` // such as kept.review.fine = true
}

// Chart is a map.
type Chart struct {
	Title   string   `json:"title"`
	Summary string   `json:"summary,omitempty"`
	Relay   bool     `json:"relay,omitempty"` // of one relay
	Nodes   []*Node  `json:"nodes"`
	Ways    []*Way   `json:"ways"`
	Runs    []string `json:"runs,omitempty"` // whose paths are drawn in
	Width   int      `json:"width"`
	Height  int      `json:"height"`

	by map[string]*Node
}

func (c *Chart) add(n *Node) {
	if c.by == nil {
		c.by = map[string]*Node{}
	}
	n.W = max(96, 7*max(len([]rune(n.Name)), len([]rune(n.About)))+26)
	c.Nodes = append(c.Nodes, n)
	c.by[n.ID] = n
}

func (c *Chart) link(from string, to string, link Link, when string) {
	if c.by[to] == nil || slices.ContainsFunc(c.Ways, func(w *Way) bool { return w.From == from && w.To == to && w.Link == link && w.When == when }) {
		return
	}
	c.Ways = append(c.Ways, &Way{From: from, To: to, Link: link, When: when})
}

func id(k Kind, name string) string { return string(k) + ":" + name }

// Of gives the map of a project.
func Of(p *project.Project) *Chart {
	c := &Chart{Title: p.Name, Summary: p.Summary, Nodes: []*Node{}, Ways: []*Way{}}
	for _, n := range slices.Sorted(maps.Keys(p.Relays)) {
		r := p.Relays[n]
		c.add(&Node{ID: id(Relay, n), Kind: Relay, Name: n, About: "relay · " + legs(len(r.Legs)) + " · " + string(r.Effect), Summary: r.Summary, Effect: r.Effect, Start: n == p.Start, Place: r.Place})
	}
	for _, n := range slices.Sorted(maps.Keys(p.Agents)) {
		a := p.Agents[n]
		c.add(&Node{ID: id(Agent, n), Kind: Agent, Name: n, About: "agent · " + a.Model, Summary: a.Summary, Start: n == p.Start, Place: a.Place})
	}
	for _, n := range slices.Sorted(maps.Keys(p.Tools)) {
		t := p.Tools[n]
		about := string(t.Effect)
		if t.Rung != ledger.RungFree {
			about += " · rung " + string(t.Rung)
		}
		if t.Gate != nil {
			about += " · gate"
		}
		c.add(&Node{ID: id(Tool, n), Kind: Tool, Name: n, About: about, Summary: t.Summary, Effect: t.Effect, Rung: t.Rung, Gate: t.Gate != nil, Place: t.Place})
	}
	for _, n := range slices.Sorted(maps.Keys(p.Tools)) {
		c.links(id(Tool, n), Tool, p.ByGate(p.Tools[n]), LooksUp)
	}
	for _, n := range slices.Sorted(maps.Keys(p.Relays)) {
		for _, l := range p.Relays[n].Legs {
			u := p.ByLeg(l)
			c.uses(id(Relay, n), u)
			c.links(id(Relay, n), Agent, u.Agents, Works)
		}
	}
	for _, n := range slices.Sorted(maps.Keys(p.Agents)) {
		a, from := p.Agents[n], id(Agent, n)
		for _, to := range a.PassesTo {
			c.link(from, id(Agent, to), Passes, "")
		}
		for _, x := range a.Consults {
			c.link(from, id(Agent, x.Agent), Consults, "")
		}
		if a.Good != nil {
			c.link(from, id(Agent, a.Good.Judge), Judged, "")
		}
		c.uses(from, p.ByAgent(a))
	}
	c.place(id(Relay, p.Start), id(Agent, p.Start))
	return c
}

func legs(n int) string {
	if n == 1 {
		return "1 leg"
	}
	return fmt.Sprintf("%d legs", n)
}

// uses links the tools and relays that an agent or a relay uses to it.
func (c *Chart) uses(from string, u project.Uses) {
	c.links(from, Tool, u.Tools, Calls)
	c.links(from, Relay, u.Relays, Goes)
}

func (c *Chart) links(from string, k Kind, names []string, l Link) {
	for _, n := range names {
		c.link(from, id(k, n), l, "")
	}
}

// OfRelay gives the map of one relay: its legs, with every way out of them.
func OfRelay(p *project.Project, r *project.Relay) *Chart {
	c := &Chart{Title: r.Name, Summary: r.Summary, Relay: true, Nodes: []*Node{}, Ways: []*Way{}}
	for i, l := range r.Legs {
		n := &Node{ID: id(Leg, l.Name), Kind: Leg, Name: l.Name, About: about(l), Start: i == 0, Place: l.Place}
		if t := p.Tools[l.Does]; t != nil && l.Kind == project.LegOfTool {
			n.Effect, n.Rung, n.Gate, n.Summary = t.Effect, t.Rung, t.Gate != nil, t.Summary
		}
		c.add(n)
	}
	ends := false
	for _, l := range r.Legs {
		for _, to := range r.Ways(l) {
			ends = ends || to == "" && l.Kind != project.LegFinish
		}
	}
	if ends {
		c.add(&Node{ID: string(End), Kind: End, Name: "end", About: "of the relay"})
	}
	to := func(name string) string {
		if name == "" {
			return string(End)
		}
		return id(Leg, name)
	}
	for _, l := range r.Legs {
		from := id(Leg, l.Name)
		closed := false
		for _, w := range l.Ways {
			if w.When == nil {
				c.link(from, to(w.Go), When, "")
				closed = true
				continue
			}
			c.link(from, to(w.Go), When, w.When.String())
		}
		if !closed && l.Kind != project.LegFinish {
			c.link(from, to(r.After(l)), Next, "")
		}
		for _, way := range []struct {
			link Link
			to   string
		}{{Fails, l.OnError}, {Back, l.Back}, {Refused, l.Refused}, {Lapsed, l.Lapsed}} {
			if way.to != "" {
				c.link(from, to(way.to), way.link, "")
			}
		}
	}
	c.place(id(Leg, r.Legs[0].Name))
	return c
}

// about says in a few words what a leg does.
func about(l *project.Leg) string {
	out := string(l.Kind)
	switch l.Kind {
	case project.LegOfAgent, project.LegOfTool, project.LegOfRelay:
		out += " " + l.Does
	case project.LegPlan:
		out += " by " + l.Does + ", among " + few(l.Among)
	case project.LegExchange:
		out += " of " + l.Between[0] + " and " + l.Between[1]
	case project.LegTogether:
		names := make([]string, len(l.Branches))
		for i, b := range l.Branches {
			names[i] = b.Name
		}
		out += " " + few(names)
	case project.LegGate:
		out += " for " + cmp.Or(few(l.Gate.Approvers()), "anybody")
	case project.LegPrompt, project.LegAsk, project.LegSet, project.LegChoose, project.LegFinish:
	}
	if l.Each != nil {
		out += fmt.Sprintf(", for each, %d at once", l.AtOnce)
	}
	return out
}

func few(names []string) string {
	if len(names) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:3], ", "), len(names)-3)
	}
	return strings.Join(names, ", ")
}
