package loop_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/run"
)

func tree(t *testing.T) *coretest.World {
	return coretest.Open(coretest.Project(t, coretest.Tree), "What does it cost?")
}

// called gives a run of the tree in which the desk has made calls that are under way.
func called(t *testing.T, calls ...string) *coretest.World {
	w := tree(t)
	w.Step()
	w.Reply("", calls...)
	w.Step()
	return w
}

// story tells the events from one on, as "step kind".
func story(w *coretest.World, from int) string {
	var out []string
	for _, e := range w.Events[from:] {
		out = append(out, strings.TrimSpace(string(e.Step)+" "+string(e.Kind)))
	}
	return strings.Join(out, "; ")
}

func TestAnAgentAsksAnotherOnAThreadOfItsOwn(t *testing.T) {
	w := tree(t)
	w.Step()
	w.Reply("", `consult_dues {"question":"What does a stay cost?","nights":2,"length_m":38}`)
	assert.Equal(t, []string{"ask dues"}, names(w.Step()))
	assert.Equal(t, "run.opened; t1 turn.sent; t1 turn.received; t1.c1 call.decided; t1.c1 thread.opened; t1.c1.t1 turn.sent", story(w, 0))
	asked := w.Asked[1]
	assert.Equal(t, "dues", asked.Agent)
	assert.Equal(t, []ledger.Message{{Role: ledger.User, Agent: "desk", Text: "What does a stay cost?\n\nlength_m: 38\nnights: 2"}}, asked.Messages, "it sees the question and the fields, and nothing else")
	assert.Equal(t, ledger.Going, w.S.Status())
	w.Reply("", `look {"name":"Petrel"}`)
	w.Step()
	w.Return("t1.c1.t1.c1", map[string]any{"length_m": 38.0})
	assert.Empty(t, w.S.Facts(), "until it closes nothing is changed outside of it")
	assert.Equal(t, 38.0, w.S.Thread("t1.c1").Facts()["length_m"])
	w.Step()
	from := len(w.Events)
	w.Reply("It costs 57.68 EUR.")
	w.Step()
	assert.Equal(t, "t1.c1.t2 turn.received; t1.c1 thread.closed; t1.c1 call.returned; t1.c1 state.changed; t2 turn.sent", story(w, from), "an end and what it means are one batch")
	assert.Equal(t, []string{"It costs 57.68 EUR."}, w.Words())
	assert.Equal(t, 38.0, w.S.Facts()["length_m"], "what it set comes back with its answer")
	assert.Nil(t, w.S.Thread("t1.c1"), "and it is gone")
	w.Reply("57.68 EUR.")
	w.Step()
	assert.Equal(t, "57.68 EUR.", w.S.Closed().Answer)
	assert.Equal(t, []int{4, 2, 60}, []int{w.S.Turns(), w.S.Calls(), w.S.Tokens().In + w.S.Tokens().Out}, "limits and sums are over all threads")
	assert.Len(t, w.S.Memory(), 4, "what was said on the private thread is not remembered")
}

func TestConsultsOfATurnGoSideBySideAndAGateHoldsOneAlone(t *testing.T) {
	w := tree(t)
	w.Step()
	w.Reply("", `consult_dues {"question":"reserve C4"}`, `consult_tides {"question":"when?"}`)
	assert.Equal(t, []string{"ask dues", "ask tides"}, names(w.Step()))
	from := len(w.Events)
	w.ReplyTo("t1.c1.t1", "", `reserve {"berth":"C4"}`)
	w.Step()
	assert.Equal(t, "t1.c1.t1 turn.received; t1.c1.t1.c1 call.decided; t1.c1.t1.c1 gate.raised", story(w, from))
	assert.Equal(t, ledger.Going, w.S.Status(), "the other goes on")
	w.ReplyTo("t1.c2.t1", "At noon.")
	w.Step()
	assert.Equal(t, ledger.Held, w.S.Status(), "and now people alone are waited for")
	w.Settle("t1.c1.t1.c1", ledger.Amend, map[string]any{"berth": "D2"})
	assert.Equal(t, []string{"call reserve t1.c1.t1.c1"}, names(w.Step()))
	w.Append(ledger.New("", &ledger.RunRecovered{Lost: w.S.InFlight(), Epoch: 2, Why: "killed"}))
	w.Step()
	require.Equal(t, ledger.Held, w.S.Status(), "nobody knows whether it happened")
	assert.Equal(t, ledger.OutcomeTicket, w.S.Ticket("t1.c1.t1.c1").Raised.Form)
	w.Settle("t1.c1.t1.c1", ledger.NotHappened, nil)
	assert.Equal(t, []string{"call reserve t1.c1.t1.c1"}, names(w.Step()))
	w.Return("t1.c1.t1.c1", map[string]any{"ok": true})
	w.Step()
	w.Reply("Reserved D2.")
	w.Step()
	assert.Equal(t, []string{"Reserved D2.", "At noon."}, w.Words(), "results in call order, not in the order in which they came")
	assert.Equal(t, "D2", w.S.Facts()["booking"])
}

