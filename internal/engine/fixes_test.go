package engine_test

import (
	"context"
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
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
	"stonebaton.example/internal/engine"
)

func TestARetryBesideAnOpenTicketIsMade(t *testing.T) {
	log := engine.NewMemory()
	failed := false
	a := &actor{say: script(`look {"name":"a"}`, `look {"name":"b"}|reserve {"berth":"C4"}`)}
	a.do = func(_ context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
		if args := i.Args.(map[string]any); args["name"] == "b" && !failed {
			failed = true
			return deed.Result{}, &deed.Failure{Outcome: ledger.NotDone, Class: "server", Say: "502", Retry: true, After: 20 * time.Millisecond}
		}
		return deed.Result{Value: map[string]any{"length_m": 46.0}}, nil
	}
	e := start(t, log, a, nil)
	b := begin(t, e, engine.Start{})
	require.Eventually(t, func() bool {
		s, err := e.State(ctx, b.Run)
		return err == nil && s.Status() == ledger.Held && s.Call("t2.c1") != nil && s.Call("t2.c1").Progress == run.Returned
	}, 10*time.Second, time.Millisecond, "the call that waited for its retry has run, while the ticket is open")
	assert.Contains(t, kinds(t, log, b.Run), "call.failed")
}

// ticking is a clock that shows another moment each time it is read.
type ticking struct {
	engine.WallClock
	mu sync.Mutex
	at time.Time
}

func (c *ticking) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.at = c.at.Add(time.Millisecond)
	return c.at
}

// Until waits for ever: in this clock's year nothing becomes due.
func (c *ticking) Until(time.Time, bool) (<-chan time.Time, func()) { return nil, func() {} }

func TestAPromptThatShowsMillisecondsIsRebuiltAsItWasSent(t *testing.T) {
	log := engine.NewMemory()
	p := coretest.Project(t, strings.Replace(coretest.Main, "Today is {{ today }}.", "It is {{ now }}, to the millisecond {{ now.getMilliseconds() }}.", 1))
	var sent []string
	var mu sync.Mutex
	a := &actor{say: func(r deed.Request) (deed.Reply, *deed.ModelFailure) {
		mu.Lock()
		defer mu.Unlock()
		sent = append(sent, r.System)
		return deed.Reply{Text: "here"}, nil
	}}
	e := start(t, log, a, func(c *engine.Config) { c.Projects, c.Clock = one{p}, &ticking{at: coretest.Epoch} })
	b := begin(t, e, engine.Start{})
	wait(t, e)
	events, err := engine.All(log.Read(ctx, b.Run, 0))
	require.NoError(t, err)
	n := 0
	for i, ev := range events {
		if ev.Kind != ledger.KindTurnSent {
			continue
		}
		before, err := run.Fold(b.Run, events[:i])
		require.NoError(t, err)
		again, err := prompt.Build(p, before, before.Main(), "m", ev.At)
		require.NoError(t, err)
		assert.Equal(t, ev.Data.(*ledger.TurnSent).System, again.SystemHash, "the clock is read once for an event and what it holds")
		assert.Equal(t, sent[n], again.System)
		n++
	}
	assert.Equal(t, 1, n)
}

// seer is an actor whose calls can be looked at.
type seer struct {
	*actor
	diff string
	bad  *deed.Failure
}

func (s seer) Look(context.Context, deed.Invocation) (string, *deed.Failure) { return s.diff, s.bad }

const edits = coretest.Main + `---
tool: edit
summary: Replace a passage of a note when it has to be changed.
input: {type: object, properties: {path: {type: string, description: Its path.}, old: {type: string, description: The old.}, new: {type: string, description: The new.}}}
program: {run: [edit], looks: true}
gate: {why: notes are ours, by: [master], ask: "Change {{ args.path }}?"}
---
agent: clerk
summary: Keeps the notes.
prompt: You keep the notes.
tools: [edit]
`

func TestWhatCannotSucceedAsksNobody(t *testing.T) {
	const call = `edit {"path":"a.md","old":"x","new":"y"}`
	clerk := func(look seer) (*engine.Memory, *engine.Engine, engine.Begun) {
		log := engine.NewMemory()
		e := start(t, log, look.actor, func(c *engine.Config) { c.Projects, c.Tools = one{coretest.Project(t, edits)}, look })
		b := begin(t, e, engine.Start{Agent: "clerk"})
		wait(t, e)
		return log, e, b
	}
	log, e, b := clerk(seer{actor: &actor{say: script(call)}, bad: &deed.Failure{Outcome: ledger.NotDone, Class: "refused", Say: "the passage is not in a.md"}})
	assert.Contains(t, kinds(t, log, b.Run), "call.decided call.looked call.refused turn.sent")
	s, err := e.State(ctx, b.Run)
	require.NoError(t, err)
	assert.Contains(t, s.Main().Messages()[2].Text, "edit was not called: the passage is not in a.md.")

	log, e, b = clerk(seer{actor: &actor{say: script(call)}, diff: "-x\n+y\n"})
	assert.True(t, strings.HasSuffix(kinds(t, log, b.Run), "call.looked gate.raised"))
	s, err = e.State(ctx, b.Run)
	require.NoError(t, err)
	assert.Equal(t, "-x\n+y\n", s.Tickets()[0].Raised.Diff, "the person sees the difference")
}

