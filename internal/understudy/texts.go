package understudy

import (
	"regexp"
	"slices"
	"strings"

	"stonebaton.example/core/reading"
)

// passedOn says whether a place is in words that are to be passed on as they
// are: their figures and days are no arguments.
func (f *filler) passedOn(s *source, at int) bool {
	if s.clause == nil || !slices.ContainsFunc(f.c.params, func(p *param) bool { return p.role == aText }) {
		return false
	}
	_, from, ok := reading.After(s.text, s.clause.At, s.clause.End)
	return ok && at >= from
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
