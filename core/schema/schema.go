package schema

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/big"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"

	"stonebaton.example/core/near"
	"stonebaton.example/core/value"
)

// Schema is a compiled JSON Schema. The zero pointer accepts everything.
type Schema struct {
	doc  map[string]any
	comp *jsonschema.Schema
}

// Fault is one thing about a value that does not fit.
type Fault struct {
	Path string `json:"path"` // such as "/stay/arrives"; "" is the whole value
	Say  string `json:"say"`
}

// Compile reads a schema from its document, whose numbers may be of any Go type.
func Compile(doc map[string]any) (*Schema, error) {
	raw, err := json.Marshal(doc)
	if err != nil {
		return nil, err
	}
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	if err != nil {
		return nil, err
	}
	c := newCompiler(nowhere{})
	if err := c.AddResource(home, v); err != nil {
		return nil, plain(err, v)
	}
	comp, err := c.Compile(home)
	if err != nil {
		return nil, plain(err, v)
	}
	own, err := value.ReadObject(raw)
	if err != nil {
		return nil, err
	}
	return &Schema{doc: own, comp: comp}, nil
}

// newCompiler makes a compiler that gets what a schema refers to from a loader.
func newCompiler(from jsonschema.URLLoader) *jsonschema.Compiler {
	c := jsonschema.NewCompiler()
	c.DefaultDraft(jsonschema.Draft2020)
	c.AssertFormat()
	for _, f := range formats {
		c.RegisterFormat(f)
	}
	c.UseRegexpEngine(pattern)
	c.UseLoader(from)
	return c
}

// home is the URL of a schema's own document. It names no file, so that it does not
// depend on the folder that the program runs in.
const home = "schema:///own.json"

// nowhere refuses to load schemas from outside the document.
type nowhere struct{}

func (nowhere) Load(url string) (any, error) {
	return nil, fmt.Errorf("a schema may only refer to itself, not to %s", url)
}

// plain says what is wrong with a schema, which was read as v.
func plain(err error, v any) error {
	var se *jsonschema.SchemaValidationError
	var ve *jsonschema.ValidationError
	if errors.As(err, &se) && errors.As(se.Err, &ve) {
		placeNames(ve, nil, v)
		if f := explain(ve, nil); len(f) > 0 {
			within, _ := inDocument(se.URL)
			return fmt.Errorf("not a JSON Schema: at %q: %s", within+f[0].Path, f[0].Say)
		}
	}
	var pattern *jsonschema.InvalidRegexError
	var reference *jsonschema.JSONPointerNotFoundError
	var anchor *jsonschema.AnchorNotFoundError
	var load *jsonschema.LoadURLError
	const gone = "not a JSON Schema: it refers to %q, which is not there"
	missing := func(at string) error {
		if own, ok := inDocument(at); ok {
			return fmt.Errorf(gone, "#"+own)
		}
		_, fragment, _ := strings.Cut(at, "#")
		return fmt.Errorf(gone, "#"+fragment)
	}
	switch {
	case errors.As(err, &pattern):
		return fmt.Errorf("not a JSON Schema: %q is not a regular expression", pattern.Regex)
	case errors.As(err, &reference):
		return missing(reference.URL)
	case errors.As(err, &anchor):
		return missing(anchor.URL)
	case errors.As(err, &load):
		if strings.HasPrefix(load.URL, parts) {
			return missing(load.URL)
		}
		return fmt.Errorf("not a JSON Schema: a schema may only refer to itself, not to %s", load.URL)
	}
	return fmt.Errorf("not a JSON Schema: %s", strings.ReplaceAll(err.Error(), home, ""))
}

// Doc is the schema's document. Callers must not change it.
func (s *Schema) Doc() map[string]any {
	if s == nil {
		return nil
	}
	return s.doc
}

// Check says what is wrong with a value; nothing where it fits. The value is
// what encoding/json makes of JSON, or the same with ints.
func (s *Schema) Check(v any) []Fault {
	if s == nil {
		return nil
	}
	err := s.comp.Validate(v)
	if err == nil {
		return nil
	}
	var ve *jsonschema.ValidationError
	if !errors.As(err, &ve) {
		return []Fault{{Say: "cannot be checked against the schema"}}
	}
	placeNames(ve, s.doc, v)
	faults := explain(ve, s.doc)
	sort.SliceStable(faults, func(i, j int) bool { return faults[i].Path < faults[j].Path })
	return faults
}

