package project

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"

	"go.yaml.in/yaml/v4"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/schema"
)

//go:embed kinds.yaml
var kindsYAML []byte

// Main is the file that makes a folder a project.
const Main = "stonebaton.yaml"

// Reader reads projects whose tools are of some kinds. It may be used side by side.
type Reader struct {
	kinds   []Kind
	docs    map[string]map[string]any
	schemas map[string]*schema.Schema
	heading *regexp.Regexp // the line with which a document begins
}

// NewReader gives a reader that knows some kinds of tools. A kind whose schema is none
// is a fault of the program: it panics.
func NewReader(kinds ...Kind) *Reader {
	var all struct {
		Kinds  map[string]map[string]any `yaml:"kinds"`
		Expect map[string]any            `yaml:"expect"`
	}
	must := func(what string, err error) {
		if err != nil {
			panic(what + ": " + err.Error())
		}
	}
	must("kinds.yaml", yaml.Unmarshal(kindsYAML, &all))
	anchors, _, _ := strings.Cut(string(kindsYAML), "\nkinds:\n")
	tools, _ := all.Kinds["tool"]["properties"].(map[string]any)
	for _, k := range kinds {
		var own struct{ Kind map[string]any }
		must("the schema of "+k.Name, yaml.Unmarshal([]byte(anchors+"\nkind:\n  "+strings.ReplaceAll(strings.TrimSpace(k.Schema), "\n", "\n  ")), &own))
		tools[k.Name] = own.Kind
	}
	r := &Reader{kinds: kinds, docs: map[string]map[string]any{}, schemas: map[string]*schema.Schema{}}
	for name, doc := range all.Kinds {
		doc["$schema"] = "https://json-schema.org/draft/2020-12/schema"
		if name == "drill" {
			doc["$defs"] = map[string]any{"expect": all.Expect}
		}
		s, err := schema.Compile(doc)
		must("the schema of a "+name, err)
		r.docs[name], r.schemas[name] = s.Doc(), s
	}
	r.heading = regexp.MustCompile(`(?m)^(` + strings.Join(r.Documents(), "|") + `):\s*["']?([A-Za-z0-9_-]+)`)
	return r
}

// Documents lists the kinds of documents, sorted.
func (r *Reader) Documents() []string { return keysOf(r.docs) }

// Schema gives the JSON Schema of a kind of document.
func (r *Reader) Schema(document string) (doc map[string]any, ok bool) {
	doc, ok = r.docs[document]
	return doc, ok
}

// Source is what a project is made from: its files, the values of the variables
// that they name as ${NAME}, and what its sources offered of the tools it takes.
type Source struct {
	Files      map[string]string    `json:"files"`
	Env        map[string]string    `json:"env"`
	Catalogues map[string]Catalogue `json:"catalogues,omitempty"` // by the name of the source
}

// Line gives the line of a file at a place; "" where there is none.
func (s Source) Line(at Place) string {
	return shownLine(strings.Split(s.Files[at.File], "\n"), at.Line)
}

// maxLine is how much of a line is shown.
const maxLine = 300

func shownLine(lines []string, n int) string {
	if n < 1 || n > len(lines) {
		return ""
	}
	line := strings.TrimSpace(lines[n-1])
	if len(line) > maxLine {
		line = strings.ToValidUTF8(line[:maxLine], "") + "…"
	}
	return line
}

// Hash names the source by its content. That a catalogue could not be read this
// time is no part of it: the tools are as they were.
func (s Source) Hash() ledger.Hash {
	if len(s.Catalogues) > 0 {
		plain := make(map[string]Catalogue, len(s.Catalogues))
		for k, c := range s.Catalogues {
			c.Fault = ""
			plain[k] = c
		}
		s.Catalogues = plain
	}
	b, err := json.Marshal(s) // maps marshal in the order of their keys
	if err != nil {
		panic(err)
	}
	return ledger.HashOf(b)
}

// variable is ${NAME}, or ${NAME:-default}, which stands for the default where the
// variable is not set or is empty.
var variable = regexp.MustCompile(`\$\{([A-Za-z_][A-Za-z0-9_]*)(:-([^}]*))?\}`)

// Variable finds the first variable that a text still names; "" where there is none.
func Variable(text string) string {
	if m := variable.FindStringSubmatch(text); m != nil {
		return m[1]
	}
	return ""
}

