package loop_test

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
)

// made is a project that chance made: agents that pass to and consult one another.
type made struct {
	p      *project.Project
	agents []string
}

// choose draws a number below n.
type choose func(label string, n int) int

// make gives a project of two to four agents. With tiny limits it is likely to use them up.
func makeProject(t *rapid.T, choose choose, tiny, kept bool) made {
	m := made{agents: []string{"ash", "birch", "cedar", "elm"}[:2+choose("agents", 3)]}
	turns, calls := 300, 300
	if tiny {
		turns, calls = 2+choose("turns", 20), 2+choose("calls", 20)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "project: grove\napprovers: [master]\nstart: ash\nmodel: m\nmodels: {m: {speaks: understudy, retry: 1}}\nlimits: {turns: %d, calls: %d, same_call: 50, passes: 3, time: 10m}\n", turns, calls)
	b.WriteString("state: {type: object, properties: {n: {type: number}, put: {type: string}}}\n")
	b.WriteString("---\ntool: look\nsummary: Look something up by its name.\neffect: read\ninput: {type: object, properties: {name: {type: string, description: Its name.}}}\nsets: {n: \"=result.n\"}\noutput: {type: object, required: [n], properties: {n: {type: number}}}\nstubs: [{returns: {n: 1}}]\n")
	b.WriteString("---\ntool: put # accept gate: it is a test\nsummary: Put something away for good.\ninput: {type: object, properties: {name: {type: string, description: Its name.}}}\nsets: {put: \"=args.?name.orValue('')\"}\nstubs: [{returns: null}]\n")
	b.WriteString("---\ntool: sign\nsummary: Sign a paper with a name.\ngate: {by: [master], ask: \"Sign?\", within: 30m}\ninput: {type: object, properties: {name: {type: string, description: Its name.}}}\nstubs: [{returns: null}]\n")
	for _, a := range m.agents {
		fmt.Fprintf(&b, "---\nagent: %s\nsummary: Does what %s does.\nprompt: You are %s.\ntools: [look, put, sign]\n", a, a, a)
		var passes, consults []string
		for _, o := range m.agents {
			if o == a {
				continue
			}
			if choose("passes", 2) == 0 {
				passes = append(passes, o)
			}
			switch choose("consults", 4) {
			case 0:
			case 1:
				if kept {
					consults = append(consults, "{agent: "+o+", memory: kept}")
					break
				}
				consults = append(consults, o)
			case 2:
				consults = append(consults, "{agent: "+o+", asks: person}")
			default:
				consults = append(consults, o)
			}
		}
		fmt.Fprintf(&b, "passes_to: [%s]\nconsults: [%s]\n", strings.Join(passes, ", "), strings.Join(consults, ", "))
	}
	p, probs := coretest.Reader.Compile(project.Source{Files: map[string]string{project.Main: b.String()}, Env: map[string]string{}})
	if p == nil {
		t.Fatalf("the project that was made does not compile: %v", probs)
	}
	m.p = p
	return m
}

// pick gives a number below n that depends on what it is given alone.
func pick(n int, of ...any) int {
	h := fnv.New64a()
	fmt.Fprint(h, of...)
	return int(h.Sum64() % uint64(n))
}

// grove drives a run of a project that chance made. Models and tools answer by what they are
// asked, and people by what they are shown, so that nothing but the order in which things
// arrive, and when the service is killed, is left to chance.
type grove struct {
	made
	*coretest.World
	seed  int
	alone bool                  // a write that asks is the only one of its turn
	calls map[ledger.StepID]int // times a call was carried out
}

func plant(m made, seed int) *grove {
	return &grove{made: m, World: coretest.Open(m.p, fmt.Sprint("begin ", seed)), seed: seed, calls: map[ledger.StepID]int{}}
}

