package loop

import (
	"cmp"
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
	"stonebaton.example/core/value"
)

// mostOfAnswer bounds what an asker reads of an answer.
var mostOfAnswer = Most{Rows: 50, Tokens: 6000}

// asker is the agent that opened a thread; "" where none did.
func asker(t *run.Thread) string {
	if t.Opener() == nil {
		return ""
	}
	return t.Opener().Turn.Agent
}

// chain lists the agents from the main thread down to who acts on a thread.
func chain(t *run.Thread) []string {
	names := []string{t.Agent()}
	for ; t.Parent() != nil; t = t.Parent() {
		if up := cmp.Or(asker(t), t.Parent().Agent()); up != names[len(names)-1] {
			names = append(names, up)
		}
	}
	slices.Reverse(names)
	return names
}

// tooDeep refuses what a call would open below a thread that nothing goes below.
func tooDeep(t *run.Thread, d *ledger.CallDecided, to, did, what string) bool {
	depth := t.Depth()
	if depth < project.DeepestConsult {
		return false
	}
	d.Verdict, d.Why = ledger.Refuse, fmt.Sprintf("%s go at most %d deep", what, project.DeepestConsult)
	d.Words = fmt.Sprintf("%s was not %s: %s go at most %d deep, and this one would be %d: %s. Answer with what you know.", to, did, what, project.DeepestConsult, depth+1, strings.Join(append(chain(t), to), " → "))
	return true
}

// decideConsult takes the verdict on a question to another agent.
func decideConsult(p *project.Project, s *run.State, t *run.Thread, d *ledger.CallDecided, a ledger.Ask, to string) {
	refuse := func(why, words string) { d.Verdict, d.Why, d.Words = ledger.Refuse, why, words }
	var x *project.Consult
	var have []string
	if agent := p.Agents[t.Agent()]; agent != nil && s.Opened().Tools != ledger.ToolsOff && s.Opened().Call == nil {
		x = agent.Consulted(to)
		for _, c := range agent.Consults {
			have = append(have, c.Agent)
		}
	}
	if x == nil {
		whom := "You cannot ask any agent."
		if len(have) > 0 {
			whom = "You can ask: " + near.List(have) + "."
		}
		refuse("there is no such consult", fmt.Sprintf("%s cannot ask %.100q.%s %s", t.Agent(), to, near.Hint(to, have), whom))
		return
	}
	if tooDeep(t, d, to, "asked", "consults") {
		return
	}
	if _, ok := readArgs(s, t, d, &project.Tool{Name: a.Tool, Input: x.Params}, a.Args); !ok {
		return
	}
	d.Verdict, d.Opens, d.To, d.Effect, d.Why = ledger.Start, ledger.Consult, to, ledger.Read, "a consult counts as a read: it begins at once"
}

// decideAsk takes the verdict on a question to the person.
func decideAsk(p *project.Project, s *run.State, t *run.Thread, d *ledger.CallDecided, a ledger.Ask) {
	leg := t.Turn().N == 0 && t.Parent() != nil
	if (!prompt.Asks(p, t) && !leg) || s.Opened().Tools == ledger.ToolsOff {
		d.Verdict, d.Why, d.Words = ledger.Refuse, "it may not ask the person", "You cannot ask the person from here. Say in your answer what is missing."
		return
	}
	v, ok := readArgs(s, t, d, &project.Tool{Name: a.Tool, Input: project.AskParams}, a.Args)
	if !ok {
		return
	}
	if m, _ := v.(map[string]any); m["choices"] != nil && m["fields"] != nil {
		d.Verdict, d.Why, d.Words = ledger.Refuse, "a question has choices or fields", "ask_person was not called: give choices or fields, not both."
		return
	}
	d.Verdict, d.Effect, d.Why = ledger.Put, ledger.Read, "only the person can tell"
}

// questionOf gives what a consult, or a question to the person, asks.
func questionOf(args json.RawMessage) (question string, rest map[string]any) {
	rest, _ = value.ReadObject(args) // written by readArgs
	question, _ = rest[project.Question].(string)
	delete(rest, project.Question)
	return question, rest
}

// openConsult begins what a consult decided: its thread, or the answer that the run has
// ready in its place.
func openConsult(p *project.Project, s *run.State, c *run.Call) []Action {
	d, t := c.Decided, c.Turn.Thread
	if canned, ok := s.Opened().Consults[d.To]; ok {
		sent := &ledger.Sent{Method: "STUB", URL: d.To}
		if canned.Fails != "" {
			return one(ledger.New(c.Step, &ledger.CallFailed{Attempt: 1, Outcome: ledger.NotDone, Class: string(deed.Consulted), Say: canned.Fails, Words: unanswered(d.To, canned.Fails, false), Sent: sent, Final: true, Why: "the run has this answer ready"}))
		}
		words, result, handle := answered(s, c, canned.Answer)
		return one(ledger.New(c.Step, &ledger.CallReturned{Result: result, Words: words, Handle: handle, Sent: sent}))
	}
	agent := p.Agents[c.Turn.Agent]
	if agent == nil || agent.Consulted(d.To) == nil {
		return one(ledger.New(c.Step, &ledger.CallRefused{Words: d.To + " cannot be asked any more.", Why: "the consult is not in this version of the project"}))
	}
	x := agent.Consulted(d.To)
	o := &ledger.ThreadOpened{Role: ledger.Consult, Agent: d.To, Say: told(x.Params, c.Args), Asks: x.Asks && (t.Parent() == nil || prompt.Asks(p, t)), Why: c.Turn.Agent + " asks " + d.To}
	if x.Kept {
		o.Line = c.Turn.Agent + "/" + d.To
		o.From = t.LineFrom(o.Line)
	}
	return one(ledger.New(c.Step, o))
}

