package project

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/scope"
)

// Catalogue is what a source offers, as far as a project needs it.
type Catalogue struct {
	From    string            `json:"from"` // the document or server, and its version
	Tools   []Offer           `json:"tools"`
	Missing map[string]string `json:"missing,omitempty"` // why a tool that is named in take is not here
	Also    []string          `json:"also,omitempty"`    // what it has beside tools
	Fault   string            `json:"fault,omitempty"`   // why nothing could be read
	Soon    bool              `json:"-"`                 // it is still being asked: what it offers is taken in when it answers
	Broken  []Broken          `json:"broken,omitempty"`  // files of functions that cannot be loaded
}

// Broken is a file of functions that cannot be loaded.
type Broken struct {
	At     Place  `json:"at"`
	Say    string `json:"say"`
	Remedy string `json:"remedy,omitempty"`
}

// Offer is one tool of a source.
type Offer struct {
	Name      string         `json:"name"` // there
	Tool      string         `json:"tool"` // as ours are named
	Summary   string         `json:"summary"`
	Input     map[string]any `json:"input"`
	Output    map[string]any `json:"output,omitempty"`
	Says      string         `json:"says,omitempty"` // what the source says of its effect: a hint, never trusted
	Operation *Operation     `json:"operation,omitempty"`
	Fault     string         `json:"fault,omitempty"` // why it cannot be taken
	// Of a function of the project: what its file says of its effect, which holds; where it
	// stands there; and what that lacks.
	Effect ledger.Effect `json:"effect,omitempty"`
	At     Place         `json:"at,omitzero"`
	Lacks  []string      `json:"lacks,omitempty"`
}

// Operation is one operation of an OpenAPI document, as a request is made of it.
type Operation struct {
	Method string  `json:"method"`
	Server string  `json:"server"`
	Path   string  `json:"path"`
	Params []Param `json:"params,omitempty"`
	Body   string  `json:"body,omitempty"`     // its media type; "" is none
	Arg    string  `json:"body_arg,omitempty"` // the argument that is the body; "" where the rest of them are its fields
	// Fields says how fields of a form are written, where the document says so.
	Fields map[string]Param `json:"fields,omitempty"`
	// Files are the arguments that name files, or list names of some: these are sent in their place.
	Files []string `json:"files,omitempty"`
}

// Param is a parameter of an operation, or a field of its form.
type Param struct {
	Name     string `json:"name"`
	In       string `json:"in"` // path, query, header or cookie
	Arg      string `json:"arg"`
	Style    string `json:"style,omitempty"`    // as the document calls it; "" is the default of its place
	Explode  bool   `json:"explode,omitempty"`  // the parts of a value stand apart
	Reserved bool   `json:"reserved,omitempty"` // reserved letters are not escaped
	Content  string `json:"content,omitempty"`  // the media type that its value is written in; "" is none
}

// OwnFiles begins the names under which the documents of a program's own functions
// stand among the files of a project. There are no such files.
const OwnFiles = "<program>/"

var notName = regexp.MustCompile(`[^a-z0-9]+`)
var hump = regexp.MustCompile(`([a-z0-9])([A-Z])`)

// Ends gives the line after the last one of each tool's own document.
func (p *Project) Ends() map[string]int {
	files, out := map[string][]string{}, map[string]int{}
	for name, t := range p.Tools {
		if files[t.Place.File] == nil {
			files[t.Place.File] = strings.Split(p.Files[t.Place.File], "\n")
		}
		lines, n := files[t.Place.File], t.Place.Line
		for n < len(lines) && !strings.HasPrefix(lines[n], "---") {
			n++
		}
		out[name] = n + 1
	}
	return out
}

// ToolName makes a name as ours are of any other: getVesselByName becomes
// get_vessel_by_name.
func ToolName(s string) string {
	s = strings.Trim(notName.ReplaceAllString(strings.ToLower(hump.ReplaceAllString(s, "${1}_${2}")), "_"), "_")
	if s == "" || s[0] >= '0' && s[0] <= '9' {
		s = "t_" + s
	}
	if len(s) > 48 {
		s = strings.TrimRight(s[:48], "_")
	}
	return s
}

