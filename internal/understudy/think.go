package understudy

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/reading"
	"stonebaton.example/core/view"
)

// think works a reply out with no line to go by.
func (th *thought) think() (string, []ledger.Ask) {
	if text, ok := th.courtesy(); ok {
		return text, nil
	}
	if n := len(th.calls); n > 0 {
		if call, ok := th.repair(th.calls[n-1]); ok {
			return "", []ledger.Ask{call}
		}
	}
	for _, a := range th.calls {
		if a.result != nil && a.result.bad && !th.repaired(a) && !strings.HasPrefix(a.tool, project.ConsultPrefix) {
			return th.tell(), nil
		}
	}
	th.plan()
	return th.work()
}

// courtesy answers what is not about the world.
func (th *thought) courtesy() (string, bool) {
	m := th.manners
	_, answer := th.before(th.from)
	asked := strings.HasSuffix(strings.TrimSpace(answer), "?")
	switch {
	case th.said == "":
		return "Nothing has been said yet.", true
	case len(th.said) > longestMessage:
		th.because("The message has %d bytes; it reads up to %d.", len(th.said), longestMessage)
		return fmt.Sprintf("I read messages of up to %d kB, and this one has %d. Please say it in fewer words.", longestMessage>>10, (len(th.said)+1023)>>10), true
	case strings.HasPrefix(th.said, "(") && strings.HasSuffix(th.said, ")"):
		th.because("The message is a note: it tells what has happened, and asks for nothing.")
		return strings.TrimSpace(th.said[1 : len(th.said)-1]), true
	case asked && m.No:
		th.because("The answer to the question before is no.")
		return "All right, then I leave it.", true
	case asked && m.Yes:
		return "", false
	case m.Ables && !th.hasList():
		th.because("It asks what can be done here.")
		return th.abilities(m.Greets), true
	case m.Leaves:
		return "Goodbye.", true
	case m.Rest == "" && m.Thanks:
		th.because("It is a thank-you; nothing is to be done.")
		return "You are welcome.", true
	case m.Rest == "" && m.Greets:
		th.because("It is a greeting; nothing is to be done.")
		return th.greeting(), true
	case m.Fine || m.Yes:
		return "Good. What else can I do?", true
	case m.No:
		return "All right.", true
	}
	return "", false
}

// hasList says whether a question for tools asks for what a tool of the project lists.
func (th *thought) hasList() bool {
	for _, c := range th.cards {
		if c.handoff == "" && !c.writes && c.has(reading.Root("tools"), ofName|ofParam) && (c.has("list", ofName|ofParam) || c.has("find", ofName|ofParam) || c.has("search", ofName|ofParam) || c.has("list", ofSummary)) {
			return true
		}
	}
	return false
}

func (th *thought) because(format string, args ...any) {
	th.reasons = append(th.reasons, fmt.Sprintf(format, args...))
}

// plan finds the goals of the request, and weighs the tools for each.
func (th *thought) plan() {
	all := th.goalsOf(th.request)
	var last *goal
	for _, g := range all {
		th.weigh(g)
		b := g.best()
		if b == nil && th.request.confirmed { // a yes to our guess
			if _, ok := th.guess(g); ok {
				for i, r := range g.ratings {
					if r.c.handoff == "" && !r.asked && len(r.fill.missing) == 0 && len(r.fill.from) >= 2 && r.strong > 0 {
						r.Enough = true
						g.ratings = slices.Insert(slices.Delete(g.ratings, i, i+1), 0, r)
						break
					}
				}
				b = g.best()
			}
		}
		switch {
		case last != nil && len(content(g)) == 0 && !g.mentions():
			continue // "and when", beside who
		case b == nil && last != nil && th.repeats(g, last):
			th.goals = append(th.goals, g)
		case b == nil && last != nil && !standsAlone(g.clause.Text):
			last.join(g)
			th.weigh(last)
		case b == nil && last == nil && len(all) > 1 && g.clause.Mood == reading.Telling && !th.passes(g):
			// what is told first belongs to what is asked next
		default:
			th.goals = append(th.goals, g)
			last = g
			continue
		}
	}
	if th.request.kind == amending {
		th.keepAltered()
	}
}

