package project

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/value"
)

// StubDraft is a stub to be written into a project's file.
type StubDraft struct {
	Args    map[string]any // the call that it answers; nil answers every call
	Returns any
	Fails   string // in place of Returns
	Status  int    // of a failure
	Class   string // of a failure; "" is what the status says
	Outcome ledger.Outcome
	After   string // a duration
}

// Edit is a change of one file.
type Edit struct {
	File string `json:"file"`
	Line int    `json:"line"` // where the new text stands
	Text string `json:"text"` // what was put in
	Body string `json:"-"`    // the whole file
}

// EditError says why a file cannot be changed by a program, with what to put in
// by hand.
type EditError struct{ Say, Text string }

func (e *EditError) Error() string { return e.Say }

// AddStub writes a stub before the other stubs of a tool, in the file where the
// tool stands, and leaves all else in the file as it is.
func AddStub(src Source, t *Tool, s StubDraft) (Edit, error) {
	item := s.text(t)
	if strings.HasPrefix(t.Document, OwnFiles) {
		line := "`" + item + "`"
		if strings.Contains(item, "`") {
			line = strconv.Quote(item)
		}
		return Edit{}, &EditError{"the tool " + t.Name + " is a function of your program, so its stubs are in its mason.Tool", "mason.StubText(" + line + ")"}
	}
	text := src.Files[t.Place.File]
	docs, _ := parse(t.Place.File, text)
	lines := strings.SplitAfter(text, "\n")
	for i, d := range docs {
		path, ok := "/stubs", false
		indent := ""
		switch {
		case t.Source == "":
			ok = d.kind == "tool" && d.value["tool"] == t.Name
		case d.kind == "source" && d.value["source"] == t.Source:
			ok = true
			name := takenAs(d, t)
			if tune, _ := d.value["tune"].(map[string]any); tune[name] == nil {
				return d.addTune(lines, docs, i, t.Place.File, name, item)
			}
			path = "/tune/" + name + "/stubs"
			indent = strings.Repeat(" ", d.inner("/tune/"+name))
		}
		if !ok {
			continue
		}
		value, there := d.places[path]
		if !there {
			if indent == "" {
				return put(lines, t.Place.File, d.last(lines, docs, i), "stubs:\n  - "+item+"\n")
			}
			last := d.lastOf("/tune/" + takenAs(d, t))
			return put(lines, t.Place.File, last, indent+"stubs:\n"+indent+"  - "+item+"\n")
		}
		line := lines[value.Line-1]
		if value.Col <= len(line) && line[value.Col-1] == '[' {
			sep := ", "
			if rest := strings.TrimSpace(line[value.Col:]); strings.HasPrefix(rest, "]") {
				sep = ""
			}
			lines[value.Line-1] = line[:value.Col] + item + sep + line[value.Col:]
			return Edit{File: t.Place.File, Line: value.Line, Text: item, Body: strings.Join(lines, "")}, nil
		}
		return put(lines, t.Place.File, value.Line-1, strings.Repeat(" ", value.Col-1)+"- "+item+"\n")
	}
	return Edit{}, &EditError{fmt.Sprintf("%s is in no file that can be changed here; add the stub where it is defined", t.Name), "stubs:\n  - " + item}
}

// takenAs gives the name under which a source's document takes a tool.
func takenAs(d *document, t *Tool) string {
	take, _ := d.value["take"].([]any)
	prefix, _ := d.value["prefix"].(string)
	for _, e := range take {
		n, _ := e.(string)
		if n == t.Remote.Name || ToolName(prefix+n) == t.Name || ToolName(prefix+ToolName(n)) == t.Name {
			return n
		}
	}
	return t.Remote.Name
}

func (d *document) addTune(lines []string, docs []*document, i int, file, name, item string) (Edit, error) {
	text := "  " + name + ":\n    stubs:\n      - " + item + "\n"
	if _, ok := d.places["/tune"]; ok {
		return put(lines, file, d.raw["/tune"].Line, text)
	}
	return put(lines, file, d.last(lines, docs, i), "tune:\n"+text)
}

// inner gives the column, from 0, of the keys within a part.
func (d *document) inner(path string) int {
	col := 0
	for p, at := range d.raw {
		if rest, ok := strings.CutPrefix(p, path+"/"); ok && !strings.Contains(rest, "/") {
			col = at.Col - 1
		}
	}
	return col
}

// lastOf gives how many lines stand before the end of a part.
func (d *document) lastOf(path string) int {
	last := d.places[path].Line
	for p, at := range d.places {
		if strings.HasPrefix(p, path+"/") {
			last = max(last, at.Line)
		}
	}
	return last
}

