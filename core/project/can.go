package project

import (
	"fmt"
	"strings"
)

// abilities holds agents against what a test found their models able to do.
func (c *compiler) abilities() {
	for _, name := range keysOf(c.p.Agents) {
		a := c.p.Agents[name]
		m := c.p.Models[a.Model]
		if m == nil {
			continue
		}
		makes := m.Can.Calls == nil || *m.Can.Calls || m.Written
		if what := a.needsCalls(); what != "" && !makes {
			c.report(Error, a.Place, "Give it another model, or write   calls: written   in "+m.Name+", so that it writes its calls.", "%s has %s, and a test found that its model %s makes no calls", name, what, m.Name)
		}
		if m.Can.Context > 0 {
			if n := tokensOf(a, c.p); n > m.Can.Context {
				c.report(Warning, a.Place, "Take tools away, or shorten its prompt.", "what %s is told before anything is said is about %d tokens, and a test found that %s takes %d", name, n, m.Name, m.Can.Context)
			}
		}
	}
}

// needsCalls says for what an agent has to make calls; "" is nothing.
func (a *Agent) needsCalls() string {
	switch {
	case len(a.Tools) > 0:
		return map[bool]string{true: "a tool", false: fmt.Sprintf("%d tools", len(a.Tools))}[len(a.Tools) == 1]
	case len(a.PassesTo) > 0:
		return "agents to hand over to"
	case len(a.Consults) > 0:
		return "agents to ask"
	case a.Asks:
		return "questions to ask"
	}
	return ""
}

// tokensOf estimates what an agent is told before anything is said: about four letters each.
func tokensOf(a *Agent, p *Project) int {
	n := 0
	for _, piece := range a.Prompt {
		n += len(piece.Text.String())
	}
	for _, name := range a.Tools {
		if t := p.Tools[name]; t != nil {
			seen := t.Contract()
			n += len(seen.Name) + len(seen.Summary) + len(seen.Parameters)
		}
	}
	return n / 4
}

// Keep writes what a test found a model able to do into the project's own file.
func Keep(src Source, model string, can Can) (Edit, error) {
	at, ok := find(src, "project", projectName(src))
	if !ok || at.file != Main {
		return Edit{}, &EditError{Say: Main + " has no project: document"}
	}
	d := at.docs[at.n]
	path := "/models/" + model
	begin, there := d.places[path]
	if models, _ := d.value["models"].(map[string]any); can.Context == 0 {
		m, _ := models[model].(map[string]any)
		was, _ := m["can"].(map[string]any)
		n, _ := was["context"].(float64) // what is not looked for again stays
		can.Context = int(n)
	}
	text := "can: " + plainJSON(can)
	if !there {
		return Edit{}, &EditError{Say: fmt.Sprintf("%s has no model %q", Main, model), Text: text}
	}
	body := strings.Join(at.lines, "")
	if _, has := d.raw[path+"/can"]; has {
		from := offset(at.lines, d.raw[path+"/can"])
		open := offset(at.lines, d.places[path+"/can"])
		end := closing(body, open)
		if end < 0 {
			return Edit{}, &EditError{Say: fmt.Sprintf("can: of %s is not in braces", model), Text: text}
		}
		return Edit{File: Main, Line: begin.Line, Text: text, Body: body[:from] + text + body[end+1:]}, nil
	}
	if from := offset(at.lines, begin); body[from] == '{' {
		end := closing(body, from)
		if end < 0 {
			return Edit{}, &EditError{Say: fmt.Sprintf("the braces of %s could not be matched", model), Text: text}
		}
		return Edit{File: Main, Line: begin.Line, Text: text, Body: strings.TrimRight(body[:end], " ") + ", " + text + body[end:]}, nil
	}
	return put(at.lines, Main, d.lastOf(path), strings.Repeat(" ", d.inner(path))+text+"\n")
}

func projectName(src Source) string {
	docs, _ := parse(Main, src.Files[Main])
	for _, d := range docs {
		if name, ok := d.value["project"].(string); ok && d.kind == "project" {
			return name
		}
	}
	return ""
}

// plainJSON writes what is known, in the order of its fields, as YAML in braces.
func plainJSON(can Can) string {
	var out []string
	say := func(name string, v *bool) {
		if v != nil {
			out = append(out, fmt.Sprintf("%s: %t", name, *v))
		}
	}
	say("calls", can.Calls)
	say("several", can.Several)
	say("schema", can.Schema)
	say("pictures", can.Pictures)
	say("streams", can.Streams)
	if can.Context > 0 {
		out = append(out, fmt.Sprintf("context: %d", can.Context))
	}
	return "{" + strings.Join(out, ", ") + "}"
}

// offset gives where in the whole text a place is.
func offset(lines []string, p Place) int {
	n := p.Col - 1
	for _, l := range lines[:p.Line-1] {
		n += len(l)
	}
	return n
}

// closing gives where the brace is closed that opens at a place; -1 where it is not.
func closing(text string, open int) int {
	depth, quote := 0, byte(0)
	for i := open; i < len(text); i++ {
		switch c := text[i]; {
		case quote != 0:
			if c == '\\' && quote == '"' {
				i++
			} else if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '{':
			depth++
		case c == '}':
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return -1
}
