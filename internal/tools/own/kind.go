package own

import (
	_ "embed"

	"stonebaton.example/core/project"
)

//go:embed kind.yaml
var shape string

// Kind is the kind of tools that are functions of the program itself.
var Kind = project.Kind{Name: "go", Schema: shape, Made: true, Compile: func(p *project.Part) project.Work {
	if p.Made() {
		return project.Work{}
	}
	return project.Work{Bare: &project.Bare{Say: "calls the function " + p.Tool.Name + " of the program"}}
}}
