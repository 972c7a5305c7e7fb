package project

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"stonebaton.example/core/value"
)

// Bounds of one file. A project's files are written by hand; what is larger is
// data that does not belong here.
const (
	maxFile  = 1 << 20
	maxNodes = 50_000
	maxDepth = 64
)

// document is one YAML document: its value as JSON has it, and where each part stands.
type document struct {
	file   string
	value  map[string]any
	kind   string // the first key
	places map[string]Place
	raw    map[string]Place // places of the keys themselves
	of     *document        // that this one was made from, where it stands in no file
	under  string           // the path of its own parts there
	base   Place            // of what is not there
}

// at gives the place of a path such as "/input/properties", or of the nearest
// part above it.
func (d *document) at(path string) Place {
	if d.of != nil {
		for p := path; p != ""; p = p[:strings.LastIndexByte(p, '/')] {
			if at, ok := d.of.places[d.under+p]; ok {
				return at
			}
		}
		return d.base
	}
	for {
		if p, ok := d.places[path]; ok {
			return p
		}
		i := strings.LastIndexByte(path, '/')
		if i < 0 {
			return Place{File: d.file, Line: 1, Col: 1}
		}
		path = path[:i]
	}
}

// key gives the place of a key, or of its owner where the key is not there.
func (d *document) key(path string) Place {
	if d.of != nil {
		return d.at(path)
	}
	if p, ok := d.raw[path]; ok {
		return p
	}
	return d.at(path)
}

var lineOf = regexp.MustCompile(`line (\d+)`)

// parse reads the documents of one file.
func parse(file, text string) ([]*document, []Problem) {
	fail := func(line, col int, say, remedy string) []Problem {
		return []Problem{{Grade: Error, Place: Place{file, line, col}, Say: say, Remedy: remedy}}
	}
	if len(text) > maxFile {
		return nil, fail(1, 1, fmt.Sprintf("the file has %d bytes; a project file may have %d at most", len(text), maxFile), "Move data into the folder data/, which is not read as project files, or split the file.")
	}
	if !utf8.ValidString(text) {
		line, col := 1, 1
		for i, r := range text {
			if r == utf8.RuneError {
				if _, n := utf8.DecodeRuneInString(text[i:]); n == 1 {
					break
				}
			}
			col++
			if r == '\n' {
				line, col = line+1, 1
			}
		}
		return nil, fail(line, col, "the file is not valid UTF-8 from here on", "Save it as UTF-8.")
	}
	if i := unquotedBraces(text); i > 0 {
		return nil, fail(i, 1, "a value that begins with {{ must be in quotes, or YAML takes it for a map", `Write "{{ … }}".`)
	}
	dec := yaml.NewDecoder(bytes.NewReader([]byte(text)))
	var docs []*document
	var probs []Problem
	for {
		var n yaml.Node
		err := dec.Decode(&n)
		if errors.Is(err, io.EOF) {
			return docs, probs
		}
		if err != nil {
			line := 1
			say := strings.TrimPrefix(err.Error(), "yaml: ")
			if m := lineOf.FindStringSubmatch(say); m != nil {
				line, _ = strconv.Atoi(m[1])
			}
			say, remedy := plainYAML(say)
			return docs, append(probs, fail(line, 1, "this is not YAML: "+say, remedy)...)
		}
		if n.Kind == 0 || len(n.Content) == 0 || n.Content[0].ShortTag() == "!!null" {
			continue
		}
		d := &document{file: file, places: map[string]Place{}, raw: map[string]Place{}}
		w := walker{doc: d, open: map[*yaml.Node]bool{}}
		v := w.value(n.Content[0], "", 0)
		probs = append(probs, w.problems...)
		m, ok := v.(map[string]any)
		if !ok {
			probs = append(probs, fail(n.Content[0].Line, n.Content[0].Column, "a document is a map whose first key says what it is, such as tool: or agent:", "")...)
			continue
		}
		d.value = m
		if top := n.Content[0]; len(top.Content) > 0 {
			d.kind = top.Content[0].Value
		}
		if len(w.problems) == 0 {
			docs = append(docs, d)
		}
	}
}

// unquotedBraces finds the first line whose value begins with {{ outside a
// block of text; 0 where there is none.
func unquotedBraces(text string) int {
	block := -1
	for i, line := range strings.Split(text, "\n") {
		indent := len(line) - len(strings.TrimLeft(line, " "))
		if strings.TrimSpace(line) == "" {
			continue
		}
		if block >= 0 && indent > block {
			continue
		}
		block = -1
		trimmed := strings.TrimRight(line, " \r")
		if strings.HasSuffix(trimmed, "|") || strings.HasSuffix(trimmed, ">") || strings.HasSuffix(trimmed, "|-") || strings.HasSuffix(trimmed, ">-") {
			block = indent
			continue
		}
		if plainBraces.MatchString(line) {
			return i + 1
		}
	}
	return 0
}

var plainBraces = regexp.MustCompile(`^\s*(- )*([A-Za-z_][A-Za-z0-9_]*:\s+)?\{\{`)

