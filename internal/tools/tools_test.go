package tools_test

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/tools"
	"stonebaton.example/internal/tools/tooltest"
)

type real struct{}

func (real) Call(context.Context, deed.Invocation) (deed.Result, *deed.Failure) {
	return deed.Result{Value: "real"}, nil
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

func call(p *project.Project, name, arg string, stub bool) (deed.Result, *deed.Failure) {
	args := map[string]any{"name": arg}
	return tools.NewSet(map[string]tools.Handler{"http": real{}, "script": real{}}, nil, nil).Call(context.Background(), deed.Invocation{Project: p, Tool: p.Tools[name], Args: args, Stub: stub, Vars: expr.Vars{"args": args}})
}

func TestAStubStandsBehindTheSameContract(t *testing.T) {
	p := tooltest.Project(t, strings.TrimPrefix(more, "---\n"), nil)
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
	p := tooltest.Project(t, strings.TrimPrefix(more, "---\n"), nil)
	_, bad := call(p, "bare", "x", true)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "bare has no stubs: add stubs: to stonebaton.yaml")
	r, bad := call(p, "sum", "x", true)
	require.Nil(t, bad)
	assert.Equal(t, "real", r.Value, "a script reaches nothing, so it runs itself")
	r, bad = call(p, "tide", "x", false)
	require.Nil(t, bad)
	assert.Equal(t, "high", r.Value, "a tool of stubs alone answers from them, live too")
	_, bad = tools.NewSet(nil, nil, nil).Call(context.Background(), deed.Invocation{Tool: p.Tools["sum"]})
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "no handler of the kind")
}

type broken struct{}

func (broken) Call(context.Context, deed.Invocation) (deed.Result, *deed.Failure) {
	panic("out of order")
}

func TestAHandlerThatBreaksDownFailsItsCallAlone(t *testing.T) {
	_, _, i := shaped(t, "")
	_, bad := tools.NewSet(map[string]tools.Handler{"http": broken{}}, nil, nil).Call(t.Context(), i)
	require.NotNil(t, bad)
	assert.Equal(t, "x panicked: out of order", bad.Say)
	assert.Equal(t, ledger.Unknown, bad.Outcome)
}

func TestClip(t *testing.T) {
	assert.Equal(t, "short", tools.Clip("short", 10))
	assert.Equal(t, "aaa… (9 bytes in all)", tools.Clip(strings.Repeat("a", 9), 3))
	assert.Equal(t, "… (6 bytes in all)", tools.Clip("ééé", 1), "a letter is not cut in two")
}

type counted struct{ n int }

func (c *counted) Call(context.Context, deed.Invocation) (deed.Result, *deed.Failure) {
	c.n++
	return deed.Result{Value: float64(c.n)}, nil
}

func shaped(t *testing.T, more string) (*tools.Set, *counted, deed.Invocation) {
	p := tooltest.Project(t, "tool: x\nsummary: Do x when it is asked for.\neffect: read\ninput: {type: object, properties: {name: {type: string, description: n}}}\nhttp: {url: \"http://127.0.0.1:1/\"}\n"+more, nil)
	c := &counted{}
	args := map[string]any{"name": "a"}
	return tools.NewSet(map[string]tools.Handler{"http": c}, nil, nil), c, deed.Invocation{Project: p, Tool: p.Tools["x"], Args: args, Vars: expr.Vars{"args": args}}
}

func TestAResultIsKeptForAsLongAsItsToolAllows(t *testing.T) {
	set, c, i := shaped(t, "cache: 1h\n")
	for range 3 {
		r, bad := set.Call(t.Context(), i)
		require.Nil(t, bad)
		assert.Equal(t, 1.0, r.Value)
	}
	assert.Equal(t, 1, c.n)
	r, _ := set.Call(t.Context(), i)
	assert.Equal(t, "CACHE", r.Sent.Method)
	assert.Contains(t, r.Sent.URL, "kept for 1h")
	i.Args = map[string]any{"name": "b"}
	r, _ = set.Call(t.Context(), i)
	assert.Equal(t, 2.0, r.Value, "for the same arguments")
	i.Facts = map[string]any{"length_m": 3.0}
	r, _ = set.Call(t.Context(), i)
	assert.Equal(t, 3.0, r.Value, "and the same state")
	i.Person = "hans"
	r, _ = set.Call(t.Context(), i)
	assert.Equal(t, 4.0, r.Value, "for the same person")
	i.Vars = expr.Vars{"args": i.Args, "person": map[string]any{"name": "hans", "is": []any{"harbourmaster"}}}
	r, _ = set.Call(t.Context(), i)
	assert.Equal(t, 5.0, r.Value, "who may the same")
	set, c, i = shaped(t, "cache: 1h\nshared: true\n")
	for _, i.Person = range []string{"hans", "ada"} {
		set.Call(t.Context(), i)
	}
	assert.Equal(t, 1, c.n, "what is the same for all says so")
	_, probs := app.Reader.Compile(project.Source{Files: map[string]string{project.Main: strings.Replace(coretest.Main, "summary: Sound the horn", "shared: true\nsummary: Sound the horn", 1)}})
	require.NotEmpty(t, probs)
	assert.Contains(t, probs[0].Say, "keeps none")
	_, probs = app.Reader.Compile(project.Source{Files: map[string]string{project.Main: strings.Replace(coretest.Main, "summary: Sound the horn", "cache: 1m\nsummary: Sound the horn", 1)}})
	require.NotEmpty(t, probs)
	assert.Contains(t, probs[0].Say, "only the results of reads can be kept")
}

