package project

import (
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/scope"
	"stonebaton.example/core/value"
)

// Kind is a kind of tool: a way to carry calls out. What it needs stands in a tool's
// document under its name. Kinds are handed to NewReader in one list; what carries their
// calls out checks them against the machine.
type Kind struct {
	Name   string // the key in a tool's document, such as "sql"
	Schema string // JSON Schema, as YAML, of what stands there; it may use the anchors of kinds.yaml
	Made   bool   // its documents are made by a program, never written by hand

	// Brings gives what a tool of the kind brings of its own; nil is nothing.
	Brings func(*Part) Own
	// Compile makes of a document what the kind's calls are carried out by.
	Compile func(*Part) Work
	// Reach names keys of what stands there, sound or not: that of the folders which
	// calls may write to, and that of the command line which they start. Both may be "";
	// nil is neither. What a tool may write is never read as part of the project.
	Reach func(raw map[string]any) (writes, starts string)
	// Heads names files of the project, beside its documents, whose first lines the contract of a
	// tool is made of; Part.File gives them. Raw is what stands there, main the project's own
	// document, sound or not. nil is none.
	Heads func(raw, main map[string]any) []string
}

// Own is what a tool brings where its document does not say it.
type Own struct {
	Name          string // for people
	Input, Output map[string]any
	Effect        ledger.Effect
	Resend        string
	Gated         bool // a call waits for a person, where its document has no gate
	Shipped       bool // the input ships with the program: it is not the project's to improve
}

// Work is what carries a tool's calls out, as its kind compiled it.
type Work struct {
	Kind   string              // its name; "" where stubs alone answer
	Line   string              // in a line, for people
	Spec   any                 // for the handler of the kind
	Inward bool                // it reaches nothing outside the call, so it can stand in for itself where stubs are asked for
	Looks  bool                // what a call would do can be seen without doing it
	Free   func(args any) bool // calls that need nobody's agreement, whatever the gate; nil: none
	Sets   bool                // its result is set into the state
	Data   []string            // files and folders of the project, beside its documents, on which it depends
	Bare   *Bare               // what it runs outside the sandbox; nil: nothing
}

// Bare is what runs outside the sandbox, as the user of the service.
type Bare struct {
	Say string   // what would run
	Of  []string // all that decides what would run
}

// Part is the part of a tool's document that its kind reads. Paths begin within it: ""
// is the part itself.
type Part struct {
	Tool *Tool // as far as it is compiled: without its contract while Brings is asked

	c  *compiler
	d  *document
	at string
	sc scopes
}

// Into reads the part, which fits its schema.
func (p *Part) Into(to any) { p.c.read(p.At(""), p.d.value[p.at[1:]], to) }

// At gives the place of a path.
func (p *Part) At(path string) Place { return p.d.at(p.at + path) }

// Report tells of a problem.
func (p *Part) Report(g Grade, path, remedy, format string, args ...any) {
	p.c.report(g, p.At(path), remedy, format, args...)
}

// ReportKey tells of a problem of a key itself, not of its value.
func (p *Part) ReportKey(g Grade, path, remedy, format string, args ...any) {
	p.c.report(g, p.d.key(p.at+path), remedy, format, args...)
}

// Tell tells of a problem that stands elsewhere.
func (p *Part) Tell(x Problem) { p.c.problems = append(p.c.problems, x) }

// Vars puts the values of ${NAME} into a text.
func (p *Part) Vars(path, text string) string { return p.c.vars(p.d, p.at+path, text) }

// Template compiles a text over the arguments.
func (p *Part) Template(path, text string) *expr.Template {
	return p.c.template(p.d, p.sc.args(), p.at+path, p.Vars(path, text))
}

// Mapping compiles a mapping over the arguments.
func (p *Part) Mapping(path string, v any) *expr.Mapping {
	return p.c.mapping(p.d, p.sc.args(), p.at+path, v)
}

// Reading compiles what is taken from a reply, by the keys pick, fails_when and when_empty.
func (p *Part) Reading(pick any, failsWhen, whenEmpty string) Reading {
	return p.c.reading(p.d, p.sc.response(), p.at, pick, failsWhen, whenEmpty)
}

// Auth compiles how requests say who they are.
func (p *Part) Auth(path string, a *RawAuth) *Auth { return p.c.auth(p.d, p.at+path, a) }

// Key reads a value that must name a secret.
func (p *Part) Key(path, v string) string { return p.c.key(p.d, p.at+path, v) }

// Inside reads a path that must be within the project.
func (p *Part) Inside(path, v string) string { return p.c.inside(p.d, p.at+path, v) }

// Network reads what programs are granted of the network, under the key network.
func (p *Part) Network(n Network) Network { return p.c.network(p.d, p.at+"/network", n) }

// Reads reads the files and folders that programs are granted to read, under a key: within the
// project, or elsewhere on the machine by their whole path.
func (p *Part) Reads(key string, names []string) []string {
	return p.c.reads(p.d, p.at+"/"+key, key, names)
}

// Prefix reads what URLs may begin with.
func (p *Part) Prefix(path, v string) string { return p.c.prefix(p.d, p.at+path, v) }

// Facts holds names of facts against the state.
func (p *Part) Facts(path string, names []string) { p.c.facts(p.d, p.at+path, names) }

