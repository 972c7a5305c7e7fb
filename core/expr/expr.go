package expr

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"stonebaton.example/core/value"
)

// Vars are the values of the names in scope: plain JSON values, and time.Time.
type Vars map[string]any

// Expr is a compiled expression.
type Expr struct {
	src   string
	prog  cel.Program
	typ   string   // what JSON Schema calls the type; "" is any
	loose []string // optional fields it reads without a guard
}

// Expr compiles an expression of any type.
func (s *Scope) Expr(src string) (*Expr, *Error) {
	a, e := s.compile(src)
	if e != nil {
		return nil, e
	}
	prog, err := s.env.Program(a, cel.CostLimit(costLimit), cel.EvalOptions(cel.OptOptimize))
	if err != nil {
		say, remedy := s.explain(src, err.Error())
		return nil, &Error{Col: 1, Say: say, Remedy: remedy}
	}
	return &Expr{src: src, prog: prog, typ: schemaType(a.OutputType()), loose: s.unguarded(a)}, nil
}

// Cond compiles a condition: an expression that is true or false.
func (s *Scope) Cond(src string) (*Expr, *Error) {
	a, e := s.compile(src)
	if e != nil {
		return nil, e
	}
	if t := a.OutputType(); !t.IsExactType(cel.BoolType) && !t.IsExactType(cel.DynType) {
		return nil, &Error{Col: 1, Say: fmt.Sprintf("a condition is true or false, but this is %s.", value.Article(typeName(t.String()))), Remedy: comparing("bool")}
	}
	return s.Expr(src)
}

// unguarded lists the optional fields that are read plainly, with neither
// has() nor .? on the same path anywhere in the expression.
func (s *Scope) unguarded(a *cel.Ast) []string {
	p, ok := s.env.CELTypeProvider().(*provider)
	if !ok {
		return nil
	}
	nav := ast.NavigateAST(a.NativeRep())
	var plain []string
	guarded := map[string]bool{}
	for _, e := range ast.MatchDescendants(nav, ast.KindMatcher(ast.SelectKind)) {
		sel := e.AsSelect()
		path := pathOf(e)
		if sel.IsTestOnly() {
			guarded[path] = true
			continue
		}
		t := a.NativeRep().GetType(sel.Operand().ID())
		if o, ok := p.objects[t.TypeName()]; ok && !o.required[sel.FieldName()] && path != "" {
			plain = append(plain, path)
		}
	}
	var out []string
	for _, f := range plain {
		if !guarded[f] {
			out = append(out, f)
		}
	}
	return unique(out)
}

func pathOf(e ast.Expr) string {
	switch e.Kind() {
	case ast.IdentKind:
		return e.AsIdent()
	case ast.SelectKind:
		if p := pathOf(e.AsSelect().Operand()); p != "" {
			return p + "." + e.AsSelect().FieldName()
		}
	}
	return ""
}

// Unguarded lists the optional fields the expression reads without has() or .?.
func (e *Expr) Unguarded() []string { return e.loose }

// String is the source.
func (e *Expr) String() string { return e.src }

// Eval gives the value as plain JSON: nil, bool, float64, int64, string, []any, map[string]any.
func (e *Expr) Eval(v Vars) (any, error) {
	out, _, err := e.prog.Eval(map[string]any(v))
	if err != nil {
		return nil, failed(e.src, err)
	}
	return native(out), nil
}

// True evaluates a condition.
func (e *Expr) True(v Vars) (bool, error) {
	out, err := e.Eval(v)
	if err != nil {
		return false, err
	}
	b, ok := out.(bool)
	if !ok {
		return false, &EvalError{e.src, fmt.Sprintf("a condition is true or false, but this gave %s", Show(out)), ""}
	}
	return b, nil
}

func native(v ref.Val) any {
	switch x := v.(type) {
	case types.String:
		return string(x)
	case types.Bool:
		return bool(x)
	case types.Int:
		return int64(x)
	case types.Uint:
		return int64(x)
	case types.Double:
		return float64(x)
	case types.Null:
		return nil
	case types.Timestamp:
		return x.Format(time.RFC3339)
	case types.Duration:
		return x.Duration.String()
	case *types.Optional:
		if !x.HasValue() {
			return nil
		}
		return native(x.GetValue())
	case traits.Mapper:
		out := map[string]any{}
		for it := x.Iterator(); it.HasNext() == types.True; {
			k := it.Next()
			out[fmt.Sprint(k.Value())] = native(x.Get(k))
		}
		return out
	case traits.Lister:
		out := []any{}
		for it := x.Iterator(); it.HasNext() == types.True; {
			out = append(out, native(it.Next()))
		}
		return out
	}
	return v.Value()
}

