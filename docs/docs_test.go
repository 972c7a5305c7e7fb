// Package docs_test holds the documentation against the program.
package docs_test

import (
	"encoding/json"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/scope"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/service"
	"stonebaton.example/internal/understudy"
)

func read(t *testing.T, name string) string {
	t.Helper()
	b, err := os.ReadFile(name)
	require.NoError(t, err)
	return string(b)
}

// Every example in YAML is a document that the program takes.
func TestExamplesAreTaken(t *testing.T) {
	files, err := filepath.Glob("guide/*.md")
	require.NoError(t, err)
	blocks := regexp.MustCompile("(?s)```yaml\n(.*?)```")
	n := 0
	for _, f := range files {
		for _, m := range blocks.FindAllStringSubmatch(read(t, f), -1) {
			n++
			if strings.HasPrefix(m[1], "lines:") {
				_, bad := understudy.ReadLines(f, []byte(m[1]))
				require.Nil(t, bad, "%v", bad)
				continue
			}
			var doc map[string]any
			require.NoError(t, yaml.Unmarshal([]byte(m[1]), &doc), f)
			kind := regexp.MustCompile(`^(\w+):`).FindStringSubmatch(m[1])[1]
			k, ok := app.Reader.Schema(kind)
			require.True(t, ok, "%s: %s", f, kind)
			s, err := schema.Compile(k)
			require.NoError(t, err)
			raw, err := json.Marshal(doc)
			require.NoError(t, err)
			_, faults := s.CheckJSON(raw)
			assert.Empty(t, faults, "%s: %s", f, m[1])
		}
	}
	assert.GreaterOrEqual(t, n, 7)
}

// The guide's project, put together, compiles.
func TestTheGuidesProjectCompiles(t *testing.T) {
	blocks := regexp.MustCompile("(?s)```yaml\n(.*?)```")
	files := map[string]string{}
	for _, f := range []string{"guide/2-tools.md", "guide/4-gates.md", "guide/5-models.md", "guide/6-drills.md", "guide/3-agents.md", "guide/3-relays.md"} {
		for i, m := range blocks.FindAllStringSubmatch(read(t, f), -1) {
			text := m[1]
			name := filepath.Base(f) + string(rune('a'+i)) + ".yaml"
			if strings.HasPrefix(text, "project:") {
				name = project.Main
				text += "state: {type: object, properties: {length_m: {type: number}, booking: {type: string}}}\n"
			}
			files[name] = text
		}
	}
	files["tides.yaml"] = "agent: tides\nsummary: Knows the tides.\nprompt: You know tides.\n---\ntool: find_berth\nsummary: Find a free berth.\neffect: read\nstubs: [{returns: []}]\n" +
		"---\nagent: letters\nsummary: Writes letters.\nprompt: You write letters.\n---\nagent: proofreader\nsummary: Reads letters.\nprompt: You read letters.\nanswer: {type: object, required: [fine], properties: {fine: {type: boolean, description: Whether it can be sent.}}}\n"
	p, probs := app.Reader.Compile(project.Source{Files: files, Env: map[string]string{"OFFICE_URL": "http://127.0.0.1:1", "MODEL_URL": "http://127.0.0.1:2"}})
	require.NotNil(t, p, "%v", probs)
}

func properties(doc map[string]any, out map[string]bool) {
	for k, v := range doc {
		sub, ok := v.(map[string]any)
		if k == "properties" && ok {
			for name := range sub {
				out[name] = true
			}
		}
		if ok {
			properties(sub, out)
		}
		if list, isList := v.([]any); isList {
			for _, e := range list {
				if m, ok := e.(map[string]any); ok {
					properties(m, out)
				}
			}
		}
	}
}

func TestEveryFieldIsInTheReference(t *testing.T) {
	text := read(t, "reference/project-files.md")
	for _, kind := range app.Reader.Documents() {
		doc, _ := app.Reader.Schema(kind)
		names := map[string]bool{}
		properties(doc, names)
		for n := range names {
			assert.Regexp(t, "[`{ .,]"+n+"[`:} ,]", text, "%s of %s", n, kind)
		}
	}
}

func TestEveryEventIsInTheReference(t *testing.T) {
	text := read(t, "reference/events.md")
	for _, k := range ledger.Kinds() {
		assert.Contains(t, text, "| `"+string(k)+"` |")
	}
}

func TestEveryCallIsInTheReference(t *testing.T) {
	raw, err := service.Document()
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]any
	}
	require.NoError(t, json.Unmarshal(raw, &doc))
	text := read(t, "reference/api.md")
	for path, methods := range doc.Paths {
		for m := range methods {
			assert.Contains(t, text, "`"+strings.ToUpper(m)+" "+path+"`")
		}
	}
}

