// Package openapi reads OpenAPI 3.0 and 3.1 documents and makes a catalogue of
// their operations: of each a tool's name, its summary, the JSON Schema of its
// arguments, and how a request is made of them. Each operation is read alone,
// so that a broken one does not keep the others out.
package openapi

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"stonebaton.example/core/project"
)

// Bounds of one document.
const (
	maxDocument = 64 << 20
	maxParts    = 2000 // schemas that one operation refers to
	maxNested   = 64
)

// Read makes a catalogue of a document, in JSON or YAML. Operations that cannot be
// used are in it with their fault; an error means that there is no document.
func Read(raw []byte) (project.Catalogue, error) {
	if len(raw) > maxDocument {
		return project.Catalogue{}, fmt.Errorf("the document is larger than %d MB, the most that is read", maxDocument>>20)
	}
	root, err := decode(raw)
	if err != nil {
		return project.Catalogue{}, err
	}
	version, _ := root["openapi"].(string)
	if !strings.HasPrefix(version, "3.") {
		if s, ok := root["swagger"].(string); ok {
			return project.Catalogue{}, fmt.Errorf("this is a document of version %s; OpenAPI 3.0 and 3.1 are read", s)
		}
		return project.Catalogue{}, errors.New("this is no OpenAPI document: it has no openapi: 3.…")
	}
	r := reader{root: root, old: strings.HasPrefix(version, "3.0"), parts: map[partKey]*part{}, names: map[string]bool{}}
	info, _ := root["info"].(map[string]any)
	title, _ := info["title"].(string)
	rev, _ := info["version"].(string)
	cat := project.Catalogue{From: strings.Join(strings.Fields(fmt.Sprintf("%s %s (OpenAPI %s)", title, rev, version)), " "), Tools: []project.Offer{}}
	paths, _ := root["paths"].(map[string]any)
	if len(paths) == 0 {
		return cat, errors.New("the document has no paths")
	}
	seen := map[string]int{}
	for _, p := range slices.Sorted(maps.Keys(paths)) {
		item, ok := r.follow(paths[p]).(map[string]any)
		if !ok {
			continue
		}
		for _, method := range []string{"get", "head", "post", "put", "patch", "delete"} {
			op, ok := item[method].(map[string]any)
			if !ok {
				if _, there := item[method]; there {
					cat.Tools = append(cat.Tools, project.Offer{Name: method + " " + p, Tool: named(method + " " + p), Fault: "the operation is not an object"})
				}
				continue
			}
			o := r.offer(p, method, item, op)
			if seen[o.Tool]++; seen[o.Tool] > 1 {
				o.Tool = project.ToolName(fmt.Sprintf("%.44s_%d", o.Tool, seen[o.Tool]))
			}
			cat.Tools = append(cat.Tools, o)
		}
	}
	return cat, nil
}

func decode(raw []byte) (map[string]any, error) {
	var root map[string]any
	trimmed := strings.TrimSpace(string(raw[:min(len(raw), 200)]))
	if strings.HasPrefix(trimmed, "{") {
		err := json.Unmarshal(raw, &root)
		var syn *json.SyntaxError
		if errors.As(err, &syn) {
			line := 1 + strings.Count(string(raw[:min(int(syn.Offset), len(raw))]), "\n")
			return nil, fmt.Errorf("line %d: this is not JSON: %w", line, err)
		}
		if err != nil {
			return nil, fmt.Errorf("this is not JSON: %w", err)
		}
		return root, nil
	}
	var v any
	if err := yaml.Unmarshal(raw, &v); err != nil {
		return nil, fmt.Errorf("this is neither JSON nor YAML: %w", err)
	}
	root, ok := plain(v).(map[string]any)
	if !ok {
		return nil, errors.New("this is no OpenAPI document: it is not an object")
	}
	return root, nil
}

