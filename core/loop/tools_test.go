package loop_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/run"
)

// bigger is the small project with one more tool, which every test shapes.
func bigger(t *testing.T, extra string) *coretest.World {
	t.Helper()
	text := strings.Replace(coretest.Main, "tools: [look, tide, reserve, pay, toot]", "tools: [look, tide, reserve, pay, toot, ring]", 1)
	return coretest.Open(coretest.Project(t, text+`
---
tool: ring
summary: Ring the bell a number of times when it is asked for.
input: {type: object, required: [times], properties: {times: {type: integer, description: How many times.}, loud: {type: boolean, default: false, description: Whether loud.}, rows: {type: array, description: Rows of before.}}}
`+extra+"\n"), "Ring it.")
}

const ringStub = "stubs: [{returns: rung}]\nresend: key\n"

func TestArgumentsAreRepairedAndItIsRecorded(t *testing.T) {
	w := bigger(t, ringStub)
	w.Step()
	w.Reply("", `ring {"times":"3"}`)
	w.Step()
	d := w.S.Main().Turn().Calls[0].Decided
	assert.Equal(t, ledger.Start, d.Verdict)
	assert.JSONEq(t, `{"times":3,"loud":false}`, string(d.Args))
	assert.Equal(t, []string{"loud was missing; its default false was taken", `times was the text "3"; the number 3 was taken`}, d.Repairs)
	assert.Equal(t, `{"times":"3"}`, w.S.Main().Turn().Reply.Calls[0].Args, "what the model wrote stays as it was")
}

func TestAReasonComesFirstAndIsNotSentOn(t *testing.T) {
	w := bigger(t, ringStub+"reason_first: true\ngate: {}\n")
	w.Step()
	params := string(w.Asked[0].Tools[5].Parameters)
	assert.Less(t, strings.Index(params, `"because":{`), strings.Index(params, `"loud":{`), "the reason is the first parameter")
	assert.Contains(t, params, `"required":["because","times"]`)
	w.Reply("", `ring {"times":1}`, `ring {"because":"A ship came in.","times":2}`)
	w.Step()
	calls := w.S.Main().Turn().Calls
	assert.Equal(t, ledger.Refuse, calls[0].Decided.Verdict)
	assert.Contains(t, calls[0].Decided.Words, `say first, in "because", why you call it`)
	assert.Equal(t, "A ship came in.", calls[1].Decided.Because)
	assert.NotContains(t, string(calls[1].Args), "because")
	assert.Equal(t, "A ship came in.", calls[1].Ticket.Raised.Because, "it stands on the ticket")
}

func TestUnlessRejectsBeforeAnybodyIsAskedAndAgainAfterTheyAgreed(t *testing.T) {
	w := bigger(t, ringStub+`unless:
  - {when: "args.times > 10", say: "The bell rings ten times at most, not {{ args.times }}."}
  - {when: "state.?booking.orValue('') == 'quiet'", say: "It is quiet now."}
gate: {}
`)
	w.Step()
	w.Reply("", `ring {"times":11}`)
	w.Step()
	assert.Equal(t, "The bell rings ten times at most, not 11.", w.Words()[0])
	w.Reply("", `ring {"times":2}`)
	w.Step()
	require.Len(t, w.S.Tickets(), 1)
	w.Settle("t2.c1", ledger.Amend, map[string]any{"times": 12})
	w.Step()
	assert.Equal(t, "The bell rings ten times at most, not 12.", w.Words()[0], "changed values are looked at too")
	w.Reply("", `ring {"times":3}`)
	w.Step()
	w.Append(ledger.New("t3.c1", &ledger.StateChanged{Patch: []byte(`[{"op":"add","path":"/booking","value":"quiet"}]`)}))
	w.Settle("t3.c1", ledger.Allow, nil)
	w.Step()
	assert.Equal(t, "It is quiet now.", w.Words()[0], "so is what has changed meanwhile")
}

func TestARuleThatFailsToEvaluateRejects(t *testing.T) {
	w := bigger(t, ringStub+"unless: [{when: \"10 / (args.times - 1) > 1\", say: no}]\n")
	w.Step()
	w.Reply("", `ring {"times":1}`)
	w.Step()
	assert.Contains(t, w.Words()[0], "a rule of it failed to evaluate")
}

