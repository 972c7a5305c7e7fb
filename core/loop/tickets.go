package loop

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"unicode"
	"unicode/utf8"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/value"
)

// ticket raises the ticket of a call whose gate holds it; where nobody is entitled to settle
// it, the call is refused.
func ticket(p *project.Project, s *run.State, c *run.Call) ledger.Event {
	tool := p.Tools[c.Decided.Tool]
	g := tool.Gate
	if g == nil || c.Decided.Step {
		g = &project.Gate{} // the rung asks, or a person looks at every call
	}
	raise := &ledger.GateRaised{Form: ledger.GateTicket, Agent: caller(s, c), Tool: tool.Name, Args: c.Args, Because: c.Decided.Because, Spare: g.First > 0, Why: c.Decided.Why}
	if c.Decided.Step {
		raise.Step, raise.Spare, raise.May = true, true, []ledger.Verb{ledger.Allow, ledger.RefuseIt, ledger.Amend, ledger.Happened}
	}
	args, _ := value.Read(c.Args) // written by decideCall
	seen := gateVars(p, s, c, tool, args)
	if c.Looked != nil {
		raise.Diff = c.Looked.Diff
	}
	raise.Link = LinkOf(tool, seen)
	who := peopleOf(s, g, seen)
	if why := who.few(g); why != "" {
		return ledger.New(c.Step, &ledger.CallRefused{Why: why, Words: fmt.Sprintf("Not done: %s needs the agreement of %s, and there is nobody who may give it.", tool.Name, map[bool]string{true: "a person", false: fmt.Sprint(g.Need, " people")}[g.Need <= 1])})
	}
	hold(raise, s, g, who)
	raise.Ask = asked(s, c, g, seen, c.Args)
	raise.Shown = Shown(raise, raise.Ask, raise.Args)
	return ledger.New(c.Step, raise)
}

// gateVars gives what the expressions of a gate see of a call with arguments.
func gateVars(p *project.Project, s *run.State, c *run.Call, tool *project.Tool, args any) expr.Vars {
	v := vars(p, s, c.Turn, tool, args)
	if c.Looked != nil {
		v["found"] = found(p, tool, c.Looked)
	}
	return v
}

// asked gives the question of a gate about arguments: what the file says, or a plain one where
// it says nothing or that fails; and what could not be looked up for it.
func asked(s *run.State, c *run.Call, g *project.Gate, v expr.Vars, args json.RawMessage) string {
	q, err := g.Ask.Fill(v)
	if err != nil || q == "" {
		who := caller(s, c)
		if who == "" {
			who = s.Opened().Person
		}
		q = fmt.Sprintf("May %s call %s with %s?", who, c.Decided.Tool, args)
	}
	if c.Looked != nil {
		for _, name := range slices.Sorted(maps.Keys(c.Looked.Missed)) {
			q += fmt.Sprintf(" (%s could not be looked up: %s)", name, c.Looked.Missed[name])
		}
	}
	return q
}

// caller names the agent that made a call; "" where none did.
func caller(s *run.State, c *run.Call) string {
	if b := s.Opened().Beside; b != nil {
		return b.Agent
	}
	return c.Turn.Agent
}

// found gives what was looked up for a call as the expressions of its rules and its gate see it.
func found(p *project.Project, t *project.Tool, l *ledger.CallLooked) map[string]any {
	out := map[string]any{}
	list := t.LooksUp
	if t.Gate != nil {
		list = slices.Concat(list, t.Gate.LooksUp)
	}
	for _, look := range list {
		if raw, ok := l.Found[look.Name]; ok {
			v, _ := value.Read(raw) // written by Looked
			out[look.Name] = expr.Typed(p.Tools[look.Tool].Output.Doc(), v)
		}
	}
	return out
}