// placeNames gives the errors about names of properties the places of their objects. Those that
// the library gives share memory with the places that it visits later, and may name another
// value. What is known for certain is how deep an object is, and the name. Objects whose schema
// is known to limit names come first.
func placeNames(e *jsonschema.ValidationError, doc map[string]any, v any) {
	type spot struct {
		depth int
		name  string
	}
	wrong := map[spot][]*jsonschema.ValidationError{}
	var gather func(e *jsonschema.ValidationError)
	gather = func(e *jsonschema.ValidationError) {
		if k, ok := e.ErrorKind.(*kind.PropertyNames); ok {
			s := spot{len(e.InstanceLocation), k.Property}
			wrong[s] = append(wrong[s], e)
		}
		for _, c := range e.Causes {
			gather(c)
		}
	}
	gather(e)
	if len(wrong) == 0 {
		return
	}
	limited, others := map[spot][][]string{}, map[spot][][]string{}
	var walk func(v any, path []string)
	walk = func(v any, path []string) {
		switch v := v.(type) {
		case map[string]any:
			for _, name := range slices.Sorted(maps.Keys(v)) {
				if s := (spot{len(path), name}); wrong[s] != nil {
					into := others
					if at(doc, path)["propertyNames"] != nil {
						into = limited
					}
					into[s] = append(into[s], slices.Clone(path))
				}
				walk(v[name], append(path, name))
			}
		case []any:
			for i, x := range v {
				walk(x, append(path, strconv.Itoa(i)))
			}
		}
	}
	walk(v, nil)
	for s, errs := range wrong {
		places := append(limited[s], others[s]...)
		for i, e := range errs {
			if len(places) > 0 {
				e.InstanceLocation = places[min(i, len(places)-1)]
			}
		}
	}
}

// CheckJSON decodes and checks. Text that is not JSON is one fault.
func (s *Schema) CheckJSON(raw []byte) (any, []Fault) {
	v, err := value.Read(raw)
	if err != nil {
		return nil, []Fault{{Say: "is not JSON: " + err.Error()}}
	}
	return v, s.Check(v)
}

// How much words for a model tell of what may be endless.
const (
	few     = 20  // faults, repairs
	maxText = 200 // bytes of one value
)

// Say joins faults into one sentence after another, and says how many there are
// beyond a few.
func Say(faults []Fault) string {
	parts := make([]string, 0, few+1)
	for _, f := range faults[:min(len(faults), few)] {
		name := clip(dotted(f.Path))
		if name == "" {
			parts = append(parts, f.Say)
		} else {
			parts = append(parts, name+" "+f.Say)
		}
	}
	if n := len(faults) - few; n > 0 {
		parts = append(parts, fmt.Sprintf("and %d more like these", n))
	}
	return strings.Join(parts, "; ")
}

// clip cuts a text.
func clip(s string) string {
	if len(s) <= maxText {
		return s
	}
	return strings.ToValidUTF8(s[:maxText], "") + "…"
}