// mentions says whether anything is mentioned in a goal's clause.
func (g *goal) mentions() bool {
	return slices.ContainsFunc(g.own().mentions, func(m reading.Mention) bool { return m.At >= g.clause.At && m.End <= g.clause.End })
}

func (th *thought) passes(g *goal) bool {
	return len(g.ratings) > 0 && g.ratings[0].c.handoff != "" && g.ratings[0].Score > 0.8
}

// join takes a clause that says more about a goal into it.
func (g *goal) join(more *goal) {
	s := g.own() // base has the same
	s.spans = append(slices.Clone(s.spans), [2]int{more.clause.At, more.clause.End})
}

// repeats says whether a clause only gives another value for the goal before
// it: "close 417 and then 411". It is then a goal of its own, of the same tool.
func (th *thought) repeats(g, last *goal) bool {
	b := last.best()
	if b == nil || b.c.handoff != "" || g.clause.Verb != "" && reading.Verb(g.clause.Verb) || g.clause.Question != "" {
		return false
	}
	own := *g.own()
	own.hungry = true
	f := th.fill(b.c, []*source{&own}, nil)
	n := 0
	for k := range f.from {
		if _, also := b.fill.from[k]; also {
			n++
		}
	}
	if n == 0 || len(content(g)) > 2 {
		return false
	}
	g.sources = append(g.sources, last.sources...)
	r := Rating{Candidate: view.Candidate{Tool: b.Tool, Score: b.Score, Words: []view.Weight{{Word: "the clause before", Points: b.Score, By: "the same again"}}, Enough: true}, c: b.c}
	r.fill = th.fill(b.c, append([]*source{&own}, last.sources...), th.usable(g))
	r.Args = show(r.fill.args)
	g.ratings = []Rating{r}
	return true
}

// keepAltered keeps, of the goals of a request that is amended, the last one that the change concerns.
func (th *thought) keepAltered() {
	for i := len(th.goals) - 1; i >= 0 && len(th.goals) > 1; i-- {
		b := th.goals[i].best()
		if b == nil || b.c.handoff != "" {
			continue
		}
		s := *th.goals[i].sources[0]
		if len(th.fill(b.c, []*source{&s}, nil).from) > 0 {
			th.goals = th.goals[i : i+1]
			return
		}
	}
}

// step is how a goal stands.
type step struct {
	calls []ledger.Ask
	wait  string // a question to the person
	text  string // said with the calls
	done  bool
}

// work does what is next: calls, a question, a handoff, or the answer.
func (th *thought) work() (string, []ledger.Ask) {
	var pass *card
	var wait string
	var unmet []*goal
	var out []ledger.Ask
	var words []string
	over := slices.ContainsFunc(th.goals, func(g *goal) bool {
		b := g.best()
		return b != nil && b.c.handoff != "" && !b.c.consult && !th.passed[b.Tool] && !th.spokenTo(g)
	})
	for _, g := range th.goals {
		b := g.best()
		if b == nil {
			unmet = append(unmet, g)
			continue
		}
		if b.c.consult && !th.alone(b.c) {
			if over {
				continue // who takes the rest over asks for it, or hands it back
			}
			if call, ok := th.consult(g, b.c); ok {
				out = append(out, call)
			}
			continue
		}
		if b.c.handoff != "" {
			if pass == nil && !th.passed[b.Tool] && !th.spokenTo(g) {
				if pre, ok := th.first(g, nil); ok {
					out = append(out, pre)
					break
				}
				pass = b.c
			}
			continue
		}
		if text, ok := th.unsure(g); ok {
			if wait == "" {
				wait = text
			}
			continue
		}
		if len(out) > 0 && b.c.writes {
			break // a write waits for the reads before it
		}
		st := th.advance(g)
		if len(st.calls) > 0 {
			out = append(out, st.calls...)
			if st.text != "" {
				words = append(words, st.text)
			}
			if b.c.writes || g.clause.If != "" {
				break
			}
			continue
		}
		if st.wait != "" && wait == "" {
			wait = st.wait
		}
	}
	if len(out) > 0 {
		return strings.Join(words, " "), unique(out)
	}
	if pass == nil && wait == "" {
		for _, g := range unmet {
			c := th.passTo(g)
			if c == nil || th.spokenTo(g) {
				continue
			}
			if !c.consult || th.alone(c) {
				pass = c
				break
			}
			if call, ok := th.consult(g, c); ok {
				return "", []ledger.Ask{call}
			}
		}
	}
	if pass == nil && wait == "" && len(th.cards) == 1 && th.cards[0].handoff != "" && !th.cards[0].consult && len(th.passed) == 0 && len(unmet) > 0 {
		pass = th.cards[0] // who can do nothing but pass on passes on
	}
	if pass == nil && wait == "" && len(th.calls) == 0 && len(unmet) > 0 {
		if text, ok := th.guess(unmet[0]); ok {
			wait = text
		}
	}
	switch {
	case pass != nil:
		return "", []ledger.Ask{th.handoff(pass)}
	case wait != "":
		if told := th.told(true); told != "" && len(th.calls) > 0 {
			return told + "\n\n" + wait, nil
		}
		return wait, nil
	case len(th.calls) > 0 || len(th.notes) > 0:
		return th.tell() + th.cannot(unmet), nil
	}
	return th.lost()
}

