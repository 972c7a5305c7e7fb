package understudy

import (
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"stonebaton/core/reading"
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
	out     filled
	used    map[string][][2]int
	picks   map[*param]cand
	open    map[*source]map[*param][]cand
	sources []*source
}

func (th *thought) fill(c *card, sources []*source, results []found) filled {
	f := &filler{c: c, now: th.now, person: th.person, spent: th.spent(c), letters: th.letters, sources: sources, used: map[string][][2]int{}, picks: map[*param]cand{}, open: map[*source]map[*param][]cand{}}
	f.out = filled{args: map[string]any{}, from: map[string]string{}, borrow: map[string]string{}, half: map[string]string{}}
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
		if v, where, ok := fromResults(p, results); ok && !some(p.label, quantities) {
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
	f.out.used, f.out.picks = f.used, f.picks
	if len(sources) > 0 {
		f.out.first = sources[0]
	}
	return f.out
}

var ownRE = regexp.MustCompile(`(?i)\b(?:my|me|mine|myself)\b`)

// optional fills what need not be said from a result of this request that has
// a field of just that name.
func (f *filler) optional(results []found) {
	for _, p := range f.c.params {
		if _, ok := f.out.args[p.name]; ok || p.required || p.kind == "boolean" || f.c.writes {
			continue
		}
		if p.kind != "number" && p.kind != "integer" || p.unit == "" {
			continue
		}
		now := slices.DeleteFunc(slices.Clone(results), func(r found) bool { return r.old || r.value == nil })
		if v, where, ok := fromResults(p, now); ok {
			f.out.args[p.name], f.out.from[p.name] = v, where
		}
	}
}

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
	// one year alone is the first and the last
	f.oneYear(s)
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

func (f *filler) oneYear(s *source) {
	var first, last *param
	for _, p := range f.c.params {
		if p.label["year"] && (p.kind == "integer" || p.kind == "number") {
			switch p.side {
			case reading.First:
				first = p
			case reading.Last:
				last = p
			case reading.Alone:
			}
		}
	}
	if first == nil || last == nil {
		return
	}
	for _, pair := range [][2]*param{{first, last}, {last, first}} {
		c, ok := f.picks[pair[0]]
		if _, other := f.picks[pair[1]]; !ok || other {
			continue
		}
		for _, m := range s.mentions {
			if m.At == c.at && m.Side == reading.Alone && (m.Lead == "in" || m.Lead == "of" || m.Lead == "" || m.Lead == "for" || m.Lead == "year") {
				f.picks[pair[1]] = c
				f.out.args[pair[1].name], f.out.from[pair[1].name] = c.value, c.words
			}
		}
	}
}

var joinRE = regexp.MustCompile(`(?i)^\s*(?:,\s*and|,|and|&|plus|\+|and then|then|,\s*then|as well as)\s*(?:also\s+)?(?:the\s+|a\s+|an\s+|some\s+|of\s+|no\.?\s+)?$`)

// joined says whether two stretches of a text stand in one list.
func joined(text string, a, b cand) bool {
	if b.at < a.at {
		a, b = b, a
	}
	return a.end <= b.at && joinRE.MatchString(text[a.end:b.at])
}

// chain lists the candidates that stand in one list with c, in order.
func (f *filler) chain(s *source, c cand, all []cand) []cand {
	out := []cand{c}
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

// passedOn says whether a place is in words that are to be passed on as they
// are: their figures and days are no arguments.
func (f *filler) passedOn(s *source, at int) bool {
	if s.clause == nil || !slices.ContainsFunc(f.c.params, func(p *param) bool { return p.role == aText }) {
		return false
	}
	_, from, ok := reading.After(s.text, s.clause.At, s.clause.End)
	return ok && at >= from
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

// choices finds the allowed values that are named.
func (f *filler) choices(p *param, s *source) []cand {
	words := reading.Words(s.text)
	var out []cand
	for _, v := range p.enum {
		name := fmt.Sprint(v)
		want := reading.Words(spaced(name))
		if len(want) == 0 {
			continue
		}
		for i := 0; i+len(want) <= len(words); i++ {
			if !s.inside(words[i].At) {
				continue
			}
			fits := true
			for k, w := range want {
				h := words[i+k]
				unit := reading.Unit(w.Low)
				fits = fits && (h.Root == w.Root || h.Low == w.Low || unit != "" && len(want) == 1 && reading.Unit(h.Low) == unit)
			}
			if !fits {
				continue
			}
			c := cand{score: 4, at: words[i].At, end: words[i+len(want)-1].End, value: v, words: s.text[words[i].At:words[i+len(want)-1].End]}
			c.score += p.cue(around(s, c.at, c.end)) + 0.3*float64(len(want)-1)
			if i > 0 && (words[i-1].Low == "not" || words[i-1].Low == "no" || words[i-1].Low == "without" || words[i-1].Low == "except") {
				continue
			}
			out = append(out, c)
		}
	}
	// the unit that a figure has is the one from which; "how many feet" asks for the other
	if len(out) > 1 || p.side != reading.Alone {
		for i := range out {
			for _, m := range s.mentions {
				if m.Kind == reading.Figure && m.Unit != "" && out[i].at >= m.At && out[i].end <= m.End {
					if p.side == reading.First {
						out[i].score += 3
					} else if p.side == reading.Last {
						out[i].score -= 3
					}
				}
			}
		}
	}
	return out
}

// around gives the words about any stretch of a text.
func around(s *source, at, end int) reading.Mention {
	m := reading.Mention{At: at, End: end}
	reading.About(s.text, &m)
	return m
}

func (f *filler) figures(p *param, s *source) []cand {
	var out []cand
	year := p.label["year"] || p.label["y"]
	days := slices.ContainsFunc(f.c.params, func(q *param) bool { return q.role == aDay || q.role == aMoment })
	for _, m := range s.mentions {
		if !s.inside(m.At) || f.passedOn(s, m.At) {
			continue
		}
		if m.Kind == reading.Code && p.pattern == nil && strings.Trim(m.Text, "0123456789") == "" { // #411
			if v, err := strconv.ParseFloat(m.Text, 64); err == nil {
				out = append(out, cand{score: 2.5 + p.cue(m), at: m.At, end: m.End, value: whole(p, v), words: m.Text})
			}
			continue
		}
		if m.Kind != reading.Figure || m.Right == "ago" {
			continue
		}
		v, score, end := m.Number, 1.0, m.End
		measured := m.Unit != ""
		switch {
		case p.unit != "" && measured:
			x, ok := reading.Convert(v, m.Unit, p.unit)
			if !ok {
				continue
			}
			v, score = x, 4
		case p.unit != "":
			if score = 0.9; !p.required {
				score = 0
			}
		case measured:
			if score = measures(p, m.Unit); score == 0 {
				continue
			}
			end = m.At + len(strings.TrimRight(m.Text, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ%° "))
			if end <= m.At {
				end = m.End
			}
		}
		score += p.cue(m)
		if m.Right == "person" && (some(p.label, personRoots) || p.label["seat"] || p.label["capacit"] || p.label["plac"]) {
			score += 2.5
		}
		if some(p.label, quantities) && !measured {
			score += 0.8
			if m.Right != "" {
				score += 0.5
			}
		}
		if m.Right == "" && m.Lead == "for" && !measured && some(p.label, personRoots) { // for two
			score += 1.5
		}
		if m.Lead == "by" && p.unit == "" && !year {
			score += 0.5
		}
		isYear := v >= 1000 && v < 3000 && v == math.Trunc(v) && !measured
		switch {
		case year && !isYear:
			continue
		case year:
			score += 3
		}
		switch {
		case p.side == reading.Alone || m.Side == reading.Alone:
		case p.side == m.Side:
			score += 2
		default:
			score -= 3
		}
		if p.label["limit"] && m.Side == reading.Last || p.label["most"] && m.Side == reading.Last {
			score += 2.5
		}
		if days && m.Lead == "in" && (m.Unit == "day" || m.Unit == "week") {
			score -= 2
		}
		if v < p.low || v > p.high {
			score -= 1.5
		}
		if p.kind == "integer" && v != math.Trunc(v) {
			score -= 2
		}
		if m.Right != "" && !measured && p.unit == "" && !p.label[m.Right] && !p.about[m.Right] && slices.ContainsFunc(f.c.params, func(q *param) bool { return q != p && q.kind != "string" && q.label[m.Right] }) {
			continue // two bicycles say nothing of the seats
		}
		if m.Left != "" && !p.label[m.Left] && slices.ContainsFunc(f.c.params, func(q *param) bool {
			return q != p && q.label[m.Left] && (q.kind == "integer" || q.kind == "number" || q.kind == "array")
		}) {
			score -= 1
		}
		if s.hungry && len(f.openRequired()) > 0 && p.required {
			score += 1
		}
		out = append(out, cand{score: score, at: m.At, end: end, value: whole(p, v), words: m.Text})
	}
	// numbers in one list are for one thing
	for grown := true; grown; {
		grown = false
		for i := range out {
			for j := range out {
				if out[j].score > out[i].score+0.1 && joined(s.text, out[j], out[i]) {
					out[i].score, grown = out[j].score-0.05, true
				}
			}
		}
	}
	return out
}

var quantities = roots("quantity count amount number pieces qty copies many total units places items")

// measures says how well a figure with a unit fits a parameter that names none.
func measures(p *param, unit string) float64 {
	of := map[string]string{"length": "m", "distance": "m", "height": "m", "depth": "m", "width": "m", "draught": "m", "weight": "g", "mass": "g", "volume": "l", "duration": "min", "time": "min", "price": "eur", "amount": "eur", "cost": "eur", "temperature": "c", "budget": "eur"}
	for w, u := range of {
		r := reading.Root(w)
		if _, ok := reading.Convert(1, unit, u); ok && (p.label[r] || p.about[r]) {
			return 2.5
		}
		if unit == "c" && u == "c" && (p.label[r] || p.about[r]) {
			return 2.5
		}
	}
	if p.label[reading.Root("value")] || p.label[reading.Root("amount")] || p.label[reading.Root("quantity")] {
		return 1.5
	}
	if unit == "percent" && (p.label["percent"] || p.about["percent"] || p.label["level"] || p.label["discount"]) {
		return 2.5
	}
	return 0
}

func whole(p *param, v float64) any {
	if p.kind == "integer" && v == math.Trunc(v) {
		return int64(v)
	}
	return v
}

func (f *filler) openRequired() []*param {
	var out []*param
	for _, p := range f.c.params {
		if _, ok := f.out.args[p.name]; !ok && p.required {
			out = append(out, p)
		}
	}
	return out
}

var denyRE = regexp.MustCompile(`(?i)\b(?:no|not|without|don't|dont|never|isn't|un)\s+(?:\w+\s+)?$`)

var (
	pairRE   = regexp.MustCompile(`(?i)\btrue (?:for|means|is|=|to|turns? it) (\w+)\W+(?:and )?false (?:for|means|is|=|to|turns? it) (\w+)`)
	switchRE = regexp.MustCompile(`(?i)\b(?:turn|switch|put|light|lights|lamp|is|are)\s+(?:\w+\s+)?$`)
)

func atEnd(s string) bool { return strings.Trim(s, " .,!?") == "" }

// flags finds a flag said in words.
func (f *filler) flags(p *param, s *source) []cand {
	words := reading.Words(s.text)
	add := func(at, end int, score float64) []cand {
		v := !denyRE.MatchString(s.text[:at])
		if strings.HasPrefix(strings.ToLower(p.name), "no_") || strings.HasPrefix(strings.ToLower(p.name), "without_") {
			v = true
		}
		return []cand{{score: score, at: at, end: end, value: v, words: s.text[at:end], shares: true}}
	}
	yes, no := "", ""
	if m := pairRE.FindStringSubmatch(p.desc); m != nil {
		yes, no = strings.ToLower(m[1]), strings.ToLower(m[2])
	} else if p.name == "on" || strings.HasSuffix(p.name, "_on") {
		yes, no = "on", "off"
	}
	if yes != "" {
		var out []cand
		for _, w := range words {
			if s.inside(w.At) && (w.Low == yes || w.Low == no) {
				m := around(s, w.At, w.End)
				if w.Low == "on" && m.Right != "" && !atEnd(s.text[w.End:]) && !switchRE.MatchString(s.text[:w.At]) {
					continue // on Friday
				}
				out = append(out, cand{score: 4, at: w.At, end: w.End, value: w.Low == yes, words: w.Text, shares: true})
			}
		}
		return out
	}
	plain := strings.ToLower(strings.TrimRight(p.desc, "."))
	if len(plain) > 4 {
		if at := strings.Index(strings.ToLower(s.text), plain); at >= 0 && s.inside(at) {
			return add(at, at+len(plain), 4)
		}
	}
	verb := ""
	if s.clause != nil {
		verb = s.clause.Verb
	}
	for _, w := range words {
		if !s.inside(w.At) || (w.Root == verb && !f.c.own[verb]) {
			continue
		}
		if p.label[w.Root] && !reading.Stop(w.Low) {
			return add(w.At, w.End, 3)
		}
	}
	for _, ph := range reading.Phrases(words) {
		for l := range p.label {
			if reading.Akin(ph, l) {
				return add(0, 0, 3)
			}
		}
	}
	for _, w := range words {
		if !s.inside(w.At) || w.Root == verb || reading.Stop(w.Low) || f.c.roots[w.Root] > inParam {
			continue
		}
		for l := range p.label {
			if reading.Akin(w.Root, l) {
				return add(w.At, w.End, 2)
			}
		}
	}
	if s.hungry && p.required {
		m := reading.ReadManners(s.text)
		if m.Yes || m.No {
			return []cand{{score: 3, value: m.Yes, words: s.text, shares: true}}
		}
	}
	return nil
}

func (f *filler) moments(p *param, s *source) []cand {
	var out []cand
	for _, m := range s.mentions {
		if !s.inside(m.At) || f.passedOn(s, m.At) {
			continue
		}
		if m.Kind == reading.Figure && !f.now.IsZero() && (m.Lead == "in" || m.Right == "ago") && p.role != aClock {
			if t, ok := shifted(f.now, m); ok && (p.role == aMoment || m.Unit == "day" || m.Unit == "week" || m.Unit == "month") {
				out = append(out, cand{score: 2.5, at: m.At, end: m.End, value: f.show(p, t), words: m.Lead + " " + m.Text})
			}
			continue
		}
		if m.Kind != reading.Moment {
			continue
		}
		score := 3.0
		switch {
		case p.side == reading.Alone || m.Side == reading.Alone:
		case p.side == m.Side:
			score += 2
		default:
			score -= 2.5
		}
		for _, r := range []string{m.Left} {
			if r != "" && (p.label[r] || p.about[r]) {
				score++
			}
		}
		c := cand{score: score, at: m.At, end: m.End, words: m.Text}
		switch p.role {
		case aClock:
			if !m.Clock {
				continue
			}
			c.value, c.at = m.Time.Format("15:04"), m.End-1
			if p.pattern != nil && !p.pattern.MatchString(c.value.(string)) {
				continue
			}
		case aDay:
			if !m.Day {
				continue
			}
			c.value = m.Time.Format("2006-01-02")
			if m.Clock {
				c.end = m.At + 1
			}
		default:
			t := m.Time
			switch {
			case m.Day && m.Clock:
				c.score++
			case m.Day:
				if t2, ok := f.clockBeside(s, m); ok {
					t = t2
				} else {
					if p.required && f.out.half[p.name] == "" {
						f.out.half[p.name] = "at what time"
					}
					continue
				}
			default: // a time of day: the next there is, or that of the day which is said
				if t2, ok := f.dayBeside(s, m); ok {
					t = t2
				} else if f.now.IsZero() {
					continue
				} else if t.Before(f.now) {
					t = t.AddDate(0, 0, 1)
				}
			}
			c.value = t.Format(time.RFC3339)
		}
		out = append(out, c)
	}
	// the end of a stay that is said by its length
	if p.side == reading.Last && p.role != aClock {
		var first *reading.Mention
		for i := range s.mentions {
			if m := &s.mentions[i]; m.Kind == reading.Moment && m.Day && s.inside(m.At) {
				if first != nil {
					return out
				}
				first = m
			}
		}
		for _, m := range s.mentions {
			if first == nil || m.Kind != reading.Figure || m.Unit == "" || m.Lead == "in" || m.Right == "ago" {
				continue
			}
			if _, ok := reading.Convert(1, m.Unit, "day"); !ok {
				continue
			}
			if p.role == aMoment && !first.Clock {
				continue
			}
			for i := range out {
				out[i].score -= 4
			}
			t := first.Time
			if d, _ := reading.Convert(m.Number, m.Unit, "day"); d == math.Trunc(d) {
				t = t.AddDate(0, 0, int(d))
			} else {
				sec, _ := reading.Convert(m.Number, m.Unit, "s")
				t = t.Add(time.Duration(sec) * time.Second)
			}
			f.out.seen = append(f.out.seen, stretch{s.text, first.At, first.End})
			out = append(out, cand{score: 3.5, at: m.At, end: m.End, value: f.show(p, t), words: first.Text + " and " + m.Text, shares: true})
		}
	}
	return out
}

func (f *filler) show(p *param, t time.Time) any {
	if p.role == aDay {
		return t.Format("2006-01-02")
	}
	return t.Format(time.RFC3339)
}

// clockBeside finds the one time of day that is said apart from a day.
func (f *filler) clockBeside(s *source, day reading.Mention) (time.Time, bool) {
	n := 0
	var t time.Time
	for _, m := range s.mentions {
		if m.Kind == reading.Moment && m.Clock && !m.Day && s.inside(m.At) {
			n++
			t = time.Date(day.Time.Year(), day.Time.Month(), day.Time.Day(), m.Time.Hour(), m.Time.Minute(), 0, 0, day.Time.Location())
		}
	}
	return t, n == 1
}

// dayBeside finds the one day that is said apart from a time of day, here or in an older source.
func (f *filler) dayBeside(s *source, clock reading.Mention) (time.Time, bool) {
	from := slices.Index(f.sources, s)
	for _, src := range f.sources[max(from, 0):] {
		for _, m := range src.mentions {
			if m.Kind == reading.Moment && m.Day {
				return time.Date(m.Time.Year(), m.Time.Month(), m.Time.Day(), clock.Time.Hour(), clock.Time.Minute(), 0, 0, m.Time.Location()), true
			}
		}
	}
	return time.Time{}, false
}

func shifted(now time.Time, m reading.Mention) (time.Time, bool) {
	n := int(m.Number)
	if m.Right == "ago" {
		n = -n
	}
	switch m.Unit {
	case "day", "night":
		return now.AddDate(0, 0, n), true
	case "week":
		return now.AddDate(0, 0, 7*n), true
	case "month":
		return now.AddDate(0, n, 0), true
	}
	if sec, ok := reading.Convert(m.Number, m.Unit, "s"); ok && m.Unit != "" {
		if m.Right == "ago" {
			sec = -sec
		}
		return now.Add(time.Duration(sec) * time.Second), true
	}
	return now, false
}

var becauseRE = regexp.MustCompile(`(?i)\b(?:because(?: of)?|since|as it|the reason is|reason:)\s+(.+?)[.!?]*$`)

// texts finds words that are to be passed on as they are: after a colon, that
// or saying, or in quotation marks.
func (f *filler) texts(p *param, s *source) []cand {
	from, to := 0, len(s.text)
	if s.spans != nil {
		from, to = s.spans[0][0], s.spans[len(s.spans)-1][1]
		if s.clause != nil && strings.TrimSpace(s.text[to:]) != "" && len(s.spans) == 1 { // a sentence goes on after a colon
			if i := strings.IndexAny(s.text[to:], ".!?;\n"); i >= 0 && strings.ContainsRune(s.text[from:to], ':') {
				to += i
			}
		}
	}
	var out []cand
	name := strings.ToLower(p.name)
	reason := strings.Contains(name, "reason") || name == "why" || strings.HasPrefix(strings.ToLower(p.desc), "why")
	subject := strings.Contains(name, "subject") || strings.Contains(name, "title")
	if m := becauseRE.FindStringSubmatchIndex(s.text[from:to]); m != nil && reason {
		return []cand{{score: 5, at: from + m[2], end: from + m[3], value: s.text[from+m[2] : from+m[3]], words: "because", shares: true}}
	}
	if reason && !p.required {
		return nil
	}
	if m := remindRE.FindStringSubmatchIndex(s.text[from:to]); m != nil && p.required && !subject {
		a, b := from+m[2], from+m[3]
		for i := len(s.mentions) - 1; i >= 0; i-- { // the day and time beside it are not part of it
			if x := s.mentions[i]; x.Kind == reading.Moment && x.At > a && x.End <= b && (atEnd(s.text[x.End:b])) {
				b = x.At
			}
		}
		text := strings.TrimRight(regexp.MustCompile(`(?i)[\s,]+(?:on|at|by|in|for|from)?\s*$`).ReplaceAllString(s.text[a:b], ""), " .,!?")
		if text != "" {
			out = append(out, cand{score: 4.5, at: a, end: b, value: text, words: text, shares: true})
		}
	}
	n := 0
	for _, m := range s.mentions {
		if m.Kind == reading.Quote && s.inside(m.At) {
			score := 5.0 - 0.1*float64(n) + p.cue(m)
			n++
			out = append(out, cand{score: score, at: m.At, end: m.End, value: m.Text, words: m.Text})
		}
	}
	if text, at, ok := reading.After(s.text, from, to); ok && (p.required || subject == strings.Contains(strings.ToLower(s.text[max(0, at-24):at]), name)) && (p.required || !subject || strings.Contains(strings.ToLower(s.text[max(0, at-24):at]), name)) {
		if q := len(out) == 0; q {
			out = append(out, cand{score: 4.5, at: at, end: to, value: text, words: text, shares: true})
		}
	}
	if len(out) == 0 && (subject || p.required) {
		if m := aboutRE.FindStringSubmatchIndex(s.text[from:to]); m != nil {
			out = append(out, cand{score: 3.5, at: from + m[2], end: from + m[3], value: strings.TrimRight(s.text[from+m[2]:from+m[3]], ".!?"), words: "about", shares: true})
		}
	}
	if len(out) == 0 && p.required && s.clause != nil { // what stands after a comma: low priority, the fan is loud
		if i := strings.LastIndex(s.text[from:to], ", "); i > 0 {
			tail := strings.TrimSpace(s.text[from+i+2 : to])
			if n := len(strings.Fields(tail)); n >= 3 && saysRE.MatchString(tail) {
				out = append(out, cand{score: 2.5, at: from + i + 2, end: to, value: strings.TrimRight(tail, ".!?"), words: tail, shares: true})
			}
		}
	}
	if len(out) == 0 && p.required && s.hungry {
		text := strings.Trim(strings.TrimSpace(s.text), ".\"“”")
		out = append(out, cand{score: 3, at: 0, end: len(s.text), value: text, words: text, shares: true})
	}
	if len(out) == 0 && p.required && s.clause != nil && (strings.Contains(name, "query") || strings.Contains(name, "question") || strings.Contains(strings.ToLower(p.desc), "in words")) {
		out = append(out, cand{score: 2, at: from, end: to, value: s.text[from:to], words: "the request", shares: true})
	}
	return out
}

var remindRE = regexp.MustCompile(`(?i)\bremind\s+(?:\w+\s+)?(?:to|about|that|of)\s+(.+)$`)

var saysRE = regexp.MustCompile(`(?i)\b(?:is|are|was|were|has|have|does|doesn't|won't|can't|needs?|keeps?)\b`)

var aboutRE = regexp.MustCompile(`(?i)\b(?:about|regarding|concerning)\s+(.+?)[.!?]*$`)

// strings finds codes, names, places, things and addresses.
func (f *filler) strings(p *param, s *source) []cand {
	var out []cand
	if p.pattern != nil {
		for _, w := range strings.FieldsFunc(s.text, func(r rune) bool { return strings.ContainsRune(" ,;!?()\"“”\n", r) }) {
			w = strings.TrimRight(strings.TrimSuffix(strings.TrimSuffix(w, "'s"), "’s"), ".:")
			at := strings.Index(s.text, w)
			if w != "" && s.inside(at) && p.pattern.MatchString(w) {
				for ; at >= 0; at = next(s.text, w, at) {
					m := around(s, at, at+len(w))
					out = append(out, cand{score: 6 + 0.3*p.cue(m), at: at, end: at + len(w), value: w, words: w})
				}
			}
		}
		for _, m := range s.mentions { // C4 where c4 was said
			if up := strings.ToUpper(m.Text); m.Kind == reading.Code && s.inside(m.At) && up != m.Text && p.pattern.MatchString(up) {
				out = append(out, cand{score: 5, at: m.At, end: m.End, value: up, words: m.Text})
			}
		}
		return out
	}
	for _, m := range s.mentions {
		if !s.inside(m.At) {
			continue
		}
		score := 0.0
		text := m.Text
		switch m.Kind {
		case reading.Mail:
			if p.role == aMail {
				score = 6
			}
		case reading.Link:
			if p.role == aLink {
				score = 6
			}
		case reading.Quote:
			score = map[role]float64{aNoun: 4, aPerson: 3, aPlace: 3, aCode: 2}[p.role]
		case reading.Code:
			switch p.role {
			case aCode:
				score = 4
				if p.shape != "" && shapeOf(m.Text) == p.shape {
					score = 6
				}
				if l := lettersOf(m.Text); p.letters != "" && strings.EqualFold(l, p.letters) {
					score++
				} else if p.letters != "" && len(l) != len(p.letters) {
					score -= 2
				}
				if l := strings.ToLower(lettersOf(m.Text)); p.letters != "" && !strings.EqualFold(l, p.letters) && f.letters[l] {
					score -= 4 // it looks like the code of something else
				}
			case aNoun:
				score = 1.5
			default:
			}
		case reading.Figure:
			if p.role == aCode && m.Unit == "" && m.Side == reading.Alone && (p.plain || p.label[m.Left] || p.about[m.Left]) {
				score = 3
				text = s.text[m.At:m.End]
			}
		case reading.Name:
			switch p.role {
			case aPerson:
				score = 4
				if (m.Title == "dr" || m.Title == "doctor" || m.Title == "prof" || m.Title == "professor") && !p.speaksOf(m.Title) {
					score = 1 // Dr Aske is not the patient
				}
			case aPlace:
				score = 4
			case aNoun:
				score = 2
				if p.label["name"] || strings.HasPrefix(strings.ToLower(p.desc), "name") {
					score = 4
				}
				if f.spent[m.Text] {
					score -= 2
				}
			case aMail:
			default:
			}
		case reading.Moment, reading.Chunk:
		}
		if score == 0 {
			continue
		}
		score += p.cue(m) + p.lead(m)
		if m.Owner && p.side == reading.First {
			score++
		}
		out = append(out, cand{score: score, at: m.At, end: m.End, value: text, words: text, lead: m.Lead})
	}
	if p.role != aNoun && p.role != aPerson && p.role != aPlace {
		return out
	}
	counts := slices.ContainsFunc(f.c.params, func(q *param) bool { return q.kind == "number" || q.kind == "integer" })
	for _, strict := range []bool{true, false} {
		for _, m := range f.chunks(s, strict) {
			for _, n := range s.mentions { // two lemons, where no parameter counts
				if n.Kind == reading.Figure && p.listed && !counts && n.Unit == "" && n.End < m.At && strings.TrimSpace(s.text[n.End:m.At]) == "" {
					m.At, m.Text, m.Lead = n.At, s.text[n.At:m.End], n.Lead
				}
			}
			score := 3.0
			switch p.role {
			case aPerson, aPlace:
				score = 0.5
				if p.lead(m) > 0 && m.Lead != "of" || p.label[m.Left] || m.Lead == p.name || (p.side != reading.Alone && p.cue(m) > 0) {
					score = 2
				}
				if s.hungry {
					score += 2
				}
			default:
			}
			score += p.cue(m) + p.lead(m)
			if !strict {
				score--
			}
			out = append(out, cand{score: score - 0.001*float64(m.At), at: m.At, end: m.End, value: m.Text, words: m.Text})
		}
		if len(out) > 0 {
			break
		}
	}
	return out
}

func next(text, w string, at int) int {
	if i := strings.Index(text[at+1:], w); i >= 0 {
		return at + 1 + i
	}
	return -1
}

// speaksOf says whether a parameter is described by a word.
func (p *param) speaksOf(word string) bool {
	r := reading.Root(word)
	if word == "dr" {
		r = reading.Root("doctor")
	}
	return p.label[r] || p.about[r]
}

// lead says how much a preposition speaks for a sort of text.
func (p *param) lead(m reading.Mention) float64 {
	switch p.role {
	case aPerson:
		switch m.Lead {
		case "for", "by", "of", "named", "called":
			return 1
		case "with":
			return -0.5
		case "to":
			if p.side != reading.First {
				return 1.5
			}
		case "in", "at", "on", "into":
			return -2
		}
	case aPlace:
		switch m.Lead {
		case "in", "at", "near", "around", "from", "to", "into", "towards", "via":
			return 1
		case "for", "by", "with":
			return -1
		}
	case aNoun:
		switch m.Lead {
		case "of", "for", "about", "on", "concerning":
			return 0.5
		case "to", "by", "from", "at", "with":
			if m.Lead == "with" && (p.label["extra"] || p.label["with"] || p.label["topping"]) {
				return 1
			}
			return -1
		case "in":
			return -1
		}
	default:
	}
	return 0
}

// chunks finds the words of a source that belong together and say nothing of
// the tool itself. Strictly, the words of its summary are left out too.
func (f *filler) chunks(s *source, strict bool) []reading.Mention {
	verb := ""
	how := ""
	if s.clause != nil {
		verb = s.clause.Verb
		_, how, _ = strings.Cut(s.clause.Question, " ")
	}
	names := f.c.named
	verbs := map[int]bool{}
	for _, c := range reading.Clauses(s.text) {
		for _, w := range reading.Words(c.Text) {
			if c.Verb != "" && w.Root == c.Verb {
				verbs[c.At+w.At] = true
				break
			}
		}
	}
	skip := func(w reading.Word) bool {
		switch {
		case names[w.Root] || verbs[w.At] || w.Root == verb && verb != "" || w.Low == how && how != "":
			return true
		case reading.Unit(w.Low) != "" && len(w.Low) > 2, vague[w.Low]:
			return true
		case f.c.brings[w.Root], f.c.words[w.Root] && (strings.HasSuffix(w.Low, "ed") || strings.HasSuffix(w.Low, "ing")):
			return strict // borrowed is what is asked of the wheelbarrow
		}
		for n := range names {
			if n != w.Root && reading.Akin(n, w.Root) && (strict || reading.Verb(w.Low)) {
				return true
			}
		}
		for _, p := range f.c.params {
			if p.label[w.Root] {
				return true
			}
		}
		return false
	}
	taken := slices.Clone(s.mentions)
	for _, p := range f.c.params { // values that are allowed elsewhere
		for _, c := range f.choicesOnly(p, s) {
			taken = append(taken, reading.Mention{At: c.at, End: c.end})
		}
	}
	var out []reading.Mention
	for _, sp := range spansOf(s) {
		for _, m := range reading.Chunks(s.text, sp[0], sp[1], taken, skip) {
			if strict { // words of the summary alone are no value
				own := true
				for _, r := range reading.Roots(m.Text) {
					own = own && (f.c.own[r] || f.c.words[r] || f.c.brings[r])
				}
				if own {
					continue
				}
			}
			if !s.hungry && reading.Common(strings.ToLower(m.Text)) && reading.Stop(strings.ToLower(m.Text)) {
				continue
			}
			out = append(out, m)
		}
	}
	return out
}

func (f *filler) choicesOnly(p *param, s *source) []cand {
	switch {
	case p.enum != nil:
		return f.choices(p, s)
	case p.items != nil && p.items.enum != nil:
		return f.choices(p.items, s)
	case p.kind == "boolean":
		var out []cand
		for _, c := range f.flags(p, s) {
			if c.end > c.at {
				out = append(out, c)
			}
		}
		return out
	}
	return nil
}

func spansOf(s *source) [][2]int {
	if s.spans == nil {
		return [][2]int{{0, len(s.text)}}
	}
	return s.spans
}

var vague = reading.Set("fewer least most over under above below enough currently today tonight tomorrow yesterday morning afternoon evening night week weekend moment left open new list next last first second third total number amount please quickly soon early late earliest latest name called details info information status overview detail there's urgent asap possible sure available free many price cost more less ready done okay time times day days date quick question sorry meant mean instead rather actually")

// fromResults finds a value in what tools brought: a field of the parameter's
// name, or in words.
func fromResults(p *param, results []found) (any, string, bool) {
	best := -1
	var value any
	where := ""
	for _, r := range results {
		if r.bad {
			continue
		}
		v, ok := field(r.value, p.name)
		if !ok || !fits(p, v) {
			continue
		}
		n := 0 // the length of the vessel is in what speaks of vessels, not of berths
		for root := range subjects(r) {
			if p.about[root] || p.label[root] {
				n++
			}
		}
		if n > best {
			best, value, where = n, v, "the result of "+r.tool
		}
	}
	if best >= 0 {
		return value, where, true
	}
	for _, r := range results { // the same thing under a name of the same words
		if r.bad {
			continue
		}
		if v, ok := fieldLike(r.value, p); ok && fits(p, v) {
			return v, "the result of " + r.tool, true
		}
	}
	for _, r := range results {
		if r.bad || r.value != nil {
			continue
		}
		if p.pattern != nil || p.unit != "" && (p.kind == "number" || p.kind == "integer") {
			f := &filler{c: &card{params: []*param{p}}, used: map[string][][2]int{}, picks: map[*param]cand{}, open: map[*source]map[*param][]cand{}}
			f.out = filled{args: map[string]any{}, from: map[string]string{}, borrow: map[string]string{}, half: map[string]string{}}
			s := &source{text: r.words, mentions: reading.Mentions(r.words, time.Time{}), all: true}
			for _, c := range f.cands(p, s) {
				if c.score >= 4.9 {
					return c.value, "the words of " + r.tool, true
				}
			}
		}
	}
	return nil, "", false
}

// subjects gives the roots of what a result is about: its tool's name and its fields.
func subjects(r found) map[string]bool {
	out := rootSet(spaced(r.tool))
	v := r.value
	if rows, ok := v.([]any); ok && len(rows) > 0 {
		v = rows[0]
	}
	if m, ok := v.(map[string]any); ok {
		for k := range m {
			for root := range rootSet(spaced(k)) {
				out[root] = true
			}
		}
	}
	return out
}

func fits(p *param, v any) bool {
	switch x := v.(type) {
	case string:
		return (p.kind == "string" || p.kind == "") && (p.pattern == nil || p.pattern.MatchString(x))
	case float64:
		return p.kind == "number" || p.kind == "integer" && x == math.Trunc(x)
	case bool:
		return p.kind == "boolean"
	case []any:
		return p.kind == "array"
	}
	return false
}

// field finds a key in a JSON value, in the first row of a list too.
func field(v any, name string) (any, bool) {
	switch x := v.(type) {
	case map[string]any:
		if e, ok := x[name]; ok {
			return e, true
		}
		for _, k := range sortedKeys(x) {
			if e, ok := field(x[k], name); ok {
				return e, true
			}
		}
	case []any:
		if len(x) > 0 {
			return field(x[0], name)
		}
	}
	return nil, false
}

func fieldLike(v any, p *param) (any, bool) {
	switch x := v.(type) {
	case map[string]any:
		for _, k := range sortedKeys(x) {
			if len(p.label) > 0 && sameSet(rootSet(spaced(k)), p.label) {
				return x[k], true
			}
		}
		for _, k := range sortedKeys(x) {
			if e, ok := fieldLike(x[k], p); ok {
				return e, true
			}
		}
	case []any:
		if len(x) > 0 {
			return fieldLike(x[0], p)
		}
	}
	return nil, false
}

func sameSet(a, b map[string]bool) bool {
	if len(a) != len(b) {
		return false
	}
	for k := range a {
		if !b[k] {
			return false
		}
	}
	return true
}

func sortedKeys(m map[string]any) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

// fromFacts finds a value that the instructions state, as "length_m: 46".
func fromFacts(p *param, facts map[string]string) (any, bool) {
	text, ok := facts[strings.ToLower(spaced(p.name))]
	if !ok || text == "" {
		return nil, false
	}
	switch p.kind {
	case "number", "integer":
		v, err := strconv.ParseFloat(strings.Fields(text)[0], 64)
		return whole(p, v), err == nil
	case "string", "":
		return text, p.pattern == nil || p.pattern.MatchString(text)
	}
	return nil, false
}

var factRE = regexp.MustCompile(`(?m)^[\s*-]*([\p{L}_][\p{L}\p{N}_ ]{1,30}):\s*"?([^"\n{}]{1,80}?)"?\s*$`)

// factsOf reads the lines "name: value" of the instructions.
func factsOf(system string) map[string]string {
	out := map[string]string{}
	for _, m := range factRE.FindAllStringSubmatch(system, -1) {
		out[strings.ToLower(spaced(m[1]))] = strings.TrimRight(m[2], ".")
	}
	return out
}

func show(v any) string {
	raw, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(raw)
}