func TestTwoConsultsThatChangeTheSameFact(t *testing.T) {
	w := called(t, `consult_dues {"question":"a"}`, `consult_tides {"question":"b"}`)
	for i, step := range []ledger.StepID{"t1.c1", "t1.c2"} {
		w.ReplyTo(step.Turn(1), "", `look {"name":"a"}`)
		w.Step()
		w.Return(step.Turn(1).Call(1), map[string]any{"length_m": float64(10 + i)})
		w.Step()
	}
	w.ReplyTo("t1.c2.t2", "second, first to end")
	w.Step()
	assert.Equal(t, 11.0, w.S.Facts()["length_m"])
	w.ReplyTo("t1.c1.t2", "first, last to end")
	w.Step()
	assert.Equal(t, 10.0, w.S.Facts()["length_m"], "the later one counts")
	var why string
	for _, e := range w.Events {
		if d, ok := e.Data.(*ledger.StateChanged); ok && e.Step == "t1.c1" {
			why = d.Why
		}
	}
	assert.Equal(t, "dues left it so; length_m was changed beside it too, and the later one counts", why)
}

func TestAConsultThreeDeepThatFailsSaysWhereAndWhy(t *testing.T) {
	w := called(t, `consult_dues {"question":"a"}`)
	w.Reply("", `consult_tides {"question":"b"}`)
	w.Step()
	w.Reply("", `consult_gauge {"question":"c"}`)
	w.Step()
	step := w.Asking()
	assert.EqualValues(t, "t1.c1.t1.c1.t1.c1.t1", step)
	w.Append(loop.TurnFailed(w.P, w.S, step, deed.ModelFailure{Class: "server", Say: "the model answers 500"}, 0, w.Now, 0))
	w.Step()
	var failed *ledger.CallFailed
	for _, e := range w.Events {
		if d, ok := e.Data.(*ledger.CallFailed); ok {
			failed = d
		}
	}
	require.NotNil(t, failed)
	assert.Equal(t, "gauge could not answer: the model answers 500.", failed.Words, "in words for the one that asked")
	assert.Equal(t, "the model answers 500 (desk → dues → tides → gauge, on the thread t1.c1.t1.c1.t1.c1)", failed.Say, "and for people with the whole way there")
	assert.Equal(t, []string{"consult", "not_done"}, []string{failed.Class, string(failed.Outcome)})
	for i, who := range []string{"tides", "dues"} {
		step := w.Asking()
		require.Equal(t, 2-i, w.S.Thread(step.Thread()).Depth())
		w.Append(loop.TurnFailed(w.P, w.S, step, deed.ModelFailure{Class: "server", Say: "the model answers 500"}, 0, w.Now, 0))
		w.Step()
		on := w.S.Thread(w.Asking().Thread())
		m := on.Messages()
		assert.Equal(t, who+" could not answer: the model answers 500.", m[len(m)-1].Text)
	}
	w.Reply("I cannot tell.")
	w.Step()
	assert.Equal(t, ledger.Done, w.S.Closed().Status, "a failed consult is no failed run")
}

