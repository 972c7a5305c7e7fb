package understudy

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/reading"
)

// judgeCondition says whether a result says that a condition holds, and
// whether that is sure.
func judgeCondition(cond string, r *found) (holds, sure bool) {
	low := strings.ToLower(cond)
	not := negRE.MatchString(low)
	words := reading.Words(cond)
	mentions := reading.Mentions(cond, time.Time{})
	if r.bad {
		return false, false
	}
	// a figure is compared
	for _, m := range mentions {
		if m.Kind != reading.Figure {
			continue
		}
		v, ok := numberFor(words, r.value)
		if !ok {
			return false, false
		}
		switch {
		case m.Side == reading.Last || overRE.FindString(low) == "" && underRE.MatchString(low):
			return (v <= m.Number) != not, true
		case m.Side == reading.First || overRE.MatchString(low):
			return (v >= m.Number) != not, true
		}
		return (v == m.Number) != not, true
	}
	switch x := r.value.(type) {
	case []any:
		if availableRE.MatchString(low) || strings.Contains(low, "there") {
			return (len(x) > 0) != not, true
		}
		return false, false
	case map[string]any:
		for _, k := range slices.Sorted(maps.Keys(x)) {
			label := rootSet(spaced(k))
			met := false
			for _, w := range words {
				if reading.Stop(w.Low) {
					continue
				}
				met = met || label[w.Root]
				for l := range label {
					met = met || reading.Akin(l, w.Root)
				}
			}
			if !met {
				continue
			}
			switch v := x[k].(type) {
			case bool:
				return v != not, true
			case string:
				if yesRE.MatchString(v) || noRE.MatchString(v) {
					return yesRE.MatchString(v) != not, true
				}
			case float64:
				if likelyRE.MatchString(low) {
					return (v >= 50) != not, true
				}
				if availableRE.MatchString(low) {
					return (v > 0) != not, true
				}
			}
		}
		for _, k := range slices.Sorted(maps.Keys(x)) { // a state in words: if it is ready
			if v, ok := x[k].(string); ok {
				for _, w := range words {
					if !reading.Stop(w.Low) && reading.Root(v) == w.Root {
						return !not, true
					}
				}
			}
		}
		return false, false
	}
	// words: the sentence that has the word of the condition
	said := strings.ToLower(r.words)
	last := ""
	for _, w := range words {
		if !reading.Stop(w.Low) {
			last = w.Low
		}
	}
	if at := strings.Index(said, last); last != "" && at >= 0 {
		return negRE.MatchString(said[max(0, at-12):at]) == not, true
	}
	return false, false
}

var (
	negRE       = regexp.MustCompile(`\b(?:not|no|isn't|aren't|never|without|n't)\b|n't\b`)
	overRE      = regexp.MustCompile(`\b(?:over|above|more than|at least|exceeds|hotter|colder|higher|longer)\b`)
	underRE     = regexp.MustCompile(`\b(?:under|below|less than|at most|cheaper|lower|shorter|up to|fewer)\b`)
	availableRE = regexp.MustCompile(`\b(?:free|available|left|in stock|any|some|there|enough)\b`)
	likelyRE    = regexp.MustCompile(`\b(?:likely|probable|expected)\b`)
	yesRE       = regexp.MustCompile(`(?i)^(?:yes|true|on|ok|open|available|free)$`)
	noRE        = regexp.MustCompile(`(?i)^(?:no|false|off|closed|none|taken)$`)
)

// numberFor finds the figure of a result that some words are about.
func numberFor(words []reading.Word, v any) (float64, bool) {
	m, ok := v.(map[string]any)
	if !ok {
		return 0, false
	}
	only, n := 0.0, 0
	for _, k := range slices.Sorted(maps.Keys(m)) {
		f, isNumber := m[k].(float64)
		if !isNumber {
			continue
		}
		only, n = f, n+1
		for l := range rootSet(spaced(k)) {
			for _, w := range words {
				if !reading.Stop(w.Low) && (w.Root == l || reading.Akin(w.Root, l)) {
					return f, true
				}
			}
		}
	}
	return only, n == 1
}

// condition finds out whether a condition holds: by a read, then by its result.
func (th *thought) condition(g *goal) (step, bool) {
	cond := g.clause.If
	clauses := reading.Clauses(cond)
	if len(clauses) == 0 {
		return step{}, true
	}
	c := clauses[0]
	c.Mood, c.Question, c.Verb = reading.Asking, "whether", ""
	q := &goal{clause: c, text: cond, condition: true}
	own := &source{text: cond, spans: [][2]int{{0, len(cond)}}, mentions: reading.Mentions(cond, th.now), clause: &c, all: true}
	q.sources = append([]*source{own}, g.sources...)
	q.base = q.sources
	th.weigh(q)
	var b *Rating
	for i := range q.ratings {
		if r := &q.ratings[i]; r.c.handoff == "" && !r.c.writes && r.Score >= 0.3 && len(r.fill.missing) == 0 && len(r.c.params) > 0 {
			b = r
			break
		}
	}
	if b == nil {
		return step{wait: fmt.Sprintf("I cannot find out whether %s. Shall I %s all the same?", strings.TrimRight(cond, "."), g.best().c.doing())}, false
	}
	done := th.claim(b.c, b.fill.args)
	if done == nil || done.result == nil {
		th.because("%s tells whether %s.", b.Tool, cond)
		return step{calls: []ledger.Ask{ask(b.c, b.fill.args, "It tells whether "+cond+".")}}, false
	}
	holds, sure := judgeCondition(cond, done.result)
	if !sure {
		return step{wait: fmt.Sprintf("I am not sure whether %s. Shall I %s all the same?", strings.TrimRight(cond, "."), g.best().c.doing())}, false
	}
	if holds == g.clause.Unless {
		th.notes = append(th.notes, fmt.Sprintf("So I did not %s.", g.best().c.doing()))
		return step{done: true}, false
	}
	return step{}, true
}
