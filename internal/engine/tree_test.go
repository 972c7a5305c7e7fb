package engine_test

import (
	"context"
	"encoding/json"
	"fmt"
	"iter"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/internal/engine"
)

// cast answers by who is asked and how many turns they have had.
func cast(lines map[string][]string) func(deed.Request) (deed.Reply, *deed.ModelFailure) {
	return func(r deed.Request) (deed.Reply, *deed.ModelFailure) { return script(lines[r.Agent]...)(r) }
}

// office is two consults side by side: dues reserves a berth at a gate and asks tides, who
// looks something up; beside it tides is asked by the desk, and asks the gauge, who asks the
// person.
var office = map[string][]string{
	"desk":  {`consult_dues {"question":"reserve"}|consult_tides {"question":"when?"}|look {"name":"a"}`, `toot {}`},
	"dues":  {`reserve {"berth":"C4"}|consult_tides {"question":"and?"}`},
	"tides": {`consult_gauge {"question":"how deep?"}|toot {}`},
	"gauge": {`look {"name":"b"}`},
}

// keeper carries calls out, and counts them by their key.
type keeper struct {
	*actor
	mu   sync.Mutex
	keys map[string]int
}

func newKeeper(lines map[string][]string) *keeper {
	k := &keeper{keys: map[string]int{}}
	k.actor = &actor{say: cast(lines), do: func(_ context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
		if i.Tool.Effect != ledger.Read {
			k.mu.Lock()
			k.keys[string(i.Step)]++
			k.mu.Unlock()
			return deed.Result{Value: map[string]any{"ok": true}}, nil
		}
		return deed.Result{Value: map[string]any{"length_m": 46.0}}, nil
	}}
	return k
}

// did says whether a write was carried out.
func (k *keeper) did(step ledger.StepID) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.keys[string(step)] > 0
}

// recorded is a log that remembers what was appended to it, batch by batch.
type recorded struct {
	*engine.Memory
	mu      sync.Mutex
	opening *engine.Opening
	batches []engine.Batch
}

func (r *recorded) Open(ctx context.Context, o engine.Opening) error {
	err := r.Memory.Open(ctx, o)
	if err == nil {
		r.mu.Lock()
		r.opening = &o
		r.mu.Unlock()
	}
	return err
}

func (r *recorded) Append(ctx context.Context, b engine.Batch) error {
	err := r.Memory.Append(ctx, b)
	if err == nil {
		r.mu.Lock()
		r.batches = append(r.batches, b)
		r.mu.Unlock()
	}
	return err
}

// drive settles what waits until a run is over: gates are amended, questions answered, and
// of what was lost the person says whether it happened.
func drive(t *testing.T, e *engine.Engine, k *keeper, run string) {
	t.Helper()
	require.Eventually(t, func() bool {
		s, err := e.State(ctx, run)
		require.NoError(t, err)
		if s.Closed() != nil {
			return true
		}
		for _, tk := range s.Tickets() {
			x := loop.Settlement{By: "ann"}
			switch tk.Raised.Form {
			case ledger.GateTicket:
				x.Verb, x.Args = ledger.Amend, map[string]any{"berth": "D2"}
			case ledger.QuestionTicket:
				x.Verb, x.Result = ledger.Answer, "3.2 m"
				if tk.Raised.Agent == "asked" {
					x.Result = "3"
				}
			case ledger.OutcomeTicket:
				x.Verb = ledger.NotHappened
				if k.did(tk.Step) {
					x.Verb, x.Result = ledger.Happened, map[string]any{"ok": true}
				}
			}
			var settled *loop.SettledError
			if err := e.Settle(ctx, run, tk.Step, x); err != nil {
				require.ErrorAs(t, err, &settled)
			}
		}
		return false
	}, 20*time.Second, time.Millisecond)
}

// outcome is what a run came to, without the words in which a person said that it happened.
func outcome(t *testing.T, e *engine.Engine, run string) string {
	s, err := e.State(ctx, run)
	require.NoError(t, err)
	facts, _ := json.Marshal(s.Facts())
	return fmt.Sprint(s.Closed().Status, " ", s.Closed().Answer, " ", string(facts), " ", s.Calls())
}

