package understudy

import (
	"encoding/json"
	"regexp"
	"slices"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/reading"
	"stonebaton.example/core/value"
)

// oneWay leaves, of an agent that can be both asked and passed to, the card of the consult,
// which then knows the name of the handoff: they have the same summary, and no word could
// tell them apart.
func oneWay(cards []*card) []*card {
	asked := map[string]*card{}
	for _, c := range cards {
		if c.consult {
			asked[c.handoff] = c
		}
	}
	return slices.DeleteFunc(cards, func(c *card) bool {
		x := asked[c.handoff]
		if c.consult || x == nil || c.handoff == "" {
			return false
		}
		x.pass = c.Name
		return true
	})
}

// alone says whether all that is wanted is another agent's work: then it is handed over, and
// not asked for. Where only a part is, that part is asked.
func (th *thought) alone(c *card) bool {
	if c.pass == "" || th.passed[c.pass] || slices.ContainsFunc(th.calls, func(a *asked) bool { return strings.HasPrefix(a.tool, project.ConsultPrefix) }) {
		return false
	}
	for _, g := range th.goals {
		if b := g.best(); b != nil && b.c != c {
			return false
		}
	}
	return true
}

// consult asks another agent for a goal; false where that was done.
func (th *thought) consult(g *goal, c *card) (ledger.Ask, bool) {
	var sources []*source
	for _, s := range g.sources {
		own := *s
		own.all = true
		sources = append(sources, &own)
	}
	fields := &card{Contract: c.Contract, params: c.fields}
	f := th.fill(fields, sources, th.usable(g))
	args := f.args
	if g.mentions() { // what stands elsewhere may be meant for others: only what can be little else is taken
		own := th.fill(fields, sources[:min(1, len(sources))], nil)
		for p, pick := range f.picks {
			if _, here := own.args[p.name]; !here && pick.score < 3.9 {
				delete(args, p.name)
			}
		}
	}
	question := upperFirst(leadRE.ReplaceAllString(g.clause.Text, ""))
	if about := th.beside(g, f); len(about) > 0 && len(f.args) == 0 && !g.mentions() {
		question += " (" + strings.Join(about, ", ") + ")"
	}
	args[project.Question] = question
	if th.claim(c, args) != nil {
		return ledger.Ask{}, false
	}
	for _, p := range f.missing { // it is for the other to ask about
		delete(args, p.name)
	}
	th.because("%s is for %s to say; it is asked.", question, c.handoff)
	raw, err := json.Marshal(args)
	if err != nil {
		raw = []byte("{}")
	}
	return ledger.Ask{Tool: c.Name, Args: string(raw)}, true
}

// leadRE is what leads from one clause to the next.
var leadRE = regexp.MustCompile(`(?i)^(?:and|also|then|but)\s+`)

// beside lists what the rest of a request mentions, for an agent that sees none of it, where
// the clause itself mentions nothing and no field took any.
func (th *thought) beside(g *goal, f filled) []string {
	var out []string
	for _, m := range reading.Mentions(g.text, th.now) {
		if m.At >= g.clause.At && m.End <= g.clause.End || slices.Contains(out, m.Text) {
			continue
		}
		used := false
		for _, u := range f.used[g.text] {
			used = used || m.At < u[1] && u[0] < m.End
		}
		if !used {
			out = append(out, m.Text)
		}
	}
	return out
}

var (
	givenRE   = regexp.MustCompile(`(?s)^(.*?)\n\n((?:[a-z][a-z0-9_]*: [^\n]*(?:\n|$))+)$`)
	answersRE = regexp.MustCompile(`(?s)^[^\n:]{1,80} answers: (.*)$`)
)

// fields reads what stands below a question, one on a line, as name and value: where each
// name is that of a parameter. Else they are words like any others.
func (th *thought) fields(text string) (question string, fields map[string]any) {
	m := givenRE.FindStringSubmatch(text)
	if m == nil {
		return text, nil
	}
	fields = map[string]any{}
	for _, line := range strings.Split(strings.TrimSpace(m[2]), "\n") {
		name, v, _ := strings.Cut(line, ": ")
		if !slices.ContainsFunc(th.cards, func(c *card) bool {
			return slices.ContainsFunc(append(slices.Clip(c.params), c.fields...), func(p *param) bool { return p.name == name })
		}) {
			return text, nil
		}
		fields[name] = v
		if x, err := value.Read([]byte(v)); err == nil {
			fields[name] = x
		}
	}
	return m[1], fields
}

// spoken gives a conversation in which a question to the person, and their answer, stand as
// if both had been said: that is what they are.
func spoken(messages []ledger.Message) []ledger.Message {
	asks := func(m ledger.Message) bool { return len(m.Calls) == 1 && m.Calls[0].Tool == project.AskPerson }
	if !slices.ContainsFunc(messages, asks) {
		return messages
	}
	out := make([]ledger.Message, 0, len(messages))
	for _, m := range messages {
		switch {
		case asks(m):
			var args struct{ Question string }
			_ = json.Unmarshal([]byte(m.Calls[0].Args), &args) // what cannot be read asked nothing
			m.Text, m.Calls = args.Question, nil
		case m.Role == ledger.FromTool && m.Tool == project.AskPerson:
			text := m.Text
			if a := answersRE.FindStringSubmatch(text); a != nil {
				text = a[1]
			}
			m = ledger.Message{Role: ledger.User, Text: text}
		}
		out = append(out, m)
	}
	return out
}
