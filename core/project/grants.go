package project

import (
	"path"
	"slices"
	"strconv"
	"strings"

	"stonebaton.example/core/ledger"
)

// grant is a folder that tools may write to, and the document that grants it.
type grant struct {
	folder string
	tool   string
	place  Place
	unsafe bool // it holds the file that grants it, or the project's own
}

// covers says whether a file is in the folder.
func (g grant) covers(file string) bool {
	return g.folder == "." || file == g.folder || strings.HasPrefix(file, g.folder+"/")
}

// grantsAndPrograms finds the folders that tools of some files may write to, and the programs that tools
// and sources start: what is named with its path, and scripts that an interpreter is given.
// It reads the documents as they are, whether or not they are sound: what a tool may write
// must never be read as part of the project, also while the project has errors.
func (r *Reader) grantsAndPrograms(files map[string]string) (grants []grant, programs []program) {
	for _, f := range keysOf(files) {
		if path.Ext(f) != ".yaml" {
			continue
		}
		docs, _ := parse(f, files[f])
		for _, d := range docs {
			for _, k := range r.kinds {
				part, ok := d.value[k.Name].(map[string]any)
				if !ok || k.Reach == nil {
					continue
				}
				writes, starts := k.Reach(part)
				if writes != "" && d.kind == "tool" {
					grants = append(grants, d.grants(f, k.Name, writes)...)
				}
				if starts != "" {
					programs = append(programs, d.programs(k.Name, starts, path.Dir(f))...)
				}
			}
			programs = append(programs, d.programs("mcp", "command", ".")...)
			if d.kind == "source" {
				grants = append(append(grants, d.grants(f, "mcp", "writes")...), d.grants(f, "code", "writes")...)
				for _, name := range d.codeFiles() {
					programs = append(programs, program{name, d.at("/code/file")})
				}
			}
		}
	}
	return grants, programs
}

// grants lists the folders under a key of a part of a tool's document, which it may write to.
func (d *document) grants(file, part, key string) []grant {
	name, ok := d.value["tool"].(string)
	if !ok {
		name, _ = d.value["source"].(string)
	}
	h, _ := d.value[part].(map[string]any)
	folders, _ := h[key].([]any)
	var out []grant
	for _, e := range folders {
		if s, ok := e.(string); ok {
			g := grant{folder: path.Clean(s), tool: name, place: d.at("/" + part + "/" + key)}
			g.unsafe = g.covers(file) || g.covers(Main)
			out = append(out, g)
		}
	}
	return out
}

// program is a file of the project that is started.
type program struct {
	path  string
	place Place
}

// programs lists what a command line in a document starts; its paths count from base.
func (d *document) programs(part, key, base string) []program {
	h, _ := d.value[part].(map[string]any)
	line, _ := h[key].([]any)
	var out []program
	for i, e := range line {
		s, _ := e.(string)
		if path.IsAbs(s) || strings.Contains(s, "{{") || (i == 0 && !strings.Contains(s, "/")) || (i > 0 && !isScript(s)) {
			continue
		}
		out = append(out, program{path.Join(base, s), d.at("/" + part + "/" + key + "/" + strconv.Itoa(i))})
	}
	return out
}

// isScript says whether a file is one that an interpreter runs, by its name.
func isScript(name string) bool {
	return slices.Contains([]string{".sh", ".py", ".pl", ".rb", ".js", ".mjs", ".cjs", ".ts", ".php", ".lua", ".r", ".jl"}, strings.ToLower(path.Ext(name)))
}

