package loop

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/pmezard/go-difflib/difflib"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/value"
)

// sheet is what a leg puts before people: the arguments of its call.
type sheet struct {
	Text string `json:"text"`
	Was  string `json:"was,omitempty"` // at the visit before
	Ask  string `json:"ask"`
	people
	May []ledger.Verb `json:"may"`
}

// puts opens what a leg that puts a text before people opens: its call.
func (g *going) puts(l *project.Leg, v *run.Visit, step ledger.StepID) []Action {
	vars := g.vars()
	text, err := l.Gate.Show.Fill(vars)
	if err != nil {
		return g.bad(l, v, "gate.show", err)
	}
	s := sheet{Text: text, Ask: "Is this fine?", May: []ledger.Verb{ledger.Allow, ledger.RefuseIt}}
	if l.Gate.Ask != nil {
		if s.Ask, err = l.Gate.Ask.Fill(vars); err != nil {
			return g.bad(l, v, "gate.ask", err)
		}
	}
	if l.Gate.Amend != "" {
		s.May = append(s.May, ledger.Amend)
	}
	if l.Back != "" && g.f.Visits[l.Name] <= l.Tries {
		s.May = append(s.May, ledger.SendBack)
	}
	if last := g.f.Ended[l.Name]; last != nil {
		s.Was = decided(last.Value).Text
	}
	s.people = peopleOf(g.s, l.Gate, vars)
	if why := s.few(l.Gate); why != "" {
		return g.failed(l, v, ledger.Problem{Class: "relay", Say: "nobody may let the text of the leg " + l.Name + " through: " + why})
	}
	return one(ledger.New(step, &ledger.ThreadOpened{Role: ledger.LegCall, Agent: g.r.Name, Call: &ledger.Ask{ID: "leg", Tool: project.GateOfLeg, Args: string(g.text(value.Plain(asMap(s))))}, Why: "the leg " + l.Name + " puts it before people"}))
}

func asMap(s sheet) map[string]any {
	raw, err := json.Marshal(s)
	if err != nil {
		panic("a sheet is plain text: " + err.Error())
	}
	m, err := value.ReadObject(raw)
	if err != nil {
		panic("a sheet is an object: " + err.Error())
	}
	return m
}

// decideText takes the verdict on the call of a leg that puts a text before people.
func decideText(d *ledger.CallDecided, a ledger.Ask, l *project.Leg) {
	d.Args, d.Verdict, d.Effect, d.Lapse, d.Why = json.RawMessage(a.Args), ledger.Put, ledger.Read, l.Gate.Lapse, "the leg "+l.Name+" is a gate"
}

// textTicket raises the ticket of a text.
func textTicket(s *run.State, c *run.Call, l *project.Leg) ledger.Event {
	var x sheet
	_ = json.Unmarshal(c.Decided.Args, &x) // written by puts
	g := l.Gate
	raise := &ledger.GateRaised{Form: ledger.TextTicket, Agent: c.Turn.Thread.Agent(), Tool: l.Name, Args: textArgs(x.Text), Ask: x.Ask, May: x.May, Diff: changes(x.Was, x.Text), Why: "gate: the leg " + l.Name}
	if g.Why != "" {
		raise.Why = "gate: " + g.Why
	}
	hold(raise, s, g, x.people)
	raise.Shown = Shown(raise, raise.Ask, raise.Args)
	return ledger.New(c.Step, raise)
}

func textArgs(text string) json.RawMessage {
	raw, _ := json.Marshal(map[string]string{"text": text}) // a text can always be written
	return raw
}

// textOf gives the text of the arguments of a ticket.
func textOf(args json.RawMessage) string {
	m, _ := value.ReadObject(args) // written by textArgs, or checked when changed
	s, _ := m["text"].(string)
	return s
}

// changes gives what changed between two versions of a text, as a unified diff; "" where there
// was none before.
func changes(was, is string) string {
	if was == "" || was == is {
		return ""
	}
	d, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: difflib.SplitLines(was + "\n"), B: difflib.SplitLines(is + "\n"), FromFile: "before", ToFile: "now", Context: 2})
	if err != nil {
		return ""
	}
	return d
}

