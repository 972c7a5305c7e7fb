package app

import (
	"stonebaton.example/core/project"
	"stonebaton.example/internal/tools"
	"stonebaton.example/internal/tools/builtin"
	"stonebaton.example/internal/tools/command"
	"stonebaton.example/internal/tools/http"
	"stonebaton.example/internal/tools/own"
	"stonebaton.example/internal/tools/program"
	"stonebaton.example/internal/tools/script"
	"stonebaton.example/internal/tools/shell"
	"stonebaton.example/internal/tools/sql"
)

// kinds are the kinds of tools, each with what carries its calls out. Another one is a
// folder of internal/tools and a line here.
var kinds = []struct {
	project.Kind
	handler func(w *Workshop, c WorkshopConfig) tools.Handler
}{
	{script.Kind, func(w *Workshop, _ WorkshopConfig) tools.Handler { return script.New(w.client) }},
	{http.Kind, func(w *Workshop, c WorkshopConfig) tools.Handler { return http.New(w.client, c.Dir) }},
	{command.Kind, func(_ *Workshop, c WorkshopConfig) tools.Handler { return command.New(c.Dir, c.Work, c.Secrets) }},
	{sql.Kind, func(w *Workshop, c WorkshopConfig) tools.Handler {
		w.tables = sql.New(c.Dir, c.Databases)
		return w.tables
	}},
	{builtin.Kind, func(w *Workshop, c WorkshopConfig) tools.Handler { return builtin.New(c.Dir, c.Records, w.client) }},
	{program.Kind, func(w *Workshop, c WorkshopConfig) tools.Handler {
		return program.New(c.Dir, c.Programs, c.Records, script.New(w.client).Evaluate)
	}},
	{shell.Kind, func(_ *Workshop, c WorkshopConfig) tools.Handler { return shell.New(c.Dir, c.Work, c.Records) }},
	{own.Kind, func(_ *Workshop, c WorkshopConfig) tools.Handler { return own.New(c.Own) }},
}

// Reader reads projects with all kinds of tools.
var Reader = func() *project.Reader {
	list := make([]project.Kind, len(kinds))
	for i, k := range kinds {
		list[i] = k.Kind
	}
	return project.NewReader(list...)
}()
