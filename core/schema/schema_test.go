package schema_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/schema"
)

func object(props map[string]any, required ...any) map[string]any {
	return map[string]any{"type": "object", "properties": props, "required": required, "additionalProperties": false}
}

func TestFaultsNameWhatWouldHaveBeenRight(t *testing.T) {
	s, err := schema.Compile(object(map[string]any{
		"length_m": map[string]any{"type": "number", "exclusiveMinimum": 0, "description": "Length of the vessel in metres."},
		"berth":    map[string]any{"type": "string", "pattern": "^[A-F][0-9]{1,2}$", "description": "Berth code, such as C4."},
		"season":   map[string]any{"enum": []any{"summer", "winter"}},
		"arrives":  map[string]any{"type": "string", "format": "date-time"},
		"nights":   map[string]any{"type": "integer", "minimum": 1, "maximum": 60},
	}, "length_m"))
	require.NoError(t, err)
	for name, c := range map[string]struct {
		give, say string
	}{
		"fits":          {`{"length_m": 46, "nights": 2}`, ""},
		"missing":       {`{}`, "length_m is missing (Length of the vessel in metres), such as 46.5"},
		"unknown":       {`{"length_m": 1, "nigths": 2}`, `nigths is not known here; did you mean "nights"?`},
		"far off":       {`{"length_m": 1, "xyzzy": 2}`, `xyzzy is not known here; what is: arrives, berth, length_m, nights, season`},
		"type":          {`{"length_m": "46 m"}`, "length_m must be a number, not a string, such as 46.5"},
		"pattern":       {`{"length_m": 1, "berth": "quay 4"}`, `berth must match ^[A-F][0-9]{1,2}$: Berth code, such as C4; "quay 4" does not`},
		"enum":          {`{"length_m": 1, "season": "sumer"}`, `season must be one of summer, winter, not sumer; "summer" is nearest`},
		"format":        {`{"length_m": 1, "arrives": "Friday"}`, "arrives must be a date and time with its offset, such as 2026-05-08T12:00:00+01:00, not Friday"},
		"minimum":       {`{"length_m": 0}`, "length_m must be more than 0, not 0"},
		"maximum":       {`{"length_m": 1, "nights": 61}`, "nights must be at most 60, not 61"},
		"whole numbers": {`{"length_m": 1, "nights": 1.5}`, "nights must be an integer, not a number, such as 3"},
		"two":           {`{"nights": 0}`, "length_m is missing (Length of the vessel in metres), such as 46.5; nights must be at least 1, not 0"},
		"not JSON":      {`{"length_m": `, "is not JSON: line 1, column 14: it ends too early"},
	} {
		t.Run(name, func(t *testing.T) {
			_, faults := s.CheckJSON([]byte(c.give))
			assert.Equal(t, c.say, schema.Say(faults))
		})
	}
}

func TestCompileRefusesWhatIsNoSchema(t *testing.T) {
	_, err := schema.Compile(map[string]any{"type": "objekt"})
	require.ErrorContains(t, err, "not a JSON Schema")
	_, err = schema.Compile(map[string]any{"$ref": "http://elsewhere.example/schema.json"})
	require.ErrorContains(t, err, "may only refer to itself")
}

func TestNoSchemaTakesEverything(t *testing.T) {
	var s *schema.Schema
	assert.Empty(t, s.Check(map[string]any{"a": 1}))
	assert.Nil(t, s.Doc())
}

