package project

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
)

// legsOf reads the legs in their order: a list of agents, or legs by name.
func (c *compiler) legsOf(d *document, r *Relay, raw any) (legs []rawLeg, paths []string) {
	if list, ok := raw.([]any); ok {
		for i, e := range list {
			agent, _ := e.(string)
			name := agent
			for n := 2; r.Leg(name) != nil; n++ {
				name = fmt.Sprintf("%s_%d", agent, n)
			}
			at := fmt.Sprintf("/legs/%d", i)
			r.Legs = append(r.Legs, &Leg{Name: name, Kind: LegOfAgent, Place: d.at(at)})
			legs, paths = append(legs, rawLeg{Agent: agent, Keep: name}), append(paths, at)
		}
		return legs, paths
	}
	all, _ := raw.(map[string]any)
	for _, n := range inOrder(d, "/legs", all) {
		at := "/legs/" + n
		var x rawLeg
		c.read(d.at(at), all[n], &x)
		l := &Leg{Name: n, Place: d.key(at)}
		l.Kind = c.kindOf(l, "leg", all[n], legKinds)
		r.Legs = append(r.Legs, l)
		legs, paths = append(legs, x), append(paths, at)
	}
	return legs, paths
}

// kindOf gives the one thing that a leg, or a branch of one, does, of some; "" where it is not
// one.
func (c *compiler) kindOf(l *Leg, what string, raw any, of []LegKind) LegKind {
	fields, _ := raw.(map[string]any)
	var have, all []string
	for _, k := range of {
		all = append(all, string(k))
		if fields[string(k)] != nil {
			have = append(have, string(k))
		}
	}
	if len(have) != 1 {
		c.report(Error, l.Place, "Give it one of: "+strings.Join(all, ", ")+".", "the %s %q does %d things; a %s does one", what, l.Name, len(have), what)
		return ""
	}
	return LegKind(have[0])
}

