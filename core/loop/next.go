package loop

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/value"
)

// Bounds of the loop that no file sets.
const (
	readsAtOnce = 8 // reads of a run that are carried out side by side
	turnsAtOnce = 8 // turns of a run, on as many threads
	maxLost     = 3 // times a step may be lost before a person is asked
)

// Action is one thing that has to happen: Record, AskModel, Look or CallTool.
type Action interface{ action() }

// Record is an event to append; nothing else follows from it but what Next says then.
type Record struct{ Event ledger.Event }

// AskModel is a turn: append Event, its intent, then send Built.
type AskModel struct {
	Event ledger.Event
	Built prompt.Built
}

// Look is a look at what a call would do, and at what its rules and its gate look up, without any
// consequence, before a person is asked or the call starts: take it, and append what Looked gives.
type Look struct {
	Tool  *project.Tool
	Call  *run.Call
	Diff  bool // what the call would do can be seen
	Stub  bool // in a world of its own, since its calls go to stubs
	Reads []Read
	Why   string
}

// Read is a read that is made for a call, of its own: for a rule of its tool, or for its gate.
type Read struct {
	Name string // of its result
	Rule bool   // what is not there is null, since a rule may be about that
	Tool *project.Tool
	Args any
	Bad  *deed.Failure // why it cannot be made; nil: it can
	Stub bool
}

// CallTool is a tool call: append Event, its intent, then carry it out.
type CallTool struct {
	Event   ledger.Event
	Tool    *project.Tool
	Call    *run.Call
	Started *ledger.CallStarted
}

func (Record) action()   {}
func (AskModel) action() {}
func (Look) action()     {}
func (CallTool) action() {}

// Next gives what has to happen now and has not begun: one pass. It is empty when the
// run waits: for a deed in flight, for a person, for time, or for ever. It depends on what
// it is given alone; at dates the events of the pass, and every request built in it.
//
// While the run is ending a pass gives only what ends, the deepest threads first. Else it
// gives what is to be recorded, thread by thread in the order in which they were opened;
// and where nothing is, what begins: one turn or call of each thread in turn, as far as the
// budgets go.
func Next(p *project.Project, s *run.State, at time.Time) []Action {
	if s.Opened() == nil || !s.Able() {
		return nil
	}
	if s.Ending() {
		return ending(p, s, at)
	}
	if s.TimeUp() {
		return one(ledger.New("", timeUp(p, s)))
	}
	var acts []Action
	for _, t := range s.Threads() {
		if !t.Able() || t.Late() {
			continue
		}
		mine := recordsOf(p, s, t, at)
		if len(mine) == 1 && is(mine[0], ledger.KindLimitReached) {
			return mine // nothing goes on beside it
		}
		acts = append(acts, mine...)
	}
	if len(acts) > 0 {
		return acts
	}
	return grants(p, s, at)
}

func is(a Action, k ledger.Kind) bool {
	r, ok := a.(Record)
	return ok && r.Event.Kind == k
}

func one(e ledger.Event) []Action { return []Action{Record{e}} }

// recordsOf says what is to be recorded of a thread.
func recordsOf(p *project.Project, s *run.State, t *run.Thread, at time.Time) []Action {
	switch {
	case t.Frame() != nil:
		return course(p, s, t, at)
	case !t.Speaks():
		return begin(s)
	}
	if t.Hooking() {
		return nil // what the hook calls comes first
	}
	if acts := hooked(p, s, t); acts != nil {
		return acts
	}
	u := t.Turn()
	if u == nil {
		return over(p, s, t)
	}
	switch u.Phase {
	case run.Sent, run.AskPeople, run.Retrying:
		return nil
	case run.TurnLost:
		if s.Lost(u.Step) >= maxLost {
			return one(lostTicket(u.Agent, u.Step, "", nil, nil))
		}
		return nil
	case run.TurnOver:
		prob := ledger.Problem{Class: "given_up", Say: "a person gave this turn up"}
		if u.Problem != nil {
			prob = *u.Problem
		}
		return fail(t, prob, "the turn brought no reply")
	case run.Received:
	default:
		panic(fmt.Sprintf("loop: a turn has no phase %d", u.Phase))
	}
	if len(u.Reply.Calls) == 0 {
		acts := answer(p, s, t)
		if len(acts) == 1 && (is(acts[0], ledger.KindRunClosed) || is(acts[0], ledger.KindThreadClosed)) {
			if before := leaving(p, s, t); before != nil {
				return before
			}
		}
		return acts
	}
	if !u.Decided() {
		return decide(p, s, t)
	}
	if acts := records(p, s, t); len(acts) > 0 || !u.Over() {
		return acts
	}
	if u.N == 0 {
		return called(t, u.Calls[0])
	}
	if acts := lapsed(t); acts != nil {
		return acts
	}
	if c := u.Calls[0]; len(u.Calls) == 1 && c.Progress == run.Returned && p.Tools[c.Decided.Tool] != nil && p.Tools[c.Decided.Tool].Direct {
		return end(t, ledger.EndDone, c.Words, nil, c.Decided.Tool+" is direct: its result is the answer")
	}
	return over(p, s, t)
}

