package loop_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
)

// agents is what may happen to a run of the agents of coretest.Main.
var agents = chance{
	words: []string{"done"},
	asks:  []string{`look {"name":"a"}`, `look {}`, "tide", `reserve {"berth":"C4"}`, `reserve {"berth":"D2"}`, "pay", "toot", "pass_to_berths", "pass_to_desk", "nothing", "toot {"},
	stop:  60,
	most:  400,
}

// relays is what may happen to a run through a relay of coretest.Letters.
var relays = chance{
	words: []string{"fine", "agreed", `"short"`, `{"fine":true}`, `{"fine":"no"}`, `{"good":true,"remarks":""}`, `{"good":false,"remarks":"no","score":3}`, "", "a long answer"},
	asks:  []string{`look {"name":"a"}`, "look {}", `reserve {"berth":"C4"}`, `card {"name":"a"}`, `letter {"name":"b"}`, `next_step {"who":"reader","ask":"read"}`, `next_step {"who":"look","with":{"name":"a"}}`, `next_step {"who":"reserve","with":{"berth":"C4"}}`, `next_step {"who":"card","with":{"name":"a","berth":"D2"}}`, `next_step {"who":"me"}`, "pass_to_judge", "nothing {}", "look {"},
	stop:  120,
	most:  800,
}

// courses are relays of coretest.Letters, each with an input.
var courses = [][2]string{
	{"card", `{"name":"a","berth":"C4"}`}, {"letter", `{"name":"a"}`}, {"round", `{"vessels":["a","b","c"]}`}, {"judged", `{"text":"x"}`}, {"line", `{"text":"x"}`}, {"talk", `{"text":"x"}`},
	{"trip", `{"text":"x"}`}, {"asked", `{"text":"x"}`}, {"better", `{"text":"x"}`}, {"tried", `{"text":"x"}`}, {"hooks", `{"text":"x"}`}, {"slow", `{}`}, {"signed", `{}`}, {"told", `{}`},
}

func TestWhateverHappensARunEndsAndIsRetoldTheSame(t *testing.T) {
	p := coretest.Project(t, coretest.Main)
	rapid.Check(t, func(t *rapid.T) {
		w := coretest.Begin(p, ledger.RunOpened{Text: "x", PersonAt: somePlaces(t)})
		agents.drive(t, w)
		same(t, foldsTheSame(t, w), w.S)
		theLedgerHolds(t, w)
		anyPrefixCanBeDrivenToAnEnd(t, w, agents)
	})
}

func TestWhateverHappensARelayEndsAndIsRetoldTheSame(t *testing.T) {
	p := coretest.Project(t, coretest.Letters)
	rapid.Check(t, func(t *rapid.T) {
		c := rapid.SampledFrom(courses).Draw(t, "course")
		w := coretest.Begin(p, ledger.RunOpened{Relay: c[0], Input: json.RawMessage(c[1]), Text: c[0], PersonAt: somePlaces(t)})
		relays.drive(t, w)
		again := foldsTheSame(t, w)
		assert.Equal(t, w.S.Closed(), again.Closed())
		assert.Equal(t, w.S.Facts(), again.Facts())
		assert.Equal(t, w.S.Kept(), again.Kept())
		theLedgerHolds(t, w)
		anyPrefixCanBeDrivenToAnEnd(t, w, relays)
	})
}

// somePlaces draws where a person looks at every step; nowhere, mostly.
func somePlaces(t *rapid.T) []ledger.Place {
	if rapid.IntRange(0, 2).Draw(t, "looks") > 0 {
		return nil
	}
	return rapid.SliceOfNDistinct(rapid.SampledFrom(ledger.Places()), 1, 3, rapid.ID).Draw(t, "places")
}

// foldsTheSame holds that the ledger folds to the same state when it is read back, and gives
// the state.
func foldsTheSame(t *rapid.T, w *coretest.World) *run.State {
	raw, err := json.Marshal(w.Events)
	require.NoError(t, err)
	var read []ledger.Event
	require.NoError(t, json.Unmarshal(raw, &read), "what is written can be read")
	once, err := run.Fold("w-1", w.Events)
	require.NoError(t, err)
	twice, err := run.Fold("w-1", read)
	require.NoError(t, err)
	same(t, once, twice)
	return once
}

// same holds two states against each other, every field of them.
func same(t require.TestingT, a, b *run.State) {
	if !assert.ObjectsAreEqual(a, b) {
		assert.Fail(t, "the states differ") // they refer to themselves: they cannot be printed
	}
}

// theLedgerHolds goes through the events of a closed run: every call and every thread ends
// once, what was sent can be built again, and nothing comes after the end.
func theLedgerHolds(t *rapid.T, w *coretest.World) {
	ends, decided := map[ledger.StepID]int{}, map[ledger.StepID]bool{}
	sent := 0
	s := run.New("w-1")
	for _, e := range w.Events {
		switch d := e.Data.(type) {
		case *ledger.CallDecided:
			decided[e.Step] = true
		case *ledger.CallReturned, *ledger.CallRefused:
			ends[e.Step]++
		case *ledger.CallFailed:
			if d.Final {
				ends[e.Step]++
			}
		case *ledger.TurnSent:
			th := s.Thread(e.Step.Parent())
			b, err := prompt.Build(w.P, s, th, d.Model, e.At)
			require.NoError(t, err)
			assert.Equal(t, d.System, b.SystemHash)
			assert.Equal(t, d.Tools, b.ToolsHash)
			assert.Equal(t, append(th.Sent()[d.Skip:d.Skip+d.Kept], d.Added...), b.Hashes)
			assert.Equal(t, w.Asked[sent].Hashes, b.Hashes)
			assert.Equal(t, w.Asked[sent].System, b.System)
			sent++
		}
		require.NoError(t, s.Apply(e))
	}
	assert.Equal(t, len(w.Asked), sent)
	for step := range decided {
		assert.Equal(t, 1, ends[step], "step %s", step)
	}
	assert.Len(t, s.Threads(), 1, "every thread is closed")
	assert.Equal(t, ledger.KindRunClosed, w.Events[len(w.Events)-1].Kind, "run.closed is always last")
}

func anyPrefixCanBeDrivenToAnEnd(t *rapid.T, w *coretest.World, c chance) {
	cut := rapid.IntRange(1, len(w.Events)-1).Draw(t, "cut")
	s, err := run.Fold("w-1", w.Events[:cut])
	require.NoError(t, err)
	again := &coretest.World{P: w.P, S: s, Events: append([]ledger.Event{}, w.Events[:cut]...), Now: s.At()}
	if s.Closed() == nil {
		again.Append(ledger.New("", &ledger.RunRecovered{Lost: s.InFlight(), Why: "back"}))
	}
	c.drive(t, again)
	assert.NotNil(t, again.S.Closed())
}