// leg compiles one leg.
func (c *compiler) leg(d *document, r *Relay, l *Leg, x rawLeg, at string, names map[string]map[string]any, s, item *expr.Scope) {
	l.Keep, l.Go, l.OnError, l.Thread, l.AtOnce = x.Keep, x.Go, x.Fails, cmp.Or(x.Thread, Fresh), x.AtOnce
	l.Within = span(x.Within)
	takes := func(key string, has bool, kinds ...LegKind) {
		if has && l.Kind != "" && !slices.Contains(kinds, l.Kind) {
			c.report(Error, d.key(at+"/"+key), "Remove it.", "%s: is not for a leg that is a %s", key, l.Kind)
		}
	}
	takes("within", x.Within != "", LegOfAgent, LegOfTool, LegOfRelay, LegPrompt, LegAsk, LegPlan, LegExchange, LegTogether)
	l.Shown = cmp.Or(ledger.Shown(x.Shown), ledger.Hidden)
	l.Collect = x.Fails == "collect"
	if l.AtOnce == 0 {
		l.AtOnce = atOnce
	}
	if x.Keep != "" && slices.Contains([]LegKind{LegSet, LegChoose, LegFinish}, l.Kind) {
		c.report(Error, d.at(at+"/keep"), "Remove it.", "a leg that is a %s keeps nothing under a name of its own", l.Kind)
	}
	takes("each", x.Each != nil, LegOfAgent, LegOfTool, LegOfRelay, LegPrompt)
	if x.Each != nil {
		l.Each = c.mapping(d, s, at+"/each", x.Each)
		s = item
	}
	if many := x.Each != nil || l.Kind == LegTogether; !many {
		if x.AtOnce != 0 {
			c.report(Error, d.key(at+"/at_once"), "Remove it, or say each:.", "at_once: is for a leg that does several things")
		}
		if l.Collect {
			c.report(Error, d.at(at+"/fails"), "Name a leg, or say each:.", "fails: collect is for a leg that does several things")
		}
	} else if l.Thread != Fresh {
		c.report(Error, d.key(at+"/thread"), "Remove it.", "what is done several times side by side is done afresh")
	}
	takes("say", x.Say != "", LegOfAgent, LegPlan, LegExchange)
	takes("thread", x.Thread != "", LegOfAgent, LegPlan)
	takes("answer", x.Answer != nil, LegOfAgent, LegPrompt, LegAsk, LegPlan)
	takes("args", x.Args != nil, LegOfTool)
	takes("input", x.Input != nil, LegOfRelay)
	takes("model", x.Model != "", LegPrompt)
	takes("among", x.Among != nil, LegPlan)
	takes("steps", x.Steps != 0, LegPlan)
	takes("rounds", x.Rounds != 0, LegExchange)
	takes("until", x.Until != "", LegExchange)
	takes("phrase", x.Phrase != "", LegExchange)
	if x.Answer != nil && l.Kind.answers() {
		l.Answer = c.schema(d, at+"/answer", x.Answer)
		c.contradictions(d, at+"/answer", l.Answer.Conflicts(), Error)
	}
	takes("good_when", x.GoodWhen != nil, LegOfAgent, LegPrompt, LegPlan)
	takes("tries", x.Tries != 0, LegOfAgent, LegPrompt, LegPlan, LegGate)
	takes("back", x.Back != "", LegGate)
	takes("refused", x.Refused != "", LegGate)
	takes("lapsed", x.Lapsed != "", LegGate)
	if l.Kind != LegGate {
		l.Good = c.good(d, at, x.GoodWhen, x.Tries, l.Answer, names)
	}
	switch l.Kind {
	case LegOfAgent:
		l.Does = x.Agent
		l.Say = c.template(d, s, at+"/say", c.spelled(d, at+"/say", x.Say))
	case LegPrompt:
		l.Does = cmp.Or(l.Does, r.Name+"."+l.Name)
		l.Say = c.template(d, s, at+"/prompt", c.spelled(d, at+"/prompt", x.Prompt))
		l.Own = &Agent{Name: l.Does, Model: cmp.Or(x.Model, c.model), Answer: l.Answer, Place: l.Place, Said: l.Place}
		if l.Own.Model == "" {
			c.report(Error, l.Place, "Add model: here or in "+Main+".", "the leg %q has no model", l.Name)
		} else if c.p.Models[l.Own.Model] == nil {
			c.missing(d.at(at+"/model"), "model", l.Own.Model, keysOf(c.p.Models))
		}
		c.p.own[l.Does] = l.Own
	case LegAsk:
		l.Does = AskPerson
		l.Say = c.template(d, s, at+"/ask", x.Ask)
	case LegGate:
		l.Does = GateOfLeg
		c.gateOfLeg(d, r, l, x, at, s)
	case LegPlan:
		l.Does, l.Among, l.Steps = x.Plan, x.Among, cmp.Or(x.Steps, stepsOfPlan)
		l.Say = c.template(d, s, at+"/say", c.spelled(d, at+"/say", x.Say))
		if len(x.Among) == 0 {
			c.report(Error, l.Place, "Add among: with the agents, tools and relays that its steps are chosen from.", "the plan %q has nobody to carry it out", l.Name)
		}
	case LegExchange:
		l.Rounds, l.Phrase = cmp.Or(x.Rounds, rounds), x.Phrase
		copy(l.Between[:], x.Exchange)
		l.Say = c.template(d, s, at+"/say", c.spelled(d, at+"/say", x.Say))
		l.Until = c.cond(d, spoken(c, d, names), at+"/until", x.Until)
	case LegOfTool:
		l.Does = x.Tool
		l.With = c.object(d, s, at+"/args", x.Args)
	case LegOfRelay:
		l.Does = x.Relay
		l.With = c.object(d, s, at+"/input", x.Input)
	case LegTogether:
		c.branches(d, r, l, x.Together, at+"/together", names, s)
	case LegSet:
		l.Set = c.object(d, s, at+"/set", x.Set)
	case LegChoose:
		for i, w := range x.Choose {
			way := fmt.Sprintf("%s/choose/%d", at, i)
			l.Ways = append(l.Ways, Way{When: c.cond(d, s, way+"/when", w.When), Go: w.Go})
			if w.When == "" && i < len(x.Choose)-1 {
				c.report(Error, d.at(way), "Put it last.", "a way with no when: always holds, so what follows it is never looked at")
			}
			c.legNamed(d, r, way+"/go", w.Go)
		}
	case LegFinish:
		l.Finish = c.mapping(d, s, at+"/finish", x.Finish)
	}
	c.legNamed(d, r, at+"/go", x.Go)
	if x.Fails != "" && x.Fails != "stop" && !l.Collect {
		c.legNamed(d, r, at+"/fails", x.Fails)
	} else {
		l.OnError = ""
	}
}