func TestADirectResultIsTheAnswer(t *testing.T) {
	w := bigger(t, "stubs: [{returns: ding}]\neffect: read\ndirect: true\n")
	w.Step()
	w.Reply("", `ring {"times":1}`)
	w.Step()
	w.Return("t1.c1", "ding dong")
	w.Step()
	require.NotNil(t, w.S.Closed())
	assert.Equal(t, ledger.Done, w.S.Closed().Status)
	assert.Equal(t, "ding dong", w.S.Closed().Answer)
	assert.Equal(t, 1, w.S.Turns())

	w = bigger(t, "stubs: [{returns: ding}]\neffect: read\ndirect: true\n")
	w.Step()
	w.Reply("", `ring {"times":1}`, `tide`)
	w.Step()
	w.Return("t1.c1", "ding")
	w.Return("t1.c2", "high")
	w.Step()
	assert.Nil(t, w.S.Closed(), "not when there were other calls")
}

func TestRungs(t *testing.T) {
	for _, c := range []struct {
		files    string
		run      ledger.Rung
		tool     ledger.Rung
		is       ledger.Rung
		read     bool
		stub     bool
		asks     bool
		toolSays string
	}{
		{is: ledger.RungFree},
		{run: ledger.RungStub, is: ledger.RungStub, stub: true},
		{run: ledger.RungRead, is: ledger.RungRead, stub: true},
		{run: ledger.RungRead, read: true, is: ledger.RungRead},
		{run: ledger.RungAsk, is: ledger.RungAsk, asks: true},
		{run: ledger.RungAsk, read: true, is: ledger.RungAsk},
		{tool: ledger.RungAsk, is: ledger.RungAsk, asks: true},
		{files: "read", is: ledger.RungRead, stub: true},
		{files: "read", run: ledger.RungFree, is: ledger.RungRead, stub: true},
		{files: "read", toolSays: "free", is: ledger.RungFree},
		{toolSays: "stub", tool: ledger.RungFree, run: ledger.RungFree, is: ledger.RungStub, stub: true},
	} {
		text := coretest.Main
		if c.files != "" {
			text = strings.Replace(text, "start: desk", "start: desk\nrung: "+c.files, 1)
		}
		name := "toot"
		if c.read {
			name = "tide"
		}
		if c.toolSays != "" {
			text = strings.Replace(text, "summary: Sound the horn", "rung: "+c.toolSays+"\nsummary: Sound the horn", 1)
		}
		w := coretest.Open(coretest.Project(t, text), "x")
		w.S.Opened().Rung = c.run
		if c.tool != "" {
			w.S.Opened().Rungs = map[string]ledger.Rung{name: c.tool}
		}
		w.Step()
		w.Reply("", name)
		deeds := w.Step()
		assert.Equal(t, c.is, w.S.Main().Turn().Calls[0].Decided.Rung, "%+v", c)
		if c.asks {
			require.Len(t, w.S.Tickets(), 1, "%+v", c)
			assert.Contains(t, w.S.Tickets()[0].Raised.Why, "rung ask")
			w.Settle("t1.c1", ledger.Allow, nil)
			deeds = w.Step()
		}
		require.Len(t, deeds, 1, "%+v", c)
		assert.Equal(t, c.stub, deeds[0].(loop.CallTool).Started.Stub, "%+v", c)
	}
}

func TestALongResultIsCutInRowsAndTheWholeHasAName(t *testing.T) {
	w := bigger(t, "stubs: [{returns: []}]\neffect: read\ncut: {rows: 3}\n")
	w.Step()
	w.Reply("", `ring {"times":1}`)
	w.Step()
	rows := []any{}
	for i := range 366 {
		rows = append(rows, map[string]any{"day": float64(i)})
	}
	w.Return("t1.c1", rows)
	assert.Equal(t, `[{"day":0},{"day":1},{"day":2}]`+"\n"+`… first 3 of 366 rows; "result:1.t1.c1" names the whole: give it as an argument to have a tool read all of it.`, w.Words()[0])
	ret := w.Events[len(w.Events)-1].Data.(*ledger.CallReturned)
	assert.Equal(t, "result:1.t1.c1", ret.Handle)
	assert.Len(t, string(ret.Result), len(`[{"day":0}`)*10+(len(`,{"day":10}`))*90+(len(`,{"day":100}`))*266+1, "the ledger keeps the whole")

	w.Step()
	w.Reply("", `ring {"times":1,"rows":"result:1.t1.c1"}`, `ring {"times":1,"rows":"result:1.t9.c1"}`)
	w.Step()
	assert.Equal(t, ledger.Start, w.S.Main().Turn().Calls[0].Decided.Verdict, "a handle stands for what it names, whatever its type")
	assert.Contains(t, string(w.S.Main().Turn().Calls[0].Args), `"rows":"result:1.t1.c1"`)
	assert.NotContains(t, string(w.S.Main().Turn().Calls[1].Decided.Repairs[0]), "JSON")
}