// Find gives the offer of a name, theirs or ours.
func (c Catalogue) Find(name string) (Offer, bool) {
	for _, o := range c.Tools {
		if o.Name == name || o.Tool == name {
			return o, true
		}
	}
	return Offer{}, false
}

// Only keeps what is taken, so that a project does not change with what it does
// not use. It says of each that is not there which was probably meant.
func (c Catalogue) Only(take []string) Catalogue {
	out := Catalogue{From: c.From, Fault: c.Fault, Broken: c.Broken, Tools: []Offer{}, Missing: map[string]string{}}
	var have []string
	for _, t := range take {
		if o, ok := c.Find(t); ok {
			out.Tools = append(out.Tools, o)
			continue
		}
		if have == nil {
			for _, o := range c.Tools {
				have = append(have, o.Tool)
			}
		}
		out.Missing[t] = near.Hint(t, have)
	}
	return out
}

// Taken keeps what a source takes.
func (c Catalogue) Taken(s *SourceDoc) Catalogue {
	if s.Code != nil && len(s.Take) == 0 {
		return c
	}
	return c.Only(s.Take)
}

// Sources reads the source documents alone, so that what they offer can be
// fetched before the project is compiled.
func (r *Reader) Sources(src Source) []*SourceDoc {
	c := r.compiler(src)
	c.documents()
	var out []*SourceDoc
	for _, d := range c.docs {
		if d.kind == "source" {
			s, _ := c.sourceDoc(d)
			out = append(out, s)
		}
	}
	return out
}

type rawSource struct {
	Source, Prefix string
	MCP            *struct {
		Command      []string
		Package      *rawPackage
		URL, Timeout string
		Auth         *RawAuth
		rawProgram
	}
	OpenAPI *struct {
		Document, Server   string
		Auth               *RawAuth
		Private, Redirects bool
		Reads              []string
	}
	Code    *rawCode
	Agents  []string
	Take    taken
	Effects map[string]string
	Tune    map[string]map[string]any
}

type rawPackage struct{ Node, Python3, Registry string }

// PackageName is the pattern of a package's name: never an option, a path or an address.
const PackageName = `^(@[a-z0-9][a-z0-9._-]{0,79}/)?[A-Za-z0-9][A-Za-z0-9._-]{0,79}(@[0-9][A-Za-z0-9.+-]{0,39})?$`

var packageName = regexp.MustCompile(PackageName)

// packageOf compiles what a source says of the package that its program comes in.
func (c *compiler) packageOf(d *document, r *rawPackage) *Package {
	p := &Package{Language: "node", Name: r.Node}
	if r.Python3 != "" {
		p.Language, p.Name = "python3", r.Python3
	}
	at := "/mcp/package/" + p.Language
	switch p.Name = c.vars(d, at, p.Name); {
	case !packageName.MatchString(p.Name):
		c.report(Error, d.at(at), "Write its name in the registry and its version, such as tides@1.2.0.", "package: %q is not the name of a package", p.Name)
		p.Name = ""
	case strings.LastIndexByte(p.Name, '@') < 1:
		c.report(Warning, d.at(at), "Write "+p.Name+"@ and the version.", "package: %s has no version: it is the one that is newest when it is installed", p.Name)
	}
	if r.Registry != "" {
		var sound bool
		if p.Registry, sound = c.registry(d, "/mcp/package/registry", "package", r.Registry); !sound {
			p.Name = ""
		}
	}
	return p
}

// registry gives the address of a registry of packages, with its variables put in. One that nobody
// should install from is reported under a key, and not sound.
func (c *compiler) registry(d *document, at, key, address string) (_ string, sound bool) {
	address = c.vars(d, at, address)
	say, remedy := registryFault(address)
	if say != "" {
		c.report(Error, d.at(at), remedy, "%s: %s", key, say)
	}
	return address, say == ""
}

// registryFault says what keeps packages from being installed from an address.
func registryFault(address string) (say, remedy string) {
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && u.Scheme != "http":
		return fmt.Sprintf("%q is not the address of a registry", address), "Write its whole address, such as https://packages.example/simple."
	case u.Scheme == "https" || u.Hostname() == "localhost":
		return "", ""
	}
	if ip, err := netip.ParseAddr(u.Hostname()); err != nil || !ip.IsLoopback() {
		return address + " could be answered by anybody on the way to it", "Use https."
	}
	return "", ""
}

