package schema

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"math/big"
	"slices"
	"strconv"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"stonebaton.example/core/value"
)

// Repair is one thing about a value that was put right before it was checked.
type Repair struct {
	Path string `json:"path"` // as in Fault
	Say  string `json:"say"`
}

// Repair puts right what is only written wrongly: a text that holds the number
// or truth value that is due, a missing value with a default, one value where a
// list is due, a listed value in other letters or with spaces around it. It
// tells what it did and what still does not fit. The value given is left as it
// is; what comes back shares the parts that needed nothing.
func (s *Schema) Repair(v any) (any, []Repair, []Fault) {
	return s.RepairExcept(v, func(string) bool { return false })
}

// RepairExcept leaves the texts as they are that stand for something else.
func (s *Schema) RepairExcept(v any, stands func(string) bool) (any, []Repair, []Fault) {
	if s == nil {
		return v, nil, nil
	}
	m := fixer{stands: stands}
	out := m.fix(s.comp, v, "", 0)
	faults := append(m.faults, s.Check(out)...)
	if len(faults) > 0 && len(m.faults) == 0 && s.comp.Validate(v) == nil { // what fits stays as it is, such as where a default does not
		return v, nil, nil
	}
	return out, m.done, faults
}

// RepairJSON decodes, repairs and checks. Text that is not JSON is one fault,
// and the value is then nil.
func (s *Schema) RepairJSON(raw []byte) (any, []Repair, []Fault) {
	v, err := value.Read(raw)
	if err != nil {
		return nil, nil, []Fault{{Say: "is not JSON: " + err.Error()}}
	}
	return s.Repair(v)
}

// SayRepairs says each repair in a sentence, and of more than a few how many more.
func SayRepairs(rs []Repair) []string {
	var out []string
	for _, r := range rs[:min(len(rs), few)] {
		out = append(out, strings.TrimSpace(dotted(r.Path)+" "+r.Say))
	}
	if n := len(rs) - few; n > 0 {
		out = append(out, fmt.Sprintf("%d more repairs were made", n))
	}
	return out
}

func dotted(path string) string {
	return strings.ReplaceAll(strings.TrimPrefix(path, "/"), "/", ".")
}

// deepest bounds how far references into themselves are followed.
const deepest = 64

type fixer struct {
	done   []Repair
	faults []Fault // beside those of Check
	stands func(string) bool
}

func (m *fixer) note(path, say string) { m.done = append(m.done, Repair{path, say}) }

func (m *fixer) fix(s *jsonschema.Schema, v any, path string, depth int) any {
	if s == nil || depth > deepest {
		return v
	}
	if t, ok := v.(string); ok && m.stands(t) {
		return v
	}
	if s.Ref != nil {
		v = m.fix(s.Ref, v, path, depth+1)
	}
	for _, sub := range s.AllOf {
		v = m.fix(sub, v, path, depth+1)
	}
	if len(s.OneOf) > 0 {
		v = m.branch(s.OneOf, v, path, depth)
	}
	if len(s.AnyOf) > 0 {
		v = m.branch(s.AnyOf, v, path, depth)
	}
	v = m.typed(s, v, path)
	v = m.listed(s, v, path)
	switch x := v.(type) {
	case map[string]any:
		return m.object(s, x, path, depth)
	case []any:
		return m.list(s, x, path, depth)
	}
	return v
}

// branch takes the first alternative that a value fits, or fits once repaired.
func (m *fixer) branch(subs []*jsonschema.Schema, v any, path string, depth int) any {
	for _, sub := range subs {
		if sub.Validate(v) == nil {
			return m.fix(sub, v, path, depth+1) // for its defaults
		}
	}
	for _, sub := range subs {
		try := fixer{stands: m.stands}
		if out := try.fix(sub, v, path, depth+1); len(try.done) > 0 && sub.Validate(out) == nil {
			m.done = append(m.done, try.done...)
			return out
		}
	}
	return v
}

