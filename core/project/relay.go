package project

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
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
	LegGate     LegKind = ledger.LegOfGate
	LegPlan     LegKind = "plan"
	LegExchange LegKind = ledger.LegRounds
	LegSet      LegKind = ledger.LegSets
	LegChoose   LegKind = "choose"
	LegFinish   LegKind = "finish"
	LegTogether LegKind = ledger.LegBranches
)

// legKinds lists them in the order in which they are told.
var legKinds = []LegKind{LegOfAgent, LegOfTool, LegOfRelay, LegPrompt, LegAsk, LegGate, LegPlan, LegExchange, LegTogether, LegSet, LegChoose, LegFinish}

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
	SentBack     = 3 // by default, how often a gate may send its text back
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
	Gate     *Gate         // of a leg that puts a text before people
	Back     string        // of a gate: the leg that the text is sent back to, with remarks; "": it is not sent back
	Tries    int           // of a gate: how often it may be
	Refused  string        // of a gate: the leg that comes next where they refuse; "": the relay fails
	Lapsed   string        // of a gate: the leg that comes next where nobody decides in time; "": as where they refuse
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
		once(&out, l.keeps()...)
	}
	return out
}

// keeps lists the names under which a leg keeps values.
func (l *Leg) keeps() []string {
	switch {
	case l.Kind == LegSet:
		return l.Set.Keys()
	case l.Keep != "":
		return []string{l.Keep}
	}
	return nil
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
	for _, to := range []string{l.OnError, l.Back, l.Refused, l.Lapsed} {
		if to != "" {
			add(to)
		}
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
	Gate               *rawGate
	Back               string
	Refused, Lapsed    string
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
	c.taken(r.Place, r.Name)
	if raw.Input == nil {
		raw.Input = map[string]any{"type": "object", "properties": map[string]any{}}
	}
	if raw.Input["type"] != "object" {
		c.report(Error, d.at("/input"), "Write type: object, with the fields under properties.", "the input of a relay must be an object")
		raw.Input = map[string]any{"type": "object"}
	}
	r.Input = c.schema(d, "/input", closed(raw.Input))
	c.contradictions(d, "/input", r.Input.Conflicts(), Error)
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
		case LegGate:
			doc = decision
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

// decision describes the value of a gate.
var decision = expr.Object(map[string]any{"verdict": map[string]any{"enum": []any{ledger.TextAllowed, ledger.TextChanged, ledger.TextBack, ledger.TextRefused, ledger.TextLapsed}}, "by": expr.Text, "because": expr.Text, "text": expr.Text})

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
