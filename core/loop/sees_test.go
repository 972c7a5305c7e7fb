package loop_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
)

func TestAHandoffSaysWhatTheOtherSees(t *testing.T) {
	for sees, want := range map[string][]string{
		"all":  {"before", "yes", "now this", "", "desk has handed over; berths now talks to the person."},
		"last": {"now this", "", "desk has handed over; berths now talks to the person."},
		"note": {"it is about berths"},
	} {
		text := strings.Replace(coretest.Main, "passes_to: [berths]", "passes_to: [{agent: berths, sees: "+sees+"}]", 1)
		w := coretest.Begin(coretest.Project(t, text), ledger.RunOpened{Agent: "desk", Text: "now this", Memory: []ledger.Message{{Role: ledger.User, Text: "before"}, {Agent: "desk", Role: ledger.Assistant, Text: "yes"}}})
		w.Step()
		w.Reply("", `pass_to_berths {"because":"it is about berths"}`)
		w.Step()
		var got []string
		for _, m := range w.Asked[1].Messages {
			got = append(got, m.Text)
		}
		assert.Equal(t, want, got, sees)
		again, err := run.Fold("w-1", w.Events)
		require.NoError(t, err)
		assert.Equal(t, w.S.Main().View(), again.Main().View())
		b, err := prompt.Build(w.P, again, again.Main(), "m", w.Now)
		require.NoError(t, err)
		assert.Len(t, b.Messages, len(want))
	}
}
