package project_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/project"
)

func TestACatalogueKeepsADefinitionOnce(t *testing.T) {
	long := map[string]any{"type": "string", "description": strings.Repeat("x", 1000)}
	other := map[string]any{"type": "integer"}
	cat := project.Catalogue{From: "a document", Fault: "gone", Missing: map[string]string{"x": "y"}, Also: []string{"2 prompts"}, Tools: []project.Offer{}}
	for i := range 100 {
		o := project.Offer{Name: fmt.Sprintf("of%d", i%99), Tool: "of", Summary: "s", Input: map[string]any{"type": "object", "$defs": map[string]any{"long": long, "other": other}}}
		switch i % 3 {
		case 0:
			o.Output = map[string]any{"$ref": "#/$defs/long", "$defs": map[string]any{"long": long}}
		case 1:
			o.Input["$defs"] = map[string]any{"long": other, "other": long} // other things by these names
		case 2:
			o.Input = map[string]any{"type": "object"}
		}
		cat.Tools = append(cat.Tools, o)
	}
	raw, err := json.Marshal(cat)
	require.NoError(t, err)
	assert.Less(t, strings.Count(string(raw), strings.Repeat("x", 1000)), 40, "once, and where the name stands for something else")
	var back project.Catalogue
	require.NoError(t, json.Unmarshal(raw, &back))
	assert.Equal(t, cat, back)
	again, err := json.Marshal(back)
	require.NoError(t, err)
	assert.Equal(t, string(raw), string(again))
	assert.Equal(t, []string{"of0"}, keys(back.Only([]string{"of0"}).Tools))
}

func keys(offers []project.Offer) (out []string) {
	for _, o := range offers {
		out = append(out, o.Name)
	}
	return out
}
