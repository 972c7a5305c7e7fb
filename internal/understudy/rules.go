package understudy

import (
	"maps"
	"regexp"
	"slices"
	"strings"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/core/reading"
)

// first gives a read that the instructions want before anything else: "Look a
// vessel up by its name before you say anything about it."
func (th *thought) first(g *goal, target *card) (ledger.Ask, bool) {
	for _, m := range beforeRE.FindAllStringSubmatch(th.r.System, -1) {
		c := th.meant(m[1])
		if c == nil || c.writes || c.handoff != "" || c == target {
			continue
		}
		if what := th.meant(m[2]); what != nil && what != target {
			continue // it is for another tool
		}
		f := th.fill(c, g.sources, th.usable(g))
		if len(f.missing) > 0 || len(c.params) == 0 || f.strong == 0 || slices.ContainsFunc(c.params, func(p *param) bool {
			return slices.Contains([]string{"with", "to", "by", "in", "at", "from"}, f.picks[p].lead)
		}) || target != nil && th.wasCalled(target, nil) {
			continue
		}
		if th.wasCalled(c, nil) || th.known(c, f.args) || th.request.kind == referring && th.doneBefore(c) != nil {
			continue
		}
		th.because("The instructions want %s first: %q.", c.Name, strings.TrimRight(strings.TrimSpace(m[0]), "."))
		return ask(c, f.args, "The instructions want it first."), true
	}
	return ledger.Ask{}, false
}

var beforeRE = regexp.MustCompile(`(?i)([^.!?\n]{4,120}?),?\s+\bbefore (?:you )?([^.!?\n]{3,120})[.!?\n]?`)

// meant gives the own tool that a sentence of the instructions speaks of clearly.
func (th *thought) meant(text string) *card {
	cs := reading.Clauses(text)
	if len(cs) == 0 {
		return nil
	}
	g := &goal{clause: cs[0], text: text}
	g.sources = []*source{{text: text, spans: [][2]int{{cs[0].At, cs[0].End}}, mentions: reading.Mentions(text, th.now), clause: &cs[0], all: true}}
	words, marks := content(g), marksOf(g)
	var top *card
	score, next := 0.0, 0.0
	for _, c := range th.cards {
		r := Rating{c: c}
		r.words(g, words, marks)
		switch {
		case r.Score > score:
			top, score, next = c, r.Score, score
		case r.Score > next:
			next = r.Score
		}
	}
	if score < 1.2 || score-next < 0.3 {
		return nil
	}
	return top
}

var notOursRE = regexp.MustCompile(`(?i)([^.!?:;\n]{3,200}?) (?:is|are) not yours[:;,]? *(?:and )?(?:hand|pass|give)[^.!?\n]{0,40}? to (?:the )?([a-z0-9_ ]+)`)

// handing puts what the instructions say is another's into what is said of the handoff to it:
// "Berths and dues are not yours: hand those to the desk."
func handing(r deed.Request) []project.Contract {
	tools := r.Tools
	for _, m := range notOursRE.FindAllStringSubmatch(r.System, -1) {
		for i, c := range tools {
			if to, ok := strings.CutPrefix(c.Name, project.PassPrefix); ok && strings.HasPrefix(strings.ReplaceAll(strings.ToLower(m[2]), " ", "_"), to) {
				tools = slices.Clone(tools)
				tools[i].Summary = c.Summary + " Also: " + strings.TrimSpace(m[1]) + "."
			}
		}
	}
	return tools
}

// known says whether an earlier call has brought just this already.
func (th *thought) known(c *card, args map[string]any) bool {
	for _, a := range th.earlier {
		if a.tool == c.Name && a.result != nil && !a.result.bad && show(a.args) == show(args) {
			return true
		}
	}
	return false
}

// bring gives a read that brings what a parameter needs.
func (th *thought) bring(g *goal, p *param) (ledger.Ask, bool) {
	if p.counts() {
		return ledger.Ask{}, false
	}
	if p.unit == "" && p.pattern == nil && p.role != aCode && p.role != aNoun && p.role != "" || p.enum != nil || p.kind == "array" {
		return ledger.Ask{}, false
	}
	want := p.label
	if len(want) == 0 {
		want = p.about
	}
	type scored struct {
		c *card
		n int
	}
	var all []scored
	for _, c := range th.cards {
		if c.handoff != "" || c.writes || th.wasCalled(c, nil) || slices.ContainsFunc(c.params, func(q *param) bool { return q.name == p.name && q.required }) {
			continue
		}
		n := 0
		for r := range want {
			if c.has(r, ofResult) {
				n += 2
			} else if c.has(r, ofSummary) && !c.known {
				n++
			}
		}
		if n > 0 {
			all = append(all, scored{c, n})
		}
	}
	slices.SortStableFunc(all, func(a, b scored) int { return b.n - a.n })
	for _, s := range all {
		f := th.fill(s.c, g.sources, th.usable(g))
		if len(f.missing) == 0 && len(s.c.params) > 0 && f.strong > 0 {
			th.because("%s is missing; %s can bring it.", p.name, s.c.Name)
			return ask(s.c, f.args, "It brings the "+spaced(p.name)+"."), true
		}
	}
	return ledger.Ask{}, false
}

// repair makes a read again with the value that its failure named.
func (th *thought) repair(a *asked) (ledger.Ask, bool) {
	c := th.by[a.tool]
	if c == nil || c.writes || a.result == nil || !a.result.bad || len(th.callsOf(a.tool)) > 1 {
		return ledger.Ask{}, false
	}
	m := nearestRE.FindStringSubmatch(a.result.words)
	if m == nil {
		return ledger.Ask{}, false
	}
	right := m[1] + m[2]
	for _, k := range slices.Sorted(maps.Keys(a.args)) {
		if s, ok := a.args[k].(string); ok && s != right && near.Hint(s, []string{right}) != "" {
			args := map[string]any{}
			for k2, v := range a.args {
				args[k2] = v
			}
			args[k] = right
			th.because("The failure says what is meant: %q.", right)
			return ask(c, args, "The failure names it."), true
		}
	}
	return ledger.Ask{}, false
}

var nearestRE = regexp.MustCompile(`"([^"]+)" is nearest|[Dd]id you mean "([^"]+)"`)

func (th *thought) callsOf(tool string) (out []*asked) {
	for _, a := range th.calls {
		if a.tool == tool {
			out = append(out, a)
		}
	}
	return out
}

// repaired says whether a failed call was made again since and did not fail.
func (th *thought) repaired(a *asked) bool {
	all := th.callsOf(a.tool)
	last := all[len(all)-1]
	return last != a && last.result != nil && !last.result.bad
}