// reply answers a turn by its request.
func (g *grove) reply(step ledger.StepID) {
	on := g.S.Thread(step.Parent())
	raw, _ := json.Marshal(on.Messages())
	depth, of := on.Depth(), []any{g.seed, on.Agent(), string(raw)}
	if n := on.Turns(); n > 3 || (n+depth > 1 && pick(2+depth, append(of, "end")...) > 0) {
		g.ReplyTo(step, fmt.Sprintf("%s says %d", on.Agent(), pick(1000, of...)))
		return
	}
	var calls []string
	for i := range 1 + pick(3, append(of, "calls")...) {
		name := pick(5, append(of, i)...)
		to := g.agents[pick(len(g.agents), append(of, i, "to")...)]
		if asks := g.P.Agents[on.Agent()].Consults; len(asks) > 0 {
			to = asks[pick(len(asks), append(of, i, "whom")...)].Agent
		}
		switch pick(9, append(of, i, "what")...) {
		case 0:
			calls = append(calls, fmt.Sprintf(`look {"name":"%d"}`, name))
		case 1:
			calls = append(calls, fmt.Sprintf(`put {"name":"%d"}`, name))
		case 2:
			calls = append(calls, fmt.Sprintf(`sign {"name":"%d"}`, name))
		case 3:
			calls = append(calls, "pass_to_"+to)
		case 4:
			calls = append(calls, `ask_person {"question":"which?"}`)
		default:
			calls = append(calls, fmt.Sprintf(`consult_%s {"question":"%d?"}`, to, name))
		}
	}
	// what a person decides about one write, and whether it is withdrawn because another
	// failed before, depends on who was quicker: one write in a turn that asks
	if asks := slices.IndexFunc(calls, func(c string) bool { return strings.HasPrefix(c, "sign") }); asks >= 0 && g.alone {
		ask := calls[asks]
		calls = append(slices.DeleteFunc(calls, func(c string) bool { return strings.HasPrefix(c, "sign") || strings.HasPrefix(c, "put") }), ask)
	}
	r := deed.Reply{Usage: ledger.Usage{In: 10, Out: 5}}
	for i, c := range calls {
		tool, args, _ := strings.Cut(c, " ")
		if args == "" {
			args = "{}"
		}
		r.Calls = append(r.Calls, ledger.Ask{ID: fmt.Sprintf("%s_%d", step, i), Tool: tool, Args: args})
	}
	g.Append(loop.TurnReceived(g.P, g.S, step, r, time.Millisecond))
}

// finish ends a deed in flight.
func (g *grove) finish(step ledger.StepID) {
	if g.S.Turn(step) != nil {
		g.reply(step)
		return
	}
	g.calls[step]++
	if args := g.S.Call(step).Args; pick(6, g.seed, string(args), "fails") == 0 {
		g.Fail(step, deed.Failure{Outcome: ledger.NotDone, Class: "refused", Say: "no"})
		return
	}
	if g.S.Call(step).Decided.Tool == "look" {
		g.Return(step, map[string]any{"n": float64(pick(9, step))})
		return
	}
	g.Return(step, nil)
}

// settle does what the person does, who knows that a deed that was lost did not happen.
func (g *grove) settle(tk *run.Ticket) {
	x := loop.Settlement{By: "ann", Because: "so"}
	switch tk.Raised.Form {
	case ledger.OutcomeTicket:
		x.Verb = ledger.NotHappened
	case ledger.QuestionTicket:
		x.Verb, x.Result = ledger.Answer, fmt.Sprint("answer ", pick(9, tk.Raised.Ask))
	case ledger.GateTicket:
		x.Verb = []ledger.Verb{ledger.Allow, ledger.RefuseIt, ledger.Amend}[pick(3, g.seed, string(tk.Raised.Args))]
		if x.Verb == ledger.Amend {
			x.Args = map[string]any{"name": "amended"}
		}
	}
	ev, err := loop.Settle(g.P, g.S, tk.Step, x)
	if err != nil {
		panic(err)
	}
	g.Append(*ev)
}

// walk drives the run until it is over; what it does at each moment is left to chance, and look
// sees it. Kills are at most two.
func (g *grove) walk(t *rapid.T, choose choose, kills int, look func()) {
	for i := 0; g.S.Closed() == nil; i++ {
		if i > 3000 {
			t.Fatalf("the run does not end: %d events", len(g.Events))
		}
		g.Step()
		if look != nil {
			look()
		}
		if g.S.Closed() != nil {
			return
		}
		flight, tickets := g.S.InFlight(), g.S.Tickets()
		due, timer, waits := loop.Wake(g.P, g.S)
		n := len(flight) + len(tickets)
		if n == 0 && !waits {
			t.Fatalf("nothing can happen any more: %s", g.S.Status())
		}
		at := 0
		if n > 0 {
			at = choose("which", n)
		}
		switch {
		case kills > 0 && choose("kill", 12) == 1 && len(flight) > 0:
			kills--
			g.Append(ledger.New("", &ledger.RunRecovered{Lost: flight, Epoch: 2, Why: "killed"}))
		case at < len(flight):
			g.finish(flight[at])
		case n > 0:
			g.settle(tickets[at-len(flight)])
		default:
			if due.After(g.Now) {
				g.Now = due
			}
			g.Append(timer)
		}
	}
}

