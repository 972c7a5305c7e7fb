package loop_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
)

// TestACallWaitsAside: where the agent says so a call that would be held ends here, and the
// conversation goes on.
func TestACallWaitsAside(t *testing.T) {
	text := strings.Replace(coretest.Main, "tools: [look, tide, reserve, pay, toot]", "tools: [look, tide, reserve, pay, toot]\nwaits: aside", 1)
	w := coretest.Begin(coretest.Project(t, text), ledger.RunOpened{Text: "Reserve C4.", State: map[string]any{"length_m": 46.0}})
	w.Step()
	w.Reply("", `reserve {"berth":"C4"}`, `tide {}`)
	w.Step()
	require.Empty(t, w.S.Tickets(), "nothing holds the run")
	d := w.Events[len(w.Events)-1].Data
	for _, e := range w.Events {
		if x, ok := e.Data.(*ledger.CallRefused); ok {
			d = x
		}
	}
	refused := d.(*ledger.CallRefused)
	require.NotNil(t, refused.Aside)
	assert.Len(t, refused.Aside.Session, 10)
	assert.Equal(t, []string{"master"}, refused.Aside.By)
	assert.Equal(t, "Not done yet: master decides about reserve, until 4 May 09:30. What becomes of it is told in a message of its own; until then there is nothing more to do about it.", refused.Words)
	w.Return("t1.c2", "high")
	w.Step()
	w.Reply("The tide is high; the berth waits for the master.")
	w.Step()
	assert.Equal(t, ledger.Done, w.S.Closed().Status)

	w = coretest.Begin(coretest.Project(t, text), ledger.RunOpened{Text: "Reserve C4.", PersonAt: []ledger.Place{ledger.AtCalls}})
	w.Step()
	w.Reply("", `reserve {"berth":"C4"}`)
	w.Step()
	assert.Len(t, w.S.Tickets(), 1, "who looks at every step does so here")
}
