package loop

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/value"
)

// decideStep takes the verdict on the next step of a plan.
func decideStep(p *project.Project, s *run.State, t *run.Thread, d *ledger.CallDecided, a ledger.Ask, l *project.Leg) {
	refuse := func(why, format string, args ...any) {
		d.Verdict, d.Why, d.Words = ledger.Refuse, why, fmt.Sprintf(format, args...)
	}
	if raw, err := value.Read([]byte(a.Args)); err == nil { // said better than by the schema
		if m, ok := raw.(map[string]any); ok {
			if who, ok := m["who"].(string); ok && !slices.Contains(l.Among, who) {
				refuse("it is not a candidate", "%.100q cannot take a step.%s Candidates: %s.", who, near.Hint(who, l.Among), near.List(l.Among))
				return
			}
		}
	}
	if _, ok := readArgs(s, t, d, l.NextStep, a.Args); !ok {
		return
	}
	step := project.StepOf(d.Args)
	d.To = step.Who
	if d.N > 1 {
		refuse("a plan takes one step in a turn", "Not taken: one step at a time. Look at the result of the first.")
		return
	}
	n := 1
	if was := t.Planned(); was != nil {
		n = was.Decided.Planned + 1
	}
	if n > l.Steps {
		d.Planned = n // so that one that goes on is ended
		refuse(fmt.Sprintf("the plan may take %d steps", l.Steps), "%s was not set to work: this plan may take %d steps, and they are used up. Answer with what you have.", step.Who, l.Steps)
		return
	}
	if tooDeep(t, d, step.Who, "set to work", "consults and relays") {
		return
	}
	with := string(step.With)
	if with == "" {
		with = "{}"
	}
	inner := &ledger.CallDecided{}
	switch tool, relay := p.Tools[step.Who], p.Relays[step.Who]; {
	case tool != nil:
		if s.Opened().Tools == ledger.ToolsOff {
			refuse("the run's tools are off", "%s was not called: this run's tools are off.", step.Who)
			return
		}
		if _, ok := readArgs(s, t, inner, &project.Tool{Name: tool.Name, Input: tool.Input}, with); !ok {
			d.Verdict, d.Why, d.Words = inner.Verdict, inner.Why, inner.Words
			return
		}
		d.Opens, d.Effect = ledger.LegCall, tool.Effect
	case relay != nil:
		if _, ok := readArgs(s, t, inner, &project.Tool{Name: relay.Name, Input: relay.Input}, with); !ok {
			d.Verdict, d.Why, d.Words = inner.Verdict, inner.Why, inner.Words
			return
		}
		d.Opens, d.Effect = ledger.Course, relay.Effect
	default:
		if strings.TrimSpace(step.Ask) == "" {
			refuse("it does not say what is to be done", "%s was not set to work: say in %q what it is to do.", step.Who, "ask")
			return
		}
		d.Opens, d.Effect = ledger.LegAgent, ledger.Read
	}
	d.Verdict, d.Planned, d.Why = ledger.Start, n, fmt.Sprintf("step %d of the plan, of %d at most", n, l.Steps)
}

// openStep sets to work who takes a step of a plan.
func openStep(c *run.Call) []Action {
	d, step := c.Decided, project.StepOf(c.Args)
	with := step.With
	if len(with) == 0 {
		with = json.RawMessage("{}")
	}
	why := fmt.Sprintf("step %d of the plan of %s", d.Planned, c.Turn.Agent)
	switch d.Opens {
	case ledger.LegCall:
		return one(ledger.New(c.Step, &ledger.ThreadOpened{Role: ledger.LegCall, Agent: c.Turn.Agent, Call: &ledger.Ask{ID: "step", Tool: d.To, Args: string(with)}, Why: why}))
	case ledger.Course:
		return one(ledger.New(c.Step, &ledger.FrameOpened{Relay: d.To, Input: with, Why: why}))
	case ledger.LegAgent:
		return one(ledger.New(c.Step, &ledger.ThreadOpened{Role: ledger.LegAgent, Agent: d.To, Say: step.Ask, Why: why}))
	case ledger.Consult:
	}
	panic(fmt.Sprintf("loop: a step of a plan does not open a %s", d.Opens))
}
