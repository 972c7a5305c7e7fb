package schema_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/schema"
)

func of(t *testing.T, doc map[string]any) *schema.Schema {
	t.Helper()
	s, err := schema.Compile(doc)
	require.NoError(t, err)
	return s
}

func TestPatternsMayLookAround(t *testing.T) {
	s := of(t, map[string]any{"type": "string", "pattern": `^(?=.*[0-9])(?!.*x)[A-Z0-9]+$`})
	assert.Empty(t, s.Check("C4"))
	assert.NotEmpty(t, s.Check("CC"))
	assert.NotEmpty(t, s.Check("4x"))
	s = of(t, map[string]any{"type": "string", "pattern": `^(?=((a+)+$))b`})
	assert.NotEmpty(t, s.Check(strings.Repeat("a", 40)+"!"), "one that goes back and forth without end does not match")
	_, err := schema.Compile(map[string]any{"pattern": "(a"})
	assert.ErrorContains(t, err, "must be a regular expression, not (a")
}

func TestFormatsOfTheStandard(t *testing.T) {
	for format, c := range map[string]struct{ good, bad []string }{
		"idn-hostname":  {[]string{"실례.테스트", "kelmere.example", "faß.de"}, []string{"〮실례.테스트", "-a.example", "a..b", "a b", strings.Repeat("x", 64) + ".example"}},
		"idn-email":     {[]string{"실례@실례.테스트", "ann@kelmere.example"}, []string{"2962", "@kelmere.example", "a b@kelmere.example", "a@-b.example"}},
		"iri":           {[]string{"http://ƒøø.ßår/?∂éœ=πîx#πîüx", "http://[2001:db8::1]/"}, []string{"/abc", "\\\\WINDOWS\\filëßåré", "http://2001:0db8:85a3:0000:0000:8a2e:0370:7334"}},
		"iri-reference": {[]string{"/âππ", "#ƒrägmênt", "http://a/"}, []string{"\\\\WINDOWS\\filëßåré", "a b"}},
		"email":         {[]string{"ann@kelmere.example"}, []string{"ann"}},
	} {
		s := of(t, map[string]any{"format": format})
		assert.Empty(t, s.Check(7.0), "a format says nothing of numbers")
		for _, v := range c.good {
			assert.Empty(t, s.Check(v), "%s: %s", format, v)
		}
		for _, v := range c.bad {
			assert.NotEmpty(t, s.Check(v), "%s: %s", format, v)
		}
	}
}

func TestOlderDraftsAreObeyed(t *testing.T) {
	old := of(t, map[string]any{"$schema": "http://json-schema.org/draft-07/schema#", "items": []any{map[string]any{"type": "string"}}, "additionalItems": false})
	assert.Empty(t, old.Check([]any{"a"}))
	assert.NotEmpty(t, old.Check([]any{"a", "b"}), "a list of items was one for each place then")
	older := of(t, map[string]any{"$schema": "http://json-schema.org/draft-04/schema#", "maximum": 3.0, "exclusiveMaximum": true})
	assert.NotEmpty(t, older.Check(3.0))
}

func TestWhatFitsIsNeverMadeUnfit(t *testing.T) {
	s := of(t, map[string]any{"type": "object", "properties": map[string]any{"n": map[string]any{"type": "integer", "default": "many"}}})
	v, done, faults := s.Repair(map[string]any{})
	assert.Equal(t, map[string]any{}, v)
	assert.Empty(t, done)
	assert.Empty(t, faults)
}
