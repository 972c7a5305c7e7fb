package project

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/schema"
)

// Relay is a course over several legs.
type Relay struct {
	Name     string
	Summary  string
	Input    *schema.Schema
	Legs     []*Leg         // in the order of the file, which is that in which they follow one another
	Remember *expr.Template // what the session keeps of what the person said; nil: that itself
	Effect   ledger.Effect  // the strongest of its legs'
	Place    Place
}

// Remembers says what the agent of a leg goes on with.
type Remembers string

// What an agent of a leg can go on with: nothing, what it was told and said at earlier visits
// in the run, or in the session.
const (
	Fresh   Remembers = "fresh"
	Same    Remembers = "same"
	Session Remembers = "session"
)

// LegKind is what a leg does.
type LegKind string

// The kinds of legs.
const (
	LegOfAgent  LegKind = "agent"
	LegOfTool   LegKind = "tool"
	LegOfRelay  LegKind = "relay"
	LegPrompt   LegKind = "prompt"
	LegAsk      LegKind = "ask"
	LegPlan     LegKind = "plan"
	LegExchange LegKind = ledger.LegRounds
	LegSet      LegKind = ledger.LegSets
	LegChoose   LegKind = "choose"
	LegFinish   LegKind = "finish"
	LegTogether LegKind = ledger.LegBranches
)

// legKinds lists them in the order in which they are told.
var legKinds = []LegKind{LegOfAgent, LegOfTool, LegOfRelay, LegPrompt, LegAsk, LegPlan, LegExchange, LegTogether, LegSet, LegChoose, LegFinish}

// answers says whether what a leg of the kind brings is an answer in words, which can be held
// to a schema.
func (k LegKind) answers() bool {
	return k == LegOfAgent || k == LegPrompt || k == LegAsk || k == LegPlan
}

// Bounds of legs that open several.
const (
	MostItems    = 10_000 // that a leg may go over
	atOnce       = 4      // by default
	branchesMost = 32
	stepsOfPlan  = 8 // by default
	rounds       = 6 // by default
)

// Leg is one station of a relay.
type Leg struct {
	Name     string
	Kind     LegKind
	Does     string         // the agent, tool or relay
	Among    []string       // of a plan: the agents, tools and relays that its steps are chosen from
	Steps    int            // of a plan
	NextStep *Tool          // of a plan: what its agent calls to take the next step
	Box      Toolbox        // of a plan: the agent's, and NextStep
	Between  [2]string      // the agents of an exchange
	Rounds   int            // of an exchange: each of the two speaks once in a round
	Until    *expr.Expr     // of an exchange; nil: all rounds
	Phrase   string         // of an exchange: it ends when this is said; "" is none
	Own      *Agent         // of a prompt: nobody else's
	Each     *expr.Mapping  // the list that it goes over; nil: it works once
	AtOnce   int            // items that are worked at side by side
	Collect  bool           // one that fails does not end the leg
	Branches []*Leg         // of together, in the order of the file
	Say      *expr.Template // what the agent is told; nil: the input, and the value of the leg before
	Thread   Remembers      // what the agent goes on with
	Shown    ledger.Shown   // what the person sees of it in the conversation
	Answer   *schema.Schema // of the agent's answer; nil: its own
	Good     *Good          // what has to hold of the answer; nil: what the agent says
	With     *expr.Mapping  // the arguments of the tool, or the input of the relay
	Set      *expr.Mapping  // an object
	Ways     []Way          // of choose
	Finish   *expr.Mapping
	Within   time.Duration // that a visit may take, waits for people not counted; 0 is no bound
	Keep     string        // the name under which its value is kept; "" is none
	Go       string        // the leg that comes next; "" is the one behind it, or the end
	OnError  string        // the leg that comes next where it fails; "": the relay fails
	Place    Place
}

// Way is one way out of a leg that chooses.
type Way struct {
	When *expr.Expr // nil: always
	Go   string
}

// Spoken names the field of the input that what is said goes into: the one field that is a
// text, where no other is required; "" where there is none.
func (r *Relay) Spoken() string {
	doc := r.Input.Doc()
	props, _ := doc["properties"].(map[string]any)
	required, _ := doc["required"].([]any)
	var texts []string
	for _, k := range keysOf(props) {
		field, _ := props[k].(map[string]any)
		if field["type"] == "string" && field["enum"] == nil && field["format"] == nil {
			texts = append(texts, k)
		}
	}
	if len(texts) != 1 || len(required) > 1 || (len(required) == 1 && required[0] != texts[0]) {
		return ""
	}
	return texts[0]
}