var secretRef = regexp.MustCompile(`\$\{secret:([A-Za-z_][A-Za-z0-9_]*)\}`)

// Load reads the files of a project from a folder, and the variables they name
// through env. Files that cannot be taken are problems.
//
// What stands in a folder that a tool may write to is left out. Folders that hold no
// project files (data, shelf, node_modules, those with a dot) are not gone into. A folder
// that is not a project is not read at all.
func (r *Reader) Load(dir fs.FS, env func(string) (string, bool)) (Source, []Problem) {
	src := Source{Files: map[string]string{}, Env: map[string]string{}}
	var probs []Problem
	if _, err := fs.Stat(dir, Main); err != nil {
		return src, nil // Compile says so
	}
	unread := func(p, remedy, format string, args ...any) {
		probs = append(probs, Problem{Grade: Warning, Place: Place{File: p, Line: 1, Col: 1}, Say: fmt.Sprintf(format, args...), Remedy: remedy})
	}
	texts := map[string]fs.DirEntry{} // that may be instructions
	code := map[string]fs.DirEntry{}  // that may hold functions
	take := func(p string, e fs.DirEntry) {
		if info, err := e.Info(); err == nil && info.Size() > maxFile {
			probs = append(probs, Problem{Grade: Error, Place: Place{File: p, Line: 1, Col: 1},
				Say:    fmt.Sprintf("the file has %d bytes; a project file may have %d at most", info.Size(), maxFile),
				Remedy: "Move data into the folder data/, which is not read as project files, or split the file."})
			return
		}
		b, err := fs.ReadFile(dir, p)
		if err != nil {
			probs = append(probs, Problem{Grade: Error, Place: Place{File: p, Line: 1, Col: 1}, Say: "the file cannot be read: " + err.Error()})
			return
		}
		src.Files[p] = string(b)
		for _, m := range variable.FindAllStringSubmatch(string(b), -1) {
			if v, ok := env(m[1]); ok {
				src.Env[m[1]] = v
			}
		}
	}
	err := fs.WalkDir(dir, ".", func(p string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name := e.Name()
		if e.IsDir() {
			if p != "." && Apart(name) {
				return fs.SkipDir
			}
			return nil
		}
		if e.Type()&fs.ModeSymlink != 0 {
			if info, err := fs.Stat(dir, p); err == nil && info.IsDir() && !Apart(name) {
				unread(p, "Put the folder itself there.", "%s is a link to a folder; linked folders are not read", p)
				return nil
			}
		}
		switch path.Ext(name) {
		case ".yaml", ".js":
		case ".py", ".mjs", ".cjs", ".ts", ".mts":
			code[p] = e
			return nil
		case ".md":
			texts[p] = e
			return nil
		case ".yml":
			unread(p, "Rename it to "+strings.TrimSuffix(name, ".yml")+".yaml.", "%s is not read: the files of a project end in .yaml", p)
			return nil
		default:
			return nil
		}
		take(p, e)
		return nil
	})
	if err != nil {
		probs = append(probs, Problem{Grade: Error, Place: Place{File: "."}, Say: "the folder cannot be read: " + err.Error()})
	}
	for _, p := range keysOf(texts) { // of these, only what a document names belongs to the project
		for _, f := range keysOf(src.Files) {
			if path.Ext(f) == ".yaml" && strings.Contains(src.Files[f], path.Base(p)) {
				take(p, texts[p])
				break
			}
		}
	}
	named := codeFiles(src.Files)
	for _, p := range keysOf(code) {
		if slices.ContainsFunc(named, func(f string) bool { return p == f || path.Dir(p) == f }) {
			take(p, code[p])
		}
	}
	r.heads(dir, &src)
	probs = append(probs, r.withoutGranted(&src)...)
	return src, probs
}

// maxHead bounds what of a file is read for a contract.
const maxHead = 8 << 10

// heads reads the first lines of files that contracts are made of.
func (r *Reader) heads(dir fs.FS, src *Source) {
	var main map[string]any
	if docs, _ := parse(Main, src.Files[Main]); len(docs) > 0 {
		main = docs[0].value
	}
	for _, f := range keysOf(src.Files) {
		if path.Ext(f) != ".yaml" {
			continue
		}
		docs, _ := parse(f, src.Files[f])
		for _, d := range docs {
			for _, k := range r.kinds {
				raw, ok := d.value[k.Name].(map[string]any)
				if d.kind != "tool" || !ok || k.Heads == nil {
					continue
				}
				for _, name := range k.Heads(raw, main) {
					if _, there := src.Files[name]; there || !fs.ValidPath(name) {
						continue
					}
					if head, ok := headOf(dir, name); ok {
						src.Files[name] = head
					}
				}
			}
		}
	}
}