// Typed gives a JSON value in which the numbers that the schema calls integers
// are int64, as expressions expect them.
func Typed(doc map[string]any, v any) any {
	switch x := v.(type) {
	case map[string]any:
		props, _ := doc["properties"].(map[string]any)
		if len(props) == 0 {
			return x
		}
		out := make(map[string]any, len(x))
		for k, e := range x {
			sub, _ := props[k].(map[string]any)
			out[k] = Typed(sub, e)
		}
		return out
	case []any:
		items, _ := doc["items"].(map[string]any)
		if items == nil {
			return x
		}
		out := make([]any, len(x))
		for i, e := range x {
			out[i] = Typed(items, e)
		}
		return out
	case float64:
		if doc["type"] == "integer" && x == math.Trunc(x) && math.Abs(x) <= value.Exact {
			return int64(x)
		}
	case int:
		if doc["type"] == "number" {
			return float64(x)
		}
		return int64(x)
	case int64:
		if f, ok := value.Whole(x).(float64); ok && doc["type"] == "number" {
			return f
		}
	}
	return v
}

// Show gives a value as it stands in a text: strings as they are, numbers as
// JSON writes them, nothing for null, the rest as JSON.
func Show(v any) string {
	switch x := v.(type) {
	case nil:
		return ""
	case string:
		return x
	case bool:
		return strconv.FormatBool(x)
	case int64:
		return strconv.FormatInt(x, 10)
	case json.Number:
		return string(x)
	case float64:
		if x == math.Trunc(x) && math.Abs(x) < 1e15 {
			return strconv.FormatInt(int64(x), 10)
		}
		return strconv.FormatFloat(tidyNumber(x), 'f', -1, 64)
	case time.Time:
		return x.Format(time.RFC3339)
	}
	b, err := json.Marshal(tidy(v))
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b)
}

// Template is a text with expressions in it.
type Template struct {
	src   string
	parts []part
}

type part struct {
	text string
	expr *Expr
}

// Template compiles a text in which {{ expr }} stands for the value.
func (s *Scope) Template(src string) (*Template, *Error) {
	t := &Template{src: src}
	rest, off := src, 0
	for {
		i := strings.Index(rest, "{{")
		if i < 0 {
			break
		}
		j := strings.Index(rest[i:], "}}")
		if j < 0 {
			return nil, &Error{Col: off + i + 1, Say: "a {{ has no }} after it.", Remedy: "Write {{ expression }}."}
		}
		if i > 0 {
			t.parts = append(t.parts, part{text: rest[:i]})
		}
		inner := rest[i+2 : i+j]
		e, err := s.Expr(strings.TrimSpace(inner))
		if err != nil {
			err.Col += off + i + 2 + len(inner) - len(strings.TrimLeft(inner, " \t\n"))
			return nil, err
		}
		t.parts = append(t.parts, part{expr: e})
		off += i + j + 2
		rest = src[off:]
	}
	if rest != "" {
		t.parts = append(t.parts, part{text: rest})
	}
	return t, nil
}

// String is the source.
func (t *Template) String() string {
	if t == nil {
		return ""
	}
	return t.src
}

// Plain says whether the text has no expression in it.
func (t *Template) Plain() bool {
	for _, p := range t.parts {
		if p.expr != nil {
			return false
		}
	}
	return true
}

// Unguarded lists the optional fields the template reads without a guard.
func (t *Template) Unguarded() []string {
	var out []string
	for _, p := range t.parts {
		if p.expr != nil {
			out = append(out, p.expr.loose...)
		}
	}
	return unique(out)
}

// Fill gives the text with every value in its place.
func (t *Template) Fill(v Vars) (string, error) {
	return t.FillWith(v, func(s string) string { return s })
}

// FillWith does the same and passes each value through escape.
func (t *Template) FillWith(v Vars, escape func(string) string) (string, error) {
	if t == nil {
		return "", nil
	}
	if len(t.parts) == 1 && t.parts[0].expr == nil {
		return t.parts[0].text, nil
	}
	var b strings.Builder
	for _, p := range t.parts {
		if p.expr == nil {
			b.WriteString(p.text)
			continue
		}
		x, err := p.expr.Eval(v)
		if err != nil {
			return "", err
		}
		b.WriteString(escape(Show(x)))
	}
	return b.String(), nil
}

// Mapping is a value with expressions in it.
type Mapping struct {
	lit    any
	expr   *Expr
	tmpl   *Template
	object map[string]*Mapping
	list   []*Mapping
}

// Keys lists the keys of a mapping that is an object, in order; nil of any other.
func (m *Mapping) Keys() []string {
	if m == nil || m.object == nil {
		return nil
	}
	return slices.Sorted(maps.Keys(m.object))
}

