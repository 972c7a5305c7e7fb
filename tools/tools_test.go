package tools_test

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton/core/coretest"
	"stonebaton/core/expr"
	"stonebaton/core/ledger"
	"stonebaton/core/loop"
	"stonebaton/core/project"
	"stonebaton/engine"
	"stonebaton/tools"
)

type real struct{}

func (real) Call(context.Context, engine.Invocation) (loop.Result, *loop.Failure) {
	return loop.Result{Value: "real"}, nil
}

const more = `
---
tool: berth
summary: A berth.
effect: read
input: {type: object, properties: {name: {type: string, description: n}}}
http: {url: "http://127.0.0.1:1/"}
stubs:
  - {when: args.name == 'C4', returns: {berth: "=args.name", free: true, n: "=1 + 1"}}
  - {when: args.name == 'D2', fails: "{{ args.name }} is taken."}
---
tool: bare
summary: No stubs.
http: {url: "http://127.0.0.1:1/"}
---
tool: sum
summary: A script.
effect: read
script: return 1
`

func call(p *project.Project, name, arg string, stub bool) (loop.Result, *loop.Failure) {
	args := map[string]any{"name": arg}
	return tools.NewSet(map[string]tools.Handler{"http": real{}, "script": real{}}).Call(context.Background(), engine.Invocation{Project: p, Tool: p.Tools[name], Args: args, Stub: stub, Vars: expr.Vars{"args": args}})
}

func TestAStubStandsBehindTheSameContract(t *testing.T) {
	p := coretest.Project(t, coretest.Main+more)
	r, bad := call(p, "berth", "C4", true)
	require.Nil(t, bad)
	assert.Equal(t, map[string]any{"berth": "C4", "free": true, "n": 2.0}, r.Value, "numbers are as JSON has them")
	assert.Equal(t, "stub 1 of berth", r.Sent.URL)
	_, bad = call(p, "berth", "D2", true)
	require.NotNil(t, bad)
	assert.Equal(t, "D2 is taken.", bad.Say)
	assert.Equal(t, ledger.NotDone, bad.Outcome)
	_, bad = call(p, "berth", "E9", true)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "no stub of berth fits these arguments: add one to stonebaton.yaml")
	r, bad = call(p, "berth", "C4", false)
	require.Nil(t, bad)
	assert.Equal(t, "real", r.Value, "swapped in with one word")
}

func TestWhatHasNoStub(t *testing.T) {
	p := coretest.Project(t, coretest.Main+more)
	_, bad := call(p, "bare", "x", true)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "bare has no stubs: add stubs: to stonebaton.yaml")
	r, bad := call(p, "sum", "x", true)
	require.Nil(t, bad)
	assert.Equal(t, "real", r.Value, "a script reaches nothing, so it runs itself")
	r, bad = call(p, "tide", "x", false)
	require.Nil(t, bad)
	assert.Equal(t, "high", r.Value, "a tool of stubs alone answers from them, live too")
	_, bad = tools.NewSet(nil).Call(context.Background(), engine.Invocation{Tool: p.Tools["sum"]})
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "no handler of the kind")
}

func TestClip(t *testing.T) {
	assert.Equal(t, "short", tools.Clip("short", 10))
	assert.Equal(t, "aaa… (9 bytes in all)", tools.Clip(strings.Repeat("a", 9), 3))
	assert.Equal(t, "… (6 bytes in all)", tools.Clip("ééé", 1), "a letter is not cut in two")
}
