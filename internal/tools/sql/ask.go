package sql

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/sqlite"
)

const (
	askedRows  = 100     // of a query that a model writes, where the tool says nothing
	askedBytes = 4 << 20 // of one value that it may make
	samples    = 3       // rows of a table in a contract
)

// heads names the files whose first lines tell a model what it may ask for.
func heads(raw, main map[string]any) (out []string) {
	if raw["ask"] != true {
		return nil
	}
	files := func(v any) {
		m, _ := v.(map[string]any)
		for _, k := range slices.Sorted(maps.Keys(m)) {
			if name, ok := m[k].(string); ok {
				out = append(out, path.Clean(name))
			}
		}
	}
	files(raw["tables"])
	all, _ := main["databases"].(map[string]any)
	name, _ := raw["in"].(string)
	if d, ok := all[name].(map[string]any); ok {
		files(d["rows"])
		files(map[string]any{"": d["schema"]})
	}
	return out
}

// asks gives the contract of a tool whose query the model writes: it is told the tables, their columns, and
// some rows.
func asks(p *project.Part, r *raw) project.Own {
	var about []string
	if r.In != "" {
		if d := p.Database("/in", r.In); d != nil {
			if text, ok := p.File(d.Schema); ok {
				about = append(about, strings.TrimSpace(text))
			}
			r.Tables = d.Rows
		}
	}
	for _, t := range slices.Sorted(maps.Keys(r.Tables)) {
		text, ok := p.File(path.Clean(r.Tables[t]))
		if !ok {
			p.Report(project.Error, "/tables/"+t, "", "cannot find the file %s", r.Tables[t])
			continue
		}
		about = append(about, sample(t, r.Tables[t], text))
	}
	return project.Own{Name: "sql: ask", Effect: ledger.Read, Shipped: true,
		Input: map[string]any{"type": "object", "required": []any{"query"}, "additionalProperties": false, "properties": map[string]any{
			"query": map[string]any{"type": "string", "minLength": 6, "maxLength": 5000, "description": "One SELECT in the SQL of SQLite, over these tables alone:\n" + strings.Join(about, "\n")}}},
		Output: map[string]any{"type": "array", "items": map[string]any{"type": "object"}}}
}

// sample tells of a table: its columns with what they hold, and its first rows.
func sample(table, file, text string) string {
	var columns []string
	var rows [][]string
	if path.Ext(file) == ".json" {
		var list []map[string]any
		if json.Unmarshal([]byte(text), &list) != nil { // the head of a long file is cut
			return table + " (rows of " + file + ")"
		}
		for _, o := range list {
			if columns == nil {
				columns = slices.Sorted(maps.Keys(o))
			}
			row := make([]string, len(columns))
			for i, c := range columns {
				row[i] = fmt.Sprint(o[c])
			}
			rows = append(rows, row)
		}
	} else {
		in := csv.NewReader(strings.NewReader(strings.TrimPrefix(text, "\ufeff")))
		in.FieldsPerRecord = -1
		switch first, _, _ := strings.Cut(text, "\n"); {
		case path.Ext(file) == ".tsv":
			in.Comma, in.LazyQuotes = '\t', true
		case strings.Count(first, ";") > strings.Count(first, ","):
			in.Comma = ';'
		}
		all, err := in.ReadAll()
		if err != nil || len(all) == 0 {
			return table + " (rows of " + file + ")"
		}
		columns, rows = all[0], all[1:]
	}
	var head []string
	for i, c := range columns {
		kind := "number"
		for _, r := range rows {
			if i >= len(r) || !number(r[i]) {
				kind = "text"
			}
		}
		head = append(head, c+" "+kind)
	}
	out := table + "(" + strings.Join(head, ", ") + ")"
	for _, r := range rows[:min(samples, len(rows))] {
		out += "\n  such as " + strings.Join(r, ", ")
	}
	return out
}

// asked says why a query that a model wrote is not made. What it may do SQLite asks of the
// connection's guard; this says it sooner, in plainer words.
func asked(query string) error {
	if !begins(query, "SELECT", "WITH", "VALUES") {
		return errors.New("the query was refused: it has to begin with SELECT, WITH or VALUES")
	}
	return sqlite.One(query)
}