// Mapping compiles a value. Errors are found at place, a path such as "/body/vessel".
func (s *Scope) Mapping(v any) (m *Mapping, place string, err *Error) {
	switch x := v.(type) {
	case string:
		switch {
		case strings.HasPrefix(x, "=="):
			return &Mapping{lit: x[1:]}, "", nil
		case strings.HasPrefix(x, "="):
			e, err := s.Expr(strings.TrimSpace(x[1:]))
			return &Mapping{expr: e}, "", err
		case strings.Contains(x, "{{"):
			t, err := s.Template(x)
			return &Mapping{tmpl: t}, "", err
		}
	case map[string]any:
		m := &Mapping{object: map[string]*Mapping{}}
		for _, k := range sorted(x) {
			sub, at, err := s.Mapping(x[k])
			if err != nil {
				return nil, "/" + k + at, err
			}
			m.object[k] = sub
		}
		return m, "", nil
	case []any:
		m := &Mapping{list: []*Mapping{}}
		for i, e := range x {
			sub, at, err := s.Mapping(e)
			if err != nil {
				return nil, "/" + strconv.Itoa(i) + at, err
			}
			m.list = append(m.list, sub)
		}
		return m, "", nil
	}
	return &Mapping{lit: v}, "", nil
}

// Fill gives the value with every expression in it evaluated.
func (m *Mapping) Fill(v Vars) (any, error) {
	return m.FillWith(v, func(s string) string { return s })
}

// FillWith does the same and passes each text that comes of an expression through
// escape.
func (m *Mapping) FillWith(v Vars, escape func(string) string) (any, error) {
	switch {
	case m == nil:
		return nil, nil
	case m.expr != nil:
		x, err := m.expr.Eval(v)
		return value.Texts(x, escape), err
	case m.tmpl != nil:
		return m.tmpl.FillWith(v, escape)
	case m.object != nil:
		out := make(map[string]any, len(m.object))
		for _, k := range sorted(m.object) {
			x, err := m.object[k].FillWith(v, escape)
			if err != nil {
				return nil, err
			}
			out[k] = x
		}
		return out, nil
	case m.list != nil:
		out := make([]any, 0, len(m.list))
		for _, e := range m.list {
			x, err := e.FillWith(v, escape)
			if err != nil {
				return nil, err
			}
			out = append(out, x)
		}
		return out, nil
	}
	return m.lit, nil
}

// Fits says whether what the mapping gives can be what a schema describes, as
// far as types tell; where it cannot, both types are named.
func (m *Mapping) Fits(doc map[string]any) (want, got string, ok bool) {
	want, _ = doc["type"].(string)
	switch {
	case want == "" || m == nil:
		return want, "", true
	case m.tmpl != nil:
		got = "string"
	case m.object != nil:
		got = "object"
	case m.list != nil:
		got = "array"
	case m.expr != nil:
		got = m.expr.typ
	default:
		got = jsonType(m.lit)
	}
	ok = got == "" || got == want || (got == "integer" && want == "number")
	return want, got, ok
}

func jsonType(v any) string {
	switch x := v.(type) {
	case string:
		return "string"
	case bool:
		return "boolean"
	case float64:
		if x == math.Trunc(x) {
			return "integer" // which is a number too
		}
		return "number"
	case int64, json.Number:
		return "integer"
	}
	return ""
}

// schemaType names what JSON Schema calls a type of CEL; "" where it may be any.
func schemaType(t *cel.Type) string {
	switch t.Kind() {
	case types.StringKind, types.TimestampKind, types.DurationKind:
		return "string"
	case types.BoolKind:
		return "boolean"
	case types.IntKind, types.UintKind:
		return "integer"
	case types.DoubleKind:
		return "number"
	case types.ListKind:
		return "array"
	case types.MapKind, types.StructKind:
		return "object"
	}
	return ""
}

// Unguarded lists the optional fields the mapping reads without a guard.
func (m *Mapping) Unguarded() []string {
	var out []string
	switch {
	case m == nil:
	case m.expr != nil:
		out = m.expr.loose
	case m.tmpl != nil:
		out = m.tmpl.Unguarded()
	}
	if m != nil {
		for _, sub := range m.object {
			out = append(out, sub.Unguarded()...)
		}
		for _, sub := range m.list {
			out = append(out, sub.Unguarded()...)
		}
	}
	return unique(out)
}

// Plain says whether the mapping has no expression in it, so that it always
// gives the same.
func (m *Mapping) Plain() bool {
	switch {
	case m == nil:
		return false
	case m.expr != nil || m.tmpl != nil:
		return false
	}
	for _, sub := range m.object {
		if !sub.Plain() {
			return false
		}
	}
	for _, sub := range m.list {
		if !sub.Plain() {
			return false
		}
	}
	return true
}
