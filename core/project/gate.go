package project

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/right"
	"stonebaton.example/core/scope"
)

// Asker, in by: of a gate, is whoever the run works for.
const Asker = "asker"

// Gate is where a call waits for people.
type Gate struct {
	When     *expr.Expr // nil: always
	Why      string
	By       []Approver // who may settle it; none is anybody
	Need     int        // how many of them have to agree, one or more
	NotAsker bool       // the one who asked may not
	LooksUp  []Lookup   // before anybody is asked, in order of their names
	Ask      *expr.Template
	Within   time.Duration // 0: for ever
	Lapse    ledger.Lapse
	After    time.Duration // until more people may settle it; 0 is never
	To       []Approver    // these
	Notify   string        // the rule by which people are told of its tickets, among those of the project; "" is none
	Remind   time.Duration // how often they are told again; 0 is never
	First    int           // it holds the first so many times in a session; 0 is every time

	Show  *expr.Template // of a leg: the text that is decided about
	Tries int            // of an agent: how often an answer may be sent back
	Amend string         // of a leg: what is kept that a changed text takes the place of; "": it is not changed
}

// Approver is one who may settle a ticket, or an expression that gives one or several.
type Approver struct {
	Name string        // as the file has it; Asker is who asked
	From *expr.Mapping // gives a name, or a list of them; nil where Name is the name
}

// Lookup is a read that a gate makes before it asks. Its result is seen as found.NAME.
type Lookup struct {
	Name, Tool string
	Args       *expr.Mapping // nil: none
}

// rawGate is a gate as its schema lets it be.
type rawGate struct {
	When, Why, Ask, Within string
	Show, Amend            string
	Tries                  *int
	Lapse                  ledger.Lapse
	By                     []string
	Need, First            int
	Self                   *bool
	LooksUp                map[string]rawLookup `json:"looks_up"`
	Escalate               *struct {
		After string
		To    []string
	}
	Notify *rawNotice
	Remind string
}

type rawLookup struct {
	Tool string
	Args map[string]any
}

// rawNotice is a rule for notices as its schema lets it be.
type rawNotice struct {
	Tool string
	Args map[string]any
}

// Notice is a rule by which people are told of a ticket: a tool, and what it is called with.
type Notice struct {
	Tool string
	Args *expr.Mapping // sees notice, and what every expression sees

	Place Place
}

// ungated holds the tools that tell people of tickets against their gates, when all are known.
func (c *compiler) ungated() {
	for _, name := range keysOf(c.p.Notices) {
		if n := c.p.Notices[name]; c.p.Tools[n.Tool].Gate != nil {
			c.report(Error, n.Place, "Use a tool with no gate; the notice would wait for a notice.", "%q waits for people itself", n.Tool)
		}
	}
}

// Always is the name of the project's own rule for notices.
const Always = "project"

// notices compiles a rule for notices under a name.
func (c *compiler) notices(d *document, at, name string, r *rawNotice) {
	if c.p.Tools[r.Tool] == nil {
		c.missing(d.at(at+"/tool"), "tool", r.Tool, keysOf(c.p.Tools))
		return
	}
	if c.p.Notices == nil {
		c.p.Notices = map[string]*Notice{}
	}
	c.p.Notices[name] = &Notice{Tool: r.Tool, Place: d.at(at + "/tool"), Args: c.mapping(d, c.scope(d, map[string]map[string]any{"notice": scope.Notice}), at+"/args", r.Args)}
	if r.Args == nil {
		c.report(Error, d.at(at), "Add args: with what the tool is to be called with, such as to: \"=notice.address\".", "the notice says nothing")
	}
}

