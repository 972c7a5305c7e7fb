package expr_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/expr"
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
		"state.length_m":           "a condition is true or false, but this is a number",
		"state.length_m >":         "this is not an expression",
	} {
		_, bad := s.Cond(src)
		require.NotNil(t, bad, src)
		assert.Contains(t, bad.Error(), say, src)
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
	assert.Equal(t, map[string]any{"all": map[string]any{"VESSEL": "PETREL"}, "lit": "quiet", "t": "aPETREL"}, got, "only the result of expressions is changed")
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

// What people write who come from other languages, and what they are told.
func TestEveryClassOfMistakeHasItsRemedy(t *testing.T) {
	s := scope(t)
	for src, say := range map[string]string{
		"state.?length_m.orValue(0) > 1.0": "Write .orValue(0.0), of the field's own type.",
		"state.vessel === 'x'":             "Write == for",
		"state.vessel = 'x'":               "Write == for",
		"state.vessel !== 'x'":             "Write != for",
		"list.includes('a')":               "For a list write x in list",
		"list.length > 2":                  "Write size(x).",
		"state.vessel.toLowerCase()":       "Write s.lowerAscii().",
		"state.vessel.lowerAscii":          "It is a function: write s.lowerAscii().",
		"len(state.vessel)":                "Write size(x).",
		"state.vessel.lowerAsci()":         `there is no function "lowerAsci". Did you mean "lowerAscii"`,
		"state.vessel.frob()":              "`stonebaton schema expressions` lists",
		"state.vessel + 1":                 "Convert with string(x).",
		"a b":                              `"b" does not belong here`,
		"state.vessel and true":            "Write && for",
		"not state.nights":                 "Write ! for",
		"(state.nights":                    "a ) is missing",
		"1 +":                              "it ends too early",
		"'abc":                             "a quote is not closed",
		"state.nights && true":             "a truth value is needed here, not an integer",
		"state.vessel ?? 'x'":              ".orValue(x)",
		"True":                             "true and false in small letters",
		"if x then y":                      "condition ? a : b",
		"state.nights ? 1 : 2":             "must be true or false",
		"'a' in state.vessel":              "s.contains(t)",
		"state.?nights + 1":                "Add .orValue(x)",
		"now > '2026'":                     "timestamp('2026-05-04T09:00:00Z')",
		"":                                 "the expression is empty",
		"int('x')":                         "this text is not an integer",
		"list.filter(x => x)":              "list.filter(x, x > 1)",
	} {
		_, bad := s.Expr(src)
		require.NotNil(t, bad, src)
		assert.Contains(t, bad.Error(), say, src)
		for _, raw := range []string{"overload", "token recognition", "mismatched", "extraneous", "Syntax error", "undeclared", "expecting {"} {
			assert.NotContains(t, bad.Error(), raw, "%s: no library's words", src)
		}
	}
}

func TestWhatFailsToEvaluateSaysWhatToDo(t *testing.T) {
	s := scope(t)
	for src, say := range map[string]string{
		"any.y":                  `there is no "y". Write .?y.orValue(…)`,
		"list[9]":                "the list has no entry 9",
		"1 / size(any.l)":        "it divides by zero",
		"any.s + 1":              "does not take",
		"timestamp(any.s) > now": "is not a moment",
		"date(any.s, '%a')":      "is not a day such as",
		"round(1.0, 99)":         "0 to 15 places",
	} {
		e, bad := s.Expr(src)
		require.Nil(t, bad, src)
		v := vars(nil)
		v["any"] = map[string]any{"s": "a", "l": []any{}}
		_, err := e.Eval(v)
		require.ErrorContains(t, err, say, src)
		assert.NotContains(t, err.Error(), "no such", src)
		assert.True(t, expr.IsEvalError(err))
	}
}

func TestRoundingFormatsAndDates(t *testing.T) {
	s := scope(t)
	for src, want := range map[string]string{
		"{{ round(1.005, 2) }}":                      "1.01",
		"{{ fixed(57.7, 2) }}":                       "57.70",
		"{{ fixed(2, 1) }}":                          "2.0",
		"{{ 100.0 * 1.1 }}":                          "110",
		"{{ [0.1 + 0.2] }}":                          "[0.3]",
		"{{ date(now, '%a %e %B %Y, %H:%M') }}":      "Mon  4 May 2026, 09:00",
		"{{ date('2026-05-08', '%d.%m.') }}":         "08.05.",
		"{{ '%s: %d, %.2f'.format(['a', 2, 1.5]) }}": "a: 2, 1.50",
		"{{ 'ABC'.lowerAscii() }}":                   "abc",
		"{{ math.greatest(1.5, 2.5) }}":              "2.5",
	} {
		tm, bad := s.Template(src)
		require.Nil(t, bad, "%s: %v", src, bad)
		got, err := tm.Fill(vars(nil))
		require.NoError(t, err, src)
		assert.Equal(t, want, got, src)
	}
	assert.NotEmpty(t, expr.Functions())
}
