package expr

import (
	"math"
	"slices"
	"strconv"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/ext"
	"github.com/ncruces/go-strftime"

	"stonebaton.example/core/value"
)

// Function is a function or macro that expressions have, for people to read.
type Function struct {
	Group string // what it is for
	Use   string // how it is written
	Does  string
}

// Functions lists every function, macro and operator of expressions, in the order in
// which people look for them.
func Functions() []Function { return slices.Clone(functions) }

var functions = []Function{
	{"operators", "a == b, a != b, a < b, a <= b, a > b, a >= b", "compare; whole numbers and others may be mixed"},
	{"operators", "a && b, a || b, !a", "and, or, not"},
	{"operators", "c ? a : b", "a where c is true, else b"},
	{"operators", "a + b, a - b, a * b, a / b, a % b", "arithmetic of two whole numbers or of two others; + also joins texts and lists"},
	{"operators", "x in list, k in record", "whether it is one of them"},
	{"fields", "a.b, a['b'], list[0]", "a field, an entry; entries count from 0"},
	{"fields", "has(a.b)", "whether the field is there"},
	{"fields", "a.?b.orValue(x)", "the field, or x where it is not there; x is of the field's type: 0.0 for a number, 0 for an integer, '' for a text"},
	{"fields", "a.?b.hasValue()", "the same as has(a.b)"},
	{"numbers", "round(x, n)", "x rounded to n places, halves away from zero"},
	{"numbers", "fixed(x, n)", "the text of x with exactly n places: fixed(57.7, 2) is '57.70'"},
	{"numbers", "math.abs(x), math.ceil(x), math.floor(x), math.round(x), math.trunc(x), math.sign(x), math.sqrt(x)", "as their names say"},
	{"numbers", "math.least(a, b, …), math.greatest(a, b, …)", "the least and the greatest, also of a list"},
	{"numbers", "int(x), double(x), string(x), bool(x), uint(x)", "convert; double('4.2') reads a text"},
	{"texts", "size(s), s.contains(t), s.startsWith(t), s.endsWith(t), s.matches(re)", "length in letters; search; re is RE2"},
	{"texts", "s.lowerAscii(), s.upperAscii(), s.trim(), s.reverse()", "the text, changed"},
	{"texts", "s.replace(a, b), s.split(t), list.join(t), s.substring(from, to), s.charAt(i), s.indexOf(t), s.lastIndexOf(t)", "parts of texts; places count from 0"},
	{"texts", "'%s: %d, %.2f'.format([a, b, c])", "a text with values in it: %s anything, %d a whole number, %.2f two places"},
	{"texts", "strings.quote(s)", "the text in quotes"},
	{"dates", "now, today", "the moment, and the day as a text, in the project's time zone"},
	{"dates", "date(t, format)", "a moment, or the text of a day or moment, as strftime writes it: date(now, '%a %e %B, %H:%M') is 'Mon  4 May, 09:00'"},
	{"dates", "timestamp('2026-05-04T09:00:00Z'), duration('90m')", "read a moment; a span of time"},
	{"dates", "t + duration('24h'), t2 - t1, t1 < t2", "reckon with moments"},
	{"dates", "t.getFullYear(), t.getMonth(), t.getDate(), t.getDayOfWeek(), t.getHours(), t.getMinutes(), t.getSeconds()", "parts of a moment, in UTC, or in a zone that is given: t.getHours('Europe/Dublin'); months and days of the week count from 0"},
	{"lists", "size(list), list.all(x, cond), list.exists(x, cond), list.exists_one(x, cond)", "how many; whether all, some or one fit"},
	{"lists", "list.filter(x, cond), list.map(x, expr)", "those that fit; something made of each"},
	{"values", "type(x), dyn(x)", "the type; the value with its type left open"},
	{"values", "null, true, false, 'text', 12, 12.5, [a, b], {'k': v}", "written out"},
}

// library are the functions beyond those that the language itself has.
func library() []cel.EnvOption {
	number := func(name string, does func(x float64, n int64) ref.Val, result *cel.Type) cel.EnvOption {
		bind := func(v, places ref.Val) ref.Val {
			n, ok := places.(types.Int)
			if !ok || n < 0 || n > 15 {
				return types.NewErr("%s takes 0 to 15 places", name)
			}
			switch x := v.(type) {
			case types.Double:
				return does(float64(x), int64(n))
			case types.Int:
				return does(float64(x), int64(n))
			}
			return types.NewErr("%s takes a number", name)
		}
		return cel.Function(name,
			cel.Overload(name+"_double", []*cel.Type{cel.DoubleType, cel.IntType}, result, cel.BinaryBinding(bind)),
			cel.Overload(name+"_int", []*cel.Type{cel.IntType, cel.IntType}, result, cel.BinaryBinding(bind)))
	}
	return []cel.EnvOption{
		ext.Strings(ext.StringsVersion(3)), ext.Math(ext.MathVersion(2)),
		number("round", func(x float64, n int64) ref.Val { return types.Double(rounded(x, n)) }, cel.DoubleType),
		number("fixed", func(x float64, n int64) ref.Val {
			return types.String(strconv.FormatFloat(rounded(x, n), 'f', int(n), 64))
		}, cel.StringType),
		cel.Function("date",
			cel.Overload("date_timestamp", []*cel.Type{cel.TimestampType, cel.StringType}, cel.StringType, cel.BinaryBinding(dated)),
			cel.Overload("date_string", []*cel.Type{cel.StringType, cel.StringType}, cel.StringType, cel.BinaryBinding(dated))),
	}
}

// rounded rounds a number as it is written in decimals, halves away from zero.
func rounded(x float64, n int64) float64 {
	scale := math.Pow(10, float64(n))
	y := tidyNumber(x*scale) / scale
	if r := math.Round(tidyNumber(x * scale)); !math.IsInf(r, 0) {
		y = r / scale
	}
	return y
}

func dated(v, format ref.Val) ref.Val {
	layout, _ := format.(types.String)
	var at time.Time
	switch x := v.(type) {
	case types.Timestamp:
		at = x.Time
	case types.String:
		var err error
		if at, err = time.Parse(time.RFC3339, string(x)); err != nil {
			if at, err = time.Parse(time.DateOnly, string(x)); err != nil {
				return types.NewErr("%q is not a day such as 2026-05-08, nor a moment such as 2026-05-08T12:00:00+01:00", string(x))
			}
		}
	}
	return types.String(strftime.Format(string(layout), at))
}

// tidyNumber takes away what a float64 has beyond the fifteen digits that it holds for
// certain, such as the end of 110.00000000000001.
func tidyNumber(x float64) float64 {
	if x == 0 || math.IsNaN(x) || math.IsInf(x, 0) {
		return x
	}
	y, _ := strconv.ParseFloat(strconv.FormatFloat(x, 'g', 15, 64), 64) // it was just written
	return y
}

// tidy does so for every number of a value.
func tidy(v any) any {
	return value.Each(v, func(v any) any {
		if x, ok := v.(float64); ok {
			return tidyNumber(x)
		}
		return v
	})
}
