package builtin

import (
	"encoding/json"
	"fmt"
	"go/ast"
	"go/constant"
	"go/parser"
	"go/token"
	"math/big"
	"strings"
	"time"

	"stonebaton.example/core/deed"
)

// calc works an expression out with exact fractions; what has no end in decimals
// is rounded at the last moment, and that is said.
func (c call) calc() (deed.Result, *deed.Failure) {
	rows, _ := c.args["rows"].([]any)
	v, err := reckon(c.text("expression"), rows)
	if err != nil {
		return c.refuse("%v", err)
	}
	text, exact := shown(v)
	return deed.Result{Value: map[string]any{"value": text, "exact": exact}}, nil
}

// Bounds of one reckoning.
const (
	maxNesting = 1000
	maxBits    = 1 << 14 // of a fraction
	digits     = 30      // after the point, of what has no end
)

// reckon gives a *big.Rat or a text.
func reckon(src string, rows []any) (any, error) {
	e, err := parser.ParseExpr(src)
	if err != nil {
		return nil, fmt.Errorf("%q is not an expression such as round(12.4 * 2, 2)", clip(src, 100))
	}
	return eval(e, rows, 0)
}

func shown(v any) (text string, exact bool) {
	r, ok := v.(*big.Rat)
	if !ok {
		return fmt.Sprint(v), true
	}
	n, exact := r.FloatPrec()
	if !exact || n > digits {
		n, exact = digits, false
	}
	text = r.FloatString(n)
	if strings.Contains(text, ".") {
		text = strings.TrimRight(strings.TrimRight(text, "0"), ".")
	}
	return text, exact
}

func eval(e ast.Expr, rows []any, depth int) (any, error) {
	if depth > maxNesting {
		return nil, fmt.Errorf("the expression is nested deeper than %d", maxNesting)
	}
	switch x := e.(type) {
	case *ast.ParenExpr:
		return eval(x.X, rows, depth+1)
	case *ast.BasicLit:
		switch x.Kind {
		case token.INT, token.FLOAT:
			r, ok := new(big.Rat).SetString(strings.ReplaceAll(x.Value, "_", ""))
			if !ok || len(x.Value) > 100 || strings.ContainsAny(x.Value, "xXoObBpP") || hugeExponent(x.Value) {
				return nil, fmt.Errorf("%s is not a decimal number", clip(x.Value, 40))
			}
			return r, nil
		case token.STRING:
			return constant.StringVal(constant.MakeFromLiteral(x.Value, x.Kind, 0)), nil
		}
	case *ast.UnaryExpr:
		v, err := number(x.X, rows, depth)
		if err != nil {
			return nil, err
		}
		switch x.Op {
		case token.SUB:
			return new(big.Rat).Neg(v), nil
		case token.ADD:
			return v, nil
		}
	case *ast.BinaryExpr:
		a, err := number(x.X, rows, depth)
		if err != nil {
			return nil, err
		}
		b, err := number(x.Y, rows, depth)
		if err != nil {
			return nil, err
		}
		return binary(x.Op, a, b)
	case *ast.CallExpr:
		if name, ok := x.Fun.(*ast.Ident); ok {
			return apply(name.Name, x.Args, rows, depth)
		}
	case *ast.Ident:
		return nil, fmt.Errorf("%s has no value here; write the number", x.Name)
	}
	return nil, fmt.Errorf("only numbers, + - * / %% ( ) and the functions that the tool names can be used")
}

func hugeExponent(s string) bool {
	i := strings.IndexAny(s, "eE")
	return i >= 0 && len(strings.TrimLeft(s[i+1:], "+-0")) > 3
}

func number(e ast.Expr, rows []any, depth int) (*big.Rat, error) {
	v, err := eval(e, rows, depth+1)
	if err != nil {
		return nil, err
	}
	r, ok := v.(*big.Rat)
	if !ok {
		return nil, fmt.Errorf("%q is not a number", v)
	}
	if r.Num().BitLen() > maxBits || r.Denom().BitLen() > maxBits {
		return nil, fmt.Errorf("the number grows too large")
	}
	return r, nil
}

func binary(op token.Token, a, b *big.Rat) (any, error) {
	out := new(big.Rat)
	switch op {
	case token.ADD:
		return out.Add(a, b), nil
	case token.SUB:
		return out.Sub(a, b), nil
	case token.MUL:
		return out.Mul(a, b), nil
	case token.QUO, token.REM:
		if b.Sign() == 0 {
			return nil, fmt.Errorf("division by zero")
		}
		q := new(big.Rat).Quo(a, b)
		if op == token.QUO {
			return q, nil
		}
		whole := new(big.Rat).SetInt(floor(q))
		return out.Sub(a, whole.Mul(whole, b)), nil
	}
	return nil, fmt.Errorf("%s cannot be used here", op)
}

func floor(r *big.Rat) *big.Int {
	q, m := new(big.Int).DivMod(r.Num(), r.Denom(), new(big.Int))
	_ = m
	return q
}

