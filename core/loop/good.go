package loop

import (
	"encoding/json"
	"fmt"
	"strings"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
	"stonebaton.example/core/value"
)

// judged holds an answer against what has to hold of it: an expression, or what another agent
// says. One that is not good is sent back with remarks while there are tries; then the best of
// them counts, with what is open about it.
func judged(p *project.Project, s *run.State, t *run.Thread, g *project.Good, val json.RawMessage) []Action {
	u := t.Turn()
	var now run.Draft
	switch {
	case g.When != nil:
		yes, err := g.When.True(answerVars(p, s, t, val))
		if err != nil {
			return fail(t, ledger.Problem{Class: "answer", Say: fmt.Sprintf("%s: good_when could not be evaluated: %v", g.Place, err), Remedy: "Fix good_when:."}, "whether the answer is good is not known")
		}
		if yes {
			return through(p, s, t, ledger.EndDone, u.Reply.Text, val, "", "no calls left: this is the answer, and it is good: "+g.When.String())
		}
		now.Remarks = "It has to hold that " + g.When.String() + "."
		if g.Else != nil {
			words, err := g.Else.Fill(answerVars(p, s, t, val))
			if err != nil {
				return fail(t, ledger.Problem{Class: "answer", Say: fmt.Sprintf("%s: say of good_when could not be evaluated: %v", g.Place, err), Remedy: "Fix good_when:."}, "what to say of the answer is not known")
			}
			now.Remarks = words
		}
	default:
		r, open := u.Judged()
		switch {
		case open:
			return nil
		case r == nil && t.Depth()+1 >= project.DeepestConsult:
			return fail(t, ledger.Problem{Class: "limit", Say: fmt.Sprintf("the answer of %s cannot be judged by %s: threads go at most %d deep", t.Agent(), g.Judge, project.DeepestConsult)}, "nothing can be opened below it")
		case r == nil:
			that, err := g.That.Fill(prompt.Vars(p, s, t, s.At()))
			if err != nil {
				return fail(t, ledger.Problem{Class: "answer", Say: fmt.Sprintf("%s: what is to be judged could not be evaluated: %v", g.Place, err), Remedy: "Fix good_when:."}, "what is to be judged is not known")
			}
			return one(ledger.New(u.Step.Guardrail(1), &ledger.ThreadOpened{Role: ledger.Judge, Agent: g.Judge, Say: strings.TrimSpace(that) + "\n\n" + u.Reply.Text, Why: g.Judge + " judges the answer of " + t.Agent()}))
		case !r.Outcome.Well():
			prob := ledger.Problem{Class: "answer", Say: fmt.Sprintf("%s could not judge the answer of %s", g.Judge, t.Agent())}
			if r.Problem != nil {
				prob.Say += ": " + r.Problem.Say
			}
			return fail(t, prob, "the answer could not be judged")
		}
		var j struct {
			Good    bool
			Remarks string
			Score   int
		}
		if err := json.Unmarshal(r.Value, &j); err != nil {
			panic("a judgement fits its schema: " + err.Error())
		}
		if j.Good {
			return through(p, s, t, ledger.EndDone, u.Reply.Text, val, "", g.Judge+" says that it is good")
		}
		now.Remarks, now.Score = j.Remarks, j.Score
	}
	if now.Text = u.Reply.Text; t.Revised(ledger.GoodWhen)+1 < g.Tries {
		return one(ledger.New(u.Step.Guardrail(2), &ledger.GuardrailSettled{Guardrail: ledger.GoodWhen, Verdict: ledger.Revise, Score: now.Score, Words: now.Remarks, Why: fmt.Sprintf("answer %d of %d is not good: %s", t.Revised(ledger.GoodWhen)+1, g.Tries, now.Remarks)}))
	}
	for _, d := range t.Drafts() { // of equals the newest
		if d.Score > now.Score {
			now = d
		}
	}
	if val != nil && now.Text != u.Reply.Text {
		v, _ := ReadAnswer(prompt.AnswerOf(p, t), now.Text) // it did fit when it came
		val, _ = json.Marshal(v)
	}
	return through(p, s, t, ledger.EndShort, now.Text, val, now.Remarks, fmt.Sprintf("the best of %d tries, which is not as good as it has to be", g.Tries))
}

// answerVars gives the names that good_when sees: those of the relay, where a leg has it, and
// the answer.
func answerVars(p *project.Project, s *run.State, t *run.Thread, val json.RawMessage) expr.Vars {
	v := prompt.Vars(p, s, t, s.At())
	if up := t.Parent(); up != nil && up.Frame() != nil {
		if r := p.Relays[up.Frame().Relay]; r != nil {
			g := &going{p: p, s: s, t: up, f: up.Frame(), r: r, at: s.At()}
			v = g.vars()
		}
	}
	v["answer"] = t.Turn().Reply.Text
	if val != nil {
		x, _ := value.Read(val) // it was just written
		v["answer"] = expr.Typed(prompt.AnswerOf(p, t).Doc(), x)
	}
	return v
}
