package engine_test

import (
	"context"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/secret"
)

func TestNoSecretEntersTheLedgerByAnyField(t *testing.T) {
	const key, pin = "harbour-key/7731", "48213377"
	keep := secret.New(func(n string) (string, bool) { return map[string]string{"KEY": key, "PIN": pin}[n], true })
	keep.Learn("${secret:KEY} ${secret:PIN}")
	log := engine.NewMemory()
	a := &actor{say: func(r deed.Request) (deed.Reply, *deed.ModelFailure) {
		n := 0
		for _, m := range r.Messages {
			if m.Role == ledger.Assistant {
				n++
			}
		}
		switch n {
		case 0:
			return deed.Reply{Model: key, Finish: key, Calls: []ledger.Ask{{ID: key, Tool: "look", Args: `{"name":"harbour-key\/7731"}`}, {ID: "b", Tool: "tool " + key, Args: "{}"}}}, nil
		case 1:
			return deed.Reply{Calls: []ledger.Ask{{ID: "c", Tool: "reserve", Args: `{"berth":"C4"}`}}}, nil
		}
		return deed.Reply{Text: "It is " + strings.ToUpper("x") + key[:10]}, nil
	}}
	a.do = func(context.Context, deed.Invocation) (deed.Result, *deed.Failure) {
		return deed.Result{Value: map[string]any{"length_m": 46.0, "pin": 48213377.0, "deep": []any{key}}, Sent: &ledger.Sent{Type: "text/" + key, URL: "http://office.example/?k=harbour-key%2F7731", Headers: map[string]string{"X-Echo": key, key: "x"}}}, nil
	}
	e := start(t, log, a, func(c *engine.Config) { c.Blanker = keep })
	b := begin(t, e, engine.Start{Text: "go", Person: "ann " + key, State: map[string]any{"booking": key}})
	wait(t, e)
	s, err := e.State(ctx, b.Run)
	require.NoError(t, err)
	require.Equal(t, ledger.Held, s.Status())
	step := s.Tickets()[0].Step
	require.NoError(t, e.Settle(ctx, b.Run, step, loop.Settlement{Verb: ledger.RefuseIt, By: key, As: "master", Because: "since " + key}))
	wait(t, e)
	events, err := engine.All(log.Read(ctx, b.Run, 0))
	require.NoError(t, err)
	for _, ev := range events {
		raw, err := json.Marshal(ev)
		require.NoError(t, err)
		assert.NotContains(t, string(raw), key, "%s", ev.Kind)
		assert.NotContains(t, string(raw), "7731", "%s", ev.Kind)
		assert.NotContains(t, string(raw), key[:10], "%s", ev.Kind)
		assert.NotContains(t, string(raw), pin, "%s", ev.Kind)
	}
	assert.Equal(t, ledger.Done, events[len(events)-1].Data.(*ledger.RunClosed).Status)
}
