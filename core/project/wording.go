package project

import (
	"fmt"
	"regexp"
	"strings"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/near"
)

// wording is a text that several agents share.
type wording struct {
	text  string
	place Place
}

// The wordings that explain things to models, and the names that each sees. A document of the
// same name stands in place of one.
var ownWordings = map[string]struct {
	text string
	sees []string
}{
	"handoff":   {"Hand the conversation over to {{ agent }}: {{ summary }}", []string{"agent", "summary"}},
	"consult":   {"Ask {{ agent }}, and get its answer: {{ summary }}", []string{"agent", "summary"}},
	"last_word": {"You cannot go on: {{ limit }}. Sum up in a few sentences what was done, what was found, and what is open.", []string{"limit"}},
}

func (c *compiler) readWordings() {
	c.wordings = map[string]wording{}
	for _, d := range c.docs {
		if d.kind != "wording" {
			continue
		}
		var r struct{ Wording, Text string }
		c.into(d, &r)
		if secretRef.MatchString(r.Text) {
			c.report(Error, d.at("/text"), "Give the secret to the tool that needs it.", "a wording must not refer to a secret: the model, and everybody who reads the run, would see it")
		}
		c.wordings[r.Wording] = wording{r.Text, d.at("/text")}
	}
	c.p.explains = map[string]*expr.Template{}
	for name, o := range ownWordings {
		names := map[string]map[string]any{}
		for _, n := range o.sees {
			names[n] = expr.Text
		}
		s, err := expr.NewScope(names)
		if err != nil {
			panic("a scope of texts is one: " + err.Error())
		}
		w, own := c.wordings[name]
		text := o.text
		if own {
			text = w.text
		}
		t, bad := s.Template(text)
		if bad != nil {
			c.report(Error, w.place, "It sees "+near.List(o.sees)+", and nothing else.", "the wording %q: %s", name, bad.Say)
			continue
		}
		c.p.explains[name] = t
	}
}

// explain says to models what a handoff or a consult does.
func (p *Project) explain(name, agent string) string {
	out, err := p.explains[name].Fill(expr.Vars{"agent": agent, "summary": p.Agents[agent].Summary})
	if err != nil {
		return agent + ": " + p.Agents[agent].Summary // of two texts nothing else can fail
	}
	return out
}

// LastWord asks for the last words of a run that a limit ends.
func (p *Project) LastWord(limit string) string {
	out, err := p.explains["last_word"].Fill(expr.Vars{"limit": limit})
	if err != nil {
		return limit // of one text nothing else can fail
	}
	return out
}

var wordingRef = regexp.MustCompile(`\{\{\s*wording\.([a-z][a-z0-9_]*)\s*\}\}`)

// spelled gives a text with the wordings that it names in their place, where it is not told
// which part came from where.
func (c *compiler) spelled(d *document, at, src string) string {
	return wordingRef.ReplaceAllStringFunc(src, func(ref string) string {
		name := wordingRef.FindStringSubmatch(ref)[1]
		w, ok := c.wordings[name]
		if !ok {
			c.report(Error, d.at(at), "Write a document wording: "+name+" with its text.", "unknown wording %q.%s", name, near.Hint(name, keysOf(c.wordings)))
		}
		return strings.TrimRight(w.text, "\n")
	})
}

// pieces compiles a text that may name wordings into its parts. Own are an agent's: in place
// of a wording, or added to it.
func (c *compiler) pieces(d *document, s *expr.Scope, at, name string, place Place, src string, own map[string]any) []Piece {
	var out []Piece
	add := func(name string, place Place, text string) {
		if t := c.template(d, s, at, text); t != nil {
			out = append(out, Piece{Name: name, Text: t, Place: place})
		}
	}
	rest := src
	for {
		m := wordingRef.FindStringSubmatchIndex(rest)
		if m == nil {
			break
		}
		ref := rest[m[2]:m[3]]
		add(name, place, rest[:m[0]])
		w, ok := c.wordings[ref]
		if !ok {
			c.report(Error, place, "Write a document wording: "+ref+" with its text.", "unknown wording %q.%s", ref, near.Hint(ref, keysOf(c.wordings)))
		}
		text, from := w.text, w.place
		switch x := own[ref].(type) {
		case string:
			text, from = x, d.at("/wordings/"+ref)
		case map[string]any:
			more, _ := x["add"].(string)
			text = strings.TrimRight(text, "\n") + "\n" + more
		}
		if wordingRef.MatchString(text) {
			c.report(Error, from, "Write out what it names.", "the wording %q names another", ref)
			text = ""
		}
		add("wording "+ref, from, strings.TrimRight(text, "\n"))
		rest = rest[m[1]:]
	}
	add(name, place, rest)
	for ref := range own {
		if !strings.Contains(src, "wording."+ref) {
			c.report(Warning, d.at("/wordings/"+ref), "Put {{ wording."+ref+" }} into the prompt.", "the prompt of %s does not use the wording %q", fmt.Sprint(d.value["agent"]), ref)
		}
	}
	return out
}