func TestAFailedConsultThatDidSomethingSaysSo(t *testing.T) {
	w := called(t, `consult_tides {"question":"a"}`, "toot")
	w.ReplyTo("t1.c1.t1", "", "toot")
	w.Step()
	w.Return("t1.c1.t1.c1", nil)
	w.Return("t1.c2", nil)
	w.Step()
	w.Append(loop.TurnFailed(w.P, w.S, "t1.c1.t2", deed.ModelFailure{Class: "server", Say: "500"}, 0, w.Now, 0))
	w.Step()
	assert.Equal(t, []string{"tides could not answer: 500. Some of what it had to do was done.", "Done; there is no result."}, w.Words())
	for _, e := range w.Events {
		if d, ok := e.Data.(*ledger.CallFailed); ok {
			assert.Equal(t, ledger.Partly, d.Outcome)
		}
	}
}

func TestConsultsGoEightDeep(t *testing.T) {
	p := coretest.Project(t, strings.Replace(strings.Replace(coretest.Tree, "consults: [{agent: gauge, asks: person}]", "consults: [desk]", 1), "consults: [{agent: tides, asks: person}, ", "consults: [tides, ", 1))
	w := coretest.Open(p, "x")
	w.Step()
	var words string
	for depth := 1; depth <= 9; depth++ {
		to := []string{"desk", "tides"}[depth%2]
		w.Reply("", fmt.Sprintf(`consult_%s {"question":"and?"}`, to))
		w.Step()
		m := w.S.Thread(w.Asking().Thread()).Messages()
		words = m[len(m)-1].Text
	}
	assert.Equal(t, "tides was not asked: consults go at most 8 deep, and this one would be 9: desk → tides → desk → tides → desk → tides → desk → tides → desk → tides. Answer with what you know.", words)
	assert.Len(t, w.S.Threads(), 9)
}

func TestAConsultThatIsNotOne(t *testing.T) {
	w := called(t, `consult_tide {"question":"a"}`, `consult_gauge {"question":"a"}`, `consult_tides {}`, `consult_tides {"question":"a","nights":2}`, `consult_dues {"question":"a","nights":"two"}`, "ask_person")
	assert.Equal(t, []string{
		`desk cannot ask "tide". Did you mean "tides"? You can ask: tides, dues.`,
		`desk cannot ask "gauge". You can ask: tides, dues.`,
		"consult_tides was not called: question is missing (What to ask, in full: tides sees nothing of this conversation).",
		"consult_tides was not called: nights is not known here; what is: question.",
		"consult_dues was not called: nights must be an integer, not a string, such as 3.",
		"You cannot ask the person from here. Say in your answer what is missing.",
	}, w.Words())
}

func TestAHandoffOnAConsultsThreadStaysOnIt(t *testing.T) {
	w := called(t, `consult_tides {"question":"a"}`)
	w.Reply("", `pass_to_dues {"because":"it costs"}`)
	assert.Equal(t, []string{"ask dues"}, names(w.Step()))
	assert.Equal(t, "desk", w.S.Agent(), "the baton of the run stays where it was")
	assert.Equal(t, "dues", w.S.Thread("t1.c1").Agent())
	assert.Equal(t, "tides has handed over; dues now answers desk.", w.Asked[2].Messages[2].Text)
	w.Reply("57 EUR.")
	w.Step()
	assert.Equal(t, []string{"57 EUR."}, w.Words(), "the answer is the last holder's")
}

func TestAHandoffToTheOneThatAskedEndsTheConsult(t *testing.T) {
	w := called(t, `consult_tides {"question":"a"}`)
	from := len(w.Events)
	w.Reply("", `pass_to_desk {"because":"I only know tides."}`)
	w.Step()
	assert.Equal(t, "t1.c1.t1 turn.received; t1.c1.t1.c1 call.decided; t1.c1.t1.c1 call.returned; t1.c1 thread.closed; t1.c1 call.returned; t2 turn.sent", story(w, from))
	assert.Equal(t, []string{"tides hands the question back: I only know tides."}, w.Words())
	assert.Zero(t, w.S.Passes())
}

