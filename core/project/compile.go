package project

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/scope"
)

// Defaults of limits, memory and times. Each can be set in the files.
const (
	defaultTurns    = 12
	defaultCalls    = 40
	defaultSameCall = 3
	defaultPasses   = 6
	defaultTime     = 10 * time.Minute
	modelTimeout    = 60 * time.Second
)

func (c *compiler) compile() {
	var m struct {
		Project, Summary, Timezone, Start, Model string
		Models                                   map[string]struct {
			Speaks, URL, Key, Name, Lines, Timeout, Fallback string
			Latency, Word                                    string
			Slips                                            float64
			Seed                                             int
			Headers                                          map[string]string
			Temperature                                      *float64
			MaxTokens                                        int `json:"max_tokens"`
			Price                                            Price
			Retry                                            *int
		}
		Limits    rawLimits
		State     map[string]any
		Approvers []string
		Rung      ledger.Rung
		Sandbox   string
	}
	c.into(c.main, &m)
	p := c.p
	p.Name, p.Summary, p.Start, p.Approvers = m.Project, m.Summary, m.Start, m.Approvers
	p.Zone = time.UTC
	if m.Timezone != "" {
		z, err := time.LoadLocation(m.Timezone)
		if err != nil || m.Timezone == "Local" {
			c.report(Error, c.main.at("/timezone"), "Use a name of the IANA database, such as Europe/Dublin.", "there is no time zone %q", m.Timezone)
		} else {
			p.Zone = z
		}
	}
	p.Limits = m.Limits.limits()
	p.Rung, p.Bare = m.Rung.Lower(ledger.RungFree), m.Sandbox == "none"
	if m.State != nil {
		if _, said := m.State["additionalProperties"]; !said {
			m.State["additionalProperties"] = false // a misspelt fact is found at once
		}
		p.State = c.schema(c.main, "/state", m.State)
		c.contradictions(c.main, "/state", p.State)
	}
	for name, r := range m.Models {
		at := "/models/" + name
		md := &Model{Name: name, Speaks: r.Speaks, Remote: r.Name, Lines: r.Lines, Headers: map[string]string{}, Temperature: r.Temperature,
			MaxTokens: r.MaxTokens, Price: r.Price, Timeout: modelTimeout, Retries: 2, Fallback: r.Fallback, Place: c.main.at(at)}
		md.URL, md.Key = c.vars(c.main, at+"/url", r.URL), c.vars(c.main, at+"/key", r.Key)
		for k, v := range r.Headers {
			md.Headers[k] = c.vars(c.main, at+"/headers/"+k, v)
		}
		if r.Timeout != "" {
			md.Timeout = span(r.Timeout)
		}
		if r.Retry != nil {
			md.Retries = *r.Retry
		}
		md.Slips, md.Seed, md.Latency, md.Word = r.Slips, r.Seed, span(r.Latency), span(r.Word)
		if r.Speaks == "chat-completions" && (r.Slips != 0 || r.Seed != 0 || r.Latency != "" || r.Word != "") {
			c.report(Error, c.main.at(at), "Set them on the understudy that it falls back to, or with flags of `stonebaton understudy`.", "slips, seed, latency and word are for models that speak understudy")
		}
		if r.Speaks == "chat-completions" {
			if r.URL == "" {
				c.report(Error, c.main.at(at), "Add url: with the base URL of the endpoint.", "the model %q has no url", name)
			}
			if r.Lines != "" {
				c.report(Error, c.main.at(at+"/lines"), "", "lines are for models that speak understudy")
			}
			if md.Remote == "" {
				md.Remote = name
			}
		} else if r.URL != "" || r.Key != "" {
			c.report(Error, c.main.at(at), "Remove url: and key:, or write speaks: chat-completions.", "the understudy of %q is in process; it takes no url or key", name)
		}
		if r.Key != "" && !secretRef.MatchString(r.Key) {
			c.report(Error, c.main.at(at+"/key"), "Write key: ${secret:NAME} and put NAME=… into .env or the environment.", "a key must not be written into a file")
		}
		p.Models[name] = md
	}
	for name, md := range p.Models {
		if md.Fallback == "" {
			continue
		}
		at := c.main.at("/models/" + name + "/fallback")
		if p.Models[md.Fallback] == nil {
			c.missing(at, "model", md.Fallback, keysOf(p.Models))
			continue
		}
		seen := map[string]bool{name: true}
		for f := md.Fallback; f != ""; {
			if seen[f] {
				c.report(Error, at, "End the chain at a model with no fallback.", "the fallbacks of %q go round in a circle", name)
				break
			}
			seen[f] = true
			next := p.Models[f]
			if next == nil {
				break
			}
			f = next.Fallback
		}
	}
	if m.Model != "" && p.Models[m.Model] == nil {
		c.missing(c.main.at("/model"), "model", m.Model, keysOf(p.Models))
	}
	if m.Model == "" && len(p.Models) == 1 {
		m.Model = keysOf(p.Models)[0]
	}
	for _, d := range c.docs {
		switch d.kind {
		case "tool":
			c.tool(d, "")
		case "source":
			c.source(d)
		}
	}
	for _, d := range c.docs {
		if d.kind == "agent" {
			c.agent(d, m.Model)
		}
	}
	c.references()
	for _, d := range c.docs {
		if d.kind == "drill" {
			c.drill(d)
		}
	}
	sort.Slice(p.Drills, func(i, j int) bool { return p.Drills[i].Name < p.Drills[j].Name })
}

