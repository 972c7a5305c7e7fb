package schema

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/value"
)

// TestTheOfficialSuite holds the schemas against the official suite of JSON Schema, of the
// newest draft and of draft 7, which a package that is among the dependencies has with it. Left
// out are schemas that stand elsewhere: nothing is fetched.
func TestTheOfficialSuite(t *testing.T) {
	raw, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/google/jsonschema-go").Output()
	require.NoError(t, err)
	dir := filepath.Join(strings.TrimSpace(string(raw)), "jsonschema", "testdata")
	for draft, uri := range map[string]string{"draft2020-12": "https://json-schema.org/draft/2020-12/schema", "draft7": "http://json-schema.org/draft-07/schema#"} {
		files, err := filepath.Glob(filepath.Join(dir, draft, "*.json"))
		require.NoError(t, err)
		require.NotEmpty(t, files)
		ran, left := 0, 0
		for _, f := range files {
			raw, err := os.ReadFile(f)
			require.NoError(t, err)
			var groups []struct {
				Description string
				Schema      json.RawMessage
				Tests       []struct {
					Description string
					Data        json.RawMessage
					Valid       bool
				}
			}
			require.NoError(t, json.Unmarshal(raw, &groups))
			for _, g := range groups {
				name := draft + "/" + filepath.Base(f) + ": " + g.Description
				var doc map[string]any
				if json.Unmarshal(g.Schema, &doc) != nil {
					doc = map[string]any{"allOf": []any{string(g.Schema) == "true"}}
				}
				if doc["$schema"] == nil {
					doc["$schema"] = uri
				}
				s, err := Compile(doc)
				if err != nil && strings.Contains(string(g.Schema), "http://localhost:1234/") && strings.Contains(err.Error(), "may only refer to itself, not to http://localhost:1234/") {
					left += len(g.Tests)
					continue
				}
				if !assert.NoError(t, err, name) {
					continue
				}
				for _, one := range g.Tests {
					ran++
					v, err := value.Read(one.Data)
					require.NoError(t, err)
					assert.Equal(t, one.Valid, len(s.Check(v)) == 0, "%s: %s", name, one.Description)
				}
			}
		}
		t.Logf("%s: %d pass, %d are left out", draft, ran, left)
	}
}
