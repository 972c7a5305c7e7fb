package run_test

import (
	"compress/gzip"
	"encoding/json"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/run"
)

// fold is what the program before threads made of a ledger up to an event.
type fold struct {
	Status   ledger.Status   `json:"status"` // where nothing could be done
	Agent    string          `json:"agent"`
	Turns    int             `json:"turns"`
	Calls    int             `json:"calls"`
	Tokens   int             `json:"tokens"`
	Passes   int             `json:"passes"`
	Messages ledger.Hash     `json:"messages"`
	Sent     ledger.Hash     `json:"sent"`
	Facts    ledger.Hash     `json:"facts"`
	Memory   int             `json:"memory"`
	Handles  int             `json:"handles"`
	Flight   []ledger.StepID `json:"flight"`
	Tickets  []ledger.StepID `json:"tickets"`
	Same     int             `json:"same"`
	Calling  ledger.Hash     `json:"calling"`
	Quiet    bool            `json:"quiet"`
}

// progress gives the numbers that the stations of a call had.
var progress = map[run.Progress]int{run.Decided: 0, run.Waiting: 1, run.Allowed: 2, run.InFlight: 3, run.Again: 4, run.CallLost: 5, run.Unsure: 6, run.Settled: 7, run.Returned: 8, run.CallFailed: 9, run.CallRefused: 10}

// TestALedgerOfBeforeFoldsToTheSame holds each prefix of a hundred ledgers that chance made
// with the program before threads against what that program made of it.
func TestALedgerOfBeforeFoldsToTheSame(t *testing.T) {
	f, err := os.Open("testdata/before.json.gz")
	require.NoError(t, err)
	defer f.Close()
	z, err := gzip.NewReader(f)
	require.NoError(t, err)
	hash := func(v any) ledger.Hash {
		b, err := json.Marshal(v)
		require.NoError(t, err)
		return ledger.HashOf(b)
	}
	prefixes, quiet := 0, 0
	for dec := json.NewDecoder(z); dec.More(); {
		var story struct {
			Events []ledger.Event
			Sums   []fold
		}
		require.NoError(t, dec.Decode(&story))
		s := run.New(story.Events[0].Run)
		for i, e := range story.Events {
			require.NoError(t, s.Apply(e))
			m := s.Main()
			_, same := m.Repeated()
			require.LessOrEqual(t, same, story.Sums[i].Same, "it is counted once for a turn now")
			got := fold{Agent: s.Agent(), Turns: s.Turns(), Calls: s.Calls(), Tokens: s.Tokens().In + s.Tokens().Out, Passes: s.Passes(), Messages: hash(m.Messages()), Sent: hash(m.Sent()), Facts: hash(s.Facts()),
				Memory: len(s.Memory()), Handles: len(s.Handles()), Flight: s.InFlight(), Same: story.Sums[i].Same, Quiet: story.Sums[i].Quiet}
			for _, tk := range s.Tickets() {
				got.Tickets = append(got.Tickets, tk.Step)
			}
			var calling []any
			if u := m.Turn(); u != nil {
				for _, c := range u.Calls {
					calling = append(calling, c.Step, progress[c.Progress], c.Attempt, c.Words, c.Args)
				}
			}
			got.Calling = hash(calling)
			if got.Quiet {
				quiet++
				got.Status = s.Status()
			}
			require.Equal(t, story.Sums[i], got, "run %s, event %d: %s", e.Run, e.Seq, e.Kind)
			prefixes++
		}
	}
	assert.Greater(t, prefixes, 2500)
	assert.Greater(t, quiet, 500)
}