func TestARateIsKept(t *testing.T) {
	set, c, i := shaped(t, "rate: {per_minute: 2}\n")
	for range 2 {
		_, bad := set.Call(t.Context(), i)
		require.Nil(t, bad)
	}
	_, bad := set.Call(t.Context(), i)
	require.NotNil(t, bad)
	assert.EqualValues(t, "rate", bad.Class)
	assert.Equal(t, ledger.NotDone, bad.Outcome)
	assert.True(t, bad.Retry)
	assert.InDelta(t, 60*time.Second, bad.After, float64(5*time.Second), "it is tried again when it may be")
	assert.Equal(t, 2, c.n)
	i.Stub = true
	i.Tool.Stubs = []project.Stub{{Returns: nil}}
	_, bad = set.Call(t.Context(), i)
	assert.Nil(t, bad, "stubs are not counted")
}

func TestRatesHoldInAnySpan(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		set, c, i := shaped(t, "rate: {per_second: 2, per_day: 5}\n")
		tries := func(n int) {
			for range n {
				_, _ = set.Call(t.Context(), i)
			}
		}
		tries(3)
		assert.Equal(t, 2, c.n)
		time.Sleep(900 * time.Millisecond)
		tries(1)
		assert.Equal(t, 2, c.n, "a second is not over")
		time.Sleep(100 * time.Millisecond)
		tries(3)
		assert.Equal(t, 4, c.n)
		time.Sleep(10 * time.Second)
		tries(3)
		assert.Equal(t, 5, c.n, "and a day has five")
		_, bad := set.Call(t.Context(), i)
		require.NotNil(t, bad)
		assert.Equal(t, "x may be called 2 in a second, 5 in a day, and has been; the next call can be made in 23h59m49s", bad.Say)
		time.Sleep(24*time.Hour - 11*time.Second)
		tries(3)
		assert.Equal(t, 7, c.n, "the first two are a day old")

		// tools that share a name have one count
		other := *i.Tool
		other.Name = "other"
		other.Rate = project.Rate{PerMinute: 3, Shared: "office"}
		first := other
		first.Name = "first"
		c.n = 0
		for _, tool := range []*project.Tool{&first, &other, &first, &other} {
			i.Tool = tool
			tries(1)
		}
		assert.Equal(t, 3, c.n)
	})
}

func TestToolsThatShareARate(t *testing.T) {
	for say, rates := range map[string][2]string{
		"":                                 {"rate: {per_minute: 3, shared: office}", "rate: {shared: office}"},
		`no tool says how many calls`:      {"rate: {shared: office}", "rate: {shared: office}"},
		`"a" and "b" share a count, but 3`: {"rate: {per_minute: 3, shared: office}", "rate: {per_day: 3, shared: office}"},
	} {
		text := coretest.Main
		for n, name := range []string{"a", "b"} {
			text += "\n---\ntool: " + name + "\nsummary: Do it when somebody asks for " + name + ".\n" + rates[n] + "\nstubs: [{returns: x}]\nresend: key\n"
		}
		p, probs := app.Reader.Compile(project.Source{Files: map[string]string{project.Main: text}})
		if say == "" {
			require.NotNil(t, p, "%v", probs)
			assert.Equal(t, p.Tools["a"].Rate, p.Tools["b"].Rate)
			assert.Equal(t, "3 in a minute for all that share office", p.Tools["b"].Rate.String())
			continue
		}
		var said []string
		for _, p := range probs {
			said = append(said, p.Say)
		}
		assert.Contains(t, strings.Join(said, "\n"), say)
	}
}

func TestStubsCanBeLateAndFailInEveryWay(t *testing.T) {
	set, _, i := shaped(t, "timeout: 10s\nstubs:\n  - {when: args.name == 'late', after: 3s, returns: there}\n  - {when: args.name == 'never', after: 1m, returns: there}\n  - {fails: {say: \"{{ args.name }} broke\", status: 503}}\n")
	i.Stub = true
	var waited time.Duration
	i.Pause = func(_ context.Context, d time.Duration) error { waited += d; return nil }
	name := func(n string) {
		args := map[string]any{"name": n}
		i.Args, i.Vars = args, expr.Vars{"args": args}
	}
	name("late")
	r, bad := set.Call(t.Context(), i)
	require.Nil(t, bad)
	assert.Equal(t, "there", r.Value)
	assert.Equal(t, 3*time.Second, waited, "by the clock of the run")
	name("never")
	_, bad = set.Call(t.Context(), i)
	require.NotNil(t, bad)
	assert.EqualValues(t, "timeout", bad.Class)
	assert.Equal(t, 13*time.Second, waited, "as long as a real one would have been waited for")
	name("it")
	_, bad = set.Call(t.Context(), i)
	require.NotNil(t, bad)
	assert.Equal(t, deed.Failure{Outcome: ledger.Unknown, Class: "server", Say: "it broke", Status: 503, Retry: true, Sent: &ledger.Sent{Method: "STUB", URL: "stub 3 of x"}}, *bad)
	i.Pause = nil
	name("late")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, bad = set.Call(ctx, i)
	require.NotNil(t, bad)
	assert.EqualValues(t, "timeout", bad.Class)
}
