package drill

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"sort"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/scope"
	"stonebaton.example/core/trace"
	"stonebaton.example/core/value"
)

// Fault is one thing that did not go as expected.
type Fault struct {
	What  string        `json:"what"` // path, calls, never, answer, …
	Want  string        `json:"want"`
	Got   string        `json:"got"`
	Step  int           `json:"step,omitempty"` // of the trace, where one can be named
	Place project.Place `json:"place"`
}

// call is a call as it came out.
type call struct {
	step   *trace.Step
	args   map[string]any
	status string
	gate   string
}

// Check holds a run's ledger against an expectation of its project. Nil expects nothing.
func Check(p *project.Project, x *project.Expect, id string, events []ledger.Event) ([]Fault, error) {
	if x == nil {
		return nil, nil
	}
	t, err := trace.Of(id, events)
	if err != nil {
		return nil, err
	}
	var faults []Fault
	add := func(what, want, got string, step int) {
		faults = append(faults, Fault{What: what, Want: want, Got: got, Step: step, Place: x.Place})
	}
	tot := t.Totals()
	want := ledger.Status(x.Status)
	if want == "" {
		want = ledger.Done
		if x.Problem != "" {
			want = ledger.Failed
		}
	}
	if tot.Status != want {
		got := string(tot.Status)
		if tot.Problem != nil {
			got += ": " + tot.Problem.Say
		}
		for _, tk := range t.State().Tickets() {
			got += ": " + tk.Raised.Ask
		}
		add("status", string(want), got, 0)
	}
	if x.Problem != "" && (tot.Problem == nil || tot.Problem.Class != x.Problem) {
		got := "none"
		if tot.Problem != nil {
			got = tot.Problem.Class + ": " + tot.Problem.Say
		}
		add("problem", x.Problem, got, 0)
	}
	if x.Path != nil && !slices.Equal(tot.Path, x.Path) {
		add("path", strings.Join(x.Path, " → "), strings.Join(tot.Path, " → "), 0)
	}
	calls := callsOf(t, events)
	at := 0
	for _, w := range x.Calls {
		next, near := find(calls, at, w)
		if next < 0 {
			got, step := "no such call was made", 0
			if near != nil {
				got, step = near.show(), near.step.N
			} else if len(calls) > 0 {
				got = "no such call; what was called: " + listCalls(calls)
			}
			add("calls", showWant(w), got, step)
			continue
		}
		at = next + 1
	}
	at = 0
	for _, w := range x.Consults {
		next, got, step := findConsult(t.Steps, events, at, w)
		if next < 0 {
			add("consults", showConsult(w), got, step)
			continue
		}
		at = next + 1
	}
	relayed(x, t, events, add)
	for _, n := range x.Never {
		for _, c := range calls {
			if c.step.Name == n {
				add("never", "no call of "+n, c.show(), c.step.N)
				break
			}
		}
	}
	answer := strings.ToLower(tot.Answer)
	for _, s := range x.Answer.Says {
		if !strings.Contains(answer, strings.ToLower(s)) {
			add("answer", fmt.Sprintf("says %q", s), quote(tot.Answer), 0)
		}
	}
	for _, s := range x.Answer.Avoids {
		if strings.Contains(answer, strings.ToLower(s)) {
			add("answer", fmt.Sprintf("does not say %q", s), quote(tot.Answer), 0)
		}
	}
	for _, k := range sorted(x.State) {
		if !same(x.State[k], tot.Facts[k]) {
			add("state", k+" is "+show(x.State[k]), show(tot.Facts[k]), 0)
		}
	}
	if x.Where != nil {
		vars := scope.Values{Project: p.Name, Person: tot.Person, Run: tot.ID, Session: tot.Session, At: tot.Last.In(p.Zone), Zone: p.Zone, State: tot.Facts, StateDoc: p.State.Doc()}.Vars()
		vars["answer"] = tot.Answer
		vars["run"] = map[string]any{"id": tot.ID, "session": tot.Session, "status": string(tot.Status), "turns": int64(tot.Turns), "calls": int64(tot.Calls),
			"tokens": int64(tot.Tokens.In + tot.Tokens.Out), "cost": tot.Cost, "passes": int64(tot.Passes)}
		yes, err := x.Where.True(vars)
		if err != nil {
			add("where", x.Where.String(), err.Error(), 0)
		} else if !yes {
			add("where", x.Where.String(), fmt.Sprintf("run.turns %d, run.calls %d, run.passes %d, run.tokens %d, run.cost %g", tot.Turns, tot.Calls, tot.Passes, tot.Tokens.In+tot.Tokens.Out, tot.Cost), 0)
		}
	}
	return faults, nil
}

