package understudy

import (
	"math"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"

	"stonebaton.example/core/reading"
)

// source is a text that arguments may come from.
type source struct {
	text     string
	spans    [][2]int // the parts of it that count; nil is all
	mentions []reading.Mention
	clause   *reading.Clause // the clause that has the goal, where the source is it
	all      bool            // optional parameters are filled from it too
	hungry   bool            // it answers our question: what it says is for what is missing
	note     string          // where a value came from, when it is not this request's own words
}

func (s *source) inside(at int) bool {
	if s.spans == nil {
		return true
	}
	for _, sp := range s.spans {
		if at >= sp[0] && at < sp[1] {
			return true
		}
	}
	return false
}

// cand is a value that a parameter could have.
type cand struct {
	score   float64
	at, end int
	value   any
	words   string
	shares  bool // its words may serve another parameter too
	from    *source
	lead    string
}

// filled is the arguments found for a tool.
type filled struct {
	args    map[string]any
	more    []map[string]any // the same call for each further value of a list: beans and peas
	from    map[string]string
	borrow  map[string]string // parameter → where its value came from, if not from this request
	missing []*param
	half    map[string]string   // a missing parameter → what is still to say of it
	used    map[string][][2]int // the stretches of each source that serve a parameter
	strong  int                 // parameters that were filled by what could be little else
	weak    int                 // and by what might be
	sure    int                 // of the strong ones, those that fit an allowed value, a pattern or an example
	spent   map[string]bool     // names that a look-up has been made by since the request
	seen    []stretch           // and those that serve one beside another
	picks   map[*param]cand
	first   *source
}

// stretch is a part of a text.
type stretch struct {
	text    string
	at, end int
}

// filler fills the arguments of one call.
type filler struct {
	c       *card
	now     time.Time
	person  string          // who speaks, where the instructions say so
	letters map[string]bool // that codes begin with, by the examples of all tools
	spent   map[string]bool // names that a look-up has been made by since the request
	calls   []*asked        // made since the request
	out     filled
	used    map[string][][2]int
	picks   map[*param]cand
	open    map[*source]map[*param][]cand
	sources []*source
}

func (th *thought) fill(c *card, sources []*source, results []found) filled {
	f := &filler{c: c, now: th.now, person: th.person, spent: th.spent(c), letters: th.letters, calls: th.calls, sources: sources, used: map[string][][2]int{}, picks: map[*param]cand{}, open: map[*source]map[*param][]cand{}}
	f.out = filled{args: map[string]any{}, from: map[string]string{}, borrow: map[string]string{}, half: map[string]string{}}
	for _, p := range c.params {
		if v, ok := th.given[p.name]; ok {
			f.out.args[p.name], f.out.from[p.name] = v, "the question"
			f.out.strong++
		}
	}
	for _, s := range sources {
		f.assign(s)
	}
	for _, p := range c.params {
		if _, ok := f.out.args[p.name]; ok {
			continue
		}
		if p.only != nil {
			f.out.args[p.name] = p.only
			continue
		}
		if p.name == "because" {
			continue
		}
		if !p.required {
			continue
		}
		if v, where, ok := fromResults(p, results); ok && !p.counts() {
			f.out.args[p.name], f.out.from[p.name] = v, where
			continue
		}
		if v, ok := fromFacts(p, th.facts); ok {
			f.out.args[p.name], f.out.from[p.name] = v, "the instructions"
			continue
		}
		if p.role == aPerson && f.person != "" && len(sources) > 0 && ownRE.MatchString(sources[0].text) {
			f.out.args[p.name], f.out.from[p.name] = f.person, "who speaks"
			continue
		}
		f.out.missing = append(f.out.missing, p)
	}
	if len(sources) > 0 {
		f.leftName(sources[0])
	}
	f.variants()
	f.optional(results)
	for p, pick := range f.picks {
		switch {
		case len(sources) == 0 || pick.from != sources[0]:
		case pick.score >= 5.9, p.enum != nil && p.required:
			f.out.sure++
			f.out.strong++
		case pick.score >= 3.9:
			f.out.strong++
		default:
			f.out.weak++
		}
	}
	f.out.used, f.out.picks, f.out.spent = f.used, f.picks, f.spent
	if len(sources) > 0 {
		f.out.first = sources[0]
	}
	return f.out
}

