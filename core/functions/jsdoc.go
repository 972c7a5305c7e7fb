package functions

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

var tag = regexp.MustCompile(`^@(\w+)\s*(.*)$`)

// tags splits JSDoc, without its stars, into the text before its first tag and the tags.
func tags(lines []string) (head []string, found []jsTag) {
	if len(lines) == 1 {
		lines = strings.Split(strings.ReplaceAll(lines[0], " @", "\n@"), "\n")
	}
	for _, line := range lines {
		text := strings.TrimSpace(line)
		if effectLine.MatchString(text) {
			continue
		}
		if m := tag.FindStringSubmatch(text); m != nil {
			found = append(found, jsTag{m[1], m[2]})
			continue
		}
		if len(found) == 0 {
			head = append(head, text)
			continue
		}
		last := &found[len(found)-1]
		last.text = strings.TrimSpace(last.text + " " + text)
	}
	return head, found
}

type jsTag struct{ name, text string }

// param reads the text of @param or @property: {type} name - description, where the name may be
// in brackets, with a default.
func (t jsTag) param() (typ, name, fallback, says string, optional bool) {
	text := t.text
	if strings.HasPrefix(text, "{") {
		end := matching(text, 0)
		if end < 0 {
			return "", "", "", "", false
		}
		typ, text = strings.TrimSpace(text[1:end]), strings.TrimSpace(text[end+1:])
	}
	if strings.HasPrefix(text, "[") {
		end := matching(text, 0)
		if end < 0 {
			return "", "", "", "", false
		}
		name, fallback, _ = strings.Cut(text[1:end], "=")
		name, fallback, optional, text = strings.TrimSpace(name), strings.TrimSpace(fallback), true, text[end+1:]
	} else {
		n := strings.IndexFunc(text, unicode.IsSpace)
		if n < 0 {
			n = len(text)
		}
		name, text = text[:n], text[n:]
	}
	text = strings.TrimSpace(text)
	return typ, name, fallback, strings.TrimSpace(strings.TrimPrefix(text, "- ")), optional
}

// returned reads the text of @returns: {type} description.
func (t jsTag) returned() (typ, says string) {
	if strings.HasPrefix(t.text, "{") {
		if end := matching(t.text, 0); end > 0 {
			return strings.TrimSpace(t.text[1:end]), strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(t.text[end+1:]), "- "))
		}
	}
	return "", t.text
}

func jsDoc(lines []string, d described) described {
	head, found := tags(lines)
	d.summary = paragraphs(head)
	for _, t := range found {
		switch t.name {
		case "description", "desc", "summary":
			if d.summary == "" {
				d.summary = t.text
			}
		case "param", "arg", "argument":
			_, name, _, says, _ := t.param()
			if i := strings.LastIndex(name, "."); i >= 0 {
				name = name[i+1:]
			} else if spread(found, name) {
				continue // the object that the parameters are fields of
			}
			if says != "" {
				d.params[name] = says
			}
		case "returns", "return":
			_, d.returns = t.returned()
		}
	}
	return d
}

// spread says whether a parameter is an object whose fields have tags of their own.
func spread(found []jsTag, name string) bool {
	for _, t := range found {
		if _, n, _, _, _ := t.param(); t.name == "param" && strings.HasPrefix(n, name+".") {
			return true
		}
	}
	return false
}

// Script is a file of JavaScript or TypeScript, as its text says it.
type Script struct {
	text, blank string // blank has no comments and texts, and each letter where text has it
	types       map[string]jsTag
	fields      map[string][]jsTag
	bounds      map[string]map[string]any // of types, as tags say them that are keywords of JSON Schema
}

