package program

import (
	_ "embed"
	"maps"
	"slices"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
)

//go:embed kind.yaml
var shape string

// Kind is the kind of tools that run what a model writes.
var Kind = project.Kind{Name: "program", Schema: shape, Brings: brings, Compile: compile}

// Program says what programs of a tool may be and do.
type Program struct {
	Languages []string
	Libraries []string
	Installs  map[string]string // the registry that libraries come from, by language
	Reads     []string
	Network   project.Network
	Tries     int
	MemoryMB  int `json:"memory_mb"`
	DiskMB    int `json:"disk_mb"`
	Processes int
}

// all are the languages, the surest first.
var all = []string{"javascript", "python3", "node", "sh"}

func read(p *project.Part) *Program {
	r := &Program{}
	p.Into(r)
	if len(r.Languages) == 0 {
		r.Languages = all
	}
	for to, n := range map[*int]int{&r.Tries: 3, &r.MemoryMB: 512, &r.DiskMB: 64, &r.Processes: 32} {
		if *to == 0 {
			*to = n
		}
	}
	return r
}

func brings(p *project.Part) project.Own {
	r := read(p)
	var langs []any
	for _, l := range r.Languages {
		langs = append(langs, l)
	}
	text := func(say string, more map[string]any) map[string]any {
		out := map[string]any{"type": "string", "description": say}
		for k, v := range more {
			out[k] = v
		}
		return out
	}
	input := map[string]any{
		"language": text("What it is written in. In javascript it is the body of a function: log(…) writes a line, and return gives the result.", map[string]any{"enum": langs}),
		"file":     text("Name of the file that holds it, such as table.py; the same name again for a better version.", map[string]any{"pattern": "^[A-Za-z0-9][A-Za-z0-9._-]{0,79}$"}),
		"code":     text("The whole program. It may write files to the folder it runs in.", map[string]any{"minLength": 1, "maxLength": maxCode}),
	}
	if len(r.Installs) > 0 {
		input["libraries"] = map[string]any{"type": "array", "maxItems": 20, "items": map[string]any{"type": "string", "pattern": project.PackageName},
			"description": "Libraries to install for it, such as those that a result names under lacks, by name or as name@version; for " + strings.Join(slices.Sorted(maps.Keys(r.Installs)), " and ") + ". A person is shown what would be installed."}
	}
	out := project.Own{Name: "program", Effect: ledger.Write, Gated: true, Shipped: true,
		Input: map[string]any{"type": "object", "required": []any{"language", "file", "code"}, "properties": input},
		Output: map[string]any{"type": "object", "required": []any{"exit", "by"}, "properties": map[string]any{
			"exit": map[string]any{"type": "integer"}, "by": map[string]any{"type": "string"}, "ended": map[string]any{"type": "string"}, "output": map[string]any{"type": "string"}, "errors": map[string]any{"type": "string"}, "result": map[string]any{}, "lacks": map[string]any{"type": "string"},
			"refused": map[string]any{"type": "array", "items": map[string]any{"type": "string"}}, "files": map[string]any{"type": "array", "items": map[string]any{"type": "string"}},
		}}}
	if !r.Network.Any() {
		out.Resend = "safe" // it changes nothing but its own folder
	}
	return out
}

func compile(p *project.Part) project.Work {
	r := read(p)
	r.Network = p.Network(r.Network)
	r.Libraries, r.Reads = p.Reads("libraries", r.Libraries), p.Reads("reads", r.Reads)
	for _, l := range slices.Sorted(maps.Keys(r.Installs)) {
		at := "/installs/" + l
		r.Installs[l] = p.Registry(at, r.Installs[l])
		if !slices.Contains(r.Languages, l) {
			p.Report(project.Error, at, "Add it to languages, or omit it here.", "installs: programs in %s are not run by this tool", l)
		}
	}
	return project.Work{Spec: r, Line: "programs that the model writes", Looks: true}
}