// over says what a limit that forbids a thread's next turn brings about: the end of the
// thread, or of the run.
func over(p *project.Project, s *run.State, t *run.Thread) []Action {
	if prob := overOwn(p, t); prob != nil {
		return fail(t, *prob, "a limit is reached")
	}
	return reached(p, s, t)
}

// end ends a thread or a relay; the main thread's end is the run's.
func end(t *run.Thread, outcome ledger.End, answer string, prob *ledger.Problem, why string) []Action {
	switch {
	case t.Frame() != nil:
		return one(ledger.New(t.ID(), &ledger.FrameClosed{Outcome: outcome, Answer: answer, Problem: prob, Why: why}))
	case t.Parent() != nil:
		return one(ledger.New(t.ID(), &ledger.ThreadClosed{Outcome: outcome, Answer: answer, Problem: prob, Why: why}))
	}
	status := ledger.Done
	if outcome != ledger.EndDone {
		status = ledger.Failed
	}
	return one(ledger.New("", &ledger.RunClosed{Status: status, Answer: answer, Problem: prob, Why: why}))
}

func fail(t *run.Thread, prob ledger.Problem, why string) []Action {
	return end(t, ledger.EndFailed, "", &prob, why)
}

// called closes what was one call that no model made: a run, or a leg.
func called(t *run.Thread, c *run.Call) []Action {
	if t.IsHook() {
		return hookCalled(t, c)
	}
	if t.Parent() != nil {
		if c.Progress == run.Returned {
			return one(ledger.New(t.ID(), &ledger.ThreadClosed{Outcome: ledger.EndDone, Answer: c.Words, Value: c.Result, Why: "the call has returned"}))
		}
		class := "refused"
		if c.Failure != nil {
			class = c.Failure.Class
		}
		return fail(t, ledger.Problem{Class: "call." + class, Say: c.Words}, "the call did not return")
	}
	if c.Progress == run.Returned {
		return one(ledger.New("", &ledger.RunClosed{Status: ledger.Done, Answer: c.Words, Why: "the call has returned"}))
	}
	class := "refused"
	if c.Failure != nil {
		class = c.Failure.Class
	}
	return one(ledger.New("", &ledger.RunClosed{Status: ledger.Failed, Problem: &ledger.Problem{Class: "call." + class, Say: c.Words}, Why: "the call did not return"}))
}

// hookCalled ends the call of a hook. What it has set is the thread's on which it was fired,
// which has waited for it.
func hookCalled(t *run.Thread, c *run.Call) []Action {
	closed := &ledger.ThreadClosed{Outcome: ledger.EndDone, Answer: c.Words, Value: c.Result, Why: "the call has returned"}
	if c.Progress != run.Returned {
		closed = &ledger.ThreadClosed{Outcome: ledger.EndFailed, Problem: &ledger.Problem{Class: "call", Say: c.Words}, Why: "the call did not return"}
	}
	acts := one(ledger.New(t.ID(), closed))
	if change := Change(t.Parent().Facts(), t.Facts()); change != nil {
		acts = append(acts, Record{ledger.New(t.ID(), &ledger.StateChanged{Patch: change, Why: "a hook left it so"})})
	}
	return acts
}

