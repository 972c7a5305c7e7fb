package project

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"runtime"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/right"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/scope"
)

// Defaults of limits, memory and times. Each can be set in the files.
const (
	defaultTurns    = 12
	defaultCalls    = 40
	defaultLegs     = 200
	defaultSameCall = 3
	defaultPasses   = 6
	defaultTime     = 10 * time.Minute
	modelTimeout    = 60 * time.Second
	longestReply    = 10 // times the timeout
)

func (c *compiler) compile() {
	var m struct {
		Project, Summary, Timezone, Start, Model string
		Models                                   map[string]struct {
			Speaks, URL, Key, Name, Lines, Timeout, Longest, Fallback string
			Latency, Word                                             string
			Slips                                                     float64
			Seed                                                      int
			Headers                                                   map[string]string
			Temperature                                               *float64
			MaxTokens                                                 int  `json:"max_tokens"`
			TakesSchema                                               bool `json:"takes_schema"`
			TakesPictures                                             bool `json:"takes_pictures"`
			Extra                                                     map[string]any
			Fields                                                    map[string]string
			Calls                                                     string
			Can                                                       Can
			Price                                                     Price
			Retry                                                     *int
		}
		Limits    rawLimits
		State     map[string]any
		Approvers []string
		Notify    *rawNotice
		Rung      ledger.Rung
		Sandbox   string
		Databases map[string]rawDatabase
		Beside    []rawBeside
	}
	c.into(c.main, &m)
	p := c.p
	p.Name, p.Summary, p.Start, p.Approvers = m.Project, m.Summary, m.Start, m.Approvers
	for i, n := range m.Approvers {
		if right.Reserved(n) {
			c.report(Error, c.main.at(fmt.Sprintf("/approvers/%d", i)), "Choose another name; in by: of a gate a right stands for everybody who has it.", "%q cannot be an approver, since it means something else there", n)
		}
	}
	p.Zone = time.UTC
	if m.Timezone != "" {
		z, err := time.LoadLocation(m.Timezone)
		if err != nil || m.Timezone == "Local" {
			c.report(Error, c.main.at("/timezone"), "Use a name of the IANA database, such as Europe/Dublin.", "there is no time zone %q", m.Timezone)
		} else {
			p.Zone = z
		}
	}
	c.databases(m.Databases)
	p.Limits = m.Limits.limits()
	p.Rung, p.Bare = m.Rung.Lower(ledger.RungFree), m.Sandbox == "none"
	if m.State != nil {
		p.State = c.schema(c.main, "/state", closed(m.State))
		c.contradictions(c.main, "/state", p.State.Conflicts(), Error)
	}
	for name, r := range m.Models {
		at := "/models/" + name
		md := &Model{Name: name, Speaks: r.Speaks, Remote: r.Name, Lines: r.Lines, Headers: map[string]string{}, Temperature: r.Temperature,
			MaxTokens: r.MaxTokens, Schema: r.TakesSchema, Pictures: r.TakesPictures, Extra: r.Extra, Fields: r.Fields, Written: r.Calls == "written", Can: r.Can, Price: r.Price, Timeout: modelTimeout, Retries: 2, Fallback: r.Fallback, Place: c.main.at(at)}
		md.URL, md.Key = c.vars(c.main, at+"/url", r.URL), c.vars(c.main, at+"/key", r.Key)
		for k, v := range r.Headers {
			md.Headers[k] = c.vars(c.main, at+"/headers/"+k, v)
		}
		if r.Timeout != "" {
			md.Timeout = span(r.Timeout)
		}
		if md.Longest = longestReply * md.Timeout; r.Longest != "" {
			if md.Longest = span(r.Longest); md.Longest < md.Timeout {
				c.report(Error, c.main.at(at+"/longest"), "timeout bounds how long it says nothing, longest the whole reply.", "a reply of the model %q would be cut at %s, before its timeout of %s", name, md.Longest, md.Timeout)
			}
		}
		if r.Retry != nil {
			md.Retries = *r.Retry
		}
		md.Slips, md.Seed, md.Latency, md.Word = r.Slips, r.Seed, span(r.Latency), span(r.Word)
		if r.Speaks == "chat-completions" && (r.Slips != 0 || r.Seed != 0 || r.Latency != "" || r.Word != "") {
			c.report(Error, c.main.at(at), "Set them on the understudy that it falls back to, or with flags of `stonebaton understudy`.", "slips, seed, latency and word are for models that speak understudy")
		}
		for _, k := range keysOf(r.Extra) {
			if slices.Contains([]string{"messages", "model", "stream", "stream_options", "tools", "tool_choice", "response_format"}, k) {
				c.report(Error, c.main.at(at+"/extra/"+k), "Omit it.", "extra: %s is made by the run, and not set here", k)
			}
		}
		if r.Speaks != "chat-completions" && r.Calls != "" {
			c.report(Error, c.main.at(at+"/calls"), "Omit it.", "calls: is for models that speak chat-completions")
		}
		if md.Schema && r.Can.Schema != nil && !*r.Can.Schema {
			c.report(Warning, c.main.at(at+"/takes_schema"), "Omit it: the answer is then asked for in words, and held against the schema all the same.", "a test found that %q does not answer in a schema", name)
		}
		if md.Pictures && r.Can.Pictures != nil && !*r.Can.Pictures {
			c.report(Warning, c.main.at(at+"/takes_pictures"), "Omit it: a line is read of each picture.", "a test found that %q is not shown pictures", name)
		}
		if r.Speaks != "chat-completions" && len(r.Extra)+len(r.Fields) > 0 {
			c.report(Error, c.main.at(at), "Omit them.", "extra and fields are for models that speak chat-completions")
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
	c.model = m.Model
	c.prepare()
	for _, d := range c.docs {
		switch d.kind {
		case "tool":
			c.tool(d, nil)
		case "source":
			c.source(d)
		}
	}
	if m.Notify != nil {
		c.notices(c.main, "/notify", Always, m.Notify)
	}
	if m.Limits.More != nil {
		p.Limits.More = &Gate{}
		c.people(c.main, "/limits/more", m.Limits.More, p.Limits.More, c.scope(c.main, nil))
	}
	c.receivers()
	c.rates()
	c.besides(m.Beside)
	for _, compile := range c.gates {
		compile()
	}
	c.readWordings()
	for _, d := range c.docs {
		if d.kind == "relay" {
			c.relay(d)
		}
	}
	for _, d := range c.docs {
		if d.kind == "agent" {
			c.agent(d)
		}
	}
	c.ungated()
	c.abilities()
	c.references()
	c.courses()
	for _, d := range c.docs {
		if d.kind == "drill" {
			c.drill(d)
		}
	}
	sort.Slice(p.Drills, func(i, j int) bool { return p.Drills[i].Name < p.Drills[j].Name })
}

type rawLimits struct {
	More                               *rawGate
	Turns, Calls, Tokens, Passes, Legs int
	Cost                               float64
	Time                               string
	SameCall                           int  `json:"same_call"`
	LastWord                           bool `json:"last_word"`
}

func (r rawLimits) limits() Limits {
	or := func(n, d int) int {
		if n == 0 {
			return d
		}
		return n
	}
	l := Limits{Turns: or(r.Turns, defaultTurns), Calls: or(r.Calls, defaultCalls), Tokens: r.Tokens, Cost: r.Cost,
		Time: defaultTime, Legs: or(r.Legs, defaultLegs), SameCall: or(r.SameCall, defaultSameCall), Passes: or(r.Passes, defaultPasses), LastWord: r.LastWord}
	if r.Time != "" {
		l.Time = span(r.Time)
	}
	return l
}

// into fills a struct from a document that its schema has already accepted.
func (c *compiler) into(d *document, to any) { c.read(d.at(""), d.value, to) }

// read fills a struct from a value that a schema has already accepted.
func (c *compiler) read(at Place, v, to any) {
	b, err := json.Marshal(v)
	if err == nil {
		err = json.Unmarshal(b, to)
	}
	if err != nil {
		c.report(Error, at, "", "this cannot be read: %v", err)
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
	for _, kind := range []string{"agent", "tool", "relay", "model"} {
		if _, ok := c.names[kind+" "+name]; ok && strings.Contains(what, kind) {
			return // it is there, but broken: that is reported where it stands
		}
	}
	if strings.Contains(what, "tool") && c.anyTool {
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
	if ready := c.ready[textOf(doc)]; ready != nil {
		return ready
	}
	s, err := schema.Compile(doc)
	if err != nil {
		c.report(Error, d.at(at), "", "%v", err)
		return nil
	}
	return s
}

// prepare compiles the schemas of all tools side by side, since that is most of the work of
// reading a large project. What is wrong with one is told where it is compiled again.
func (c *compiler) prepare() {
	var work []map[string]any
	for _, d := range c.docs {
		if d.kind != "tool" {
			continue
		}
		if in, ok := d.value["input"].(map[string]any); ok {
			work = append(work, closed(maps.Clone(in)))
		}
		if out, ok := d.value["output"].(map[string]any); ok {
			work = append(work, out)
		}
	}
	ready := make([]*schema.Schema, len(work))
	var g sync.WaitGroup
	next := make(chan int)
	for range runtime.GOMAXPROCS(0) {
		g.Go(func() {
			for i := range next {
				ready[i], _ = schema.Compile(work[i])
			}
		})
	}
	for i := range work {
		next <- i
	}
	close(next)
	g.Wait()
	c.ready = make(map[string]*schema.Schema, len(work))
	for i, s := range ready {
		if s != nil {
			c.ready[textOf(work[i])] = s
		}
	}
}

// closed refuses fields that a schema does not name, where it says nothing of them: models
// invent arguments, people misspell facts, and both are told at once. Fields may be named by
// the parts that a schema is put together of; drafts before 2019-09 cannot close such a one.
func closed(doc map[string]any) map[string]any {
	key := "additionalProperties"
	for _, k := range []string{"allOf", "anyOf", "oneOf", "if", "dependentSchemas", "$ref", "$dynamicRef"} {
		if doc[k] != nil {
			key = "unevaluatedProperties"
		}
	}
	_, additional := doc["additionalProperties"]
	_, unevaluated := doc["unevaluatedProperties"]
	draft, _ := doc["$schema"].(string)
	if additional || unevaluated || key == "unevaluatedProperties" && strings.Contains(draft, "/draft-0") {
		return doc
	}
	doc[key] = false
	return doc
}

// textOf gives a document as JSON, the same for the same document.
func textOf(doc map[string]any) string {
	raw, err := json.Marshal(doc)
	if err != nil {
		panic("what was read is JSON: " + err.Error())
	}
	return string(raw)
}

func (c *compiler) scope(d *document, names map[string]map[string]any) *expr.Scope {
	if names == nil && c.plain != nil {
		return c.plain
	}
	all := scope.Types(stateDoc(c.p.State), names)
	s, err := expr.NewScope(all)
	if err != nil {
		c.report(Error, d.at(""), "", "%v", err)
		return nil
	}
	if names == nil {
		c.plain = s
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

var looksLikeKey = regexp.MustCompile(`\b(?:(?:sk|pk|ghp|xox[bp]|AKIA)[-_A-Za-z0-9]{16,}|(?i:api[_-]?key|token|secret|passw(?:or)?d)["']?\s*[:=]\s*["']?[A-Za-z0-9+/_-]{20,})`)
