package understudy

import (
	"time"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/view"
)

// Choose says what the understudy would do with what a person says first to an
// agent of a project; no agent is the one that conversations start at.
func Choose(p *project.Project, agent, person, text string, at time.Time) (view.Choice, error) {
	r, err := prompt.Opening(p, agent, person, text, at)
	if err != nil {
		return view.Choice{}, err
	}
	part := PartOf(p, nil)
	reply := part.Answer(r)
	out := view.Choice{Agent: r.Agent, Goals: []view.Weighed{}, Text: reply.Text, Calls: reply.Calls, Notes: []string{}}
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
		w := view.Weighed{Clause: g.clause.Text, Mood: string(g.clause.Mood), Candidates: []view.Candidate{}}
		for _, r := range g.ratings {
			c := r.Candidate
			c.Score = round(max(c.Score, 0))
			if c.Words == nil {
				c.Words = []view.Weight{}
			}
			w.Candidates = append(w.Candidates, c)
		}
		out.Goals = append(out.Goals, w)
	}
	return out, nil
}