// ReadScript reads a file.
func ReadScript(text string) *Script {
	s := &Script{text: text, blank: blanked(text), types: map[string]jsTag{}, fields: map[string][]jsTag{}, bounds: map[string]map[string]any{}}
	for _, block := range regexp.MustCompile(`(?s)/\*\*.*?\*/`).FindAllString(text, -1) {
		name := ""
		_, found := tags(unstarred(block))
		for _, t := range found {
			switch t.name {
			case "typedef":
				typ, n, _, says, _ := t.param()
				name = n
				s.types[name] = jsTag{typ, says}
			case "property", "prop":
				if name != "" {
					s.fields[name] = append(s.fields[name], t)
				}
			case "format", "pattern", "minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf", "minLength", "maxLength", "minItems", "maxItems":
				v, ok := literal(t.text)
				if !ok || t.name == "format" || t.name == "pattern" {
					v = strings.TrimSpace(t.text)
				}
				if s.bounds[name] == nil {
					s.bounds[name] = map[string]any{}
				}
				s.bounds[name][t.name] = v
			}
		}
	}
	for _, m := range declares.FindAllStringSubmatchIndex(s.blank, -1) {
		if m[2] >= 0 { // interface NAME {
			if end := matching(text, m[1]-1); end > 0 {
				s.types[text[m[2]:m[3]]] = jsTag{name: text[m[1]-1 : end+1]}
			}
			continue
		}
		s.types[text[m[4]:m[5]]] = jsTag{name: strings.TrimSpace(parts(text[m[1]:], ';')[0])}
	}
	return s
}

// declares finds types as TypeScript declares them. An alias ends with its semicolon.
var declares = regexp.MustCompile(`(?m)^[ \t]*(?:export\s+)?(?:interface\s+(\w+)\s*\{|type\s+(\w+)\s*=)`)

// Function finds a function that the file exports under a name.
func (s *Script) Function(name string) Function {
	f := Function{Name: name, Line: 1, End: 1}
	q := regexp.QuoteMeta(name)
	begins := regexp.MustCompile(`(?:export\s+(?:default\s+)?)?(?:async\s+)?function\s*\*?\s+` + q + `\s*(?:<[^>]*>)?\s*(\()|` +
		`(?:export\s+)?(?:const|let|var)\s+` + q + `\b[^=;]*=\s*(?:async\s*)?(?:function\b[^(]*)?(\(|[A-Za-z_$][\w$]*\s*=>)|` +
		`(?:module\s*\.\s*)?exports\s*\.\s*` + q + `\s*=\s*(?:async\s*)?(?:function\b[^(]*)?(\(|[A-Za-z_$][\w$]*\s*=>)`)
	m := begins.FindStringSubmatchIndex(s.blank)
	if m == nil {
		f.Fault = "its text was not found: write it as   export function " + name + "(…)"
		return f
	}
	open := max(m[2], m[4], m[6])
	f.Line = 1 + strings.Count(s.text[:m[0]], "\n")
	f.Doc = strings.Join(s.before(m[0]), "\n")
	inside, rest, gives := "", 0, ""
	if s.blank[open] == '(' {
		end := matching(s.blank, open)
		if end < 0 {
			f.Fault = "its parameters cannot be read"
			return f
		}
		inside, rest = s.text[open+1:end], end
		if after := strings.TrimSpace(s.text[end+1:]); strings.HasPrefix(after, ":") {
			gives = after[1:]
		}
	} else {
		inside, rest = strings.TrimSpace(strings.SplitN(s.text[open:], "=>", 2)[0]), open
	}
	f.End = s.endOf(rest)
	s.contract(&f, inside, gives)
	return f
}

// endOf gives the line where the body ends that follows a place.
func (s *Script) endOf(at int) int {
	if n := strings.IndexByte(s.blank[at:], '{'); n >= 0 {
		if end := matching(s.blank, at+n); end > 0 {
			return 1 + strings.Count(s.text[:end], "\n")
		}
	}
	return 1 + strings.Count(s.text[:at], "\n")
}

// before gives the lines of the JSDoc that ends right before a place.
func (s *Script) before(at int) []string {
	head := s.text[:at]
	for { // comments of a line may stand between
		head = strings.TrimRightFunc(head, unicode.IsSpace)
		line := head[strings.LastIndexByte(head, '\n')+1:]
		if !strings.HasPrefix(strings.TrimSpace(line), "//") {
			break
		}
		head = head[:len(head)-len(line)]
	}
	if !strings.HasSuffix(head, "*/") {
		return nil
	}
	start := strings.LastIndex(head, "/**")
	if start < 0 || strings.Contains(head[start:len(head)-2], "*/") {
		return nil
	}
	return unstarred(head[start:])
}

