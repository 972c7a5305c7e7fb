package understudy

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"stonebaton.example/core/reading"
)

// strings finds codes, names, places, things and addresses.
func (f *filler) strings(p *param, s *source) []cand {
	var out []cand
	if p.pattern != nil {
		seen := map[string]bool{}
		for _, w := range strings.FieldsFunc(s.text, func(r rune) bool { return strings.ContainsRune(" ,;!?()\"“”\n", r) }) {
			w = strings.TrimRight(strings.TrimSuffix(strings.TrimSuffix(w, "'s"), "’s"), ".:")
			at := strings.Index(s.text, w)
			if w != "" && !seen[w] && p.pattern.MatchString(w) {
				seen[w] = true
				for ; at >= 0 && len(out) < longestList; at = next(s.text, w, at) {
					if !s.inside(at) {
						continue
					}
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
			case aPlace:
				if score = 2; m.Left != "" && p.about[m.Left] { // court S1
					score, text = 3, strings.TrimSpace(s.text[strings.LastIndex(strings.TrimRight(s.text[:m.At], " "), " ")+1:m.End])
				}
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
				if f.spent[m.Text] && !f.told(p.name, m.Text) {
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

// leftName gives a name that nothing takes to the one text that is still open,
// where there is only one.
func (f *filler) leftName(s *source) {
	var open *param
	for _, p := range f.c.params {
		if _, ok := f.out.args[p.name]; ok || p.kind != "string" && p.kind != "" || p.enum != nil || p.pattern != nil || p.role != aNoun && p.role != aPerson && p.role != aPlace {
			continue
		}
		if open != nil {
			return
		}
		open = p
	}
	if open == nil {
		return
	}
	for _, m := range s.mentions {
		c := cand{score: 1, at: m.At, end: m.End, value: m.Text, words: m.Text, from: s, lead: m.Lead}
		if m.Kind == reading.Name && s.inside(m.At) && !f.overlaps(s, c) && !f.spent[m.Text] && !f.passedOn(s, m.At) && m.Title == "" {
			f.take(s, c)
			f.picks[open], f.out.args[open.name], f.out.from[open.name] = c, m.Text, m.Text
			f.out.missing = slices.DeleteFunc(f.out.missing, func(p *param) bool { return p == open })
			return
		}
	}
}

// asksWhich gives a question where a name could be one of several things that
// a tool takes, such as a composer or a title.
func (th *thought) asksWhich(g *goal, b *Rating) (string, bool) {
	var open []string
	for _, p := range b.c.params {
		if _, ok := b.fill.args[p.name]; !ok && !p.required && (p.kind == "string" || p.kind == "") && p.enum == nil && p.pattern == nil && (p.role == aNoun || p.role == aPerson || p.role == aPlace) {
			open = append(open, "the "+spaced(p.name))
		}
	}
	if len(open) < 2 || len(b.names) == 0 || b.fill.spent[b.names[0]] || th.request.kind == answering {
		return "", false
	}
	return fmt.Sprintf("Is %s %s?", b.names[0], either(open)), true
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
	names := map[string]bool{}
	for r := range f.c.marks {
		if f.c.has(r, ofName) {
			names[r] = true
		}
	}
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
		case reading.Unit(w.Low) != "" && len(w.Low) > 2, vague[w.Low], measuringRE.MatchString(s.text[w.At:]):
			return true
		case f.c.has(w.Root, ofResult), f.c.has(w.Root, ofSummary) && (strings.HasSuffix(w.Low, "ed") || strings.HasSuffix(w.Low, "ing")):
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
					own = own && (f.c.has(r, ofName|ofParam) || f.c.has(r, ofSummary) || f.c.has(r, ofResult))
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

// measuringRE is a word that says what a figure behind it measures, such as drawing 2 m; it does not name a thing.
var measuringRE = regexp.MustCompile(`^[a-z]+ing \d`)

func spansOf(s *source) [][2]int {
	if s.spans == nil {
		return [][2]int{{0, len(s.text)}}
	}
	return s.spans
}

var vague = reading.Set("fewer least most over under above below enough currently today tonight tomorrow yesterday morning afternoon evening night week weekend moment left open new list next last first second third total number amount please quickly soon early late earliest latest name called details info information status overview detail there's urgent asap possible sure available free many price cost more less ready done okay time times day days date quick question sorry meant mean instead rather actually")
