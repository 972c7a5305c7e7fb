package loop

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/scope"
	"stonebaton.example/core/value"
)

// decide takes the verdicts on all calls of a thread's newest turn, at once and on
// the state as it was when the reply came.
func decide(p *project.Project, s *run.State, t *run.Thread) []Action {
	u := t.Turn()
	var acts []Action
	calls, most := s.Calls(), limitsOf(p, s).Calls
	passed := false
	for _, c := range u.Calls { // recorded already, where a batch was cut
		passed = passed || c.Decided.Verdict == ledger.Pass
	}
	for i := len(u.Calls); i < len(u.Reply.Calls); i++ {
		a := u.Reply.Calls[i]
		d := &ledger.CallDecided{Of: u.Step, N: i + 1, ID: a.ID, Tool: a.Tool}
		if to, ok := strings.CutPrefix(a.Tool, project.PassPrefix); ok {
			decidePass(p, t, d, a, to, passed)
			passed = passed || d.Verdict == ledger.Pass
		} else if calls++; calls > most {
			d.Verdict, d.Beyond, d.Why = ledger.Refuse, true, fmt.Sprintf("the run's %d calls are used up", most)
			d.Words = fmt.Sprintf("%s was not called: this run may make %d calls, and they are used up. Answer with what you have.", a.Tool, most)
		} else if l := prompt.Planned(p, t); l != nil && a.Tool == project.NextStep {
			decideStep(p, s, t, d, a, l)
		} else if to, ok := strings.CutPrefix(a.Tool, project.ConsultPrefix); ok && p.Tools[a.Tool] == nil {
			decideConsult(p, s, t, d, a, to)
		} else if r := p.Relays[a.Tool]; r != nil {
			decideCourse(p, s, t, d, a, r)
		} else if l := prompt.LegOf(p, t); a.Tool == project.GateOfLeg && u.N == 0 && l != nil && l.Kind == project.LegGate {
			decideText(d, a, l)
		} else if a.Tool == project.AskPerson && p.Tools[a.Tool] == nil {
			decideAsk(p, s, t, d, a)
		} else {
			decideCall(p, s, t, d, a)
		}
		acts = append(acts, Record{ledger.New(u.Step.Call(i+1), d)})
	}
	return acts
}

func decidePass(p *project.Project, t *run.Thread, d *ledger.CallDecided, a ledger.Ask, to string, passed bool) {
	agent := p.Agents[t.Agent()]
	refuse := func(why, words string) { d.Verdict, d.Why, d.Words = ledger.Refuse, why, words }
	switch {
	case agent == nil || !slices.Contains(agent.PassesTo, to):
		var have []string
		if agent != nil {
			have = agent.PassesTo
		}
		whom := "You cannot hand over to anybody."
		if len(have) > 0 {
			whom = "You can hand over to: " + near.List(have) + "."
		}
		refuse("there is no such handoff", fmt.Sprintf("%s cannot hand over to %.100q.%s %s", t.Agent(), to, near.Hint(to, have), whom))
	case passed:
		refuse("one handoff in a turn: the first one wins", "Not handed over to "+to+": another handoff of the same turn came first.")
	case t.Row() >= p.Limits.Passes:
		refuse(fmt.Sprintf("%d handoffs in a row are the limit", p.Limits.Passes), fmt.Sprintf("Not handed over: the conversation has been handed over %d times with nothing done between. Answer the person, or say what is missing.", t.Row()))
	default:
		var args struct{ Because string }
		_ = json.Unmarshal([]byte(a.Args), &args) // a reason that cannot be read is no reason not to hand over
		raw, _ := json.Marshal(map[string]string{"because": args.Because})
		d.Verdict, d.To, d.Args, d.Why = ledger.Pass, to, raw, "handoffs come last"
	}
}