func unstarred(block string) []string {
	block = strings.TrimSuffix(strings.TrimPrefix(block, "/**"), "*/")
	lines := strings.Split(block, "\n")
	for i, l := range lines {
		l = strings.TrimSpace(l)
		lines[i] = strings.TrimPrefix(strings.TrimPrefix(l, "*"), " ")
	}
	return lines
}

// contract reads parameters and result of a function. What TypeScript says of the result is at
// the head of gives.
func (s *Script) contract(f *Function, inside, gives string) {
	_, found := tags(strings.Split(f.Doc, "\n"))
	types := &typeReader{script: s, defs: map[string]any{}}
	said := map[string]jsTag{}
	for _, t := range found {
		if t.name == "param" || t.name == "arg" || t.name == "argument" {
			_, name, _, _, _ := t.param()
			said[name[strings.LastIndex(name, ".")+1:]] = t
		}
	}
	add := func(name, own, fallback string, optional bool) {
		if name == "_session" {
			f.Params = append(f.Params, Param{Name: name})
			return
		}
		p := Param{Name: name, Required: !optional}
		typ := own
		if t, ok := said[name]; ok {
			said, _, def, _, maybe := t.param()
			p.Required = p.Required && !maybe && !strings.HasSuffix(said, "=")
			if said != "" {
				typ = said
			}
			if fallback == "" {
				fallback = def
			}
		}
		if typ != "" {
			var err error
			if p.Schema, err = types.read(strings.TrimSuffix(typ, "=")); err != nil {
				f.Fault = fmt.Sprintf("the type of %s: %v", name, err)
			}
		}
		if v, ok := literal(fallback); ok && v != nil {
			if p.Schema == nil {
				p.Schema = map[string]any{"type": typeOf(v)}
			}
			p.Schema["default"] = v
		}
		f.Params = append(f.Params, p)
	}
	for _, part := range parts(inside, ',') {
		part = strings.TrimSpace(part)
		switch {
		case part == "":
		case strings.HasPrefix(part, "..."):
			f.Fault = "it takes any number of arguments (" + part + "), which have no names"
		case strings.HasPrefix(part, "{"):
			end := matching(part, 0)
			if end < 0 {
				f.Fault = "its parameters cannot be read"
				return
			}
			f.Fields = true
			for _, field := range parts(part[1:end], ',') {
				if name, _, fallback, optional := parameter(field); name != "" { // what follows a colon here is another name for it
					add(name, "", fallback, optional || optionalIn(found, name))
				}
			}
		default:
			name, own, fallback, optional := parameter(part)
			add(name, own, fallback, optional)
		}
	}
	for _, t := range found {
		if t.name != "returns" && t.name != "return" {
			continue
		}
		if typ, _ := t.returned(); typ != "" {
			if r, err := types.read(typ); err == nil && len(r) > 0 {
				f.Returns = r
			}
		}
	}
	if typ := typeAhead(gives); f.Returns == nil && typ != "" {
		if r, err := types.read(typ); err == nil && len(r) > 0 {
			f.Returns = r
		}
	}
	f.Defs = types.defs
}

// typeAhead gives the type that stands before the body of a function.
func typeAhead(text string) string {
	text = strings.TrimLeft(text, " \t\n")
	blank, depth := blanked(text), 0
	for i := 0; i < len(blank); i++ {
		switch c := blank[i]; {
		case depth == 0 && i > 0 && (c == '{' || c == '=' || c == ';'):
			return strings.TrimSpace(text[:i])
		case strings.IndexByte("([{<", c) >= 0:
			depth++
		case strings.IndexByte(")]}>", c) >= 0:
			depth--
		}
	}
	return ""
}

func optionalIn(found []jsTag, name string) bool {
	for _, t := range found {
		if _, n, _, _, optional := t.param(); optional && strings.HasSuffix(n, "."+name) {
			return true
		}
	}
	return false
}