// relayed holds what is expected of the run's relay, and of plans, against what happened.
func relayed(x *project.Expect, t *trace.Trace, events []ledger.Event, add func(what, expected, happened string, step int)) {
	legs, kept := coursed(events)
	if x.Legs != nil && !slices.Equal(legs, x.Legs) {
		add("legs", strings.Join(x.Legs, " → "), strings.Join(legs, " → "), 0)
		return // what it kept follows from them
	}
	for _, k := range sorted(x.Visits) {
		n := 0
		for _, l := range legs {
			if l == k {
				n++
			}
		}
		if n != x.Visits[k] {
			add("visits", fmt.Sprintf("%s is visited %d times", k, x.Visits[k]), fmt.Sprintf("%d times", n), 0)
		}
	}
	if x.Course != nil {
		course := []string{}
		for _, s := range t.Steps {
			if s.Kind == trace.Planned {
				course = append(course, s.To)
			}
		}
		if !slices.Equal(course, x.Course) {
			add("course", strings.Join(x.Course, " → "), strings.Join(course, " → "), 0)
		}
	}
	for _, k := range sorted(x.Kept) {
		if want, ok := x.Kept[k].(map[string]any); ok {
			if got, _ := kept[k].(map[string]any); !subset(want, got) {
				add("kept", k+" has "+show(want), show(kept[k]), 0)
			}
		} else if !same(x.Kept[k], kept[k]) {
			add("kept", k+" is "+show(x.Kept[k]), show(kept[k]), 0)
		}
	}
}

// coursed gives the legs that the run's relay visited, and what it kept.
func coursed(events []ledger.Event) (legs []string, kept map[string]any) {
	s := run.New("")
	for _, e := range events {
		if err := s.Apply(e); err != nil {
			panic("the trace has folded it: " + err.Error())
		}
		if e.Step.Thread() != ledger.Root {
			continue
		}
		switch e.Data.(type) {
		case *ledger.LegEntered:
			name, _ := e.Step.LegName()
			legs = append(legs, name)
		case *ledger.LegLeft:
			kept = s.Thread(ledger.Root).Frame().Kept
		}
	}
	return legs, kept
}

func callsOf(t *trace.Trace, events []ledger.Event) []call {
	args := map[ledger.StepID]map[string]any{}
	for _, e := range events {
		var raw json.RawMessage
		switch d := e.Data.(type) {
		case *ledger.CallDecided:
			raw = d.Args
		case *ledger.GateSettled:
			raw = d.Args
		}
		if len(raw) == 0 {
			continue
		}
		if m, err := value.ReadObject(raw); err == nil {
			args[e.Step] = m
		}
	}
	var out []call
	for _, s := range t.Steps {
		if s.Kind == trace.Turn || s.Kind == trace.Leg || s.Kind == trace.Planned || s.Kind == trace.Judged || s.Kind == trace.Hooked || s.ID == ledger.Root {
			continue
		}
		c := call{step: s, args: args[s.ID], status: s.Status, gate: "none"}
		if s.Wait != nil && s.Wait.Form == ledger.GateTicket {
			if c.gate = string(s.Wait.Verb); c.gate == "" {
				c.gate = "open"
			}
		}
		out = append(out, c)
	}
	return out
}

// find looks for a call from a place on; near is one of the same tool that
// does not fit.
func find(calls []call, from int, w project.ExpectCall) (at int, near *call) {
	for i := from; i < len(calls); i++ {
		c := &calls[i]
		if c.step.Name != w.Tool {
			continue
		}
		if (w.Gate == "" || w.Gate == c.gate) && w.Due() == c.status && subset(w.Args, c.args) {
			return i, nil
		}
		if near == nil {
			near = c
		}
	}
	return -1, near
}

