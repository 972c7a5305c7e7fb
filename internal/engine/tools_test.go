package engine_test

import (
	"context"
	"strings"
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

const lister = `
---
tool: list
summary: List the days of the year when they are asked for.
effect: read
cut: {rows: 2}
stubs: [{returns: []}]
---
tool: total
summary: Add the days up when their sum is asked for.
effect: read
input: {type: object, required: [rows], properties: {rows: {type: array, items: {type: object, properties: {day: {type: integer, description: Day}}}, description: The days}, what: {type: string, description: What}}}
stubs: [{returns: 0}]
`

func listing(t *testing.T) *project.Project {
	return coretest.Project(t, strings.Replace(coretest.Main, "tools: [look, tide, reserve, pay, toot]", "tools: [look, tide, reserve, pay, toot, list, total]", 1)+lister)
}

func TestAWholeResultIsPutWhereItsNameStands(t *testing.T) {
	var got []any
	a := &actor{do: func(_ context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
		if i.Tool.Name == "total" {
			got = i.Args.(map[string]any)["rows"].([]any)
			return deed.Result{Value: float64(len(got))}, nil
		}
		rows := []any{}
		for n := range 366 {
			rows = append(rows, map[string]any{"day": float64(n)})
		}
		return deed.Result{Value: rows}, nil
	}}
	a.say = script("list {}", `total {"rows":"result:1.t1.c1"}`, "Done.")
	log := engine.NewMemory()
	e := start(t, log, a, func(c *engine.Config) { c.Projects = one{listing(t)} })
	b := begin(t, e, engine.Start{})
	wait(t, e)
	assert.Len(t, got, 366, "the model read two of them, the tool all")
	events, err := engine.All(log.Read(ctx, b.Run, 0))
	require.NoError(t, err)
	for _, ev := range events {
		if d, ok := ev.Data.(*ledger.CallDecided); ok && d.Tool == "total" {
			assert.JSONEq(t, `{"rows":"result:1.t1.c1"}`, string(d.Args), "the ledger keeps the name")
		}
	}

	// a later run of the session knows the name; another session does not
	got = nil
	a.say = scriptAfter(3, `total {"rows":"result:1.t1.c1"}`, "Done.")
	begin(t, e, engine.Start{Session: b.Session, Text: "and again"})
	wait(t, e)
	assert.Len(t, got, 366)
	got = nil
	a.say = script(`total {"rows":"result:1.t1.c1"}`, "Done.")
	other := begin(t, e, engine.Start{})
	wait(t, e)
	assert.Nil(t, got)
	s, err := e.State(ctx, other.Run)
	require.NoError(t, err)
	assert.Equal(t, ledger.Done, s.Status())
}

func TestALongNumberGoesThroughARunAsItIs(t *testing.T) {
	const id = "9007199254740993" // a float64 would make another of it
	var args, vars any
	a := &actor{do: func(_ context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
		args, vars = i.Args.(map[string]any)["id"], i.Vars["args"].(map[string]any)["id"]
		return deed.Result{Value: map[string]any{"next": int64(9007199254740995)}}, nil
	}}
	a.say = script(`open {"id":`+id+`}`, "Done.")
	log := engine.NewMemory()
	p := coretest.Project(t, strings.Replace(coretest.Main, "tools: [look, tide, reserve, pay, toot]", "tools: [open]", 1)+`
---
tool: open
summary: Open a thing by its number when it is asked for.
effect: read
input: {type: object, required: [id], properties: {id: {type: integer, description: Its number}}}
output: {type: object, properties: {next: {type: integer}}}
sets: {}
says: {done: "{{ args.id }} is before {{ result.next }}"}
stubs: [{returns: {}}]
`)
	e := start(t, log, a, func(c *engine.Config) { c.Projects = one{p} })
	b := begin(t, e, engine.Start{})
	wait(t, e)
	assert.Equal(t, int64(9007199254740993), args)
	assert.Equal(t, args, vars)
	events, err := engine.All(log.Read(ctx, b.Run, 0))
	require.NoError(t, err)
	found := false
	for _, ev := range events {
		switch d := ev.Data.(type) {
		case *ledger.CallDecided:
			assert.JSONEq(t, `{"id":`+id+`}`, string(d.Args))
			assert.Contains(t, string(d.Args), id)
		case *ledger.CallReturned:
			found = true
			assert.Equal(t, `{"next":9007199254740995}`, string(d.Result))
			assert.Equal(t, id+" is before 9007199254740995", d.Words)
		}
	}
	assert.True(t, found)
}

// scriptAfter is script for a thread that has so many turns of an agent already.
func scriptAfter(had int, lines ...string) func(deed.Request) (deed.Reply, *deed.ModelFailure) {
	empty := make([]string, had)
	for i := range empty {
		empty[i] = "before"
	}
	return script(append(empty, lines...)...)
}

func TestWhatANameStandsForHasToFitToo(t *testing.T) {
	a := &actor{do: func(_ context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
		rows := []any{}
		for range 9 {
			rows = append(rows, "not a record")
		}
		return deed.Result{Value: rows}, nil
	}}
	a.say = script("list {}", `total {"rows":"result:1.t1.c1"}`, "Done.")
	log := engine.NewMemory()
	e := start(t, log, a, func(c *engine.Config) { c.Projects = one{listing(t)} })
	b := begin(t, e, engine.Start{})
	wait(t, e)
	events, err := engine.All(log.Read(ctx, b.Run, 0))
	require.NoError(t, err)
	found := false
	for _, ev := range events {
		if f, ok := ev.Data.(*ledger.CallFailed); ok {
			found = true
			assert.EqualValues(t, "args", f.Class)
			assert.Equal(t, ledger.NotDone, f.Outcome)
			assert.Contains(t, f.Words, "rows.0 must be an object, not a string")
		}
	}
	assert.True(t, found)
}

func TestACallFromOutsideRunsToItsEnd(t *testing.T) {
	a := &actor{say: script("never asked")}
	log := engine.NewMemory()
	e := start(t, log, a, nil)
	b := begin(t, e, engine.Start{Text: " ", Person: "editor", Via: "mcp", Call: &ledger.Ask{ID: "1", Tool: "look", Args: `{"name":"Petrel"}`}})
	wait(t, e)
	assert.Equal(t, "run.opened call.decided call.started call.returned state.changed run.closed", kinds(t, log, b.Run))
	b = begin(t, e, engine.Start{Call: &ledger.Ask{ID: "1", Tool: "reserve", Args: `{"berth":"C4"}`}, State: map[string]any{"length_m": 46.0}})
	wait(t, e)
	s, err := e.State(ctx, b.Run)
	require.NoError(t, err)
	require.Equal(t, ledger.Held, s.Status())
	require.NoError(t, e.Settle(ctx, b.Run, "t0.c1", loop.Settlement{Verb: ledger.Allow, By: "master"}))
	wait(t, e)
	s, err = e.State(ctx, b.Run)
	require.NoError(t, err)
	assert.Equal(t, ledger.Done, s.Status())
}

func TestACallFromOutsideThatWasLostIsRecovered(t *testing.T) {
	hang := make(chan struct{})
	defer close(hang)
	log := engine.NewMemory()
	a := &actor{say: script("never"), do: func(ctx context.Context, _ deed.Invocation) (deed.Result, *deed.Failure) {
		select {
		case <-ctx.Done():
		case <-hang:
		}
		return deed.Result{}, &deed.Failure{Outcome: ledger.Unknown, Say: "gone"}
	}}
	e := start(t, log, a, nil)
	b := begin(t, e, engine.Start{Call: &ledger.Ask{ID: "1", Tool: "look", Args: `{"name":"Petrel"}`}})
	require.Eventually(t, func() bool { return a.done.Load() == 1 }, 10*time.Second, time.Millisecond)
	e.Close()
	again := &actor{say: script("never")}
	e = start(t, log, again, nil)
	wait(t, e)
	assert.Contains(t, kinds(t, log, b.Run), "run.recovered call.started call.returned")
}

func TestRungsOfARunAreChecked(t *testing.T) {
	e := start(t, engine.NewMemory(), &actor{say: script("x")}, nil)
	_, err := e.Begin(ctx, engine.Start{Text: "x", Rung: "loud"})
	assert.ErrorContains(t, err, `unknown rung "loud"`)
	_, err = e.Begin(ctx, engine.Start{Text: "x", Rungs: map[string]ledger.Rung{"lok": "stub"}})
	assert.ErrorContains(t, err, `unknown tool "lok" in the rungs. Did you mean "look"?`)
}

func TestACallUnderWaySaysHowItGoes(t *testing.T) {
	hub, ready := &live.Hub{}, make(chan struct{})
	blanker := secret.New(func(string) (string, bool) { return "s3cret-value", true })
	blanker.Learn("${secret:KEY}")
	a := &actor{say: script("look {\"name\":\"Petrel\"}", "Done."), do: func(_ context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
		<-ready
		w := i.Logs()
		_, _ = w.Write([]byte("half a "))
		_, _ = w.Write([]byte("line with s3cret-value\n\n" + strings.Repeat("x", 2000) + "\n"))
		for range 1000 {
			_, _ = w.Write([]byte("flood\n"))
		}
		return deed.Result{Value: map[string]any{}}, nil
	}}
	e := start(t, engine.NewMemory(), a, func(c *engine.Config) { c.Live, c.Blanker = hub, blanker })
	b := begin(t, e, engine.Start{})
	r := hub.Read(b.Run)
	defer r.Close()
	close(ready)
	wait(t, e)
	var said []string
	for len(r.C) > 0 {
		if n := <-r.C; n.Step == "t1.c1" {
			said = append(said, n.Text)
		}
	}
	require.NotEmpty(t, said)
	assert.Equal(t, "half a line with ‹secret KEY›\n", said[0])
	assert.Len(t, said[1], 501, "a line has a length that can be read")
	assert.Less(t, len(said), 100, "a flood is not passed on")
}
