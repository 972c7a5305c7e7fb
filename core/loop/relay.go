package loop

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/value"
)

// begin opens the relay that the run goes through, and ends the run when that has ended.
func begin(s *run.State) []Action {
	o := s.Opened()
	r := s.Root()
	switch {
	case r == nil && s.Thread(ledger.Root) == nil:
		return one(ledger.New(ledger.Root, &ledger.FrameOpened{Relay: o.Relay, Input: o.Input, Why: "the run goes through " + o.Relay}))
	case r == nil:
		return nil
	}
	acts := left(s.Main(), ledger.Root, r, o.Relay)
	status := ledger.Done
	if !r.Outcome.Well() {
		status = ledger.Failed
	}
	return append(acts, Record{ledger.New("", &ledger.RunClosed{Status: status, Answer: r.Answer, Problem: r.Problem, Why: "the relay " + o.Relay + " has ended"})})
}

// decideCourse takes the verdict on a call of a relay.
func decideCourse(p *project.Project, s *run.State, t *run.Thread, d *ledger.CallDecided, a ledger.Ask, r *project.Relay) {
	refuse := func(why, words string) { d.Verdict, d.Why, d.Words = ledger.Refuse, why, words }
	agent := p.Agents[t.Agent()]
	if t.Turn().N > 0 && (agent == nil || !slices.Contains(agent.Tools, a.Tool) || s.Opened().Tools == ledger.ToolsOff) {
		refuse(fmt.Sprintf("%s has no tool %.100q", t.Agent(), a.Tool), fmt.Sprintf("Unknown tool %.100q.", a.Tool))
		return
	}
	if tooDeep(t, d, r.Name, "begun", "consults and relays") {
		return
	}
	if _, ok := readArgs(s, t, d, &project.Tool{Name: r.Name, Input: r.Input}, a.Args); !ok {
		return
	}
	d.Verdict, d.Opens, d.To, d.Effect, d.Why = ledger.Start, ledger.Course, r.Name, r.Effect, "a relay begins at once where it only reads, and goes in line with the writes of its turn otherwise"
}

// openCourse begins a relay that a call decided.
func openCourse(p *project.Project, c *run.Call) []Action {
	if p.Relays[c.Decided.To] == nil {
		return one(ledger.New(c.Step, &ledger.CallRefused{Words: c.Decided.To + " is not there any more.", Why: "the relay is not in this version of the project"}))
	}
	return one(ledger.New(c.Step, &ledger.FrameOpened{Relay: c.Decided.To, Input: c.Args, Why: c.Turn.Agent + " calls it"}))
}

// course says what is to be recorded of a relay: a leg that is entered, what a leg opens, a
// leg that is left, the end.
func course(p *project.Project, s *run.State, t *run.Thread, at time.Time) []Action {
	f := t.Frame()
	r := p.Relays[f.Relay]
	if r == nil {
		return gone(t, fmt.Sprintf("relay %q", f.Relay))
	}
	g := &going{p: p, s: s, t: t, f: f, r: r, at: at}
	if v := f.Visit; v != nil {
		l := r.Leg(v.Leg)
		if l == nil {
			return gone(t, fmt.Sprintf("leg %q of %s", v.Leg, r.Name))
		}
		if v.Late && !v.Over() {
			return g.late(l, v)
		}
		if l.Kind == project.LegExchange && v.Opened > 0 && v.Done == v.Opened && v.Failed == 0 {
			ends, err := g.agreed(l, v)
			if err != nil {
				return g.failed(l, v, ledger.Problem{Class: "relay", Say: fmt.Sprintf("%s: until of the leg %s could not be evaluated: %v", l.Place, l.Name, err)})
			}
			if ends != "" || !v.Room() {
				return g.said(l, v, cmp.Or(ends, "rounds"))
			}
		}
		if v.Room() {
			return g.open(l, v)
		}
		return g.leave(l, v)
	}
	next := f.Go
	if f.Last == nil {
		next = r.Legs[0].Name
		if t.ID() == ledger.Root {
			next = cmp.Or(s.Opened().From, next)
		}
	}
	if t.ID() == ledger.Root && f.Last != nil && f.Last.Leg == s.Opened().Until {
		next = ""
	}
	if next == "" {
		return g.end()
	}
	l := r.Leg(next)
	if l == nil {
		return gone(t, fmt.Sprintf("leg %q of %s", next, r.Name))
	}
	if n := s.Legs(); n >= p.Limits.Legs {
		return one(ledger.New("", &ledger.LimitReached{Limit: "legs", Where: t.ID(), Why: r.Name + " would have gone on to " + next,
			Problem: ledger.Problem{Class: "limit", Say: fmt.Sprintf("the run has visited %d legs (limit legs: %d); %s would have gone on to %s, visit %d", n, p.Limits.Legs, r.Name, next, f.Visits[next]+1), Remedy: raise}}))
	}
	return g.enter(l)
}

