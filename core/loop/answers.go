package loop

import (
	"encoding/json"
	"fmt"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
)

// through ends a thread with an answer when people have let it through, where the agent has a
// gate for its answers; else at once.
func through(p *project.Project, s *run.State, t *run.Thread, outcome ledger.End, text string, val json.RawMessage, remarks, why string) []Action {
	a, u := p.Agent(t.Agent()), t.Turn()
	if a == nil || t.Judges() {
		return closing(t, outcome, text, val, remarks, why)
	}
	tk := u.Ticket
	if tk != nil && tk.Raised.Form != ledger.TextTicket {
		tk = nil // it was about the turn, which was lost
	}
	g, step := a.Gate, false
	if g == nil && (s.Steps(ledger.AtAnswer, a.PersonAt) || tk != nil) {
		g, step = &project.Gate{Need: 1, Tries: project.SentBack}, true
	}
	if g == nil {
		return closing(t, outcome, text, val, remarks, why)
	}
	switch {
	case tk == nil:
		raise, held := answerTicket(p, s, t, a, g, step, text, val)
		if !held {
			return closing(t, outcome, text, val, remarks, why)
		}
		return one(raise)
	case tk.Open() && tk.Fired:
		return one(ledger.New(u.Step, &ledger.GateSettled{Verb: ledger.Lapsed, Why: "nobody decided in time"}))
	case tk.Open():
		return nil
	}
	st := tk.Settled
	switch st.Verb {
	case ledger.Allow:
		return closing(t, outcome, text, val, remarks, st.By+" let the answer through")
	case ledger.Amend:
		text = textOf(st.Args)
		if shape := prompt.AnswerOf(p, t); shape != nil {
			v, _ := ReadAnswer(shape, text) // Settle has looked that it fits
			val, _ = json.Marshal(v)
		}
		return closing(t, outcome, text, val, remarks, st.By+" changed the answer")
	case ledger.SendBack:
		return one(ledger.New(u.Step.Guardrail(3), &ledger.GuardrailSettled{Guardrail: ledger.GateBack, Verdict: ledger.Revise, Why: st.By + " sent the answer back",
			Words: fmt.Sprintf("%s sent your answer back: %s. Answer again, with the whole of it.", upper(st.By), strings.TrimSuffix(strings.TrimSpace(st.Because), "."))}))
	case ledger.RefuseIt:
		return fail(t, ledger.Problem{Class: "refused", Say: fmt.Sprintf("%s refused the answer of %s: %s", st.By, a.Name, st.Because)}, st.By+" refused it")
	case ledger.Lapsed:
		if g.Lapse == ledger.LapseAllows {
			return closing(t, outcome, text, val, remarks, "nobody decided in time, and the gate then allows")
		}
		return fail(t, ledger.Problem{Class: classLapsed, Say: "nobody decided about the answer of " + a.Name + " in time", Remedy: "Give the gate more time, escalate: or lapse: allow."}, "the ticket lapsed")
	case ledger.Withdrawn:
		return nil // the run is ending
	}
	panic(fmt.Sprintf("loop: an answer is not settled by %q", st.Verb))
}

// answerTicket raises the ticket of an answer; held is false where its gate does not hold.
func answerTicket(p *project.Project, s *run.State, t *run.Thread, a *project.Agent, g *project.Gate, step bool, text string, val json.RawMessage) (raise ledger.Event, held bool) {
	u := t.Turn()
	vars := answerVars(p, s, t, val)
	why := "gate: the answers of " + a.Name
	if step {
		why = "a person looks at every answer (person_at: answer)"
	}
	if g.When != nil {
		yes, err := g.When.True(vars)
		if err == nil && !yes {
			return ledger.Event{}, false
		}
		if why = "gate: " + g.When.String(); err != nil {
			why = "gate: its condition could not be evaluated (" + err.Error() + "), so a person is asked"
		}
	}
	if g.Why != "" {
		why = "gate: " + g.Why
	}
	r := &ledger.GateRaised{Form: ledger.TextTicket, Agent: a.Name, Tool: a.Name, Args: textArgs(text), Ask: "May " + a.Name + " say this?", May: []ledger.Verb{ledger.Allow, ledger.RefuseIt, ledger.Amend}, Spare: step, Step: step, Why: why}
	if q, err := g.Ask.Fill(vars); err == nil && q != "" {
		r.Ask = q
	}
	if t.Revised(ledger.GateBack) < g.Tries {
		r.May = append(r.May, ledger.SendBack)
	}
	for i := len(t.Messages()) - 2; i >= 0 && t.Revised(ledger.GateBack) > 0; i-- { // the answer that was sent back
		if m := t.Messages()[i]; m.Role == ledger.Assistant && len(m.Calls) == 0 {
			r.Diff = changes(m.Text, text)
			break
		}
	}
	who := peopleOf(s, g, vars)
	if short := who.few(g); short != "" {
		prob := ledger.Problem{Class: "refused", Say: "nobody may let the answer of " + a.Name + " through: " + short}
		return fail(t, prob, "nobody may let it through")[0].(Record).Event, true
	}
	hold(r, s, g, who)
	r.Shown = Shown(r, r.Ask, r.Args)
	return ledger.New(u.Step, r), true
}
