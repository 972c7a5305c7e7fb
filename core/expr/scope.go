package expr

import (
	"encoding/json"
	"regexp"
	"sort"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
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
	return cel.NewEnv(append(library(), cel.OptionalTypes(), cel.CrossTypeNumericComparisons(true), cel.DefaultUTCTimeZone(true))...)
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
	opts = append(opts, cel.CustomTypeProvider(p), cel.CustomTypeAdapter(adapter{b.CELTypeAdapter()}))
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

// adapter keeps whole numbers that no type of CEL holds as the text of their digits.
type adapter struct{ types.Adapter }

// NativeToValue gives a value of Go as CEL has it.
func (a adapter) NativeToValue(v any) ref.Val {
	switch x := v.(type) {
	case json.Number:
		return types.String(x)
	case map[string]any:
		return types.NewStringInterfaceMap(a, x)
	case []any:
		return types.NewDynamicList(a, x)
	}
	return a.Adapter.NativeToValue(v)
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

// results are names whose values nobody fills in by the defaults of their schemas.
var results = map[string]bool{"result": true, "response": true, "error": true}

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
				if root, _, _ := strings.Cut(path, "."); !results[root] {
					_, o.required[k] = sub["default"]
				}
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

var (
	loneBrace  = regexp.MustCompile(`(?:^|[^{])(\{\s*([a-z_][A-Za-z0-9_]*)((?:\.\??[A-Za-z_][A-Za-z0-9_]*)*)\s*\})(?:[^}]|$)`)
	fieldAlone = regexp.MustCompile(`^\s*([a-z_][A-Za-z0-9_]*)((?:\.\??[A-Za-z_][A-Za-z0-9_]*)+)\s*$`)
)

// Suspect finds in a text that is taken as it is what was probably meant as an
// expression: "{ result.x }", or with whole set also "args.x" alone. It gives the piece
// and how to write it; "" where there is none.
func (s *Scope) Suspect(text string, whole bool) (piece, instead string) {
	for _, m := range loneBrace.FindAllStringSubmatch(text, -1) {
		if inner := m[2] + m[3]; s.means(m[2], m[3]) {
			return m[1], "{{ " + inner + " }}"
		}
	}
	if m := fieldAlone.FindStringSubmatch(text); whole && m != nil && s.docs[m[1]] != nil && s.means(m[1], m[2]) {
		return strings.TrimSpace(text), "=" + strings.TrimSpace(text)
	}
	return "", ""
}

// means says whether a name and its fields are something in scope, or an argument.
func (s *Scope) means(name, fields string) bool {
	if _, known := s.docs[name]; known {
		_, bad := s.compile(name + fields)
		return bad == nil
	}
	for _, of := range []string{"args", "result"} {
		if props, ok := s.docs[of]["properties"].(map[string]any); ok && props[name] != nil {
			return true
		}
	}
	return false
}
