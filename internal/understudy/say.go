package understudy

import (
	"regexp"
	"slices"
	"strings"
	"time"

	"stonebaton.example/core/expr"
)

// plainValue shows a value as one would say it.
func plainValue(v any) string {
	switch x := v.(type) {
	case []any:
		return list(values(x))
	case bool:
		if x {
			return "yes"
		}
		return "no"
	case string:
		return saidTime(x)
	}
	return expr.Show(v)
}

var wholeTimeRE = regexp.MustCompile(`^\d{4}-\d{2}-\d{2}(T\d{2}:\d{2}(:\d{2}(\.\d+)?)?(Z|[+-]\d{2}:\d{2}))?$`)

// saidTime gives a date or time as one would say it; other texts as they are.
func saidTime(s string) string {
	if !wholeTimeRE.MatchString(s) {
		return s
	}
	if t, err := time.Parse("2006-01-02", s); err == nil {
		return t.Format("Monday, 2 January 2006")
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04Z07:00"} {
		if t, err := time.Parse(layout, s); err == nil {
			return t.Format("Monday, 2 January 2006, 15:04")
		}
	}
	return s
}

// tell answers from what the tools brought since the person spoke: from what
// speaks to a goal, where anything does, and from failures.
func (th *thought) tell() string { return th.told(false) }

// told answers from what the tools brought; strictly, from nothing but what was asked for.
func (th *thought) told(strict bool) string {
	wanted := map[string]*goal{}
	for _, g := range th.goals {
		if b := g.best(); b != nil && (b.c.handoff == "" || b.c.consult) {
			if wanted[b.Tool] == nil {
				wanted[b.Tool] = g
			}
		}
	}
	relevant := func(a *asked) bool {
		switch {
		case a.result.bad:
			return !th.repaired(a)
		case wanted[a.tool] != nil:
			return true
		case a.own:
			return false
		}
		return th.speaks(a)
	}
	some := slices.ContainsFunc(th.calls, func(a *asked) bool { return a.result != nil && relevant(a) })
	order := slices.Clone(th.calls) // as it was asked for, not as it came
	place := func(a *asked) int {
		for i, g := range th.goals {
			if wanted[a.tool] == g || wanted[a.tool] == nil && !a.own && th.speaksTo(a, g) {
				return i
			}
		}
		return len(th.goals)
	}
	slices.SortStableFunc(order, func(a, b *asked) int { return place(a) - place(b) })
	var parts []string
	for _, a := range order {
		if a.result == nil || (some || strict) && !relevant(a) {
			continue
		}
		if text := th.answer(a, wanted[a.tool]); text != "" && !slices.Contains(parts, text) {
			parts = append(parts, text)
		}
	}
	parts = append(parts, th.notes...)
	return strings.Join(parts, "\n\n")
}

// speaks says whether what another agent's tool brought is for any part of the request.
func (th *thought) speaks(a *asked) bool {
	return slices.ContainsFunc(th.goals, func(g *goal) bool { return th.speaksTo(a, g) })
}

func nothingCame(tool string) string { return upperFirst(spaced(tool)) + " came back with nothing." }

// answer words one result.
func (th *thought) answer(a *asked, g *goal) string {
	r := a.result
	if r.value == nil || r.bad {
		if words := strings.TrimSpace(r.words); words != "" {
			return words
		}
		return nothingCame(a.tool)
	}
	docs := schemaKeys(th.results[a.tool])
	w := wording{docs: docs, args: a.args, raw: r.raw, first: mustHave(th.results[a.tool]), many: len(th.callsOf(a.tool)) > 1}
	if g != nil {
		w.goal = g
		w.writes = g.best().c.writes
	} else {
		w.writes = writes(a.tool, "")
	}
	switch v := r.value.(type) {
	case []any:
		return w.rows(thingOf(a.tool, th.by[a.tool]), v)
	case map[string]any:
		if text := w.record(a.tool, v); text != "" {
			return text
		}
	}
	return nothingCame(a.tool)
}