// plain gives a value of YAML as encoding/json has it.
func plain(v any) any {
	switch x := v.(type) {
	case map[string]any:
		for k := range x {
			x[k] = plain(x[k])
		}
	case map[any]any:
		out := make(map[string]any, len(x))
		for k, e := range x {
			out[fmt.Sprint(k)] = plain(e)
		}
		return out
	case []any:
		for i := range x {
			x[i] = plain(x[i])
		}
	case int:
		return float64(x)
	case int64:
		return float64(x)
	case uint64:
		return float64(x)
	}
	return v
}

// reader reads one document.
type reader struct {
	root  map[string]any
	old   bool // OpenAPI 3.0, whose schemas are not quite JSON Schema
	parts map[partKey]*part
	names map[string]bool // of parts
}

// partKey names a schema that is referred to, as it is for what is sent or for
// what comes back.
type partKey struct {
	ref  string
	sent bool
}

// part is such a schema, made once for all operations.
type part struct {
	name string
	doc  map[string]any
	refs []partKey // that it refers to itself
	err  error
}

// find gives what a local reference points at.
func (r *reader) find(ref string) (any, error) {
	path, ok := strings.CutPrefix(ref, "#/")
	if !ok {
		return nil, fmt.Errorf("it refers to %s, outside the document", ref)
	}
	var v any = r.root
	for _, p := range strings.Split(path, "/") {
		p = strings.NewReplacer("~1", "/", "~0", "~", "%7B", "{", "%7D", "}").Replace(p)
		m, ok := v.(map[string]any)
		if ok {
			v, ok = m[p]
		}
		if !ok {
			return nil, fmt.Errorf("it refers to %s, which is not there", ref)
		}
	}
	return v, nil
}

// follow gives a value, or what it refers to; nil where that is not there.
func (r *reader) follow(v any) any {
	for range maxNested {
		m, ok := v.(map[string]any)
		if !ok {
			return v
		}
		ref, ok := m["$ref"].(string)
		if !ok {
			return v
		}
		next, err := r.find(ref)
		if err != nil {
			return nil
		}
		v = next
	}
	return nil
}

// named makes a tool's name of an operation's, or of its method and path.
func named(s string) string {
	return project.ToolName(strings.NewReplacer("{", "by_", "}", "").Replace(s))
}

func (r *reader) offer(path, method string, item, op map[string]any) project.Offer {
	name, _ := op["operationId"].(string)
	if name == "" {
		name = method + " " + path
	}
	o := project.Offer{Name: name, Tool: named(name), Summary: summary(op), Says: map[string]string{"get": "read", "head": "read"}[method]}
	b := builder{reader: r, sent: true, defs: map[string]any{}, props: map[string]any{}}
	o.Operation = &project.Operation{Method: strings.ToUpper(method), Path: path, Server: r.server(op, item)}
	if err := b.build(o.Operation, item, op); err != nil {
		o.Fault, o.Operation = err.Error(), nil
		return o
	}
	o.Input = map[string]any{"type": "object", "properties": b.props, "additionalProperties": false}
	if len(b.required) > 0 {
		req := []any{}
		for _, k := range b.required {
			if !slices.Contains(req, any(k)) {
				req = append(req, k)
			}
		}
		o.Input["required"] = req
	}
	if len(b.defs) > 0 {
		o.Input["$defs"] = b.defs
	}
	out := builder{reader: r, defs: map[string]any{}}
	if s, err := out.result(op); err == nil && s != nil {
		if len(out.defs) > 0 {
			s["$defs"] = out.defs
		}
		o.Output = s
	}
	return o
}

func summary(op map[string]any) string {
	s, _ := op["summary"].(string)
	d, _ := op["description"].(string)
	s, d = strings.TrimSpace(s), strings.TrimSpace(d)
	if first, _, ok := strings.Cut(d, "\n\n"); ok {
		d = first
	}
	d = strings.Join(strings.Fields(d), " ")
	switch {
	case s == "":
		s = d
	case d != "" && !strings.HasPrefix(d, s) && len(d) < 600:
		s = strings.TrimSuffix(s, ".") + ". " + d
	case d != "" && len(d) < 600:
		s = d
	}
	if len(s) > 1000 {
		s = strings.ToValidUTF8(s[:1000], "") + "…"
	}
	return s
}