// outcome is what a run came to: its end, and what each call came to.
func (g *grove) outcome() string {
	var out []string
	for _, e := range g.Events {
		switch d := e.Data.(type) {
		case *ledger.CallReturned:
			out = append(out, fmt.Sprint(e.Step, " returned ", d.Words))
		case *ledger.CallFailed:
			if d.Final {
				out = append(out, fmt.Sprint(e.Step, " failed ", d.Words))
			}
		case *ledger.CallRefused:
			out = append(out, fmt.Sprint(e.Step, " refused ", d.Words))
		case *ledger.TurnReceived:
			out = append(out, fmt.Sprint(e.Step, " ", d.Text))
		}
	}
	slices.Sort(out)
	c := g.S.Closed()
	return fmt.Sprint(c.Status, " ", c.Answer, " ", c.Problem) + "\n" + strings.Join(out, "\n")
}

func drawn(t *rapid.T) choose {
	return func(label string, n int) int { return rapid.IntRange(0, n-1).Draw(t, label) }
}

func TestTheOutcomeDependsNeitherOnTheOrderNorOnKills(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		choose := drawn(t)
		m := makeProject(t, choose, false, false)
		seed := choose("seed", 1000)
		first, second := plant(m, seed), plant(m, seed)
		first.alone, second.alone = true, true
		first.walk(t, func(string, int) int { return 0 }, 0, nil)
		second.walk(t, choose, 2, nil)
		if first.outcome() != second.outcome() {
			t.Fatalf("in order:\n%s\nby chance:\n%s", first.outcome(), second.outcome())
		}
		for step, n := range second.calls {
			if n > 1 {
				t.Fatalf("%s was carried out %d times", step, n)
			}
		}
	})
}

func TestAtEveryMomentOfATree(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		choose := drawn(t)
		g := plant(makeProject(t, choose, choose("tiny", 2) == 0, true), choose("seed", 1000))
		g.walk(t, choose, 2, func() {
			if len(loop.Next(g.P, g.S, g.Now)) > 0 {
				t.Fatalf("something was left to do")
			}
			if !g.S.Able() && !g.S.Ending() && g.S.Closed() == nil {
				if left := loop.Unasked(g.P, g.S, g.Now); len(left) > 0 {
					t.Fatalf("nothing can be done, and yet there is %v", left)
				}
			}
			reads := 0
			for _, th := range g.S.Threads() {
				writes := 0
				if u := th.Turn(); u != nil {
					reads += u.Reading()
					for _, c := range u.Calls {
						if c.Progress == run.InFlight && c.Decided.Effect != ledger.Read {
							writes++
						}
					}
				}
				if writes > 1 {
					t.Fatalf("%d writes of one thread in flight", writes)
				}
			}
			if g.S.Asking() > 8 || reads > 8 {
				t.Fatalf("%d turns and %d reads at once", g.S.Asking(), reads)
			}
			if g.S.Turns() > g.P.Limits.Turns {
				t.Fatalf("%d turns of %d", g.S.Turns(), g.P.Limits.Turns)
			}
			flight := 0
			for range g.S.InFlight() {
				flight++
			}
			held := g.S.Closed() == nil && flight == 0 && len(g.S.Tickets()) > 0
			if _, ev, ok := loop.Wake(g.P, g.S); ok && ev.Data.(*ledger.TimerFired).What == ledger.ForRetry {
				held = false
			}
			if (g.S.Status() == ledger.Held) != held {
				t.Fatalf("%s, with %d in flight and %d tickets", g.S.Status(), flight, len(g.S.Tickets()))
			}
		})
		if n := g.S.Reserved(); n != (ledger.Reserve{}) || g.S.Asking() != 0 {
			t.Fatalf("set aside and never given back: %v", n)
		}
	})
}

