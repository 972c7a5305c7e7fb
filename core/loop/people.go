package loop

import (
	"fmt"
	"slices"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/right"
	"stonebaton.example/core/run"
)

// people are those who may settle a ticket: some at once, and more after a while. Where By is
// empty, and the gate names nobody, anybody may.
type people struct {
	By []string `json:"by,omitempty"`
	To []string `json:"to,omitempty"`
}

// peopleOf evaluates who may settle the tickets of a gate.
func peopleOf(s *run.State, g *project.Gate, v expr.Vars) people {
	not := barred(s, g)
	by := entitled(s, g.By, v, not)
	return people{By: by, To: without(entitled(s, g.To, v, not), by)}
}

// few says why nobody, or too few, may settle a ticket of a gate; "" where there are enough.
func (x people) few(g *project.Gate) string {
	n, need := len(x.By)+len(x.To), max(1, g.Need)
	switch {
	case len(g.By) == 0, n >= need, slices.ContainsFunc(append(slices.Clip(x.By), x.To...), isRight):
		return ""
	case n == 0:
		return "its gate names nobody who may settle it"
	}
	return fmt.Sprintf("%d people have to agree, and its gate names %d who may settle it", need, n)
}

// isRight says whether a name is that of a right: it names everybody who has it.
func isRight(name string) bool { return right.Right(name).Valid() }

// hold says on a ticket who settles it, how many of them, and how long they have.
func hold(r *ledger.GateRaised, s *run.State, g *project.Gate, x people) {
	if !r.Step && live(s) {
		r.Notify, r.Remind = g.Notify, int64(g.Remind.Seconds())
	}
	r.By, r.Not = x.By, barred(s, g)
	if g.Need > 1 {
		r.Need = g.Need
	}
	if g.Within > 0 {
		due := s.At().Add(g.Within)
		r.Due = &due
	}
	if g.After > 0 {
		r.Escalate = &ledger.Escalation{At: s.At().Add(g.After), To: x.To}
	}
}

// live says whether the tools of a run are: nobody is told of what goes on with stubs.
func live(s *run.State) bool { return s.Opened().Tools != ledger.ToolsStubs }

// always gives the project's own rule for notices, for tickets that have no gate.
func always(p *project.Project, s *run.State) string {
	if p.Notices[project.Always] == nil || !live(s) {
		return ""
	}
	return project.Always
}

// barred names who may not settle a gate: the one who asked, where it says so.
func barred(s *run.State, g *project.Gate) string {
	if g.NotAsker {
		return s.Opened().Person
	}
	return ""
}

// entitled gives the names of who may settle a ticket, each once. An expression that fails
// names nobody: rights are not given on a guess.
func entitled(s *run.State, by []project.Approver, v expr.Vars, not string) []string {
	var out []string
	add := func(x any) {
		if n, ok := x.(string); ok && n != "" && n != not && !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	for _, a := range by {
		switch {
		case a.From != nil:
			x, err := a.From.Fill(v)
			if err != nil {
				continue
			}
			names, list := x.([]any)
			if !list {
				names = []any{x}
			}
			for _, n := range names {
				add(n)
			}
		case a.Name == project.Asker:
			add(s.Opened().Person)
		default:
			add(a.Name)
		}
	}
	return out
}

func without(names, these []string) []string {
	return slices.DeleteFunc(names, func(n string) bool { return slices.Contains(these, n) })
}
