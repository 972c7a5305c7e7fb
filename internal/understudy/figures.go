package understudy

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"stonebaton.example/core/reading"
)

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
				out = append(out, cand{score: 2.5 + p.cue(m), at: m.At, end: m.End, value: exactly(p, m.Text, v), words: m.Text})
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
		out = append(out, cand{score: score, at: m.At, end: end, value: exactly(p, m.Text, v), words: m.Text})
	}
	// numbers in one list are for one thing
	level := func(i, j int) {
		if out[j].score > out[i].score+0.1 && joined(s.text, out[j], out[i]) {
			out[i].score = out[j].score - 0.05
		}
	}
	for i := 1; i < len(out); i++ {
		level(i, i-1)
	}
	for i := len(out) - 2; i >= 0; i-- {
		level(i, i+1)
	}
	return out
}

var quantities = roots("quantity count amount number pieces qty copies many total units places items")

// counts says whether a parameter is a number of things: no result of something
// else says how many are wanted.
func (p *param) counts() bool {
	return (p.kind == "integer" || p.kind == "number") && some(p.label, quantities)
}

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

// exactly gives a number that is said in figures with every digit of it.
func exactly(p *param, text string, v float64) any {
	if n, err := strconv.ParseInt(text, 10, 64); err == nil && p.kind == "integer" {
		return n
	}
	return whole(p, v)
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
		if !s.inside(w.At) || (w.Root == verb && !f.c.has(verb, ofName|ofParam)) {
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