// guess asks whether a tool is meant that no word speaks for, but that takes
// all that is mentioned, where there is only one such.
func (th *thought) guess(g *goal) (string, bool) {
	var one *Rating
	for i := range g.ratings {
		r := &g.ratings[i]
		if r.c.handoff != "" || r.asked || r.open > 1 || len(r.fill.missing) > 0 || len(r.fill.from) < 2 || r.strong == 0 {
			continue
		}
		if one != nil {
			return "", false
		}
		one = r
	}
	if one == nil {
		return "", false
	}
	th.because("Only %s takes all that is mentioned; it asks whether that is meant.", one.Tool)
	return fmt.Sprintf("Shall I %s, with %s?", one.c.doing(), list(argWords(one.fill.args))), true
}

func unique(calls []ledger.Ask) []ledger.Ask {
	var out []ledger.Ask
	for _, c := range calls {
		if !slices.ContainsFunc(out, func(o ledger.Ask) bool { return o.Tool == c.Tool && o.Args == c.Args }) {
			out = append(out, c)
		}
	}
	return out
}

// unsure gives a question where two tools are as likely: a wrong call is worse.
func (th *thought) unsure(g *goal) (string, bool) {
	if len(g.ratings) < 2 || th.request.confirmed {
		return "", false
	}
	a, b := g.ratings[0], g.ratings[1]
	if !b.Enough || b.c.handoff != "" || a.Score-b.Score > 0.08*a.Score || th.wasCalled(a.c, nil) || !a.c.writes && !b.c.writes && len(a.fill.missing) == 0 {
		return "", false
	}
	for _, p := range a.fill.missing { // what both need is asked for first
		if slices.ContainsFunc(b.fill.missing, func(q *param) bool { return q.name == p.name }) {
			th.because("%s and %s are as likely; both need %s.", a.Tool, b.Tool, p.name)
			return th.question(a.c, []*param{p}, a.fill.half), true
		}
	}
	if len(a.fill.missing) != len(b.fill.missing) {
		return "", false
	}
	th.because("%s and %s are as likely.", a.Tool, b.Tool)
	return fmt.Sprintf("Shall I %s, or %s?", a.c.doing(), b.c.doing()), true
}

// wasCalled says whether a tool was called since the person spoke; with the
// same arguments, where any are given.
func (th *thought) wasCalled(c *card, args map[string]any) bool {
	for _, a := range th.calls {
		if a.tool == c.Name && (args == nil || show(a.args) == show(args)) {
			return true
		}
	}
	return false
}

