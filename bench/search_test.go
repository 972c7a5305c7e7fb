package bench

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"stonebaton.example/internal/sqlite"
	"stonebaton.example/internal/store"
)

// BenchmarkSearch searches the texts of a hundred thousand runs: what is in one of them, in
// none, in all, and in all but no run of the kind. The baseline is the scan of as many rows.
func BenchmarkSearch(b *testing.B) {
	const runs = 100_000
	for range b.N {
		dir := b.TempDir()
		st, err := store.Open(dir)
		require.NoError(b, err)
		require.NoError(b, st.Close())
		file := filepath.Join(dir, "stonebaton.db")
		db, err := sqlx.Open("sqlite", sqlite.DSN(file))
		require.NoError(b, err)
		tx := db.MustBegin()
		for n := range runs {
			text := fmt.Sprintf("Reserve a berth for the vessel %d from tomorrow noon, please.", n*7919%1_000_003)
			answer := fmt.Sprintf("Berth %c%d is reserved. "+strings.Repeat("The dues are 46.50 EUR for each night. ", 5), 'A'+n%6, n%40)
			tx.MustExec(`INSERT INTO session (id, title, person, runs, last, at) VALUES (?, 't', 'ann', 1, ?, 0)`, fmt.Sprint("s", n), fmt.Sprintf("s%d-1", n))
			tx.MustExec(`INSERT INTO run (id, session, project, person, text, status, agent, path, worked_by, called, models, turns, calls, tokens_in, tokens_out, cost, worked, answer, problem, opened_at, last_at, epoch, seq)
				VALUES (?, ?, 'p', 'ann', ?, 'done', 'desk', ' desk ', ' desk ', ' ', ' ', 1, 0, 1, 1, 0, 1, ?, '', 0, 0, 1, 2)`, fmt.Sprintf("s%d-1", n), fmt.Sprint("s", n), text, answer)
		}
		require.NoError(b, tx.Commit())
		st, err = store.Open(dir)
		require.NoError(b, err)
		began := time.Now()
		require.Eventually(b, func() bool {
			var left int
			return db.Get(&left, `SELECT count(*) FROM run WHERE searched = 0`) == nil && left == 0
		}, 10*time.Minute, 100*time.Millisecond)
		b.ReportMetric(time.Since(began).Seconds(), "s-to-index")
		median := func(f store.RunFilter, want int) time.Duration {
			var took []time.Duration
			for range 9 {
				began := time.Now()
				list, err := st.Runs(ctx, f)
				took = append(took, time.Since(began))
				require.NoError(b, err)
				require.Len(b, list, want)
			}
			slices.Sort(took)
			return took[len(took)/2]
		}
		ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
		b.ReportMetric(ms(median(store.RunFilter{Text: "vessel 79190 from"}, 1)), "ms-one")
		b.ReportMetric(ms(median(store.RunFilter{Text: "pelican"}, 0)), "ms-none")
		b.ReportMetric(ms(median(store.RunFilter{Text: "berth"}, 100)), "ms-all")
		b.ReportMetric(ms(median(store.RunFilter{Text: "berth", Status: "stopped"}, 0)), "ms-no-such-run")
		var n int
		began = time.Now()
		require.NoError(b, db.Get(&n, `SELECT count(*) FROM run WHERE instr(lower(text), 'pelican') OR instr(lower(answer), 'pelican')`))
		b.ReportMetric(ms(time.Since(began)), "ms-scan")
		require.NoError(b, db.Close())
		require.NoError(b, st.Close())
	}
}