// functions give the least and most arguments of each.
var functions = map[string][2]int{"round": {1, 2}, "floor": {1, 1}, "ceil": {1, 1}, "abs": {1, 1}, "min": {1, 100}, "max": {1, 100},
	"days": {2, 2}, "add_days": {2, 2}, "weekday": {1, 1}, "count": {0, 0}, "sum": {1, 1}, "mean": {1, 1}, "least": {1, 1}, "most": {1, 1}}

func apply(name string, args []ast.Expr, rows []any, depth int) (any, error) {
	n, ok := functions[name]
	if !ok {
		return nil, fmt.Errorf("there is no function %s", name)
	}
	if len(args) < n[0] || len(args) > n[1] {
		return nil, fmt.Errorf("%s takes %d to %d values, not %d", name, n[0], n[1], len(args))
	}
	var texts []string
	var nums []*big.Rat
	for _, a := range args {
		v, err := eval(a, rows, depth+1)
		if err != nil {
			return nil, err
		}
		switch x := v.(type) {
		case string:
			texts = append(texts, x)
		case *big.Rat:
			nums = append(nums, x)
		}
	}
	switch name {
	case "days", "weekday", "add_days":
		return dates(name, texts, nums)
	case "count":
		return new(big.Rat).SetInt64(int64(len(rows))), nil
	case "sum", "mean", "least", "most":
		if len(texts) != 1 {
			return nil, fmt.Errorf(`%s takes the name of a column, such as %s("total")`, name, name)
		}
		return over(name, texts[0], rows)
	}
	if len(nums) != len(args) {
		return nil, fmt.Errorf("%s takes numbers", name)
	}
	switch name {
	case "round":
		places := int64(0)
		if len(nums) == 2 {
			if !nums[1].IsInt() || nums[1].Num().Int64() < 0 || nums[1].Num().Int64() > digits {
				return nil, fmt.Errorf("round takes 0 to %d places", digits)
			}
			places = nums[1].Num().Int64()
		}
		r, _ := new(big.Rat).SetString(nums[0].FloatString(int(places))) // halves away from zero; what was just written can be read
		return r, nil
	case "floor":
		return new(big.Rat).SetInt(floor(nums[0])), nil
	case "ceil":
		return new(big.Rat).Neg(new(big.Rat).SetInt(floor(new(big.Rat).Neg(nums[0])))), nil
	case "abs":
		return new(big.Rat).Abs(nums[0]), nil
	}
	best := nums[0]
	for _, x := range nums[1:] {
		if (name == "min") == (x.Cmp(best) < 0) {
			best = x
		}
	}
	return best, nil
}

func dates(name string, texts []string, nums []*big.Rat) (any, error) {
	var at []time.Time
	for _, s := range texts {
		t, err := time.Parse("2006-01-02", s[:min(10, len(s))])
		if err != nil {
			return nil, fmt.Errorf("%q is not a date such as 2026-05-06", clip(s, 40))
		}
		at = append(at, t)
	}
	switch {
	case name == "days" && len(at) == 2:
		return new(big.Rat).SetInt64(int64(at[1].Sub(at[0]).Hours() / 24)), nil
	case name == "weekday" && len(at) == 1:
		return at[0].Weekday().String(), nil
	case name == "add_days" && len(at) == 1 && len(nums) == 1 && nums[0].IsInt() && nums[0].Num().IsInt64():
		n := nums[0].Num().Int64()
		if n > 1e6 || n < -1e6 {
			return nil, fmt.Errorf("that is more than a million days")
		}
		return at[0].AddDate(0, 0, int(n)).Format("2006-01-02"), nil
	}
	return nil, fmt.Errorf(`write days("2026-05-06", "2026-05-08"), add_days("2026-05-06", 3) or weekday("2026-05-06")`)
}

// over reckons over a column of the rows.
func over(name, column string, rows []any) (any, error) {
	var nums []*big.Rat
	for i, row := range rows {
		m, ok := row.(map[string]any)
		if !ok {
			return nil, fmt.Errorf("row %d is not a record with columns", i+1)
		}
		raw, err := json.Marshal(m[column])
		if err != nil {
			return nil, err
		}
		r, ok := new(big.Rat).SetString(strings.Trim(string(raw), `"`))
		if !ok {
			return nil, fmt.Errorf("row %d has no number in %q, but %s", i+1, column, clip(string(raw), 40))
		}
		nums = append(nums, r)
	}
	if len(nums) == 0 {
		if name == "sum" {
			return new(big.Rat), nil
		}
		return nil, fmt.Errorf("there are no rows; give them in rows, or the handle of a result")
	}
	best, sum := nums[0], new(big.Rat)
	for _, x := range nums {
		sum.Add(sum, x)
		if (name == "least" && x.Cmp(best) < 0) || (name == "most" && x.Cmp(best) > 0) {
			best = x
		}
	}
	switch name {
	case "sum":
		return sum, nil
	case "mean":
		return sum.Quo(sum, new(big.Rat).SetInt64(int64(len(nums)))), nil
	}
	return best, nil
}
