package loop

import (
	"fmt"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
)

// placesOf lists where a person looks at every step of an agent; none where nobody acts.
func placesOf(a *project.Agent) []ledger.Place {
	if a == nil {
		return nil
	}
	return a.PersonAt
}

// pause lets a person look at a turn before it is sent, where they look at every one: it gives
// the ticket, and waits says that the turn is not to be sent in this pass.
func pause(p *project.Project, s *run.State, t *run.Thread, n int, again bool, why string) (acts []Action, waits bool) {
	if again || t.Judges() || !s.Steps(ledger.AtTurns, placesOf(p.Agent(t.Agent()))) {
		return nil, false
	}
	if tk := t.Pause(); tk != nil && tk.Raised.Form == ledger.PauseTicket {
		return nil, tk.Open()
	}
	last := t.Messages()[len(t.Messages())-1]
	g := &ledger.GateRaised{Form: ledger.PauseTicket, Agent: t.Agent(), Tool: fmt.Sprintf("turn %d", n), Args: textArgs(last.Text), Ask: fmt.Sprintf("Send turn %d of %s?", n, t.Agent()), Spare: true, Step: true, Why: why}
	g.Shown = Shown(g, g.Ask, g.Args)
	return one(ledger.New(t.ID().Turn(n), g)), true
}
