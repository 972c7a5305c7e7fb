package script

import (
	_ "embed"
	"fmt"
	"path"

	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
)

//go:embed kind.yaml
var shape string

// Kind is the kind of tools that are scripts.
var Kind = project.Kind{Name: "script", Schema: shape, Compile: compilePart}

// Script is JavaScript, and where its first line stands.
type Script struct {
	Code  string
	Fetch []string // what URLs it may fetch begin with
	Place project.Place
}

func compilePart(p *project.Part) project.Work {
	s := read(p)
	if x := check(p.Tool.Name, s); x != nil && s.Code != "" {
		p.Tell(*x)
	}
	return project.Work{Spec: s, Inward: len(s.Fetch) == 0}
}

// read reads the part: the code itself, or a map with it or its file.
func read(p *project.Part) *Script {
	var v any
	p.Into(&v)
	if code, ok := v.(string); ok {
		return &Script{Code: code, Place: p.FirstLine("")}
	}
	var r struct {
		File, Code string
		Fetch      []string
	}
	p.Into(&r)
	s := &Script{Code: r.Code, Place: p.FirstLine("/code")}
	for i, f := range r.Fetch {
		s.Fetch = append(s.Fetch, p.Prefix(fmt.Sprintf("/fetch/%d", i), f))
	}
	if r.Code != "" {
		return s
	}
	name := path.Join(p.Folder(), r.File)
	code, ok := p.File(name)
	if !ok {
		p.Report(project.Error, "/file", "The path counts from this file's folder.", "cannot find the file %s.%s", name, near.Hint(name, p.Files(".js")))
	}
	s.Code, s.Place = code, project.Place{File: name, Line: 1, Col: 1}
	return s
}
