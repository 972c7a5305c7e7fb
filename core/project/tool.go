package project

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/scope"
)

// Bounds of what a model reads of one result, where a tool sets none.
const (
	defaultRows   = 50
	defaultTokens = 6000
)

// rawTool is a tool document as its schema lets it be.
type rawTool struct {
	Tool, Summary, Effect, Resend, Timeout, Cache string
	Rung                                          ledger.Rung
	Input, Output                                 map[string]any
	Retry                                         *int
	ReasonFirst                                   bool `json:"reason_first"`
	Direct, Shared                                bool
	Unless                                        []rawSaying
	LooksUp                                       map[string]rawLookup `json:"looks_up"`
	Rate                                          struct {
		PerSecond int `json:"per_second"`
		PerMinute int `json:"per_minute"`
		PerDay    int `json:"per_day"`
		Shared    string
	}
	Price float64
	Link  string
	Cut   struct{ Rows, Tokens int }
	Stubs []rawStub
	Says  struct {
		Done   string
		Failed []rawSaying
	}
	Sets map[string]any
	Gate *rawGate
}

type rawStub struct {
	When, After string
	Returns     json.RawMessage
	Fails       any
}

type rawSaying struct{ When, Say string }

// scopes are the names that the parts of one tool may use, each made when it is needed.
type scopes struct{ args, result, failure, response func() *expr.Scope }

// taken refuses names of tools and relays that are what models call for something else.
func (c *compiler) taken(at Place, name string) {
	const remedy = "Give it another name."
	switch {
	case strings.HasPrefix(name, PassPrefix):
		c.report(Error, at, remedy, "names that begin with %s are for handoffs", PassPrefix)
	case strings.HasPrefix(name, ConsultPrefix):
		c.report(Error, at, remedy, "names that begin with %s are for consults", ConsultPrefix)
	case name == NextStep:
		c.report(Error, at, remedy, "%s is how the agent of a plan takes its next step", NextStep)
	case name == GateOfLeg:
		c.report(Error, at, remedy, "%s is how a leg puts a text before people", GateOfLeg)
	case name == AskPerson:
		c.report(Error, at, remedy, "%s is how an agent asks the person", AskPerson)
	}
}

// tool compiles one tool document; from is what a source says of it, nil where it is the
// project's own.
func (c *compiler) tool(d *document, from *brought) *Tool {
	var r rawTool
	c.into(d, &r)
	c.about = r.Tool
	defer func() { c.about = "" }()
	c.taken(d.at("/tool"), r.Tool)
	t := &Tool{Name: r.Tool, Summary: r.Summary, Effect: ledger.Effect(r.Effect), Resend: r.Resend, Timeout: toolTimeout, Retries: 2, Rung: r.Rung.Lower(c.p.Rung), ReasonFirst: r.ReasonFirst,
		Rate: Rate(r.Rate), Price: r.Price, Direct: r.Direct, Rows: defaultRows, Tokens: defaultTokens, Document: d.file, Place: d.at("/tool")}
	if from != nil {
		t.Source = from.source
	}
	if r.Rung != "" {
		t.Rung = r.Rung // the nearer word wins: a project on a low rung raises its tools one by one
	}
	if r.Cut.Rows > 0 {
		t.Rows = r.Cut.Rows
	}
	if r.Cut.Tokens > 0 {
		t.Tokens = r.Cut.Tokens
	}
	if r.Timeout != "" {
		t.Timeout = span(r.Timeout)
	}
	if r.Retry != nil {
		t.Retries = *r.Retry
	}
	t.Work.Inward = from != nil && from.inward
	kind := c.partOf(d, &r, t)
	own := c.brings(d, kind, &r, t)
	if t.Effect == "" {
		t.Effect = ledger.Write
	}
	if t.Resend != "" && t.Effect == ledger.Read {
		c.report(Warning, d.at("/resend"), "Remove it.", "a read can always be sent again; resend: says nothing about it")
	}
	if r.Cache != "" {
		if t.Cache = span(r.Cache); t.Effect != ledger.Read {
			c.report(Error, d.at("/cache"), "Write effect: read if it changes nothing, or remove cache:.", "only the results of reads can be kept; %q is a %s", t.Name, t.Effect)
		}
	}
	if t.Shared = r.Shared; t.Shared && t.Cache == 0 {
		c.report(Error, d.at("/shared"), "Say how long, such as cache: 10m, or remove shared:.", "shared: says of kept results that they are the same for everybody, and %q keeps none", t.Name)
	}
	if from == nil {
		c.contract(d, &r, t)
	} else {
		c.contractOf(d, from, &r, t)
	}
	sc := c.scopes(d, &r)
	if kind != nil {
		t.Work = kind.Compile(&Part{Tool: t, c: c, d: d, at: "/" + kind.Name, sc: sc})
		t.Work.Kind = kind.Name
	}
	if len(r.Stubs) > 0 {
		t.Stubs = c.stubsOf(d, "/stubs", r.Stubs, t, sc.args())
	}
	for i, u := range r.Unless {
		at := fmt.Sprintf("/unless/%d", i)
		if len(r.LooksUp) > 0 && usesFound.MatchString(u.When+u.Say) {
			continue // looksUp compiles it
		}
		t.Unless = append(t.Unless, Saying{When: c.cond(d, sc.args(), at+"/when", u.When), Say: c.template(d, sc.args(), at+"/say", u.Say)})
	}
	if r.Link != "" {
		if !writtenOut.MatchString(r.Link) {
			c.report(Error, d.at("/link"), "Begin it with https://HOST/ and put values behind that.", "where the link leads must not be a value")
		}
		t.Link = c.template(d, sc.result(), "/link", r.Link)
	}
	if r.Says.Done != "" {
		t.Done = c.template(d, sc.result(), "/says/done", r.Says.Done)
	}
	for i, f := range r.Says.Failed {
		at := fmt.Sprintf("/says/failed/%d", i)
		t.Failed = append(t.Failed, Saying{When: c.cond(d, sc.failure(), at+"/when", f.When), Say: c.template(d, sc.failure(), at+"/say", f.Say)})
	}
	c.sets(d, &r, t, sc)
	if r.Gate == nil && own.Gated {
		r.Gate = &rawGate{}
	}
	if len(r.LooksUp) > 0 {
		c.gates = append(c.gates, func() { c.looksUp(d, &r, t, sc.args()) })
	}
	if r.Gate != nil {
		c.gates = append(c.gates, func() { c.gate(d, r.Gate, t, sc.args()) })
	}
	if t.Rung.Stubs(t.Effect) && len(t.Stubs) == 0 && !t.Work.Inward {
		c.coded("stub", Warning, d.at("/rung"), "Add stubs:, or raise its rung:.", "%q is on the rung %s but has no stubs, so every call of it fails", t.Name, t.Rung)
	}
	c.p.Tools[t.Name] = t
	c.judged = append(c.judged, judged{d, t, r, own.Shipped})
	return t
}