func explain(e *jsonschema.ValidationError, doc map[string]any) []Fault {
	path := ""
	for _, p := range e.InstanceLocation {
		path += "/" + p
	}
	sub := at(doc, e.InstanceLocation)
	one := func(format string, args ...any) []Fault {
		return []Fault{{Path: path, Say: fmt.Sprintf(format, args...)}}
	}
	switch k := e.ErrorKind.(type) {
	case *kind.Required:
		var out []Fault
		for _, m := range k.Missing {
			say := "is missing"
			if d := at(sub, []string{m}); d != nil {
				say += about(d) + such(doc, d)
			}
			out = append(out, Fault{Path: path + "/" + m, Say: say})
		}
		return out
	case *kind.AdditionalProperties:
		var out []Fault
		names, listing := keys(sub), true
		sort.Strings(k.Properties)
		for i, m := range k.Properties {
			say := "is not known here"
			if i >= few { // nobody is told of more
			} else if n := near.Names(m, names); len(n) > 0 {
				say += "; did you mean " + near.Or(n) + "?"
			} else if listing && len(names) > 0 {
				say, listing = say+"; what is: "+near.List(names), false // once is enough
			}
			out = append(out, Fault{Path: path + "/" + m, Say: say})
		}
		return out
	case *kind.Type:
		return one("must be %s, not %s%s", value.Article(strings.Join(k.Want, " or ")), value.Article(k.Got), such(doc, sub))
	case *kind.Enum:
		want := make([]string, len(k.Want))
		for i, w := range k.Want {
			want[i] = text(w)
		}
		hint := ""
		if g, ok := k.Got.(string); ok {
			if n := near.Names(g, want); len(n) > 0 {
				hint = "; " + near.Or(n[:1]) + " is nearest"
			}
		}
		return one("must be one of %s, not %s%s", near.List(want), text(k.Got), hint)
	case *kind.Const:
		return one("must be %s, not %s", text(k.Want), text(k.Got))
	case *kind.Format:
		return one("must be %s, not %s", format(k.Want), text(k.Got))
	case *kind.Pattern:
		d, _ := sub["description"].(string)
		if d != "" {
			d = ": " + strings.TrimSuffix(d, ".")
		}
		return one("must match %s%s; %q does not%s", k.Want, d, clip(k.Got), sample(sub))
	case *kind.Minimum:
		return one("must be at least %s, not %s", num(k.Want), num(k.Got))
	case *kind.Maximum:
		return one("must be at most %s, not %s", num(k.Want), num(k.Got))
	case *kind.ExclusiveMinimum:
		return one("must be more than %s, not %s", num(k.Want), num(k.Got))
	case *kind.ExclusiveMaximum:
		return one("must be less than %s, not %s", num(k.Want), num(k.Got))
	case *kind.MultipleOf:
		return one("must be a multiple of %s, not %s", num(k.Want), num(k.Got))
	case *kind.MinLength:
		return one("must have at least %s, not %d", characters(k.Want), k.Got)
	case *kind.MaxLength:
		return one("must have at most %s, not %d", characters(k.Want), k.Got)
	case *kind.MinItems:
		return one("must have at least %d entries, not %d", k.Want, k.Got)
	case *kind.MaxItems:
		return one("must have at most %s, not %d", entries(k.Want), k.Got)
	case *kind.FalseSchema:
		return one("is not allowed here")
	case *kind.UniqueItems:
		return one("must not repeat an entry; entries %d and %d are the same", k.Duplicates[0]+1, k.Duplicates[1]+1)
	case *kind.MinProperties:
		return one("must have at least %s, not %d", fields(k.Want), k.Got)
	case *kind.MaxProperties:
		return one("must have at most %s, not %d", fields(k.Want), k.Got)
	case *kind.PropertyNames:
		return []Fault{{Path: path + "/" + k.Property, Say: "is not a name that is allowed here"}}
	case *kind.DependentRequired:
		return needs(path, k.Prop, k.Missing)
	case *kind.Dependency:
		return needs(path, k.Prop, k.Missing)
	case *kind.AdditionalItems:
		return one("has %s too many", entries(k.Count))
	case *kind.Contains:
		return one("must have an entry that fits%s", such(doc, inner(sub, "contains")))
	case *kind.MinContains:
		return one("must have at least %s of the kind that is wanted%s, not %d", entries(k.Want), such(doc, inner(sub, "contains")), len(k.Got))
	case *kind.MaxContains:
		return one("must have at most %s of the kind that is wanted%s, not %d", entries(k.Want), such(doc, inner(sub, "contains")), len(k.Got))
	case *kind.Not:
		return one("is one of the values that are not allowed%s", described(sub))
	case *kind.OneOf:
		if len(k.Subschemas) > 0 {
			return one("fits more than one of its alternatives; it must fit exactly one%s", described(sub))
		}
		return alternatives(e, doc, path, sub)
	case *kind.AnyOf:
		return alternatives(e, doc, path, sub)
	case *kind.ContentEncoding:
		return one("must be a text in the encoding %s", k.Want)
	case *kind.ContentMediaType:
		return one("must hold %s", k.Want)
	case *kind.RefCycle:
		return one("cannot be checked: its schema refers to itself without an end")
	case *kind.InvalidJsonValue:
		return one("is not a value of JSON")
	case *kind.Schema, *kind.Group, *kind.AllOf, *kind.Reference, *kind.ContentSchema:
		// what is wrong is among the causes
	}
	if len(e.Causes) == 0 {
		return one("does not fit its schema%s", described(sub))
	}
	var out []Fault
	for _, c := range e.Causes {
		out = append(out, explain(c, doc)...)
	}
	return out
}