// withoutGranted takes the files out of a source that stand in a folder which a tool
// may write to: a model that may write a note must not write a tool. A grant of a folder
// that holds the project itself is an error, and takes nothing out.
func (r *Reader) withoutGranted(s *Source) []Problem {
	var probs []Problem
	grants, programs := r.grantsAndPrograms(s.Files)
	for _, g := range grants {
		if g.unsafe {
			probs = append(probs, Problem{Grade: Error, Tool: g.tool, Place: g.place,
				Say:    quoteName(g.tool) + " may write to " + folderName(g.folder) + ", which holds files of the project",
				Remedy: "Grant a folder that holds none, such as notes."})
			continue
		}
		for _, p := range programs {
			if p.path != g.folder && g.covers(p.path) {
				probs = append(probs, Problem{Grade: Error, Tool: g.tool, Place: g.place,
					Say:    quoteName(g.tool) + " may write to " + folderName(g.folder) + ", which holds the program " + p.path + " (" + p.place.File + ":" + strconv.Itoa(p.place.Line) + ")",
					Remedy: "Keep programs in another folder than what tools may write."})
			}
		}
		for _, f := range keysOf(s.Files) {
			if !g.covers(f) {
				continue
			}
			delete(s.Files, f)
			probs = append(probs, Problem{Grade: Warning, Tool: g.tool, Place: Place{File: f, Line: 1, Col: 1}, // a tool may have written it: that must stop nothing
				Say:    f + " is not read as a file of the project, since " + quoteName(g.tool) + " may write to " + folderName(g.folder),
				Remedy: "Move it to another folder if it belongs to the project; otherwise give it another ending than .yaml or .js."})
		}
	}
	return probs
}

func quoteName(s string) string { return `"` + s + `"` }

func folderName(f string) string {
	if f == "." {
		return "the project's own folder"
	}
	return f + "/"
}

// Outside is something of a project that runs outside the sandbox, as the user of the
// service: what a person has to confirm where it appears while the service runs.
type Outside struct {
	ID    ledger.Hash `json:"id"`   // of all that decides what would run
	Kind  string      `json:"kind"` // source or tool
	Name  string      `json:"name"`
	Say   string      `json:"say"` // what would run
	Place Place       `json:"place"`
}

// Outside lists what of the project runs outside the sandbox.
func (p *Project) Outside() []Outside {
	var out []Outside
	for _, n := range keysOf(p.Sources) {
		if o, ok := p.Sources[n].Outside(); ok {
			out = append(out, o)
		}
	}
	for _, n := range keysOf(p.Tools) {
		if o, ok := p.Tools[n].Outside(); ok {
			out = append(out, o)
		}
	}
	return out
}

// Outside says what the source starts outside the sandbox: its command.
func (s *SourceDoc) Outside() (Outside, bool) {
	if !s.Bounds.Bare {
		return Outside{}, false
	}
	var key []string
	var say string
	switch {
	case s.Code != nil:
		key = append([]string{"source", s.Name, "code", s.Code.Runtime}, s.Code.Files...)
		say = "runs the functions of " + strings.Join(s.Code.Files, ", ")
	case s.Package != nil:
		key = append([]string{"source of a package", s.Name, s.Package.Language, s.Package.Name, s.Package.Registry}, s.Command...)
		say = "installs the package " + s.Package.Name + ", and starts its program " + strings.Join(s.Command, " ")
	case len(s.Command) > 0:
		key = append([]string{"source", s.Name}, s.Command...)
		say = "starts the program " + strings.Join(s.Command, " ")
	default: // it is reached at an address
		return Outside{}, false
	}
	for _, k := range keysOf(s.Env) {
		key = append(key, k+"="+s.Env[k])
	}
	return Outside{ID: ledger.HashOf([]byte(strings.Join(key, "\x00"))), Kind: "source", Name: s.Name, Say: strings.TrimSuffix(say, " ") + " outside the sandbox", Place: s.Place}, true
}

// Outside says what the tool runs outside the sandbox.
func (t *Tool) Outside() (Outside, bool) {
	if t.Work.Bare == nil {
		return Outside{}, false
	}
	key := append([]string{"tool", t.Name}, t.Work.Bare.Of...)
	return Outside{ID: ledger.HashOf([]byte(strings.Join(key, "\x00"))), Kind: "tool", Name: t.Name, Say: t.Work.Bare.Say, Place: t.Place}, true
}
