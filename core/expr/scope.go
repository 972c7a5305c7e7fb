package expr

import (
	"fmt"
	"regexp"
	"sort"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"

	"stonebaton/core/near"
)

// costLimit bounds one evaluation, in the units of CEL's cost model.
const costLimit = 200_000

// Scope is a set of typed names that expressions may use.
type Scope struct {
	env  *cel.Env
	docs map[string]map[string]any // schema of each name that has one
}

// Any is the schema document of a value of unknown shape.
var Any = map[string]any{}

// Text, Number and Moment are schema documents of plain values.
var (
	Text   = map[string]any{"type": "string"}
	Number = map[string]any{"type": "number"}
	Whole  = map[string]any{"type": "integer"}
	Moment = map[string]any{"x-moment": true}
)

// Object describes a record whose fields are all there.
func Object(fields map[string]any) map[string]any {
	names := make([]any, 0, len(fields))
	for k := range fields {
		names = append(names, k)
	}
	return map[string]any{"type": "object", "properties": fields, "required": names}
}

var base = sync.OnceValues(func() (*cel.Env, error) {
	return cel.NewEnv(cel.OptionalTypes(), cel.CrossTypeNumericComparisons(true), cel.DefaultUTCTimeZone(true))
})

// NewScope gives a scope with the names, each typed by a JSON Schema document.
func NewScope(names map[string]map[string]any) (*Scope, error) {
	b, err := base()
	if err != nil {
		return nil, err
	}
	p := &provider{Provider: b.CELTypeProvider(), objects: map[string]object{}}
	opts := []cel.EnvOption{}
	for _, n := range sorted(names) {
		opts = append(opts, cel.Variable(n, p.typeOf(n, names[n])))
	}
	opts = append(opts, cel.CustomTypeProvider(p))
	env, err := b.Extend(opts...)
	if err != nil {
		return nil, err
	}
	return &Scope{env: env, docs: names}, nil
}

func sorted[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

type object struct {
	fields   map[string]*types.Type
	required map[string]bool
}

// provider answers the type checker's questions about records that are plain maps.
type provider struct {
	types.Provider
	objects map[string]object
}

func (p *provider) typeOf(path string, doc map[string]any) *types.Type {
	if doc["x-moment"] == true {
		return cel.TimestampType
	}
	if t, ok := doc["type"].(string); ok {
		switch t {
		case "string":
			return cel.StringType
		case "boolean":
			return cel.BoolType
		case "integer":
			return cel.IntType
		case "number":
			return cel.DoubleType
		case "array":
			items, _ := doc["items"].(map[string]any)
			return cel.ListType(p.typeOf(path+".items", items))
		case "object":
			props, _ := doc["properties"].(map[string]any)
			if len(props) == 0 {
				return cel.MapType(cel.StringType, cel.DynType)
			}
			name := "of." + path
			o := object{fields: map[string]*types.Type{}, required: map[string]bool{}}
			for _, k := range sorted(props) {
				sub, _ := props[k].(map[string]any)
				o.fields[k] = p.typeOf(path+"."+k, sub)
			}
			req, _ := doc["required"].([]any)
			for _, r := range req {
				if s, ok := r.(string); ok {
					o.required[s] = true
				}
			}
			p.objects[name] = o
			return cel.ObjectType(name)
		}
	}
	return cel.DynType
}

func (p *provider) FindStructType(name string) (*types.Type, bool) {
	if _, ok := p.objects[name]; ok {
		return types.NewTypeTypeWithParam(types.NewObjectType(name)), true
	}
	return p.Provider.FindStructType(name)
}

func (p *provider) FindStructFieldNames(name string) ([]string, bool) {
	if o, ok := p.objects[name]; ok {
		return sorted(o.fields), true
	}
	return p.Provider.FindStructFieldNames(name)
}

func (p *provider) FindStructFieldType(name, field string) (*types.FieldType, bool) {
	if o, ok := p.objects[name]; ok {
		t, ok := o.fields[field]
		if !ok {
			return nil, false
		}
		return &types.FieldType{Type: t}, true
	}
	return p.Provider.FindStructFieldType(name, field)
}

// Error is an expression that does not compile. Col counts from 1 within the source.
type Error struct {
	Col int
	Say string
}

func (e *Error) Error() string { return e.Say }

var (
	undefinedField = regexp.MustCompile(`undefined field '([^']+)'`)
	undeclared     = regexp.MustCompile(`undeclared reference to '([^']+)'`)
	noOverload     = regexp.MustCompile(`found no matching overload for '([^']+)' applied to '\(([^)]*)\)'`)
)

func (s *Scope) compile(src string) (*cel.Ast, *Error) {
	ast, iss := s.env.Compile(src)
	if iss == nil || iss.Err() == nil {
		return ast, nil
	}
	e := iss.Errors()[0]
	col := e.Location.Column() + 1
	say := e.Message
	if m := undefinedField.FindStringSubmatch(say); m != nil {
		var names []string
		if p, ok := s.env.CELTypeProvider().(*provider); ok {
			for _, o := range p.objects {
				names = append(names, sorted(o.fields)...)
			}
		}
		say = fmt.Sprintf("there is no field %q here.%s", m[1], near.Hint(m[1], unique(names)))
	} else if m := undeclared.FindStringSubmatch(say); m != nil {
		names := sorted(s.docs)
		say = fmt.Sprintf("%q is not known here.%s In scope: %s.", m[1], near.Hint(m[1], names), strings.Join(names, ", "))
	} else if m := noOverload.FindStringSubmatch(say); m != nil {
		op := strings.Trim(m[1], "_@")
		say = fmt.Sprintf("%q does not work on %s.", op, strings.ReplaceAll(m[2], ", ", " and "))
		if strings.Contains(m[2], "double") && strings.Contains(m[2], "int") {
			say += " Write whole numbers with a point (2.0) beside a number, or convert with double()."
		}
	} else if strings.HasPrefix(say, "Syntax error:") {
		say = "this is not an expression: " + strings.TrimSpace(strings.TrimPrefix(say, "Syntax error:"))
	}
	return nil, &Error{Col: col, Say: say}
}

func unique(in []string) []string {
	seen := map[string]bool{}
	var out []string
	for _, s := range in {
		if !seen[s] {
			seen[s] = true
			out = append(out, s)
		}
	}
	sort.Strings(out)
	return out
}