func TestAWrongNameIsSaidWithItsPlace(t *testing.T) {
	var doc map[string]any
	require.NoError(t, json.Unmarshal([]byte(`{"properties":{"a":{"$ref":"#/$defs/short"},"b":{"properties":{"long":{}}},"c":{"type":"array","items":{"$ref":"#/$defs/short"}}},"$defs":{"short":{"propertyNames":{"maxLength":2}}}}`), &doc))
	s, err := schema.Compile(doc)
	require.NoError(t, err)
	for range 50 { // the order in which fields are checked is not the same each time
		_, faults := s.CheckJSON([]byte(`{"a":{"long":1,"is":2},"b":{"long":{"x":1}},"c":[{"a":1},{"long":1},{"long":{"more":1}}],"d":{"x":{"y":1}}}`))
		_, err := schema.Compile(map[string]any{"properties": map[string]any{"p": map[string]any{"patternProperties": map[string]any{"(": true}, "title": "P", "$defs": map[string]any{"a": true}}}, "title": "T"})
		require.EqualError(t, err, "not a JSON Schema: at \"/properties/p/patternProperties/(\": is not a name that is allowed here")
		require.Equal(t, "a.long is not a name that is allowed here; c.1.long is not a name that is allowed here; c.2.long is not a name that is allowed here", schema.Say(faults))
	}
}

func TestEveryKeywordHasItsSentence(t *testing.T) {
	for _, c := range [][3]string{
		{`{"type":"array","uniqueItems":true}`, `[1,1]`, "must not repeat an entry; entries 1 and 2 are the same"},
		{`{"type":"array","minItems":2}`, `[1]`, "must have at least 2 entries, not 1"},
		{`{"type":"array","maxItems":1}`, `[1,2]`, "must have at most 1 entry, not 2"},
		{`{"type":"array","contains":{"type":"number"}}`, `["a"]`, "must have an entry that fits, such as 46.5"},
		{`{"type":"array","contains":{"type":"number"},"maxContains":1}`, `[1,2]`, "must have at most 1 entry of the kind that is wanted, such as 46.5, not 2"},
		{`{"type":"object","minProperties":1}`, `{}`, "must have at least 1 field, not 0"},
		{`{"type":"object","maxProperties":1}`, `{"a":1,"b":2}`, "must have at most 1 field, not 2"},
		{`{"type":"object","dependentRequired":{"a":["b"]}}`, `{"a":1}`, "b is missing; it is needed where a is given"},
		{`{"type":"object","propertyNames":{"pattern":"^a"}}`, `{"b":1}`, "b is not a name that is allowed here"},
		{`{"type":"object","additionalProperties":false,"properties":{"a":{}}}`, `{"b":1}`, `b is not known here; did you mean "a"?`},
		{`{"type":"object","unevaluatedProperties":false}`, `{"b":1}`, "b is not allowed here"},
		{`{"type":"number","multipleOf":5}`, `7`, "must be a multiple of 5, not 7"},
		{`{"type":"number","exclusiveMinimum":5}`, `5`, "must be more than 5, not 5"},
		{`{"type":"number","exclusiveMaximum":5}`, `5`, "must be less than 5, not 5"},
		{`{"not":{"type":"number"}}`, `5`, "is one of the values that are not allowed"},
		{`{"const":5}`, `6`, "must be 5, not 6"},
		{`{"enum":[1,2]}`, `3`, "must be one of 1, 2, not 3"},
		{`{"anyOf":[{"type":"string"},{"type":"boolean"}]}`, `5`, "must be a string or a boolean, not a number"},
		{`{"oneOf":[{"type":"number"},{"minimum":1}]}`, `5`, "fits more than one of its alternatives; it must fit exactly one"},
		{`{"if":{"type":"number"},"then":{"minimum":9}}`, `5`, "must be at least 9, not 5"},
		{`{"type":"string","minLength":1}`, `""`, "must have at least 1 character, not 0"},
		{`{"type":"string","maxLength":2}`, `"xxx"`, "must have at most 2 characters, not 3"},
		{`{"type":"string","format":"email"}`, `"x"`, "must be a mail address, not x"},
	} {
		var doc map[string]any
		require.NoError(t, json.Unmarshal([]byte(c[0]), &doc))
		s, err := schema.Compile(doc)
		require.NoError(t, err, c[0])
		_, faults := s.CheckJSON([]byte(c[1]))
		assert.Equal(t, c[2], schema.Say(faults), c[0])
	}
}
