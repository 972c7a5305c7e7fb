package sql

import (
	_ "embed"
	"maps"
	"path"
	"slices"
	"strings"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
)

//go:embed kind.yaml
var shape string

// Kind is the kind of tools that read tables.
var Kind = project.Kind{Name: "sql", Schema: shape, Compile: compilePart}

// Query is a read of tables.
type Query struct {
	Database string
	Tables   map[string]string
	Query    string
	Params   *expr.Mapping // nil: the arguments
	Rows     int
	One      bool
}

func compilePart(p *project.Part) project.Work {
	var r struct {
		Database, Query string
		Tables          map[string]string
		Params          map[string]any
		Rows            int
		One             bool
	}
	p.Into(&r)
	q := &Query{Query: r.Query, Tables: map[string]string{}, Rows: 1000, One: r.One}
	if r.Rows > 0 {
		q.Rows = r.Rows
	}
	w := project.Work{Spec: q, Line: strings.Join(strings.Fields(q.Query), " ")}
	if r.Database != "" {
		q.Database = p.Inside("/database", r.Database)
		w.Data = append(w.Data, q.Database)
	}
	for _, k := range slices.Sorted(maps.Keys(r.Tables)) {
		v := r.Tables[k]
		q.Tables[k] = p.Inside("/tables/"+k, v)
		w.Data = append(w.Data, q.Tables[k])
		if ext := path.Ext(v); ext != ".csv" && ext != ".tsv" && ext != ".json" {
			p.Report(project.Error, "/tables/"+k, "", "a table is a file .csv, .tsv or .json, not %q", ext)
		}
	}
	if r.Params != nil {
		q.Params = p.Mapping("/params", r.Params)
	}
	if head := strings.ToUpper(strings.TrimSpace(q.Query)); !strings.HasPrefix(head, "SELECT") && !strings.HasPrefix(head, "WITH") && !strings.HasPrefix(head, "VALUES") {
		p.Report(project.Error, "/query", "Begin it with SELECT, WITH or VALUES; what writes belongs to the service that owns the data.", "the query does not read")
	}
	if p.Tool.Effect != ledger.Read {
		p.Report(project.Error, "", "Say effect: read.", "a query only reads, but the tool is a %s", p.Tool.Effect)
	}
	return w
}
