package engine_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/live"
	"stonebaton.example/internal/secret"
)

var ctx = context.Background()

// actor is a model that says what a function says, and a handler that does.
type actor struct {
	say  func(r deed.Request) (deed.Reply, *deed.ModelFailure)
	do   func(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure)
	done atomic.Int32
}

func (a *actor) Ask(_ context.Context, _ *project.Project, r deed.Request, delta func(string)) (deed.Reply, *deed.ModelFailure) {
	out, bad := a.say(r)
	delta(out.Text)
	return out, bad
}

func (a *actor) Call(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
	a.done.Add(1)
	if a.do != nil {
		return a.do(ctx, i)
	}
	return deed.Result{Value: map[string]any{"length_m": 46.0}}, nil
}

func (a *actor) Look(context.Context, deed.Invocation) (string, *deed.Failure) { return "", nil }

type one struct{ p *project.Project }

func (o one) Current() (*project.Project, error)                             { return o.p, nil }
func (o one) Version(context.Context, ledger.Hash) (*project.Project, error) { return o.p, nil }

// script answers each turn with the next of its lines: words, or "tool {json}" calls parted by |.
func script(lines ...string) func(deed.Request) (deed.Reply, *deed.ModelFailure) {
	return func(r deed.Request) (deed.Reply, *deed.ModelFailure) {
		n := 0
		for _, m := range r.Messages {
			if m.Role == ledger.Assistant {
				n++
			}
		}
		if n >= len(lines) {
			return deed.Reply{Text: "done", Finish: "stop"}, nil
		}
		var out deed.Reply
		for i, part := range strings.Split(lines[n], "|") {
			if !strings.Contains(part, "{") {
				out.Text = part
				continue
			}
			tool, args, _ := strings.Cut(part, " ")
			out.Calls = append(out.Calls, ledger.Ask{ID: fmt.Sprintf("%d_%d", n, i), Tool: tool, Args: args})
		}
		return out, nil
	}
}

func start(t *testing.T, log engine.Records, a *actor, tune func(*engine.Config)) *engine.Engine {
	t.Helper()
	c := engine.Config{Log: log, Models: a, Tools: a, Projects: one{coretest.Project(t, coretest.Main)}, Blanker: secret.New(func(string) (string, bool) { return "", false }), Live: &live.Hub{}, Clock: engine.WallClock{}, Jitter: func() float64 { return 0 }, Grace: 50 * time.Millisecond}
	if tune != nil {
		tune(&c)
	}
	e := engine.New(c)
	require.NoError(t, e.Start(ctx))
	t.Cleanup(e.Close)
	return e
}

func begin(t *testing.T, e *engine.Engine, s engine.Start) engine.Begun {
	t.Helper()
	if s.Text == "" {
		s.Text = "go"
	}
	b, err := e.Begin(ctx, s)
	require.NoError(t, err)
	return b
}

func wait(t *testing.T, e *engine.Engine) {
	t.Helper()
	c, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	require.NoError(t, e.Wait(c))
}

func kinds(t *testing.T, log engine.Records, run string) string {
	t.Helper()
	events, err := engine.All(log.Read(ctx, run, 0))
	require.NoError(t, err)
	var out []string
	for _, e := range events {
		out = append(out, string(e.Kind))
	}
	return strings.Join(out, " ")
}

func TestARunFromItsMessageToItsAnswer(t *testing.T) {
	log := engine.NewMemory()
	e := start(t, log, &actor{say: script(`look {"name":"a"}|tide {}`)}, nil)
	b := begin(t, e, engine.Start{})
	wait(t, e)
	got := kinds(t, log, b.Run)
	assert.True(t, strings.HasPrefix(got, "run.opened turn.sent turn.received call.decided call.decided call.started call.started call.returned"), got)
	assert.True(t, strings.HasSuffix(got, "turn.sent turn.received run.closed"), got)
	s, err := e.State(ctx, b.Run)
	require.NoError(t, err)
	assert.Equal(t, "done", s.Closed().Answer)
	for _, h := range s.Main().Sent() {
		assert.NotEmpty(t, log.Part(h), "every part of what was sent is kept")
	}
}

