// Package tooltest helps to test handlers of tools: it compiles a small project
// with one tool more, and calls it.
package tooltest

import (
	"cmp"
	"context"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/tools"
)

// Project compiles the small project with more documents, and with what its
// sources offer.
func Project(t testing.TB, more string, catalogues map[string]project.Catalogue) *project.Project {
	t.Helper()
	p, probs := app.Reader.Compile(project.Source{Files: map[string]string{project.Main: coretest.Main + "---\n" + more}, Env: map[string]string{}, Catalogues: catalogues})
	require.NotNil(t, p, "%v", probs)
	return p
}

// Call calls a tool of a project through a handler, with time enough.
func Call(t testing.TB, h tools.Handler, p *project.Project, name string, args map[string]any, change ...func(*deed.Invocation)) (deed.Result, *deed.Failure) {
	t.Helper()
	tool := p.Tools[name]
	require.NotNil(t, tool, name)
	if args == nil {
		args = map[string]any{}
	}
	fixed, _, faults := tool.Input.Repair(any(args))
	require.Empty(t, faults)
	i := deed.Invocation{Project: p, Tool: tool, Args: fixed, Facts: map[string]any{}, Key: "key-1", Vars: expr.Vars{"args": expr.Typed(tool.Input.Doc(), fixed), "state": map[string]any{},
		"person": map[string]any{"name": "ann"}, "today": "2026-05-04", "now": coretest.Epoch, "project": p.Name, "run": map[string]any{"id": "r-1", "session": "r"}}}
	for _, c := range change {
		c(&i)
	}
	ctx, cancel := context.WithTimeout(t.Context(), i.Tool.Timeout)
	defer cancel()
	return h.Call(ctx, i)
}

var secretRef = regexp.MustCompile(`\$\{secret:[A-Za-z_0-9]+\}`)

// Secrets is a web.Secrets in which every secret has one value.
type Secrets struct {
	Value string // "the-value" by default
	Kept  []string
}

// Expand puts the value in for every secret.
func (s *Secrets) Expand(text string) (string, error) {
	return secretRef.ReplaceAllString(text, cmp.Or(s.Value, "the-value")), nil
}

// Keep remembers what became secret.
func (s *Secrets) Keep(_, value string) { s.Kept = append(s.Kept, value) }
