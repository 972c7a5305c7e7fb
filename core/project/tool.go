package project

import (
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
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
	Direct, Go                                    bool
	Unless                                        []rawSaying
	Rate                                          struct {
		PerMinute int `json:"per_minute"`
	}
	Cut     struct{ Rows, Tokens int }
	Script  any
	HTTP    *rawHTTP
	Command *rawCommand
	SQL     *rawSQL
	Builtin *rawBuiltin
	Stubs   []rawStub
	Says    struct {
		Done   string
		Failed []rawSaying
	}
	Sets map[string]any
	Gate *struct {
		When, Why, Ask, Within, Lapse string
		By                            []string
	}
}

type rawStub struct {
	When, After string
	Returns     json.RawMessage
	Fails       any
}

type rawSaying struct{ When, Say string }

type rawAuth struct {
	Bearer string
	Basic  *struct{ User, Password string }
	Header map[string]string
	Query  map[string]string
	OAuth  *OAuth
}

type rawHTTP struct {
	Method, URL, Bearer string
	Query, Form         map[string]any
	Headers             map[string]string
	Auth                *rawAuth
	Body, Pick          any
	FailsWhen           string `json:"fails_when"`
	WhenEmpty           string `json:"when_empty"`
	Redirects, Private  bool
}

type rawCommand struct {
	Run, State, Reads, Writes []string
	Env, Refusals             map[string]string
	Output, Sandbox           string
	Network                   bool
	MemoryMB                  int `json:"memory_mb"`
	DiskMB                    int `json:"disk_mb"`
	Processes                 int
}

type rawSQL struct {
	Database, Query string
	Tables          map[string]string
	Params          map[string]any
	Rows            int
	One             bool
}

type rawBuiltin struct {
	Do              string
	In, Facts, From []string
}

// scopes are the names that the parts of one tool may use.
type scopes struct{ args, result, failure, response *expr.Scope }

// tool compiles one tool document. Source names the source that brought it.
func (c *compiler) tool(d *document, source string) *Tool {
	var r rawTool
	c.into(d, &r)
	c.about = r.Tool
	defer func() { c.about = "" }()
	switch {
	case strings.HasPrefix(r.Tool, PassPrefix):
		c.report(Error, d.at("/tool"), "Give it another name.", "names that begin with %s are for handoffs", PassPrefix)
	case strings.HasPrefix(r.Tool, ConsultPrefix):
		c.report(Error, d.at("/tool"), "Give it another name.", "names that begin with %s are for consults", ConsultPrefix)
	case r.Tool == AskPerson:
		c.report(Error, d.at("/tool"), "Give it another name.", "%s is how an agent that is consulted asks the person", AskPerson)
	}
	t := &Tool{Name: r.Tool, Summary: r.Summary, Effect: ledger.Effect(r.Effect), Resend: r.Resend, Timeout: toolTimeout, Retries: 2, Rung: r.Rung.Lower(c.p.Rung), ReasonFirst: r.ReasonFirst,
		PerMinute: r.Rate.PerMinute, Direct: r.Direct, Rows: defaultRows, Tokens: defaultTokens, Go: r.Go, Source: source, Document: d.file, Place: d.at("/tool")}
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
	if r.Builtin != nil {
		c.builtin(d, &r, t)
	}
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
	c.contract(d, &r, t)
	sc := c.scopes(d, &r)
	c.handlers(d, &r, t, sc)
	t.Stubs = c.stubsOf(d, "/stubs", r.Stubs, t, sc.args)
	for i, u := range r.Unless {
		at := fmt.Sprintf("/unless/%d", i)
		t.Unless = append(t.Unless, Saying{When: c.cond(d, sc.args, at+"/when", u.When), Say: c.template(d, sc.args, at+"/say", u.Say)})
	}
	t.Done = c.template(d, sc.result, "/says/done", r.Says.Done)
	for i, f := range r.Says.Failed {
		at := fmt.Sprintf("/says/failed/%d", i)
		t.Failed = append(t.Failed, Saying{When: c.cond(d, sc.failure, at+"/when", f.When), Say: c.template(d, sc.failure, at+"/say", f.Say)})
	}
	c.sets(d, &r, t, sc)
	c.gate(d, &r, t, sc)
	if t.Rung.Stubs(t.Effect) && len(t.Stubs) == 0 && !t.Inward() {
		c.coded("stub", Warning, d.at("/rung"), "Add stubs:, or raise its rung:.", "%q is on the rung %s but has no stubs, so every call of it fails", t.Name, t.Rung)
	}
	c.p.Tools[t.Name] = t
	c.judged = append(c.judged, judged{d, t, r})
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
	if _, ok := r.Input["additionalProperties"]; !ok {
		r.Input["additionalProperties"] = false // models invent arguments; they are told at once
	}
	if props, _ := r.Input["properties"].(map[string]any); r.ReasonFirst && props[Because] != nil {
		c.report(Error, d.at("/input/properties/"+Because), "Give the parameter another name, or remove reason_first:.", "reason_first adds a parameter %q of its own", Because)
	}
	t.Input = c.schema(d, "/input", r.Input)
	c.contradictions(d, "/input", t.Input)
	if r.Output != nil {
		t.Output = c.schema(d, "/output", r.Output)
		c.contradictions(d, "/output", t.Output)
	}
}

