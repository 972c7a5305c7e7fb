package project

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"stonebaton.example/core/near"
)

// Addition is a document that a project is to have more.
type Addition struct {
	Kind       string   // agent, tool or drill
	Name       string   // that none of its kind has
	Like       string   // the one of its kind whose text it begins with; "" is a plain beginning
	Summary    string   // in place of the one of its text; "" leaves that
	PassesFrom []string // agents that hand over to it, where it is an agent
	To         []string // agents that have it, where it is a tool
}

// beginnings are the documents with which something begins that is like no other.
var beginnings = map[string]string{
	"agent": "agent: %[1]s\nsummary: Answers what is asked about %[2]s.\nprompt: |\n  You answer what is asked about %[2]s. Never invent what a tool could tell.\n",
	"tool": "tool: %[1]s\nsummary: Tell what is known of %[2]s, when somebody asks for it.\neffect: read\ninput:\n  type: object\n  required: [name]\n  properties:\n" +
		"    name: {type: string, description: \"What it is asked about.\"}\nscript: |\n  return {name: args.name}\n",
	"drill": "drill: %[1]s\nsummary: What is said, and what has to come of it.\nsay: Hello.\nexpect: {status: done}\n",
}

// Additions lists the kinds of documents that can be added.
func Additions() []string { return keysOf(beginnings) }