// server gives the nearest server, its variables at their defaults.
func (r *reader) server(op, item map[string]any) string {
	for _, at := range []map[string]any{op, item, r.root} {
		list, _ := at["servers"].([]any)
		if len(list) == 0 {
			continue
		}
		s, _ := list[0].(map[string]any)
		u, _ := s["url"].(string)
		vars, _ := s["variables"].(map[string]any)
		for k, v := range vars {
			m, _ := v.(map[string]any)
			d, _ := m["default"].(string)
			u = strings.ReplaceAll(u, "{"+k+"}", d)
		}
		return u
	}
	return ""
}

// builder puts the contract of one operation together, or one part. Schemas that
// an operation refers to, and those that they do, stand in defs, so that circles stay
// circles; parts are made once and shared.
type builder struct {
	*reader
	sent     bool // what is sent, not what comes back
	props    map[string]any
	required []string
	defs     map[string]any
	part     *part // that is being made; nil for an operation
}

// fileWords describe an argument that names a file.
const fileWords = "Name of a file that came with an earlier result, or the path of one that may be sent; or a result:… for all of a result."

// isFile says whether a schema is of a file where it stands in a body that is not JSON.
func (b *builder) isFile(v any) bool {
	m, ok := b.follow(v).(map[string]any)
	if !ok {
		return false
	}
	t, _ := m["type"].(string)
	format, _ := m["format"].(string)
	kind, _ := m["contentMediaType"].(string)
	switch {
	case t == "string" && format == "binary", t == "string" && kind != "" && m["contentEncoding"] == nil, t == "" && kind != "":
		return true
	case t == "" && len(m) == 0:
		return true // 3.1 has it so
	}
	return false
}

// file gives the schema of an argument that names a file.
func (b *builder) file(v any) map[string]any {
	m, _ := b.follow(v).(map[string]any)
	said, _ := m["description"].(string)
	if said = strings.Join(strings.Fields(said), " "); said != "" {
		said = strings.TrimSuffix(said, ".") + ". "
	}
	return map[string]any{"type": "string", "minLength": 1.0, "description": said + fileWords}
}

// multipart gives the schema of a body in parts, and notes which of them are files.
func (b *builder) multipart(o *project.Operation, v any) (map[string]any, error) {
	m, _ := b.follow(v).(map[string]any)
	props, _ := m["properties"].(map[string]any)
	rest := maps.Clone(m)
	left := map[string]any{}
	files := map[string]any{}
	for _, k := range slices.Sorted(maps.Keys(props)) {
		one, _ := b.follow(props[k]).(map[string]any)
		switch {
		case b.isFile(props[k]):
			files[k] = b.file(props[k])
		case one["type"] == "array" && b.isFile(one["items"]):
			files[k] = map[string]any{"type": "array", "items": b.file(one["items"])}
		default:
			left[k] = props[k]
			continue
		}
		o.Files = append(o.Files, k)
	}
	if rest != nil {
		rest["properties"] = left
	}
	doc, err := b.schema(rest, 0)
	if err != nil {
		return nil, err
	}
	if have, ok := doc["properties"].(map[string]any); ok {
		maps.Copy(have, files)
	}
	return doc, nil
}