// typed gives a value the type that is due where no meaning is lost by it.
func (m *fixer) typed(s *jsonschema.Schema, v any, path string) any {
	if s.Types == nil || s.Types.IsEmpty() {
		return v
	}
	want := s.Types.ToStrings()
	due := func(t string) bool { return slices.Contains(want, t) }
	switch x := v.(type) {
	case string:
		if due("string") {
			return v
		}
		t := strings.TrimSpace(x)
		if due("integer") || due("number") {
			if n, ok := number(t); ok && (due("number") || isA("integer", n)) {
				m.note(path, "was the text "+strconv.Quote(clip(x))+"; the number "+clip(t)+" was taken")
				return n
			}
		}
		if due("boolean") && (strings.EqualFold(t, "true") || strings.EqualFold(t, "false")) {
			m.note(path, "was the text "+strconv.Quote(clip(x))+"; "+strings.ToLower(t)+" was taken")
			return strings.EqualFold(t, "true")
		}
		if (due("array") && strings.HasPrefix(t, "[")) || (due("object") && strings.HasPrefix(t, "{")) {
			if inner, err := value.Read([]byte(t)); err == nil {
				m.note(path, "was JSON within a text; what it holds was taken")
				return inner
			}
		}
	case float64, int64, json.Number:
		f, is := x.(float64)
		exact := !is || math.Abs(f) <= value.Exact // else the text would be of another number
		if exact && due("string") && !due("number") && !due("integer") {
			m.note(path, "was the number "+text(x)+"; the text "+strconv.Quote(text(x))+" was taken")
			return text(x)
		}
	case bool:
		if due("string") && !due("boolean") {
			m.note(path, fmt.Sprintf("was %t; the text \"%t\" was taken", x, x))
			return strconv.FormatBool(x)
		}
	}
	if _, list := v.([]any); !list && v != nil && due("array") && len(want) == 1 {
		m.note(path, "was one value; a list with it was taken")
		return []any{v}
	}
	return v
}

// number gives the number that a text holds, whole ones as exact as value.Read does.
func number(t string) (any, bool) {
	if n, err := strconv.ParseInt(t, 10, 64); err == nil {
		return value.Whole(n), true
	}
	if whole := strings.TrimPrefix(t, "-"); whole != "" && strings.Trim(whole, "0123456789") == "" {
		return json.Number(strings.TrimPrefix(t, "+")), whole[0] != '0'
	}
	f, err := strconv.ParseFloat(t, 64)
	return f, err == nil && numeral(t)
}

// numeral says whether a text is a plain decimal number, which "0x1p4", "inf"
// and "1_000" are not.
func numeral(t string) bool {
	return t != "" && strings.Trim(t, "+-.0123456789eE") == "" && strings.ContainsAny(t, "0123456789")
}

// listed finds the listed value that a text means.
func (m *fixer) listed(s *jsonschema.Schema, v any, path string) any {
	t, ok := v.(string)
	if !ok || s.Enum == nil || slices.Contains(s.Enum.Values, any(t)) {
		return v
	}
	key := strings.ToLower(strings.TrimSpace(t))
	var found []string
	for _, e := range s.Enum.Values {
		if w, ok := e.(string); ok && strings.ToLower(w) == key {
			found = append(found, w)
		}
	}
	if len(found) != 1 {
		return v
	}
	m.note(path, "was "+strconv.Quote(clip(t))+"; "+strconv.Quote(found[0])+" was taken")
	return found[0]
}

func (m *fixer) object(s *jsonschema.Schema, x map[string]any, path string, depth int) any {
	out, own, first := x, false, len(m.done)
	set := func(k string, v any) {
		if !own {
			out, own = maps.Clone(x), true
		}
		out[k] = v
	}
	for k, sub := range s.Properties {
		was, ok := x[k]
		if !ok {
			if d := defaultOf(sub); d != nil {
				m.note(path+"/"+k, "was missing; its default "+text(*d)+" was taken")
				set(k, *d)
			}
			continue
		}
		before := len(m.done)
		if is := m.fix(sub, was, path+"/"+k, depth+1); len(m.done) > before {
			set(k, is)
		}
	}
	if own {
		slices.SortStableFunc(m.done[first:], func(a, b Repair) int { return strings.Compare(a.Path, b.Path) }) // a map has no order of its own
	}
	return out
}

func defaultOf(s *jsonschema.Schema) *any {
	for n := 0; s != nil && n < deepest; n++ {
		if s.Default != nil {
			d := value.Numbers(*s.Default)
			return &d
		}
		s = s.Ref
	}
	return nil
}