var ownRE = regexp.MustCompile(`(?i)\b(?:my|me|mine|myself)\b`)

// assign gives the mentions of a source to the parameters that are still open,
// the surest pair first; no stretch of a text serves two of them.
func (f *filler) assign(s *source) {
	type pair struct {
		p     *param
		c     cand
		order int
	}
	var pairs []pair
	all := map[*param][]cand{}
	for i, p := range f.c.params {
		if _, ok := f.out.args[p.name]; ok || p.name == "because" {
			continue
		}
		if !p.required && !s.all {
			continue
		}
		for _, c := range f.cands(p, s) {
			least := 0.9
			if !p.required {
				least = 2
			}
			if c.score < least {
				continue
			}
			all[p] = append(all[p], c)
			pairs = append(pairs, pair{p, c, i})
		}
	}
	sort.SliceStable(pairs, func(i, j int) bool {
		a, b := pairs[i], pairs[j]
		if math.Abs(a.c.score-b.c.score) > 1e-9 {
			return a.c.score > b.c.score
		}
		if a.p.required != b.p.required {
			return a.p.required
		}
		if a.order != b.order {
			return a.order < b.order
		}
		return a.c.at < b.c.at
	})
	for _, x := range pairs {
		if _, ok := f.picks[x.p]; ok {
			continue
		}
		if !x.c.shares && f.overlaps(s, x.c) {
			continue
		}
		v := x.c.value
		words := x.c.words
		if x.p.kind == "array" {
			v, words = f.list(s, x.p, x.c, all[x.p])
		} else if !x.c.shares {
			f.take(s, x.c)
		} else if x.c.end > x.c.at {
			f.out.seen = append(f.out.seen, stretch{s.text, x.c.at, x.c.end})
		}
		x.c.from = s
		f.picks[x.p] = x.c
		f.out.args[x.p.name], f.out.from[x.p.name] = v, words
		if s.note != "" {
			f.out.from[x.p.name] += ", " + s.note
			f.out.borrow[x.p.name] = s.note
		}
	}
	f.open[s] = all
	f.needFirst(s, all)
	// one year alone is the first and the last
	f.oneYear(s)
}

// needFirst gives a value that an optional parameter has taken to a required
// one that is still open and could have it too.
func (f *filler) needFirst(s *source, all map[*param][]cand) {
	for _, p := range f.c.params {
		if _, ok := f.out.args[p.name]; ok || !p.required || p.kind == "array" {
			continue
		}
		for _, c := range all[p] {
			for _, q := range f.c.params {
				if pick, ok := f.picks[q]; !ok || q.required || pick.from != s || pick.shares || pick.at != c.at || pick.end != c.end || q.pattern != nil || c.score < 3 {
					continue
				}
				delete(f.picks, q)
				delete(f.out.args, q.name)
				delete(f.out.from, q.name)
				c.from = s
				f.picks[p], f.out.args[p.name], f.out.from[p.name] = c, c.value, c.words
				break
			}
			if _, ok := f.out.args[p.name]; ok {
				break
			}
		}
	}
}

func (f *filler) overlaps(s *source, c cand) bool {
	for _, u := range f.used[s.text] {
		if c.at < u[1] && u[0] < c.end {
			return true
		}
	}
	return false
}

func (f *filler) take(s *source, c cand) {
	f.used[s.text] = append(f.used[s.text], [2]int{c.at, c.end})
}

var joinRE = regexp.MustCompile(`(?i)^\s*(?:,\s*and|,|and|&|plus|\+|and then|then|,\s*then|as well as)\s*(?:also\s+)?(?:the\s+|a\s+|an\s+|some\s+|of\s+|no\.?\s+)?$`)

// joined says whether two stretches of a text stand in one list.
func joined(text string, a, b cand) bool {
	if b.at < a.at {
		a, b = b, a
	}
	return a.end <= b.at && joinRE.MatchString(text[a.end:b.at])
}

// told says whether a result has a field of this name with this value: a vessel that was found
// by its name is still the vessel.
func (f *filler) told(field, value string) bool {
	return slices.ContainsFunc(f.calls, func(a *asked) bool {
		if a.result == nil || a.result.bad {
			return false
		}
		m, _ := a.result.value.(map[string]any)
		v, _ := m[field].(string)
		return strings.EqualFold(v, value)
	})
}

// longestList is the most values that are taken from one list.
const longestList = 100