func (b *builder) build(o *project.Operation, item, op map[string]any) error {
	type key struct{ in, name string }
	params, order := map[key]map[string]any{}, []key{}
	for _, from := range []map[string]any{item, op} { // the operation's own go before the path's
		list, _ := from["parameters"].([]any)
		for i, e := range list {
			p, ok := b.follow(e).(map[string]any)
			if !ok {
				return fmt.Errorf("its parameter %d refers to nothing", i+1)
			}
			name, _ := p["name"].(string)
			in, _ := p["in"].(string)
			if name == "" || !slices.Contains([]string{"path", "query", "header", "cookie"}, in) {
				return fmt.Errorf("its parameter %d has no name, or no place in the request", i+1)
			}
			k := key{in, name}
			if _, ok := params[k]; !ok {
				order = append(order, k)
			}
			params[k] = p
		}
	}
	for _, k := range order {
		low := strings.ToLower(k.name)
		if k.in == "header" && (low == "accept" || low == "content-type" || low == "authorization") {
			continue // the standard leaves these to others
		}
		if err := b.parameter(o, k.in, k.name, params[k]); err != nil {
			return fmt.Errorf("its parameter %q: %w", k.name, err)
		}
	}
	for _, part := range strings.Split(o.Path, "{")[1:] {
		name, _, _ := strings.Cut(part, "}")
		if !slices.ContainsFunc(o.Params, func(p project.Param) bool { return p.In == "path" && p.Name == name }) {
			return fmt.Errorf("its path has {%s}, but there is no such parameter", name)
		}
	}
	return b.body(o, op)
}

func (b *builder) parameter(o *project.Operation, in, name string, p map[string]any) error {
	out, err := styled(in, name, p)
	if err != nil {
		return err
	}
	s := p["schema"]
	if content, ok := p["content"].(map[string]any); ok && s == nil {
		for _, k := range slices.Sorted(maps.Keys(content)) {
			m, _ := content[k].(map[string]any)
			s, out.Content = m["schema"], k
			break
		}
	}
	doc, err := b.schema(s, 0)
	if err != nil {
		return err
	}
	describe(doc, p)
	arg := name
	if _, taken := b.props[arg]; taken {
		arg = in + "_" + name
	}
	b.props[arg] = doc
	if p["required"] == true || in == "path" {
		b.required = append(b.required, arg)
	}
	out.Arg = arg
	o.Params = append(o.Params, out)
	return nil
}

// styled reads how a parameter, or a field of a form, is written.
func styled(in, name string, p map[string]any) (project.Param, error) {
	out := project.Param{Name: name, In: in}
	out.Style, _ = p["style"].(string)
	if out.Style != "" && !slices.Contains(styles[in], out.Style) {
		return out, fmt.Errorf("there is no style %q in the %s", out.Style, in)
	}
	out.Reserved, _ = p["allowReserved"].(bool)
	if e, ok := p["explode"].(bool); ok {
		out.Explode = e
	} else {
		out.Explode = cmp.Or(out.Style, styles[in][0]) == form || out.Style == deep
	}
	return out, nil
}

// describe gives a schema the description and example that stand beside it.
func describe(doc, from map[string]any) {
	if d, ok := from["description"].(string); ok && strings.TrimSpace(d) != "" {
		if _, has := doc["description"]; !has {
			doc["description"] = strings.Join(strings.Fields(d), " ")
		}
	}
	if ex, ok := from["example"]; ok && doc["examples"] == nil {
		doc["examples"] = []any{ex}
	}
}

func (b *builder) body(o *project.Operation, op map[string]any) error {
	if op["requestBody"] == nil {
		return nil
	}
	rb, ok := b.follow(op["requestBody"]).(map[string]any)
	if !ok {
		return errors.New("its body refers to nothing")
	}
	content, _ := rb["content"].(map[string]any)
	kind, media := pick(content)
	if kind == "" {
		return fmt.Errorf("its body is of a kind that is not sent here: %s", strings.Join(slices.Sorted(maps.Keys(content)), ", "))
	}
	var doc map[string]any
	var err error
	switch {
	case kind == multipartBody:
		doc, err = b.multipart(o, media["schema"])
	case raw(kind):
		doc, o.Files = b.file(media["schema"]), []string{"body"}
	default:
		doc, err = b.schema(media["schema"], 0)
	}
	if err != nil {
		return fmt.Errorf("its body: %w", err)
	}
	o.Body = kind
	if err := fieldsOf(o, media); err != nil {
		return fmt.Errorf("its body: %w", err)
	}
	flat := b.flatten(doc)
	if props, ok := flat["properties"].(map[string]any); ok && flat["type"] == "object" && !b.clash(props) {
		maps.Copy(b.props, props)
		if req, ok := flat["required"].([]any); ok && rb["required"] == true {
			for _, k := range req {
				if s, ok := k.(string); ok {
					b.required = append(b.required, s)
				}
			}
		}
		return nil
	}
	o.Arg = "body"
	if _, taken := b.props["body"]; taken {
		o.Arg = "request_body"
	}
	if raw(kind) {
		o.Files = []string{o.Arg}
	}
	describe(doc, rb)
	b.props[o.Arg] = doc
	if rb["required"] == true {
		b.required = append(b.required, o.Arg)
	}
	return nil
}