// Leg finds a leg; nil where there is none.
func (r *Relay) Leg(name string) *Leg {
	for _, l := range r.Legs {
		if l.Name == name {
			return l
		}
	}
	return nil
}

// Keeps lists the names under which its legs keep values.
func (r *Relay) Keeps() []string {
	var out []string
	for _, l := range r.Legs {
		names := []string{l.Keep}
		if l.Kind == LegSet {
			names = l.Set.Keys()
		}
		for _, n := range names {
			if n != "" && !slices.Contains(out, n) {
				out = append(out, n)
			}
		}
	}
	return out
}

// After gives the leg that comes after another, where nothing else is said; "" is the end.
func (r *Relay) After(l *Leg) string {
	if l.Go != "" {
		return l.Go
	}
	i := slices.Index(r.Legs, l)
	if l.Kind == LegFinish || i+1 == len(r.Legs) {
		return ""
	}
	return r.Legs[i+1].Name
}

// Ways lists where a relay may go on from a leg; "" is the end.
func (r *Relay) Ways(l *Leg) []string {
	var out []string
	add := func(to string) {
		if !slices.Contains(out, to) {
			out = append(out, to)
		}
	}
	open := l.Kind != LegChoose
	for i, w := range l.Ways {
		add(w.Go)
		open = open || (i == len(l.Ways)-1 && w.When != nil)
	}
	if open {
		add(r.After(l))
	}
	if l.OnError != "" {
		add(l.OnError)
	}
	return out
}

// Contract is what models see of the relay where an agent may call it.
func (r *Relay) Contract() Contract {
	return contractOf(r.Name, r.Summary, r.Input)
}

type rawLeg struct {
	Agent, Tool, Relay string
	Prompt, Ask, Plan  string
	Model              string
	Among, Exchange    []string
	Steps, Rounds      int
	Until, Phrase      string
	Each               any
	AtOnce             int `json:"at_once"`
	Together           map[string]any
	Set, Args, Input   map[string]any
	Choose             []struct{ When, Go string }
	Finish             any
	Say, Shown         string
	Thread             Remembers
	Answer             map[string]any
	GoodWhen           any `json:"good_when"`
	Tries              int
	Keep, Go, Fails    string
	Within             string
}

// relay compiles one relay document.
func (c *compiler) relay(d *document) {
	var raw struct {
		Relay, Summary, Remember string
		Input                    map[string]any
		Legs                     any
	}
	c.into(d, &raw)
	r := &Relay{Name: raw.Relay, Summary: raw.Summary, Place: d.at("/relay")}
	if raw.Input == nil {
		raw.Input = map[string]any{"type": "object", "properties": map[string]any{}}
	}
	if raw.Input["type"] != "object" {
		c.report(Error, d.at("/input"), "Write type: object, with the fields under properties.", "the input of a relay must be an object")
		raw.Input = map[string]any{"type": "object"}
	}
	if _, said := raw.Input["additionalProperties"]; !said {
		raw.Input["additionalProperties"] = false // a misspelt field is told at once
	}
	r.Input = c.schema(d, "/input", raw.Input)
	c.contradictions(d, "/input", r.Input)
	legs, paths := c.legsOf(d, r, raw.Legs)
	names := r.names(legs, c.p.Tools, c.answers())
	s := c.scope(d, names)
	inner := maps.Clone(names)
	inner["item"], inner["n"] = expr.Any, expr.Whole
	item := c.scope(d, inner)
	for i, l := range r.Legs {
		c.leg(d, r, l, legs[i], paths[i], names, s, item)
	}
	r.Remember = c.template(d, s, "/remember", raw.Remember)
	c.p.Relays[r.Name] = r
}

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
		var have []LegKind
		for _, k := range legKinds {
			if fields, _ := all[n].(map[string]any); fields[string(k)] != nil {
				have = append(have, k)
				l.Kind = k
			}
		}
		if len(have) != 1 {
			c.report(Error, l.Place, "Give it one of: "+kindList()+".", "the leg %q does %d things; a leg does one", n, len(have))
		}
		r.Legs = append(r.Legs, l)
		legs, paths = append(legs, x), append(paths, at)
	}
	return legs, paths
}