func (m *fixer) list(s *jsonschema.Schema, x []any, path string, depth int) any {
	out, own := x, false
	for i, was := range x {
		sub := s.Items2020
		if i < len(s.PrefixItems) {
			sub = s.PrefixItems[i]
		}
		if sub == nil {
			continue
		}
		before := len(m.done)
		is := m.fix(sub, was, path+"/"+strconv.Itoa(i), depth+1)
		if len(m.done) > before {
			if !own {
				out, own = slices.Clone(x), true
			}
			out[i] = is
		}
	}
	return out
}

// Conflict is a place in a schema that no value can satisfy, or that says two
// things at once.
type Conflict struct {
	Path string // within the schema, such as "/properties/berth"
	Say  string
}

// Conflicts finds where a schema contradicts itself.
func (s *Schema) Conflicts() []Conflict { return s.conflicts(map[*jsonschema.Schema]bool{}) }

// conflicts finds them where it has not been yet.
func (s *Schema) conflicts(seen map[*jsonschema.Schema]bool) []Conflict {
	if s == nil {
		return nil
	}
	var out []Conflict
	var walk func(c *jsonschema.Schema, path string)
	walk = func(c *jsonschema.Schema, path string) {
		if c == nil || seen[c] {
			return
		}
		seen[c] = true
		for _, say := range conflicts(c) {
			out = append(out, Conflict{path, say})
		}
		for _, k := range sortedKeys(c.Properties) {
			walk(c.Properties[k], path+"/properties/"+k)
		}
		walk(c.Items2020, path+"/items")
		for name, subs := range map[string][]*jsonschema.Schema{"allOf": c.AllOf, "anyOf": c.AnyOf, "oneOf": c.OneOf, "prefixItems": c.PrefixItems} {
			for i, sub := range subs {
				walk(sub, fmt.Sprintf("%s/%s/%d", path, name, i))
			}
		}
		walk(c.Ref, path)
	}
	walk(s.comp, "")
	slices.SortFunc(out, func(a, b Conflict) int { return strings.Compare(a.Path+a.Say, b.Path+b.Say) })
	return out
}

func sortedKeys[T any](m map[string]T) []string { return slices.Sorted(maps.Keys(m)) }

func conflicts(c *jsonschema.Schema) (out []string) {
	say := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	over := func(low, high *big.Rat) bool { return low != nil && high != nil && low.Cmp(high) > 0 }
	if over(c.Minimum, c.Maximum) || over(c.ExclusiveMinimum, c.Maximum) || over(c.Minimum, c.ExclusiveMaximum) {
		say("its least value is above its greatest")
	}
	pair := func(low, high *int, what string) {
		if low != nil && high != nil && *low > *high {
			say("it must have at least %d and at most %d %s", *low, *high, what)
		}
	}
	pair(c.MinLength, c.MaxLength, "characters")
	pair(c.MinItems, c.MaxItems, "entries")
	pair(c.MinProperties, c.MaxProperties, "properties")
	if c.AdditionalProperties == false {
		for _, r := range c.Required {
			if _, ok := c.Properties[r]; !ok && len(c.PatternProperties) == 0 {
				say("%q is required, but no property of that name is allowed", r)
			}
		}
	}
	if c.Enum != nil && c.Types != nil && !c.Types.IsEmpty() {
		for _, e := range c.Enum.Values {
			if !slices.ContainsFunc(c.Types.ToStrings(), func(t string) bool { return isA(t, e) }) {
				say("it lists %s, which is not %s", text(e), value.Article(strings.Join(c.Types.ToStrings(), " or ")))
			}
		}
	}
	if c.Default != nil {
		if err := c.Validate(*c.Default); err != nil {
			say("its default %s does not fit it", text(*c.Default))
		}
	}
	for i, a := range c.AllOf {
		for _, b := range c.AllOf[i+1:] {
			if apart(a, b) {
				say("two parts of its allOf are of types that no value has both of")
			}
		}
		if apart(a, c) {
			say("a part of its allOf is of another type than it is itself")
		}
	}
	return out
}

