package loop

import (
	"crypto/sha256"
	"fmt"
	"reflect"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
)

// aside lets a call that would wait for people wait beside the conversation, where the agent
// that talks to the person does so: in place of the ticket it gives the end of the call here.
func aside(p *project.Project, s *run.State, c *run.Call, raised ledger.Event) ledger.Event {
	g, ok := raised.Data.(*ledger.GateRaised)
	a := p.Agents[c.Turn.Agent]
	if !ok || g.Step || a == nil || !a.Aside || c.Turn.Thread != s.Main() {
		return raised
	}
	who, until := "somebody", ""
	if len(g.By) > 0 {
		who = strings.Join(g.By, " or ")
	}
	if g.Due != nil {
		until = ", until " + g.Due.In(p.Zone).Format("2 January 15:04")
	}
	words := fmt.Sprintf("Not done yet: %s decides about %s%s. What becomes of it is told in a message of its own; until then there is nothing more to do about it.", who, c.Decided.Tool, until)
	return ledger.New(c.Step, &ledger.CallRefused{Words: words, Aside: &ledger.Aside{Session: asideSession(s.Run(), c.Step), By: g.By, Due: g.Due}, Why: c.Decided.Why + "; it waits aside"})
}

// asideSession names the session of a call that waits aside: the same each time, so that it is
// opened once.
func asideSession(run string, step ledger.StepID) string {
	const set = "23456789abcdefghjkmnpqrstvwxyz"
	h := sha256.Sum256([]byte(run + " " + string(step)))
	var b strings.Builder
	for _, x := range h[:10] {
		b.WriteByte(set[int(x)%len(set)])
	}
	return b.String()
}

// AsideTold gives what the conversation is told of a call that waited aside, when it has ended:
// the message, and the facts that it changed.
func AsideTold(tool string, args []byte, ended *run.State) (text string, changed map[string]any) {
	closed := ended.Closed()
	said := closed.Answer
	if closed.Problem != nil {
		said = closed.Problem.Say
	}
	if closed.Status == ledger.Stopped {
		said = "It was stopped, and not done."
	}
	changed = map[string]any{}
	for k, v := range ended.Facts() {
		if was, there := ended.Opened().State[k]; !there || !reflect.DeepEqual(was, v) {
			changed[k] = v
		}
	}
	return fmt.Sprintf("(What had to wait has been decided. %s %s: %s)", tool, args, said), changed
}