type rawLimits struct {
	Turns, Calls, Tokens, Passes int
	Cost                         float64
	Time                         string
	SameCall                     int `json:"same_call"`
}

func (r rawLimits) limits() Limits {
	or := func(n, d int) int {
		if n == 0 {
			return d
		}
		return n
	}
	l := Limits{Turns: or(r.Turns, defaultTurns), Calls: or(r.Calls, defaultCalls), Tokens: r.Tokens, Cost: r.Cost,
		Time: defaultTime, SameCall: or(r.SameCall, defaultSameCall), Passes: or(r.Passes, defaultPasses)}
	if r.Time != "" {
		l.Time = span(r.Time)
	}
	return l
}

// into fills a struct from a document that its schema has already accepted.
func (c *compiler) into(d *document, to any) {
	b, err := json.Marshal(d.value)
	if err == nil {
		err = json.Unmarshal(b, to)
	}
	if err != nil {
		c.report(Error, d.at(""), "", "this cannot be read: %v", err)
	}
}

// span reads a duration; days are 24 hours. The schema has checked its shape.
func span(s string) time.Duration {
	if i := strings.IndexByte(s, 'd'); i > 0 {
		days, _ := strconv.Atoi(s[:i])
		rest := time.Duration(0)
		if s[i+1:] != "" {
			rest, _ = time.ParseDuration(s[i+1:])
		}
		return time.Duration(days)*24*time.Hour + rest
	}
	d, _ := time.ParseDuration(s)
	return d
}