// contract compiles the input and output schemas.
func (c *compiler) contract(d *document, r *rawTool, t *Tool) {
	if r.Input == nil {
		r.Input = map[string]any{"type": "object", "properties": map[string]any{}}
	}
	if r.Input["type"] != "object" {
		c.report(Error, d.at("/input"), "Write type: object, with the parameters under properties.", "the input of a tool must be an object")
		r.Input = map[string]any{"type": "object"}
	}
	r.Input = closed(r.Input)
	if props, _ := r.Input["properties"].(map[string]any); r.ReasonFirst && props[Because] != nil {
		c.reasonTwice(d)
	}
	t.Input = c.schema(d, "/input", r.Input)
	c.contradictions(d, "/input", t.Input.Conflicts(), Error)
	if r.Output != nil {
		t.Output = c.schema(d, "/output", r.Output)
		c.contradictions(d, "/output", t.Output.Conflicts(), Error)
	}
}

// contractOf takes the schemas of a source. What contradicts itself there is not theirs to
// fix who use it.
func (c *compiler) contractOf(d *document, from *brought, r *rawTool, t *Tool) {
	t.Input, t.Output = from.input, from.output
	r.Input, r.Output = t.Input.Doc(), t.Output.Doc()
	if props, _ := r.Input["properties"].(map[string]any); r.ReasonFirst && props[Because] != nil {
		c.reasonTwice(d)
	}
	c.contradictions(d, "/input", from.shared.Conflicts(t.Input), Warning)
	c.contradictions(d, "/output", from.shared.Conflicts(t.Output), Warning)
}

func (c *compiler) reasonTwice(d *document) {
	c.report(Error, d.at("/input/properties/"+Because), "Give the parameter another name, or remove reason_first:.", "reason_first adds a parameter %q of its own", Because)
}

func (c *compiler) contradictions(d *document, at string, found []schema.Conflict, grade Grade) {
	for _, x := range found {
		name := strings.TrimPrefix(strings.ReplaceAll(strings.ReplaceAll(x.Path, "/properties/", "."), "/", "."), ".")
		if name == "" {
			name = strings.TrimPrefix(at, "/")
		}
		c.report(grade, d.at(at+x.Path), "Fix the schema: as it is, no value or no default can be right.", "%s contradicts itself: %s", name, x.Say)
	}
}