// fieldsOf reads how the fields of a form are written, where the document says so of some.
func fieldsOf(o *project.Operation, media map[string]any) error {
	list, _ := media["encoding"].(map[string]any)
	if o.Body != formBody && o.Body != multipartBody {
		return nil
	}
	for name, e := range list {
		enc, _ := e.(map[string]any)
		p, err := styled("query", name, enc)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		if kind, _ := enc["contentType"].(string); enc["style"] == nil && enc["explode"] == nil && enc["allowReserved"] == nil {
			p.Content = kind
		}
		if o.Fields == nil {
			o.Fields = map[string]project.Param{}
		}
		o.Fields[name] = p
	}
	return nil
}

const (
	formBody      = "application/x-www-form-urlencoded"
	multipartBody = "multipart/form-data"
)

// raw says whether a body of a media type is a file as it is.
func raw(kind string) bool {
	group, _, _ := strings.Cut(kind, "/")
	return kind == "application/octet-stream" || kind == "application/pdf" || kind == "application/zip" || kind == "*/*" || group == "image" || group == "audio" || group == "video"
}

// Form writes the body of a form. Fields that the document says nothing of are written as in a
// query; one with parts is JSON.
func Form(o *project.Operation, fields map[string]any) string {
	var out []string
	for _, k := range slices.Sorted(maps.Keys(fields)) {
		p, said := o.Fields[k]
		if !said {
			p = project.Param{Name: k, In: "query", Explode: true}
			if _, parts := fields[k].(map[string]any); parts {
				p.Content = "application/json"
			}
		}
		if t := Encoded(p, fields[k]); t != "" {
			out = append(out, t)
		}
	}
	return strings.Join(out, "&")
}

// flatten gives the object that a schema is, where it is plainly one: by
// reference, or put together by allOf of objects.
func (b *builder) flatten(doc map[string]any) map[string]any {
	for n := 0; n < maxNested; n++ {
		ref, ok := doc["$ref"].(string)
		if !ok {
			break
		}
		next, ok := b.defs[strings.TrimPrefix(ref, "#/$defs/")].(map[string]any)
		if !ok {
			return doc
		}
		doc = next
	}
	parts, ok := doc["allOf"].([]any)
	if !ok {
		return doc
	}
	out := map[string]any{"type": "object"}
	props, req := map[string]any{}, []any{}
	for _, e := range append(parts, map[string]any{"type": "object", "properties": doc["properties"], "required": doc["required"]}) {
		m, _ := e.(map[string]any)
		m = b.flatten(m)
		p, ok := m["properties"].(map[string]any)
		if !ok && m["properties"] != nil || m["oneOf"] != nil || m["anyOf"] != nil {
			return doc
		}
		maps.Copy(props, p)
		if r, ok := m["required"].([]any); ok {
			req = append(req, r...)
		}
	}
	out["properties"], out["required"] = props, req
	return out
}

func (b *builder) clash(props map[string]any) bool {
	for k := range props {
		if _, ok := b.props[k]; ok {
			return true
		}
	}
	return false
}