// gateOfLeg compiles a leg that puts a text before people.
func (c *compiler) gateOfLeg(d *document, r *Relay, l *Leg, x rawLeg, at string, s *expr.Scope) {
	g := x.Gate
	l.Gate = &Gate{Show: c.template(d, s, at+"/gate/show", g.Show), Amend: g.Amend}
	l.Back, l.Refused, l.Lapsed, l.Tries = x.Back, x.Refused, x.Lapsed, cmp.Or(x.Tries, SentBack)
	c.people(d, at+"/gate", g, l.Gate, s)
	for key, to := range map[string]string{"back": x.Back, "refused": x.Refused, "lapsed": x.Lapsed} {
		c.legNamed(d, r, at+"/"+key, to)
	}
	if x.Tries != 0 && x.Back == "" {
		c.report(Error, d.key(at+"/tries"), "Name the leg in back:, or remove tries:.", "tries: says how often the text may be sent back, but the leg %q sends it nowhere", l.Name)
	}
	if x.Lapsed != "" && g.Within == "" {
		c.report(Error, d.key(at+"/lapsed"), "Add within: to the gate.", "lapsed: needs within:, since this gate never lapses")
	}
}

// spoken gives the scope of what ends an exchange: it sees the newest words, too.
func spoken(c *compiler, d *document, names map[string]map[string]any) *expr.Scope {
	inner := maps.Clone(names)
	inner["words"], inner["n"] = expr.Text, expr.Whole
	return c.scope(d, inner)
}

// branches compiles what a leg does side by side.
func (c *compiler) branches(d *document, r *Relay, l *Leg, raw map[string]any, at string, names map[string]map[string]any, s *expr.Scope) {
	for _, n := range inOrder(d, at, raw) {
		var x rawLeg
		c.read(d.at(at+"/"+n), raw[n], &x)
		b := &Leg{Name: n, Does: r.Name + "." + l.Name + "." + n, Place: d.key(at + "/" + n), AtOnce: 1}
		if b.Kind = c.kindOf(b, "branch", raw[n], []LegKind{LegOfAgent, LegOfTool, LegOfRelay, LegPrompt}); b.Kind == "" {
			continue
		}
		c.leg(d, r, b, x, at+"/"+n, names, s, s)
		l.Branches = append(l.Branches, b)
	}
	if len(raw) > branchesMost {
		c.report(Error, d.key(at), "Say each: over a list.", "a leg may have %d branches, and this one has %d", branchesMost, len(raw))
	}
	l.AtOnce = len(l.Branches)
}

// inOrder gives the keys of a map as they stand in the file.
func inOrder(d *document, at string, m map[string]any) []string {
	names := keysOf(m)
	slices.SortStableFunc(names, func(a, b string) int {
		x, y := d.key(at+"/"+a), d.key(at+"/"+b)
		if x.Line != y.Line {
			return x.Line - y.Line
		}
		return x.Col - y.Col
	})
	return names
}

// object compiles a mapping that gives an object; nothing at all gives an empty one.
func (c *compiler) object(d *document, s *expr.Scope, at string, v map[string]any) *expr.Mapping {
	if v == nil {
		v = map[string]any{}
	}
	return c.mapping(d, s, at, v)
}

func (c *compiler) legNamed(d *document, r *Relay, at, name string) {
	if name == "" || r.Leg(name) != nil {
		return
	}
	var have []string
	for _, l := range r.Legs {
		have = append(have, l.Name)
	}
	c.report(Error, d.at(at), "There is: "+near.List(have)+".", "the relay %s has no leg %q.%s", r.Name, name, near.Hint(name, have))
}