func TestASessionRemembersAndTheNextMessageWaits(t *testing.T) {
	log := engine.NewMemory()
	gate := make(chan struct{})
	var seen [][]ledger.Message
	var mu sync.Mutex
	a := &actor{say: func(r deed.Request) (deed.Reply, *deed.ModelFailure) {
		mu.Lock()
		seen = append(seen, r.Messages)
		mu.Unlock()
		if r.Messages[len(r.Messages)-1].Text == "first" {
			<-gate
		}
		return deed.Reply{Text: "yes"}, nil
	}}
	e := start(t, log, a, nil)
	first := begin(t, e, engine.Start{Text: "first", State: map[string]any{"booking": "B-1"}})
	second := begin(t, e, engine.Start{Text: "second", Session: first.Session})
	assert.Empty(t, second.Run)
	assert.Equal(t, first.Run, second.WaitsFor)
	close(gate)
	for _, id := range []string{first.Run, first.Session + "-2"} {
		for {
			wait(t, e)
			if ev, err := engine.All(log.Read(ctx, id, 0)); err == nil && ev[len(ev)-1].Kind == ledger.KindRunClosed {
				break
			}
		}
	}
	mu.Lock()
	defer mu.Unlock()
	require.Len(t, seen, 2)
	assert.Equal(t, []string{"first", "yes", "second"}, []string{seen[1][0].Text, seen[1][1].Text, seen[1][2].Text})
	s, err := e.State(ctx, first.Session+"-2")
	require.NoError(t, err)
	assert.Equal(t, "B-1", s.Facts()["booking"], "state goes on too")
}

func TestAHeldRunIsOnlyRowsAndGoesOnAfterTheClick(t *testing.T) {
	log := engine.NewMemory()
	a := &actor{say: script(`look {"name":"a"}`, `reserve {"berth":"C4"}`)}
	e := start(t, log, a, nil)
	b := begin(t, e, engine.Start{})
	wait(t, e)
	s, err := e.State(ctx, b.Run)
	require.NoError(t, err)
	require.Equal(t, ledger.Held, s.Status())
	e.Close()

	e = start(t, log, a, nil) // another process
	tk := s.Tickets()[0]
	settle := func(s loop.Settlement) error { return e.Settle(ctx, b.Run, tk.Step, s) }
	var refused *loop.RefusedError
	require.ErrorAs(t, settle(loop.Settlement{Verb: ledger.Allow, Shown: "other"}), &refused)
	require.ErrorAs(t, settle(loop.Settlement{Verb: ledger.Happened}), &refused)
	require.ErrorAs(t, settle(loop.Settlement{Verb: ledger.RefuseIt}), &refused)
	var others *loop.NotEntitledError
	require.ErrorAs(t, settle(loop.Settlement{Verb: ledger.Allow, As: "cook"}), &others)
	assert.EqualError(t, others, `"cook" may not settle this ticket; it is for master`)
	require.ErrorAs(t, settle(loop.Settlement{Verb: ledger.Amend, Args: map[string]any{"berth": "quay"}}), &refused)
	assert.Contains(t, refused.Say, "the new values do not fit: berth must match")
	require.ErrorAs(t, settle(loop.Settlement{Verb: ledger.Amend, Args: map[string]any{"birth": "D2"}}), &refused)
	assert.Contains(t, refused.Say, `Did you mean "berth"?`)
	require.NoError(t, settle(loop.Settlement{ID: "click", Verb: ledger.Amend, Args: map[string]any{"berth": "D2"}, Shown: tk.Raised.Shown}))
	require.NoError(t, settle(loop.Settlement{ID: "click", Verb: ledger.Amend, Args: map[string]any{"berth": "D2"}}), "a repeated click gets the same answer")
	wait(t, e)
	var settled *loop.SettledError
	require.ErrorAs(t, settle(loop.Settlement{ID: "other", Verb: ledger.Allow}), &settled)
	s, err = e.State(ctx, b.Run)
	require.NoError(t, err)
	assert.Equal(t, ledger.Done, s.Status())
	assert.Equal(t, "D2", s.Facts()["booking"])
	assert.EqualValues(t, 2, a.done.Load(), "once each")
}

func TestAGateLapsesByItself(t *testing.T) {
	log := engine.NewMemory()
	a := &actor{say: script(`look {"name":"a"}`, `reserve {"berth":"C4"}`)}
	e := start(t, log, a, func(c *engine.Config) {
		c.Projects = one{coretest.Project(t, strings.Replace(coretest.Main, "within: 30m", "within: 20ms", 1))}
	})
	b := begin(t, e, engine.Start{})
	require.Eventually(t, func() bool {
		ev, err := engine.All(log.Read(ctx, b.Run, 0))
		return err == nil && ev[len(ev)-1].Kind == ledger.KindRunClosed
	}, 10*time.Second, 5*time.Millisecond)
	assert.Contains(t, kinds(t, log, b.Run), "timer.fired gate.settled call.refused")
}

// crash is a Log whose process ends before an append of a kind gets through.
type crash struct {
	*engine.Memory
	before ledger.Kind
	down   atomic.Bool
}

var errDown = errors.New("the process has ended")

