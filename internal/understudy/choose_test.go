package understudy_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/prompt"
	"stonebaton.example/internal/understudy"
)

var monday = time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)

func TestAChoiceNamesEveryCandidateWithTheWordsBehindIt(t *testing.T) {
	p := coretest.Project(t, coretest.Main)
	c, err := understudy.Choose(p, "", "ann", `Look the vessel "Petrel" up by its name, then sound the horn`, monday)
	require.NoError(t, err)
	assert.Equal(t, "desk", c.Agent)
	require.Len(t, c.Goals, 2)
	assert.Len(t, c.Goals[0].Candidates, 6, "every tool, and whom it passes to")
	best := c.Goals[0].Candidates[0]
	assert.Equal(t, "look", best.Tool)
	assert.True(t, best.Enough)
	assert.JSONEq(t, `{"name":"Petrel"}`, best.Args)
	assert.Contains(t, best.Because(), "vessel +1.4 (its summary)")
	assert.Equal(t, "toot", c.Goals[1].Candidates[0].Tool)
	require.Len(t, c.Calls, 1, "the write waits for the read")
	_, err = understudy.Choose(p, "dsk", "ann", "hello", monday)
	var unknown *prompt.UnknownAgentError
	require.ErrorAs(t, err, &unknown)
	assert.Contains(t, unknown.Error(), `Did you mean "desk"`)
	assert.Contains(t, unknown.Remedy(), "berths, desk")
}

func TestAPoorDescriptionIsWorseAndTheStepSaysWhy(t *testing.T) {
	main := func(summary, param string) string {
		return strings.Replace(strings.Replace(coretest.Main, "summary: Tell when the tide is high.", "summary: "+summary, 1), "tool: tide\n", "tool: "+param+"\n", 1)
	}
	said := "When is the tide high?"
	good, err := understudy.Choose(coretest.Project(t, coretest.Main), "", "ann", said, monday)
	require.NoError(t, err)
	poor, err := understudy.Choose(coretest.Project(t, strings.Replace(main("Service call.", "svc_17"), "tools: [look, tide,", "tools: [look, svc_17,", 1)), "", "ann", said, monday)
	require.NoError(t, err)
	require.Len(t, good.Calls, 1)
	assert.Equal(t, "tide", good.Calls[0].Tool)
	assert.Empty(t, poor.Calls, "nothing in the description speaks for it")
	for _, r := range poor.Goals[0].Candidates {
		if r.Tool == "svc_17" {
			assert.False(t, r.Enough)
			assert.Less(t, r.Score, good.Goals[0].Candidates[0].Score)
		}
	}
	reply := understudy.Part{}.Answer(deed.Request{System: system, Tools: tools, Messages: []ledger.Message{user("Look up the vessel Petrel")}})
	assert.Contains(t, reply.Reasoning, "find_vessel ")
	assert.Contains(t, reply.Reasoning, "vessel +")
	assert.Contains(t, reply.Reasoning, "(its name)")
}

func TestItSlipsInAStatedWayAndAlwaysTheSame(t *testing.T) {
	r := func(i int) deed.Request {
		return deed.Request{System: system, Tools: tools, Messages: []ledger.Message{user(fmt.Sprintf("What are the dues for %d nights, 38 m?", i))}}
	}
	slips := 0
	ways := map[string]bool{}
	for i := range 300 {
		part := understudy.Part{Slips: 0.2, Seed: 3}
		out := part.Answer(r(i + 1))
		assert.Equal(t, out, part.Answer(r(i+1)), "the same request slips the same way")
		right := understudy.Part{}.Answer(r(i + 1))
		require.Len(t, out.Calls, 1)
		wrong := out.Calls[0] != right.Calls[0]
		assert.Equal(t, wrong, strings.Contains(out.Reasoning, "A slip on purpose (slips: 0.2, seed: 3): "), "each is stated")
		if !wrong {
			continue
		}
		slips++
		_, way, _ := strings.Cut(out.Reasoning, "seed: 3): ")
		ways[strings.Join(strings.Fields(way)[1:3], " ")] = true
		assert.True(t, json.Valid([]byte(out.Calls[0].Args)))
	}
	assert.InDelta(t, 60, slips, 25, "about one in five")
	assert.Len(t, ways, 3, "left out, a list, misspelt: %v", ways)
	assert.Equal(t, understudy.Part{}.Answer(r(1)), understudy.Part{Seed: 9}.Answer(r(1)), "a seed alone changes nothing")
}

func TestItsPaceIsSetByTheModel(t *testing.T) {
	p := coretest.Project(t, strings.Replace(coretest.Main, "models: {m: {speaks: understudy,", "models: {m: {speaks: understudy, latency: 10h, word: 1ms,", 1))
	r := deed.Request{Messages: []ledger.Message{user("hello")}}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, bad := (&understudy.Wire{}).Ask(ctx, p, p.Models["m"], r, func(string) {})
	require.NotNil(t, bad, "ten hours before the first word")
	assert.EqualValues(t, "stopped", bad.Class)
	ctx, cancel = context.WithDeadline(context.Background(), time.Now().Add(-time.Second))
	defer cancel()
	_, bad = (&understudy.Wire{}).Ask(ctx, p, p.Models["m"], r, func(string) {})
	require.NotNil(t, bad)
	assert.EqualValues(t, "timeout", bad.Class)
	out, bad := (&understudy.Wire{Always: true}).Ask(context.Background(), p, p.Models["m"], r, func(string) {})
	require.Nil(t, bad, "in a drill it takes no time")
	assert.NotEmpty(t, out.Text)
}

func TestADrillMaySlip(t *testing.T) {
	all, none := 1.0, 0.0
	p := coretest.Project(t, coretest.Main)
	r := deed.Request{System: "You are the desk.", Tools: p.Agents["desk"].Box.Contracts, Messages: []ledger.Message{user(`Look the vessel "Petrel" up by its name`)}}
	out, bad := (&understudy.Wire{Always: true, Slips: &all}).Ask(context.Background(), p, p.Models["m"], r, func(string) {})
	require.Nil(t, bad)
	assert.Contains(t, out.Reasoning, "A slip on purpose")
	out, bad = (&understudy.Wire{Always: true, Slips: &none}).Ask(context.Background(), p, p.Models["m"], r, func(string) {})
	require.Nil(t, bad)
	assert.NotContains(t, out.Reasoning, "A slip on purpose")
}