// gone ends a relay of which something is missing.
func gone(t *run.Thread, what string) []Action {
	return fail(t, ledger.Problem{Class: "relay", Say: "the " + what + " is not in this version of the project"}, "it is not there")
}

// going is a relay at work, for one pass.
type going struct {
	p  *project.Project
	s  *run.State
	t  *run.Thread
	f  *run.Frame
	r  *project.Relay
	at time.Time

	item any // of a leg that goes over a list, and its number; 0 elsewhere
	n    int
}

// vars gives the values that the expressions of the relay see.
func (g *going) vars() expr.Vars {
	v := prompt.Vars(g.p, g.s, g.t, g.at)
	visits := map[string]any{}
	for _, l := range g.r.Legs {
		visits[l.Name] = int64(g.f.Visits[l.Name])
	}
	if g.n > 0 {
		v["item"], v["n"] = g.item, int64(g.n)
	}
	ended, remarks := map[string]any{}, map[string]any{}
	for _, l := range g.r.Legs {
		ended[l.Name], remarks[l.Name] = "", ""
		if e := g.f.Ended[l.Name]; e != nil {
			ended[l.Name], remarks[l.Name] = string(e.Outcome), e.Remarks
		}
	}
	v["ended"], v["remarks"] = ended, remarks
	v["input"], v["kept"], v["visits"] = g.f.Typed(g.r.Input.Doc()), g.f.Kept, visits
	return v
}

// enter begins a visit of a leg.
func (g *going) enter(l *project.Leg) []Action {
	why := "the first leg"
	if last := g.f.Last; last != nil {
		why = last.Left.Why
		if last.Left.Outcome.Well() && g.r.Leg(last.Leg) != nil && g.r.Leg(last.Leg).Kind != project.LegChoose && g.r.Leg(last.Leg).Kind != project.LegGate {
			why = last.Leg + " is done"
		}
	}
	e := &ledger.LegEntered{Kind: string(l.Kind), Why: why}
	if l.Shown != ledger.Hidden {
		e.Shown = l.Shown
	}
	switch l.Kind {
	case project.LegOfAgent, project.LegOfTool, project.LegOfRelay, project.LegPrompt, project.LegAsk, project.LegGate, project.LegPlan:
		e.Items, e.AtOnce, e.Steps = 1, 1, l.Steps
	case project.LegExchange:
		e.Items, e.Many, e.AtOnce = 2*l.Rounds, true, 1
	case project.LegTogether:
		for _, b := range l.Branches {
			e.Over = append(e.Over, g.text(b.Name))
		}
		e.Items, e.Many, e.AtOnce, e.Collect = len(l.Branches), true, l.AtOnce, l.Collect
	case project.LegSet, project.LegChoose, project.LegFinish:
	}
	step := g.t.ID().Leg(l.Name, g.f.Visits[l.Name]+1)
	if canned, ok := g.s.Opened().Legs[l.Name]; ok && g.t.ID() == ledger.Root {
		return g.canned(l, step, e, canned)
	}
	if l.Each != nil {
		over, err := g.over(l)
		if err != nil {
			prob := ledger.Problem{Class: "relay", Say: fmt.Sprintf("%s: each of the leg %s %v", l.Place, l.Name, err)}
			e.Items = 0
			return append(one(ledger.New(step, e)), Record{ledger.New(step, fails(l, prob, l.Name+" failed"))})
		}
		e.Over, e.Items, e.Many, e.AtOnce, e.Collect = over, len(over), true, l.AtOnce, l.Collect
	}
	return one(ledger.New(step, e))
}

