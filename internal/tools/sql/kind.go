package sql

import (
	_ "embed"
	"fmt"
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

// Kind is the kind of tools that read tables, and change those of the project's own databases.
var Kind = project.Kind{Name: "sql", Schema: shape, Brings: brings, Compile: compilePart, Heads: heads}

// Query is a read of tables, or a change of those of a database of the project.
type Query struct {
	Database string
	Tables   map[string]string
	In       *project.Database // nil: files alone
	Query    string            // of a change: what is watched; "" is nothing
	Change   []Statement       // nil: a read
	Params   *expr.Mapping     // nil: the arguments
	Rows     int
	One      bool
	Ask      bool // the query is an argument of the call
}

// Statement is one of those that are done together.
type Statement struct {
	Name string
	Do   string
	Rows int            // that it has to change; -1: any number
	Else *expr.Template // what is said where it changes another number; nil: that
}

type raw struct {
	Database, Query, In, Watch string
	Change                     []struct {
		Name, Do, Else string
		Rows           *int
	}
	Tables map[string]string
	Params map[string]any
	Rows   int
	One    bool
	Ask    bool
}

func brings(p *project.Part) project.Own {
	var r raw
	p.Into(&r)
	if r.Ask {
		return asks(p, &r)
	}
	if len(r.Change) == 0 {
		return project.Own{}
	}
	rows := map[string]any{"type": "array", "items": map[string]any{"type": "object"}}
	out := map[string]any{"type": "object", "required": []any{"changed"}, "properties": map[string]any{"changed": map[string]any{"type": "object", "additionalProperties": map[string]any{"type": "integer"}}}}
	if r.Watch != "" {
		out["required"] = []any{"changed", "before", "after"}
		props := out["properties"].(map[string]any)
		props["before"], props["after"] = rows, rows
	}
	return project.Own{Name: "sql: change", Output: out, Effect: ledger.Write, Resend: "key", Gated: true}
}

func compilePart(p *project.Part) project.Work {
	var r raw
	p.Into(&r)
	q := &Query{Query: r.Query, Tables: map[string]string{}, Rows: 1000, One: r.One, Ask: r.Ask}
	if r.Ask {
		q.Rows = askedRows
	}
	if r.Rows > 0 {
		q.Rows = r.Rows
	}
	w := project.Work{Spec: q}
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
	if r.In != "" {
		if q.In = p.Database("/in", r.In); q.In != nil {
			w.Inward = true // of calls to stubs it has a copy of its own
			w.Data = append(w.Data, q.In.Schema)
			for _, t := range slices.Sorted(maps.Keys(q.In.Rows)) {
				w.Data = append(w.Data, q.In.Rows[t])
			}
		}
	}
	if r.Params != nil {
		q.Params = p.Mapping("/params", r.Params)
	}
	lines := []string{}
	for i, s := range r.Change {
		at := fmt.Sprintf("/change/%d", i)
		st := Statement{Name: s.Name, Do: s.Do, Rows: -1}
		if st.Name == "" {
			st.Name = fmt.Sprint(i + 1)
		}
		if slices.ContainsFunc(q.Change, func(x Statement) bool { return x.Name == st.Name }) {
			p.Report(project.Error, at+"/name", "Give it another name.", "two statements are called %s", st.Name)
		}
		if s.Rows != nil {
			st.Rows = *s.Rows
		} else if s.Else != "" {
			p.Report(project.Error, at+"/else", "Say with rows: how many rows it has to change.", "else: is never said, since any number of rows will do")
		}
		if s.Else != "" {
			st.Else = p.Template(at+"/else", s.Else)
		}
		if !begins(s.Do, "INSERT", "UPDATE", "DELETE", "REPLACE", "WITH") {
			p.Report(project.Error, at+"/do", "Begin it with INSERT, UPDATE or DELETE; tables are made in the schema of the database.", "the statement changes no rows")
		}
		q.Change, lines = append(q.Change, st), append(lines, s.Do)
	}
	if len(q.Change) > 0 {
		q.Query, w.Looks = r.Watch, true
	} else {
		lines = append(lines, q.Query)
		if r.Watch != "" {
			p.Report(project.Error, "/watch", "Remove it.", "watch: is for tools that change something")
		}
	}
	if r.Ask {
		lines = []string{"a query that the model writes"}
	}
	w.Line = strings.Join(strings.Fields(strings.Join(lines, "; ")), " ")
	if q.Query != "" && !begins(q.Query, "SELECT", "WITH", "VALUES") {
		at, remedy := "/query", "Begin it with SELECT, WITH or VALUES. What changes something stands under change:, with in: a database of the project."
		if len(q.Change) > 0 {
			at, remedy = "/watch", "Begin it with SELECT, WITH or VALUES."
		}
		p.Report(project.Error, at, remedy, "the query does not read")
	}
	if len(q.Change) == 0 && p.Tool.Effect != ledger.Read {
		p.Report(project.Error, "", "Say effect: read.", "a query only reads, but the tool is a %s", p.Tool.Effect)
	}
	return w
}

func begins(text string, words ...string) bool {
	head := strings.ToUpper(strings.TrimSpace(text))
	return slices.ContainsFunc(words, func(w string) bool { return strings.HasPrefix(head, w) })
}