func TestAKeptLineGoesOnOverTheSession(t *testing.T) {
	w := called(t, `consult_dues {"question":"one"}`)
	w.Reply("first")
	w.Step()
	w.Reply("", `consult_dues {"question":"two"}`, `consult_tides {"question":"two"}`)
	w.Step()
	opened := w.S.Thread("t2.c1").Opened()
	assert.Equal(t, []any{"desk/dues", ledger.StepID("t1.c1")}, []any{opened.Line, opened.From})
	texts := func(m []ledger.Message) (out []string) {
		for _, x := range m {
			out = append(out, x.Text)
		}
		return out
	}
	assert.Equal(t, []string{"one", "first", "two"}, texts(w.S.Thread("t2.c1").Messages()))
	assert.Equal(t, []string{"two"}, texts(w.S.Thread("t2.c2").Messages()), "the other begins afresh")
	for _, e := range w.Events {
		if d, ok := e.Data.(*ledger.TurnSent); ok && e.Step == "t2.c1.t1" {
			assert.Equal(t, 1, d.Kept, "messages are named by reference to what was sent before")
		}
	}
	w.ReplyTo("t2.c1.t1", "second")
	w.ReplyTo("t2.c2.t1", "noon")
	w.Step()
	w.Reply("Done.")
	w.Step()
	kept := w.S.Kept()
	assert.Equal(t, []string{"one", "first", "two", "second"}, texts(kept.Lines["desk/dues"]))
	assert.Len(t, kept.Lines, 1)

	next := coretest.Begin(w.P, ledger.RunOpened{Text: "again", Lines: kept.Lines})
	next.Step()
	next.Reply("", `consult_dues {"question":"three"}`)
	next.Step()
	assert.Equal(t, []string{"one", "first", "two", "second", "three"}, texts(next.Asked[1].Messages))
	assert.Empty(t, next.S.Thread("t1.c1").Opened().From, "no thread of this run")
}

func TestAQuestionReachesThePersonThroughTheOnesWhoAsked(t *testing.T) {
	w := called(t, `consult_tides {"question":"a"}`)
	w.Reply("", `consult_gauge {"question":"b"}`)
	w.Step()
	names := func(i int) (out []string) {
		for _, c := range w.Asked[i].Tools {
			out = append(out, c.Name)
		}
		return out
	}
	assert.NotContains(t, names(0), "ask_person")
	assert.Contains(t, names(2), "ask_person")
	w.Reply("", `ask_person {"question":"What does she draw?"}`)
	w.Step()
	require.Equal(t, ledger.Held, w.S.Status())
	tk := w.S.Tickets()[0]
	assert.Equal(t, []any{ledger.QuestionTicket, "desk", "What does she draw?", "gauge asks, through desk"}, []any{tk.Raised.Form, tk.Raised.Agent, tk.Raised.Ask, tk.Raised.Why}, "shown as the one's they talk to")
	settle := func(s loop.Settlement) (*ledger.Event, error) { return loop.Settle(w.P, w.S, tk.Step, s) }
	for _, bad := range []loop.Settlement{{Verb: ledger.Answer}, {Verb: ledger.Answer, Result: " "}, {Verb: ledger.Answer, Result: 3.2}, {Verb: ledger.RefuseIt}, {Verb: ledger.Allow}, {Verb: ledger.Amend}} {
		_, err := settle(bad)
		var refused *loop.RefusedError
		require.ErrorAs(t, err, &refused, bad.Verb)
	}
	ev, err := settle(loop.Settlement{Verb: ledger.Answer, By: "ann", Result: "3.2 m"})
	require.NoError(t, err)
	w.Append(*ev)
	w.Step()
	assert.Equal(t, 3, len(w.Asked[3].Messages))
	assert.Equal(t, "Ann answers: 3.2 m", w.Asked[3].Messages[2].Text)
	assert.Equal(t, 4, w.S.Turns(), "those in between took no turn for it")
}

func TestAPersonNeedNotAnswer(t *testing.T) {
	w := called(t, `consult_tides {"question":"a"}`)
	w.Reply("", `ask_person {"question":"What does she draw?"}`)
	w.Step()
	ev, err := loop.Settle(w.P, w.S, "t1.c1.t1.c1", loop.Settlement{Verb: ledger.RefuseIt, By: "ann", Because: "it does not matter"})
	require.NoError(t, err)
	w.Append(*ev)
	w.Step()
	m := w.Asked[2].Messages
	assert.Equal(t, "Ann does not answer that: it does not matter", m[len(m)-1].Text)
}

func TestOneThatMayNotAskThePersonDoesNotSeeHow(t *testing.T) {
	w := called(t, `consult_dues {"question":"a"}`)
	w.Reply("", `consult_tides {"question":"b"}`)
	w.Step()
	for _, c := range w.Asked[2].Tools {
		assert.NotEqual(t, "ask_person", c.Name, "dues does not let tides ask, though the desk lets dues")
	}
}