// claim finds a call that a goal has made: one with these arguments, or else
// one of the tool that no other goal has claimed.
func (th *thought) claim(c *card, args map[string]any) *asked {
	for _, a := range th.calls {
		if a.tool == c.Name && !a.taken && show(a.args) == show(args) {
			a.taken = true
			return a
		}
	}
	for _, a := range th.calls {
		if a.tool == c.Name && show(a.args) == show(args) {
			return a
		}
	}
	for _, a := range th.calls {
		if a.tool == c.Name && !a.taken {
			a.taken = true
			return a
		}
	}
	return nil
}

// advance takes a goal one step on.
func (th *thought) advance(g *goal) step {
	b := g.best()
	if g.clause.If != "" && !th.request.confirmed {
		if st, holds := th.condition(g); !holds {
			return st
		}
	}
	if b.c.writes && th.request.kind == amending && !th.request.confirmed && !(th.request.adds && th.another(g, b)) {
		if old := th.doneBefore(b.c); old != nil && !th.wasCalled(b.c, nil) && len(b.fill.missing) == 0 {
			th.because("%s was already done for the request before; it is not repeated unasked.", b.Tool)
			return step{wait: th.alreadyDone(b.c, old, b.fill.args)}
		}
	}
	if th.request.kind == amending && th.known(b.c, b.fill.args) && len(th.fill(b.c, g.sources[:1], nil).from) == 0 {
		th.because("Nothing in %q says what should be different.", g.newer)
		return step{wait: "What should be different this time?"}
	}
	if b.left = th.leftOver(g, b); len(b.left) > 0 && b.c.writes && len(b.fill.missing) == 0 && !th.request.confirmed && th.request.kind != amending && !th.wasCalled(b.c, nil) {
		th.because("%s changes something, and takes nothing of %s.", b.Tool, list(b.left))
		return step{wait: fmt.Sprintf("I can %s, but there is no place in it for “%s”. Shall I go on without it?", b.c.doing(), strings.Join(b.left, "”, “"))}
	}
	if pre, ok := th.first(g, b.c); ok {
		return step{calls: []ledger.Ask{pre}}
	}
	if len(b.fill.missing) > 0 {
		if th.claim(b.c, b.fill.args) != nil {
			return step{done: true}
		}
		for _, p := range b.fill.missing {
			if call, ok := th.bring(g, p); ok {
				return step{calls: []ledger.Ask{call}}
			}
		}
		return step{wait: th.question(b.c, b.fill.missing, b.fill.half)}
	}
	if text, ok := th.asksWhich(g, b); ok && !th.wasCalled(b.c, nil) {
		return step{wait: text}
	}
	var calls []ledger.Ask
	for _, args := range append([]map[string]any{b.fill.args}, b.fill.more...) {
		if th.claim(b.c, args) == nil {
			calls = append(calls, ask(b.c, args, "The request was: "+g.clause.Text))
		}
	}
	if len(calls) == 0 {
		return step{done: true}
	}
	return step{calls: calls, text: th.borrowed(b)}
}

// another says whether what was said since names another thing to do the same
// with, such as a code, and not only another day or number for the same thing.
func (th *thought) another(g *goal, b *Rating) bool {
	for p := range th.fill(b.c, g.sources[:1], nil).picks {
		if p.enum != nil || p.role == aCode || p.role == aNoun || p.role == aPerson {
			return true
		}
	}
	return false
}

// leftOver lists what a goal mentions that neither its tool nor a read that was
// made for it takes.
func (th *thought) leftOver(g *goal, b *Rating) []string {
	var out []string
	for _, text := range b.left {
		at := strings.Index(g.text, text)
		used := false
		for _, a := range th.calls {
			if c := th.by[a.tool]; c != nil && c != b.c {
				f := th.fill(c, g.base, nil)
				for _, u := range f.used[g.text] {
					used = used || at < u[1] && u[0] < at+len(text)
				}
				for _, s := range f.seen {
					used = used || s.text == g.text && at < s.end && s.at < at+len(text)
				}
			}
		}
		if !used {
			out = append(out, text)
		}
	}
	return out
}

