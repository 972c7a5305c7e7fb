package loop

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/value"
)

// records says what is to be recorded of the calls of a thread's newest turn: verdicts that
// end a call, tickets, what a settlement means, consults that open, handoffs when all else
// has ended.
func records(p *project.Project, s *run.State, t *run.Thread) []Action {
	u := t.Turn()
	var acts []Action
	add := func(step ledger.StepID, d ledger.Data) { acts = append(acts, Record{ledger.New(step, d)}) }
	blocked := "" // a write before this one that did not return
	busy := false // a write before this one that has not ended
	for _, c := range u.Calls {
		d := c.Decided
		write := d.Effect != ledger.Read && (d.Verdict == ledger.Start || d.Verdict == ledger.Gate)
		switch {
		case d.Verdict == ledger.Pass:
		case c.Progress.Over():
			if write && c.Progress != run.Returned && blocked == "" {
				blocked = d.Tool
			}
		case d.Verdict == ledger.Refuse:
			add(c.Step, &ledger.CallRefused{Words: d.Words, Why: d.Why})
		case write && blocked != "":
			if c.Ticket.Open() {
				add(c.Step, &ledger.GateSettled{Verb: ledger.Withdrawn, Why: blocked + " did not succeed before it"})
			}
			add(c.Step, &ledger.CallRefused{Words: fmt.Sprintf("%s was not done, because %s before it did not succeed.", d.Tool, blocked), Why: "a write before it did not return"})
		case c.Progress == run.Decided && d.Opens != "":
			if !(write && busy) {
				acts = append(acts, open(p, s, c)...)
			}
		case c.Progress == run.Left:
			acts = append(acts, leave(p, s, c)...)
		case c.Progress == run.Decided && d.Verdict == ledger.Put && d.Tool == project.GateOfLeg:
			if l := prompt.LegOf(p, t); l != nil {
				acts = append(acts, Record{textTicket(s, c, l)})
			}
		case c.Progress == run.Decided && d.Verdict == ledger.Put:
			acts = append(acts, Record{question(p, s, c)})
		case c.Progress == run.Decided && d.Verdict == ledger.Gate:
			acts = append(acts, before(p, s, c))
		default:
			acts = append(acts, settle(p, s, c)...)
			if ready, _ := startable(s, c); ready && !(write && busy) {
				acts = append(acts, ruled(p, s, c)...)
			}
		}
		busy = busy || (write && !c.Progress.Over())
	}
	if len(acts) > 0 || u.Plain() > 0 {
		return acts
	}
	return handOver(p, s, t, blocked)
}

// open begins what a call opens in place of being started.
func open(p *project.Project, s *run.State, c *run.Call) []Action {
	switch {
	case c.Decided.Planned > 0:
		return openStep(c)
	case c.Decided.Opens == ledger.Course:
		return openCourse(p, c)
	}
	return openConsult(p, s, c)
}

// ready lists the calls of a thread's newest turn that can start: its reads, and the first
// write that has not ended.
func ready(p *project.Project, s *run.State, t *run.Thread) (reads []Action, write Action) {
	first := true // no write before has not ended
	for _, c := range t.Turn().Calls {
		d := c.Decided
		if c.Progress.Over() || d.Opens == ledger.Consult || (d.Verdict != ledger.Start && d.Verdict != ledger.Gate) {
			continue
		}
		ok, why := startable(s, c)
		switch {
		case d.Effect == ledger.Read:
			if ok && d.Opens == "" {
				reads = append(reads, start(p, s, c, why))
			}
		case first:
			first = false
			if ok && d.Opens == "" {
				write = start(p, s, c, why)
			}
		}
	}
	return reads, write
}

// before gives what comes before a person is asked about a call: a look at what it
// would do, where its tool can be looked at, and at what is looked up for it; a refusal where that
// shows that it cannot succeed, or a rule rejects it; then the ticket.
func before(p *project.Project, s *run.State, c *run.Call) Action {
	tool := p.Tools[c.Decided.Tool]
	stub := stubbed(s, c)
	diff := tool.Work.Looks && (!stub || (tool.Work.Inward && len(tool.Stubs) == 0))
	reads := tool.LooksUp
	if tool.Gate != nil && !c.Decided.Step {
		reads = slices.Concat(reads, tool.Gate.LooksUp)
	}
	switch {
	case c.Looked == nil && (diff || len(reads) > 0):
		return Look{Tool: tool, Call: c, Diff: diff, Stub: stub, Reads: lookups(p, s, c, reads), Why: "what the call would do is looked at before a person is asked"}
	case c.Looked != nil && c.Looked.Words != "":
		return Record{ledger.New(c.Step, &ledger.CallRefused{Words: c.Looked.Words, Why: "it cannot succeed, so nobody is asked"})}
	case len(tool.LooksUp) > 0:
		if words, hit := ruledOut(tool, c, callVars(p, s, tool, c)); hit {
			return Record{ledger.New(c.Step, &ledger.CallRefused{Words: words, Why: "a rule of the tool rejects it (unless), so nobody is asked"})}
		}
	}
	return Record{aside(p, s, c, ticket(p, s, c))}
}