// alternatives says what is wrong with a value that fits none of several schemas: what
// the nearest one says, which is that with the fewest faults.
func alternatives(e *jsonschema.ValidationError, doc map[string]any, path string, sub map[string]any) []Fault {
	var best []Fault
	if meant := slices.DeleteFunc(slices.Clone(e.Causes), otherType); len(meant) > 0 && len(meant) < len(e.Causes) {
		only := *e
		only.Causes = meant // the others are for values of other types
		return alternatives(&only, doc, path, sub)
	}
	if types, got := typesOf(e.Causes); len(types) > 0 {
		return []Fault{{Path: path, Say: "must be " + strings.Join(types, " or ") + ", not " + got + such(doc, sub)}}
	}
	for _, c := range e.Causes {
		if f := explain(c, doc); best == nil || len(f) < len(best) {
			best = f
		}
	}
	if len(best) == 1 && len(e.Causes) > 1 && best[0].Path == path {
		all := true
		var says []string
		for _, c := range e.Causes { // each alternative says in a few words what it wants
			f := explain(c, doc)
			all = all && len(f) == 1 && f[0].Path == path
			if all && !slices.Contains(says, f[0].Say) {
				says = append(says, f[0].Say)
			}
		}
		if all {
			return []Fault{{Path: path, Say: strings.Join(says, "; or ")}}
		}
	}
	if len(best) == 0 {
		return []Fault{{Path: path, Say: "fits none of its alternatives" + described(sub)}}
	}
	return best
}

// otherType says whether an alternative is for a value of another type altogether.
func otherType(e *jsonschema.ValidationError) bool { return wrongType(e) != nil }

// wrongType gives the types that an alternative is for, where it is for others altogether.
func wrongType(e *jsonschema.ValidationError) *kind.Type {
	for {
		if k, ok := e.ErrorKind.(*kind.Type); ok {
			return k
		}
		if len(e.Causes) != 1 || !slices.Equal(e.Causes[0].InstanceLocation, e.InstanceLocation) {
			return nil
		}
		e = e.Causes[0]
	}
}

// typesOf gives the types that alternatives are for, where all of them are for other types than
// the value's: none, where some are not.
func typesOf(alternatives []*jsonschema.ValidationError) (want []string, got string) {
	for _, e := range alternatives {
		k := wrongType(e)
		if k == nil {
			return nil, ""
		}
		got = value.Article(k.Got)
		for _, t := range k.Want {
			if t = value.Article(t); !slices.Contains(want, t) {
				want = append(want, t)
			}
		}
	}
	return want, got
}

func needs(path, prop string, missing []string) []Fault {
	var out []Fault
	for _, m := range missing {
		out = append(out, Fault{Path: path + "/" + m, Say: "is missing; it is needed where " + prop + " is given"})
	}
	return out
}

// described adds what the schema says of the value.
func described(d map[string]any) string {
	if s, _ := d["description"].(string); s != "" {
		return " (" + strings.TrimSuffix(s, ".") + ")"
	}
	return ""
}

func inner(d map[string]any, key string) map[string]any { m, _ := d[key].(map[string]any); return m }

func entries(n int) string {
	if n == 1 {
		return "1 entry"
	}
	return fmt.Sprintf("%d entries", n)
}

func characters(n int) string {
	if n == 1 {
		return "1 character"
	}
	return fmt.Sprintf("%d characters", n)
}

func fields(n int) string {
	if n == 1 {
		return "1 field"
	}
	return fmt.Sprintf("%d fields", n)
}

