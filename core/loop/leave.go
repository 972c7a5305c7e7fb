package loop

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/value"
)

// leave ends a visit of a leg.
func (g *going) leave(l *project.Leg, v *run.Visit) []Action {
	out := &ledger.LegLeft{Outcome: ledger.EndDone, Keep: l.Keep, Go: g.r.After(l)}
	var before []Action
	if v.Entered.Many {
		return g.gather(l, v, out)
	}
	switch l.Kind {
	case project.LegGate:
		if res := v.Results[0]; !res.Outcome.Well() {
			return g.failed(l, v, res.Wrong())
		}
		return g.judgedBy(l, v, out)
	case project.LegTogether:
		panic("loop: a leg with branches opens several")
	case project.LegExchange:
		panic("loop: an exchange ends by what was said")
	case project.LegOfAgent, project.LegOfTool, project.LegOfRelay, project.LegPrompt, project.LegAsk, project.LegPlan:
		res := v.Results[0]
		if !res.Outcome.Well() {
			return g.failed(l, v, res.Wrong())
		}
		out.Outcome, out.Answer, out.Value, out.Remarks, out.Why = res.Outcome, res.Answer, res.Value, res.Remarks, l.Does+" has ended"
		if out.Value == nil {
			out.Value, _ = json.Marshal(res.Answer) // a text can always be written
		}
		before = left(g.t, v.Step, res, l.Does)
	case project.LegSet:
		val, err := l.Set.Fill(g.vars())
		if err != nil {
			return g.bad(l, v, "set", err)
		}
		out.Value, out.Why = g.text(val), "the values are set"
	case project.LegChoose:
		return g.choose(l, v)
	case project.LegFinish:
		val, err := l.Finish.Fill(g.vars())
		if err != nil {
			return g.bad(l, v, "finish", err)
		}
		out.Value, out.Answer, out.Go, out.Why = g.text(val), expr.Show(value.Plain(val)), "", "the relay finishes here"
	}
	return append(before, Record{ledger.New(v.Step, out)})
}

// bad ends a leg of which an expression failed to evaluate; of a leg that opens several it
// ends the item, which is then opened and closed at once.
func (g *going) bad(l *project.Leg, v *run.Visit, key string, err error) []Action {
	prob := ledger.Problem{Class: "relay", Say: fmt.Sprintf("%s: %s of the leg %s could not be evaluated: %v", l.Place, key, l.Name, err)}
	if !v.Entered.Many {
		return g.failed(l, v, prob)
	}
	step := v.Item(v.Opened + 1)
	return []Action{Record{ledger.New(step, &ledger.ThreadOpened{Role: ledger.LegAgent, Agent: g.r.Name, Why: "it could not begin"})},
		Record{ledger.New(step, &ledger.ThreadClosed{Outcome: ledger.EndFailed, Problem: &prob, Why: "an expression could not be evaluated"})}}
}

// failed ends a leg that failed: the relay goes on where the file says so, or fails with it.
func (g *going) failed(l *project.Leg, v *run.Visit, prob ledger.Problem) []Action {
	out := fails(l, prob, l.Name+" failed")
	if len(v.Results) > 0 && v.Results[0] != nil {
		return append(left(g.t, v.Step, v.Results[0], l.Does), Record{ledger.New(v.Step, out)})
	}
	return one(ledger.New(v.Step, out))
}

// fails is the end of a leg that failed: the relay goes on where the file says so.
func fails(l *project.Leg, prob ledger.Problem, why string) *ledger.LegLeft {
	return &ledger.LegLeft{Outcome: ledger.EndFailed, Problem: &prob, Go: l.OnError, Answer: prob.Say, Why: why}
}

// partly is that of one that opened several things, of which some are done.
func partly(l *project.Leg, v *run.Visit, prob ledger.Problem, why string) []Action {
	out := fails(l, prob, why)
	out.Done, out.Of = v.Done-v.Failed, v.Entered.Items
	return one(ledger.New(v.Step, out))
}

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
	return partly(l, v, prob, "its time is over")
}

// gather ends a leg that did several things: its value is the result of each, in order, or by
// the names of its branches.
func (g *going) gather(l *project.Leg, v *run.Visit, out *ledger.LegLeft) []Action {
	list := make([]any, 0, len(v.Results))
	named := map[string]any{}
	for i, r := range v.Results {
		prob := r.Wrong()
		if !r.Outcome.Well() && !l.Collect {
			prob.Say = fmt.Sprintf("%s (%d of %d of %s)", strings.TrimSuffix(prob.Say, "."), i+1, v.Entered.Items, l.Name)
			return partly(l, v, prob, l.Name+" failed")
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
