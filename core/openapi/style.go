package openapi

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/project"
)

// The styles of parameters (OpenAPI 3.1.1, section 4.8.12.3, after RFC 6570).
const (
	simple = "simple"
	label  = "label"
	matrix = "matrix"
	form   = "form"
	spaced = "spaceDelimited"
	piped  = "pipeDelimited"
	deep   = "deepObject"
)

// styles are those of each place in a request, the default first.
var styles = map[string][]string{"path": {simple, label, matrix}, "query": {form, spaced, piped, deep}, "header": {simple}, "cookie": {form}}

// Encoded writes the value of a parameter as its style says: what stands in the path in its
// place, the pairs of a query or form, joined by &, or the text of a header or cookie. It is ""
// where the value is nothing.
func Encoded(p project.Param, v any) string {
	w := writer{Param: p}
	if p.Style == "" {
		w.Style = styles[p.In][0]
	}
	if p.Content != "" { // it is written in a language of its own
		v = text(v, true)
	}
	if v == nil {
		return ""
	}
	name := w.escape(p.Name)
	list, many := v.([]any)
	fields, object := v.(map[string]any)
	switch {
	case many:
		list = slices.DeleteFunc(slices.Clone(list), func(e any) bool { return e == nil })
	case object:
		fields = maps.Clone(fields)
		maps.DeleteFunc(fields, func(_ string, e any) bool { return e == nil })
	}
	if (many && len(list) == 0) || (object && len(fields) == 0) {
		return ""
	}
	switch w.Style {
	case deep:
		return strings.Join(w.nested(name, v), "&")
	case form, spaced, piped:
		between := map[string]string{form: ",", spaced: "%20", piped: "%7C"}[w.Style]
		switch {
		case many && p.Explode:
			return strings.Join(w.each(list, name+"="), "&")
		case object && p.Explode:
			return strings.Join(w.pairs(fields, "="), "&")
		case many:
			return name + "=" + strings.Join(w.each(list, ""), between)
		case object:
			return name + "=" + strings.Join(w.pairs(fields, between), between)
		}
		return name + "=" + w.value(v)
	case matrix:
		switch {
		case many && p.Explode:
			return strings.Join(w.each(list, ";"+name+"="), "")
		case object && p.Explode:
			return ";" + strings.Join(w.pairs(fields, "="), ";")
		case many:
			return ";" + name + "=" + strings.Join(w.each(list, ""), ",")
		case object:
			return ";" + name + "=" + strings.Join(w.pairs(fields, ","), ",")
		case v == "":
			return ";" + name
		}
		return ";" + name + "=" + w.value(v)
	}
	lead, between, equals := "", ",", ","
	if p.Explode {
		equals = "="
	}
	if w.Style == label {
		if lead = "."; p.Explode {
			between = "."
		}
	}
	switch {
	case many:
		return lead + strings.Join(w.each(list, ""), between)
	case object:
		return lead + strings.Join(w.pairs(fields, equals), between)
	}
	return lead + w.value(v)
}

// writer writes the value of one parameter.
type writer struct{ project.Param }

func (w *writer) each(list []any, lead string) []string {
	out := make([]string, len(list))
	for i, e := range list {
		out[i] = lead + w.value(e)
	}
	return out
}

// pairs gives the fields of an object, by name.
func (w *writer) pairs(fields map[string]any, between string) []string {
	var out []string
	for _, k := range slices.Sorted(maps.Keys(fields)) {
		out = append(out, w.escape(k)+between+w.value(fields[k]))
	}
	return out
}

// nested gives the pairs of an object whose fields stand in brackets. How lists stand in one is
// said nowhere; they are repeated.
func (w *writer) nested(name string, v any) []string {
	var out []string
	switch x := v.(type) {
	case map[string]any:
		for _, k := range slices.Sorted(maps.Keys(x)) {
			out = append(out, w.nested(name+"%5B"+w.escape(k)+"%5D", x[k])...)
		}
	case []any:
		for _, e := range x {
			out = append(out, w.nested(name, e)...)
		}
	case nil:
	default:
		out = append(out, name+"="+w.value(x))
	}
	return out
}

func (w *writer) value(v any) string { return w.escape(text(v, false)) }

// text gives a value as text: JSON where it has parts, or where that is asked for.
func text(v any, whole bool) string {
	switch v.(type) {
	case []any, map[string]any:
		whole = true
	}
	if !whole {
		return expr.Show(v)
	}
	raw, err := json.Marshal(v)
	if err != nil {
		panic("arguments are JSON: " + err.Error())
	}
	return string(raw)
}

// reserved are the letters that allowReserved lets stand: all that are reserved (RFC 3986) but
// those that would end the value.
const reserved = ":/?@!$'()*,;[]"

// escape writes a text for its place: headers take it as it is.
func (w *writer) escape(s string) string {
	if w.In == "header" {
		return s
	}
	var b strings.Builder
	for _, c := range []byte(s) {
		switch {
		case 'a' <= c && c <= 'z', 'A' <= c && c <= 'Z', '0' <= c && c <= '9', strings.IndexByte("-._~", c) >= 0, w.Reserved && strings.IndexByte(reserved, c) >= 0:
			b.WriteByte(c)
		default:
			const hex = "0123456789ABCDEF"
			b.Write([]byte{'%', hex[c>>4], hex[c&15]})
		}
	}
	return b.String()
}