func TestALimitOfTheRunEndsAllOfIt(t *testing.T) {
	p := coretest.Project(t, strings.Replace(coretest.Tree, "turns: 40", "turns: 3", 1))
	w := coretest.Open(p, "x")
	w.Step()
	w.Reply("", `consult_dues {"question":"a"}`, `consult_tides {"question":"b"}`)
	w.Step()
	w.ReplyTo("t1.c2.t1", "", `look {"name":"a"}`)
	w.Step()
	w.Return("t1.c2.t1.c1", map[string]any{"length_m": 1.0})
	from := len(w.Events)
	w.Step()
	assert.Equal(t, "limit.reached; t1.c2 thread.closed; t1.c2 call.failed", story(w, from), "what is in flight is ended by the driver")
	assert.Equal(t, []ledger.StepID{"t1.c1.t1"}, w.S.InFlight())
	for _, e := range loop.GiveUp(w.S, "10s") {
		w.Append(e)
	}
	w.Step()
	assert.Equal(t, "limit.reached; t1.c2 thread.closed; t1.c2 call.failed; t1.c1.t1 turn.failed; t1.c1 thread.closed; t1.c1 call.failed; run.closed", story(w, from))
	assert.Equal(t, ledger.Failed, w.S.Closed().Status)
	assert.Equal(t, "the run has used its 3 turns (limit turns: 3), on the thread t1.c2 (desk → tides)", w.S.Closed().Problem.Say)
}

func TestALimitOfAnAgentEndsItsThreadAlone(t *testing.T) {
	w := called(t, `consult_tides {"question":"a"}`)
	w.Reply("", `consult_gauge {"question":"b"}`)
	w.Step()
	for i := range 2 {
		w.Reply("", fmt.Sprintf(`look {"name":"%d"}`, i))
		w.Step()
		w.Return(ledger.StepID("t1.c1.t1.c1").Turn(i+1).Call(1), map[string]any{"length_m": float64(i)})
		w.Step()
	}
	m := w.Asked[len(w.Asked)-1].Messages
	assert.Equal(t, "gauge could not answer: gauge has used its 2 turns (limit turns: 2 of the agent), on the thread t1.c1.t1.c1 (desk → tides → gauge).", m[len(m)-1].Text)
	assert.Equal(t, ledger.Going, w.S.Status())
	w.Reply("", `consult_gauge {"question":"again"}`)
	assert.Equal(t, []string{"ask gauge"}, names(w.Step()), "it counts anew on another thread")
}

func TestAStopEndsTheDeepestFirst(t *testing.T) {
	w := called(t, `consult_dues {"question":"a"}`)
	w.Reply("", `reserve {"berth":"C4"}`, `consult_tides {"question":"b"}`)
	w.Step()
	w.Reply("", `consult_gauge {"question":"c"}`)
	w.Step()
	w.Reply("", `reserve {"berth":"D4"}`)
	w.Step()
	require.Equal(t, ledger.Held, w.S.Status())
	require.Len(t, w.S.Tickets(), 2)
	from := len(w.Events)
	w.Append(ledger.New("", &ledger.StopAsked{By: "ann"}))
	w.Step()
	assert.Equal(t, "run.stop_asked; "+
		"t1.c1.t1.c2.t1.c1.t1.c1 gate.settled; t1.c1.t1.c2.t1.c1.t1.c1 call.refused; t1.c1.t1.c1 gate.settled; t1.c1.t1.c1 call.refused; "+
		"t1.c1.t1.c2.t1.c1 thread.closed; t1.c1.t1.c2.t1.c1 call.failed; t1.c1.t1.c2 thread.closed; t1.c1.t1.c2 call.failed; t1.c1 thread.closed; t1.c1 call.failed; run.closed", story(w, from))
}