// textChange holds what somebody made of a text against what may be.
func textChange(change map[string]any) (json.RawMessage, error) {
	text, ok := change["text"].(string)
	if !ok || len(change) != 1 || strings.TrimSpace(text) == "" {
		return nil, refused("Give the new text as text.", "a text is changed by its text alone")
	}
	return textArgs(text), nil
}

// textSettled records what people decided about a text.
func textSettled(c *run.Call) []Action {
	st := c.Ticket.Settled
	out := ledger.Decision{By: st.By, Because: st.Because, Text: textOf(c.Ticket.Args())}
	switch st.Verb {
	case ledger.Allow:
		out.Verdict = ledger.TextAllowed
	case ledger.Amend:
		out.Verdict, out.Text = ledger.TextChanged, textOf(st.Args)
	case ledger.SendBack:
		out.Verdict = ledger.TextBack
	case ledger.RefuseIt:
		out.Verdict = ledger.TextRefused
	case ledger.Lapsed:
		out.Verdict = ledger.TextLapsed
	case ledger.Withdrawn:
		return one(ledger.New(c.Step, &ledger.CallRefused{Words: "The question was withdrawn.", Why: st.Why}))
	default:
		panic(fmt.Sprintf("loop: a text is not settled by %q", st.Verb))
	}
	raw, err := json.Marshal(out)
	if err != nil {
		panic("a decision is plain text: " + err.Error())
	}
	return one(ledger.New(c.Step, &ledger.CallReturned{Result: raw, Words: out.Text, By: st.By}))
}

// decided reads the value of a gate.
func decided(raw json.RawMessage) ledger.Decision {
	var d ledger.Decision
	_ = json.Unmarshal(raw, &d) // written by textSettled, or canned: then it says nothing
	return d
}

// judgedBy ends a leg that put a text before people: where the relay goes on is theirs to say.
func (g *going) judgedBy(l *project.Leg, v *run.Visit, out *ledger.LegLeft) []Action {
	res := v.Results[0]
	d := decided(res.Value)
	out.Value, out.Answer, out.Why = res.Value, d.Text, d.By+" let it through"
	if d.Verdict == ledger.TextLapsed {
		out.Why = "nobody decided in time"
		switch {
		case l.Lapsed != "":
			out.Go = l.Lapsed
			return one(ledger.New(v.Step, out))
		case l.Gate.Lapse == ledger.LapseAllows:
			return one(ledger.New(v.Step, out))
		case l.Gate.Lapse == ledger.LapseFails || l.Refused == "":
			return g.failed(l, v, ledger.Problem{Class: classLapsed, Say: "nobody decided about the leg " + l.Name + " in time", Remedy: "Give the gate more time, escalate:, or lapsed: with the leg that comes next."})
		}
		out.Go = l.Refused
		return one(ledger.New(v.Step, out))
	}
	switch d.Verdict {
	case ledger.TextChanged:
		out.Amend, out.Why = l.Gate.Amend, d.By+" changed it and let it through"
	case ledger.TextBack:
		out.Go, out.Remarks, out.Why = l.Back, d.Because, d.By+" sent it back"
	case ledger.TextRefused:
		if l.Refused == "" {
			return g.failed(l, v, ledger.Problem{Class: "refused", Say: fmt.Sprintf("%s refused it: %s", d.By, d.Because), Remedy: "Name the leg that comes next in refused:, where the relay is to go on."})
		}
		out.Go, out.Why = l.Refused, d.By+" refused it"
	}
	return one(ledger.New(v.Step, out))
}

// remarked adds to what the agent of a leg is told the remarks with which a text came back to it.
func (g *going) remarked(say string) string {
	last := g.f.Last
	if last == nil || last.Entered.Kind != ledger.LegOfGate || last.Left.Remarks == "" {
		return say
	}
	return strings.TrimSpace(say + fmt.Sprintf("\n\nIt came back with remarks of %s: %s", decided(last.Left.Value).By, expr.Show(last.Left.Remarks)))
}

// settles says whether a verb is one that a ticket takes.
func settles(g *ledger.GateRaised, v ledger.Verb) bool { return slices.Contains(g.Verbs(), v) }