// findConsult looks for a consult from a place on; got says what there was in its place.
func findConsult(steps []*trace.Step, events []ledger.Event, from int, w project.ExpectConsult) (at int, got string, step int) {
	got = "no agent was consulted"
	fits := func(text, want string) bool { return strings.Contains(strings.ToLower(text), strings.ToLower(want)) }
	var asked []string
	for i, s := range steps {
		if s.Kind != trace.Consult {
			continue
		}
		asked = append(asked, s.To)
		if i < from || s.To != w.Agent || (w.By != "" && s.Agent != w.By) {
			continue
		}
		answer, outcome := endOf(events, s)
		want := w.Outcome
		if want == "" {
			want = string(ledger.EndDone)
		}
		if outcome == want && fits(s.Asked.Question, w.Asked) && fits(answer, w.Answer) {
			return i, "", 0
		}
		if step == 0 {
			got, step = fmt.Sprintf("%s was asked %q, %s: %q", s.To, s.Asked.Question, outcome, answer), s.N
		}
	}
	if step == 0 && len(asked) > 0 {
		got = "no such consult; who was asked: " + strings.Join(asked, ", ")
	}
	return -1, got, step
}

// endOf gives what a consult answered, or why it did not, and how it ended.
func endOf(events []ledger.Event, s *trace.Step) (answer, outcome string) {
	outcome = string(s.Asked.Outcome)
	for _, e := range events {
		if e.Step != s.ID {
			continue
		}
		switch d := e.Data.(type) {
		case *ledger.ThreadClosed:
			if answer = d.Answer; d.Problem != nil {
				answer = d.Problem.Say
			}
		case *ledger.CallReturned:
			if outcome == "" { // no thread was opened: the drill had the answer ready
				answer, outcome = d.Words, string(ledger.EndDone)
			}
		case *ledger.CallFailed:
			if outcome == "" {
				answer, outcome = d.Say, string(ledger.EndFailed)
			}
		}
	}
	if outcome == "" {
		outcome = s.Status
	}
	return answer, outcome
}

func showConsult(w project.ExpectConsult) string {
	s := w.Agent + " is consulted"
	if w.By != "" {
		s += " by " + w.By
	}
	if w.Asked != "" {
		s += fmt.Sprintf(", asked %q", w.Asked)
	}
	if w.Answer != "" {
		s += fmt.Sprintf(", answers %q", w.Answer)
	}
	if w.Outcome != "" {
		s += ", outcome " + w.Outcome
	}
	return s
}

func subset(want, got map[string]any) bool {
	for k, v := range want {
		if !same(v, got[k]) {
			return false
		}
	}
	return true
}

// same compares JSON values; times compare as moments.
func same(a, b any) bool {
	ra, err1 := json.Marshal(a)
	rb, err2 := json.Marshal(b)
	if err1 != nil || err2 != nil {
		return false
	}
	x, err1 := value.Read(ra)
	y, err2 := value.Read(rb)
	return err1 == nil && err2 == nil && reflect.DeepEqual(x, y)
}

func (c call) show() string {
	s := c.step.Name + " " + show(c.args) + ", " + c.status
	if c.gate != "none" {
		s += ", gate: " + c.gate
	}
	return s
}

func showWant(w project.ExpectCall) string {
	s := w.Tool
	if len(w.Args) > 0 {
		s += " " + show(w.Args)
	}
	s += ", " + w.Due()
	if w.Gate != "" {
		s += ", gate: " + w.Gate
	}
	return s
}

func listCalls(calls []call) string {
	out := make([]string, len(calls))
	for i, c := range calls {
		out[i] = c.step.Name
	}
	return strings.Join(out, ", ")
}

func show(v any) string {
	if v == nil {
		return "not set"
	}
	b, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b)
}

func quote(s string) string {
	if s == "" {
		return "no answer"
	}
	if r := []rune(s); len(r) > 300 {
		s = string(r[:299]) + "…"
	}
	return fmt.Sprintf("%q", s)
}

func sorted[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}