// parameter reads name?: type = default.
func parameter(text string) (name, typ, fallback string, optional bool) {
	text = strings.TrimSpace(text)
	blank := blanked(text)
	depth := 0
	colon, equal := -1, -1
	for i := 0; i < len(blank); i++ {
		switch c := blank[i]; {
		case strings.IndexByte("([{<", c) >= 0:
			depth++
		case strings.IndexByte(")]}", c) >= 0 || c == '>' && blank[i-1] != '=':
			depth--
		case c == ':' && depth == 0 && colon < 0 && equal < 0:
			colon = i
		case c == '=' && depth == 0 && equal < 0 && (i+1 == len(blank) || blank[i+1] != '>'):
			equal = i
		}
	}
	head := text
	if equal >= 0 {
		head, fallback, optional = text[:equal], strings.TrimSpace(text[equal+1:]), true
	}
	if colon >= 0 {
		typ = strings.TrimSpace(head[colon+1:])
		head = head[:colon]
	}
	head = strings.TrimSpace(head)
	if h, ok := strings.CutSuffix(head, "?"); ok {
		head, optional = h, true
	}
	return head, typ, fallback, optional
}

// literal reads a value that is written out.
func literal(text string) (v any, ok bool) {
	text = strings.TrimSpace(text)
	if len(text) > 1 && (text[0] == '\'' || text[0] == '`') && text[len(text)-1] == text[0] && !strings.ContainsAny(text[1:len(text)-1], "\\'\"`$") {
		return text[1 : len(text)-1], true
	}
	return v, text != "" && json.Unmarshal([]byte(text), &v) == nil
}

func typeOf(v any) string {
	switch v.(type) {
	case string:
		return "string"
	case bool:
		return "boolean"
	case float64:
		return "number"
	case []any:
		return "array"
	}
	return "object"
}

// typeReader makes schemas of types, as JSDoc and TypeScript write them.
type typeReader struct {
	script *Script
	defs   map[string]any
}

func (r *typeReader) read(typ string) (map[string]any, error) {
	typ = strings.TrimSpace(typ)
	if typ == "" {
		return nil, fmt.Errorf("it is empty")
	}
	if list := parts(typ, '|'); len(list) > 1 {
		return r.union(list)
	}
	if matching(typ, 0) == len(typ)-1 && typ[0] == '(' {
		return r.read(typ[1 : len(typ)-1])
	}
	if t, ok := strings.CutPrefix(typ, "?"); ok {
		return r.union([]string{t, "null"})
	}
	if t, ok := strings.CutPrefix(typ, "!"); ok {
		return r.read(t)
	}
	if t, ok := strings.CutSuffix(typ, "[]"); ok {
		items, err := r.read(t)
		return map[string]any{"type": "array", "items": items}, err
	}
	if v, ok := literal(typ); ok && v != nil {
		return map[string]any{"enum": []any{v}, "type": typeOf(v)}, nil
	}
	if typ[0] == '{' && matching(typ, 0) == len(typ)-1 {
		return r.record(typ[1 : len(typ)-1])
	}
	if i := strings.IndexByte(typ, '<'); i > 0 && typ[len(typ)-1] == '>' {
		of := parts(typ[i+1:len(typ)-1], ',')
		switch name := strings.TrimSuffix(strings.TrimSpace(typ[:i]), "."); {
		case (name == "Array" || name == "ReadonlyArray") && len(of) == 1:
			items, err := r.read(of[0])
			return map[string]any{"type": "array", "items": items}, err
		case (name == "Record" || name == "Object" || name == "object") && len(of) == 2:
			more, err := r.read(of[1])
			return map[string]any{"type": "object", "additionalProperties": more}, err
		case name == "Promise" && len(of) == 1:
			return r.read(of[0])
		}
	}
	switch typ {
	case "string", "String":
		return map[string]any{"type": "string"}, nil
	case "number", "Number":
		return map[string]any{"type": "number"}, nil
	case "integer", "int":
		return map[string]any{"type": "integer"}, nil
	case "boolean", "Boolean", "bool":
		return map[string]any{"type": "boolean"}, nil
	case "null", "undefined", "void":
		return map[string]any{"type": "null"}, nil
	case "object", "Object":
		return map[string]any{"type": "object"}, nil
	case "Array", "array":
		return map[string]any{"type": "array"}, nil
	case "any", "*", "unknown":
		return map[string]any{}, nil
	}
	return r.named(typ)
}

