package loop_test

import (
	"slices"
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

// names tells actions as "ask desk" and "call tide t1.c1".
func names(acts []loop.Action) []string {
	out := []string{}
	for _, a := range acts {
		switch a := a.(type) {
		case loop.AskModel:
			out = append(out, "ask "+a.Built.Agent)
		case loop.CallTool:
			out = append(out, "call "+a.Tool.Name+" "+string(a.Event.Step))
		}
	}
	return out
}

func world(t *testing.T) *coretest.World {
	return coretest.Open(coretest.Project(t, coretest.Main), "Reserve C4")
}

func TestAnAnswerWithNoCallsEndsTheRun(t *testing.T) {
	w := world(t)
	assert.Equal(t, []string{"ask desk"}, names(w.Step()))
	assert.Equal(t, "You are the desk. Today is 2026-05-04.", w.Asked[0].System)
	w.Reply("Hello.")
	assert.Empty(t, w.Step())
	require.NotNil(t, w.S.Closed())
	assert.Equal(t, ledger.Done, w.S.Closed().Status)
	assert.Equal(t, "Hello.", w.S.Closed().Answer)
	assert.Equal(t, "no calls left: this is the answer", w.S.Closed().Why)
}

func TestReadsStartTogetherWritesOneByOneHandoffsLast(t *testing.T) {
	w := world(t)
	w.Step()
	w.Reply("", "toot", `look {"name":"a"}`, "pay", "tide", "pass_to_berths", "pass_to_berths")
	assert.Equal(t, []string{"call toot t1.c1", "call look t1.c2", "call tide t1.c4"}, names(w.Step()), "the second write waits for the first")
	w.Return("t1.c4", "high")
	assert.Empty(t, w.Step())
	w.Return("t1.c1", nil)
	assert.Equal(t, []string{"call pay t1.c3"}, names(w.Step()))
	w.Return("t1.c3", "paid")
	assert.Empty(t, w.Step(), "the handoff waits for the read that is under way")
	w.Return("t1.c2", map[string]any{"length_m": 46.0})
	assert.Equal(t, []string{"ask berths"}, names(w.Step()))
	assert.Equal(t, "berths", w.S.Agent())
	words := w.Words()
	require.Len(t, words, 6)
	assert.Equal(t, []string{"Done; there is no result.", `{"length_m":46}`, "paid", "high"}, words[:4], "in call order, not in the order in which they came")
	assert.Contains(t, words[4], "berths now talks to the person")
	assert.Contains(t, words[5], "another handoff of the same turn came first")
	assert.Equal(t, 46.0, w.S.Facts()["length_m"])
}

func TestAWriteThatDoesNotReturnRefusesWhatFollows(t *testing.T) {
	w := world(t)
	w.Step()
	w.Reply("", "toot", "pay", "pass_to_berths", "tide")
	w.Step()
	w.Return("t1.c4", "high")
	w.Fail("t1.c1", deed.Failure{Outcome: ledger.NotDone, Class: "refused", Say: "no steam"})
	assert.Equal(t, []string{"ask desk"}, names(w.Step()))
	assert.Equal(t, []string{"toot failed: no steam.", "pay was not done, because toot before it did not succeed.", "Not handed over to berths, because toot did not succeed.", "high"}, w.Words())
	assert.Equal(t, "desk", w.S.Agent())
}

func TestWhatCannotBeCalledIsToldInWords(t *testing.T) {
	for name, c := range map[string]struct{ call, words string }{
		"no such tool":     {"reserv {}", `Unknown tool "reserv". Did you mean "reserve"? Your tools: look, tide, reserve, pay, toot, pass_to_berths.`},
		"not JSON":         {`reserve {"berth": C4}`, "reserve was not called: its arguments cannot be read as JSON"},
		"missing argument": {"reserve {}", "reserve was not called: berth is missing (Such as C4)."},
		"wrong value":      {`reserve {"berth":"quay"}`, `berth must match ^[A-F][0-9]$: Such as C4; "quay" does not.`},
		"invented value":   {`look {"name":"a","nme":1}`, `nme is not known here; did you mean "name"?`},
		"no such agent":    {"pass_to_berth {}", `desk cannot hand over to "berth". Did you mean "berths"? You can hand over to: berths.`},
	} {
		t.Run(name, func(t *testing.T) {
			w := world(t)
			w.Step()
			w.Reply("", c.call)
			assert.Equal(t, []string{"ask desk"}, names(w.Step()), "nothing is called, and the model hears of it")
			require.Len(t, w.Words(), 1)
			assert.Contains(t, w.Words()[0], c.words)
			assert.Equal(t, run.CallRefused, callOf(t, w.Events).Progress)
		})
	}
}

// callOf folds up to the end of the first turn and gives its call.
func callOf(t *testing.T, events []ledger.Event) *run.Call {
	t.Helper()
	s := run.New("w-1")
	for _, e := range events {
		if e.Kind == ledger.KindTurnSent && s.Turns() == 1 {
			break
		}
		require.NoError(t, s.Apply(e))
	}
	return s.Main().Turn().Calls[0]
}

// gated brings a world to a ticket for reserving C4.
func gated(t *testing.T) *coretest.World {
	w := world(t)
	w.Step()
	w.Reply("", `look {"name":"a"}`)
	w.Step()
	w.Return("t1.c1", map[string]any{"length_m": 46.0})
	w.Step()
	w.Reply("", `reserve {"berth":"C4"}`, "pay", "tide")
	assert.Equal(t, []string{"call tide t2.c3"}, names(w.Step()), "the write after a gated one waits as well")
	assert.False(t, w.S.Held(), "a read is under way")
	w.Return("t2.c3", "high")
	assert.Empty(t, w.Step())
	assert.Equal(t, ledger.Held, w.S.Status())
	tk := w.S.Tickets()
	require.Len(t, tk, 1)
	assert.Equal(t, "Reserve C4?", tk[0].Raised.Ask)
	assert.Equal(t, "gate: over 40 m", tk[0].Raised.Why)
	assert.Equal(t, []string{"master"}, tk[0].Raised.By)
	return w
}

func TestAGate(t *testing.T) {
	t.Run("allowed", func(t *testing.T) {
		w := gated(t)
		w.Settle("t2.c1", ledger.Allow, nil)
		assert.Equal(t, []string{"call reserve t2.c1"}, names(w.Step()))
		w.Return("t2.c1", map[string]any{"ok": true})
		assert.Equal(t, []string{"call pay t2.c2"}, names(w.Step()))
		w.Return("t2.c2", "paid")
		w.Step()
		assert.Equal(t, "Reserved C4.", w.Words()[0])
		assert.Equal(t, "C4", w.S.Facts()["booking"])
	})
	t.Run("refused", func(t *testing.T) {
		w := gated(t)
		w.Settle("t2.c1", ledger.RefuseIt, nil)
		assert.Equal(t, []string{"ask desk"}, names(w.Step()))
		assert.Equal(t, []string{"Not done: master refused reserve and said: I say so", "pay was not done, because reserve before it did not succeed.", "high"}, w.Words())
	})
	t.Run("amended", func(t *testing.T) {
		w := gated(t)
		w.Settle("t2.c1", ledger.Amend, map[string]any{"berth": "D2"})
		acts := w.Step()
		require.Equal(t, []string{"call reserve t2.c1"}, names(acts))
		assert.JSONEq(t, `{"berth":"D2"}`, string(acts[0].(loop.CallTool).Call.Args))
		w.Return("t2.c1", map[string]any{"ok": true})
		w.Step()
		w.Return("t2.c2", "paid")
		w.Step()
		assert.Equal(t, `Master changed berth from "C4" to "D2" before agreeing and said: I say so. Reserved D2.`, w.Words()[0], "the model is told the truth")
	})
	t.Run("lapsed", func(t *testing.T) {
		w := gated(t)
		due, ev, ok := loop.Wake(w.P, w.S)
		require.True(t, ok)
		assert.Equal(t, *w.S.Tickets()[0].Raised.Due, due)
		w.Now = due
		w.Append(ev)
		assert.Equal(t, []string{"ask desk"}, names(w.Step()))
		assert.Equal(t, "Not done: nobody decided about reserve in time.", w.Words()[0])
	})
}

func TestAnErrorInAGatesConditionAsksAPerson(t *testing.T) {
	p := coretest.Project(t, strings.Replace(coretest.Main, `when: "state.?length_m.orValue(0.0) > 40.0"`, `when: "state.length_m > 40.0"`, 1))
	w := coretest.Open(p, "x")
	w.Step()
	w.Reply("", `reserve {"berth":"C4"}`)
	w.Step()
	require.Len(t, w.S.Tickets(), 1)
	assert.Contains(t, w.S.Tickets()[0].Raised.Why, "could not be evaluated")
}

func TestAWriteOfUnknownOutcomeIsNotSentAgainByItself(t *testing.T) {
	unknown := deed.Failure{Outcome: ledger.Unknown, Class: "timeout", Say: "no answer in time", Retry: true}
	start := func(t *testing.T, call string) *coretest.World {
		w := world(t)
		w.Step()
		w.Reply("", call)
		w.Step()
		return w
	}
	t.Run("a person is asked", func(t *testing.T) {
		for verb, words := range map[ledger.Verb]string{ledger.Happened: "toot was done, says master.", ledger.GiveUp: "It is not known whether toot was done; master will not try it again."} {
			w := start(t, "toot")
			w.Fail("t1.c1", unknown)
			assert.Empty(t, w.Step())
			require.Len(t, w.S.Tickets(), 1)
			assert.Equal(t, ledger.OutcomeTicket, w.S.Tickets()[0].Raised.Form)
			w.Settle("t1.c1", verb, nil)
			assert.Equal(t, []string{"ask desk"}, names(w.Step()))
			assert.Equal(t, []string{words}, w.Words())
		}
		w := start(t, "toot")
		w.Fail("t1.c1", unknown)
		w.Step()
		w.Settle("t1.c1", ledger.NotHappened, nil)
		assert.Equal(t, []string{"call toot t1.c1"}, names(w.Step()), "it did not happen: it is done now")
	})
	t.Run("resend: key sends it again with the same key", func(t *testing.T) {
		w := start(t, "pay")
		w.Fail("t1.c1", unknown)
		assert.Empty(t, w.Step())
		due, ev, ok := loop.Wake(w.P, w.S)
		require.True(t, ok)
		w.Now = due
		w.Append(ev)
		acts := w.Step()
		require.Equal(t, []string{"call pay t1.c1"}, names(acts))
		assert.Equal(t, ledger.Key("w-1", "t1.c1"), acts[0].(loop.CallTool).Started.Key)
		assert.Equal(t, 2, acts[0].(loop.CallTool).Started.Attempt)
	})
	t.Run("after a crash too", func(t *testing.T) {
		w := start(t, "toot")
		w.Append(ledger.New("", &ledger.RunRecovered{Lost: w.S.InFlight(), Why: "back"}))
		assert.Empty(t, w.Step())
		assert.Len(t, w.S.Tickets(), 1)
		r := start(t, "tide")
		r.Append(ledger.New("", &ledger.RunRecovered{Lost: r.S.InFlight(), Why: "back"}))
		assert.Equal(t, []string{"call tide t1.c1"}, names(r.Step()), "a read is called again")
	})
}

func TestAStepThatIsLostThreeTimesHoldsTheRun(t *testing.T) {
	w := world(t)
	for range 3 {
		assert.Equal(t, []string{"ask desk"}, names(w.Step()))
		w.Append(ledger.New("", &ledger.RunRecovered{Lost: w.S.InFlight(), Why: "back"}))
	}
	assert.Empty(t, w.Step())
	assert.Equal(t, ledger.Held, w.S.Status())
	w.Settle("t1", ledger.NotHappened, nil)
	assert.Equal(t, []string{"ask desk"}, names(w.Step()))
}

func TestTurnsAreRetriedAndFallBack(t *testing.T) {
	w := world(t)
	fail := func(f deed.ModelFailure) {
		w.Append(loop.TurnFailed(w.P, w.S, w.Asking(), f, time.Millisecond, w.Now, 0.5))
	}
	wake := func() time.Duration {
		due, ev, ok := loop.Wake(w.P, w.S)
		require.True(t, ok)
		d := due.Sub(w.Now)
		if due.After(w.Now) {
			w.Now = due
		}
		w.Append(ev)
		return d
	}
	w.Step()
	fail(deed.ModelFailure{Class: "rate", Say: "too many", Retry: true, After: 7 * time.Second})
	assert.Empty(t, w.Step(), "it waits")
	assert.InDelta(t, 7, wake().Seconds(), 0.1, "as long as Retry-After says")
	assert.Equal(t, []string{"ask desk"}, names(w.Step()))
	fail(deed.ModelFailure{Class: "server", Say: "500", Retry: true})
	wake()
	w.Step()
	assert.Equal(t, "spare", w.S.Main().Turn().Model, "its one retry is used: the fallback is asked")
	fail(deed.ModelFailure{Class: "key", Say: "wrong key", Remedy: "check it"})
	w.Step()
	require.NotNil(t, w.S.Closed())
	assert.Equal(t, "model.key", w.S.Closed().Problem.Class)
	assert.Equal(t, "check it", w.S.Closed().Problem.Remedy)
}

func TestALongWaitGoesToTheFallback(t *testing.T) {
	long := deed.ModelFailure{Class: "rate", Say: "too many", Retry: true, After: time.Hour}
	failed := func(main string) *ledger.TurnFailed {
		w := coretest.Open(coretest.Project(t, main), "x")
		w.Step()
		return loop.TurnFailed(w.P, w.S, w.Asking(), long, time.Millisecond, w.Now, 0.5).Data.(*ledger.TurnFailed)
	}
	d := failed(coretest.Main)
	assert.Equal(t, "spare", d.Next, "the fallback stands idle else")
	assert.Contains(t, d.Why, "asks to wait for 1h0m0s; its fallback spare is asked")
	d = failed(strings.Replace(coretest.Main, ", fallback: spare", "", 1))
	assert.Nil(t, d.RetryAt)
	assert.Contains(t, d.Why, "longer than the run may take (limit time: 10m0s), and there is no fallback")
	long.After = 20 * time.Second
	assert.Empty(t, failed(coretest.Main).Next, "a short wait is waited")
}

func TestCallsBeyondTheLimitAreRefusedInWords(t *testing.T) {
	w := world(t)
	w.Step()
	w.Reply("", slices.Repeat([]string{"tide"}, 40)...) // 28 of them are refused in the same words
	for acts := w.Step(); w.S.Main().Turns() < 2; acts = w.Step() {
		require.NotEmpty(t, acts)
		for _, a := range acts {
			if c, ok := a.(loop.CallTool); ok {
				w.Return(c.Event.Step, c.Event.Step)
			}
		}
	}
	read := w.S.Main().Messages()
	assert.Equal(t, "tide was not called: this run may make 12 calls, and they are used up. Answer with what you have.", read[len(read)-1].Text)
	w.Reply("It is high.")
	w.Step()
	require.NotNil(t, w.S.Closed())
	assert.Equal(t, ledger.Done, w.S.Closed().Status, "it may answer with what it has")
}

func TestTheSameCallInOneTurnIsNoRepetition(t *testing.T) {
	w := world(t)
	for range 2 {
		w.Step()
		w.Reply("", "tide", "tide", "tide", "tide", `tide {"at":`, `tide {at`, `tide {"x`, `tide [`)
		for len(w.Step()) > 0 && w.S.Main().Turn().Reply != nil {
			for _, c := range w.S.Main().Turn().Calls {
				if c.Progress == run.InFlight {
					w.Return(c.Step, "low")
				}
			}
		}
		require.Nil(t, w.S.Closed())
	}
	_, times := w.S.Main().Repeated()
	assert.Equal(t, 2, times, "who makes a call twice at once has not read what it brings")
}

func TestLimits(t *testing.T) {
	loopOn := func(t *testing.T, main, call string) *ledger.RunClosed {
		w := coretest.Open(coretest.Project(t, main), "x")
		for range 40 {
			w.Step()
			if w.S.Closed() != nil {
				return w.S.Closed()
			}
			w.Reply("", strings.Split(call, "|")...)
			for _, a := range w.Step() {
				if c, ok := a.(loop.CallTool); ok {
					w.Return(c.Event.Step, "same")
				}
			}
		}
		t.Fatal("it never ended")
		return nil
	}
	for name, c := range map[string]struct{ from, to, call, say string }{
		"same_call": {"", "", "tide", "the same call of tide in 3 turns"},
		"turns":     {"same_call: 3", "same_call: 99", "tide", "has used its 8 turns"},
		"calls":     {"same_call: 3", "same_call: 99", "tide|tide|tide", "has made its 12 calls, and desk wants more (limit calls: 12)"},
		"tokens":    {"same_call: 3", "same_call: 99, tokens: 40", "tide", "used 45 tokens (limit tokens: 40)"},
		"handoffs":  {"turns: 8", "turns: 30", "pass_to_berths|pass_to_desk", "the same call"},
	} {
		t.Run(name, func(t *testing.T) {
			main := coretest.Main
			if c.from != "" {
				main = strings.Replace(main, c.from, c.to, 1)
			}
			closed := loopOn(t, main, c.call)
			assert.Equal(t, ledger.Failed, closed.Status)
			assert.Equal(t, "limit", closed.Problem.Class)
			assert.Contains(t, closed.Problem.Say, c.say)
			assert.NotEmpty(t, closed.Problem.Remedy)
		})
	}
}

func TestHandoffsInARowAreLimitedInWords(t *testing.T) {
	w := world(t)
	for i := range 4 {
		w.Step()
		to := "berths"
		if i%2 == 1 {
			to = "desk"
		}
		w.Reply("", "pass_to_"+to)
	}
	w.Step()
	assert.Contains(t, w.Words()[0], "has been handed over 3 times with nothing done between")
	assert.Equal(t, 3, w.S.Passes())
}

func TestTimeHeldDoesNotCount(t *testing.T) {
	w := gated(t)
	w.Now = w.Now.Add(20 * time.Minute)
	w.Settle("t2.c1", ledger.Allow, nil)
	w.Step()
	due, _, ok := loop.Wake(w.P, w.S)
	require.True(t, ok)
	assert.Greater(t, due.Sub(w.Now), 9*time.Minute, "twenty minutes of waiting did not use the ten of work up")
	w.Now = due
	_, ev, _ := loop.Wake(w.P, w.S)
	w.Append(ev)
	assert.Empty(t, w.Step(), "what is under way is waited for")
	w.Fail("t2.c1", deed.Failure{Outcome: ledger.Unknown, Class: "stopped", Say: "cancelled"})
	w.Step()
	require.NotNil(t, w.S.Closed())
	assert.Contains(t, w.S.Closed().Problem.Say, "limit time: 10m0s")
}

func TestStop(t *testing.T) {
	w := gated(t)
	w.Append(ledger.New("", &ledger.StopAsked{By: "ann", Because: "wrong vessel"}))
	assert.Empty(t, w.Step())
	require.NotNil(t, w.S.Closed())
	assert.Equal(t, ledger.Stopped, w.S.Closed().Status)
	assert.Equal(t, "stopped by ann: wrong vessel", w.S.Closed().Problem.Say)
	assert.Equal(t, ledger.KindRunClosed, w.Events[len(w.Events)-1].Kind)
	for _, c := range w.S.Main().Turn().Calls {
		assert.True(t, c.Progress.Over(), "every call ends in exactly one of returned, failed, refused")
	}
}

func TestACutReplyIsAProblem(t *testing.T) {
	w := world(t)
	w.Step()
	r := &ledger.TurnReceived{Text: "Half a sent", Finish: "length"}
	w.Append(ledger.New("t1", r))
	w.Step()
	assert.Equal(t, "model.length", w.S.Closed().Problem.Class)
	assert.Equal(t, "Half a sent", w.S.Closed().Answer)
}

func TestResultsAreHeldAgainstTheOutputSchema(t *testing.T) {
	w := world(t)
	w.Step()
	w.Reply("", `look {"name":"a"}`)
	w.Step()
	w.Return("t1.c1", map[string]any{"length": 46.0})
	w.Step()
	assert.Equal(t, "look failed: the result does not fit the output schema: length_m is missing (a number), such as 46.5.", w.Words()[0])
}

func TestLargeResultsAreCutAndItIsSaid(t *testing.T) {
	w := world(t)
	w.Step()
	w.Reply("", "tide")
	w.Step()
	w.Return("t1.c1", strings.Repeat("wave ", 20_000))
	w.Step()
	assert.Contains(t, w.Words()[0], `… the first 24000 of 100000 bytes; "result:1.t1.c1" names the whole`)
}

func TestAMessageOfAToolSaysHowItsCallEnded(t *testing.T) {
	w := world(t)
	w.Step()
	w.Reply("", "tide", `look {"name":"a"}`, "nothing")
	w.Step()
	w.Return("t1.c1", "high")
	w.Fail("t1.c2", deed.Failure{Outcome: ledger.NotDone, Class: "refused", Say: "no"})
	w.Step()
	var ended []ledger.Ended
	for _, m := range w.S.Main().Messages() {
		if m.Role == ledger.FromTool {
			ended = append(ended, m.Ended)
		}
	}
	assert.Equal(t, []ledger.Ended{"", ledger.EndedFailed, ledger.EndedRefused}, ended)
}