func TestShortenKeepsWhatStandsBesideTheRows(t *testing.T) {
	tool := coretest.Project(t, coretest.Main).Tools["tide"]
	long := []any{}
	for range 5000 {
		long = append(long, strings.Repeat("tide ", 20))
	}
	words, whole := loop.Shorten(loop.MostOf(tool), map[string]any{"day": "Friday", "rows": long}, "")
	assert.False(t, whole)
	assert.True(t, strings.HasPrefix(words, `{"day":"Friday","rows":[`))
	assert.Contains(t, words, "of 5000 rows; the rest is kept, but not shown.")
	assert.LessOrEqual(t, len(words), 4*tool.Tokens+200)
}

func TestHandlesAreSplitAndPutIn(t *testing.T) {
	r, step, ok := loop.SplitHandle("k7m2p-3", "result:2.t3.c1")
	assert.True(t, ok)
	assert.Equal(t, "k7m2p-2", r)
	assert.EqualValues(t, "t3.c1", step)
	_, _, ok = loop.SplitHandle("k7m2p-3", "nonsense")
	assert.False(t, ok)
}

func TestACallFromOutsideIsARunOfOneCall(t *testing.T) {
	p := coretest.Project(t, coretest.Main)
	open := func(call string, args string) *coretest.World {
		w := &coretest.World{P: p, S: run.New("x-1"), Now: coretest.Epoch}
		w.Append(ledger.New("", &ledger.RunOpened{Session: "x", Person: "ann", Via: "mcp", Text: call, Tools: ledger.ToolsLive, Call: &ledger.Ask{ID: "1", Tool: call, Args: args}, State: map[string]any{"length_m": 46.0}}))
		return w
	}
	w := open("look", `{"name":"Petrel"}`)
	deeds := w.Step()
	require.Len(t, deeds, 1, "no model is asked: the call starts at once")
	w.Return("t0.c1", map[string]any{"length_m": 12.4})
	w.Step()
	require.NotNil(t, w.S.Closed())
	assert.Equal(t, ledger.Done, w.S.Closed().Status)
	assert.Equal(t, `{"length_m":12.4}`, w.S.Closed().Answer)
	assert.Zero(t, w.S.Turns())

	w = open("look", `{"nam":1}`)
	w.Step()
	require.NotNil(t, w.S.Closed())
	assert.Equal(t, "call.refused", w.S.Closed().Problem.Class)
	assert.Contains(t, w.S.Closed().Problem.Say, `did you mean "name"?`)

	w = open("reserve", `{"berth":"C4"}`)
	w.Step()
	assert.Equal(t, ledger.Held, w.S.Status(), "the same gates stand")
	w.Settle("t0.c1", ledger.RefuseIt, nil)
	w.Step()
	assert.Contains(t, w.S.Closed().Problem.Say, "master refused reserve")

	w = open("nothing", `{}`)
	w.Step()
	assert.Contains(t, w.S.Closed().Problem.Say, `Unknown tool "nothing".`)
	assert.Contains(t, w.S.Closed().Problem.Say, "look, pay, reserve, tide, toot")
}

func TestRowsThatWereNotReadAreSaid(t *testing.T) {
	tool := coretest.Project(t, coretest.Main).Tools["tide"]
	tool.Output, tool.Done = nil, nil
	sp, bad := loop.Speak(tool, expr.Vars{}, deed.Result{Value: []any{"a", "b"}, More: true}, "")
	require.Nil(t, bad)
	assert.Equal(t, "[\"a\",\"b\"]\n… there are more than these 2 rows; they were not read. Ask for something narrower to see all of it.", sp.Words)
}

func TestAChangeOfALongNumberIsOne(t *testing.T) {
	one, other := map[string]any{"id": int64(9007199254740993), "n": 1.0}, map[string]any{"id": int64(9007199254740992), "n": 1.0}
	assert.JSONEq(t, `[{"op":"replace","path":"/id","value":9007199254740992}]`, string(loop.Change(one, other)))
	assert.Contains(t, string(loop.Change(other, one)), "9007199254740993")
	assert.Nil(t, loop.Change(one, one))
}

func TestWordsAreNotCutInsideALetter(t *testing.T) {
	for who, want := range map[string]string{"étienne": "Étienne changed berth", "ßa": "ßa changed berth", "ann": "Ann changed berth", "李": "李 changed berth"} {
		w := coretest.Begin(coretest.Project(t, coretest.Main), ledger.RunOpened{Text: "x", State: map[string]any{"length_m": 46.0}})
		w.Step()
		w.Reply("", `reserve {"berth":"C4"}`)
		w.Step()
		w.Append(ledger.New("t1.c1", &ledger.GateSettled{Verb: ledger.Amend, By: who, Args: []byte(`{"berth":"D2"}`)}))
		w.Step()
		w.Return("t1.c1", map[string]any{})
		assert.Contains(t, w.Words()[0], want)
	}
}