func apart(a, b *jsonschema.Schema) bool {
	if a.Types == nil || b.Types == nil || a.Types.IsEmpty() || b.Types.IsEmpty() {
		return false
	}
	for _, x := range a.Types.ToStrings() {
		for _, y := range b.Types.ToStrings() {
			if x == y || (x == "integer" && y == "number") || (x == "number" && y == "integer") {
				return false
			}
		}
	}
	return true
}

func isA(t string, v any) bool {
	switch x := v.(type) {
	case nil:
		return t == "null"
	case bool:
		return t == "boolean"
	case string:
		return t == "string"
	case []any:
		return t == "array"
	case map[string]any:
		return t == "object"
	case float64:
		return t == "number" || t == "integer" && x == math.Trunc(x)
	case json.Number:
		f, err := x.Float64()
		return t == "number" || t == "integer" && err == nil && f == math.Trunc(f)
	}
	return t == "number" || t == "integer"
}

// Example makes a value that a schema's document describes: an example or
// default of its own where it has one, or the plainest value that could fit.
func Example(doc map[string]any) any { return exampleOf(doc, doc, 0) }

func exampleOf(root, d map[string]any, depth int) any { return maker{root: root}.make(d, depth) }

func (m maker) make(d map[string]any, depth int) any {
	if depth > 8 || d == nil {
		return nil
	}
	if ex, ok := d["examples"].([]any); ok && len(ex) > 0 {
		return ex[0]
	}
	for _, k := range []string{"const", "default"} {
		if v, ok := d[k]; ok {
			return v
		}
	}
	if e, ok := d["enum"].([]any); ok && len(e) > 0 {
		return e[0]
	}
	if ref, ok := d["$ref"].(string); ok {
		return m.make(resolve(m.root, ref), depth+1)
	}
	for _, k := range []string{"oneOf", "anyOf"} {
		if subs, ok := d[k].([]any); ok && len(subs) > 0 {
			sub, _ := subs[min(m.branch, len(subs)-1)].(map[string]any)
			v := m.make(sub, depth+1)
			own, object := v.(map[string]any)
			if object && d["properties"] != nil { // which both say something of
				rest := maps.Clone(d)
				delete(rest, k)
				if more, ok := m.make(rest, depth).(map[string]any); ok {
					maps.Copy(more, own)
					return more
				}
			}
			return v
		}
	}
	if subs, ok := d["allOf"].([]any); ok {
		all := map[string]any{}
		for _, e := range subs {
			sub, _ := e.(map[string]any)
			part, ok := m.make(sub, depth+1).(map[string]any)
			if !ok {
				return m.make(sub, depth+1)
			}
			maps.Copy(all, part)
		}
		return all
	}
	kind, _ := d["type"].(string)
	if list, ok := d["type"].([]any); ok && len(list) > 0 {
		kind, _ = list[0].(string)
	}
	switch kind {
	case "object", "":
		props, _ := d["properties"].(map[string]any)
		if kind == "" && props == nil {
			return nil
		}
		need, _ := d["required"].([]any)
		out := map[string]any{}
		for _, k := range sortedKeys(props) {
			if slices.Contains(need, any(k)) || depth == 0 && !m.least {
				sub, _ := props[k].(map[string]any)
				if v := m.make(sub, depth+1); v != nil || m.null && slices.Contains(need, any(k)) {
					out[k] = v
				}
			}
		}
		for _, k := range need { // that nothing is said of
			if name, ok := k.(string); ok && out[name] == nil && props[name] == nil {
				more, _ := d["additionalProperties"].(map[string]any)
				if out[name] = m.make(more, depth+1); out[name] == nil {
					out[name] = "text"
				}
			}
		}
		return out
	case "array":
		return m.list(d, depth)
	case "integer", "number":
		return between(d, kind == "integer")
	case "boolean":
		return true
	case "string":
		return m.stretched(d, words(d))
	}
	return nil
}