// canned visits a leg for which the run has ready what it brings.
func (g *going) canned(l *project.Leg, step ledger.StepID, e *ledger.LegEntered, c ledger.Canned) []Action {
	e.Items, e.Many, e.Over = 0, false, nil
	out := &ledger.LegLeft{Outcome: ledger.EndDone, Answer: c.Answer, Value: c.Value, Keep: l.Keep, Go: g.r.After(l), Why: "the run has this ready"}
	switch {
	case c.Fails != "":
		out = fails(l, ledger.Problem{Class: "relay", Say: c.Fails}, "the run has this ready")
	case c.Value != nil:
		v, _ := value.Read(c.Value) // it was read when the run was begun
		out.Answer = expr.Show(v)
	default:
		out.Value = g.text(c.Answer)
	}
	return append(one(ledger.New(step, e)), Record{ledger.New(step, out)})
}

// over evaluates the list that a leg goes over.
func (g *going) over(l *project.Leg) ([]json.RawMessage, error) {
	v, err := l.Each.Fill(g.vars())
	if err != nil {
		return nil, fmt.Errorf("could not be evaluated: %w", err)
	}
	list, ok := value.Plain(v).([]any)
	if !ok {
		return nil, fmt.Errorf("is not a list: %.80s", expr.Show(value.Plain(v)))
	}
	if len(list) > project.MostItems {
		return nil, fmt.Errorf("is a list of %d; a leg goes over %d at most", len(list), project.MostItems)
	}
	out := make([]json.RawMessage, len(list))
	for i, x := range list {
		out[i] = g.text(x)
	}
	return out, nil
}

// open opens what a leg does: a thread for an agent or a call, or another relay.
func (g *going) open(l *project.Leg, v *run.Visit) []Action {
	n := v.Opened + 1
	step := v.Item(n)
	if l.Kind == project.LegTogether {
		l = l.Branches[n-1]
	} else if v.Entered.Many && l.Kind != project.LegExchange {
		item, _ := value.Read(v.Entered.Over[n-1]) // the loop wrote it
		g.item, g.n = item, n
	}
	switch l.Kind {
	case project.LegAsk:
		say, err := g.say(l)
		if err != nil {
			return g.bad(l, v, "ask", err)
		}
		args := g.text(map[string]any{project.Question: say})
		return one(ledger.New(step, &ledger.ThreadOpened{Role: ledger.LegCall, Agent: g.r.Name, Call: &ledger.Ask{ID: "leg", Tool: project.AskPerson, Args: string(args)}, Why: "the leg " + l.Name + " asks the person"}))
	case project.LegGate:
		return g.puts(l, v, step)
	case project.LegExchange:
		return g.speak(l, v, step, n)
	case project.LegOfAgent, project.LegPrompt, project.LegPlan:
		say, err := g.say(l)
		if err != nil {
			return g.bad(l, v, "say", err)
		}
		o := &ledger.ThreadOpened{Role: ledger.LegAgent, Agent: l.Does, Say: say, Why: "the leg " + l.Name + " is " + l.Does + "'s"}
		switch l.Thread {
		case project.Same:
			o.Line = ledger.LineOf(g.t.ID(), l.Name)
		case project.Session:
			o.Line = g.r.Name + "#" + l.Name
		case project.Fresh:
		}
		if o.Line != "" {
			o.From = g.t.LineFrom(o.Line)
		}
		return one(ledger.New(step, o))
	case project.LegOfTool:
		args, err := g.filled(l)
		if err != nil {
			return g.bad(l, v, "args", err)
		}
		return one(ledger.New(step, &ledger.ThreadOpened{Role: ledger.LegCall, Agent: g.r.Name, Call: &ledger.Ask{ID: "leg", Tool: l.Does, Args: string(args)}, Why: "the leg " + l.Name + " calls " + l.Does}))
	case project.LegOfRelay:
		x := g.p.Relays[l.Does]
		input, err := g.filled(l)
		if err == nil && x != nil {
			input, err = ReadInput(x, input)
		}
		if err != nil {
			return g.bad(l, v, "input", err)
		}
		return one(ledger.New(step, &ledger.FrameOpened{Relay: l.Does, Input: input, Why: "the leg " + l.Name + " goes through it"}))
	case project.LegTogether, project.LegSet, project.LegChoose, project.LegFinish:
	}
	panic(fmt.Sprintf("loop: a leg that is a %s opens nothing", l.Kind))
}