// chain lists the candidates that stand in one list with c, in order.
func (f *filler) chain(s *source, c cand, all []cand) []cand {
	out := []cand{c}
	all = all[:min(len(all), longestList)]
	for grown := true; grown; {
		grown = false
		for _, o := range all {
			if slices.ContainsFunc(out, func(x cand) bool { return x.at < o.end && o.at < x.end }) || o.score < c.score-4 || f.overlaps(s, o) {
				continue
			}
			if slices.ContainsFunc(out, func(x cand) bool { return joined(s.text, x, o) }) {
				out, grown = append(out, o), true
			}
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].at < out[j].at })
	return out
}

func (f *filler) list(s *source, p *param, c cand, all []cand) (any, string) {
	chain := f.chain(s, c, all)
	if p.items != nil && p.items.enum != nil { // each allowed value that is named
		chain = nil
		for _, o := range all {
			if !f.overlaps(s, o) && !slices.ContainsFunc(chain, func(x cand) bool { return x.at < o.end && o.at < x.end }) {
				chain = append(chain, o)
			}
		}
		sort.Slice(chain, func(i, j int) bool { return chain[i].at < chain[j].at })
	}
	var vs []any
	var words []string
	for _, o := range chain {
		vs = append(vs, o.value)
		words = append(words, o.words)
		f.take(s, o)
	}
	return vs, strings.Join(words, ", ")
}

// variants makes a call for each value of a list that stands where one is due.
func (f *filler) variants() {
	for _, s := range f.sources {
		if s.clause == nil && !s.hungry {
			continue
		}
		for _, p := range f.c.params {
			c, ok := f.picks[p]
			if !ok || p.kind == "array" || p.kind == "boolean" || c.shares || p.role == aText {
				continue
			}
			if !slices.ContainsFunc(f.open[s][p], func(o cand) bool { return o.at == c.at && o.end == c.end }) {
				continue
			}
			chain := f.chain(s, c, slices.DeleteFunc(slices.Clone(f.open[s][p]), func(o cand) bool { return o.at == c.at }))
			if len(chain) < 2 {
				continue
			}
			f.out.args[p.name] = chain[0].value
			for _, o := range chain[1:] {
				args := map[string]any{}
				for k, v := range f.out.args {
					args[k] = v
				}
				args[p.name] = o.value
				f.out.more = append(f.out.more, args)
				f.take(s, o)
			}
			f.out.from[p.name] = s.text[chain[0].at:chain[len(chain)-1].end]
			return
		}
	}
}

// cands lists what in a source could be the value of a parameter.
func (f *filler) cands(p *param, s *source) []cand {
	if p.enum != nil {
		return f.choices(p, s)
	}
	switch p.kind {
	case "number", "integer":
		return f.figures(p, s)
	case "boolean":
		return f.flags(p, s)
	case "array":
		if p.items == nil {
			return nil
		}
		return f.cands(p.items, s)
	case "object":
		return nil
	}
	switch p.role {
	case aDay, aMoment, aClock:
		return f.moments(p, s)
	case aText:
		return f.texts(p, s)
	case aCode, aMail, aLink, aNoun, aPerson, aPlace:
	}
	return f.strings(p, s)
}

// cue says how much the words about a mention speak for a parameter.
func (p *param) cue(m reading.Mention) float64 {
	score := 0.0
	near := func(r string, label, about float64) {
		switch {
		case r == "":
		case p.label[r]:
			score += label
		case p.about[r]:
			score += about
		default:
			for l := range p.label {
				if reading.Akin(l, r) {
					score += about
					break
				}
			}
		}
	}
	near(m.Left, 3, 1)
	near(m.Right, 2.5, 1)
	name := strings.ToLower(p.name)
	switch {
	case m.Lead == "":
	case m.Lead == name:
		score += 2.5
	case p.side == reading.First && (m.Lead == "from" || m.Lead == "since" || m.Lead == "after"):
		score += 2
	case p.side == reading.Last && (m.Lead == "to" || m.Lead == "until" || m.Lead == "till" || m.Lead == "into" || m.Lead == "in" && p.enum != nil):
		score += 2
	case p.side == reading.First && (m.Lead == "to" || m.Lead == "until" || m.Lead == "into") || p.side == reading.Last && (m.Lead == "from" || m.Lead == "since"):
		score -= 3
	}
	return score
}
