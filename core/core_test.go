// Package core_test holds the rule of the core: it computes, and touches nothing.
package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheCoreTouchesNothing(t *testing.T) {
	banned := map[string]bool{"os": true, "net": true, "net/http": true, "database/sql": true, "flag": true, "os/exec": true, "syscall": true, "github.com/jmoiron/sqlx": true, "github.com/labstack/echo/v5": true}
	calls := map[string]bool{"Now": true, "After": true, "Sleep": true, "NewTimer": true, "Tick": true, "Since": true}
	files := 0
	err := filepath.WalkDir(".", func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(p, ".go") || strings.HasSuffix(p, "_test.go") {
			return err
		}
		files++
		fset := token.NewFileSet()
		f, err := parser.ParseFile(fset, p, nil, 0)
		require.NoError(t, err)
		for _, i := range f.Imports {
			path := strings.Trim(i.Path.Value, `"`)
			assert.Falsef(t, banned[path], "%s imports %s", p, path)
			if strings.HasPrefix(path, "stonebaton.example/") {
				assert.Truef(t, strings.HasPrefix(path, "stonebaton.example/core/"), "%s imports %s from outside the core", p, path)
			}
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch x := n.(type) {
			case *ast.GoStmt:
				t.Errorf("%s starts a goroutine", fset.Position(x.Pos()))
			case *ast.SelectorExpr:
				if id, ok := x.X.(*ast.Ident); ok && id.Name == "time" && calls[x.Sel.Name] {
					t.Errorf("%s uses time.%s", fset.Position(x.Pos()), x.Sel.Name)
				}
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, files, 20)
}

// Adapters do not know one another; only app puts them together.
func TestAdaptersDoNotKnowOneAnother(t *testing.T) {
	adapters := []string{"store", "tools/script", "tools/http", "model/chat", "secret", "live"}
	for _, a := range adapters {
		files, err := filepath.Glob(filepath.Join("..", "internal", filepath.FromSlash(a), "*.go"))
		require.NoError(t, err)
		require.NotEmpty(t, files, a)
		for _, p := range files {
			f, err := parser.ParseFile(token.NewFileSet(), p, nil, parser.ImportsOnly)
			require.NoError(t, err)
			for _, i := range f.Imports {
				path := strings.TrimPrefix(strings.Trim(i.Path.Value, `"`), "stonebaton.example/internal/")
				for _, other := range adapters {
					if other != a && !strings.HasSuffix(p, "_test.go") {
						assert.NotEqual(t, other, path, p)
					}
				}
			}
		}
	}
}

// Commands that ask the service do not link it: whoever makes the program puts both together.
func TestTheCommandsDoNotLinkTheService(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "stonebaton.example/internal/cli").Output()
	require.NoError(t, err)
	require.Contains(t, string(out), "stonebaton.example/internal/app")
	assert.False(t, strings.Contains(string(out), "stonebaton.example/internal/service"))
}

// A program that only asks the service links neither its store nor its HTTP server.
func TestTheClientLinksNeitherStoreNorServer(t *testing.T) {
	for _, pkg := range []string{"stonebaton.example/api", "stonebaton.example/client"} {
		out, err := exec.Command("go", "list", "-deps", pkg).Output()
		require.NoError(t, err)
		require.Contains(t, string(out), pkg)
		for _, not := range []string{"modernc.org/sqlite", "github.com/jmoiron/sqlx", "github.com/labstack/echo", "stonebaton.example/internal/store", "stonebaton.example/internal/service", "stonebaton.example/internal/engine", "stonebaton.example/internal/app"} {
			assert.NotContains(t, string(out), not, pkg)
		}
	}
}