// decideCall takes the verdict on one tool call.
func decideCall(p *project.Project, s *run.State, t *run.Thread, d *ledger.CallDecided, a ledger.Ask) {
	refuse := func(why, words string) { d.Verdict, d.Why, d.Words = ledger.Refuse, why, words }
	tool := p.Tools[a.Tool]
	if !mayCall(p, s, t, a.Tool) {
		have := callable(p, s, t)
		list := "You have no tools."
		if len(have) > 0 {
			list = "Your tools: " + near.List(have) + "."
		}
		who := t.Agent()
		if who == "" {
			who = "the project"
		}
		refuse(fmt.Sprintf("%s has no tool %.100q", who, a.Tool), fmt.Sprintf("Unknown tool %.100q.%s %s", a.Tool, near.Hint(a.Tool, have), list))
		return
	}
	d.Effect, d.Resend, d.Rung = tool.Effect, tool.Resend, RungOf(s.Opened(), tool)
	args, ok := readArgs(s, t, d, tool, a.Args)
	if !ok {
		return
	}
	u := t.Turn()
	vars := vars(p, s, u, tool, args)
	if words, hit := Rejected(tool, tool.Unless, vars); hit {
		refuse("a rule of the tool rejects it (unless)", words)
		return
	}
	why, held := gated(tool, vars, d.Rung, s.Agreed(tool.Name))
	if a := p.Agent(t.Agent()); !held && u.N > 0 && s.Steps(ledger.AtCalls, placesOf(a)) {
		d.Step, held, why = true, true, "a person looks at every call (person_at: calls)"
	}
	if !held {
		d.Verdict = ledger.Start
		switch n := len(u.Reply.Calls); {
		case s.Opened().Call != nil:
			d.Why = "a call from outside"
		case u.N == 0:
			d.Why = map[bool]string{true: "a step of the plan makes the call", false: "the leg makes the call"}[t.Opener() != nil]
			if t.IsHook() {
				d.Why = "a hook makes the call"
			}
		case tool.Effect == ledger.Read && n == 1:
			d.Why = fmt.Sprintf("turn %d made one call, a read: it starts at once", u.N)
		case tool.Effect == ledger.Read:
			d.Why = fmt.Sprintf("turn %d made %d calls; reads start at once", u.N, n)
		case n == 1:
			d.Why = fmt.Sprintf("turn %d made one call", u.N)
		default:
			d.Why = fmt.Sprintf("turn %d made %d calls; writes go one by one", u.N, n)
		}
		return
	}
	d.Verdict, d.Why, d.Lapse = ledger.Gate, why, ledger.LapseRefuses
	if tool.Gate != nil && !d.Step {
		d.Lapse = tool.Gate.Lapse
	}
}

// mayCall says whether who acts on a thread has a tool: an agent has its own, a
// call from outside has all.
func mayCall(p *project.Project, s *run.State, t *run.Thread, tool string) bool {
	if p.Tools[tool] == nil || s.Opened().Tools == ledger.ToolsOff {
		return false
	}
	a := p.Agents[t.Agent()]
	return t.Turn().N == 0 || (a != nil && slices.Contains(a.Tools, tool))
}

// callable lists what who acts on a thread may call, consults and handoffs too.
func callable(p *project.Project, s *run.State, t *run.Thread) []string {
	var have []string
	if s.Opened().Tools == ledger.ToolsOff {
		return nil
	}
	if s.Opened().Call != nil {
		for n := range p.Tools {
			have = append(have, n)
		}
		slices.Sort(have)
		return have
	}
	if a := p.Agents[t.Agent()]; a != nil {
		have = append(have, a.Tools...)
		for _, c := range a.Consults {
			have = append(have, project.ConsultPrefix+c.Agent)
		}
		for _, h := range a.PassesTo {
			have = append(have, project.PassPrefix+h)
		}
	}
	if prompt.Planned(p, t) != nil {
		have = append(have, project.NextStep)
	}
	if prompt.Asks(p, t) {
		have = append(have, project.AskPerson)
	}
	return have
}

// RungOf gives how far a tool is let in a run: as far as the files say, or lower
// where the run does.
func RungOf(o *ledger.RunOpened, t *project.Tool) ledger.Rung {
	r := t.Rung.Lower(o.Rung).Lower(o.Rungs[t.Name])
	if o.Tools == ledger.ToolsStubs {
		r = ledger.RungStub
	}
	return r
}

