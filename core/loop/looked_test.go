package loop_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
)

const whoRings = ringStub + `looks_up: {boat: {tool: look, args: {name: "={'1': 'Petrel'}[?string(args.times)].orValue('Gannet')"}}}
unless:
  - {when: "args.times > 10", say: "Ten times at most."}
  - {when: "found.boat == null", say: There is no such boat.}
  - {when: "found.boat.length_m > 40.0", say: "The bell is not rung for a boat of {{ found.boat.length_m }} m."}
`

// rings lets the agent ring, with what is looked up.
func rings(t *testing.T, extra string, finds map[string]any) *coretest.World {
	t.Helper()
	w := bigger(t, whoRings+extra)
	w.Finds = finds
	w.Step()
	w.Reply("", `ring {"times":1}`)
	return w
}

func boat(length float64) map[string]any {
	return map[string]any{"boat": map[string]any{"length_m": length}}
}

func kinds(w *coretest.World, kind ledger.Kind) (n int) {
	for _, e := range w.Events {
		if e.Kind == kind {
			n++
		}
	}
	return n
}

func TestRulesOverWhatIsLookedUp(t *testing.T) {
	w := rings(t, "", boat(46))
	w.Step()
	assert.Zero(t, kinds(w, ledger.KindCallStarted), "it is refused before it starts")
	assert.Equal(t, "The bell is not rung for a boat of 46 m.", w.Words()[0])

	w = rings(t, "", map[string]any{"boat": nil})
	w.Step()
	assert.Equal(t, "There is no such boat.", w.Words()[0])

	w = rings(t, "", nil)
	w.Step()
	assert.Equal(t, "ring was not called: boat could not be looked up (it is not there).", w.Words()[0], "nothing is done on a guess")

	w = rings(t, "", boat(12))
	require.Len(t, w.Step(), 1, "nothing speaks against it")
	assert.Equal(t, 1, kinds(w, ledger.KindCallLooked))
	w.Return("t1.c1", nil)
	w.Step()
	w.Reply("", `ring {"times":11}`)
	w.Step()
	assert.Equal(t, "Ten times at most.", w.Words()[0])
	assert.Equal(t, 1, kinds(w, ledger.KindCallLooked), "nothing is looked up for what is rejected without it")
}

func TestRulesAreLookedAtBeforeAnybodyIsAskedAndAgainAfterTheyAgreed(t *testing.T) {
	w := rings(t, "gate: {}\n", boat(46))
	w.Step()
	assert.Empty(t, w.S.Tickets(), "nobody is asked")
	assert.Equal(t, "The bell is not rung for a boat of 46 m.", w.Words()[0])

	w = rings(t, "gate: {ask: \"Ring for {{ found.boat.length_m }} m?\"}\n", boat(12))
	w.Step()
	require.Len(t, w.S.Tickets(), 1)
	assert.Equal(t, "Ring for 12 m?", w.S.Tickets()[0].Raised.Ask, "the gate sees it too")
	w.Finds = boat(50)
	w.Settle("t1.c1", ledger.Allow, nil)
	w.Step()
	assert.Equal(t, "The bell is not rung for a boat of 50 m.", w.Words()[0], "what has changed meanwhile counts")
	assert.Equal(t, 2, kinds(w, ledger.KindCallLooked))

	w = rings(t, "gate: {}\n", boat(12))
	w.Step()
	w.Settle("t1.c1", ledger.Amend, map[string]any{"times": 3})
	require.Len(t, w.Step(), 1)
	assert.Equal(t, run.InFlight, w.S.Call("t1.c1").Progress)
	var last *ledger.CallLooked
	for _, e := range w.Events {
		if d, ok := e.Data.(*ledger.CallLooked); ok {
			last = d
		}
	}
	assert.Equal(t, "what the rules of the tool need is looked up again after a person agreed", last.Why)

	w = rings(t, "gate: {}\n", boat(12))
	w.Step()
	assert.NotContains(t, loop.Leads(w.P, w.S, "t1.c1")[ledger.Allow], "would reject")
}

func TestWhatARuleLooksUpIsARead(t *testing.T) {
	for say, text := range map[string]string{
		`"reserve" is a write`:                      "looks_up: {boat: {tool: reserve}}\nunless: [{when: \"found.boat == null\", say: no}]\n",
		`nothing of unless: uses what is looked up`: "looks_up: {boat: {tool: look, args: {name: x}}}\nunless: [{when: \"args.times > 3\", say: no}]\n",
		`unknown tool "lok"`:                        "looks_up: {boat: {tool: lok}}\nunless: [{when: \"found.boat == null\", say: no}]\n",
		`found`:                                     "unless: [{when: \"found.boat == null\", say: no}]\n",
		`"boat" is looked up twice`:                 whoRings[len(ringStub):] + "gate: {looks_up: {boat: {tool: look, args: {name: x}}}}\n",
	} {
		_, probs := coretest.Reader.Compile(project.Source{Files: map[string]string{project.Main: coretest.Main + "\n---\ntool: ring\nsummary: Ring the bell when it is asked for.\ninput: {type: object, required: [times], properties: {times: {type: integer, description: How many times.}}}\n" + ringStub + text}})
		var said []string
		for _, p := range probs {
			said = append(said, p.Say)
		}
		assert.Contains(t, strings.Join(said, "\n"), say)
	}
}