func (c *compiler) contradictions(d *document, at string, s *schema.Schema) {
	for _, x := range s.Conflicts() {
		name := strings.TrimPrefix(strings.ReplaceAll(strings.ReplaceAll(x.Path, "/properties/", "."), "/", "."), ".")
		if name == "" {
			name = strings.TrimPrefix(at, "/")
		}
		c.report(Error, d.at(at+x.Path), "Fix the schema: as it is, no value or no default can be right.", "%s contradicts itself: %s", name, x.Say)
	}
}

func (c *compiler) scopes(d *document, r *rawTool) scopes {
	with := func(name string, doc map[string]any) *expr.Scope {
		names := map[string]map[string]any{"args": r.Input}
		if name != "" {
			names[name] = doc
		}
		return c.scope(d, names)
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

// handlers compiles what carries the tool out.
func (c *compiler) handlers(d *document, r *rawTool, t *Tool, sc scopes) {
	var have []string
	for name, is := range map[string]bool{"script": r.Script != nil, "http": r.HTTP != nil, "command": r.Command != nil, "sql": r.SQL != nil, "builtin": r.Builtin != nil, "go": r.Go} {
		if is {
			have = append(have, name)
		}
	}
	slices.Sort(have)
	if len(have) > 1 {
		c.report(Error, d.at("/"+have[1]), "Keep one of them.", "a tool has one handler, but this one has %s", strings.Join(have, " and "))
	}
	if len(have) == 0 && len(r.Stubs) == 0 && t.Source == "" {
		c.report(Error, d.at("/tool"), "Add script:, http:, command:, sql:, builtin: or stubs:.", "the tool %q has nothing that carries it out", t.Name)
	}
	if r.Script != nil {
		t.Script = c.script(d, r.Script)
	}
	if r.HTTP != nil {
		t.HTTP = c.http(d, r.HTTP, t, sc)
	}
	if r.Command != nil {
		t.Command = c.command(d, r.Command, sc)
	}
	if r.SQL != nil {
		t.SQL = c.sql(d, r, t, sc)
	}
}

func (c *compiler) script(d *document, v any) *Script {
	s := &Script{}
	switch x := v.(type) {
	case string:
		s.Code, s.Place = x, c.firstLine(d.at("/script"))
		return s
	case map[string]any:
		s.Code, _ = x["code"].(string)
		fetch, _ := x["fetch"].([]any)
		for i, f := range fetch {
			s.Fetch = append(s.Fetch, c.prefix(d, fmt.Sprintf("/script/fetch/%d", i), f.(string)))
		}
		if s.Code != "" {
			s.Place = c.firstLine(d.at("/script/code"))
			return s
		}
		file, _ := x["file"].(string)
		name := path.Join(path.Dir(d.file), file)
		code, ok := c.src.Files[name]
		if !ok {
			var have []string
			for f := range c.src.Files {
				if path.Ext(f) == ".js" {
					have = append(have, f)
				}
			}
			c.report(Error, d.at("/script/file"), "The path counts from this file's folder.", "cannot find the file %s.%s", name, near.Hint(name, have))
		}
		s.Code, s.Place = code, Place{File: name, Line: 1, Col: 1}
	}
	return s
}

// firstLine gives the place of the first line of a text: of a block, the line after its sign.
func (c *compiler) firstLine(at Place) Place {
	lines := strings.Split(c.src.Files[at.File], "\n")
	if at.Line >= 1 && at.Line <= len(lines) && at.Col >= 1 && at.Col <= len(lines[at.Line-1]) && strings.ContainsRune("|>", rune(lines[at.Line-1][at.Col-1])) {
		next := ""
		if at.Line < len(lines) {
			next = lines[at.Line]
		}
		return Place{File: at.File, Line: at.Line + 1, Col: 1 + len(next) - len(strings.TrimLeft(next, " "))}
	}
	return at
}

// prefix checks what URLs may begin with, so that https://good.example does not
// let https://good.example.evil in.
func (c *compiler) prefix(d *document, at, s string) string {
	s = c.vars(d, at, s)
	rest, ok := strings.CutPrefix(s, "https://")
	if !ok {
		rest, ok = strings.CutPrefix(s, "http://")
	}
	if !ok && !strings.HasPrefix(s, "${") || (ok && rest == "") {
		c.report(Error, d.at(at), "Write https://HOST/ or a path below it.", "%q is not the beginning of a URL", s)
	}
	if ok && !strings.Contains(rest, "/") {
		s += "/"
	}
	return s
}

func (c *compiler) http(d *document, r *rawHTTP, t *Tool, sc scopes) *HTTP {
	h := &HTTP{Method: r.Method, Headers: map[string]*expr.Template{}, Redirects: r.Redirects, Private: r.Private}
	if h.Method == "" {
		h.Method = "GET"
		if r.Body != nil || r.Form != nil {
			h.Method = "POST"
		}
	}
	if r.Body != nil && r.Form != nil {
		c.report(Error, d.at("/http/form"), "Keep one of them.", "a request has one body, but this one has body and form")
	}
	if t.Effect == ledger.Read && (h.Method == "PUT" || h.Method == "DELETE" || h.Method == "PATCH") {
		c.report(Warning, d.at("/http/method"), "Say effect: write, or use GET.", "a read with %s: it would be sent again after a failure", h.Method)
	}
	h.URL = c.template(d, sc.args, "/http/url", c.vars(d, "/http/url", r.URL))
	if r.Query != nil {
		h.Query = c.mapping(d, sc.args, "/http/query", r.Query)
	}
	for k, v := range r.Headers {
		h.Headers[k] = c.template(d, sc.args, "/http/headers/"+k, c.vars(d, "/http/headers/"+k, v))
	}
	if r.Bearer != "" && r.Auth != nil {
		c.report(Error, d.at("/http/bearer"), "Keep one of them.", "the request is signed twice: set either bearer: or auth:")
	}
	if r.Auth != nil {
		h.Auth = c.auth(d, "/http/auth", r.Auth)
	} else if r.Bearer != "" {
		h.Auth = &Auth{Bearer: c.key(d, "/http/bearer", r.Bearer)}
	}
	h.Body = c.mapping(d, sc.args, "/http/body", r.Body)
	if r.Form != nil {
		h.Form = c.mapping(d, sc.args, "/http/form", r.Form)
	}
	h.Reading = c.reading(d, sc.response, "/http", r.Pick, r.FailsWhen, r.WhenEmpty)
	return h
}

// reading compiles what is taken from a reply.
func (c *compiler) reading(d *document, s *expr.Scope, at string, pick any, failsWhen, whenEmpty string) Reading {
	r := Reading{FailsWhen: c.cond(d, s, at+"/fails_when", failsWhen), NotFound: whenEmpty == "not_found"}
	if pick != nil {
		r.Pick = c.mapping(d, s, at+"/pick", pick)
	} else if r.NotFound {
		c.report(Error, d.at(at+"/when_empty"), "Add pick: with what is looked for in the reply.", "when_empty: is about what pick: gives, and there is no pick:")
	}
	return r
}

// key reads a value that must be a secret, named and not written.
func (c *compiler) key(d *document, at, v string) string {
	v = c.vars(d, at, v)
	if !secretRef.MatchString(v) {
		c.coded("key", Error, d.at(at), "Write ${secret:NAME} and put NAME=… into .env or the environment.", "a token or password must not be written into a file")
	}
	return v
}

func (c *compiler) auth(d *document, at string, r *rawAuth) *Auth {
	a := &Auth{Header: map[string]string{}, Query: map[string]string{}}
	switch {
	case r.Bearer != "":
		a.Bearer = c.key(d, at+"/bearer", r.Bearer)
	case r.Basic != nil:
		a.User, a.Password = c.vars(d, at+"/basic/user", r.Basic.User), c.key(d, at+"/basic/password", r.Basic.Password)
	case r.OAuth != nil:
		o := *r.OAuth
		o.TokenURL, o.ClientID = c.vars(d, at+"/oauth/token_url", o.TokenURL), c.vars(d, at+"/oauth/client_id", o.ClientID)
		o.ClientSecret = c.key(d, at+"/oauth/client_secret", o.ClientSecret)
		a.OAuth = &o
	}
	for k, v := range r.Header {
		a.Header[k] = c.key(d, at+"/header/"+k, v)
	}
	for k, v := range r.Query {
		a.Query[k] = c.key(d, at+"/query/"+k, v)
	}
	return a
}

// inside checks a path of the project's own.
func (c *compiler) inside(d *document, at, p string) string {
	clean := path.Clean(p)
	if path.IsAbs(p) || clean == ".." || strings.HasPrefix(clean, "../") || strings.ContainsRune(p, 0) {
		c.report(Error, d.at(at), "Name a path within the project's folder.", "the path %q is outside the project", p)
	}
	return clean
}

func (c *compiler) command(d *document, r *rawCommand, sc scopes) *Command {
	m := &Command{Base: path.Dir(d.file), Env: map[string]string{}, State: r.State, Text: r.Output == "text", Refusals: map[int]string{}, Network: r.Network,
		MemoryMB: 512, DiskMB: 64, Processes: 32, Bare: r.Sandbox == "none" || (r.Sandbox == "" && c.p.Bare)}
	for i, a := range r.Run {
		at := fmt.Sprintf("/command/run/%d", i)
		c.inTheOpen(d, at, a)
		m.Run = append(m.Run, c.template(d, sc.args, at, c.vars(d, at, a)))
	}
	if first := m.Run[0]; first != nil && !first.Plain() {
		c.report(Error, d.at("/command/run/0"), "Write the program out, and give it the values as arguments or on standard input.", "the program itself must not depend on a value")
	}
	for k, v := range r.Env {
		m.Env[k] = c.vars(d, "/command/env/"+k, v)
	}
	for k, v := range r.Refusals {
		n, err := strconv.Atoi(k)
		if err != nil || n < 1 || n > 255 {
			c.report(Error, d.key("/command/refusals/"+k), "", "%q is not an exit code from 1 to 255", k)
			continue
		}
		m.Refusals[n] = v
	}
	c.facts(d, "/command/state", r.State)
	for i, p := range r.Reads {
		at := fmt.Sprintf("/command/reads/%d", i)
		p = c.vars(d, at, p)
		if path.Clean(p) == "." {
			c.report(Error, d.at(at), "Name the files and folders that it needs.", "reads: would open the whole project, with its .env and its records")
			continue
		}
		if path.IsAbs(p) { // an interpreter, or data, elsewhere on the machine
			m.Reads = append(m.Reads, path.Clean(p))
			continue
		}
		m.Reads = append(m.Reads, c.inside(d, at, p))
	}
	for i, p := range r.Writes {
		m.Writes = append(m.Writes, c.inside(d, fmt.Sprintf("/command/writes/%d", i), p))
	}
	for to, v := range map[*int]int{&m.MemoryMB: r.MemoryMB, &m.DiskMB: r.DiskMB, &m.Processes: r.Processes} {
		if v > 0 {
			*to = v
		}
	}
	return m
}

// inTheOpen refuses a secret on a command line, which others on the machine can read.
func (c *compiler) inTheOpen(d *document, at, arg string) {
	if secretRef.MatchString(arg) {
		c.report(Error, d.at(at), "Give it in env:.", "a secret on a command line can be read by everybody on the machine")
	}
}

// facts checks names of the state.
func (c *compiler) facts(d *document, at string, names []string) {
	have := schema.Keys(stateDoc(c.p.State))
	for i, n := range names {
		if !slices.Contains(have, n) {
			c.report(Error, d.at(fmt.Sprintf("%s/%d", at, i)), "Describe it under state: in "+Main+".", "the state has no %q.%s", n, near.Hint(n, have))
		}
	}
}

func (c *compiler) sql(d *document, r *rawTool, t *Tool, sc scopes) *SQL {
	q := &SQL{Query: r.SQL.Query, Tables: map[string]string{}, Rows: 1000, One: r.SQL.One}
	if r.SQL.Rows > 0 {
		q.Rows = r.SQL.Rows
	}
	if r.SQL.Database != "" {
		q.Database = c.inside(d, "/sql/database", r.SQL.Database)
	}
	for k, v := range r.SQL.Tables {
		q.Tables[k] = c.inside(d, "/sql/tables/"+k, v)
		if ext := path.Ext(v); ext != ".csv" && ext != ".tsv" && ext != ".json" {
			c.report(Error, d.at("/sql/tables/"+k), "", "a table is a file .csv, .tsv or .json, not %q", ext)
		}
	}
	if r.SQL.Params != nil {
		q.Params = c.mapping(d, sc.args, "/sql/params", r.SQL.Params)
	}
	if head := strings.ToUpper(strings.TrimSpace(q.Query)); !strings.HasPrefix(head, "SELECT") && !strings.HasPrefix(head, "WITH") && !strings.HasPrefix(head, "VALUES") {
		c.report(Error, d.at("/sql/query"), "Begin it with SELECT, WITH or VALUES; what writes belongs to the service that owns the data.", "the query does not read")
	}
	if t.Effect != ledger.Read {
		c.report(Error, d.at("/sql"), "Say effect: read.", "a query only reads, but the tool is a %s", t.Effect)
	}
	return q
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
		if sc.result == nil {
			continue
		}
		to := c.mapping(d, sc.result, at, r.Sets[k])
		if to != nil {
			sub, _ := stateDoc(c.p.State)["properties"].(map[string]any)[k].(map[string]any)
			if want, got, ok := to.Fits(sub); !ok {
				c.report(Error, d.at(at), "", "the state's %q is of type %s, but this gives %s", k, want, got)
			}
		}
		t.Sets = append(t.Sets, Setting{Name: k, To: to})
	}
}

func (c *compiler) gate(d *document, r *rawTool, t *Tool, sc scopes) {
	g := r.Gate
	if g == nil {
		return
	}
	gate := &Gate{When: c.cond(d, sc.args, "/gate/when", g.When), Why: g.Why, By: g.By, Ask: c.template(d, sc.args, "/gate/ask", g.Ask), Lapse: ledger.RefuseIt}
	if g.Within != "" {
		gate.Within = span(g.Within)
	}
	if g.Lapse != "" {
		gate.Lapse = ledger.Verb(g.Lapse)
	}
	if g.Lapse != "" && g.Within == "" {
		c.report(Error, d.at("/gate/lapse"), "Add within: with a duration.", "lapse: needs within:, since this gate never lapses")
	}
	if len(g.By) > 0 && len(c.p.Approvers) == 0 {
		c.report(Warning, d.at("/gate/by"), "Add approvers: ["+strings.Join(g.By, ", ")+"] to "+Main+".", "by: names %s, but the project lists no approvers, so a misspelt name is not found", strings.Join(g.By, ", "))
	}
	for i, by := range g.By {
		if len(c.p.Approvers) > 0 && !slices.Contains(c.p.Approvers, by) {
			c.missing(d.at(fmt.Sprintf("/gate/by/%d", i)), "approver", by, c.p.Approvers)
		}
	}
	t.Gate = gate
}

// builtin fills in what a builtin brings of its own: its contract and effect,
// where the document does not say them.
func (c *compiler) builtin(d *document, r *rawTool, t *Tool) {
	b := &Builtin{Do: r.Builtin.Do, Facts: r.Builtin.Facts}
	own := builtins[b.Do]
	for i, p := range r.Builtin.In {
		at := fmt.Sprintf("/builtin/in/%d", i)
		dir := c.inside(d, at, p)
		if dir == "." && !strings.HasPrefix(b.Do, "files.w") && b.Do != "files.replace" { // of those that write, the reader of the files says so
			c.report(Error, d.at(at), "Grant a folder that holds no files of the project, such as notes.", "in: would open the project's own folder, which holds its files")
		}
		b.In = append(b.In, dir)
	}
	for i, u := range r.Builtin.From {
		b.From = append(b.From, c.prefix(d, fmt.Sprintf("/builtin/from/%d", i), u))
	}
	need := func(key string, n int) {
		if own.needs == key && n == 0 {
			c.report(Error, d.at("/builtin"), "Add "+key+":, so that it is plain how far it reaches.", "%s needs %s:", b.Do, key)
		} else if own.needs != key && n > 0 {
			c.report(Error, d.at("/builtin/"+key), "Remove it.", "%s does not take %s:", b.Do, key)
		}
	}
	need("in", len(b.In))
	need("facts", len(b.Facts))
	need("from", len(b.From))
	c.facts(d, "/builtin/facts", b.Facts)
	if r.Input != nil {
		c.report(Error, d.at("/input"), "Remove input:.", "%s brings its own input", b.Do)
	}
	r.Input = own.input()
	if b.Do == "state.set" {
		props := map[string]any{}
		all, _ := stateDoc(c.p.State)["properties"].(map[string]any)
		for _, f := range b.Facts {
			props[f] = all[f]
		}
		r.Input = map[string]any{"type": "object", "properties": props, "minProperties": 1.0}
	}
	if r.Output == nil && own.output != "" {
		r.Output = fromJSON(own.output)
	}
	if t.Effect == "" {
		t.Effect = own.effect
	} else if own.effect != ledger.Read && t.Effect == ledger.Read {
		c.report(Error, d.at("/effect"), "Remove it, or write effect: write.", "%s changes something; it is not a read", b.Do)
	}
	if own.resend != "" && t.Resend == "" {
		t.Resend = own.resend
	}
	t.Builtin = b
}

// toolTimeout is the time a tool's call may take, where it says none.
const toolTimeout = 10 * time.Second