func TestAHundredConsultsInOneTurn(t *testing.T) {
	var calls []string
	for i := range 100 {
		calls = append(calls, fmt.Sprintf(`consult_tides {"question":"%d"}`, i))
	}
	w := tree(t)
	w.Step()
	w.Reply("", calls...)
	assert.Len(t, w.Step(), 8, "those that the run may make begin")
	assert.Equal(t, "consult_tides was not called: this run may make 40 calls, and they are used up. Answer with what you have.", w.S.Call("t1.c41").Words)
	assert.Nil(t, w.S.Closed())

	w = coretest.Open(coretest.Project(t, strings.Replace(coretest.Tree, "turns: 40, calls: 40", "turns: 200, calls: 200", 1)), "x")
	w.Step()
	w.Reply("", calls...)
	assert.Len(t, w.Step(), 8, "eight turns at once")
	assert.Len(t, w.S.Threads(), 101)
	for w.S.Closed() == nil {
		assert.LessOrEqual(t, w.S.Asking(), 8)
		w.Reply("noon")
		w.Step()
	}
	assert.Equal(t, ledger.Done, w.S.Closed().Status)
	assert.Equal(t, 102, w.S.Turns())
}

func TestALongAnswerIsCutAndTheWholeCanBeNamed(t *testing.T) {
	w := called(t, `consult_tides {"question":"all of it"}`)
	w.Reply(strings.Repeat("tide ", 1<<20))
	w.Step()
	words := w.Words()[0]
	assert.Less(t, len(words), 30_000)
	assert.Contains(t, words, `the first 24000 of 5242880 bytes; "result:1.t1.c1" names the whole`)
	assert.True(t, w.S.Main().Knows("result:1.t1.c1"))
}

func TestWhatIsKnownOnAThreadIsKnownBelowItAndLaterAbove(t *testing.T) {
	w := coretest.Begin(coretest.Project(t, coretest.Tree), ledger.RunOpened{Text: "x", Handles: []string{"result:0.t1.c1"}})
	w.Step()
	w.Reply("", `consult_tides {"question":"a"}`, `consult_dues {"question":"a"}`)
	w.Step()
	w.ReplyTo("t1.c1.t1", "", `consult_gauge {"question":"b"}`)
	w.Step()
	w.ReplyTo("t1.c1.t1.c1.t1", strings.Repeat("long ", 20_000))
	w.Step()
	const handle = "result:1.t1.c1.t1.c1"
	assert.True(t, w.S.Thread("t1.c1").Knows(handle))
	assert.True(t, w.S.Thread("t1.c1").Knows("result:0.t1.c1"), "from above")
	assert.False(t, w.S.Thread("t1.c2").Knows(handle), "not beside it")
	assert.False(t, w.S.Main().Knows(handle))
	w.ReplyTo("t1.c1.t2", "see there")
	w.Step()
	assert.True(t, w.S.Main().Knows(handle))
}

func TestAConsultMayHaveItsAnswerReady(t *testing.T) {
	w := coretest.Begin(coretest.Project(t, coretest.Tree), ledger.RunOpened{Text: "x", Consults: map[string]ledger.Canned{"tides": {Answer: "At noon."}, "dues": {Fails: "the tariff is lost"}}})
	w.Step()
	w.Reply("", `consult_tides {"question":"a"}`, `consult_dues {"question":"a"}`)
	assert.Equal(t, []string{"ask desk"}, names(w.Step()), "no thread is opened")
	assert.Equal(t, []string{"At noon.", "dues could not answer: the tariff is lost."}, w.Words())
}

func TestARetryBesideAnOpenTicketIsDue(t *testing.T) {
	w := called(t, `consult_dues {"question":"a"}`, `look {"name":"x"}`)
	w.ReplyTo("t1.c1.t1", "", `reserve {"berth":"C4"}`)
	w.Step()
	w.Fail("t1.c2", deed.Failure{Outcome: ledger.NotDone, Class: "server", Say: "502", Retry: true})
	w.Step()
	assert.Equal(t, ledger.Going, w.S.Status(), "a ticket is open, and yet it is not people alone that are waited for")
	due, ev, ok := loop.Wake(w.P, w.S)
	require.True(t, ok)
	assert.Equal(t, ledger.ForRetry, ev.Data.(*ledger.TimerFired).What)
	assert.Less(t, due.Sub(w.Now), time.Second)
	w.Now = due
	w.Append(ev)
	assert.Equal(t, []string{"call look t1.c2"}, names(w.Step()))
}