// ruled looks at the rules of a tool right before a call of it starts: for the first time at those
// over what is looked up, and once more at all after a person agreed, since the world, or the
// values, may have changed while they thought about it.
func ruled(p *project.Project, s *run.State, c *run.Call) []Action {
	t := p.Tools[c.Decided.Tool]
	if t == nil || (c.Progress != run.Decided && c.Progress != run.Allowed) {
		return nil
	}
	why, look := "a rule of the tool rejects it (unless)", "what the rules of the tool need is looked up"
	if c.Progress == run.Allowed {
		why, look = "a rule of the tool rejects it now (unless), though a person agreed", look+" again after a person agreed"
		if words, hit := Rejected(t, t.Unless, callVars(p, s, t, c)); hit {
			return one(ledger.New(c.Step, &ledger.CallRefused{Words: words, Why: why}))
		}
	}
	if len(t.LooksUp) == 0 {
		return nil
	}
	if !c.Fresh {
		return []Action{Look{Tool: t, Call: c, Reads: lookups(p, s, c, t.LooksUp), Why: look}}
	}
	if words, hit := ruledOut(t, c, callVars(p, s, t, c)); hit {
		return one(ledger.New(c.Step, &ledger.CallRefused{Words: words, Why: why}))
	}
	return nil
}

// ruledOut says whether rules of a tool reject a call, as far as is known of what they look up.
func ruledOut(t *project.Tool, c *run.Call, v expr.Vars) (words string, hit bool) {
	if words, hit := Rejected(t, t.Unless, v); hit || c.Looked == nil {
		return words, hit
	}
	for _, l := range t.LooksUp {
		if why, missed := c.Looked.Missed[l.Name]; missed {
			return Unread(t, l.Name, why), true
		}
	}
	return Rejected(t, t.Checks, v)
}

// Unread says that a call was not made since something that its rules need cannot be known.
func Unread(t *project.Tool, name, why string) string {
	return fmt.Sprintf("%s was not called: %s could not be looked up (%s).", t.Name, name, strings.TrimSuffix(why, "."))
}

// lookups gives reads that are made for a call.
func lookups(p *project.Project, s *run.State, c *run.Call, list []project.Lookup) []Read {
	tool := p.Tools[c.Decided.Tool]
	args, _ := value.Read(c.Args) // written by decideCall
	seen := vars(p, s, c.Turn, tool, args)
	var out []Read
	for i, l := range list {
		r := Read{Name: l.Name, Tool: p.Tools[l.Tool], Args: map[string]any{}, Rule: i < len(tool.LooksUp)}
		r.Stub = s.Opened().Tools == ledger.ToolsStubs || RungOf(s.Opened(), r.Tool).Stubs(r.Tool.Effect)
		if l.Args != nil {
			given, err := l.Args.Fill(seen)
			if err != nil {
				r.Bad = &deed.Failure{Class: "arguments", Say: err.Error()}
			}
			r.Args = given
		}
		if r.Bad == nil {
			fixed, _, faults := r.Tool.Input.Repair(r.Args)
			if len(faults) > 0 {
				r.Bad = &deed.Failure{Class: "arguments", Say: schema.Say(faults)}
			}
			r.Args = fixed
		}
		out = append(out, r)
	}
	return out
}

// Sight is what a look has seen: the difference that a call would make, or the failure that
// it would be; and what the gate looked up.
type Sight struct {
	Diff string
	Bad  *deed.Failure

	found map[string]json.RawMessage
	lost  map[string]string
}

// maxFound bounds what is kept of one thing that a gate looks up.
const maxFound = 64 << 10

// Find notes the result of a read by its name.
func (s *Sight) Find(name string, v any) {
	raw, err := json.Marshal(v)
	switch {
	case err != nil:
		s.Miss(name, "the result is not JSON")
	case len(raw) > maxFound:
		s.Miss(name, fmt.Sprintf("the result has %d bytes, and %d is the most that is looked at", len(raw), maxFound))
	default:
		if s.found == nil {
			s.found = map[string]json.RawMessage{}
		}
		s.found[name] = raw
	}
}

