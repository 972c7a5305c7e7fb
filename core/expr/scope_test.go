package expr_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/expr"
)

// TestNumbersThatNothingHolds: their digits stay, as a text.
func TestNumbersThatNothingHolds(t *testing.T) {
	s, err := expr.NewScope(map[string]map[string]any{"args": {"type": "object", "properties": map[string]any{"n": map[string]any{"type": "integer"}, "list": map[string]any{"type": "array"}}}})
	require.NoError(t, err)
	n := json.Number("99999999999999999999")
	v := expr.Vars{"args": map[string]any{"n": n, "list": []any{n}}}
	text, bad := s.Template("it is {{ args.n }}, {{ args.list[0] }}")
	require.Nil(t, bad)
	out, err := text.Fill(v)
	require.NoError(t, err)
	assert.Equal(t, "it is 99999999999999999999, 99999999999999999999", out)
	m, _, bad := s.Mapping(map[string]any{"all": "=args"})
	require.Nil(t, bad)
	filled, err := m.Fill(v)
	require.NoError(t, err)
	raw, err := json.Marshal(filled)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "e+", "%s", raw)
	assert.NotContains(t, string(raw), "100000", "%s", raw)
}
