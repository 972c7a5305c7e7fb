package schema_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMadeValuesFit(t *testing.T) {
	for _, text := range []string{
		`{}`, `{"type":"null"}`, `{"type":"boolean"}`, `{"type":"string","pattern":"^[A-F][0-9]{1,2}$"}`, `{"type":"string","pattern":"^(north|south)-\\d{4}$"}`, `{"type":"string","pattern":"^\\w+@\\w+\\.[a-z]{2,}$","minLength":12}`,
		`{"type":"string","pattern":"^[^\\s]+$","minLength":9,"maxLength":9}`, `{"type":"string","minLength":7}`, `{"type":"string","maxLength":2}`, `{"type":"string","format":"ipv6"}`, `{"type":"string","format":"duration"}`,
		`{"type":"integer","multipleOf":7,"minimum":10}`, `{"type":"integer","multipleOf":7,"maximum":-10}`, `{"type":"number","exclusiveMinimum":0,"exclusiveMaximum":1}`, `{"type":"number","minimum":100,"maximum":100}`,
		`{"type":"array","items":{"type":"string"},"minItems":3,"uniqueItems":true}`, `{"type":"array","items":{"enum":["a","b","c"]},"minItems":3,"uniqueItems":true}`, `{"type":"array","items":{"type":"integer","minimum":5},"minItems":4,"uniqueItems":true}`,
		`{"type":"array","prefixItems":[{"type":"string"},{"type":"integer"}],"items":false}`, `{"type":"array","contains":{"const":"x"},"minItems":2}`, `{"type":"array","maxItems":0,"items":{"type":"string"}}`,
		`{"type":"object","required":["a","b"],"properties":{"a":{"type":"integer"}},"additionalProperties":{"type":"boolean"}}`, `{"type":"object","required":["q"]}`,
		`{"type":"object","properties":{"a":{"$ref":"#/$defs/n"}},"$defs":{"n":{"type":"object","properties":{"next":{"$ref":"#/$defs/n"}}}}}`,
		`{"oneOf":[{"type":"object","required":["a"],"properties":{"a":{"const":1}}},{"type":"object","required":["b"],"properties":{"b":{"const":2}}}],"type":"object","properties":{"c":{"type":"string"}}}`,
		`{"type":"object","properties":{"a":{"type":"string"},"b":{"type":"string"}},"not":{"required":["a","b"]}}`, `{"type":"object","properties":{"a":{"type":"string"}},"maxProperties":0}`,
		`{"anyOf":[{"type":"string","pattern":"(?=a)b"},{"type":"integer"}]}`, `{"allOf":[{"type":"object","required":["a"],"properties":{"a":{"type":"string"}}},{"type":"object","required":["b"],"properties":{"b":{"type":"integer"}}}]}`,
		`{"type":["null","string"]}`, `{"enum":["x"]}`, `{"const":{"a":1}}`,
	} {
		s := compiled(t, text)
		v, fits := s.Made()
		assert.True(t, fits, "%s: %v", text, v)
		assert.Empty(t, s.Check(v), "%s: %v", text, v)
	}
	for _, text := range []string{`{"type":"string","minLength":3,"maxLength":1}`, `{"not":{}}`, `{"type":"string","pattern":"(?=a)b"}`} {
		v, fits := compiled(t, text).Made()
		assert.False(t, fits, "%s: %v", text, v)
		assert.NotNil(t, v, "something is better than nothing")
	}
}