// readArgs decodes, repairs and checks the arguments of a call. It refuses what
// cannot be used.
func readArgs(s *run.State, t *run.Thread, d *ledger.CallDecided, tool *project.Tool, text string) (any, bool) {
	refuse := func(why, words string) (any, bool) {
		d.Verdict, d.Why, d.Words = ledger.Refuse, why, words
		return nil, false
	}
	if text = strings.TrimSpace(text); text == "" {
		text = "{}"
	}
	given, err := value.Read([]byte(text))
	if err != nil {
		return refuse("the arguments are not JSON", fmt.Sprintf("%s was not called: its arguments cannot be read as JSON (%s). Send one JSON object.", tool.Name, err))
	}
	d.Args = json.RawMessage(text) // in the order in which the model wrote them
	var b bytes.Buffer
	if json.Compact(&b, d.Args) == nil {
		d.Args = b.Bytes()
	}
	if tool.ReasonFirst {
		m, _ := given.(map[string]any)
		d.Because, _ = m[project.Because].(string)
		if strings.TrimSpace(d.Because) == "" && t.Turn().N > 0 {
			return refuse("no reason was given", fmt.Sprintf("%s was not called: say first, in %q, why you call it.", tool.Name, project.Because))
		}
		delete(m, project.Because)
		d.Args, _ = json.Marshal(given) // it was just read
	}
	val, repairs, faults := tool.Input.RepairExcept(given, t.Knows)
	handles := HandlesIn(t, val)
	faults = slices.DeleteFunc(faults, func(f schema.Fault) bool {
		for at := range handles { // what a handle names is looked at when it is put in
			if f.Path == at || strings.HasPrefix(f.Path, at+"/") {
				return true
			}
		}
		return false
	})
	if len(faults) > 0 {
		return refuse("the arguments do not fit the schema", fmt.Sprintf("%s was not called: %s", tool.Name, deed.Sentence(schema.Say(faults))))
	}
	if len(repairs) > 0 {
		if raw, err := json.Marshal(val); err == nil {
			d.Args = raw
		}
		d.Repairs = append(d.Repairs, schema.SayRepairs(repairs)...)
	}
	return val, true
}

// Rejected gives the words of the first of a tool's rules of unless that holds. A rule that
// cannot be evaluated rejects too: nothing is done on a guess.
func Rejected(t *project.Tool, rules []project.Saying, v expr.Vars) (words string, hit bool) {
	for _, u := range rules {
		yes, err := u.When.True(v)
		if err != nil {
			return fmt.Sprintf("%s was not called: a rule of it failed to evaluate (%v).", t.Name, err), true
		}
		if !yes {
			continue
		}
		words, err := u.Say.Fill(v)
		if err != nil {
			words = fmt.Sprintf("%s was not called: %s.", t.Name, u.When)
		}
		return words, true
	}
	return "", false
}

// Shown is the hash of what a person sees of a ticket. A settlement names it,
// so that nobody agrees to what they did not see.
func Shown(g *ledger.GateRaised, ask string, args json.RawMessage) ledger.Hash {
	return ledger.HashOf([]byte(g.Tool + "\x00" + string(args) + "\x00" + ask + "\x00" + g.Diff))
}

func vars(p *project.Project, s *run.State, u *run.Turn, tool *project.Tool, args any) expr.Vars {
	v := prompt.Vars(p, s, u.Thread, u.At)
	v["state"], v["gate"] = expr.Typed(p.State.Doc(), any(u.Facts)), scope.GateOf("", "")
	v["args"] = expr.Typed(tool.Input.Doc(), args)
	return v
}

// Held says whether a call has to wait for a person on a rung, and why. It
// serves runs and the bench alike.
func Held(t *project.Tool, v expr.Vars, rung ledger.Rung) (why string, held bool) {
	return gated(t, v, rung, ledger.Agreed{})
}

func gated(t *project.Tool, v expr.Vars, rung ledger.Rung, agreed ledger.Agreed) (why string, held bool) {
	asks := rung == ledger.RungAsk && t.Effect != ledger.Read
	const byRung = "rung ask: a person agrees to every call that is not a read"
	g := t.Gate
	if g == nil || (g.First > 0 && (agreed.Spare || agreed.Times >= g.First)) {
		return byRung, asks
	}
	if t.Work.Free != nil && t.Work.Free(v["args"]) {
		return byRung, asks
	}
	reason := "gate: always"
	switch {
	case g.Why != "":
		reason = "gate: " + g.Why
	case g.When != nil:
		reason = "gate: " + g.When.String()
	}
	if g.When == nil {
		return reason, true
	}
	yes, err := g.When.True(v)
	if err != nil {
		return "gate: its condition could not be evaluated (" + err.Error() + "), so a person is asked", true
	}
	if !yes && asks {
		return byRung, true
	}
	return reason, yes
}
