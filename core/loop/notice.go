package loop

import (
	"fmt"
	"strings"
	"time"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
	"stonebaton.example/core/value"
)

// Notice is what one person is told of a ticket that they may settle.
type Notice struct {
	To      string // their name
	Address string // where they are told; "" is where it is known by their name
	Link    string // with which they decide
	Kind    string // raised, reminder or escalated
	Ticket  int64
}

// NoticeCall gives the call by which somebody is told of the open ticket of a step: the tool,
// its arguments as JSON has them, and what its handler sees.
func NoticeCall(p *project.Project, s *run.State, step ledger.StepID, n Notice) (*project.Tool, any, expr.Vars, error) {
	t := s.Ticket(step)
	rule := p.Notices[t.Raised.Notify]
	if rule == nil {
		return nil, nil, nil, fmt.Errorf("the files of the run have no rule %q for notices", t.Raised.Notify)
	}
	tool := p.Tools[rule.Tool]
	args, err := value.Read(t.Args())
	if err != nil {
		return nil, nil, nil, err
	}
	due := ""
	if t.Raised.Due != nil {
		due = t.Raised.Due.In(p.Zone).Format(time.RFC3339)
	}
	v := prompt.Vars(p, s, threadOf(s, step), s.At())
	v["notice"] = map[string]any{"to": n.To, "address": n.Address, "link": n.Link, "kind": n.Kind, "ticket": n.Ticket, "ask": t.Ask(), "why": strings.TrimPrefix(t.Raised.Why, "gate: "), "agent": t.Raised.Agent, "tool": t.Raised.Tool, "args": args, "due": due}
	filled, err := rule.Args.Fill(v)
	if err != nil {
		return nil, nil, nil, fmt.Errorf("what %s is to be told cannot be put together: %w", n.To, err)
	}
	fixed, _, faults := tool.Input.Repair(filled)
	if len(faults) > 0 {
		return nil, nil, nil, fmt.Errorf("what %s is to be told does not fit the tool %s: %v", n.To, tool.Name, faults)
	}
	v["args"] = expr.Typed(tool.Input.Doc(), fixed)
	return tool, fixed, v, nil
}

// threadOf gives the thread on which a ticket stands.
func threadOf(s *run.State, step ledger.StepID) *run.Thread {
	if u := s.Turn(step); u != nil {
		return u.Thread
	}
	if c := s.Call(step); c != nil {
		return c.Turn.Thread
	}
	return s.Thread(step.Parent()) // of the turn that comes next
}
