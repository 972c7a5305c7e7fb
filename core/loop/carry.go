package loop

import (
	"encoding/json"
	"fmt"
	"sort"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/value"
)

// carry says what the calls of the newest turn need: reads at once, writes one
// by one in call order, handoffs last.
func carry(p *project.Project, s *run.State) []Action {
	t := s.Turn
	var acts []Action
	reads := 0
	for _, c := range t.Calls {
		if c.Progress == run.InFlight && c.Decided.Effect == ledger.Read {
			reads++
		}
	}
	blocked := ""          // a write before this one that did not return
	writeBusy := false     // a write before this one that has not ended
	var passes []*run.Call // handoffs
	for _, c := range t.Calls {
		d := c.Decided
		if d.Verdict == ledger.Pass {
			passes = append(passes, c)
			continue
		}
		write := d.Effect != ledger.Read && d.Verdict != ledger.Refuse
		if c.Progress.Over() {
			if write && c.Progress != run.Returned && blocked == "" {
				blocked = d.Tool
			}
			continue
		}
		if d.Verdict == ledger.Refuse {
			acts = append(acts, Record{ledger.New(c.Step, &ledger.CallRefused{Words: d.Words, Why: d.Why})})
			continue
		}
		if write && blocked != "" {
			if c.Ticket.Open() {
				acts = append(acts, Record{ledger.New(c.Step, &ledger.GateSettled{Verb: ledger.Withdrawn, Why: blocked + " did not succeed before it"})})
			}
			acts = append(acts, Record{ledger.New(c.Step, &ledger.CallRefused{
				Words: fmt.Sprintf("%s was not done, because %s before it did not succeed.", d.Tool, blocked), Why: "a write before it did not return"})})
			continue
		}
		if c.Progress == run.Decided && d.Verdict == ledger.Gate {
			acts = append(acts, before(p, s, c))
		}
		acts = append(acts, settle(s, c)...)
		ready, why := startable(s, c)
		switch {
		case !ready:
		case write && writeBusy:
		case !write && reads >= readsAtOnce:
		default:
			if words, hit := stillRejected(p, s, c); hit {
				acts = append(acts, Record{ledger.New(c.Step, &ledger.CallRefused{Words: words, Why: "a rule of the tool rejects it now (unless), though a person agreed"})})
				break
			}
			if !write {
				reads++
			}
			acts = append(acts, start(p, s, c, why))
		}
		if write {
			writeBusy = true
		}
	}
	for _, c := range t.Calls {
		if c.Decided.Verdict != ledger.Pass && !c.Progress.Over() {
			return acts
		}
	}
	if len(acts) > 0 {
		return acts
	}
	return handOver(s, passes, blocked)
}

// before gives what comes before a person is asked about a call: a look at what it
// would do, where its tool can be looked at, and a refusal where that shows that it
// cannot succeed; then the ticket.
func before(p *project.Project, s *run.State, c *run.Call) Action {
	switch tool := p.Tools[c.Decided.Tool]; {
	case c.Looked == nil && tool.Looks() && !stubbed(s, c):
		return Look{Tool: tool, Call: c}
	case c.Looked != nil && c.Looked.Words != "":
		return Record{ledger.New(c.Step, &ledger.CallRefused{Words: c.Looked.Words, Why: "it cannot succeed, so nobody is asked"})}
	}
	return Record{ticket(p, s, c)}
}

// Looked gives the event of a look: the difference that the call would make, or the
// failure that it would be.
func Looked(t *project.Tool, step, diff string, f *Failure) ledger.Event {
	d := &ledger.CallLooked{Diff: diff, Why: "what the call would do is looked at before a person is asked"}
	if f != nil {
		d.Words = fmt.Sprintf("%s was not called: %s.", t.Name, strings.TrimSuffix(f.Say, "."))
	}
	return ledger.New(step, d)
}