func (r *typeReader) union(list []string) (map[string]any, error) {
	var values, schemas []any
	for _, t := range list {
		if v, ok := literal(t); ok && v != nil {
			values = append(values, v)
		}
		s, err := r.read(t)
		if err != nil {
			return nil, err
		}
		schemas = append(schemas, s)
	}
	if len(values) == len(list) {
		s := map[string]any{"enum": values}
		if typ := typeOf(values[0]); !slices.ContainsFunc(values, func(v any) bool { return typeOf(v) != typ }) {
			s["type"] = typ
		}
		return s, nil
	}
	return map[string]any{"anyOf": schemas}, nil
}

func (r *typeReader) record(text string) (map[string]any, error) {
	props, required := map[string]any{}, []any{}
	for _, p := range fieldsOf(text) {
		name, typ, _, optional := parameter(p.text)
		s, err := r.read(typ)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		if p.says != "" {
			s["description"] = p.says
		}
		if props[name] = s; !optional {
			required = append(required, name)
		}
	}
	out := map[string]any{"type": "object", "properties": props}
	if len(required) > 0 {
		out["required"] = required
	}
	return out, nil
}

// fieldText is a field of a type that is written out, and the comment before it.
type fieldText struct{ text, says string }

// fieldsOf splits the fields of a type, which end with a comma, a semicolon, or their line.
func fieldsOf(text string) (out []fieldText) {
	blank, says := blanked(text), ""
	depth, from := 0, 0
	for i := 0; i <= len(blank); i++ {
		c := byte(',')
		if i < len(blank) {
			c = blank[i]
		}
		switch {
		case strings.IndexByte("([{<", c) >= 0:
			depth++
		case strings.IndexByte(")]}", c) >= 0 || c == '>' && blank[i-1] != '=':
			depth--
		case depth == 0 && strings.IndexByte(",;\n", c) >= 0:
			part := text[from:i]
			from = i + 1
			for _, m := range comment.FindAllString(part, -1) {
				says = strings.Join(strings.Fields(strings.Join(unstarred(strings.Replace(m, "//", "/**", 1)), " ")), " ")
			}
			if part = strings.TrimSpace(comment.ReplaceAllString(part, "")); part != "" {
				out = append(out, fieldText{strings.TrimPrefix(part, "readonly "), says})
				says = ""
			}
		}
	}
	return out
}

var comment = regexp.MustCompile(`(?s)/\*\*?.*?\*/|//[^\n]*`)

// named reads a type that a typedef of the file says.
func (r *typeReader) named(name string) (map[string]any, error) {
	t, ok := r.script.types[name]
	if !ok {
		return nil, fmt.Errorf("%s is not a type that is known here; write one of JSON's, or say it in a @typedef of the file", strconv.Quote(name))
	}
	ref := map[string]any{"$ref": "#/$defs/" + name}
	if _, done := r.defs[name]; done {
		return ref, nil
	}
	r.defs[name] = map[string]any{} // it may name itself
	fields := r.script.fields[name]
	if len(fields) == 0 {
		s, err := r.read(t.name)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		maps.Copy(s, r.script.bounds[name])
		if t.text != "" && s["description"] == nil {
			s["description"] = t.text
		}
		if typ := s["type"]; typ != "object" && typ != "array" {
			delete(r.defs, name)
			return s, nil
		}
		r.defs[name] = s
		return ref, nil
	}
	props, required := map[string]any{}, []any{}
	for _, f := range fields {
		typ, field, fallback, says, optional := f.param()
		s, err := r.read(typ)
		if err != nil {
			return nil, fmt.Errorf("%s.%s: %w", name, field, err)
		}
		if says != "" {
			s["description"] = says
		}
		if v, ok := literal(fallback); ok && v != nil {
			s["default"] = v
		}
		if props[field] = s; !optional {
			required = append(required, field)
		}
	}
	def := map[string]any{"type": "object", "properties": props}
	if len(required) > 0 {
		def["required"] = required
	}
	if t.text != "" {
		def["description"] = t.text
	}
	r.defs[name] = def
	return ref, nil
}