func headOf(dir fs.FS, name string) (string, bool) {
	f, err := dir.Open(name)
	if err != nil {
		return "", false
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return "", false
	}
	raw, err := io.ReadAll(io.LimitReader(f, maxHead+1))
	if err != nil {
		return "", false
	}
	if len(raw) > maxHead {
		raw = raw[:1+strings.LastIndexByte(string(raw[:maxHead]), '\n')]
	}
	return string(raw), true
}

// Apart says that a folder of this name holds no files of a project.
func Apart(name string) bool {
	return strings.HasPrefix(name, ".") || name == "data" || name == "shelf" || name == "node_modules"
}

// Compile makes a project of its source. The project is nil where a problem
// of the grade Error was found.
func (r *Reader) Compile(src Source) (*Project, []Problem) {
	c := r.compiler(src)
	c.documents()
	if c.main != nil {
		c.compile()
		c.judge()
	}
	c.accept()
	c.fewer()
	lines := map[string][]string{}
	for i, p := range c.problems {
		if lines[p.File] == nil {
			lines[p.File] = strings.Split(src.Files[p.File], "\n")
		}
		c.problems[i].Text = shownLine(lines[p.File], p.Line)
	}
	sort.SliceStable(c.problems, func(i, j int) bool {
		a, b := c.problems[i], c.problems[j]
		if c.unread[a.File] != c.unread[b.File] {
			return c.unread[a.File] // what keeps a whole file from being read comes first
		}
		if a.File != b.File {
			return a.File < b.File
		}
		return a.Line < b.Line
	})
	for _, p := range c.problems {
		if p.Grade == Error {
			return nil, c.problems
		}
	}
	c.p.pack()
	return c.p, c.problems
}

func (r *Reader) compiler(src Source) *compiler {
	return &compiler{r: r, src: src, unread: map[string]bool{}, unset: map[string]bool{}, names: map[string]Place{}, gives: map[string][]string{}, p: &Project{
		Models: map[string]*Model{}, Agents: map[string]*Agent{}, Tools: map[string]*Tool{}, Sources: map[string]*SourceDoc{}, Relays: map[string]*Relay{}, own: map[string]*Agent{},
		Files: src.Files, Catalogues: src.Catalogues, Version: src.Hash(),
	}}
}

type compiler struct {
	r        *Reader
	src      Source
	p        *Project
	main     *document
	docs     []*document
	problems []Problem
	names    map[string]Place    // documents by kind and name, broken ones too
	unset    map[string]bool     // variables that were reported
	unread   map[string]bool     // files that could not be read as a whole
	gives    map[string][]string // tools that sources give to agents
	anyTool  bool                // a source that could not be read may bring any tool
	judged   []judged
	gates    []func() // to be compiled when every tool is known
	about    string   // the tool that is looked at
	model    string   // of agents and prompts that name none
	judges   []*Good  // to be looked at when every agent is known
	wordings map[string]wording
	ready    map[string]*schema.Schema // of tools, by their text
	plain    *expr.Scope               // of the names that are seen everywhere; nil before it is needed
}

func (c *compiler) report(g Grade, at Place, remedy, format string, args ...any) {
	c.problems = append(c.problems, Problem{Grade: g, Tool: c.about, Place: at, Say: fmt.Sprintf(format, args...), Remedy: remedy})
}

// coded reports a problem that can be accepted in place by its code.
func (c *compiler) coded(code string, g Grade, at Place, remedy, format string, args ...any) {
	c.report(g, at, remedy, format, args...)
	c.problems[len(c.problems)-1].Code = code
}