func TestAnUndoIsToldToTheNextTurn(t *testing.T) {
	var seen [][]ledger.Message
	var mu sync.Mutex
	a := &actor{say: func(r deed.Request) (deed.Reply, *deed.ModelFailure) {
		mu.Lock()
		defer mu.Unlock()
		seen = append(seen, r.Messages)
		if len(r.Messages) == 1 {
			return deed.Reply{Calls: []ledger.Ask{{ID: "1", Tool: "toot", Args: "{}"}}}, nil
		}
		return deed.Reply{Text: "yes"}, nil
	}}
	log := engine.NewMemory()
	e := start(t, log, a, nil)
	first := begin(t, e, engine.Start{Text: "first"})
	wait(t, e)
	require.NoError(t, e.Undone(ctx, first.Run, "t1.c1", "notes/a.md", "ann"))
	wait(t, e)
	assert.True(t, strings.HasSuffix(kinds(t, log, first.Run), "run.closed file.undone"), "the run that did it has the mark, though it is over")
	s, err := e.State(ctx, first.Run)
	require.NoError(t, err)
	assert.Equal(t, ledger.Done, s.Status())
	assert.Equal(t, s.ClosedAt().Sub(s.OpenedAt()), s.Worked(s.At()), "and does not work on because of it")
	begin(t, e, engine.Start{Text: "second", Session: first.Session})
	wait(t, e)
	last := seen[len(seen)-1]
	assert.Equal(t, "(ann has undone your change of notes/a.md: the file is as it was before.)", last[len(last)-2].Text)

	// the session has gone on since: the run that did it has the mark, and the newest tells of it
	require.NoError(t, e.Undone(ctx, first.Run, "t1.c1", "notes/b.md", "ann"))
	wait(t, e)
	begin(t, e, engine.Start{Text: "third", Session: first.Session})
	wait(t, e)
	last = seen[len(seen)-1]
	assert.Contains(t, last[len(last)-2].Text, "notes/b.md")
}

func TestANewSessionBeginsWithTheDefaultsOfItsState(t *testing.T) {
	p := coretest.Project(t, strings.Replace(coretest.Main, "booking: {type: string}", "booking: {type: string}, berth: {type: string, default: none}", 1))
	e := start(t, engine.NewMemory(), &actor{say: script()}, func(c *engine.Config) { c.Projects = one{p} })
	b := begin(t, e, engine.Start{State: map[string]any{"length_m": 3.0}})
	wait(t, e)
	s, err := e.State(ctx, b.Run)
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"length_m": 3.0, "berth": "none"}, s.Facts())
	_, err = e.Begin(ctx, engine.Start{Text: "x", State: map[string]any{"lenght_m": 3.0}})
	require.ErrorContains(t, err, "the given state does not fit: lenght_m is not known")
}

func TestAGivenResultIsHeldAgainstTheContract(t *testing.T) {
	log := engine.NewMemory()
	text := strings.Replace(coretest.Main, "effect: write\nresend: key\nstubs: [{returns: paid}]", "effect: write\nretry: 0\noutput: {type: object, required: [id], properties: {id: {type: string}}}\nstubs: [{returns: {id: P-1}}]", 1)
	a := &actor{say: script(`pay {}`), do: func(context.Context, deed.Invocation) (deed.Result, *deed.Failure) {
		return deed.Result{}, &deed.Failure{Outcome: ledger.Unknown, Class: "timeout", Say: "late"}
	}}
	e := start(t, log, a, func(c *engine.Config) { c.Projects = one{coretest.Project(t, text)} })
	b := begin(t, e, engine.Start{})
	wait(t, e)
	settle := func(s loop.Settlement) error { return e.Settle(ctx, b.Run, "t1.c1", s) }
	var refused *loop.RefusedError
	require.ErrorAs(t, settle(loop.Settlement{Verb: ledger.Happened, Result: map[string]any{"id": 7.0}}), &refused)
	assert.Contains(t, refused.Say, "the result is not one that pay gives: id must be a string")
	require.NoError(t, settle(loop.Settlement{ID: "x", Verb: ledger.Happened, Result: map[string]any{"id": "P-1"}}))
	require.NoError(t, settle(loop.Settlement{ID: "x", Verb: ledger.Happened}), "a repeated click gets the same answer")
	var settled *loop.SettledError
	require.ErrorAs(t, settle(loop.Settlement{ID: "x", Verb: ledger.GiveUp}), &settled, "with another verb it is another settlement")
}
