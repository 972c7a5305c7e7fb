package loop_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/run"
)

// through begins a run of a relay of coretest.Letters.
func through(t *testing.T, relay, input string) *coretest.World {
	t.Helper()
	return coretest.Begin(coretest.Project(t, coretest.Letters), ledger.RunOpened{Relay: relay, Input: json.RawMessage(input), Text: relay})
}

// told gives the kinds of a run's events with their steps.
func told(w *coretest.World) string {
	var out []string
	for _, e := range w.Events {
		out = append(out, strings.TrimSpace(string(e.Step)+" "+string(e.Kind)))
	}
	return strings.Join(out, "\n")
}

func TestARelayGoesFromLegToLeg(t *testing.T) {
	w := through(t, "card", `{"name":"Marrow Light"}`)
	deeds := w.Step()
	require.Len(t, deeds, 1)
	w.Return("r.facts:1.t0.c1", map[string]any{"length_m": 46.0, "name": "Marrow Light"})
	w.Step()
	assert.Equal(t, strings.TrimSpace(`
run.opened
r frame.opened
r.facts:1 leg.entered
r.facts:1 thread.opened
r.facts:1.t0.c1 call.decided
r.facts:1.t0.c1 call.started
r.facts:1.t0.c1 call.returned
r.facts:1.t0.c1 state.changed
r.facts:1 thread.closed
r.facts:1 state.changed
r.facts:1 leg.left
r.size:1 leg.entered
r.size:1 leg.left
r.small:1 leg.entered
r.small:1 leg.left
r frame.closed
r state.changed
run.closed`), told(w))
	c := w.S.Closed()
	assert.Equal(t, ledger.Done, c.Status)
	assert.JSONEq(t, `{"name":"Marrow Light","length_m":46}`, c.Answer)
	assert.Equal(t, map[string]any{"length_m": 46.0}, w.S.Facts(), "what the tool sets is the session's")
	s, err := run.Fold("w-1", w.Events)
	require.NoError(t, err)
	assert.Equal(t, w.S.Facts(), s.Facts())
}

func TestALegThatChoosesTakesTheFirstWayThatHolds(t *testing.T) {
	w := through(t, "card", `{"name":"Long One"}`)
	w.Step()
	w.Return("r.facts:1.t0.c1", map[string]any{"length_m": 146.0})
	w.Step()
	assert.Equal(t, "Long One is too long.", w.S.Closed().Answer)
	var why string
	for _, e := range w.Events {
		if d, ok := e.Data.(*ledger.LegLeft); ok && e.Step == "r.size:1" {
			why = d.Why
		}
	}
	assert.Equal(t, "kept.facts.length_m > 100.0", why)
}

func TestACallOfALegWaitsForAPersonAndFailsWhereTheFileSays(t *testing.T) {
	for _, verb := range []ledger.Verb{ledger.Allow, ledger.RefuseIt} {
		w := through(t, "card", `{"name":"Marrow Light","berth":"C4"}`)
		w.Step()
		w.Return("r.facts:1.t0.c1", map[string]any{"length_m": 46.0})
		require.Empty(t, w.Step())
		require.Equal(t, ledger.Held, w.S.Status())
		require.Len(t, w.S.Tickets(), 1)
		assert.Equal(t, "Reserve C4?", w.S.Tickets()[0].Raised.Ask)
		w.Settle("r.berth:1.t0.c1", verb, nil)
		deeds := w.Step()
		if verb == ledger.RefuseIt {
			assert.Equal(t, "No berth for Marrow Light.", w.S.Closed().Answer, "fails: names the leg that comes next")
			continue
		}
		require.Len(t, deeds, 1)
		w.Return("r.berth:1.t0.c1", map[string]any{"ok": true})
		w.Step()
		assert.Equal(t, "C4", w.S.Facts()["booking"])
		assert.Equal(t, ledger.Done, w.S.Closed().Status)
	}
}