func TestEveryCommandAndFlagIsInTheReference(t *testing.T) {
	text := read(t, "reference/commands.md")
	files, err := filepath.Glob("../internal/cli/*.go")
	require.NoError(t, err)
	for _, f := range files {
		src := read(t, f)
		for _, m := range regexp.MustCompile(`(?:name: |settling\()"([a-z]+)"`).FindAllStringSubmatch(src, -1) {
			assert.Regexp(t, "`"+m[1]+"[ `]", text, "the command %s", m[1])
		}
		for _, m := range regexp.MustCompile(`fs\.(?:String|Bool|Int|Duration)(?:Var)?\((?:&[\w.]+, )?"([a-z-]+)"`).FindAllStringSubmatch(src, -1) {
			assert.Contains(t, text, "-"+m[1], "the flag -%s", m[1])
		}
	}
}

func TestLinksLeadSomewhere(t *testing.T) {
	link := regexp.MustCompile(`\]\(([^)#]+)\)`)
	for _, f := range append([]string{"../README.md"}, glob(t, "guide/*.md", "reference/*.md", "decisions/*.md")...) {
		for _, m := range link.FindAllStringSubmatch(read(t, f), -1) {
			if strings.Contains(m[1], "://") {
				continue
			}
			_, err := os.Stat(filepath.Join(filepath.Dir(f), m[1]))
			assert.NoError(t, err, "%s links %s", f, m[1])
		}
	}
}

func glob(t *testing.T, patterns ...string) []string {
	t.Helper()
	var out []string
	for _, p := range patterns {
		files, err := filepath.Glob(p)
		require.NoError(t, err)
		out = append(out, files...)
	}
	return out
}

func TestEveryFunctionIsInTheReference(t *testing.T) {
	text := read(t, "reference/expressions.md")
	for _, f := range expr.Functions() {
		assert.Contains(t, text, "| `"+strings.ReplaceAll(f.Use, "|", "\\|")+"` | "+f.Does+" |")
	}
	for _, n := range scope.Names() {
		assert.Contains(t, text, "| `"+n.Name+"` | "+n.Where+" | "+n.Is+" |")
	}
}

func TestEveryTypeOfProblemIsOnItsPage(t *testing.T) {
	types := regexp.MustCompile("`(/problems#[a-z-]+)`").FindAllStringSubmatch(read(t, "reference/problems.md"), -1)
	var have []string
	for _, m := range types {
		have = append(have, m[1])
	}
	assert.ElementsMatch(t, service.ProblemTypes(), have)
}

// Every path that the architecture names is there.
func TestTheArchitectureNamesWhatIsThere(t *testing.T) {
	n := 0
	for _, m := range regexp.MustCompile("`((?:core|internal|api|client|mason|web|cmd|docs|bench|e2e|examples)(?:/[A-Za-z0-9_./-]+)?)`").FindAllStringSubmatch(read(t, "architecture.md"), -1) {
		_, err := os.Stat(filepath.Join("..", m[1]))
		assert.NoError(t, err, m[1])
		n++
	}
	assert.Greater(t, n, 90)
}

// Each request of change touches the files that the architecture lists for it.
func TestWhatAChangeTouches(t *testing.T) {
	rows := regexp.MustCompile("(?m)^\\| ((?:add|change) [^|]+) \\| ([^|]+) \\| `(.+)` \\|$").FindAllStringSubmatch(read(t, "architecture.md"), -1)
	require.Len(t, rows, 12)
	sources := map[string]string{}
	for _, root := range []string{"core", "internal", "api", "client"} {
		require.NoError(t, filepath.WalkDir(filepath.Join("..", root), func(p string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || !strings.HasSuffix(p, ".go") || strings.HasSuffix(p, "_test.go") || strings.Contains(p, "coretest") {
				return err
			}
			raw, err := os.ReadFile(p)
			sources[filepath.ToSlash(strings.TrimPrefix(p, ".."+string(filepath.Separator)))] = string(raw)
			return err
		}))
	}
	for _, r := range rows {
		have := regexp.MustCompile(strings.ReplaceAll(r[3], `\|`, "|"))
		var want, got []string
		for _, m := range regexp.MustCompile("`([^`]+)`").FindAllStringSubmatch(r[2], -1) {
			want = append(want, m[1])
		}
		for name, text := range sources {
			if have.MatchString(text) {
				got = append(got, name)
			}
		}
		assert.ElementsMatch(t, want, got, "to %s", r[1])
	}
}