func answer(p *project.Project, s *run.State, t *run.Thread) []Action {
	u := t.Turn()
	if u.Revise() {
		return over(p, s, t)
	}
	if u.Reply.Finish == "length" {
		return end(t, ledger.EndFailed, u.Reply.Text, &ledger.Problem{Class: "model.length", Say: fmt.Sprintf("the model %q stopped at its length limit, so the reply is cut off", u.Model), Remedy: "Raise max_tokens of the model, or ask for less."}, "the reply was cut")
	}
	var val json.RawMessage
	if shape := prompt.AnswerOf(p, t); shape != nil {
		v, acts := shaped(t, shape)
		if acts != nil {
			return acts
		}
		val = v
	}
	if g := prompt.GoodOf(p, t); g != nil {
		return judged(p, s, t, g, val)
	}
	return through(p, s, t, ledger.EndDone, u.Reply.Text, val, "", "no calls left: this is the answer")
}

// closing ends a thread with an answer: a text, or a value where it is more than that.
func closing(t *run.Thread, outcome ledger.End, text string, val json.RawMessage, remarks, why string) []Action {
	if val != nil {
		text = string(val)
	}
	if t.Parent() == nil {
		return one(ledger.New("", &ledger.RunClosed{Status: ledger.Done, Answer: text, Remarks: remarks, Why: why}))
	}
	return one(ledger.New(t.ID(), &ledger.ThreadClosed{Outcome: outcome, Answer: text, Value: val, Remarks: remarks, Why: why}))
}

// shaped holds an answer against the schema that it has to fit, and gives it as JSON. One that
// does not fit is sent back once, with its faults; then the thread fails.
func shaped(t *run.Thread, shape *schema.Schema) (json.RawMessage, []Action) {
	u := t.Turn()
	v, faults := ReadAnswer(shape, u.Reply.Text)
	if faults == "" {
		raw, err := json.Marshal(v)
		if err != nil {
			panic("a value that was read is JSON: " + err.Error())
		}
		return raw, nil
	}
	if t.Revised(ledger.AnswerFits) == 0 {
		return nil, one(ledger.New(u.Step.Guardrail(1), &ledger.GuardrailSettled{Guardrail: ledger.AnswerFits, Verdict: ledger.Revise, Why: "the answer does not fit its schema: " + faults,
			Words: "Your answer does not fit: " + faults + ". Answer again, with one JSON value that fits the schema and nothing else."}))
	}
	return nil, fail(t, ledger.Problem{Class: "answer", Say: fmt.Sprintf("the answer of %s does not fit its schema: %s", t.Agent(), faults), Remedy: "Ask for less in answer:, or say in the instructions what each field is."}, "it was sent back once already")
}

// ReadAnswer reads an answer that has to fit a schema: JSON, alone or within a fence of
// code. Faults are told in words; "" is none.
func ReadAnswer(shape *schema.Schema, text string) (v any, faults string) {
	text = strings.TrimSpace(text)
	if rest, ok := strings.CutPrefix(text, "```"); ok {
		_, rest, _ = strings.Cut(rest, "\n")
		text, _, _ = strings.Cut(rest, "```")
	}
	v, err := value.Read([]byte(strings.TrimSpace(text)))
	if err != nil {
		if v, _, wrong := shape.Repair(text); len(wrong) == 0 || shape.Doc()["type"] == "string" { // a text, in words
			return v, schema.Say(wrong)
		}
		return nil, fmt.Sprintf("it is not JSON (%v)", err)
	}
	v, _, wrong := shape.Repair(v)
	return v, schema.Say(wrong)
}