func TestAgentsOfARelayAreToldWhatTheFileSays(t *testing.T) {
	w := through(t, "letter", `{"name":"Petrel"}`)
	w.Step()
	w.Return("r.facts:1.facts:1.t0.c1", map[string]any{"length_m": 12.0})
	w.Step()
	require.Equal(t, ledger.StepID("r.write:1.t1"), w.Asking())
	last := func() []ledger.Message { return w.Asked[len(w.Asked)-1].Messages }
	assert.Equal(t, []ledger.Message{{Role: ledger.User, Text: "Write to Petrel."}}, last())
	w.Reply("Dear Petrel.")
	w.Step()
	assert.Equal(t, "Petrel\n\nwrite: Dear Petrel.", last()[0].Text, "by default the input, and the value of the leg before")
	w.Reply("too short")
	w.Step()
	require.Equal(t, ledger.StepID("r.write:2.t1"), w.Asking())
	assert.Equal(t, []string{"Write to Petrel.", "Dear Petrel.", "Write to Petrel."}, texts(last()), "thread: same goes on with the earlier visit")
	w.Reply("Dear Petrel, welcome.")
	w.Step()
	w.Reply("still too short")
	w.Step()
	assert.Equal(t, "Dear Petrel, welcome. (2)", w.S.Closed().Answer, "two visits are enough")
	assert.Equal(t, []string{"letter", "Dear Petrel, welcome. (2)"}, texts(w.S.Memory()))
	assert.Empty(t, w.S.Kept().Lines, "what a leg remembers is the relay's alone")
}

func texts(m []ledger.Message) []string {
	var out []string
	for _, x := range m {
		out = append(out, x.Text)
	}
	return out
}

func TestTheShortestRelayIsAListOfAgents(t *testing.T) {
	w := through(t, "line", `{"text":"Say hello"}`)
	w.Step()
	w.Reply("Hello.")
	w.Step()
	assert.Equal(t, "Say hello\n\nwriter: Hello.", w.Asked[1].Messages[0].Text)
	w.Reply("Hello!")
	w.Step()
	assert.Equal(t, "Hello!", w.S.Closed().Answer)
}

func TestAnAgentCallsARelay(t *testing.T) {
	p := coretest.Project(t, coretest.Letters)
	assert.Equal(t, ledger.Write, p.Relays["card"].Effect, "the strongest of its legs")
	assert.Equal(t, ledger.Write, p.Relays["letter"].Effect, "and of the relays that it goes through")
	assert.Equal(t, ledger.Read, p.Relays["line"].Effect)
	w := coretest.Open(p, "Write to the Petrel.")
	w.Step()
	assert.Equal(t, "letter", w.Asked[0].Tools[1].Name)
	w.Reply("", `card {"name":"Petrel"}`, `card {"nam":"x"}`)
	w.Step()
	w.Return("t1.c1.facts:1.t0.c1", map[string]any{"length_m": 12.0})
	w.Step()
	assert.Equal(t, []string{`{"length_m":12,"name":"Petrel"}`, `card was not called: nam is not known here; did you mean "name"?; name is missing (Its name).`}, w.Words())
	w.Reply("It is 12 m.")
	w.Step()
	assert.Equal(t, ledger.Done, w.S.Closed().Status)
}

func TestARelayFailsInWordsForEachLevel(t *testing.T) {
	w := through(t, "letter", `{"name":"Petrel"}`)
	w.Step()
	w.Return("r.facts:1.facts:1.t0.c1", "no object")
	w.Step()
	c := w.S.Closed()
	require.NotNil(t, c)
	assert.Equal(t, ledger.Failed, c.Status)
	assert.Equal(t, "look failed: the result does not fit the output schema: must be an object, not a string, such as {\"length_m\":46.5} (letter → card, at the leg facts)", c.Problem.Say)
}

func TestALimitOfLegsEndsARelayThatGoesRound(t *testing.T) {
	text := strings.Replace(coretest.Letters, "visits.write < 2", "visits.write < 2000", 1)
	w := coretest.Begin(coretest.Project(t, text), ledger.RunOpened{Relay: "letter", Input: json.RawMessage(`{"name":"Petrel"}`)})
	w.Step()
	w.Return("r.facts:1.facts:1.t0.c1", map[string]any{"length_m": 12.0})
	for w.S.Closed() == nil {
		w.Step()
		if w.S.Closed() == nil {
			w.Reply("again")
		}
	}
	assert.Equal(t, "limit", w.S.Closed().Problem.Class)
	assert.Contains(t, w.S.Closed().Problem.Say, "the run has visited 30 legs (limit legs: 30); letter would have gone on to")
}

func TestAStopEndsARelay(t *testing.T) {
	w := through(t, "letter", `{"name":"Petrel"}`)
	w.Step()
	w.Return("r.facts:1.facts:1.t0.c1", map[string]any{"length_m": 12.0})
	w.Step()
	w.Append(ledger.New("", &ledger.StopAsked{By: "ann"}))
	for _, e := range loop.GiveUp(w.S, "a second") {
		w.Append(e)
	}
	w.Step()
	assert.Equal(t, ledger.Stopped, w.S.Closed().Status)
	assert.Contains(t, told(w), "r.write:1 thread.closed\nr frame.closed\nrun.closed")
}

