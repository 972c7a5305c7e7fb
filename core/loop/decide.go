package loop

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"stonebaton/core/expr"
	"stonebaton/core/ledger"
	"stonebaton/core/near"
	"stonebaton/core/project"
	"stonebaton/core/prompt"
	"stonebaton/core/run"
	"stonebaton/core/schema"
)

// decide takes the verdicts on all calls of the newest turn, at once and on
// the state as it was when the reply came.
func decide(p *project.Project, s *run.State) []Action {
	t := s.Turn
	var acts []Action
	calls, row := s.Calls, s.HandoffsRow
	passed := false
	for _, c := range t.Calls { // recorded already, where a batch was cut
		passed = passed || c.Decided.Verdict == ledger.Pass
	}
	for i := len(t.Calls); i < len(t.Reply.Calls); i++ {
		a := t.Reply.Calls[i]
		d := &ledger.CallDecided{Turn: t.Step, N: i + 1, ID: a.ID, Tool: a.Tool}
		if to, ok := strings.CutPrefix(a.Tool, project.HandoffPrefix); ok {
			decideHandoff(p, s, d, a, to, passed, row)
			passed = passed || d.Verdict == ledger.Pass
		} else if calls++; calls > p.Limits.Calls {
			d.Verdict, d.Why = ledger.Refuse, fmt.Sprintf("the run's %d calls are used up", p.Limits.Calls)
			d.Words = fmt.Sprintf("%s was not called: this run may make %d calls, and they are used up.", a.Tool, p.Limits.Calls)
		} else {
			decideCall(p, s, d, a)
		}
		acts = append(acts, Record{ledger.New(stepOfCall(t.Step, i+1), d)})
	}
	return acts
}

func decideHandoff(p *project.Project, s *run.State, d *ledger.CallDecided, a ledger.Ask, to string, passed bool, row int) {
	agent := p.Agents[s.Agent]
	refuse := func(why, words string) { d.Verdict, d.Why, d.Words = ledger.Refuse, why, words }
	switch {
	case agent == nil || !slices.Contains(agent.Handoffs, to):
		var have []string
		if agent != nil {
			have = agent.Handoffs
		}
		whom := "You cannot hand over to anybody."
		if len(have) > 0 {
			whom = "You can hand over to: " + strings.Join(have, ", ") + "."
		}
		refuse("there is no such handoff", fmt.Sprintf("%s cannot hand over to %q.%s %s", s.Agent, to, near.Hint(to, have), whom))
	case passed:
		refuse("one handoff in a turn: the first one wins", "Not handed over to "+to+": another handoff of the same turn came first.")
	case row >= p.Limits.Handoffs:
		refuse(fmt.Sprintf("%d handoffs in a row are the limit", p.Limits.Handoffs), fmt.Sprintf("Not handed over: the conversation has been handed over %d times with nothing done between. Answer the person, or say what is missing.", row))
	default:
		var args struct{ Because string }
		_ = json.Unmarshal([]byte(a.Args), &args) // a reason that cannot be read is no reason not to hand over
		raw, _ := json.Marshal(map[string]string{"because": args.Because})
		d.Verdict, d.To, d.Args, d.Why = ledger.Pass, to, raw, "handoffs come last"
	}
}