// rawProgram is what a source says of the program that it runs.
type rawProgram struct {
	Env           map[string]string
	Sandbox       string
	Reads, Writes []string
	Network       Network
	MemoryMB      int `json:"memory_mb"`
	DiskMB        int `json:"disk_mb"`
	Processes     int
}

// program compiles what a source says, at a path, of the program that it runs.
func (c *compiler) program(d *document, at string, r *rawProgram, s *SourceDoc) {
	s.Bounds = Bounds{Bare: r.Sandbox == "none" || r.Sandbox == "" && c.p.Bare, Reads: c.reads(d, at+"/reads", "reads", r.Reads), Network: c.network(d, at+"/network", r.Network),
		MemoryMB: cmp.Or(r.MemoryMB, 1024), DiskMB: cmp.Or(r.DiskMB, 256), Processes: cmp.Or(r.Processes, 64)}
	for i, name := range r.Writes {
		s.Bounds.Writes = append(s.Bounds.Writes, c.inside(d, fmt.Sprintf("%s/writes/%d", at, i), name))
	}
	if s.Bounds.Bare && len(s.Bounds.Network.Hosts) > 0 {
		c.report(Error, d.at(at+"/network"), "Omit network, or run it in the sandbox.", "network: nothing keeps a program with sandbox: none from other hosts")
	}
	for k, v := range r.Env {
		s.Env[k] = c.vars(d, at+"/env/"+k, v)
	}
}

// What begins the names of resources and prompts among the offers of a source.
const (
	TakenResource = "resource "
	TakenPrompt   = "prompt "
)

// taken is what take: names: a list of tools, or tools, resources and prompts apart.
type taken struct {
	names []string
	at    []string // where each stands under take
}

func (t *taken) UnmarshalJSON(raw []byte) error {
	var all struct{ Tools, Resources, Prompts []string }
	list := json.Unmarshal(raw, &all.Tools) == nil
	if !list {
		all.Tools = nil
		if err := json.Unmarshal(raw, &all); err != nil {
			return err
		}
	}
	for _, kind := range []struct {
		key, lead string
		names     []string
	}{{"tools/", "", all.Tools}, {"resources/", TakenResource, all.Resources}, {"prompts/", TakenPrompt, all.Prompts}} {
		for i, n := range kind.names {
			at := fmt.Sprint(i)
			if !list {
				at = kind.key + at
			}
			t.names, t.at = append(t.names, kind.lead+n), append(t.at, at)
		}
	}
	return nil
}

func (c *compiler) sourceDoc(d *document) (*SourceDoc, rawSource) {
	var r rawSource
	c.into(d, &r)
	s := &SourceDoc{Name: r.Source, Prefix: r.Prefix, Take: r.Take.names, Timeout: 30 * time.Second, Env: map[string]string{}, Tuned: map[string]map[string]any{}, Place: d.at("/source")}
	for name, tune := range r.Tune {
		if in, ok := tune["input"].(map[string]any); ok {
			s.Tuned[name] = in
		}
	}
	var auth *RawAuth
	at := "/openapi"
	if m := r.MCP; m != nil {
		at = "/mcp"
		s.URL, auth = c.vars(d, "/mcp/url", m.URL), m.Auth
		for i, a := range m.Command {
			c.inTheOpen(d, fmt.Sprintf("/mcp/command/%d", i), a)
			s.Command = append(s.Command, c.vars(d, fmt.Sprintf("/mcp/command/%d", i), a))
		}
		c.program(d, "/mcp", &m.rawProgram, s)
		if m.Package != nil {
			s.Package = c.packageOf(d, m.Package)
		}
		if m.Timeout != "" {
			s.Timeout = span(m.Timeout)
		}
	}
	if o := r.OpenAPI; o != nil {
		s.Document, s.Server, auth, s.Private, s.Redirects = c.vars(d, "/openapi/document", o.Document), c.vars(d, "/openapi/server", o.Server), o.Auth, o.Private, o.Redirects
		if !strings.Contains(s.Document, "://") && !strings.HasPrefix(s.Document, "${") && s.Document != "" {
			s.Document = c.inside(d, "/openapi/document", s.Document)
		}
		s.Bounds.Reads = c.reads(d, "/openapi/reads", "reads", o.Reads)
	}
	if r.Code != nil {
		c.codeOf(d, r.Code, s)
	}
	if auth != nil {
		s.Auth = c.auth(d, at+"/auth", auth)
	}
	return s, r
}