// Miss notes why a read brought no result.
func (s *Sight) Miss(name, why string) {
	if s.lost == nil {
		s.lost = map[string]string{}
	}
	s.lost[name] = strings.TrimSuffix(why, ".")
}

// Looked gives the event of a look.
func Looked(a Look, seen Sight) ledger.Event {
	d := &ledger.CallLooked{Diff: seen.Diff, Found: seen.found, Missed: seen.lost, Why: a.Why}
	if f := seen.Bad; f != nil {
		d.Words = fmt.Sprintf("%s was not called: %s", a.Tool.Name, deed.Sentence(f.Say))
	}
	return ledger.New(a.Call.Step, d)
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
		return s.Lost(c.Step) < maxLost && mayRepeat(c), "the service came back; whether this call had been answered is not known, and it may be sent again"
	case run.Waiting, run.InFlight, run.Opened, run.Left, run.Unsure, run.Settled, run.Returned, run.CallFailed, run.CallRefused:
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

// stubbed says whether a stub answers the call.
func stubbed(s *run.State, c *run.Call) bool {
	return s.Opened().Tools == ledger.ToolsStubs || c.Decided.Rung.Stubs(c.Decided.Effect)
}

func start(p *project.Project, s *run.State, c *run.Call, why string) Action {
	stub := stubbed(s, c)
	st := &ledger.CallStarted{Attempt: c.Attempt + 1, Key: ledger.Key(s.Run(), c.Step), Stub: stub, Why: why}
	return CallTool{Event: ledger.New(c.Step, st), Tool: p.Tools[c.Decided.Tool], Call: c, Started: st}
}

// handOver carries out the first handoff of the turn when every other call has ended. One
// that goes to the agent that asked ends the consult.
func handOver(p *project.Project, s *run.State, t *run.Thread, blocked string) []Action {
	passes := func(c *run.Call) bool { return c.Decided.Verdict == ledger.Pass && !c.Progress.Over() }
	if slices.ContainsFunc(t.Turn().Calls, passes) {
		if acts := leaving(p, s, t); acts != nil {
			return acts
		}
	}
	var acts []Action
	add := func(step ledger.StepID, d ledger.Data) { acts = append(acts, Record{ledger.New(step, d)}) }
	for _, c := range t.Turn().Calls {
		d := c.Decided
		if d.Verdict != ledger.Pass || c.Progress.Over() {
			continue
		}
		if blocked != "" {
			add(c.Step, &ledger.CallRefused{Words: fmt.Sprintf("Not handed over to %s, because %s did not succeed.", d.To, blocked), Why: "a write before it did not return"})
			continue
		}
		var args struct{ Because string }
		_ = json.Unmarshal(d.Args, &args) // written by decidePass
		back := t.Parent() != nil && d.To == asker(t)
		words := fmt.Sprintf("%s has handed over; %s now talks to the person.", t.Agent(), d.To)
		switch {
		case asker(t) != "":
			words = fmt.Sprintf("%s has handed over; %s now answers %s.", t.Agent(), d.To, asker(t))
		case t.Parent() != nil:
			words = fmt.Sprintf("%s has handed over; %s now goes on.", t.Agent(), d.To)
		}
		if back {
			words = fmt.Sprintf("%s has handed the question back to %s.", t.Agent(), d.To)
		}
		add(c.Step, &ledger.CallReturned{Result: json.RawMessage(`{"baton":"` + d.To + `"}`), Words: words})
		if back {
			say := "handed back"
			if args.Because != "" {
				say = args.Because
			}
			add(t.ID(), &ledger.ThreadClosed{Outcome: ledger.HandedBack, Answer: say, Why: t.Agent() + " passed to " + d.To + ", who had asked"})
			return acts
		}
		var sees ledger.Sees
		if from := p.Agents[t.Agent()]; from != nil {
			sees = from.Sees[d.To]
		}
		add(c.Step, &ledger.BatonPassed{From: t.Agent(), To: d.To, Because: args.Because, Words: words, Sees: sees, Why: d.Why})
	}
	return acts
}

// longestWait is the longest time before another attempt, where nobody asks for more.
const longestWait = 30 * time.Second

// backoff gives when to try again: doubled each attempt from half a second,
// at most longestWait, between half and the whole of it by jitter from 0 to 1.
func backoff(now time.Time, attempt int, after time.Duration, jitter float64) *time.Time {
	d := 500 * time.Millisecond << min(attempt-1, 6)
	d = min(d, longestWait)
	d = d/2 + time.Duration(float64(d/2)*jitter)
	if after > d {
		d = after
	}
	t := now.Add(d)
	return &t
}