// decideCall takes the verdict on one tool call.
func decideCall(p *project.Project, s *run.State, d *ledger.CallDecided, a ledger.Ask) {
	refuse := func(why, words string) { d.Verdict, d.Why, d.Words = ledger.Refuse, why, words }
	agent := p.Agents[s.Agent]
	tool := p.Tools[a.Tool]
	if agent == nil || tool == nil || !slices.Contains(agent.Tools, a.Tool) || s.Opened.Tools == ledger.ToolsOff {
		var have []string
		if agent != nil && s.Opened.Tools != ledger.ToolsOff {
			have = agent.Tools
			for _, h := range agent.Handoffs {
				have = append(have[:len(have):len(have)], project.HandoffPrefix+h)
			}
		}
		list := "You have no tools."
		if len(have) > 0 {
			list = "Your tools: " + strings.Join(have, ", ") + "."
		}
		why := fmt.Sprintf("%s has no tool %q", s.Agent, a.Tool)
		refuse(why, fmt.Sprintf("There is no tool %q.%s %s", a.Tool, near.Hint(a.Tool, have), list))
		return
	}
	d.Effect, d.Replay = tool.Effect, tool.Replay
	text := strings.TrimSpace(a.Args)
	if text == "" {
		text = "{}"
	}
	val, faults := tool.Input.CheckJSON([]byte(text))
	if val == nil && len(faults) > 0 {
		refuse("the arguments are not JSON", fmt.Sprintf("%s was not called: its arguments cannot be read as JSON (%s). Send one JSON object.", a.Tool, strings.TrimPrefix(faults[0].Say, "is not JSON: ")))
		return
	}
	d.Args = json.RawMessage(text) // in the order in which the model wrote them
	var b bytes.Buffer
	if json.Compact(&b, d.Args) == nil {
		d.Args = b.Bytes()
	}
	if len(faults) > 0 {
		refuse("the arguments do not fit the schema", fmt.Sprintf("%s was not called: %s.", a.Tool, schema.Say(faults)))
		return
	}
	why, held := gated(p, s, tool, val)
	if !held {
		d.Verdict = ledger.Start
		switch n := len(s.Turn.Reply.Calls); {
		case tool.Effect == ledger.Read && n == 1:
			d.Why = fmt.Sprintf("turn %d made one call, a read: it starts at once", s.Turn.N)
		case tool.Effect == ledger.Read:
			d.Why = fmt.Sprintf("turn %d made %d calls; reads start at once", s.Turn.N, n)
		case n == 1:
			d.Why = fmt.Sprintf("turn %d made one call", s.Turn.N)
		default:
			d.Why = fmt.Sprintf("turn %d made %d calls; writes go one by one", s.Turn.N, n)
		}
		return
	}
	d.Verdict, d.Why, d.Lapse = ledger.Gate, why, tool.Gate.Lapse
}

// ticket raises the ticket of a call whose gate holds it.
func ticket(p *project.Project, s *run.State, c *run.Call) ledger.Event {
	tool := p.Tools[c.Decided.Tool]
	g := tool.Gate
	raise := &ledger.GateRaised{Form: ledger.GateTicket, Agent: s.Turn.Agent, Tool: tool.Name, Args: c.Args, By: g.By, Why: c.Decided.Why}
	if g.Within > 0 {
		due := s.At.Add(g.Within)
		raise.Due = &due
	}
	var args any
	_ = json.Unmarshal(c.Args, &args) // written by decideCall
	if q, err := g.Ask.Fill(vars(p, s, tool, args)); err == nil && q != "" {
		raise.Ask = q
	} else {
		raise.Ask = fmt.Sprintf("May %s call %s with %s?", s.Turn.Agent, tool.Name, c.Args)
	}
	raise.Shown = Shown(raise)
	return ledger.New(c.Step, raise)
}

// Shown is the hash of what a person sees of a ticket. A settlement names it,
// so that nobody agrees to what they did not see.
func Shown(g *ledger.GateRaised) ledger.Hash {
	return ledger.HashOf([]byte(g.Tool + "\x00" + string(g.Args) + "\x00" + g.Ask))
}

func vars(p *project.Project, s *run.State, t *project.Tool, args any) expr.Vars {
	v := prompt.Vars(p, s, s.Turn.At)
	v["state"] = expr.Typed(p.State.Doc(), any(s.Turn.Facts))
	v["args"] = expr.Typed(t.Input.Doc(), args)
	return v
}

// gated says whether a call has to wait for a person, and why.
func gated(p *project.Project, s *run.State, t *project.Tool, args any) (why string, held bool) {
	g := t.Gate
	if g == nil {
		return "", false
	}
	reason := func() string {
		switch {
		case g.Why != "":
			return "gate: " + g.Why
		case g.When != nil:
			return "gate: " + g.When.String()
		}
		return "gate: always"
	}
	if g.When == nil {
		return reason(), true
	}
	yes, err := g.When.True(vars(p, s, t, args))
	if err != nil {
		return "gate: its condition could not be evaluated (" + err.Error() + "), so a person is asked", true
	}
	return reason(), yes
}