var aName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,63}$`)

// Add gives the changes of files that a project needs to have a document more: a file that is not
// there yet, first, and the documents that name it.
func Add(src Source, a Addition) ([]Edit, error) {
	plain, ok := beginnings[a.Kind]
	switch {
	case !ok:
		return nil, &EditError{Say: fmt.Sprintf("%q cannot be added; there is %s", a.Kind, strings.Join(Additions(), ", "))}
	case !aName.MatchString(a.Name):
		return nil, &EditError{Say: fmt.Sprintf("%q cannot be a name: names have small letters, digits and _, and begin with a letter", a.Name)}
	case len(a.PassesFrom) > 0 && a.Kind != "agent":
		return nil, &EditError{Say: "agents hand over to agents, and not to a " + a.Kind}
	case len(a.To) > 0 && a.Kind != "tool":
		return nil, &EditError{Say: "agents have tools, and no " + a.Kind}
	}
	if at, ok := find(src, a.Kind, a.Name); ok {
		return nil, &EditError{Say: fmt.Sprintf("there is %s %s %s already, in %s", article(a.Kind), a.Kind, a.Name, at.docs[at.n].at("/"+a.Kind))}
	}
	text, folder := fmt.Sprintf(plain, a.Name, strings.ReplaceAll(a.Name, "_", " ")), ""
	if a.Like != "" {
		at, ok := find(src, a.Kind, a.Like)
		if !ok {
			return nil, missing(src, a.Kind, a.Like)
		}
		text, folder = at.renamed(a.Name), path.Dir(at.file)
	} else if folder = a.Kind + "s"; !slices.ContainsFunc(keysOf(src.Files), func(f string) bool { return path.Dir(f) == folder }) {
		folder = "."
	}
	if a.Summary != "" {
		text = itsSummary.ReplaceAllLiteralString(text, "summary: "+quoted(a.Summary)+"\n")
	}
	out := []Edit{{File: path.Join(folder, a.Name+".yaml"), Line: 1, Text: text, Body: text}}
	if _, there := src.Files[out[0].File]; there {
		return nil, &EditError{Say: fmt.Sprintf("there is a file %s already", out[0].File), Text: text}
	}
	for _, wired := range []struct {
		agents []string
		key    string
	}{{a.PassesFrom, "passes_to"}, {a.To, "tools"}} {
		for _, agent := range wired.agents {
			at, ok := find(src, "agent", agent)
			if !ok {
				return nil, missing(src, "agent", agent)
			}
			e, err := at.listed(wired.key, a.Name)
			if err != nil {
				return nil, err
			}
			src.Files[e.File] = e.Body // another agent may stand in the same file
			out = slices.DeleteFunc(out, func(was Edit) bool { return was.File == e.File })
			out = append(out, e)
		}
	}
	return out, nil
}

// itsSummary finds the summary of a document, which may go over several lines.
var itsSummary = regexp.MustCompile(`(?m)^summary:.*\n(?:[ \t]+.*\n)*`)

// missing says that no file has a document, and which there are.
func missing(src Source, kind, name string) error {
	have := named(src, kind)
	say := fmt.Sprintf("no file has %s %s %q.%s There is: %s", article(kind), kind, name, near.Hint(name, have), strings.Join(have, ", "))
	if kind == "tool" {
		say += ". What a source brings has no document of its own"
	}
	return &EditError{Say: say}
}

func article(kind string) string {
	if kind == "agent" {
		return "an"
	}
	return "a"
}

// standing is a document in its file.
type standing struct {
	file  string
	lines []string
	docs  []*document
	n     int
}

func find(src Source, kind, name string) (standing, bool) {
	for _, f := range keysOf(src.Files) {
		if path.Ext(f) != ".yaml" {
			continue
		}
		docs, _ := parse(f, src.Files[f])
		for n, d := range docs {
			if d.kind == kind && d.value[kind] == name {
				return standing{f, strings.SplitAfter(src.Files[f], "\n"), docs, n}, true
			}
		}
	}
	return standing{}, false
}

// named lists the documents of a kind, by their names.
func named(src Source, kind string) (out []string) {
	for _, f := range keysOf(src.Files) {
		if path.Ext(f) != ".yaml" {
			continue
		}
		docs, _ := parse(f, src.Files[f])
		for _, d := range docs {
			if name, ok := d.value[kind].(string); ok && d.kind == kind {
				out = append(out, name)
			}
		}
	}
	return out
}

// renamed gives the text of the document with another name.
func (s standing) renamed(name string) string {
	d := s.docs[s.n]
	first, last := d.raw["/"+d.kind].Line, d.last(s.lines, s.docs, s.n)
	text := strings.Join(s.lines[first-1:last], "")
	at := d.places["/"+d.kind]
	head := s.lines[at.Line-1][:at.Col-1]
	rest := strings.TrimPrefix(text, s.lines[at.Line-1])
	return strings.TrimRight(head, " \"'") + " " + name + "\n" + strings.TrimRight(rest, "\n") + "\n"
}

// listed gives the document with a name more in one of its lists.
func (s standing) listed(key, name string) (Edit, error) {
	d := s.docs[s.n]
	at, there := d.places["/"+key]
	if !there {
		return put(s.lines, s.file, d.last(s.lines, s.docs, s.n), key+": ["+name+"]\n")
	}
	list, ok := d.value[key].([]any)
	if !ok {
		return Edit{}, &EditError{Say: fmt.Sprintf("%s of %s is not a list", key, at), Text: key + ": [" + name + "]"}
	}
	if slices.Contains(list, any(name)) {
		return Edit{File: s.file, Line: at.Line, Body: strings.Join(s.lines, "")}, nil
	}
	line := s.lines[at.Line-1]
	if line[at.Col-1] != '[' {
		return put(s.lines, s.file, d.lastOf("/"+key), strings.Repeat(" ", at.Col-1)+"- "+name+"\n")
	}
	if len(list) == 0 {
		s.lines[at.Line-1] = line[:at.Col] + name + line[at.Col:]
	} else {
		end := d.places[fmt.Sprintf("/%s/%d", key, len(list)-1)]
		line = s.lines[end.Line-1]
		n := end.Col - 1 + strings.IndexAny(line[end.Col-1:]+"]", ",]")
		if _, text := list[len(list)-1].(string); !text { // it has parts of its own: before it
			return s.before(key, len(list)-1, name), nil
		}
		s.lines[end.Line-1] = line[:n] + ", " + name + line[n:]
		at = end
	}
	return Edit{File: s.file, Line: at.Line, Text: name, Body: strings.Join(s.lines, "")}, nil
}

// before gives the document with a name before an entry of a list in brackets.
func (s standing) before(key string, n int, name string) Edit {
	at := s.docs[s.n].places[fmt.Sprintf("/%s/%d", key, n)]
	line := s.lines[at.Line-1]
	s.lines[at.Line-1] = line[:at.Col-1] + name + ", " + line[at.Col-1:]
	return Edit{File: s.file, Line: at.Line, Text: name, Body: strings.Join(s.lines, "")}
}

// Taking says which tools of a source a project is to have.
type Taking struct {
	Source  string
	Take    []string          // all of them, by their names there
	Effects map[string]string // of those of which somebody says it, by their names there
	To      []string          // agents that get the tools that are new
}

// Take gives the changes of files with which a project has other tools of a source, which offers
// what is in the catalogue.
func Take(src Source, t Taking, cat Catalogue) ([]Edit, error) {
	at, ok := find(src, "source", t.Source)
	if !ok {
		return nil, missing(src, "source", t.Source)
	}
	d := at.docs[at.n]
	was := texts(d.value["take"])
	if _, parts := d.value["take"].(map[string]any); parts {
		return nil, &EditError{Say: fmt.Sprintf("take: of %s is written in parts; change it by hand", at.docs[at.n].at("/take")), Text: "tools: [" + strings.Join(t.Take, ", ") + "]"}
	}
	if len(t.Take) == 0 {
		return nil, &EditError{Say: "a source of which nothing is taken has no use; delete its document"}
	}
	effects := map[string]string{}
	if said, ok := d.value["effects"].(map[string]any); ok {
		for k, v := range said {
			if name, ok := v.(string); ok && (slices.Contains(t.Take, k) || t.has(cat, k)) {
				effects[k] = name
			}
		}
	}
	var gets []string
	prefix, _ := d.value["prefix"].(string)
	for _, name := range t.Take {
		o, ok := cat.Find(name)
		if !ok {
			return nil, &EditError{Say: fmt.Sprintf("%s offers no %q", t.Source, name)}
		}
		if e, ok := t.Effects[name]; ok && e != string(o.Effect) {
			delete(effects, o.Tool)
			effects[name] = e
		}
		if !slices.Contains(was, o.Name) && !slices.Contains(was, o.Tool) {
			gets = append(gets, ToolName(prefix+o.Name))
		}
	}
	body := at.replaced("take", "["+strings.Join(t.Take, ", ")+"]")
	src.Files[at.file] = body
	if len(effects) > 0 {
		at, _ = find(src, "source", t.Source)
		var list []string
		for _, k := range keysOf(effects) {
			list = append(list, quotedKey(k)+": "+effects[k])
		}
		src.Files[at.file] = at.replaced("effects", "{"+strings.Join(list, ", ")+"}")
	}
	changed := map[string]int{at.file: at.docs[at.n].at("").Line}
	for _, agent := range t.To {
		for _, tool := range gets {
			to, ok := find(src, "agent", agent)
			if !ok {
				return nil, missing(src, "agent", agent)
			}
			e, err := to.listed("tools", tool)
			if err != nil {
				return nil, err
			}
			src.Files[e.File], changed[e.File] = e.Body, e.Line
		}
	}
	var out []Edit
	for _, f := range keysOf(changed) {
		out = append(out, Edit{File: f, Line: changed[f], Text: "take: [" + strings.Join(t.Take, ", ") + "]", Body: src.Files[f]})
	}
	return out, nil
}

func (t Taking) has(cat Catalogue, name string) bool {
	o, ok := cat.Find(name)
	return ok && slices.Contains(t.Take, o.Name)
}

func quotedKey(k string) string {
	if plainName.MatchString(k) {
		return k
	}
	return quoted(k)
}

// replaced gives the file with another value of a key of the document, which it may not have yet.
func (s standing) replaced(key, value string) string {
	d := s.docs[s.n]
	text := key + ": " + value + "\n"
	first, there := d.raw["/"+key]
	if !there {
		e, _ := put(slices.Clone(s.lines), s.file, d.last(s.lines, s.docs, s.n), text)
		return e.Body
	}
	last := max(d.lastOf("/"+key), first.Line)
	for last < len(s.lines) && (strings.HasPrefix(s.lines[last], " ") || strings.HasPrefix(s.lines[last], "\t")) && strings.ContainsAny(strings.TrimSpace(s.lines[last])[:1], "]}") {
		last++ // the bracket that ends it
	}
	return strings.Join(slices.Concat(s.lines[:first.Line-1], []string{text}, s.lines[last:]), "")
}