// at follows a path of a value through the schema that describes it.
// Where there are alternatives it is the first through which the path leads.
func at(doc map[string]any, path []string) map[string]any { return follow(doc, doc, path, 0) }

func follow(root, doc map[string]any, path []string, depth int) map[string]any {
	if depth > 64 { // a schema that refers to itself
		return nil
	}
	if ref, ok := doc["$ref"].(string); ok {
		if to := resolve(root, ref); to != nil {
			doc = to
		}
	}
	if len(path) == 0 {
		return doc
	}
	if props, ok := doc["properties"].(map[string]any); ok {
		if d, ok := props[path[0]].(map[string]any); ok {
			return follow(root, d, path[1:], depth+1)
		}
	}
	key := "additionalProperties"
	if _, err := strconv.Atoi(path[0]); err == nil && doc["items"] != nil {
		key = "items"
	}
	if d, ok := doc[key].(map[string]any); ok {
		return follow(root, d, path[1:], depth+1)
	}
	for _, key := range []string{"anyOf", "oneOf"} {
		branches, _ := doc[key].([]any)
		for _, b := range branches {
			if d, ok := b.(map[string]any); ok {
				if found := follow(root, d, path, depth+1); found != nil {
					return found
				}
			}
		}
	}
	return nil
}

// Keys gives the names of the properties a schema document describes, sorted.
func Keys(doc map[string]any) []string { return keys(doc) }

func keys(doc map[string]any) []string {
	props, _ := doc["properties"].(map[string]any)
	out := make([]string, 0, len(props))
	for k := range props {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

// about tells in brackets what a missing value would be.
func about(d map[string]any) string {
	if s, _ := d["description"].(string); s != "" {
		return " (" + strings.TrimSuffix(s, ".") + ")"
	}
	if e, ok := d["enum"].([]any); ok {
		w := make([]string, len(e))
		for i := range e {
			w[i] = text(e[i])
		}
		return " (one of " + near.List(w) + ")"
	}
	if t, _ := d["type"].(string); t != "" {
		return " (" + value.Article(t) + ")"
	}
	return ""
}

// such gives an example of a right value, for what describes one.
func such(root, d map[string]any) string {
	if d == nil || d["enum"] != nil {
		return ""
	}
	if say, _ := d["description"].(string); strings.Contains(strings.ToLower(say), "such as ") {
		if _, own := d["examples"]; !own {
			return "" // the description, which stands there, gives one
		}
	}
	v := exampleOf(root, d, 1)
	if v == nil || v == "text" {
		return ""
	}
	t := text(v)
	if len(t) > 120 {
		return ""
	}
	return ", such as " + t
}

// sample gives an example that the schema itself names.
func sample(d map[string]any) string {
	if ex, ok := d["examples"].([]any); ok && len(ex) > 0 {
		return "; " + text(ex[0]) + " would"
	}
	return ""
}

func format(f string) string {
	switch f {
	case "date-time":
		return "a date and time with its offset, such as 2026-05-08T12:00:00+01:00"
	case "date":
		return "a date, such as 2026-05-08"
	case "time":
		return "a time with its offset, such as 12:00:00+01:00"
	case "email":
		return "a mail address"
	case "uri":
		return "an absolute URL"
	case "uuid":
		return "a UUID, such as 6f0b9a52-0c0e-4a3c-9a66-5b0c1f0f7a11"
	case "ipv4", "ipv6":
		return "an address of the form " + f
	case "regex":
		return "a regular expression"
	case "duration":
		return "a duration of ISO 8601, such as PT30M"
	}
	return "of the format " + f
}

// text shows a value.
func text(v any) string {
	if s, ok := v.(string); ok {
		if s = clip(s); s != "" && !strings.ContainsAny(s, " ,;\"") {
			return s
		}
		v = s
	}
	b, err := json.Marshal(v)
	if err != nil {
		return clip(fmt.Sprint(v))
	}
	return clip(string(b))
}

func num(r *big.Rat) string {
	if r == nil {
		return "?"
	}
	if r.IsInt() {
		return r.Num().String()
	}
	f, _ := r.Float64()
	return text(f)
}