// borrowed says which values come from before the request: none is used without a word.
func (th *thought) borrowed(b *Rating) string {
	var out []string
	for _, p := range b.c.params {
		if note := b.fill.borrow[p.name]; note != "" && b.c.writes {
			out = append(out, fmt.Sprintf("%s %s", spaced(p.name), plainValue(b.fill.args[p.name])))
		}
	}
	if len(out) == 0 {
		return ""
	}
	return "I take " + list(out) + " from what was said before."
}

// doneBefore finds a call that was carried out for an earlier message.
func (th *thought) doneBefore(c *card) *asked {
	for i := len(th.earlier) - 1; i >= 0; i-- {
		if a := th.earlier[i]; a.tool == c.Name && a.result != nil && !a.result.bad {
			return a
		}
	}
	return nil
}

// passTo gives the agent that a clause speaks for at all, for what no own tool does: one that
// takes it over before one that is asked.
func (th *thought) passTo(g *goal) *card {
	var asked *card
	for _, r := range g.ratings {
		if r.c.handoff == "" || r.Score <= 0.4 || th.passed[r.Tool] {
			continue
		}
		if !r.c.consult {
			return r.c
		}
		if asked == nil {
			asked = r.c
		}
	}
	return asked
}

func (th *thought) handoff(c *card) ledger.Ask {
	raw, err := json.Marshal(map[string]string{"because": "The request was: " + th.said})
	if err != nil {
		raw = []byte("{}")
	}
	name := c.Name
	if c.consult {
		name = c.pass
	}
	return ledger.Ask{Tool: name, Args: string(raw)}
}

// spokenTo says whether a result that another agent brought speaks to a goal.
func (th *thought) spokenTo(g *goal) bool {
	return slices.ContainsFunc(th.calls, func(a *asked) bool { return !a.own && th.speaksTo(a, g) })
}

// speaksTo says whether a result is about what a goal asks for, by the words of
// its tool's name and of its fields.
func (th *thought) speaksTo(a *asked, g *goal) bool {
	words := content(g)
	marks := marksOf(g)
	if a.result != nil {
		have := rootSet(spaced(a.tool))
		for k := range schemaKeys(th.results[a.tool]) {
			for r := range rootSet(spaced(k)) {
				have[r] = true
			}
		}
		if m, ok := a.result.value.(map[string]any); ok {
			for k := range m {
				for r := range rootSet(spaced(k)) {
					have[r] = true
				}
			}
		}
		speaks := func(root string) bool {
			if have[root] {
				return true
			}
			for h := range have {
				if reading.Akin(h, root) {
					return true
				}
			}
			return false
		}
		for _, w := range words {
			if speaks(w.Root) {
				return true
			}
		}
		for _, m := range marks {
			if speaks(m) {
				return true
			}
		}
	}
	return false
}

// lost is what to say when no tool and no agent fits.
func (th *thought) lost() (string, []ledger.Ask) {
	if len(th.cards) == 0 {
		return "I have no tools for that, and I only know what tools tell me.", nil
	}
	if len(th.passed) > 0 { // it was handed to the wrong one: another may know
		for _, g := range th.goals {
			for _, r := range g.ratings {
				if r.c.handoff != "" && !r.c.consult && !th.passed[r.Tool] && (r.Score > 0.3 || len(g.own().mentions) > 0) {
					th.because("No tool here speaks to it; %s has not been asked yet.", r.c.handoff)
					return "", []ledger.Ask{th.handoff(r.c)}
				}
			}
		}
	}
	th.because("No tool and no agent speaks to it.")
	return "I cannot help with that. " + th.abilities(false), nil
}

// cannot names the parts of a request that no tool speaks to.
func (th *thought) cannot(unmet []*goal) string {
	var out []string
	for _, g := range unmet {
		if standsAlone(g.clause.Text) && !th.spokenTo(g) {
			out = append(out, "“"+g.clause.Text+"”")
		}
	}
	if len(out) == 0 {
		return ""
	}
	return "\n\nI have no tool for " + list(out) + "."
}
