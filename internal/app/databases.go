package app

import (
	"context"
	"net/http"

	"stonebaton.example/api"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
)

// shownRows bounds the rows of a table that are shown.
const shownRows = 200

// Databases shows the databases of a project with their tables. One that cannot be read says why.
func (w *Workshop) Databases(ctx context.Context, p *project.Project) []api.Database {
	out := []api.Database{}
	for _, name := range names(p.Databases) {
		d := p.Databases[name]
		x := api.Database{ID: name, Status: "there", Tables: []api.Table{}, Place: d.Place}
		tables, err := w.tables.Tables(ctx, d, shownRows)
		if err != nil {
			x.Status, x.Problem = "broken", err.Error()
		}
		for _, t := range tables {
			x.Tables = append(x.Tables, api.Table(t))
		}
		out = append(out, x)
	}
	return out
}

// ResetDatabase makes a database of a project anew.
func (w *Workshop) ResetDatabase(ctx context.Context, p *project.Project, name string) (api.Database, error) {
	d := p.Databases[name]
	if d == nil {
		return api.Database{}, api.NewProblem(http.StatusNotFound, "`stonebaton database` lists them.", "unknown database %q.%s", name, near.Hint(name, names(p.Databases)))
	}
	if err := w.tables.Reset(d); err != nil {
		return api.Database{}, api.NewProblem(http.StatusConflict, "", "the database %s was not made anew: %v", name, err)
	}
	for _, x := range w.Databases(ctx, p) {
		if x.ID == name {
			return x, nil
		}
	}
	return api.Database{}, nil
}