// documents parses every file, sorts the documents out by kind, and holds each
// against the schema of its kind.
func (c *compiler) documents() {
	if _, ok := c.src.Files[Main]; !ok {
		c.report(Error, Place{File: Main}, "Make one, or begin with `stonebaton new DIR`.", "there is no %s here, so this folder is not a project", Main)
	}
	files := make([]string, 0, len(c.src.Files))
	for f := range c.src.Files {
		if path.Ext(f) == ".yaml" {
			files = append(files, f)
		}
	}
	sort.Strings(files)
	names := c.names
	for _, f := range files {
		for i, line := range strings.Split(c.src.Files[f], "\n") {
			if m := looksLikeKey.FindStringIndex(line); m != nil {
				c.coded("key", Error, Place{f, i + 1, m[0] + 1}, "Name it as ${secret:NAME}, put NAME=… into .env, and make a new key: this one has been written down.", "this looks like a key")
			}
		}
		docs, probs := parse(f, c.src.Files[f])
		c.problems = append(c.problems, probs...)
		c.unread[f] = len(probs) > 0
		for _, d := range docs {
			if d.kind == "lines" {
				continue // the understudy reads these
			}
			s, ok := c.r.schemas[d.kind]
			if !ok {
				c.report(Error, d.key("/"+d.kind), "", "%q is not a kind of document.%s The first key is one of: %s.", d.kind, near.Hint(d.kind, c.r.Documents()), strings.Join(c.r.Documents(), ", "))
				continue
			}
			name, _ := d.value[d.kind].(string)
			if faults := s.Check(d.value); len(faults) > 0 {
				names[d.kind+" "+name] = d.at("/" + d.kind)
				c.anyTool = c.anyTool || d.kind == "source"
				for _, ft := range faults {
					at := d.at(ft.Path)
					if strings.Contains(ft.Say, "is not known here") {
						at = d.key(ft.Path)
					}
					where := strings.ReplaceAll(strings.TrimPrefix(ft.Path, "/"), "/", ".")
					c.report(Error, at, "", "%s", strings.TrimSpace(where+" "+ft.Say))
				}
				continue
			}
			if first, ok := names[d.kind+" "+name]; ok {
				c.report(Error, d.at("/"+d.kind), "Give one of them another name.", "the %s %q is already defined in %s:%d", d.kind, name, first.File, first.Line)
				continue
			}
			names[d.kind+" "+name] = d.at("/" + d.kind)
			if d.kind == "project" {
				if d.file != Main {
					c.report(Error, d.at(""), "Move it there.", "project: belongs in %s", Main)
				} else if c.main == nil {
					c.main = d
				}
			}
			c.docs = append(c.docs, d)
		}
		if c.unread[f] {
			c.named(f)
		}
	}
	c.sourcesAlone()
	if _, ok := c.src.Files[Main]; ok && c.main == nil && len(c.problems) == 0 {
		c.report(Error, Place{File: Main, Line: 1, Col: 1}, "Begin it with project: NAME.", "%s has no project: document", Main)
	}
}

// sourcesAlone begins a project whose files hold nothing but sources: it has one agent, which has
// what they bring.
func (c *compiler) sourcesAlone() {
	_, ok := c.src.Files[Main]
	if !ok || c.main != nil || len(c.problems) > 0 || len(c.docs) == 0 || slices.ContainsFunc(c.docs, func(d *document) bool { return d.kind != "source" }) {
		return
	}
	named := c.docs[0]
	if i := slices.IndexFunc(c.docs, func(d *document) bool { return d.file == Main }); i >= 0 {
		named = c.docs[i]
	}
	name, _ := named.value["source"].(string)
	docs, _ := parse(Main, "project: "+name+"\nstart: "+soleAgent+"\nmodels: {house: {speaks: understudy}}\n---\n"+
		"agent: "+soleAgent+"\nsummary: Answers with the tools that it has.\nprompt: Answer with your tools. Never invent what they could tell.\n")
	for _, d := range c.docs {
		if _, said := d.value["agents"]; !said {
			d.value["agents"] = []any{soleAgent}
		}
	}
	for _, d := range docs {
		d.places, d.raw = nil, nil // they stand in no file
		c.names[d.kind+" "+d.value[d.kind].(string)] = d.at("")
	}
	c.main = docs[0]
	c.docs = append(docs, c.docs...)
}

// soleAgent is the agent of a project that names none.
const soleAgent = "assistant"

// named notes the documents of a file that cannot be read, so that nobody is told that
// what it defines is not there: the file itself is what is wrong.
func (c *compiler) named(file string) {
	for _, m := range c.r.heading.FindAllStringSubmatch(c.src.Files[file], -1) {
		if _, ok := c.names[m[1]+" "+m[2]]; !ok {
			c.names[m[1]+" "+m[2]] = Place{File: file, Line: 1, Col: 1}
		}
		c.anyTool = c.anyTool || m[1] == "source"
	}
}