func TestALegGoesOverAList(t *testing.T) {
	w := through(t, "round", `{"vessels":["a","b","c"]}`)
	require.Len(t, w.Step(), 2, "two at a time")
	w.Return("r.ships:1.i2.t0.c1", map[string]any{"length_m": 2.0})
	require.Len(t, w.Step(), 1, "the third begins when one has ended")
	w.Return("r.ships:1.i3.t0.c1", map[string]any{"length_m": 3.0})
	w.Step()
	w.Fail("r.ships:1.i1.t0.c1", deed.Failure{Outcome: ledger.NotDone, Class: "refused", Say: "no such vessel"})
	w.Step()
	assert.Empty(t, w.S.Facts(), "what an item changes of the state is dropped")
	for i, name := range []string{"a", "b", "c"} {
		step := ledger.Root.Leg("notes", 1).Item(i + 1)
		assert.Equal(t, fmt.Sprintf("%d: %s", i+1, name), w.S.Thread(step).Messages()[0].Text)
	}
	for i := range 3 { // in any order
		w.ReplyTo(ledger.Root.Leg("notes", 1).Item(3-i).Turn(1), fmt.Sprint("note ", 3-i))
		w.Step()
	}
	w.Return("r.both:1.i2.t0.c1", map[string]any{"length_m": 9.0})
	w.ReplyTo("r.both:1.i1.t1", "three")
	w.Return("r.both:1.i3.facts:1.t0.c1", map[string]any{"length_m": 46.0})
	w.Step()
	w.Settle("r.both:1.i3.berth:1.t0.c1", ledger.Allow, nil)
	w.Step()
	w.Return("r.both:1.i3.berth:1.t0.c1", map[string]any{"ok": true})
	w.Step()
	require.NotNil(t, w.S.Closed())
	assert.JSONEq(t, `{"ships":[{"problem":"look failed: no such vessel."},{"value":{"length_m":2}},{"value":{"length_m":3}}],"notes":["note 1","note 2","note 3"],
		"both":{"letter":"three","first":{"length_m":9},"card":{"name":"a","length_m":46}}}`, w.S.Closed().Answer)
}

func TestAListThatIsNoneOrTooLongIsToldOf(t *testing.T) {
	text := strings.Replace(coretest.Letters, `each: "=input.vessels", at_once: 2`, `each: "=input.vessels[0]", at_once: 2`, 1)
	w := coretest.Begin(coretest.Project(t, text), ledger.RunOpened{Relay: "round", Input: json.RawMessage(`{"vessels":["a"]}`)})
	w.Step()
	assert.Contains(t, w.S.Closed().Problem.Say, "each of the leg ships is not a list: a (round, at the leg ships)")
	many, _ := json.Marshal(map[string]any{"vessels": make([]string, 10_001)})
	w = through(t, "round", string(many))
	w.Step()
	assert.Contains(t, w.S.Closed().Problem.Say, "is a list of 10001; a leg goes over 10000 at most")
	w = through(t, "round", `{"vessels":[]}`)
	w.Step()
	w.Reply("none") // what goes on beside it is waited for
	w.Step()
	assert.Contains(t, w.S.Closed().Problem.Say, "first", "an empty list is nothing to do; what needs its first says so")
}

func TestAnAnswerHasToFitItsSchema(t *testing.T) {
	w := through(t, "judged", `{"text":"Dear all"}`)
	w.Step()
	assert.Contains(t, w.Asked[0].System, `Answer with one JSON value that fits this JSON Schema, and nothing else: {"enum":["long","short"]}`)
	assert.Equal(t, map[string]any{"enum": []any{"long", "short"}}, w.Asked[0].Answer)
	w.Reply("I would say short")
	w.Step()
	last := w.Asked[len(w.Asked)-1].Messages
	assert.Equal(t, "Your answer does not fit: it is not JSON (line 1, column 1: 'I' does not belong here). Answer again, with one JSON value that fits the schema and nothing else.", last[len(last)-1].Text)
	w.Reply("```json\n\"Short\"\n```")
	w.Step()
	w.Reply(`{"fine":"true"}`)
	w.Step()
	assert.Equal(t, "fine", w.S.Closed().Answer, "what is plainly meant is put right")

	w = through(t, "judged", `{"text":"Dear all"}`)
	w.Step()
	w.Reply("short")
	w.Step()
	assert.Len(t, w.Asked, 2, "a word that is listed needs no quotes")

	w = through(t, "judged", `{"text":"Dear all"}`)
	w.Step()
	w.Reply(`"medium"`)
	w.Step()
	w.Reply(`"huge"`)
	w.Step()
	assert.Equal(t, "answer", w.S.Closed().Problem.Class)
	assert.Contains(t, w.S.Closed().Problem.Say, `the answer of writer does not fit its schema: must be one of`)
}