// Asked gives what an agent is told that is asked with some arguments: the question, and below
// it each field of its input on a line.
func Asked(a *project.Agent, args json.RawMessage) string {
	params, err := a.Params()
	if err != nil {
		return string(args)
	}
	return told(params, args)
}

func told(params *schema.Schema, args json.RawMessage) string {
	say, fields := questionOf(args)
	for i, k := range schema.Keys(params.Doc()) {
		if v, ok := fields[k]; ok && k != project.Question {
			if i == 0 || !strings.Contains(say, "\n\n") {
				say += "\n"
			}
			say += "\n" + k + ": " + expr.Show(v)
		}
	}
	return say
}

// answered gives what an asker reads of an answer, the whole of it, and where the words are
// cut the handle that names the whole.
func answered(s *run.State, c *run.Call, answer string) (words string, result json.RawMessage, handle string) {
	handle = HandleOf(s.Run(), c.Step)
	words, whole := Shorten(mostOfAnswer, answer, handle)
	if whole {
		handle = ""
	}
	if strings.TrimSpace(answer) == "" {
		words = c.Decided.To + " answered with no words."
	}
	result, _ = json.Marshal(answer) // a text can always be written
	return words, result, handle
}

// unanswered gives what an asker reads of a consult that failed.
func unanswered(agent, say string, partly bool) string {
	words := fmt.Sprintf("%s could not answer: %s", agent, deed.Sentence(say))
	if partly {
		words += " Some of what it had to do was done."
	}
	return words
}

// leave records what the end of a thread means for the call that opened it, and the facts
// that it changed.
func leave(p *project.Project, s *run.State, c *run.Call) []Action {
	d, end, t := c.Decided, c.Closed, c.Turn.Thread
	outcome := ledger.NotDone
	if end.Acted {
		outcome = ledger.Partly
	}
	var acts []Action
	switch end.Outcome {
	case ledger.EndDone, ledger.EndShort:
		words, result, handle := answered(s, c, end.Answer)
		if end.Remarks != "" {
			words += "\n\nWhat is open about it: " + end.Remarks
		}
		if end.Value != nil {
			result = end.Value
		}
		acts = one(ledger.New(c.Step, &ledger.CallReturned{Result: result, Words: words, Handle: handle}))
	case ledger.HandedBack:
		words := fmt.Sprintf("%s hands the question back: %s", d.To, end.Answer)
		result, _ := json.Marshal(end.Answer) // a text can always be written
		acts = one(ledger.New(c.Step, &ledger.CallReturned{Result: result, Words: words}))
	case ledger.EndFailed:
		where := strings.Join(append(chain(t), d.To), " → ")
		acts = one(ledger.New(c.Step, &ledger.CallFailed{Attempt: 1, Outcome: outcome, Class: string(deed.Consulted), Final: true, Why: end.Why,
			Say: fmt.Sprintf("%s (%s, on the thread %s)", strings.TrimSuffix(end.Problem.Say, "."), where, c.Step), Words: unanswered(d.To, end.Problem.Say, end.Acted)}))
	case ledger.EndStopped:
		acts = one(ledger.New(c.Step, &ledger.CallFailed{Attempt: 1, Outcome: outcome, Class: string(deed.Stopped), Final: true, Why: end.Why, Say: end.Why, Words: unanswered(d.To, end.Why, end.Acted)}))
	default:
		panic(fmt.Sprintf("loop: a thread does not end as %q", end.Outcome))
	}
	return append(acts, left(t, c.Step, end, d.To)...)
}

// left records the facts that what has ended changed, for what it was opened from.
func left(t *run.Thread, step ledger.StepID, end *run.Result, who string) []Action {
	change := Change(t.Facts(), put(t.Facts(), end.Changed))
	if len(end.Changed) == 0 || change == nil {
		return nil
	}
	why := who + " left it so"
	if len(end.Clashed) > 0 {
		why += "; " + near.List(end.Clashed) + " was changed beside it too, and the later one counts"
	}
	return one(ledger.New(step, &ledger.StateChanged{Patch: change, Why: why}))
}

// question raises the ticket of a question to the person. They see it as that of the agent
// they talk to.
func question(p *project.Project, s *run.State, c *run.Call) ledger.Event {
	text, rest := questionOf(c.Args)
	names := chain(c.Turn.Thread)
	g := &ledger.GateRaised{Form: ledger.QuestionTicket, Agent: names[0], Tool: project.AskPerson, Args: c.Args, Ask: text, Notify: always(p, s),
		Why: names[0] + " asks"}
	wants := project.Wanted(rest)
	if l := prompt.LegOf(p, c.Turn.Thread); l != nil && l.Kind == project.LegAsk {
		wants = l.Answer.Doc()
	}
	if wants != nil {
		g.Wants, _ = json.Marshal(wants) // a schema is JSON
	}
	if last := names[len(names)-1]; last != names[0] {
		g.Why = fmt.Sprintf("%s asks, through %s", last, names[0])
	}
	g.Shown = Shown(g, g.Ask, g.Args)
	return ledger.New(c.Step, g)
}