// settle records what a ticket's settlement means for its call, lets the
// deadline of an open one pass, and raises the ticket of an unknown outcome.
func settle(p *project.Project, s *run.State, c *run.Call) []Action {
	d := c.Decided
	switch {
	case c.Progress == run.Waiting && c.Ticket.Open() && c.Ticket.Fired:
		return one(ledger.New(c.Step, &ledger.GateSettled{Verb: ledger.Lapsed, Why: "nobody decided in time"}))
	case c.Progress == run.Unsure:
		return one(outcomeTicket(p, s, c, fmt.Sprintf("%s: %s", d.Tool, c.Failure.Say)))
	case c.Progress == run.CallLost && s.Lost(c.Step) >= maxLost:
		return one(lostTicket(c.Turn.Agent, c.Step, d.Tool, c.Args, knows(p, s, c)))
	case c.Progress == run.CallLost && !mayRepeat(c):
		return one(outcomeTicket(p, s, c, "the service ended while "+d.Tool+" was under way"))
	case c.Progress == run.Settled:
		return settled(p, s, c)
	}
	return nil
}

func settled(p *project.Project, s *run.State, c *run.Call) []Action {
	st, d := c.Ticket.Settled, c.Decided
	if c.Ticket.Raised.Form == ledger.TextTicket {
		return textSettled(c)
	}
	who := st.By
	switch st.Verb {
	case ledger.Answer:
		said, _ := value.Read(st.Result) // written by Settle
		words := fmt.Sprintf("%s answers: %s", upper(who), expr.Show(said))
		if c.Turn.N == 0 { // no model reads it
			words = expr.Show(said)
		}
		return one(ledger.New(c.Step, &ledger.CallReturned{Result: st.Result, Words: words, By: who}))
	case ledger.RefuseIt:
		if d.Verdict == ledger.Put {
			return one(ledger.New(c.Step, &ledger.CallRefused{Words: fmt.Sprintf("%s does not answer that: %s", upper(who), st.Because), By: who, Why: who + " does not answer"}))
		}
		words := fmt.Sprintf("Not done: %s refused %s.", who, d.Tool)
		if st.Because != "" {
			words = fmt.Sprintf("Not done: %s refused %s and said: %s", who, d.Tool, st.Because)
		}
		return one(ledger.New(c.Step, &ledger.CallRefused{Words: words, By: who, Why: who + " refused it"}))
	case ledger.Lapsed:
		if d.Lapse == ledger.LapseFails {
			words := fmt.Sprintf("nobody decided about %s in time", d.Tool)
			return one(ledger.New(c.Step, &ledger.CallFailed{Attempt: c.Attempt, Outcome: ledger.NotDone, Class: classLapsed, Say: words, Final: true, Words: "Not done: " + words + ".", Why: "the ticket lapsed, and its gate then fails"}))
		}
		return one(ledger.New(c.Step, &ledger.CallRefused{Words: fmt.Sprintf("Not done: nobody decided about %s in time.", d.Tool), Why: "the ticket lapsed"}))
	case ledger.Happened:
		result := st.Result
		if len(result) == 0 {
			result = json.RawMessage("null")
		}
		words := fmt.Sprintf("%s was done, says %s.", d.Tool, who)
		if string(result) != "null" {
			words += " Its result: " + string(result)
		}
		if c.Ticket.Raised.Step { // the person gives it in place of the tool: the model reads what it would
			if v, err := value.Read(result); err == nil && p.Tools[d.Tool] != nil {
				if sp, bad := Speak(p.Tools[d.Tool], callVars(p, s, p.Tools[d.Tool], c), deed.Result{Value: v}, ""); bad == nil {
					words = sp.Words
				}
			}
		}
		acts := one(ledger.New(c.Step, &ledger.CallReturned{Result: result, Words: words, By: who}))
		if t := p.Tools[d.Tool]; t != nil && string(result) != "null" { // what it sets, it sets also where a person tells of it
			v, err := value.Read(result)
			if err != nil {
				return acts
			}
			if sp, bad := Speak(t, callVars(p, s, t, c), deed.Result{Value: v}, ""); bad == nil {
				if set, _ := sets(p, c, sp.Sets); set != nil {
					acts = append(acts, Record{*set})
				}
			}
		}
		return acts
	case ledger.Withdrawn:
		return one(ledger.New(c.Step, &ledger.CallRefused{Words: fmt.Sprintf("Not done: the question about %s was withdrawn.", d.Tool), Why: st.Why}))
	case ledger.GiveUp:
		return one(ledger.New(c.Step, &ledger.CallFailed{Attempt: c.Attempt, Outcome: ledger.Unknown, Class: "given_up", Say: who + " gave it up", Final: true,
			Words: fmt.Sprintf("It is not known whether %s was done; %s will not try it again.", d.Tool, who), Why: who + " gave it up"}))
	}
	panic(fmt.Sprintf("loop: a ticket that was settled by %q decides nothing about its call", st.Verb))
}