// gate compiles the gate of a tool, when every tool is known.
func (c *compiler) gate(d *document, g *rawGate, t *Tool, args *expr.Scope) {
	defer func(was string) { c.about = was }(c.about)
	c.about = t.Name
	gate := &Gate{When: c.cond(d, args, "/gate/when", g.When), First: g.First}
	sc := args
	if len(g.LooksUp) > 0 || len(t.LooksUp) > 0 {
		found := map[string]any{}
		for _, l := range t.LooksUp {
			found[l.Name] = expr.Any
			if _, twice := g.LooksUp[l.Name]; twice {
				c.report(Error, d.key("/gate/looks_up/"+l.Name), "Omit it here: what the tool looks up is there for its gate too.", "%q is looked up twice", l.Name)
			}
		}
		gate.LooksUp = c.lookups(d, "/gate/looks_up", g.LooksUp, args)
		for _, l := range gate.LooksUp {
			found[l.Name] = expr.Any
			if doc := c.p.Tools[l.Tool].Output.Doc(); doc != nil {
				found[l.Name] = doc
			}
		}
		sc = c.scope(d, map[string]map[string]any{"args": t.Input.Doc(), "gate": scope.Gate, "found": expr.Object(found)})
	}
	c.people(d, "/gate", g, gate, sc)
	t.Gate = gate
}

// usesFound finds what speaks of what is looked up.
var usesFound = regexp.MustCompile(`\bfound\b`)

// looksUp compiles the reads of a tool's rules, and those rules that are about them, when every
// tool is known.
func (c *compiler) looksUp(d *document, r *rawTool, t *Tool, args *expr.Scope) {
	defer func(was string) { c.about = was }(c.about)
	c.about = t.Name
	t.LooksUp = c.lookups(d, "/looks_up", r.LooksUp, args)
	found := map[string]any{}
	for _, l := range t.LooksUp {
		found[l.Name] = expr.Any // null where it is not there
	}
	sc := c.scope(d, map[string]map[string]any{"args": t.Input.Doc(), "gate": scope.Gate, "found": expr.Object(found)})
	for i, u := range r.Unless {
		if at := fmt.Sprintf("/unless/%d", i); usesFound.MatchString(u.When + u.Say) {
			t.Checks = append(t.Checks, Saying{When: c.cond(d, sc, at+"/when", u.When), Say: c.template(d, sc, at+"/say", u.Say)})
		}
	}
	if len(t.Checks) == 0 {
		c.report(Error, d.key("/looks_up"), "Write a rule over it, such as   unless: [{when: \"found.NAME == null\", say: There is none.}].", "nothing of unless: uses what is looked up")
	}
}

// lookups compiles reads that are made of their own for a call.
func (c *compiler) lookups(d *document, path string, raw map[string]rawLookup, args *expr.Scope) (out []Lookup) {
	for _, name := range keysOf(raw) {
		at, l := path+"/"+name, raw[name]
		tool := c.p.Tools[l.Tool]
		switch {
		case tool == nil:
			c.missing(d.at(at+"/tool"), "tool", l.Tool, keysOf(c.p.Tools))
			continue
		case tool.Effect != ledger.Read:
			c.report(Error, d.at(at+"/tool"), "Look things up with reads alone: nothing may happen before somebody agrees.", "%q is a %s", l.Tool, tool.Effect)
			continue
		}
		look := Lookup{Name: name, Tool: l.Tool}
		if l.Args != nil {
			look.Args = c.mapping(d, args, at+"/args", l.Args)
		}
		out = append(out, look)
	}
	return out
}

// people compiles what a gate, which stands at a path of a document, says of who settles its
// tickets, what they are asked, and how long they have.
func (c *compiler) people(d *document, at string, g *rawGate, gate *Gate, sc *expr.Scope) {
	gate.Why, gate.Need, gate.NotAsker, gate.Within, gate.Lapse = g.Why, max(1, g.Need), g.Self != nil && !*g.Self, span(g.Within), ledger.LapseRefuses
	if g.Lapse != "" {
		gate.Lapse = g.Lapse
	}
	if g.Lapse != "" && g.Within == "" {
		c.report(Error, d.at(at+"/lapse"), "Add within: with a duration.", "lapse: needs within:, since this gate never lapses")
	}
	if c.p.Notices[Always] != nil {
		gate.Notify = Always
	}
	if g.Notify != nil {
		gate.Notify = fmt.Sprintf("%s %v %s", d.kind, d.value[d.kind], at)
		c.notices(d, at+"/notify", gate.Notify, g.Notify)
	}
	if gate.Remind = span(g.Remind); gate.Remind > 0 && gate.Notify == "" {
		c.report(Error, d.at(at+"/remind"), "Add notify: to the gate, or to "+Main+" for all of them.", "nobody is told of this gate's tickets, so nobody can be reminded")
	}
	gate.Ask = c.template(d, sc, at+"/ask", g.Ask)
	gate.By = c.approvers(d, sc, at+"/by", g.By)
	if g.Escalate != nil {
		gate.After, gate.To = span(g.Escalate.After), c.approvers(d, sc, at+"/escalate/to", g.Escalate.To)
		switch {
		case len(g.By) == 0:
			c.report(Error, d.at(at+"/escalate"), "Name who may settle it at first in by:, or remove escalate:.", "anybody may settle this gate, so it cannot be escalated")
		case gate.Within > 0 && gate.After >= gate.Within:
			c.report(Error, d.at(at+"/escalate/after"), "Escalate before within: is over.", "the gate lapses after %s, before it is escalated", g.Within)
		}
	}
	if n, counted := countOf(append(slices.Clip(gate.By), gate.To...)); gate.Need > 1 && counted && n < gate.Need {
		names := "nobody"
		if n > 0 {
			names = fmt.Sprint(n)
		}
		c.report(Error, d.at(at+"/need"), fmt.Sprintf("Name %d people or more in by:.", gate.Need), "%d people have to agree, but by: names %s", gate.Need, names)
	}
}