// source brings the tools that a source document takes, each as a tool document
// of its own made of what the source offers and what tune: says.
func (c *compiler) source(d *document) {
	s, r := c.sourceDoc(d)
	c.p.Sources[s.Name] = s
	cat := c.src.Catalogues[s.Name]
	for _, b := range cat.Broken {
		c.report(Error, b.At, b.Remedy, "%s", b.Say)
		c.anyTool = true
	}
	if s.Code != nil && len(r.Take.names) == 0 { // all of them
		for i, o := range cat.Tools {
			if o.Fault != "" {
				c.report(Warning, o.At, "Fix it, or begin its name with _ if it is not a tool.", "%s is left out: %s", o.Name, o.Fault)
				c.names["tool "+ToolName(r.Prefix+o.Tool)] = o.At
				continue
			}
			r.Take.names, r.Take.at = append(r.Take.names, o.Name), append(r.Take.at, fmt.Sprint(i))
		}
	}
	for key, said := range map[string][]string{"effects": keysOf(r.Effects), "tune": keysOf(r.Tune)} {
		for _, name := range said {
			if !slices.Contains(r.Take.names, name) && len(cat.Broken) == 0 {
				c.report(Error, d.key("/"+key+"/"+name), "Add it to take:, or remove it.", "%s names %q, which is not taken.%s", key, name, near.Hint(name, r.Take.names))
			}
		}
	}
	if cat.Fault != "" {
		grade, and := Error, "."
		if len(cat.Tools) > 0 {
			grade, and = Warning, "; its tools are as they were the last time."
		}
		remedy := "`stonebaton source inspect " + s.Name + "` tries again."
		if cat.Soon {
			remedy = "Its tools are taken in as soon as it answers; `stonebaton source inspect " + s.Name + "` shows how far it is."
		}
		if s.Package == nil || s.Package.Name != "" { // else it has been reported
			c.report(grade, s.Place, remedy, "what %s offers cannot be read: %s%s", s.Name, strings.TrimSuffix(cat.Fault, "."), and)
		}
		if len(cat.Tools) == 0 {
			for _, t := range r.Take.names {
				c.names["tool "+ToolName(r.Prefix+t)] = s.Place // so that nobody is told twice
			}
			return
		}
	}
	shared := schema.NewLibrary()
	for i, name := range r.Take.names {
		place := d.at("/take/" + r.Take.at[i])
		o, ok := cat.Find(name)
		if o.At.File != "" {
			place = o.At
		}
		if !ok && len(cat.Broken) > 0 {
			continue // it may be in a file that is broken
		}
		if !ok {
			c.report(Error, place, "`stonebaton source inspect "+s.Name+"` lists what there is.", "%s offers no tool %q.%s", s.Name, name, cat.Missing[name])
			continue
		}
		if o.Fault != "" && s.Code != nil {
			c.report(Error, place, "Leave it out of take:, or fix it.", "%s of %s cannot be taken: %s", name, s.Name, o.Fault)
			continue
		}
		own := ToolName(s.Prefix + o.Tool)
		if first, ok := c.names["tool "+own]; ok {
			c.report(Error, place, "Give the source a prefix:.", "the tool %q is already defined in %s:%d", own, first.File, first.Line)
			continue
		}
		c.names["tool "+own] = place
		v := map[string]any{"summary": o.Summary}
		maps.Copy(v, r.Tune[name])
		v["tool"] = own
		b := c.brought(v, o, s.Name, shared, place)
		if strings.HasPrefix(name, TakenResource) || strings.HasPrefix(name, TakenPrompt) {
			v["effect"] = string(ledger.Read) // so the protocol has them
		}
		if o.Effect != "" {
			v["effect"] = string(o.Effect)
		}
		if e := r.Effects[name]; e != "" {
			v["effect"] = e
		}
		for _, lack := range o.Lacks {
			c.report(Warning, place, "Fix it there.", "%s", lack)
		}
		pick, failsWhen, whenEmpty := v["pick"], text(v["fails_when"]), text(v["when_empty"])
		for _, k := range readings {
			delete(v, k)
		}
		t := c.tool(&document{file: d.file, value: v, kind: "tool", of: d, under: "/tune/" + name, base: place}, b)
		t.Remote = &Remote{Source: s, Name: o.Name, File: o.At.File, Operation: o.Operation}
		for _, a := range r.Agents {
			c.gives[a] = append(c.gives[a], own)
		}
		if s.Document != "" {
			if pick != nil || failsWhen != "" || whenEmpty != "" {
				s := c.scope(d, map[string]map[string]any{"args": t.Input.Doc(), "response": scope.Response})
				t.Remote.Reading = c.reading(d, s, "/tune/"+name, pick, failsWhen, whenEmpty)
			}
			continue
		}
		t.Remote.Hash = InputHash(o.Input)
		for _, k := range readings {
			if _, said := r.Tune[name][k]; said {
				c.report(Error, d.key("/tune/"+name+"/"+k), "Remove it.", "%s is for the replies of OpenAPI operations", k)
			}
		}
	}
}

