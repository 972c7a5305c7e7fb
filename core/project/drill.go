package project

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/scope"
)

func (c *compiler) drill(d *document) {
	var r struct {
		Drill, Summary, Now, Person, Tools, Model string
		Relay                                     string
		Input                                     map[string]any
		Slips                                     *float64
		Seed                                      int
		Rungs                                     map[string]ledger.Rung
		Say                                       any
		State                                     map[string]any
		Gates                                     map[string]any
		Consults, Legs                            map[string]any
		Stubs                                     map[string][]rawStub
		Expect                                    json.RawMessage
	}
	c.into(d, &r)
	dr := &Drill{Name: r.Drill, Summary: r.Summary, Person: r.Person, Tools: ledger.Tools(r.Tools), Rungs: r.Rungs, Model: r.Model, Slips: r.Slips, Seed: r.Seed, State: r.State, Gates: map[string][]DrillGate{}, Consults: map[string]ledger.Canned{}, Legs: map[string]ledger.Canned{}, Place: d.at("/drill")}
	if dr.Tools == "" {
		dr.Tools = ledger.ToolsStubs
	}
	if dr.Person == "" {
		dr.Person = "drill"
	}
	if r.Now != "" {
		dr.Now, _ = time.Parse(time.RFC3339, r.Now) // its format was checked
	}
	if r.Model != "" && c.p.Models[r.Model] == nil {
		c.missing(d.at("/model"), "model", r.Model, keysOf(c.p.Models))
	}
	switch s := r.Say.(type) {
	case string:
		dr.Says = []DrillSay{{Text: s}}
	case []any:
		for i, e := range s {
			at := fmt.Sprintf("/say/%d", i)
			switch m := e.(type) {
			case string:
				dr.Says = append(dr.Says, DrillSay{Text: m})
			case map[string]any:
				text, _ := m["say"].(string)
				ds := DrillSay{Text: text}
				if x, ok := m["expect"]; ok {
					b, _ := json.Marshal(x)
					ds.Expect = c.expect(d, at+"/expect", b)
				}
				dr.Says = append(dr.Says, ds)
			}
		}
	}
	if r.Relay != "" {
		c.drillOf(d, dr, r.Relay, r.Input)
	}
	c.expectations(d, dr, r.Expect)
	for _, tool := range keysOf(r.Rungs) {
		if c.p.Tools[tool] == nil {
			c.missing(d.key("/rungs/"+tool), "tool", tool, keysOf(c.p.Tools))
		}
	}
	dr.Stubs = map[string][]Stub{}
	for _, name := range keysOf(r.Stubs) {
		tool := c.p.Tools[name]
		if tool == nil {
			c.missing(d.key("/stubs/"+name), "tool", name, keysOf(c.p.Tools))
			continue
		}
		dr.Stubs[name] = c.stubsOf(d, "/stubs/"+name, r.Stubs[name], tool, c.scope(d, map[string]map[string]any{"args": tool.Input.Doc()}))
	}
	for _, tool := range keysOf(r.Gates) {
		at := "/gates/" + tool
		if c.p.Tools[tool] == nil && tool != AskPerson && !slices.Contains(c.p.textGates(), tool) {
			c.missing(d.key(at), "tool or gate", tool, append(keysOf(c.p.Tools), c.p.textGates()...))
			continue
		}
		list, several := r.Gates[tool].([]any)
		if !several {
			list = []any{r.Gates[tool]}
		}
		for _, v := range list {
			g := drillGate(v)
			fits := c.p.Tools[tool] == nil || slices.Contains(ledger.GateTicket.Verbs(), g.Verb)
			if tool == AskPerson {
				fits = slices.Contains(ledger.QuestionTicket.Verbs(), g.Verb)
			} else if g.Verb == ledger.Answer {
				fits = false
			}
			if g.Verb != "" && g.Verb != ledger.Lapsed && !fits {
				c.report(Error, d.key(at), "A question is settled by {answer: …}, {refuse: …} or wait; the gate of a tool by allow, refuse, amend, lapse or wait; that of a leg by {back: …}, too.", "%s cannot be settled by %s", tool, g.Verb)
			}
			dr.Gates[tool] = append(dr.Gates[tool], g)
		}
	}
	for _, name := range keysOf(r.Consults) {
		if c.p.Agents[name] == nil {
			c.missing(d.key("/consults/"+name), "agent", name, keysOf(c.p.Agents))
			continue
		}
		switch v := r.Consults[name].(type) {
		case string:
			dr.Consults[name] = ledger.Canned{Answer: v}
		case map[string]any:
			fails, _ := v["fails"].(string)
			dr.Consults[name] = ledger.Canned{Fails: fails}
		}
	}
	for _, name := range keysOf(r.Legs) {
		x := c.p.Relays[r.Relay]
		if x == nil {
			c.report(Error, d.key("/legs"), "Name the relay.", "legs: is for a drill of a relay")
			break
		}
		if c.legNamed(d, x, "/legs/"+name, name); x.Leg(name) == nil {
			continue
		}
		switch v := r.Legs[name].(type) {
		case string:
			dr.Legs[name] = ledger.Canned{Answer: v}
		case map[string]any:
			if fails, ok := v["fails"].(string); ok {
				dr.Legs[name] = ledger.Canned{Fails: fails}
				continue
			}
			raw, err := json.Marshal(v["value"])
			if err != nil {
				panic("what was read is JSON: " + err.Error())
			}
			dr.Legs[name] = ledger.Canned{Value: raw}
		}
	}
	c.known(d, "/state", r.State)
	c.p.Drills = append(c.p.Drills, dr)
}