func TestATreeFoldsTheSameTwiceAndIsBuiltAsItWasSent(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		choose := drawn(t)
		g := plant(makeProject(t, choose, choose("tiny", 2) == 0, true), choose("seed", 1000))
		g.walk(t, choose, 2, nil)
		raw, err := json.Marshal(g.Events)
		require.NoError(t, err)
		var read []ledger.Event
		require.NoError(t, json.Unmarshal(raw, &read))
		s, asked := run.New("w-1"), 0
		for _, e := range read {
			if sent, ok := e.Data.(*ledger.TurnSent); ok {
				on := s.Thread(e.Step.Parent())
				b, err := prompt.Build(g.P, s, on, sent.Model, e.At)
				require.NoError(t, err)
				assert.Equal(t, []ledger.Hash{sent.System, sent.Tools}, []ledger.Hash{b.SystemHash, b.ToolsHash})
				assert.Equal(t, append(slices.Clip(on.Sent()[sent.Skip:sent.Skip+sent.Kept]), sent.Added...), b.Hashes)
				assert.Equal(t, g.Asked[asked].Hashes, b.Hashes)
				asked++
			}
			require.NoError(t, s.Apply(e))
		}
		assert.Equal(t, len(g.Asked), asked)
		same(t, g.S, s)
	})
}

func TestUntilAThreadClosesNothingOutsideOfItChanges(t *testing.T) {
	type outside struct {
		messages int
		facts    string
	}
	look := func(s *run.State, but ledger.StepID) map[ledger.StepID]outside {
		out := map[ledger.StepID]outside{}
		for _, th := range s.Threads() {
			if th.ID() != but {
				raw, _ := json.Marshal(th.Facts())
				out[th.ID()] = outside{len(th.Messages()), string(raw)}
			}
		}
		return out
	}
	rapid.Check(t, func(t *rapid.T) {
		choose := drawn(t)
		g := plant(makeProject(t, choose, choose("tiny", 2) == 0, true), choose("seed", 1000))
		g.walk(t, choose, 1, nil)
		s := run.New("w-1")
		for _, e := range g.Events {
			mine := e.Step.Thread()
			before := look(s, mine)
			require.NoError(t, s.Apply(e))
			if e.Kind == ledger.KindThreadOpened || e.Kind == ledger.KindThreadClosed {
				continue // they are about the step that they stand at
			}
			require.Equal(t, before, look(s, mine), "%s at %s", e.Kind, e.Step)
		}
	})
}

func TestAnyPrefixOfATreeDrivesToAnEnd(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		choose := drawn(t)
		g := plant(makeProject(t, choose, choose("tiny", 2) == 0, true), choose("seed", 1000))
		g.walk(t, choose, 1, nil)
		goOn(t, g, choose, g.Events[:1+choose("cut", len(g.Events)-1)])
	})
}

// goOn drives a ledger, as after a kill, to an end; now and then by a stop.
func goOn(t *rapid.T, g *grove, choose choose, events []ledger.Event) {
	s, err := run.Fold("w-1", events)
	require.NoError(t, err)
	again := &grove{made: g.made, seed: g.seed, calls: map[ledger.StepID]int{}, World: &coretest.World{P: g.p, S: s, Events: slices.Clone(events), Now: s.At()}}
	if s.Closed() != nil {
		return
	}
	if lost := s.InFlight(); len(lost) > 0 {
		again.Append(ledger.New("", &ledger.RunRecovered{Lost: lost, Epoch: 2, Why: "killed"}))
	}
	if choose("stop", 3) == 0 {
		again.Append(ledger.New("", &ledger.StopAsked{By: "ann"}))
		again.Step()
		for _, e := range loop.GiveUp(again.S, "10s") {
			again.Append(e)
		}
		again.Step()
		require.NotNil(t, again.S.Closed(), "a stop anywhere ends it")
		require.Equal(t, ledger.Stopped, again.S.Closed().Status)
		return
	}
	again.walk(t, choose, 0, nil)
}

func TestAnOpenSubtreeCanBeTakenOut(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		choose := drawn(t)
		g := plant(makeProject(t, choose, false, true), choose("seed", 1000))
		g.walk(t, choose, 0, nil)
		cut := 1 + choose("cut", len(g.Events)-1)
		s, err := run.Fold("w-1", g.Events[:cut])
		require.NoError(t, err)
		open := s.Threads()[1:]
		if len(open) == 0 {
			return
		}
		out := open[choose("subtree", len(open))].ID()
		var left []ledger.Event
		for _, e := range g.Events[:cut] {
			if strings.HasPrefix(string(e.Step), string(out)+".") || (e.Step == out && e.Kind == ledger.KindThreadOpened) {
				continue
			}
			e.Seq = int64(len(left)) + 1
			left = append(left, e)
		}
		goOn(t, g, choose, left)
	})
}