// list makes a list with as many entries as there have to be, each another where they must
// not repeat.
func (m maker) list(d map[string]any, depth int) any {
	out := []any{}
	first, _ := d["prefixItems"].([]any)
	for _, f := range first {
		sub, _ := f.(map[string]any)
		out = append(out, m.make(sub, depth+1))
	}
	items, _ := d["items"].(map[string]any)
	wanted, contains := d["contains"].(map[string]any)
	least := max(bound(d, "minItems"), len(out)+1)
	if most := bound(d, "maxItems"); most >= 0 {
		least = min(least, most)
	}
	for n := len(out); n < min(least, 100); n++ {
		sub := items
		if contains && n == len(first) {
			sub = wanted
		}
		one := m
		one.more += n
		v := one.make(sub, depth+1)
		if d["uniqueItems"] == true {
			v = another(sub, v, n)
		}
		if v == nil && items == nil && n >= max(bound(d, "minItems"), 0) {
			break
		}
		out = append(out, v)
	}
	return out
}

// another gives a value that differs from that of the places before.
func another(d map[string]any, v any, n int) any {
	if list, ok := d["enum"].([]any); ok && len(list) > 0 {
		return list[n%len(list)]
	}
	switch x := v.(type) {
	case float64:
		return x + float64(n)
	case string:
		if n > 0 && d["pattern"] == nil && d["format"] == nil {
			return fmt.Sprintf("%s %d", x, n)
		}
	}
	return v
}

func between(d map[string]any, whole bool) any {
	at := func(k string) (float64, bool) { f, ok := d[k].(float64); return f, ok }
	v := 3.0
	if !whole {
		v = 46.5
	}
	if low, ok := at("minimum"); ok && v < low {
		v = low
	}
	if low, ok := at("exclusiveMinimum"); ok && v <= low {
		v = low + 1
	}
	if high, ok := at("maximum"); ok && v > high {
		v = high
	}
	if high, ok := at("exclusiveMaximum"); ok && v >= high {
		v = high - 1
	}
	if step, ok := at("multipleOf"); ok && step > 0 {
		if low := math.Ceil(v/step) * step; !over(d, low) {
			return low
		}
		return math.Floor(v/step) * step
	}
	if low, ok := at("exclusiveMinimum"); ok && v <= low { // between whole numbers
		if high, ok := at("exclusiveMaximum"); ok {
			return (low + high) / 2
		}
		if high, ok := at("maximum"); ok {
			return (low + high) / 2
		}
	}
	return v
}

// over says whether a number is above the greatest of a schema.
func over(d map[string]any, v float64) bool {
	high, ok := d["maximum"].(float64)
	below, open := d["exclusiveMaximum"].(float64)
	return ok && v > high || open && v >= below
}

func words(d map[string]any) string {
	switch d["format"] {
	case "date-time":
		return "2026-05-08T12:00:00+01:00"
	case "date":
		return "2026-05-08"
	case "time":
		return "12:00:00+01:00"
	case "email":
		return "ann@kelmere.example"
	case "uri", "url":
		return "https://kelmere.example/"
	case "uuid":
		return "6f0b9a52-0c0e-4a3c-9a66-5b0c1f0f7a11"
	case "ipv4":
		return "192.0.2.7"
	case "ipv6":
		return "2001:db8::7"
	case "hostname", "idn-hostname":
		return "kelmere.example"
	case "duration":
		return "PT30M"
	case "idn-email":
		return "ann@kelmere.example"
	case "uri-reference", "iri", "iri-reference":
		return "https://kelmere.example/"
	case "json-pointer":
		return "/berth"
	case "regex":
		return "^[A-Z]$"
	}
	say, _ := d["description"].(string)
	if _, after, ok := strings.Cut(say, "such as "); ok { // descriptions give examples in words
		if ex, _, _ := strings.Cut(after, ";"); ex != "" {
			return strings.TrimRight(strings.SplitN(ex, ", ", 2)[0], ".")
		}
	}
	return "text"
}

// resolve follows a reference within a document.
func resolve(root map[string]any, ref string) map[string]any {
	path, ok := strings.CutPrefix(ref, "#")
	if !ok {
		return nil
	}
	var v any = root
	for _, p := range strings.Split(strings.TrimPrefix(path, "/"), "/") {
		if p == "" {
			continue
		}
		m, ok := v.(map[string]any)
		if !ok {
			return nil
		}
		v = m[strings.NewReplacer("~1", "/", "~0", "~").Replace(p)]
	}
	out, _ := v.(map[string]any)
	return out
}