func (c *crash) Append(ctx context.Context, b engine.Batch) error {
	for _, e := range b.Events {
		if e.Kind == c.before {
			c.down.Store(true)
		}
	}
	if c.down.Load() {
		return errDown
	}
	return c.Memory.Append(ctx, b)
}

func (c *crash) wait(t *testing.T) {
	t.Helper()
	require.Eventually(t, c.down.Load, 10*time.Second, time.Millisecond)
}

func TestAfterAKillTheRunGoesOn(t *testing.T) {
	for kind, calls := range map[ledger.Kind]int32{ledger.KindTurnReceived: 2, ledger.KindCallReturned: 3, ledger.KindRunClosed: 2} {
		t.Run(string(kind), func(t *testing.T) {
			log := engine.NewMemory()
			a := &actor{say: script(`look {"name":"a"}`, `pay {}`)}
			down := &crash{Memory: log, before: kind}
			e := start(t, down, a, nil)
			b := begin(t, e, engine.Start{})
			down.wait(t)
			e.Close()
			e = start(t, log, a, nil)
			wait(t, e)
			s, err := e.State(ctx, b.Run)
			require.NoError(t, err)
			assert.Equal(t, ledger.Done, s.Status())
			assert.Contains(t, kinds(t, log, b.Run), "run.recovered")
			assert.Equal(t, calls, a.done.Load(), "a lost read is called again, what had returned is not")
		})
	}
}

func TestALostWriteAsksAPerson(t *testing.T) {
	log := engine.NewMemory()
	a := &actor{say: script(`toot {}`)}
	down := &crash{Memory: log, before: ledger.KindCallReturned}
	e := start(t, down, a, nil)
	b := begin(t, e, engine.Start{})
	down.wait(t)
	e.Close()
	e = start(t, log, a, nil)
	wait(t, e)
	s, err := e.State(ctx, b.Run)
	require.NoError(t, err)
	require.Equal(t, ledger.Held, s.Status())
	assert.Contains(t, s.Tickets()[0].Raised.Ask, "Did toot happen? The service ended while toot was under way.")
	require.NoError(t, e.Settle(ctx, b.Run, "t1.c1", loop.Settlement{Verb: ledger.Happened, By: "ann", Result: "tooted"}))
	wait(t, e)
	assert.EqualValues(t, 1, a.done.Load(), "no action with consequences is done twice")
}

func TestStopEndsWhatIsUnderWay(t *testing.T) {
	for name, obeys := range map[string]bool{"a call that heeds the cancel": true, "one that does not": false} {
		t.Run(name, func(t *testing.T) {
			log := engine.NewMemory()
			began, release := make(chan struct{}), make(chan struct{})
			a := &actor{say: script(`toot {}`), do: func(ctx context.Context, _ deed.Invocation) (deed.Result, *deed.Failure) {
				close(began)
				if obeys {
					<-ctx.Done()
				} else {
					<-release
				}
				return deed.Result{}, &deed.Failure{Outcome: ledger.Unknown, Class: "stopped", Say: "cancelled"}
			}}
			e := start(t, log, a, nil)
			b := begin(t, e, engine.Start{})
			<-began
			require.NoError(t, e.Stop(ctx, b.Run, "ann", "enough"))
			wait(t, e)
			close(release)
			assert.True(t, strings.HasSuffix(kinds(t, log, b.Run), "run.stop_asked call.failed run.closed"))
			var refused *loop.RefusedError
			require.ErrorAs(t, e.Stop(ctx, b.Run, "ann", ""), &refused, "it is over")
			require.ErrorIs(t, e.Stop(ctx, "none-1", "ann", ""), engine.ErrNoRun)
		})
	}
}

func TestATurnIsRetriedThenFallsBack(t *testing.T) {
	log := engine.NewMemory()
	var models []string
	a := &actor{say: func(r deed.Request) (deed.Reply, *deed.ModelFailure) {
		models = append(models, r.Model)
		if r.Model == "m" {
			return deed.Reply{}, &deed.ModelFailure{Class: "server", Say: "500", Retry: true}
		}
		return deed.Reply{Text: "here"}, nil
	}}
	e := start(t, log, a, nil)
	begin(t, e, engine.Start{})
	wait(t, e)
	assert.Equal(t, []string{"m", "m", "spare"}, models)
}