// say gives what the agent of a leg is told: what the file says, or the input of the relay
// and the value of the leg before.
func (g *going) say(l *project.Leg) (string, error) {
	if l.Say != nil {
		text, err := l.Say.Fill(g.vars())
		return g.remarked(text), err
	}
	parts := []string{Told(g.r, g.f.Input, "\n")}
	if g.n > 0 {
		parts = append(parts, expr.Show(g.item))
	}
	if last := g.f.Last; last != nil && last.Left.Answer != "" {
		parts = append(parts, last.Leg+": "+last.Left.Answer)
	}
	return g.remarked(strings.TrimSpace(strings.Join(parts, "\n\n"))), nil
}

// Told gives the input of a relay as a text: its one field, or each by its name, parted by sep.
func Told(r *project.Relay, input map[string]any, sep string) string {
	keys := make([]string, 0, len(input))
	for k := range input {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	if text, ok := input[strings.Join(keys, "")].(string); ok && len(keys) == 1 {
		return text
	}
	var lines []string
	for _, k := range keys {
		lines = append(lines, k+": "+expr.Show(input[k]))
	}
	return strings.Join(lines, sep)
}

// filled gives what a leg gives its tool or relay.
func (g *going) filled(l *project.Leg) (json.RawMessage, error) {
	v, err := l.With.Fill(g.vars())
	if err != nil {
		return nil, err
	}
	return json.Marshal(value.Plain(v))
}

// ReadInput holds an input against that of a relay, puts right what can be, and gives it as
// JSON.
func ReadInput(r *project.Relay, raw json.RawMessage) (json.RawMessage, error) {
	given, err := value.Read(raw)
	if err != nil {
		return nil, fmt.Errorf("the input of %s cannot be read as JSON: %w", r.Name, err)
	}
	fixed, _, faults := r.Input.Repair(given)
	if len(faults) > 0 {
		return nil, fmt.Errorf("the input does not fit %s: %s", r.Name, schema.Say(faults))
	}
	return json.Marshal(fixed)
}

func (g *going) text(v any) json.RawMessage {
	raw, err := json.Marshal(value.Plain(v))
	if err != nil {
		panic("what an expression gives is JSON: " + err.Error())
	}
	return raw
}

// end ends the relay with the value of its last leg.
func (g *going) end() []Action {
	last := g.f.Last.Left
	if !last.Outcome.Well() {
		prob := *last.Problem
		if g.f.Last.Entered.Kind != string(project.LegOfRelay) { // that has said where
			prob.Say = fmt.Sprintf("%s (%s, at the leg %s)", strings.TrimSuffix(prob.Say, "."), strings.Join(chain(g.t), " → "), g.f.Last.Leg)
		}
		return one(ledger.New(g.t.ID(), &ledger.FrameClosed{Outcome: ledger.EndFailed, Problem: &prob, Why: "its leg " + g.f.Last.Leg + " failed"}))
	}
	closed := &ledger.FrameClosed{Outcome: ledger.EndDone, Answer: last.Answer, Value: last.Value, Why: "no leg is left"}
	if g.r.Remember != nil && g.t.ID() == ledger.Root {
		said, err := g.r.Remember.Fill(g.vars())
		if err != nil {
			return fail(g.t, ledger.Problem{Class: "relay", Say: fmt.Sprintf("%s: remember of the relay %s could not be evaluated: %v", g.r.Place, g.r.Name, err)}, "what the session is to keep is not known")
		}
		closed.Said = said
	}
	return one(ledger.New(g.t.ID(), closed))
}