// startable says whether a call has nothing to wait for but its turn in line.
func startable(s *run.State, c *run.Call) (bool, string) {
	switch c.Progress {
	case run.Decided:
		return c.Decided.Verdict == ledger.Start, c.Decided.Why
	case run.Allowed:
		return true, settledWhy(c)
	case run.Again:
		return c.Fired, fmt.Sprintf("attempt %d failed, and the wait after it is over", c.Attempt)
	case run.CallLost:
		return s.Lost[c.Step] < maxLost && mayRepeat(c), "the service came back; whether this call had been answered is not known, and it may be sent again"
	case run.Waiting, run.InFlight, run.Unsure, run.Settled, run.Returned, run.CallFailed, run.CallRefused:
		return false, ""
	}
	panic(fmt.Sprintf("loop: a call has no progress %d", c.Progress))
}

func settledWhy(c *run.Call) string {
	st := c.Ticket.Settled
	switch {
	case st.Verb == ledger.Lapsed:
		return "the ticket lapsed, and its gate then allows"
	case st.Verb == ledger.Amend:
		return st.By + " changed the values and allowed it"
	case st.Verb == ledger.NotHappened:
		return st.By + " says that it did not happen: it is done now"
	}
	return st.By + " allowed it"
}

// mayRepeat says whether a call whose outcome is unknown may be sent again without
// asking anybody.
func mayRepeat(c *run.Call) bool {
	return c.Decided.Effect == ledger.Read || c.Decided.Resend != ""
}

// settle records what a ticket's settlement means for its call, lets the
// deadline of an open one pass, and raises the ticket of an unknown outcome.
func settle(s *run.State, c *run.Call) []Action {
	d := c.Decided
	switch {
	case c.Progress == run.Waiting && c.Ticket.Open() && c.Ticket.Fired:
		return one(ledger.New(c.Step, &ledger.GateSettled{Verb: ledger.Lapsed, Why: "nobody decided in time"}))
	case c.Progress == run.Unsure:
		return one(outcomeTicket(s, c, fmt.Sprintf("%s: %s", d.Tool, c.Failure.Say)))
	case c.Progress == run.CallLost && s.Lost[c.Step] >= maxLost:
		return one(lostTicket(s, c.Step, d.Tool, c.Args))
	case c.Progress == run.CallLost && !mayRepeat(c):
		return one(outcomeTicket(s, c, "the service ended while "+d.Tool+" was under way"))
	case c.Progress == run.Settled:
		return settled(c)
	}
	return nil
}

func settled(c *run.Call) []Action {
	st, d := c.Ticket.Settled, c.Decided
	who := st.By
	switch st.Verb {
	case ledger.RefuseIt:
		words := fmt.Sprintf("Not done: %s refused %s.", who, d.Tool)
		if st.Because != "" {
			words = fmt.Sprintf("Not done: %s refused %s and said: %s", who, d.Tool, st.Because)
		}
		return one(ledger.New(c.Step, &ledger.CallRefused{Words: words, By: who, Why: who + " refused it"}))
	case ledger.Lapsed:
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
		return one(ledger.New(c.Step, &ledger.CallReturned{Result: result, Words: words, By: who}))
	case ledger.Withdrawn:
		return one(ledger.New(c.Step, &ledger.CallRefused{Words: fmt.Sprintf("Not done: the question about %s was withdrawn.", d.Tool), Why: st.Why}))
	case ledger.GiveUp:
		return one(ledger.New(c.Step, &ledger.CallFailed{Attempt: c.Attempt, Outcome: ledger.Unknown, Class: "given_up", Say: who + " gave it up", Final: true,
			Words: fmt.Sprintf("It is not known whether %s was done; %s will not try it again.", d.Tool, who), Why: who + " gave it up"}))
	}
	panic(fmt.Sprintf("loop: a ticket that was settled by %q decides nothing about its call", st.Verb))
}