// drillOf lets a drill go through a relay.
func (c *compiler) drillOf(d *document, dr *Drill, relay string, input map[string]any) {
	x := c.p.Relays[relay]
	if x == nil {
		c.missing(d.at("/relay"), "relay", relay, keysOf(c.p.Relays))
	}
	if len(dr.Says) > 1 {
		c.report(Error, d.at("/say"), "Make a drill of each.", "a drill of a relay has one message at most")
	}
	if len(dr.Says) == 0 {
		dr.Says = []DrillSay{{}}
	}
	if input != nil && x != nil {
		for _, f := range x.Input.Check(input) {
			c.report(Error, d.key("/input"+f.Path), "", "input: %s", schema.Say([]schema.Fault{f}))
		}
	}
	dr.Says[0].Relay, dr.Says[0].Input = relay, input
}

// expectations gives the drill's expect to its last message. Each message may have its
// own; at least one of them must.
func (c *compiler) expectations(d *document, dr *Drill, raw json.RawMessage) {
	last := &dr.Says[len(dr.Says)-1]
	switch {
	case raw == nil:
		if !slices.ContainsFunc(dr.Says, func(s DrillSay) bool { return s.Expect != nil }) {
			c.report(Error, d.at("/drill"), "Add expect: to the drill, which is about its last message, or to a message under say:.", "the drill %q expects nothing", dr.Name)
		}
	case last.Expect != nil:
		c.report(Error, d.key("/expect"), "Remove expect: of the drill, or that of its last message: both are about the same run.", "the last message has two expectations")
	default:
		last.Expect = c.expect(d, "/expect", raw)
	}
}

// known checks facts against the schema of the state. A project without one has none.
func (c *compiler) known(d *document, at string, facts map[string]any) {
	if len(facts) == 0 {
		return
	}
	for _, f := range c.p.CheckState(facts) {
		c.report(Error, d.key(at+f.Path), "", "state: %s", schema.Say([]schema.Fault{f}))
	}
}

