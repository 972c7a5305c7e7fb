package loop_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
)

func TestPartOfARelayCanBeRun(t *testing.T) {
	p := coretest.Project(t, coretest.Letters)
	w := coretest.Begin(p, ledger.RunOpened{Relay: "letter", Input: json.RawMessage(`{"name":"Petrel"}`), From: "read", Kept: json.RawMessage(`{"letter":"Dear all"}`), Until: "again", Text: "letter"})
	w.Step()
	require.NotNil(t, w.S.Thread("r.read:1"))
	w.Reply("fine")
	w.Step()
	require.NotNil(t, w.S.Closed())
	assert.Equal(t, ledger.Done, w.S.Closed().Status)
	var legs []string
	for _, e := range w.Events {
		if e.Kind == ledger.KindLegEntered {
			legs = append(legs, string(e.Step))
		}
	}
	assert.Equal(t, []string{"r.read:1", "r.again:1"}, legs)
}

func TestALimitCanEndInASummary(t *testing.T) {
	text := strings.Replace(coretest.Main, "limits: {", "limits: {last_word: true, turns: 1, XX", 1)
	text = strings.Replace(text, "XXturns: 8, ", "", 1)
	w := coretest.Open(coretest.Project(t, text), "hello")
	w.Step()
	w.Reply("", "tide")
	w.Step()
	w.Return("t1.c1", "high")
	w.Step()
	last := w.Asked[len(w.Asked)-1]
	assert.Empty(t, last.Tools)
	assert.Equal(t, "You cannot go on: the run has used its one turn (limit turns: 1). Sum up in a few sentences what was done, what was found, and what is open.", last.Messages[len(last.Messages)-1].Text)
	assert.True(t, w.S.Summing())
	before := len(w.Events) - 1
	s, err := run.Fold("w-1", w.Events[:before])
	require.NoError(t, err)
	b, err := prompt.Build(w.P, s, s.Main(), "m", w.Events[before].At)
	require.NoError(t, err)
	assert.Equal(t, last.Hashes, b.Hashes, "what was sent can be built again")
	w.Reply("It is high water; nothing else was done.")
	w.Step()
	assert.Equal(t, ledger.Failed, w.S.Closed().Status)
	assert.Equal(t, "It is high water; nothing else was done.", w.S.Closed().Answer)
	assert.Equal(t, "limit", w.S.Closed().Problem.Class)

	w = coretest.Open(coretest.Project(t, text), "hello") // where it fails, the limit is what is told
	w.Step()
	w.Reply("", "tide")
	w.Step()
	w.Return("t1.c1", "high")
	w.Step()
	w.Append(loop.TurnFailed(w.P, w.S, w.Asking(), deed.ModelFailure{Class: "server", Say: "500", Retry: true}, 0, w.Now, 0))
	w.Step()
	assert.Equal(t, "limit", w.S.Closed().Problem.Class)
	assert.Empty(t, w.S.Closed().Answer)
}

func TestARunCanBeGivenMoreTurns(t *testing.T) {
	text := strings.Replace(coretest.Main, "limits: {", "limits: {turns: 1, XX", 1)
	text = strings.Replace(text, "XXturns: 8, ", "", 1)
	w := coretest.Begin(coretest.Project(t, text), ledger.RunOpened{Agent: "desk", Text: "hello", Turns: 2})
	w.Step()
	w.Reply("", "tide")
	w.Step()
	w.Return("t1.c1", "high")
	w.Step()
	w.Reply("High.")
	w.Step()
	assert.Equal(t, ledger.Done, w.S.Closed().Status)
}