func TestATreeThatIsKilledAtEveryAppendComesToTheSame(t *testing.T) {
	killEverywhere(t, strings.Replace(coretest.Tree, "turns: 40", "turns: 90", 1), office, engine.Start{}, `done done {"booking":"D2","length_m":46} 12`)
}

func TestARelayThatIsKilledAtEveryAppendComesToTheSame(t *testing.T) {
	lines := map[string][]string{"writer": {`look {"name":"a"}`, "Dear vessel."}, "reader": {"fine"}}
	killEverywhere(t, coretest.Letters, lines, engine.Start{Relay: "letter", Input: json.RawMessage(`{"name":"Petrel"}`)}, `done Dear vessel. (1) {"length_m":46} 2`)
	killEverywhere(t, coretest.Letters, lines, engine.Start{Relay: "round", Input: json.RawMessage(`{"vessels":["a","b","c"]}`)},
		`"both":{"card":{"length_m":46,"name":"a"},"first":{"length_m":46},"letter":"Dear vessel."}`)
}

func TestPlansExchangesAndQuestionsThatAreKilledAtEveryAppendComeToTheSame(t *testing.T) {
	killEverywhere(t, coretest.Letters, map[string][]string{"desk": {`next_step {"who":"look","with":{"name":"a"}}`, `next_step {"who":"reserve","with":{"berth":"C4"}}`, `next_step {"who":"reader","ask":"read it"}`, "done"}, "reader": {"fine"}},
		engine.Start{Relay: "trip", Input: json.RawMessage(`{"text":"to Kelmere"}`)}, `done done {"booking":"D2","length_m":46}`)
	killEverywhere(t, coretest.Letters, map[string][]string{"writer": {"It says much.", "Now it is fine."}, "reader": {"Too much."}},
		engine.Start{Relay: "talk", Input: json.RawMessage(`{"text":"the letter"}`)}, `done until after 3: Now it is fine.`)
	killEverywhere(t, coretest.Letters, map[string][]string{"asked.rough": {`"three"`}}, engine.Start{Relay: "asked", Input: json.RawMessage(`{"text":"boats"}`)}, `done three`)
}

func TestJudgesAndHooksThatAreKilledAtEveryAppendComeToTheSame(t *testing.T) {
	killEverywhere(t, coretest.Letters, map[string][]string{"writer": {"one letter", "another"}, "reader": {`"?"`}},
		engine.Start{Relay: "tried", Input: json.RawMessage(`{"text":"x"}`)}, `done Nobody could judge it.`)
	killEverywhere(t, coretest.Letters, map[string][]string{"hooked": {`look {"name":"Tern"}`, "It is 46 m long."}},
		engine.Start{Relay: "hooks", Input: json.RawMessage(`{"text":"Petrel"}`)}, `done It is 46 m long. {"booking":"D2","length_m":46}`)
}

// killEverywhere runs something, then once more for each append of it, killed there, and
// holds that it comes to the same and that no write is done twice.
func killEverywhere(t *testing.T, text string, lines map[string][]string, from engine.Start, comes string) {
	project := one{coretest.Project(t, text)}
	k := newKeeper(lines)
	log := &recorded{Memory: engine.NewMemory()}
	e := start(t, log, k.actor, func(c *engine.Config) { c.Projects = project })
	b := begin(t, e, from)
	drive(t, e, k, b.Run)
	want := outcome(t, e, b.Run)
	assert.Contains(t, want, comes)
	e.Close()
	require.GreaterOrEqual(t, len(log.batches), 2)
	for cut := 0; cut <= len(log.batches); cut++ {
		for _, done := range []bool{false, true} { // what was in flight had been done, or not
			mem := engine.NewMemory()
			require.NoError(t, mem.Open(ctx, *log.opening))
			events := slices.Clone(log.opening.Events)
			for _, x := range log.batches[:cut] {
				require.NoError(t, mem.Append(ctx, x))
				events = append(events, x.Events...)
			}
			again := newKeeper(lines)
			open := map[ledger.StepID]bool{}
			for _, ev := range events {
				switch ev.Kind {
				case ledger.KindCallStarted:
					open[ev.Step] = true
				case ledger.KindCallReturned:
					if open[ev.Step] && k.did(ev.Step) {
						again.keys[string(ev.Step)]++
					}
					delete(open, ev.Step)
				}
			}
			for step := range open {
				if done && k.did(step) {
					again.keys[string(step)]++
				}
			}
			e := start(t, mem, again.actor, func(c *engine.Config) { c.Projects = project })
			drive(t, e, again, b.Run)
			require.Equal(t, want, outcome(t, e, b.Run), "killed after append %d, done %t", cut, done)
			for step, n := range again.keys {
				require.Equal(t, 1, n, "%s was done %d times; killed after append %d, done %t", step, n, cut, done)
			}
			require.Len(t, again.keys, len(k.keys))
			e.Close()
		}
	}
}

