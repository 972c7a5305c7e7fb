package loop

import (
	"encoding/json"
	"fmt"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
)

// MoreSchema is the schema of what a ticket about a limit asks for.
var MoreSchema = map[string]any{"type": "object", "additionalProperties": false, "required": []any{"more"},
	"properties": map[string]any{"more": map[string]any{"type": "number", "exclusiveMinimum": 0, "description": "How much more the run may have."}}}

// reached says what a limit of the run that is used up brings about: people are asked for more
// where the files say so, and where they do not give it the run ends. Nothing where a thread
// waits for them.
func reached(p *project.Project, s *run.State, t *run.Thread) []Action {
	tk := t.Pause()
	asked := tk != nil && tk.Raised.Form == ledger.LimitTicket
	if asked && tk.Open() {
		if tk.Fired {
			return one(ledger.New(tk.Step, &ledger.GateSettled{Verb: ledger.Lapsed, Why: "nobody decided in time"}))
		}
		return nil
	}
	over := overLimit(p, s, t)
	if over == nil {
		return nil
	}
	if asked && tk.Raised.Tool == over.Limit && tk.Settled.Verb != ledger.Allow && tk.Settled.Verb != ledger.Amend {
		over.Why = "nobody gave it more in time"
		if tk.Settled.Verb == ledger.RefuseIt {
			over.Why = tk.Settled.By + " gives it no more"
			over.Problem.Say += fmt.Sprintf("; %s gives it no more: %s", tk.Settled.By, tk.Settled.Because)
		}
		return one(ledger.New("", over))
	}
	g := p.Limits.More
	if g == nil || s.AsksForMore() {
		if g == nil {
			return one(ledger.New("", over))
		}
		return nil
	}
	return one(moreTicket(p, s, t, g, over))
}

// moreTicket asks people for as much again of a limit as it was.
func moreTicket(p *project.Project, s *run.State, t *run.Thread, g *project.Gate, over *ledger.LimitReached) ledger.Event {
	more := map[string]float64{"turns": float64(turnsOf(p, s)) - s.More("turns"), "calls": float64(p.Limits.Calls), "tokens": float64(p.Limits.Tokens), "cost": p.Limits.Cost}[over.Limit]
	args, _ := json.Marshal(map[string]float64{"more": more}) // a number can always be written
	vars := prompt.Vars(p, s, t, s.At())
	who := peopleOf(s, g, vars)
	if why := who.few(g); why != "" {
		over.Problem.Say += "; nobody may give it more: " + why
		return ledger.New("", over)
	}
	r := &ledger.GateRaised{Form: ledger.LimitTicket, Agent: t.Agent(), Tool: over.Limit, Args: args, Ask: fmt.Sprintf("%s. May %s go on, with %g more?", upper(over.Problem.Say), t.Agent(), more), Why: "limit " + over.Limit}
	if g.Why != "" {
		r.Why = "limit " + over.Limit + ": " + g.Why
	}
	if q, err := g.Ask.Fill(vars); err == nil && q != "" {
		r.Ask = q
	}
	hold(r, s, g, who)
	r.Shown = Shown(r, r.Ask, r.Args)
	return ledger.New(t.ID().Turn(t.Turns()+1), r)
}

// moreOf holds what somebody makes of how much more a run may have against what may be.
func moreOf(change map[string]any) (json.RawMessage, error) {
	var n float64
	switch v := change["more"].(type) {
	case float64:
		n = v
	case int:
		n = float64(v)
	case int64:
		n = float64(v)
	case json.Number:
		n, _ = v.Float64() // 0 is refused
	}
	if len(change) != 1 || n <= 0 || n > 1e9 {
		return nil, refused("Give a number as more, above 0.", "that is not how much more the run may have")
	}
	return json.Marshal(map[string]float64{"more": n})
}
