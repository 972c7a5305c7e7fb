package functions

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
)

// MaxOffers bounds how many functions one file may offer.
const MaxOffers = 1000

// Function is one function of a file.
type Function struct {
	Name    string         `json:"name"`
	Line    int            `json:"line"` // where it begins, with what stands before it; from 1
	End     int            `json:"end"`
	Doc     string         `json:"doc"` // as it is written
	Params  []Param        `json:"params"`
	Returns map[string]any `json:"returns"`         // the schema of its result; nil: it does not say
	Defs    map[string]any `json:"defs"`            // what the schemas refer to, as #/$defs/NAME
	Fields  bool           `json:"-"`               // its parameters are fields of one object
	Fault   string         `json:"fault,omitempty"` // why it cannot be called
}

// Param is a parameter of a function.
type Param struct {
	Name     string         `json:"name"`
	Schema   map[string]any `json:"schema"` // nil: it says no type
	Required bool           `json:"required"`
	Says     string         `json:"says"` // what stands with its type
}

// Hidden says that a parameter is not of the call, and is never shown to a model.
func Hidden(name string) bool { return strings.HasPrefix(name, "_") }

// Offer makes of a function what a source offers of it. The text is that of its file.
func Offer(file, text string, f Function) project.Offer {
	doc := readDoc(f.Doc, path.Ext(file))
	o := project.Offer{Name: f.Name, Tool: project.ToolName(f.Name), Summary: doc.summary, Fault: f.Fault, At: project.Place{File: file, Line: cmp.Or(f.Line, 1), Col: 1}}
	props, required := map[string]any{}, []any{}
	for _, p := range f.Params {
		if Hidden(p.Name) {
			continue
		}
		s := maps.Clone(p.Schema)
		if s == nil {
			s = map[string]any{}
		}
		if say := cmp.Or(p.Says, doc.params[p.Name]); say != "" {
			s["description"] = say
		}
		if p.Required {
			required = append(required, p.Name)
		}
		props[p.Name] = s
	}
	for name := range doc.params {
		if !slices.ContainsFunc(f.Params, func(p Param) bool { return p.Name == name }) {
			o.Lacks = append(o.Lacks, fmt.Sprintf("the documentation of %s describes a parameter %s, which it does not have", f.Name, name))
		}
	}
	slices.Sort(o.Lacks)
	o.Input = map[string]any{"type": "object", "additionalProperties": false, "properties": props}
	if len(required) > 0 {
		o.Input["required"] = required
	}
	withDefs(o.Input, f.Defs)
	if f.Returns != nil {
		o.Output = maps.Clone(f.Returns)
		if doc.returns != "" && o.Output["description"] == nil && o.Output["$ref"] == nil {
			o.Output["description"] = doc.returns
		}
		withDefs(o.Output, f.Defs)
	}
	effect, line := effectOf(text, f)
	switch e := ledger.Effect(effect); e {
	case "":
	case ledger.Read, ledger.Write, ledger.Irreversible:
		o.Effect = e
	default:
		o.Lacks = append(o.Lacks, fmt.Sprintf("line %d says the effect %q of %s; there is read, write and irreversible, so it is a write", line, effect, f.Name))
	}
	return o
}

// withDefs gives a schema the definitions that it refers to, and those that they refer to.
func withDefs(schema map[string]any, defs map[string]any) {
	used := map[string]any{}
	var walk func(v any)
	walk = func(v any) {
		switch v := v.(type) {
		case map[string]any:
			ref, _ := v["$ref"].(string)
			name := strings.TrimPrefix(ref, "#/$defs/")
			if _, seen := used[name]; !seen && name != ref {
				used[name] = defs[name]
				walk(defs[name])
			}
			for _, e := range v {
				walk(e)
			}
		case []any:
			for _, e := range v {
				walk(e)
			}
		}
	}
	walk(schema)
	if len(used) > 0 {
		schema["$defs"] = used
	}
}

// Twice finds names that two functions of a file have, as far as the lines with which they begin
// tell, and gives the line of the one that is not used.
func Twice(text string, f Function) (line int) {
	begins := regexp.MustCompile(`^(async\s+)?(def|function\*?)\s+` + regexp.QuoteMeta(f.Name) + `\s*\(`)
	for i, l := range strings.Split(text, "\n") {
		if begins.MatchString(strings.TrimPrefix(l, "export ")) && (i+1 < f.Line || i+1 > f.End) {
			return i + 1
		}
	}
	return 0
}

var saysEffect = regexp.MustCompile(`^\s*(?:#+|//+|/?\*+)\s*effect:\s*(\S+?)\s*(?:\*/)?\s*$`)
var isComment = regexp.MustCompile(`^\s*(#|//|/?\*|@)`)

// effectOf finds the comment that says the effect of a function: right before it, or within it.
func effectOf(text string, f Function) (effect string, line int) {
	lines := strings.Split(text, "\n")
	from := min(f.Line, len(lines)+1)
	for from > 1 && isComment.MatchString(lines[from-2]) {
		from--
	}
	for n := max(from, 1); n <= min(f.End, len(lines)); n++ {
		if m := saysEffect.FindStringSubmatch(lines[n-1]); m != nil {
			return m[1], n
		}
	}
	return "", 0
}
