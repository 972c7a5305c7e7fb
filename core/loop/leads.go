package loop

import (
	"fmt"
	"strings"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/value"
)

// Leads says in sentences what settling a ticket by a verb will lead to beyond the call itself,
// so that a person hears of it before they decide. A verb that leads to nothing more is not in
// it.
func Leads(p *project.Project, s *run.State, step ledger.StepID) map[ledger.Verb][]string {
	out := map[ledger.Verb][]string{}
	t, c := s.Ticket(step), s.Call(step)
	if !t.Open() || c == nil || t.Raised.Form == ledger.QuestionTicket {
		return out
	}
	add := func(say string, verbs ...ledger.Verb) {
		for _, v := range verbs {
			out[v] = append(out[v], say)
		}
	}
	if later := dependent(c); len(later) > 0 {
		add(fmt.Sprintf("%s of the same turn will not be done either.", upper(near.And(later))), ledger.RefuseIt, ledger.GiveUp)
	}
	if more := max(1, t.Raised.Need) - len(t.Votes) - 1; more > 0 {
		add(fmt.Sprintf("It goes ahead when %s agreed.", moreHave(more)), ledger.Allow)
	}
	if n := len(t.Votes); n > 0 {
		names := make([]string, n)
		for i, v := range t.Votes {
			names[i] = v.By
		}
		add(fmt.Sprintf("What %s agreed to no longer counts.", near.And(names)), ledger.Amend)
	}
	if more := max(1, t.Raised.Need) - 1; more > 0 {
		add(upper(moreHave(more))+" to agree to the new values.", ledger.Amend)
	}
	if limit := turnsOf(p, s); c.Turn.N > 0 && s.Turns() >= limit {
		add(fmt.Sprintf("The run has used its %d turns: it ends after this, and the agent cannot tell the result of it.", limit), t.Raised.Form.Verbs()...)
	}
	if words, hit := rejectedNow(p, s, c); hit {
		add("A rule of the tool would reject it now all the same: "+strings.TrimSuffix(words, ".")+".", ledger.Allow)
	}
	return out
}

// moreHave begins a sentence about so many more people.
func moreHave(n int) string {
	if n == 1 {
		return "one more has"
	}
	return fmt.Sprint(n, " more have")
}

// dependent names what comes after a write in its turn and is not done where it does not
// return.
func dependent(c *run.Call) []string {
	if c.Decided.Effect == ledger.Read {
		return nil
	}
	var later []string
	after := false
	for _, o := range c.Turn.Calls {
		d := o.Decided
		switch {
		case o == c:
			after = true
		case o.Progress.Over():
		case d.Verdict == ledger.Pass:
			later = append(later, "the handoff to "+d.To)
		case after && d.Effect != ledger.Read && (d.Verdict == ledger.Start || d.Verdict == ledger.Gate):
			later = append(later, d.Tool)
		}
	}
	return later
}

// rejectedNow says whether a rule of the tool of a call that waits would reject it as things
// are now.
func rejectedNow(p *project.Project, s *run.State, c *run.Call) (words string, hit bool) {
	t := p.Tools[c.Decided.Tool]
	if t == nil || c.Ticket.Raised.Form != ledger.GateTicket {
		return "", false
	}
	v := callVars(p, s, t, c)
	args, err := value.Read(c.Ticket.Args())
	if err != nil {
		return "", false
	}
	v["args"] = expr.Typed(t.Input.Doc(), args)
	return ruledOut(t, c, v)
}