// classLapsed is the class of a call that failed because nobody decided in time.
const classLapsed = "lapsed"

// lapsed gives what ends a thread on which a call has failed because nobody decided in time.
func lapsed(t *run.Thread) []Action {
	for _, c := range t.Turn().Calls {
		if c.Progress == run.CallFailed && c.Failure.Class == classLapsed {
			return fail(t, ledger.Problem{Class: classLapsed, Say: c.Failure.Say, Remedy: "Begin it again when somebody can decide, or give the gate more time, escalate: or lapse: refuse."}, c.Failure.Why)
		}
	}
	return nil
}

// knows names who may say what became of a call: those who may agree to it.
func knows(p *project.Project, s *run.State, c *run.Call) []string {
	t := p.Tools[c.Decided.Tool]
	if t == nil || t.Gate == nil {
		return nil
	}
	args, _ := value.Read(c.Args) // written by decideCall
	return entitled(s, append(slices.Clip(t.Gate.By), t.Gate.To...), gateVars(p, s, c, t, args), "")
}

func outcomeTicket(p *project.Project, s *run.State, c *run.Call, why string) ledger.Event {
	g := &ledger.GateRaised{Form: ledger.OutcomeTicket, By: knows(p, s, c), Notify: always(p, s), Agent: c.Turn.Agent, Tool: c.Decided.Tool, Args: c.Args, Why: why + "; a write of unknown outcome is not sent again without asking",
		Ask: fmt.Sprintf("Did %s happen? %s.", c.Decided.Tool, upper(why))}
	g.Shown = Shown(g, g.Ask, g.Args)
	return ledger.New(c.Step, g)
}

func lostTicket(agent string, step ledger.StepID, tool string, args json.RawMessage, by []string) ledger.Event {
	what := "a turn of " + agent
	if tool != "" {
		what = "a call of " + tool
	}
	if args == nil {
		args = json.RawMessage("{}")
	}
	g := &ledger.GateRaised{Form: ledger.OutcomeTicket, By: by, Agent: agent, Tool: tool, Args: args, Why: fmt.Sprintf("%s was under way each of the %d times the service ended", what, maxLost),
		Ask: fmt.Sprintf("The service has ended %d times during %s. Try it once more?", maxLost, what)}
	g.Shown = Shown(g, g.Ask, g.Args)
	return ledger.New(step, g)
}

func upper(s string) string {
	if s == "" {
		return s
	}
	r, n := utf8.DecodeRuneInString(s)
	return string(unicode.ToUpper(r)) + s[n:]
}

// amended says in words which values a person changed.
func amended(c *run.Call) string {
	st := c.Verdict
	if st == nil || st.Verb != ledger.Amend {
		return ""
	}
	was, err := value.ReadObject(c.Decided.Args)
	if err != nil {
		return ""
	}
	is, err := value.ReadObject(st.Args)
	if err != nil {
		return ""
	}
	names := map[string]bool{}
	for k := range was {
		names[k] = true
	}
	for k := range is {
		names[k] = true
	}
	var parts []string
	for k := range names {
		a, b := expr.Show(was[k]), expr.Show(is[k])
		if a != b {
			parts = append(parts, fmt.Sprintf("%s from %q to %q", k, a, b))
		}
	}
	sort.Strings(parts)
	if len(parts) == 0 {
		return ""
	}
	say := fmt.Sprintf("%s changed %s before agreeing", upper(st.By), strings.Join(parts, " and "))
	if st.Because != "" {
		say += " and said: " + st.Because
	}
	return deed.Sentence(say) + " "
}