func kindList() string {
	names := make([]string, len(legKinds))
	for i, k := range legKinds {
		names[i] = string(k)
	}
	return strings.Join(names, ", ")
}

// names gives the schemas of the names that the expressions of a relay see.
func (r *Relay) names(legs []rawLeg, tools map[string]*Tool, agents map[string]map[string]any) map[string]map[string]any {
	kept, visits, ended := map[string]any{}, map[string]any{}, map[string]any{}
	for i, l := range r.Legs {
		x := legs[i]
		visits[l.Name], ended[l.Name] = expr.Whole, expr.Text
		if l.Kind == LegSet {
			for k := range x.Set {
				kept[k] = expr.Any
			}
		}
		if x.Keep == "" {
			continue
		}
		var doc map[string]any
		switch l.Kind {
		case LegOfTool:
			if t := tools[x.Tool]; t != nil && t.Output != nil {
				doc = t.Output.Doc()
			}
		case LegOfAgent, LegPrompt, LegAsk, LegPlan:
			if doc = x.Answer; doc == nil {
				doc = agents[x.Agent+x.Plan]
			}
			if doc == nil && x.Agent+x.Plan == "" {
				doc = expr.Text
			}
		case LegExchange:
			doc = said
		case LegOfRelay, LegTogether, LegSet, LegChoose, LegFinish:
		}
		if x.Each != nil {
			if doc == nil || x.Fails == "collect" {
				doc = expr.Any
			}
			doc = map[string]any{"type": "array", "items": doc}
		}
		if was, ok := kept[x.Keep]; doc == nil || (ok && fmt.Sprint(was) != fmt.Sprint(doc)) {
			doc = expr.Any
		}
		kept[x.Keep] = doc
	}
	return map[string]map[string]any{"input": r.Input.Doc(), "kept": expr.Object(kept), "visits": expr.Object(visits), "ended": expr.Object(ended), "remarks": expr.Object(ended)}
}

// said describes the value of an exchange.
var said = expr.Object(map[string]any{"last": expr.Text, "ended": expr.Text,
	"said": map[string]any{"type": "array", "items": expr.Object(map[string]any{"agent": expr.Text, "text": expr.Text})}})

// answers gives the schemas of what agents answer: a text, where they name none. It looks
// at the documents, since agents are compiled after relays.
func (c *compiler) answers() map[string]map[string]any {
	out := map[string]map[string]any{}
	for _, d := range c.docs {
		if name, _ := d.value["agent"].(string); d.kind == "agent" {
			out[name] = expr.Text
			if doc, ok := d.value["answer"].(map[string]any); ok {
				out[name] = doc
			}
		}
	}
	return out
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
		c.contradictions(d, at+"/answer", l.Answer)
	}
	takes("good_when", x.GoodWhen != nil, LegOfAgent, LegPrompt, LegPlan)
	takes("tries", x.Tries != 0, LegOfAgent, LegPrompt, LegPlan)
	l.Good = c.good(d, at, x.GoodWhen, x.Tries, l.Answer, names)
	switch l.Kind {
	case LegOfAgent:
		l.Does = x.Agent
		l.Say = c.template(d, s, at+"/say", x.Say)
	case LegPrompt:
		l.Does = cmp.Or(l.Does, r.Name+"."+l.Name)
		l.Say = c.template(d, s, at+"/prompt", x.Prompt)
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
	case LegPlan:
		l.Does, l.Among, l.Steps = x.Plan, x.Among, cmp.Or(x.Steps, stepsOfPlan)
		l.Say = c.template(d, s, at+"/say", x.Say)
		if len(x.Among) == 0 {
			c.report(Error, l.Place, "Add among: with the agents, tools and relays that its steps are chosen from.", "the plan %q has nobody to carry it out", l.Name)
		}
	case LegExchange:
		l.Rounds, l.Phrase = cmp.Or(x.Rounds, rounds), x.Phrase
		copy(l.Between[:], x.Exchange)
		l.Say = c.template(d, s, at+"/say", x.Say)
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
		switch {
		case x.Agent != "":
			b.Kind = LegOfAgent
		case x.Tool != "":
			b.Kind = LegOfTool
		case x.Relay != "":
			b.Kind = LegOfRelay
		case x.Prompt != "":
			b.Kind = LegPrompt
		}
		if b.Kind == "" {
			c.report(Error, b.Place, "Give it an agent, a tool, a relay or a prompt.", "the branch %q does nothing", n)
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
