package schema

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"reflect"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"stonebaton.example/core/value"
)

// Library compiles schemas whose definitions are the same, each of these once. The
// definitions of a document stand under $defs, and refer to each other as "#/$defs/NAME" and
// to nothing else. Calls may not run side by side; the schemas that it gives may be used so.
type Library struct {
	defs map[string]any // as they were given
	own  map[string]any // as Read would give them
	docs int
	comp *jsonschema.Compiler
	told map[*jsonschema.Schema]bool // whose conflicts were given
}

// NewLibrary makes an empty library.
func NewLibrary() *Library {
	l := &Library{defs: map[string]any{}, own: map[string]any{}, told: map[*jsonschema.Schema]bool{}}
	l.comp = newCompiler(l)
	return l
}

// parts begins the URLs of definitions.
const parts = "schema:///parts/"

// Load gives a definition to the compiler.
func (l *Library) Load(at string) (any, error) {
	name, ok := strings.CutPrefix(at, parts)
	if name, err := url.PathUnescape(name); ok && err == nil && l.defs[name] != nil {
		return asRead(outward(l.defs[name]))
	}
	return nowhere{}.Load(at)
}

// Compile is the package's Compile, and gives the same. A document with a definition that is
// another one than that of this name in an earlier document is compiled alone.
func (l *Library) Compile(doc map[string]any) (*Schema, error) {
	defs, _ := doc["$defs"].(map[string]any)
	for name, def := range defs {
		if was, ok := l.defs[name]; def == nil || ok && !reflect.DeepEqual(was, def) { // quick, where it is the same map
			return Compile(doc)
		}
	}
	maps.Copy(l.defs, defs)
	body := maps.Clone(doc)
	delete(body, "$defs")
	plainBody, err := normal(body)
	if err != nil {
		return nil, err
	}
	own, _ := plainBody.(map[string]any)
	v, err := asRead(outward(body))
	if err != nil {
		return nil, err
	}
	l.docs++
	at := fmt.Sprintf("schema:///documents/%d", l.docs)
	if err := l.comp.AddResource(at, v); err != nil {
		return nil, plain(err, v)
	}
	comp, err := l.comp.Compile(at)
	if err != nil {
		return nil, plain(err, v)
	}
	if len(defs) == 0 {
		return &Schema{doc: own, comp: comp}, nil
	}
	read := make(map[string]any, len(defs))
	for name, def := range defs {
		if _, ok := l.own[name]; !ok {
			if l.own[name], err = normal(def); err != nil {
				return nil, err
			}
		}
		read[name] = l.own[name]
	}
	own["$defs"] = read
	return &Schema{doc: own, comp: comp}, nil
}

// inDocument gives the place of something of a definition in a document that it belongs to.
func inDocument(at string) (string, bool) {
	name, ok := strings.CutPrefix(at, parts)
	if !ok {
		return "", false
	}
	name, inside, _ := strings.Cut(name, "#")
	if plain, err := url.PathUnescape(name); err == nil {
		name = plain
	}
	return "/$defs/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(name) + inside, true
}

// Conflicts is that of a schema, without those of definitions that were given before.
func (l *Library) Conflicts(s *Schema) []Conflict { return s.conflicts(l.told) }

// normal gives a document as Read would.
func normal(doc any) (any, error) {
	raw, err := json.Marshal(doc)
	if err != nil {
		return nil, err
	}
	return value.Read(raw)
}

// asRead gives a document as the compiler wants it.
func asRead(doc any) (any, error) {
	raw, err := json.Marshal(doc)
	if err != nil {
		return nil, err
	}
	return jsonschema.UnmarshalJSON(bytes.NewReader(raw))
}

// outward gives a schema in which what referred to a definition of its document refers to
// the library's.
func outward(v any) any {
	switch x := v.(type) {
	case []any:
		out := make([]any, len(x))
		for i := range x {
			out[i] = outward(x[i])
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(x))
		for k, sub := range x {
			switch k {
			case "enum", "const", "default", "examples":
				out[k] = sub // values, not schemas
			case "properties":
				props, _ := sub.(map[string]any)
				into := make(map[string]any, len(props))
				for name, p := range props {
					into[name] = outward(p)
				}
				out[k] = into
			case "$ref":
				ref, _ := sub.(string)
				if name, ok := strings.CutPrefix(ref, "#/$defs/"); ok {
					name, inside, deep := strings.Cut(name, "/")
					if plain, err := url.PathUnescape(name); err == nil {
						name = plain
					}
					if ref = parts + url.PathEscape(strings.NewReplacer("~1", "/", "~0", "~").Replace(name)); deep {
						ref += "#/" + inside
					}
				}
				out[k] = ref
			default:
				out[k] = outward(sub)
			}
		}
		return out
	}
	return v
}
