package loop_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
)

func TestReasoningIsSentAgainWhereItsAgentWantsIt(t *testing.T) {
	for keys, want := range map[string]string{"": "", "reasoning: again\n": "it is about tides"} {
		w := coretest.Open(coretest.Project(t, strings.Replace(coretest.Main, "passes_to: [berths]\n", "passes_to: [berths]\n"+keys, 1)), "hello")
		w.Step()
		w.Append(loop.TurnReceived(w.P, w.S, "t1", deed.Reply{Reasoning: "it is about tides", Calls: []ledger.Ask{{ID: "1", Tool: "tide", Args: "{}"}}}, time.Millisecond))
		w.Step()
		w.Return("t1.c1", "high")
		w.Step()
		assert.Equal(t, want, w.Asked[1].Messages[1].Reasoning)
	}
}