func TestTurnsBesideOneAnotherKeepTheLimitOfTokens(t *testing.T) {
	p := coretest.Project(t, strings.Replace(coretest.Tree, "calls: 40,", "calls: 40, tokens: 430,", 1))
	w := coretest.Open(p, "x")
	w.Step()
	w.Reply("", `consult_tides {"question":"1"}`, `consult_tides {"question":"2"}`, `consult_tides {"question":"3"}`)
	first := w.Step()
	assert.Less(t, len(first), 3, "what is in flight has set aside what it may use")
	assert.Positive(t, w.S.Reserved().Tokens)
	w.ReplyTo(w.Asking(), "noon")
	assert.NotEmpty(t, w.Step(), "when it has used less, the next begins")
	for w.S.Closed() == nil {
		w.Reply("noon")
		w.Step()
	}
	assert.Equal(t, ledger.Done, w.S.Closed().Status)
	assert.Zero(t, w.S.Reserved())
}

func TestWhatMayNotFollowIsNotFolded(t *testing.T) {
	open := func() *coretest.World {
		w := called(t, `consult_tides {"question":"a"}`, `look {"name":"a"}`)
		return w
	}
	for why, e := range map[string]ledger.Event{
		"the thread t1.c1 is open":                                 ledger.New("", &ledger.RunClosed{Status: ledger.Done}),
		"something on it is in flight":                             ledger.New("t1.c1", &ledger.ThreadClosed{Outcome: ledger.EndDone}),
		"no such thread or relay is open":                          ledger.New("t1.c2", &ledger.ThreadClosed{Outcome: ledger.EndDone}),
		"no call that opens one is due there":                      ledger.New("t1.c2", &ledger.ThreadOpened{Role: ledger.Consult, Agent: "tides"}),
		"the thread that it opened is open":                        ledger.New("t1.c1", &ledger.CallReturned{}),
		"its thread is not open":                                   ledger.New("t1.c2.t1", &ledger.TurnSent{}),
		"no reply of turn":                                         ledger.New("t1.c1.t1.c1", &ledger.CallDecided{Of: "t1"}),
		`"t1.q1" is not a step`:                                    ledger.New("t1.q1", &ledger.TurnSent{}),
		`it names the thread "t1.c1", and its step lies on "main"`: {V: 2, Kind: ledger.KindTurnSent, Thread: "t1.c1", Step: "t2", Data: &ledger.TurnSent{}},
	} {
		w := open()
		e.Run, e.Seq, e.At = "w-1", w.S.Seq()+1, w.Now
		require.ErrorContains(t, w.S.Apply(e), why)
	}
	s, err := run.Fold("w-1", open().Events)
	require.NoError(t, err)
	assert.Len(t, s.Threads(), 2)
}

func TestAnAgentThatOnlyAsksBackIsEnded(t *testing.T) {
	w := tree(t)
	w.Step()
	for range 3 {
		w.Reply("", `consult_tides {"question":"When?"}`)
		w.Step()
		w.Reply("Which day?")
		w.Step()
	}
	require.NotNil(t, w.S.Closed())
	assert.Equal(t, "the model made the same call of consult_tides in 3 turns, with the same arguments, and got the same result (limit same_call: 3)", w.S.Closed().Problem.Say)
}

func TestAConsultThatIsHeldForDaysTakesNoTime(t *testing.T) {
	w := called(t, `consult_tides {"question":"a"}`)
	w.Reply("", `ask_person {"question":"What does she draw?"}`)
	w.Step()
	require.Equal(t, ledger.Held, w.S.Status())
	if due, ev, ok := loop.Wake(w.P, w.S); ok {
		t.Fatalf("nothing is due while a person is waited for, not %s at %s", ev.Kind, due)
	}
	w.Now = w.Now.Add(9 * 24 * time.Hour)
	ev, err := loop.Settle(w.P, w.S, "t1.c1.t1.c1", loop.Settlement{Verb: ledger.Answer, By: "ann", Result: "3 m"})
	require.NoError(t, err)
	w.Append(*ev)
	w.Step()
	w.Reply("At noon.")
	w.Step()
	w.Reply("At noon.")
	w.Step()
	assert.Equal(t, ledger.Done, w.S.Closed().Status)
	assert.Less(t, w.S.Worked(w.Now), time.Second)
}