// pick chooses a media type that can be sent.
func pick(content map[string]any) (string, map[string]any) {
	for _, want := range []func(string) bool{
		func(k string) bool { return k == "application/json" },
		func(k string) bool { return strings.HasPrefix(k, "application/json;") },
		func(k string) bool { return k == "application/merge-patch+json" }, // of an object, as arguments are
		func(k string) bool { return strings.HasPrefix(k, "application/json") || strings.HasSuffix(k, "+json") },
		func(k string) bool { return k == formBody },
		func(k string) bool { return k == multipartBody },
		func(k string) bool { return strings.HasPrefix(k, "text/") },
		func(k string) bool { return k == "*/*" && content[k].(map[string]any)["schema"] != nil },
		raw,
	} {
		for _, k := range slices.Sorted(maps.Keys(content)) {
			if m, ok := content[k].(map[string]any); ok && want(k) {
				if k == "*/*" && m["schema"] != nil {
					k = "application/json"
				}
				return k, m
			}
		}
	}
	return "", nil
}

// result gives the schema of what comes back when all went well.
func (b *builder) result(op map[string]any) (map[string]any, error) {
	resp, _ := op["responses"].(map[string]any)
	for _, code := range slices.Sorted(maps.Keys(resp)) {
		if !strings.HasPrefix(code, "2") {
			continue
		}
		one, _ := b.follow(resp[code]).(map[string]any)
		content, _ := one["content"].(map[string]any)
		kind, media := pick(content)
		if !strings.Contains(kind, "json") || media["schema"] == nil {
			return nil, nil
		}
		return b.schema(media["schema"], 0)
	}
	return nil, nil
}

// kept are the keywords of JSON Schema that are taken over as they are.
var kept = []string{"type", "format", "pattern", "enum", "const", "default", "minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf", "minLength", "maxLength",
	"minItems", "maxItems", "uniqueItems", "minContains", "maxContains", "minProperties", "maxProperties", "required", "dependentRequired", "description", "examples"}

// The keywords of JSON Schema whose values are schemas: one, a list of them, or some by name.
var (
	ofOne   = []string{"items", "additionalProperties", "unevaluatedItems", "unevaluatedProperties", "contains", "propertyNames", "not", "if", "then", "else"}
	ofSome  = []string{"allOf", "anyOf", "oneOf", "prefixItems"}
	ofNamed = []string{"patternProperties", "dependentSchemas"} // and properties, some of which are left out
)

// schema makes a JSON Schema of one of the document's.
func (b *builder) schema(v any, depth int) (map[string]any, error) {
	if depth > maxNested {
		return nil, fmt.Errorf("schemas are nested more than %d deep", maxNested)
	}
	switch x := v.(type) {
	case nil:
		return map[string]any{}, nil
	case bool:
		if x {
			return map[string]any{}, nil
		}
		return map[string]any{"not": map[string]any{}}, nil
	case map[string]any:
		if ref, ok := x["$ref"].(string); ok {
			return b.refer(ref, x, depth)
		}
		return b.object(x, depth)
	}
	return nil, errors.New("a schema is not an object")
}

func (b *builder) refer(ref string, x map[string]any, depth int) (map[string]any, error) {
	key := partKey{ref, b.sent}
	p := b.make(key)
	if b.part != nil {
		if p.err != nil {
			return nil, p.err
		}
		b.part.refs = append(b.part.refs, key)
	} else if err := b.collect(key); err != nil {
		return nil, err
	}
	beside := x
	if b.old { // there it stands alone
		beside = map[string]any{"description": x["description"]}
	}
	out, err := b.object(beside, depth)
	if err != nil {
		return nil, err
	}
	out["$ref"] = "#/$defs/" + p.name
	return out, nil
}

// make gives the part of a reference. One that refers to itself finds itself half
// made, and needs only its name.
func (r *reader) make(key partKey) *part {
	if p := r.parts[key]; p != nil {
		return p
	}
	last := key.ref[strings.LastIndexByte(key.ref, '/')+1:]
	if !key.sent {
		last += "_back"
	}
	name := last
	for n := 2; r.names[name]; n++ {
		name = fmt.Sprintf("%s_%d", last, n)
	}
	p := &part{name: name}
	r.parts[key], r.names[name] = p, true
	target, err := r.find(key.ref)
	if err != nil {
		p.err = err
		return p
	}
	b := builder{reader: r, sent: key.sent, part: p}
	if p.doc, p.err = b.schema(target, 0); p.err != nil {
		p.err = fmt.Errorf("%s: %w", key.ref[strings.LastIndexByte(key.ref, '/')+1:], p.err)
	}
	return p
}

