package expr_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton/core/expr"
)

var state = map[string]any{"type": "object", "properties": map[string]any{
	"length_m": map[string]any{"type": "number"}, "nights": map[string]any{"type": "integer"}, "vessel": map[string]any{"type": "string"}}}

func scope(t *testing.T) *expr.Scope {
	t.Helper()
	s, err := expr.NewScope(map[string]map[string]any{"state": state, "now": expr.Moment, "list": {"type": "array", "items": map[string]any{"type": "string"}}, "any": expr.Any})
	require.NoError(t, err)
	return s
}

func vars(facts map[string]any) expr.Vars {
	return expr.Vars{"state": expr.Typed(state, any(facts)), "now": time.Date(2026, 5, 4, 9, 0, 0, 0, time.FixedZone("", 3600)), "list": []any{"a", "b"}, "any": map[string]any{"x": 1e6}}
}

func TestConditions(t *testing.T) {
	s := scope(t)
	for src, want := range map[string]bool{
		"state.?length_m.orValue(999.0) > 40.0":         true,
		"has(state.vessel) && state.vessel == 'Gannet'": false,
		"state.length_m > 40":                           true, // across number types
		"state.nights == 2":                             true,
		"size(list) == 2 && 'b' in list":                true,
		"now > timestamp('2026-05-04T07:00:00Z')":       true,
	} {
		e, bad := s.Cond(src)
		require.Nil(t, bad, src)
		got, err := e.True(vars(map[string]any{"length_m": 46.0, "nights": 2.0}))
		require.NoError(t, err, src)
		assert.Equal(t, want, got, src)
	}
}

func TestMistakesAreFoundBeforeAnythingRuns(t *testing.T) {
	s := scope(t)
	for src, say := range map[string]string{
		"state.lenght_m > 40.0":    `there is no field "lenght_m" here. Did you mean "length_m"?`,
		"stat.length_m > 40.0":     `"stat" is not known here. Did you mean "state"?`,
		"state.length_m + 1 > 2.0": "Write whole numbers with a point (2.0)",
		"state.length_m":           "a condition is true or false, but this is of type double",
		"state.length_m >":         "this is not an expression",
	} {
		_, bad := s.Cond(src)
		require.NotNil(t, bad, src)
		assert.Contains(t, bad.Say, say, src)
	}
	_, bad := s.Template("Reserve {{ state.vesel }}?")
	require.NotNil(t, bad)
	assert.Equal(t, 17, bad.Col, "the column is that of the dot before the field")
	_, bad = s.Template("half {{ open")
	require.NotNil(t, bad)
}

func TestUnguardedOptionalFields(t *testing.T) {
	s := scope(t)
	e, _ := s.Cond("state.length_m > 40.0")
	assert.Equal(t, []string{"state.length_m"}, e.Unguarded())
	e, _ = s.Cond("has(state.length_m) && state.length_m > 40.0")
	assert.Empty(t, e.Unguarded())
	e, _ = s.Cond("state.?length_m.orValue(0.0) > 40.0")
	assert.Empty(t, e.Unguarded())
}

func TestTemplatesShowValuesPlainly(t *testing.T) {
	s := scope(t)
	tm, bad := s.Template("{{ state.length_m }} m, {{ any.x }}, {{ list }}, {{ now }}")
	require.Nil(t, bad)
	got, err := tm.Fill(vars(map[string]any{"length_m": 46.0}))
	require.NoError(t, err)
	assert.Equal(t, `46 m, 1000000, ["a","b"], 2026-05-04T09:00:00+01:00`, got)
	got, err = tm.FillWith(vars(map[string]any{"length_m": 46.5}), func(s string) string { return "<" + s + ">" })
	require.NoError(t, err)
	assert.Contains(t, got, "<46.5> m")
}

func TestMappings(t *testing.T) {
	s := scope(t)
	m, _, bad := s.Mapping(map[string]any{"a": "=state.nights + 1", "b": []any{"x{{ state.nights }}", "==plain", 4.0}, "c": nil})
	require.Nil(t, bad)
	got, err := m.Fill(vars(map[string]any{"nights": 2.0}))
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"a": int64(3), "b": []any{"x2", "=plain", 4.0}, "c": nil}, got)
	m, _, bad = s.Mapping(map[string]any{"all": "=state", "lit": "quiet", "t": "a{{ state.vessel }}"})
	require.Nil(t, bad)
	got, err = m.FillWith(vars(map[string]any{"vessel": "petrel"}), strings.ToUpper)
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"all": map[string]any{"VESSEL": "PETREL"}, "lit": "quiet", "t": "aPETREL"}, got, "only what comes of expressions is changed")
	_, place, bad := s.Mapping(map[string]any{"deep": []any{"=nothing"}})
	require.NotNil(t, bad)
	assert.Equal(t, "/deep/0", place)
}

func TestCostIsLimited(t *testing.T) {
	s := scope(t)
	e, bad := s.Cond("list.all(a, list.all(b, list.all(c, a + b + c != '')))")
	require.Nil(t, bad)
	long := make([]any, 300)
	for i := range long {
		long[i] = "x"
	}
	v := vars(nil)
	v["list"] = long
	_, err := e.True(v)
	require.ErrorContains(t, err, "cost")
}