// NoSecret refuses a secret on a command line, which others on the machine can read.
func (p *Part) NoSecret(path, arg string) { p.c.inTheOpen(p.d, p.at+path, arg) }

// Registry gives the address of a registry of packages, with its variables put in, and reports
// one that nobody should install from.
func (p *Part) Registry(path, address string) string {
	key, _, _ := strings.Cut(strings.TrimPrefix(path, "/"), "/")
	address, _ = p.c.registry(p.d, p.at+path, key, address)
	return address
}

// State gives the schema of the state.
func (p *Part) State() map[string]any { return stateDoc(p.c.p.State) }

// Bare says whether programs of the project run in no sandbox.
func (p *Part) Bare() bool { return p.c.p.Bare }

// Folder is the folder of the document, from which its files count.
func (p *Part) Folder() string { return path.Dir(p.d.file) }

// File gives a file of the project.
func (p *Part) File(name string) (text string, ok bool) {
	text, ok = p.c.src.Files[name]
	return text, ok
}

// Files lists the files of the project that end in something.
func (p *Part) Files(ext string) []string {
	return slices.DeleteFunc(keysOf(p.c.src.Files), func(f string) bool { return path.Ext(f) != ext })
}

// Made says whether the document is made by a program that brings its own functions.
func (p *Part) Made() bool { return strings.HasPrefix(p.d.file, OwnFiles) }

// FirstLine gives the place of the first line of a text: of a block, the line after its sign.
func (p *Part) FirstLine(path string) Place { return p.c.firstLine(p.At(path)) }

// partOf finds the kind that carries a tool out; none where stubs alone do.
func (c *compiler) partOf(d *document, r *rawTool, t *Tool) (kind *Kind) {
	var have, all []string
	for i, k := range c.r.kinds {
		if !k.Made {
			all = append(all, k.Name+":")
		}
		if _, is := d.value[k.Name]; is {
			have = append(have, k.Name)
			kind = &c.r.kinds[i]
		}
	}
	slices.Sort(have)
	if len(have) > 1 {
		c.report(Error, d.at("/"+have[1]), "Keep one of them.", "a tool has one handler, but this one has %s", strings.Join(have, " and "))
	}
	if len(have) == 0 && len(r.Stubs) == 0 && t.Source == "" {
		c.report(Error, d.at("/tool"), "Add "+strings.Join(append(all, "or stubs:."), " "), "the tool %q has nothing that carries it out", t.Name)
	}
	return kind
}

// brings fills in what a tool brings of its own where its document does not say it.
func (c *compiler) brings(d *document, k *Kind, r *rawTool, t *Tool) Own {
	if k == nil || k.Brings == nil {
		return Own{}
	}
	own := k.Brings(&Part{Tool: t, c: c, d: d, at: "/" + k.Name})
	if own.Input != nil {
		if r.Input != nil {
			c.report(Error, d.at("/input"), "Remove input:.", "%s brings its own input", own.Name)
		}
		r.Input = own.Input
	}
	if r.Output == nil {
		r.Output = own.Output
	}
	if t.Effect == "" {
		t.Effect = own.Effect
	} else if own.Effect != "" && own.Effect != ledger.Read && t.Effect == ledger.Read {
		c.report(Error, d.at("/effect"), "Remove it, or write effect: write.", "%s changes something; it is not a read", own.Name)
	}
	if t.Resend == "" {
		t.Resend = own.Resend
	}
	return own
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

// RawAuth is how a document says who requests come from.
type RawAuth struct {
	Bearer string
	Basic  *struct{ User, Password string }
	Header map[string]string
	Query  map[string]string
	OAuth  *OAuth
	Login  *struct {
		URL   string
		Body  map[string]any
		Token string
	}
}

func (c *compiler) auth(d *document, at string, r *RawAuth) *Auth {
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
	case r.Login != nil:
		l := &Login{URL: c.vars(d, at+"/login/url", r.Login.URL), Where: r.Login.Token}
		l.Body, _ = value.Texts(r.Login.Body, func(s string) string { return c.vars(d, at+"/login/body", s) }).(map[string]any)
		if raw, err := json.Marshal(l.Body); err == nil && !secretRef.Match(raw) {
			c.coded("key", Error, d.at(at+"/login/body"), "Write ${secret:NAME} and put NAME=… into .env or the environment.", "login: none of what is posted is a secret, so whoever reads the file can log in")
		}
		l.Token = c.mapping(d, c.scope(d, map[string]map[string]any{"response": scope.Response}), at+"/login/token", l.Where)
		a.Login = l
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
// Records is the folder of a project in which the records are, unless it is said elsewhere.
const Records = ".stonebaton"

func (c *compiler) inside(d *document, at, p string) string {
	clean := path.Clean(p)
	if path.IsAbs(p) || clean == ".." || strings.HasPrefix(clean, "../") || strings.ContainsRune(p, 0) {
		c.report(Error, d.at(at), "Name a path within the project's folder.", "the path %q is outside the project", p)
	}
	if first, _, _ := strings.Cut(clean, "/"); first == Records || first == ".env" || strings.HasPrefix(first, ".env.") {
		c.report(Error, d.at(at), "Name another path: the records hold every run, and the key with which one settles and builds.", "the path %q is of the records, or of secrets", p)
	}
	return clean
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