// gateOfAnswers compiles the gate of an agent: people decide about its answers.
func (c *compiler) gateOfAnswers(d *document, g *rawGate, a *Agent) {
	answer := expr.Text
	if a.Answer != nil {
		answer = a.Answer.Doc()
	}
	sc := c.scope(d, map[string]map[string]any{"answer": answer})
	a.Gate = &Gate{When: c.cond(d, sc, "/gate/when", g.When), Tries: SentBack}
	if g.Tries != nil {
		a.Gate.Tries = *g.Tries
	}
	c.people(d, "/gate", g, a.Gate, sc)
}

// countOf counts who may settle a ticket; counted is false where an expression says who.
func countOf(by []Approver) (n int, counted bool) {
	seen := map[string]bool{}
	for _, a := range by {
		if a.From != nil || right.Right(a.Name).Valid() {
			return 0, false
		}
		seen[a.Name] = true
	}
	return len(seen), true
}

// approvers compiles a list of who may settle a ticket.
func (c *compiler) approvers(d *document, sc *expr.Scope, path string, names []string) []Approver {
	var out []Approver
	plain := slices.DeleteFunc(slices.Clone(names), func(n string) bool { return n == Asker || right.Right(n).Valid() || strings.HasPrefix(n, "=") })
	if len(plain) > 0 && len(c.p.Approvers) == 0 {
		c.report(Warning, d.at(path), "Add approvers: ["+strings.Join(plain, ", ")+"] to "+Main+".", "this names %s, but the project lists no approvers, so a misspelt name is not found", strings.Join(plain, ", "))
	}
	for i, n := range names {
		at := fmt.Sprintf("%s/%d", path, i)
		if strings.HasPrefix(n, "=") && !strings.HasPrefix(n, "==") {
			from := c.mapping(d, sc, at, n)
			if from == nil {
				continue
			}
			_, got, name := from.Fits(map[string]any{"type": "string"})
			if _, _, list := from.Fits(map[string]any{"type": "array"}); !name && !list {
				c.report(Error, d.at(at), "Give a name, or a list of names.", "who may settle it must be a text or a list, but this gives %s", got)
			}
			out = append(out, Approver{Name: n, From: from})
			continue
		}
		if n != Asker && !right.Right(n).Valid() && len(c.p.Approvers) > 0 && !slices.Contains(c.p.Approvers, n) {
			c.missing(d.at(at), "approver", n, append([]string{Asker}, c.p.Approvers...))
		}
		c.p.deciders = append(c.p.deciders, n)
		out = append(out, Approver{Name: n})
	}
	return out
}

// Deciders lists the names of who may settle something: the project's approvers, and those that
// gates name.
func (p *Project) Deciders() []string { return append(slices.Clone(p.Approvers), p.deciders...) }

// Approvers lists who may settle the gate's tickets, as the file has it.
func (g *Gate) Approvers() []string {
	var out []string
	for _, a := range g.By {
		out = append(out, a.Name)
	}
	return out
}
