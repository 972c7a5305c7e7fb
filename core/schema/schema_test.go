package schema_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton/core/schema"
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
