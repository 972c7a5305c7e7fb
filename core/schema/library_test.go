package schema

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestALibraryCompilesAsOneAloneDoes(t *testing.T) {
	defs := read(t, `{
		"berth": {"type":"object","required":["quay"],"properties":{"quay":{"$ref":"#/$defs/quay"},"next":{"$ref":"#/$defs/berth"},"$ref":{"type":"string"},"metres":{"type":"integer","default":12}}},
		"quay": {"type":"string","pattern":"^[A-Z]$","examples":["A"]},
		"a/b%": {"type":"integer","enum":[1,9007199254740993]},
		"note": {"const":{"$ref":"#/$defs/quay"}}
	}`)
	docs := []string{
		`{"type":"object","unevaluatedProperties":false,"allOf":[{"$ref":"#/$defs/berth"}]}`,
		`{"type":"object","additionalProperties":false,"properties":{"at":{"$ref":"#/$defs/berth"},"n":{"$ref":"#/$defs/a~1b%25"},"default":{"$ref":"#/$defs/note"},"of":{"type":"array","items":{"$ref":"#/$defs/quay/"}}}}`,
		`{"type":"object","properties":{"at":{"$ref":"#/$defs/berth/properties/quay"}}}`,
		`{"$ref":"#/$defs/nowhere"}`,
		`{"type":"object","minLength":"x"}`,
	}
	values := []string{
		`{}`, `{"quay":"A"}`, `{"quay":"a","next":{"quay":"B","next":{}},"more":1}`, `{"quay":"A","metres":"12","$ref":1}`,
		`{"at":{"quay":"AB"},"n":9007199254740993}`, `{"n":9007199254740992}`, `{"at":"B"}`, `{"at":"b"}`, `{"default":{"$ref":"#/$defs/quay"}}`, `{"default":"A"}`, `3`,
	}
	l := NewLibrary()
	for _, text := range docs {
		doc := read(t, text)
		doc["$defs"] = defs
		alone, wrong := Compile(doc)
		shared, err := l.Compile(doc)
		require.Equal(t, wrong == nil, err == nil, "%s: %v, %v", text, wrong, err)
		if wrong != nil {
			assert.Equal(t, wrong.Error(), err.Error())
			continue
		}
		assert.Equal(t, alone.Doc(), shared.Doc())
		assert.Equal(t, alone.Conflicts(), shared.Conflicts())
		for _, v := range values {
			got, want := check(t, shared, v), check(t, alone, v)
			assert.Equal(t, want, got, "%s against %s", v, text)
		}
	}
}

func check(t *testing.T, s *Schema, text string) []Fault {
	t.Helper()
	_, faults := s.CheckJSON([]byte(text))
	return faults
}

func read(t *testing.T, text string) (doc map[string]any) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(text), &doc))
	return doc
}

func TestDefinitionsOfALibraryAreCompiledOnce(t *testing.T) {
	defs := map[string]any{}
	for i := range 50 {
		defs[fmt.Sprintf("d%d", i)] = map[string]any{"type": "object", "properties": map[string]any{"next": map[string]any{"$ref": fmt.Sprintf("#/$defs/d%d", (i+1)%50)}}}
	}
	l := NewLibrary()
	var first *Schema
	for i := range 20 {
		s, err := l.Compile(map[string]any{"type": "object", "properties": map[string]any{"it": map[string]any{"$ref": fmt.Sprintf("#/$defs/d%d", i)}}, "$defs": defs})
		require.NoError(t, err)
		if i == 0 {
			first = s
			continue
		}
		of := s.comp.Properties["it"].Ref
		for at, n := first.comp.Properties["it"].Ref, 0; ; at, n = at.Properties["next"].Ref, n+1 {
			if require.Less(t, n, 50); at == of {
				break
			}
		}
	}
}

func TestWhatIsWrongInALibraryCostsWhatReachesIt(t *testing.T) {
	defs := read(t, `{"good":{"type":"string","maxLength":1,"default":"long"},"bad":{"type":"string","pattern":"("},"worse":{"properties":{"x":{"$ref":"#/$defs/bad"}}}}`)
	l := NewLibrary()
	for range 2 {
		for name, want := range map[string]string{"good": "", "bad": `at "/$defs/bad/pattern": must be a regular expression`, "worse": `at "/$defs/bad/pattern": must be a regular expression`} {
			_, err := l.Compile(map[string]any{"type": "object", "properties": map[string]any{"it": map[string]any{"$ref": "#/$defs/" + name}}, "$defs": defs})
			if want == "" {
				require.NoError(t, err, name)
				continue
			}
			require.ErrorContains(t, err, want, name)
		}
	}
	s, err := l.Compile(map[string]any{"type": "object", "properties": map[string]any{"one": map[string]any{"$ref": "#/$defs/good"}}, "$defs": defs})
	require.NoError(t, err)
	assert.Len(t, l.Conflicts(s), 1)
	assert.Empty(t, l.Conflicts(s), "told once")

	other := read(t, `{"good":{"type":"integer"}}`)
	s, err = l.Compile(map[string]any{"type": "object", "properties": map[string]any{"one": map[string]any{"$ref": "#/$defs/good"}}, "$defs": other})
	require.NoError(t, err)
	assert.Empty(t, s.Check(map[string]any{"one": 3.0}), "another definition of the same name")
}