func TestSecretsNeverEnterTheLedger(t *testing.T) {
	log := engine.NewMemory()
	keep := secret.New(func(string) (string, bool) { return "very-secret-value", true })
	keep.Learn("${secret:KEY}")
	a := &actor{say: script(`very-secret-value|look {"name":"very-secret-value"}`), do: func(context.Context, deed.Invocation) (deed.Result, *deed.Failure) {
		return deed.Result{Value: map[string]any{"length_m": 1.0, "x": "very-secret-value"}, Sent: &ledger.Sent{URL: "http://h/very-secret-value"}}, nil
	}}
	e := start(t, log, a, func(c *engine.Config) { c.Blanker = keep })
	b := begin(t, e, engine.Start{Text: "my key is very-secret-value"})
	wait(t, e)
	events, err := engine.All(log.Read(ctx, b.Run, 0))
	require.NoError(t, err)
	raw, err := json.Marshal(events)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "very-secret-value")
	assert.Contains(t, string(raw), "‹secret KEY›")
}

func TestWishesThatCannotBeMet(t *testing.T) {
	e := start(t, engine.NewMemory(), &actor{say: script()}, nil)
	for _, c := range []struct {
		s   engine.Start
		say string
	}{
		{engine.Start{Text: " "}, "the message is empty"}, {engine.Start{Text: "x", Agent: "dsk"}, `Did you mean "desk"?`}, {engine.Start{Text: "x", Model: "spar"}, `Did you mean "spare"?`},
		{engine.Start{Text: "x", Tools: "none"}, `tools cannot be "none"`}, {engine.Start{Text: "x", State: map[string]any{"length_m": "long"}}, "the given state does not fit"},
	} {
		_, err := e.Begin(ctx, c.s)
		var refused *loop.RefusedError
		require.ErrorAs(t, err, &refused)
		assert.Contains(t, refused.Say, c.say)
	}
	_, err := e.Begin(ctx, engine.Start{Text: "x", Session: "none"})
	require.ErrorIs(t, err, engine.ErrNoSession)
}

func TestManyRunsSideBySide(t *testing.T) {
	log := engine.NewMemory()
	e := start(t, log, &actor{say: script(`look {"name":"a"}|tide {}|toot {}`, `pass_to_berths {}`)}, nil)
	var wg sync.WaitGroup
	for range 200 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			_, err := e.Begin(ctx, engine.Start{Text: "go"})
			assert.NoError(t, err)
		}()
	}
	wg.Wait()
	wait(t, e)
	left, err := log.Unfinished(ctx)
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestACallUnderWayIsWaitedForAtTheEnd(t *testing.T) {
	log := engine.NewMemory()
	began, release := make(chan struct{}), make(chan struct{})
	a := &actor{say: script(`toot {}`), do: func(context.Context, deed.Invocation) (deed.Result, *deed.Failure) {
		close(began)
		<-release
		return deed.Result{Value: "tooted"}, nil
	}}
	e := start(t, log, a, func(c *engine.Config) { c.Grace = time.Minute })
	b := begin(t, e, engine.Start{})
	<-began
	closed := make(chan struct{})
	go func() {
		e.Close()
		close(closed)
	}()
	require.Eventually(t, func() bool {
		return !errors.Is(e.Stop(ctx, "none-1", "ann", ""), engine.ErrNoRun)
	}, 10*time.Second, time.Millisecond)
	_, err := e.Begin(ctx, engine.Start{Text: "too late"})
	require.ErrorContains(t, err, "the service is stopping", "nothing new begins")
	close(release)
	<-closed
	assert.True(t, strings.HasSuffix(kinds(t, log, b.Run), "call.started call.returned"), "its result is kept, and nothing follows: %s", kinds(t, log, b.Run))
	e = start(t, log, a, nil)
	wait(t, e)
	s, err := e.State(ctx, b.Run)
	require.NoError(t, err)
	assert.Equal(t, ledger.Done, s.Status(), "nobody has to be asked whether it happened")
	assert.EqualValues(t, 1, a.done.Load())
}

func TestATurnUnderWayIsAskedAgain(t *testing.T) {
	log := engine.NewMemory()
	gate := make(chan struct{})
	asked := atomic.Int32{}
	a := &actor{say: func(deed.Request) (deed.Reply, *deed.ModelFailure) {
		if asked.Add(1) == 1 {
			<-gate
		}
		return deed.Reply{Text: "here"}, nil
	}}
	e := start(t, log, a, func(c *engine.Config) { c.Grace = time.Minute })
	b := begin(t, e, engine.Start{})
	require.Eventually(t, func() bool { return asked.Load() == 1 }, 10*time.Second, time.Millisecond)
	e.Close() // at once
	close(gate)
	assert.Equal(t, "run.opened turn.sent", kinds(t, log, b.Run))
	e = start(t, log, a, nil)
	wait(t, e)
	assert.True(t, strings.HasSuffix(kinds(t, log, b.Run), "run.recovered turn.sent turn.received run.closed"))
}