// CheckState says what is wrong with facts: one that the state does not have, or a
// value that does not fit. Facts that are not given are not looked for.
func (p *Project) CheckState(facts map[string]any) []schema.Fault {
	if p.State == nil {
		var out []schema.Fault
		for _, k := range keysOf(facts) {
			out = append(out, schema.Fault{Path: "/" + k, Say: "is not known here; the project describes no state: in " + Main})
		}
		return out
	}
	return slices.DeleteFunc(p.State.Check(facts), func(f schema.Fault) bool {
		_, given := facts[strings.TrimPrefix(f.Path, "/")]
		return !given && strings.HasPrefix(f.Say, "is missing")
	})
}

// NewState gives the state that a session begins with: the facts that it is given, and
// the defaults of the schema.
func (p *Project) NewState(facts map[string]any) map[string]any {
	if facts == nil {
		facts = map[string]any{}
	}
	with, _, _ := p.State.Repair(any(facts))
	if m, ok := with.(map[string]any); ok && len(m) > 0 {
		return m
	}
	return nil
}

func (c *compiler) expect(d *document, at string, raw json.RawMessage) *Expect {
	x := &Expect{Raw: raw, Place: d.at(at)}
	if err := json.Unmarshal(raw, x); err != nil {
		c.report(Error, d.at(at), "", "this cannot be read: %v", err)
		return x
	}
	for i, a := range x.Path {
		if c.p.Agents[a] == nil && c.p.Relays[a] == nil {
			c.missing(d.at(fmt.Sprintf("%s/path/%d", at, i)), "agent", a, keysOf(c.p.Agents))
		}
	}
	tool := func(p, name string) {
		if c.p.Tools[name] == nil && c.p.Relays[name] == nil && !strings.HasPrefix(name, PassPrefix) && !strings.HasPrefix(name, ConsultPrefix) && name != AskPerson {
			c.missing(d.at(at+p), "tool", name, keysOf(c.p.Tools))
		}
	}
	for i, call := range x.Calls {
		tool(fmt.Sprintf("/calls/%d/tool", i), call.Tool)
	}
	for i, want := range x.Consults {
		for key, name := range map[string]string{"agent": want.Agent, "by": want.By} {
			if name != "" && c.p.Agents[name] == nil {
				c.missing(d.at(fmt.Sprintf("%s/consults/%d/%s", at, i, key)), "agent", name, keysOf(c.p.Agents))
			}
		}
	}
	for i, n := range x.Never {
		tool(fmt.Sprintf("/never/%d", i), n)
	}
	c.known(d, at+"/state", x.State)
	if x.WhereIs != "" {
		s := c.scope(d, map[string]map[string]any{"run": scope.Outcome, "answer": expr.Text})
		x.Where = c.cond(d, s, at+"/where", x.WhereIs)
	}
	return x
}

// drillGate reads what the drill's person does at a gate.
func drillGate(v any) (g DrillGate) {
	switch v := v.(type) {
	case string:
		switch v {
		case "lapse":
			g.Verb = ledger.Lapsed
		case "wait":
		default:
			g.Verb = ledger.Verb(v)
		}
	case map[string]any:
		if because, ok := v["refuse"].(string); ok {
			g = DrillGate{Verb: ledger.RefuseIt, Because: because}
		} else if remarks, ok := v["back"].(string); ok {
			g = DrillGate{Verb: ledger.SendBack, Because: remarks}
		} else if args, ok := v["amend"].(map[string]any); ok {
			g = DrillGate{Verb: ledger.Amend, Args: args}
		} else if answer, ok := v["answer"].(string); ok {
			g = DrillGate{Verb: ledger.Answer, Answer: answer}
		}
	}
	return g
}

// textGates lists what puts a text before people: legs of relays, and agents.
func (p *Project) textGates() []string {
	var out []string
	for _, n := range keysOf(p.Agents) {
		if p.Agents[n].Gate != nil {
			once(&out, n)
		}
	}
	for _, n := range keysOf(p.Relays) {
		for _, l := range p.Relays[n].Legs {
			if l.Kind == LegGate {
				once(&out, l.Name)
			}
		}
	}
	return out
}