func TestASessionIsGoneOnWithWithoutFoldingTheRunBefore(t *testing.T) {
	log := &counting{Memory: engine.NewMemory(), reads: map[string]int{}}
	k := newKeeper(office)
	e := start(t, log, k.actor, func(c *engine.Config) { c.Projects = one{coretest.Project(t, coretest.Tree)} })
	b := begin(t, e, engine.Start{})
	drive(t, e, k, b.Run)
	wait(t, e)
	clear(log.reads)
	next := begin(t, e, engine.Start{Session: b.Session, Text: "and now?"})
	wait(t, e)
	assert.Zero(t, log.reads[b.Run], "the run before is not read")
	s, err := e.State(ctx, next.Run)
	require.NoError(t, err)
	assert.Equal(t, "D2", s.Opened().State["booking"])
	assert.Contains(t, s.Opened().Lines, "desk/dues", "what a consult remembers goes on")
	assert.Greater(t, len(s.Opened().Memory), 3)
}

// counting is a log that counts how often each run is read.
type counting struct {
	*engine.Memory
	mu    sync.Mutex
	reads map[string]int
}

func (c *counting) Read(ctx context.Context, run string, after int64) iter.Seq2[ledger.Event, error] {
	c.mu.Lock()
	c.reads[run]++
	c.mu.Unlock()
	return c.Memory.Read(ctx, run, after)
}

func TestALimitEndsWhatIsInFlightBesideIt(t *testing.T) {
	hang := make(chan struct{})
	t.Cleanup(func() { close(hang) })
	text := strings.Replace(coretest.Tree, "turns: 40", "turns: 3", 1)
	a := &actor{}
	a.say = func(r deed.Request) (deed.Reply, *deed.ModelFailure) {
		if r.Agent == "dues" {
			<-hang // and does not heed that it is cancelled
		}
		return cast(map[string][]string{"desk": {`consult_dues {"question":"a"}|consult_tides {"question":"b"}`}, "tides": {`look {"name":"x"}`}})(r)
	}
	log := engine.NewMemory()
	e := start(t, log, a, func(c *engine.Config) { c.Projects = one{coretest.Project(t, text)} })
	b := begin(t, e, engine.Start{})
	require.Eventually(t, func() bool {
		s, err := e.State(ctx, b.Run)
		return err == nil && s.Closed() != nil
	}, 10*time.Second, time.Millisecond)
	s, err := e.State(ctx, b.Run)
	require.NoError(t, err)
	assert.Equal(t, "the run has used its 3 turns (limit turns: 3), on the thread t1.c2 (desk → tides)", s.Closed().Problem.Say)
	assert.Contains(t, kinds(t, log, b.Run), "limit.reached")
}

func TestNothingIsRecoveredWhereNothingWasLost(t *testing.T) {
	log := engine.NewMemory()
	k := newKeeper(office)
	p := one{coretest.Project(t, coretest.Tree)}
	e := start(t, log, k.actor, func(c *engine.Config) { c.Projects = p })
	b := begin(t, e, engine.Start{})
	wait(t, e)
	s, err := e.State(ctx, b.Run)
	require.NoError(t, err)
	require.Equal(t, ledger.Held, s.Status())
	before := s.Seq()
	e.Close()
	e = start(t, log, k.actor, func(c *engine.Config) { c.Projects = p })
	wait(t, e)
	s, err = e.State(ctx, b.Run)
	require.NoError(t, err)
	assert.Equal(t, before, s.Seq())
	drive(t, e, k, b.Run)
	assert.NotContains(t, kinds(t, log, b.Run), "run.recovered")
}