// grants says what begins now: one turn or call of each thread in turn, as far as the
// budgets go.
func grants(p *project.Project, s *run.State, at time.Time) []Action {
	reads := readsAtOnce
	var begun begun
	var acts []Action
	waiting := map[*run.Thread][]Action{} // reads of each thread, in call order
	var order []*run.Thread
	for _, t := range s.Threads() {
		u := t.Turn()
		if u != nil {
			reads -= u.Reading()
		}
		if !t.Able() || t.Late() || t.Hooking() {
			continue
		}
		if wants, why, again := wants(s, t); wants {
			if s.Asking()+begun.turns >= turnsAtOnce {
				continue
			}
			acts = append(acts, turn(p, s, t, at, why, again, &begun)...)
			continue
		}
		if u == nil || !u.Decided() {
			continue
		}
		r, write := ready(p, s, t)
		if write != nil {
			acts = append(acts, write)
		}
		if len(r) > 0 {
			waiting[t], order = r, append(order, t)
		}
	}
	for reads > 0 && len(order) > 0 {
		var more []*run.Thread
		for _, t := range order {
			if reads <= 0 {
				break
			}
			acts = append(acts, waiting[t][0])
			reads--
			if waiting[t] = waiting[t][1:]; len(waiting[t]) > 0 {
				more = append(more, t)
			}
		}
		order = more
	}
	return acts
}

// begun is what the turns of a pass take of the budgets.
type begun struct {
	turns int
	aside ledger.Reserve
}

// wants says whether a thread has a turn to send: its next, or the newest once more.
func wants(s *run.State, t *run.Thread) (wants bool, why string, again bool) {
	u := t.Turn()
	switch {
	case !t.Speaks():
		return false, "", false
	case u == nil && t.Opener() != nil:
		return true, asker(t) + " asks", false
	case u == nil && t.Judges():
		return true, "an answer is to be judged", false
	case u == nil && t.Parent() != nil:
		v, _ := t.Visit()
		return true, "the leg " + v.Leg + " begins", false
	case u == nil:
		return true, "a message came in", false
	case u.Phase == run.Retrying && u.Fired:
		return true, fmt.Sprintf("attempt %d failed, and the wait after it is over", u.Attempt), true
	case u.Phase == run.TurnLost:
		return true, "the service came back; what this turn would have answered was lost", true
	case !t.Wants():
		return false, "", false
	case t.Agent() != u.Agent:
		return true, t.Agent() + " holds the baton", false
	case u.Revise():
		return true, fmt.Sprintf("the answer of turn %d was sent back", u.N), false
	case len(u.Calls) == 1:
		return true, fmt.Sprintf("the call of turn %d has ended", u.N), false
	}
	return true, fmt.Sprintf("all calls of turn %d have ended", u.N), false
}

// turn sends the next turn of a thread, or the newest once more. Where turns in flight have
// taken what is left of a limit it waits for them. Begun counts the turns of the same pass.
func turn(p *project.Project, s *run.State, t *run.Thread, at time.Time, why string, again bool, begun *begun) []Action {
	n, attempt, model := t.Turns()+1, 1, s.Opened().Model
	if again {
		u := t.Turn()
		n, attempt, model = u.N, u.Attempt+1, u.Model
	} else {
		if s.Turns()+begun.turns >= turnsOf(p, s) || overLimit(p, s, t) != nil {
			return nil // it waits for what is in flight, or for people who may give more
		}
		if a := p.Agent(t.Agent()); model == "" && a != nil {
			model = a.Model
		}
	}
	if acts, waits := pause(p, s, t, n, again, why); waits {
		return acts
	}
	b, err := prompt.Build(p, s, t, model, at)
	if err != nil {
		return fail(t, ledger.Problem{Class: "prompt", Say: err.Error(), Remedy: "Fix the project's file and ask again."}, "the request could not be made")
	}
	reserve, fits := reserve(p, s, b, begun.aside)
	if !fits && s.Asking()+begun.turns > 0 {
		return nil
	}
	begun.turns++
	if reserve != nil {
		begun.aside.Tokens += reserve.Tokens
		begun.aside.Cost += reserve.Cost
	}
	step := t.ID().Turn(n)
	b.Step = step
	skip, kept, added := prompt.Delta(t.Sent(), b.Hashes)
	return []Action{AskModel{Built: b, Event: ledger.New(step, &ledger.TurnSent{Agent: t.Agent(), Model: model, N: n, Attempt: attempt,
		System: b.SystemHash, Tools: b.ToolsHash, Skip: skip, Kept: kept, Added: added, Temp: b.Temperature, Reserve: reserve, Why: why})}}
}
