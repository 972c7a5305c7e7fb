package loop

import (
	"fmt"
	"slices"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/value"
)

// late ends a leg whose time is over: what it has opened is ended, the deepest first, as far
// as nothing is in flight there; then the leg fails.
func (g *going) late(l *project.Leg, v *run.Visit) []Action {
	why := fmt.Sprintf("the leg %s may take %s", l.Name, l.Within)
	threads := slices.Clone(g.s.Threads())
	slices.Reverse(threads) // what was opened by another comes after it
	var acts, closings []Action
	open := false
	for _, t := range threads {
		if !t.Late() || !strings.HasPrefix(string(t.ID())+".", string(v.Step)+".") {
			continue
		}
		open = true
		mine := endingOf(t, why)
		acts = append(acts, mine...)
		if len(mine) == 0 && t.Under() == 0 && t.Quiet() {
			closings = append(closings, end(t, ledger.EndStopped, "", nil, why)...)
		}
	}
	switch {
	case len(acts) > 0:
		return acts
	case open:
		return closings
	}
	prob := ledger.Problem{Class: "limit", Say: fmt.Sprintf("the leg %s took longer than it may (within: %s)", l.Name, l.Within), Remedy: "Raise within: of the leg if it was right to take so long."}
	return one(ledger.New(v.Step, &ledger.LegLeft{Outcome: ledger.EndFailed, Problem: &prob, Go: l.OnError, Answer: prob.Say, Done: v.Done - v.Failed, Of: v.Entered.Items, Why: "its time is over"}))
}

// gather ends a leg that did several things: its value is the result of each, in order, or by
// the names of its branches.
func (g *going) gather(l *project.Leg, v *run.Visit, out *ledger.LegLeft) []Action {
	list := make([]any, 0, len(v.Results))
	named := map[string]any{}
	for i, r := range v.Results {
		prob := ledger.Problem{Class: "stopped", Say: r.Why}
		if r.Problem != nil {
			prob = *r.Problem
		}
		if !r.Outcome.Well() && !l.Collect {
			prob.Say = fmt.Sprintf("%s (%d of %d of %s)", strings.TrimSuffix(prob.Say, "."), i+1, v.Entered.Items, l.Name)
			return one(ledger.New(v.Step, &ledger.LegLeft{Outcome: ledger.EndFailed, Problem: &prob, Go: l.OnError, Answer: prob.Say, Done: v.Done - v.Failed, Of: v.Entered.Items, Why: l.Name + " failed"}))
		}
		var x any = r.Answer
		if r.Value != nil {
			x, _ = value.Read(r.Value) // it was written from a value
		}
		if l.Collect {
			if x = map[string]any{"value": x}; !r.Outcome.Well() {
				x = map[string]any{"problem": prob.Say}
			}
		}
		list = append(list, x)
		if l.Kind == project.LegTogether {
			named[l.Branches[i].Name] = x
		}
	}
	out.Value, out.Done, out.Of, out.Why = g.text(list), v.Done-v.Failed, v.Entered.Items, fmt.Sprintf("%d of %d are done", v.Done-v.Failed, v.Entered.Items)
	if l.Kind == project.LegTogether {
		out.Value = g.text(named)
	}
	out.Answer = string(out.Value)
	return one(ledger.New(v.Step, out))
}

// choose takes the first way out whose condition holds.
func (g *going) choose(l *project.Leg, v *run.Visit) []Action {
	vars := g.vars()
	for i, w := range l.Ways {
		out := &ledger.LegLeft{Outcome: ledger.EndDone, Go: w.Go, Why: "nothing else held"}
		if w.When != nil {
			yes, err := w.When.True(vars)
			if err != nil {
				return g.bad(l, v, fmt.Sprintf("choose.%d.when", i), err)
			}
			if !yes {
				continue
			}
			out.Why = w.When.String()
		} else if len(l.Ways) == 1 {
			out.Why = "it always goes there"
		}
		return one(ledger.New(v.Step, out))
	}
	return one(ledger.New(v.Step, &ledger.LegLeft{Outcome: ledger.EndDone, Go: g.r.After(l), Why: "no way of " + l.Name + " held"}))
}