func (c *compiler) scopes(d *document, r *rawTool) scopes {
	with := func(name string, doc map[string]any) func() *expr.Scope {
		return sync.OnceValue(func() *expr.Scope {
			names := map[string]map[string]any{"args": r.Input, "gate": scope.Gate}
			if name != "" {
				names[name] = doc
			}
			return c.scope(d, names)
		})
	}
	result := expr.Any
	if r.Output != nil {
		result = r.Output
	}
	return scopes{
		args: with("", nil), result: with("result", result),
		failure:  with("error", scope.Failure),
		response: with("response", scope.Response),
	}
}

// stubsOf compiles the stubs of a tool, which stand at a path of a document.
func (c *compiler) stubsOf(d *document, path string, raw []rawStub, t *Tool, sc *expr.Scope) (out []Stub) {
	for i, s := range raw {
		at := fmt.Sprintf("%s/%d", path, i)
		st := Stub{When: c.cond(d, sc, at+"/when", s.When)}
		st.Class, st.Outcome = failed(0)
		if s.After != "" {
			st.After = span(s.After)
		}
		switch f := s.Fails.(type) {
		case string:
			st.Fails = c.template(d, sc, at+"/fails", f)
		case map[string]any:
			say, _ := f["say"].(string)
			st.Fails = c.template(d, sc, at+"/fails/say", say)
			if n, ok := f["status"].(float64); ok {
				st.Status = int(n)
				st.Class, st.Outcome = failed(st.Status)
			}
			if x, ok := f["class"].(string); ok {
				st.Class = x
			}
			if x, ok := f["outcome"].(string); ok {
				st.Outcome = ledger.Outcome(x)
			}
		}
		if s.Returns != nil {
			var v any
			_ = json.Unmarshal(s.Returns, &v) // it came from a value that was marshalled above
			st.Returns = c.mapping(d, sc, at+"/returns", v)
			if v == nil && sc != nil {
				st.Returns, _, _ = sc.Mapping(nil)
			}
			if st.Returns.Plain() {
				if faults := t.Output.Check(v); len(faults) > 0 {
					c.report(Error, d.at(at+"/returns"+faults[0].Path), "A stub has the same contract as the real thing.", "the stub does not fit the output schema: %s", schema.Say(faults))
				}
			}
		}
		out = append(out, st)
	}
	return out
}

// failed gives what a failure is that has a status of HTTP, as of a reply; 0 is one
// that has none.
func failed(status int) (class string, o ledger.Outcome) {
	switch {
	case status == 429:
		return "rate", ledger.NotDone
	case status >= 500:
		return "server", ledger.Unknown
	}
	return "refused", ledger.NotDone
}

func (c *compiler) sets(d *document, r *rawTool, t *Tool, sc scopes) {
	for _, k := range keysOf(r.Sets) {
		at := "/sets/" + k
		props := schema.Keys(stateDoc(c.p.State))
		if !slices.Contains(props, k) {
			c.report(Error, d.key(at), "Describe it under state: in "+Main+".", "the state has no %q.%s", k, near.Hint(k, props))
			continue
		}
		if sc.result() == nil {
			continue
		}
		to := c.mapping(d, sc.result(), at, r.Sets[k])
		if to != nil {
			sub, _ := stateDoc(c.p.State)["properties"].(map[string]any)[k].(map[string]any)
			if want, got, ok := to.Fits(sub); !ok {
				c.report(Error, d.at(at), "", "the state's %q is of type %s, but this gives %s", k, want, got)
			}
		}
		t.Sets = append(t.Sets, Setting{Name: k, To: to})
	}
}

// toolTimeout is the time a tool's call may take, where it says none.
const toolTimeout = 10 * time.Second

// writtenOut is a link whose host no value decides.
var writtenOut = regexp.MustCompile(`^(?:https?://[^/{}\s@]+/|\$\{[A-Z_0-9]+(?::-[^}]*)?\}/)`)

// rates gives tools that share a count the bounds that one of them says.
func (c *compiler) rates() {
	said := map[string]*Tool{}
	for _, name := range keysOf(c.p.Tools) {
		t := c.p.Tools[name]
		bounds := t.Rate
		if bounds.Shared = ""; t.Rate.Shared == "" || bounds.None() {
			continue
		}
		first := said[t.Rate.Shared]
		if first != nil && first.Rate != t.Rate {
			c.report(Error, t.Place, "Let one of them say how many, and write   rate: {shared: "+t.Rate.Shared+"}   in the others.", "%q and %q share a count, but %s is not %s", first.Name, t.Name, first.Rate, t.Rate)
			continue
		}
		said[t.Rate.Shared] = t
	}
	for _, name := range keysOf(c.p.Tools) {
		t := c.p.Tools[name]
		switch first := said[t.Rate.Shared]; {
		case t.Rate.Shared == "":
		case first == nil:
			c.report(Error, t.Place, "Add per_second, per_minute or per_day.", "no tool says how many calls those may make that share %s", t.Rate.Shared)
		default:
			t.Rate = first.Rate
		}
	}
}