func keysOf[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

func (c *compiler) missing(at Place, what, name string, have []string) {
	if _, ok := c.names[what+" "+name]; ok {
		return // it is there, but broken: that is reported where it stands
	}
	if what == "tool" && c.anyTool {
		return // a source that is broken may bring it
	}
	list := "There is none yet."
	if len(have) > 0 {
		list = "There is: " + near.List(have) + "."
	}
	c.report(Error, at, list, "unknown %s %q.%s", what, name, near.Hint(name, have))
}

// vars puts the values of ${NAME} in; secrets stay as they are named.
func (c *compiler) vars(d *document, at, s string) string {
	return variable.ReplaceAllStringFunc(s, func(m string) string {
		part := variable.FindStringSubmatch(m)
		name := part[1]
		v, ok := c.src.Env[name]
		if (!ok || v == "") && part[2] != "" {
			return part[3] // the default
		}
		if !ok {
			if !c.unset[name] {
				c.unset[name] = true
				c.report(Warning, d.at(at), "Set it in the environment or in the project's .env, or write ${"+name+":-default}.", "the variable %s is not set; what needs it will fail when it is used", name)
			}
			return m
		}
		return v
	})
}

func (c *compiler) schema(d *document, at string, doc map[string]any) *schema.Schema {
	s, err := schema.Compile(doc)
	if err != nil {
		c.report(Error, d.at(at), "", "%v", err)
		return nil
	}
	return s
}

func (c *compiler) scope(d *document, names map[string]map[string]any) *expr.Scope {
	all := scope.Types(stateDoc(c.p.State), names)
	s, err := expr.NewScope(all)
	if err != nil {
		c.report(Error, d.at(""), "", "%v", err)
		return nil
	}
	return s
}

func stateDoc(s *schema.Schema) map[string]any {
	if s == nil {
		return map[string]any{"type": "object"}
	}
	return s.Doc()
}

// wrong reports an expression that does not compile, with its place in the file.
func (c *compiler) wrong(d *document, at string, e *expr.Error) {
	p := d.at(at)
	if e.Col > 1 && p.Col > 0 {
		p.Col += e.Col - 1
	}
	c.report(Error, p, e.Remedy, "%s: %s", strings.ReplaceAll(strings.TrimPrefix(at, "/"), "/", "."), e.Say)
}

func (c *compiler) loose(d *document, at string, fields []string) {
	for _, f := range fields {
		i := strings.LastIndexByte(f, '.')
		c.report(Warning, d.at(at), fmt.Sprintf("Write %s.?%s.orValue(…), or test has(%s) first.", f[:i], f[i+1:], f), "%s may not be there when this is evaluated", f)
	}
}

func (c *compiler) cond(d *document, s *expr.Scope, at, src string) *expr.Expr {
	if s == nil || src == "" {
		return nil
	}
	e, err := s.Cond(src)
	if err != nil {
		c.wrong(d, at, err)
		return nil
	}
	c.loose(d, at, e.Unguarded())
	return e
}

func (c *compiler) template(d *document, s *expr.Scope, at, src string) *expr.Template {
	if s == nil || src == "" {
		return nil
	}
	t, err := s.Template(src)
	if err != nil {
		c.wrong(d, at, err)
		return nil
	}
	c.loose(d, at, t.Unguarded())
	c.suspect(d, s, at, src)
	return t
}

// suspect warns of texts that stand as they are, though an expression was probably
// meant.
func (c *compiler) suspect(d *document, s *expr.Scope, at string, v any) {
	switch x := v.(type) {
	case string:
		if strings.HasPrefix(x, "=") {
			return
		}
		if piece, instead := s.Suspect(x, !strings.Contains(x, "{{")); piece != "" {
			c.coded("text", Warning, d.at(at), "Write "+instead+" for the value.", "%q is kept as it is: a text, not an expression", piece)
		}
	case []any:
		for i, e := range x {
			c.suspect(d, s, at+"/"+strconv.Itoa(i), e)
		}
	case map[string]any:
		for _, k := range keysOf(x) {
			c.suspect(d, s, at+"/"+k, x[k])
		}
	}
}

func (c *compiler) mapping(d *document, s *expr.Scope, at string, v any) *expr.Mapping {
	if s == nil || v == nil {
		return nil
	}
	m, place, err := s.Mapping(v)
	if err != nil {
		c.wrong(d, at+place, err)
		return nil
	}
	c.loose(d, at, m.Unguarded())
	c.suspect(d, s, at, v)
	return m
}

func (c *compiler) agent(d *document, model string) {
	var r struct {
		Agent, Summary, Prompt, Model string
		Tools                         []string
		PassesTo                      []string `json:"passes_to"`
		Memory                        struct {
			Keep     string
			Messages int
		}
		Limits struct{ Turns int }
	}
	c.into(d, &r)
	a := &Agent{Name: r.Agent, Summary: r.Summary, Model: r.Model, Tools: r.Tools, PassesTo: r.PassesTo, Turns: r.Limits.Turns, Place: d.at("/agent"), Said: d.at("/prompt")}
	if secretRef.MatchString(r.Prompt) {
		c.report(Error, d.at("/prompt"), "Give the secret to the tool that needs it.", "a prompt must not refer to a secret: the model, and everybody who reads the run, would see it")
	}
	a.Prompt = c.template(d, c.scope(d, nil), "/prompt", r.Prompt)
	if a.Model == "" {
		a.Model = model
		if model == "" {
			c.report(Error, d.at("/agent"), "Add model: here or in "+Main+".", "the agent %q has no model", a.Name)
		}
	} else if c.p.Models[a.Model] == nil {
		c.missing(d.at("/model"), "model", a.Model, keysOf(c.p.Models))
	}
	for i, t := range a.Tools {
		at := d.at(fmt.Sprintf("/tools/%d", i))
		if c.p.Tools[t] == nil {
			c.missing(at, "tool", t, keysOf(c.p.Tools))
		}
		if slices.Contains(a.Tools[:i], t) {
			c.report(Error, at, "Keep one of them.", "the tool %q is listed twice", t)
		}
	}
	if r.Memory.Keep == "window" {
		if a.Window = r.Memory.Messages; a.Window == 0 {
			a.Window = 30
		}
	}
	c.p.Agents[a.Name] = a
}

// references checks what can be checked only when every agent is known.
func (c *compiler) references() {
	agents := keysOf(c.p.Agents)
	if c.p.Agents[c.p.Start] == nil {
		c.missing(c.main.at("/start"), "agent", c.p.Start, agents)
	}
	reached := map[string]bool{c.p.Start: true}
	queue := []string{c.p.Start}
	for len(queue) > 0 {
		a := c.p.Agents[queue[0]]
		queue = queue[1:]
		if a == nil {
			continue
		}
		for _, h := range a.PassesTo {
			if !reached[h] {
				reached[h] = true
				queue = append(queue, h)
			}
		}
	}
	for _, d := range c.docs {
		if d.kind != "agent" {
			continue
		}
		name, _ := d.value["agent"].(string)
		a := c.p.Agents[name]
		if a == nil {
			continue
		}
		for i, h := range a.PassesTo {
			at := d.at(fmt.Sprintf("/passes_to/%d", i))
			if h == name {
				c.report(Error, at, "Remove it.", "%q cannot hand over to itself", name)
			} else if c.p.Agents[h] == nil {
				c.missing(at, "agent", h, agents)
			}
		}
		if !reached[name] {
			c.report(Warning, d.at("/agent"), fmt.Sprintf("Put it into passes_to: of another agent, or begin there with -to %s.", name), "nobody hands over to %q", name)
		}
	}
}

var looksLikeKey = regexp.MustCompile(`\b(?:(?:sk|pk|ghp|xox[bp]|AKIA)[-_A-Za-z0-9]{16,}|(?i:api[_-]?key|token|secret|passw(?:or)?d)["']?\s*[:=]\s*["']?[A-Za-z0-9+/_-]{20,})`)

func (c *compiler) drill(d *document) {
	var r struct {
		Drill, Summary, Now, Person, Tools, Model string
		Slips                                     *float64
		Seed                                      int
		Rungs                                     map[string]ledger.Rung
		Say                                       any
		State                                     map[string]any
		Gates                                     map[string]any
		Stubs                                     map[string][]rawStub
		Expect                                    json.RawMessage
	}
	c.into(d, &r)
	dr := &Drill{Name: r.Drill, Summary: r.Summary, Person: r.Person, Tools: ledger.Tools(r.Tools), Rungs: r.Rungs, Model: r.Model, Slips: r.Slips, Seed: r.Seed, State: r.State, Gates: map[string]DrillGate{}, Place: d.at("/drill")}
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
		if c.p.Tools[tool] == nil {
			c.missing(d.key(at), "tool", tool, keysOf(c.p.Tools))
			continue
		}
		var g DrillGate
		switch v := r.Gates[tool].(type) {
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
			} else if args, ok := v["amend"].(map[string]any); ok {
				g = DrillGate{Verb: ledger.Amend, Args: args}
			}
		}
		dr.Gates[tool] = g
	}
	c.known(d, "/state", r.State)
	c.p.Drills = append(c.p.Drills, dr)
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
		if c.p.Agents[a] == nil {
			c.missing(d.at(fmt.Sprintf("%s/path/%d", at, i)), "agent", a, keysOf(c.p.Agents))
		}
	}
	tool := func(p, name string) {
		if c.p.Tools[name] == nil && !strings.HasPrefix(name, PassPrefix) {
			c.missing(d.at(at+p), "tool", name, keysOf(c.p.Tools))
		}
	}
	for i, call := range x.Calls {
		tool(fmt.Sprintf("/calls/%d/tool", i), call.Tool)
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
