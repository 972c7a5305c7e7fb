package understudy

import (
	"time"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
)

// Choice is what the understudy would do first with a request, and why.
type Choice struct {
	Agent string       `json:"agent"`
	Goals []Weighed    `json:"goals"` // what the request asks for, one after another
	Text  string       `json:"text,omitempty"`
	Calls []ledger.Ask `json:"calls"`
	Notes []string     `json:"notes"` // why it does not simply take the best of each
}

// Weighed is one clause of a request with every tool, the best first.
type Weighed struct {
	Clause     string   `json:"clause"`
	Mood       string   `json:"mood"` // telling, asking or bidding
	Candidates []Rating `json:"candidates"`
}

// Choose says what the understudy would do with what a person says first to an
// agent of a project; no agent is the one that conversations start at.
func Choose(p *project.Project, agent, person, text string, at time.Time) (Choice, error) {
	r, err := prompt.Opening(p, agent, person, text, at)
	if err != nil {
		return Choice{}, err
	}
	part := PartOf(p, nil)
	reply := part.Answer(r)
	out := Choice{Agent: r.Agent, Goals: []Weighed{}, Text: reply.Text, Calls: reply.Calls, Notes: []string{}}
	if out.Calls == nil {
		out.Calls = []ledger.Ask{}
	}
	th := newThought(r, part.memory)
	if _, _, line := part.line(th, r); line {
		out.Notes = append(out.Notes, byHeart)
	} else {
		th.think()
		out.Notes = append(out.Notes, th.reasons...)
		th = newThought(r, part.memory)
	}
	for _, g := range th.goalsOf(th.request) {
		th.weigh(g)
		w := Weighed{Clause: g.clause.Text, Mood: string(g.clause.Mood), Candidates: g.ratings}
		for i := range w.Candidates {
			c := &w.Candidates[i]
			c.Score = round(max(c.Score, 0))
			if c.Words == nil {
				c.Words = []Weight{}
			}
		}
		out.Goals = append(out.Goals, w)
	}
	return out, nil
}