// last gives how many lines of the file stand before the end of a document, blank
// ones and the line that parts it from the next not counted.
func (d *document) last(lines []string, docs []*document, i int) int {
	end := len(lines)
	if i+1 < len(docs) {
		next := docs[i+1].places[""].Line
		for end = next - 1; end > 0 && !strings.HasPrefix(lines[end-1], "---"); end-- {
		}
		end--
	}
	for end > 0 && strings.TrimSpace(lines[end-1]) == "" {
		end--
	}
	return end
}

func put(lines []string, file string, before int, text string) (Edit, error) {
	if before > 0 && !strings.HasSuffix(lines[before-1], "\n") {
		lines[before-1] += "\n"
	}
	lines = slices.Insert(lines, before, text)
	return Edit{File: file, Line: before + 1, Text: text, Body: strings.Join(lines, "")}, nil
}

func (s StubDraft) text(t *Tool) string {
	var parts []string
	if when := conditions(t.Input.Doc(), s.Args); when != "" {
		parts = append(parts, "when: "+quoted(when))
	}
	if s.After != "" {
		parts = append(parts, "after: "+s.After)
	}
	switch {
	case s.Fails != "":
		parts = append(parts, "fails: "+s.failure())
	default:
		parts = append(parts, "returns: "+asJSON(literal(s.Returns)))
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

// failure writes how a call failed, and of that only what does not go without
// saying.
func (s StubDraft) failure() string {
	say := quoted(literalText(s.Fails))
	class, outcome := failed(s.Status)
	var more string
	if s.Status != 0 {
		more += fmt.Sprintf(", status: %d", s.Status)
	}
	if s.Class != "" && s.Class != class {
		more += ", class: " + quoted(s.Class)
	}
	if s.Outcome != "" && s.Outcome != outcome {
		more += ", outcome: " + string(s.Outcome)
	}
	if more == "" {
		return say
	}
	return "{say: " + say + more + "}"
}

func quoted(s string) string {
	return asJSON(s) // JSON's strings are YAML's
}

// asJSON writes a value that came as JSON, on one line, with its & and < as they are.
func asJSON(v any) string {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		return "null"
	}
	return strings.TrimSpace(b.String())
}

// literalText keeps a text from being read as one with values in it.
func literalText(s string) string {
	return strings.ReplaceAll(s, "{{", "{ {")
}

// literal keeps texts of a value from being read as expressions.
func literal(v any) any {
	return value.Each(v, func(v any) any {
		s, ok := v.(string)
		switch {
		case ok && strings.Contains(s, "{{"):
			return "=" + celText(s)
		case ok && strings.HasPrefix(s, "="):
			return "=" + s
		}
		return v
	})
}

var plainName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// conditions makes an expression that is true for a call alike.
func conditions(input map[string]any, args map[string]any) string {
	props, _ := input["properties"].(map[string]any)
	required, _ := input["required"].([]any)
	var out []string
	for _, k := range keysOf(args) {
		sub, ok := props[k].(map[string]any)
		if !ok || !plainName.MatchString(k) {
			continue
		}
		at := "args." + k
		if _, filled := sub["default"]; !filled && !slices.Contains(required, any(k)) {
			out = append(out, "has("+at+")")
		}
		switch args[k].(type) {
		case []any, map[string]any:
			out = append(out, "dyn("+at+") == dyn("+cel(args[k], nil)+")")
		default:
			out = append(out, at+" == "+cel(args[k], sub))
		}
	}
	return strings.Join(out, " && ")
}

// cel writes a value as an expression has it, of the type that a schema says.
func cel(v any, doc map[string]any) string {
	switch x := v.(type) {
	case string:
		return celText(x)
	case int64:
		return strconv.FormatInt(x, 10)
	case json.Number:
		return celText(string(x)) // as expressions see it
	case float64:
		b, _ := json.Marshal(x) // a number that came as JSON
		s := string(b)
		if doc["type"] == "number" && x == math.Trunc(x) && !strings.ContainsAny(s, ".e") {
			s += ".0"
		}
		return s
	case []any:
		parts := make([]string, len(x))
		for i := range x {
			parts[i] = cel(x[i], nil)
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case map[string]any:
		var parts []string
		for _, k := range keysOf(x) {
			parts = append(parts, celText(k)+": "+cel(x[k], nil))
		}
		return "{" + strings.Join(parts, ", ") + "}"
	}
	b, _ := json.Marshal(v) // null, true or false
	return string(b)
}

func celText(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`, "\n", `\n`, "\r", `\r`, "\t", `\t`).Replace(s) + "'"
}