// brought is what a source says of a tool.
type brought struct {
	source        string
	inward        bool // its calls reach nothing outside
	shared        *schema.Library
	input, output *schema.Schema
}

// brought compiles what a source says of a tool, or tune: in place of it, and takes it out of
// the tool's document v. A schema that is none costs its tool what it would cost the project:
// one whose input cannot be read is never called, and a result that cannot be checked is not.
func (c *compiler) brought(v map[string]any, o Offer, source string, shared *schema.Library, place Place) *brought {
	b := &brought{source: source, inward: c.p.Sources[source].Inward(), shared: shared}
	compile := func(key string, doc map[string]any) (*schema.Schema, error) {
		if own, ok := v[key].(map[string]any); ok {
			doc = own
		}
		delete(v, key)
		if doc == nil {
			return nil, nil
		}
		if key == "input" {
			if doc["type"] != "object" {
				return nil, errors.New("not that of an object")
			}
			doc = closed(maps.Clone(doc))
		}
		if o.Operation == nil {
			return schema.Compile(doc)
		}
		return shared.Compile(doc)
	}
	const remedy = "Put it right with   tune: {%s: {%s: …}}."
	never := func() {
		b.input = anything
		v["unless"] = []any{map[string]any{"when": "true", "say": fmt.Sprintf("it cannot be called: what it takes, as %s says, cannot be read", source)}}
	}
	if own, _ := v["input"].(map[string]any); o.Fault != "" && (own == nil || c.p.Sources[source].Document != "") {
		delete(v, "input")
		delete(v, "output")
		v["summary"] = cmp.Or(text(v["summary"]), "Cannot be read.")
		never()
		c.report(Warning, place, "Leave it out of take:, or fix it where it is defined.", "%s of %s is never called: %s", o.Name, source, o.Fault)
		return b
	}
	var err error
	if b.input, err = compile("input", o.Input); err != nil {
		never()
		c.report(Warning, place, fmt.Sprintf(remedy, o.Name, "input"), "%s of %s is never called, since its input is %v", o.Name, source, err)
	}
	if b.output, err = compile("output", o.Output); err != nil {
		c.report(Warning, place, fmt.Sprintf(remedy, o.Name, "output"), "results of %s of %s are not checked, since its output is %v", o.Name, source, err)
	}
	return b
}

// anything is the input of a tool that takes any object.
var anything = mustCompile([]byte(`{"type":"object"}`))

// readings are the keys of tune: that say what is taken from a reply.
var readings = []string{"pick", "fails_when", "when_empty"}

func text(v any) string { s, _ := v.(string); return s }

// InputHash names the input of an offer, so that a change of it is noticed.
func InputHash(input map[string]any) ledger.Hash {
	raw, err := json.Marshal(input)
	if err != nil {
		return ""
	}
	return ledger.HashOf(raw)
}