// collect puts a part and all that it refers to into defs.
func (b *builder) collect(key partKey) error {
	line := []partKey{key}
	for len(line) > 0 {
		p := b.make(line[0])
		line = line[1:]
		if _, ok := b.defs[p.name]; ok {
			continue
		}
		if p.err != nil {
			return p.err
		}
		if len(b.defs) >= maxParts {
			return fmt.Errorf("it refers to more than %d schemas", maxParts)
		}
		b.defs[p.name] = p.doc
		line = append(line, p.refs...)
	}
	return nil
}

func (b *builder) object(x map[string]any, depth int) (map[string]any, error) {
	out := map[string]any{}
	for _, k := range kept {
		if v, ok := x[k]; ok && (v != nil || k == "const") {
			out[k] = v
		}
	}
	if ex, ok := x["example"]; ok && out["examples"] == nil {
		out["examples"] = []any{ex}
	}
	if t, ok := out["type"].(string); ok && !slices.Contains([]string{"string", "number", "integer", "boolean", "array", "object", "null"}, t) {
		return nil, fmt.Errorf("there is no type %q", t)
	}
	if f, _ := out["format"].(string); f == "int32" || f == "int64" || f == "float" || f == "double" || f == "binary" || f == "byte" || f == "password" {
		delete(out, "format") // of machines, not of what stands in JSON
	}
	if props, ok := x["properties"].(map[string]any); ok {
		into := map[string]any{}
		for _, k := range slices.Sorted(maps.Keys(props)) {
			sub, ok := props[k].(map[string]any)
			if ok && sub["readOnly"] == true && b.sent {
				if req, ok := out["required"].([]any); ok {
					out["required"] = slices.DeleteFunc(slices.Clone(req), func(e any) bool { return e == k })
				}
				continue // theirs to fill in
			}
			doc, err := b.schema(props[k], depth+1)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", k, err)
			}
			into[k] = doc
		}
		out["properties"] = into
		if out["type"] == nil {
			out["type"] = "object"
		}
	}
	for _, k := range ofOne {
		switch v := x[k].(type) {
		case nil:
		case bool:
			out[k] = v
		default:
			doc, err := b.schema(v, depth+1)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", k, err)
			}
			out[k] = doc
		}
	}
	for _, k := range ofNamed {
		list, ok := x[k].(map[string]any)
		if !ok {
			continue
		}
		into := map[string]any{}
		for _, name := range slices.Sorted(maps.Keys(list)) {
			doc, err := b.schema(list[name], depth+1)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			into[name] = doc
		}
		out[k] = into
	}
	for _, k := range ofSome {
		list, ok := x[k].([]any)
		if !ok {
			continue
		}
		into := []any{}
		for _, e := range list {
			doc, err := b.schema(e, depth+1)
			if err != nil {
				return nil, err
			}
			into = append(into, doc)
		}
		if len(into) > 0 {
			out[k] = into
		}
	}
	if b.old {
		return dated(x, out), nil
	}
	return out, nil
}

// dated turns what OpenAPI 3.0 says in its own way into what JSON Schema says.
func dated(x, out map[string]any) map[string]any {
	for _, pair := range [][2]string{{"exclusiveMinimum", "minimum"}, {"exclusiveMaximum", "maximum"}} {
		if is, ok := out[pair[0]].(bool); ok {
			delete(out, pair[0])
			if is && out[pair[1]] != nil {
				out[pair[0]] = out[pair[1]]
				delete(out, pair[1])
			}
		}
	}
	if x["nullable"] != true {
		return out
	}
	if t, ok := out["type"].(string); ok {
		out["type"] = []any{t, "null"}
	}
	if e, ok := out["enum"].([]any); ok && !slices.Contains(e, nil) {
		out["enum"] = append(slices.Clone(e), nil)
	}
	return out
}