type walker struct {
	doc      *document
	open     map[*yaml.Node]bool
	nodes    int
	problems []Problem
}

func (w *walker) fail(n *yaml.Node, say, remedy string) {
	if len(w.problems) < 20 {
		w.problems = append(w.problems, Problem{Grade: Error, Place: Place{w.doc.file, n.Line, n.Column}, Say: say, Remedy: remedy})
	}
}

func (w *walker) value(n *yaml.Node, path string, depth int) any {
	if w.nodes++; w.nodes == maxNodes {
		w.fail(n, fmt.Sprintf("the document has more than %d values, aliases counted as often as they are used", maxNodes), "Make it smaller.")
	}
	if depth > maxDepth {
		w.fail(n, fmt.Sprintf("values are nested more than %d deep", maxDepth), "")
	}
	if w.nodes >= maxNodes || depth > maxDepth {
		return nil
	}
	w.doc.places[path] = Place{w.doc.file, n.Line, n.Column}
	switch n.Kind {
	case yaml.AliasNode:
		if w.open[n.Alias] {
			w.fail(n, fmt.Sprintf("*%s contains itself", n.Value), "Write the inner part out.")
			return nil
		}
		return w.value(n.Alias, path, depth+1)
	case yaml.MappingNode:
		w.open[n] = true
		defer delete(w.open, n)
		m := make(map[string]any, len(n.Content)/2)
		for i := 0; i+1 < len(n.Content); i += 2 {
			k, v := n.Content[i], n.Content[i+1]
			if k.Tag == "!!merge" {
				base, ok := w.value(v, path, depth+1).(map[string]any)
				if !ok {
					w.fail(v, "<< takes a map", "")
				}
				for bk, bv := range base {
					if _, ok := m[bk]; !ok {
						m[bk] = bv
					}
				}
				continue
			}
			if k.Kind != yaml.ScalarNode {
				w.fail(k, "a key must be a plain text", "")
				continue
			}
			sub := path + "/" + k.Value
			if _, ok := w.doc.raw[sub]; ok {
				w.fail(k, fmt.Sprintf("the key %q is given twice", k.Value), "Keep one of them.")
			}
			w.doc.raw[sub] = Place{w.doc.file, k.Line, k.Column}
			m[k.Value] = w.value(v, sub, depth+1)
		}
		return m
	case yaml.SequenceNode:
		w.open[n] = true
		defer delete(w.open, n)
		l := make([]any, 0, len(n.Content))
		for i, e := range n.Content {
			l = append(l, w.value(e, path+"/"+strconv.Itoa(i), depth+1))
		}
		return l
	case yaml.ScalarNode:
		return w.scalar(n)
	}
	w.fail(n, "this cannot be read", "")
	return nil
}

func (w *walker) scalar(n *yaml.Node) any {
	switch n.ShortTag() {
	case "!!null":
		return nil
	case "!!bool":
		var b bool
		if n.Decode(&b) == nil {
			return b
		}
	case "!!int":
		var i int64
		if n.Decode(&i) == nil {
			return value.Whole(i)
		}
	case "!!float":
		var f float64
		if n.Decode(&f) == nil && !math.IsNaN(f) && !math.IsInf(f, 0) {
			return f
		}
		w.fail(n, n.Value+" is not a number that JSON knows", "")
	}
	return n.Value
}

// slips are what the library says of files that are not YAML, with our sentence and what
// to do. The first that fits is told.
var slips = []struct{ found, say, remedy string }{
	{"found a tab character", "a line is indented with a tab", "Indent with spaces."},
	{"found unexpected end of stream", "it ends within a quoted text", "Close the quote."},
	{"did not find expected ',' or ']'", "a list is not closed", "Write a comma between the entries, and ] at the end."},
	{"did not find expected ',' or '}'", "a record is not closed", "Write a comma between the fields, and } at the end."},
	{"did not find expected '-' indicator", "an entry of the list does not begin with -", "Check the indentation."},
	{"did not find expected key", "a key is expected here", "Check the indentation, and put a text that holds : or # into quotes."},
	{"did not find expected node content", "a value is expected here", "Write one, or close the bracket."},
	{"mapping values are not allowed", "there is a second key on the line", "Put a text that holds a colon into quotes."},
	{"could not find expected ':'", "a key has no colon", "Write KEY: VALUE."},
	{"found character that cannot start any token", "a value cannot begin with this character", "Put the text into quotes."},
	{"found unknown escape character", "a quoted text has an escape that is not known", "Write \\\\ for a backslash, or use single quotes."},
	{"found undefined tag", "a value has a tag that is not known", "Omit what begins with !."},
	{"control characters are not allowed", "there is a control character", "Remove it."},
}

// plainYAML gives an error of the library in our words.
func plainYAML(say string) (string, string) {
	for _, s := range slips {
		if strings.Contains(say, s.found) {
			return s.say, s.remedy
		}
	}
	return strings.TrimSpace(lineOf.ReplaceAllString(say, "")), ""
}