func outcomeTicket(s *run.State, c *run.Call, why string) ledger.Event {
	g := &ledger.GateRaised{Form: ledger.OutcomeTicket, Agent: s.Turn.Agent, Tool: c.Decided.Tool, Args: c.Args, Why: why + "; a write of unknown outcome is not sent again without asking",
		Ask: fmt.Sprintf("Did %s happen? %s.", c.Decided.Tool, upper(why))}
	g.Shown = Shown(g)
	return ledger.New(c.Step, g)
}

func lostTicket(s *run.State, step, tool string, args json.RawMessage) ledger.Event {
	what := "a turn of " + s.Turn.Agent
	if tool != "" {
		what = "a call of " + tool
	}
	if args == nil {
		args = json.RawMessage("{}")
	}
	g := &ledger.GateRaised{Form: ledger.OutcomeTicket, Agent: s.Turn.Agent, Tool: tool, Args: args, Why: fmt.Sprintf("%s was under way each of the %d times the service ended", what, maxLost),
		Ask: fmt.Sprintf("The service has ended %d times during %s. Try it once more?", maxLost, what)}
	g.Shown = Shown(g)
	return ledger.New(step, g)
}

func upper(s string) string {
	if s == "" {
		return s
	}
	r, n := utf8.DecodeRuneInString(s)
	return string(unicode.ToUpper(r)) + s[n:]
}

// stillRejected looks at the rules of a tool once more after a person agreed:
// the world, or the values, may have changed while they thought about it.
func stillRejected(p *project.Project, s *run.State, c *run.Call) (words string, hit bool) {
	t := p.Tools[c.Decided.Tool]
	if c.Progress != run.Allowed || t == nil || len(t.Unless) == 0 {
		return "", false
	}
	return Rejected(t, callVars(p, s, t, c))
}

// stubbed says whether a stub answers the call.
func stubbed(s *run.State, c *run.Call) bool {
	return s.Opened.Tools == ledger.ToolsStubs || c.Decided.Rung.Stubs(c.Decided.Effect)
}

func start(p *project.Project, s *run.State, c *run.Call, why string) Action {
	stub := stubbed(s, c)
	st := &ledger.CallStarted{Attempt: c.Attempt + 1, Key: ledger.Key(s.Run, c.Step), Stub: stub, Why: why}
	return Call{Event: ledger.New(c.Step, st), Tool: p.Tools[c.Decided.Tool], Call: c, Started: st}
}

// handOver carries out the first handoff of the turn when every other call has ended.
func handOver(s *run.State, passes []*run.Call, blocked string) []Action {
	var acts []Action
	for _, c := range passes {
		d := c.Decided
		if c.Progress.Over() {
			continue
		}
		if blocked != "" {
			acts = append(acts, Record{ledger.New(c.Step, &ledger.CallRefused{Words: fmt.Sprintf("Not handed over to %s, because %s did not succeed.", d.To, blocked), Why: "a write before it did not return"})})
			continue
		}
		var args struct{ Because string }
		_ = json.Unmarshal(d.Args, &args) // written by decidePass
		words := fmt.Sprintf("%s has handed over; %s now talks to the person.", s.Agent, d.To)
		acts = append(acts,
			Record{ledger.New(c.Step, &ledger.CallReturned{Result: json.RawMessage(`{"baton":"` + d.To + `"}`), Words: words})},
			Record{ledger.New(c.Step, &ledger.BatonPassed{From: s.Agent, To: d.To, Because: args.Because, Words: words, Why: d.Why})})
	}
	return acts
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
	return strings.TrimSuffix(say, ".") + ". "
}

// backoff gives when to try again: doubled each attempt from half a second,
// at most 30 s, between half and the whole of it by jitter from 0 to 1.
func backoff(now time.Time, attempt int, after time.Duration, jitter float64) *time.Time {
	d := 500 * time.Millisecond << min(attempt-1, 6)
	d = min(d, 30*time.Second)
	d = d/2 + time.Duration(float64(d/2)*jitter)
	if after > d {
		d = after
	}
	t := now.Add(d)
	return &t
}
