package app_test

import (
	"compress/gzip"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/trace"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/sqlite"
	"stonebaton.example/internal/store"
)

// thaw makes a data directory that an earlier program left when it was killed: runs that are
// over, two held at a gate, one with a message behind it, two held for an outcome, and five
// under way: turns and a write in flight, and retries of a turn and of a call.
func thaw(t *testing.T) (dir string) {
	t.Helper()
	dir = t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("testdata/frozen")))
	packed, err := os.Open(filepath.Join(dir, "stonebaton.db.gz"))
	require.NoError(t, err)
	defer packed.Close()
	z, err := gzip.NewReader(packed)
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "data"), 0o700))
	db, err := os.Create(filepath.Join(dir, "data", "stonebaton.db"))
	require.NoError(t, err)
	_, err = io.Copy(db, z)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	toNow(t, db.Name())
	return dir
}

// waits are the moments in the data of events that something waits for.
var waits = regexp.MustCompile(`("(?:retry_at|due)":)"([^"]+)"`)

// toNow moves all that was recorded, so that the last of it was a moment ago: the time that a run
// may take counts from when it was opened.
func toNow(t *testing.T, file string) {
	t.Helper()
	db, err := sqlx.Open("sqlite", sqlite.DSN(file))
	require.NoError(t, err)
	defer db.Close()
	var last int64
	require.NoError(t, db.Get(&last, "SELECT max(last_at) FROM run"))
	by := time.Since(time.UnixMicro(last))
	for _, q := range []string{"UPDATE event SET at = at + ?", "UPDATE part SET at = at + ?", "UPDATE session SET at = at + ?", "UPDATE inbox SET at = at + ?", "UPDATE version SET at = at + ?",
		"UPDATE run SET opened_at = opened_at + ?1, last_at = last_at + ?1", "UPDATE ticket SET due = due + ?1, raised_at = raised_at + ?1, settled_at = settled_at + ?1"} {
		_, err := db.Exec(q, by.Microseconds())
		require.NoError(t, err, q)
	}
	var events []struct {
		Pos  int64
		Data []byte
	}
	require.NoError(t, db.Select(&events, "SELECT pos, data FROM event WHERE data IS NOT NULL"))
	for _, e := range events {
		moved := waits.ReplaceAllFunc(e.Data, func(m []byte) []byte {
			part := waits.FindSubmatch(m)
			at, err := time.Parse(time.RFC3339Nano, string(part[2]))
			require.NoError(t, err)
			return fmt.Appendf(nil, "%s%q", part[1], at.Add(by).Format(time.RFC3339Nano))
		})
		_, err := db.Exec("UPDATE event SET data = ? WHERE pos = ?", moved, e.Pos)
		require.NoError(t, err)
	}
}

func TestADataDirectoryOfAnEarlierProgramGoesOn(t *testing.T) {
	dir := thaw(t)
	a, err := app.Open(ctx, app.Config{Dir: dir, Data: filepath.Join(dir, "data")})
	require.NoError(t, err)
	defer func() { require.NoError(t, a.Close()) }()
	status := func(run string) ledger.Status {
		s, err := a.Engine.State(ctx, run)
		require.NoError(t, err, run)
		return s.Status()
	}
	answer := func(run string) string {
		s, err := a.Engine.State(ctx, run)
		require.NoError(t, err)
		require.Equal(t, ledger.Done, s.Status(), run)
		return s.Closed().Answer
	}
	settle := func(run string, step ledger.StepID, s loop.Settlement) {
		require.NoError(t, a.Engine.Settle(ctx, run, step, s))
	}
	rows, err := a.Store.Runs(ctx, store.RunFilter{})
	require.NoError(t, err)
	require.Len(t, rows, 12)
	for _, r := range rows {
		events, err := engine.All(a.Store.Read(ctx, r.ID, 0))
		require.NoError(t, err)
		_, err = trace.Of(r.ID, events)
		require.NoError(t, err, "every run can be shown")
	}
	assert.Equal(t, "You are welcome.", answer("z83kd-2"))

	// the held ones go on; a message that waited behind one has its run then
	settle("sapjz-1", "t3.c1", loop.Settlement{Verb: ledger.Amend, By: "master", Args: map[string]any{"berth": "C5"}})
	require.Eventually(t, func() bool {
		s, err := a.Engine.State(ctx, "sapjz-2")
		return err == nil && s.Status() == ledger.Done
	}, 20*time.Second, 5*time.Millisecond)
	assert.Contains(t, answer("sapjz-1"), "Reserved C5.")
	assert.Equal(t, "You are welcome.", answer("sapjz-2"))
	settle("qa8qd-1", "t3.c1", loop.Settlement{Verb: ledger.RefuseIt, By: "master", Because: "the fuel pontoon is closed"})
	settle("zdt7c-1", "t1.c1", loop.Settlement{Verb: ledger.GiveUp, By: "ann"})
	settle("dyp6n-1", "t1.c1", loop.Settlement{Verb: ledger.Happened, By: "ann"})
	for _, run := range []string{"qa8qd-1", "zdt7c-1", "dyp6n-1"} {
		require.Eventually(t, func() bool { return status(run) == ledger.Done }, 20*time.Second, 5*time.Millisecond, run)
	}
	assert.Contains(t, answer("qa8qd-1"), "the fuel pontoon is closed")

	// a write that was in flight is asked about, and a turn that was lost three times too
	for run, step := range map[string]ledger.StepID{"m7gxj-1": "t1.c1", "yz5dh-1": "t1"} {
		require.Eventually(t, func() bool { return status(run) == ledger.Held }, 20*time.Second, 5*time.Millisecond, run)
		s, err := a.Engine.State(ctx, run)
		require.NoError(t, err)
		assert.Equal(t, ledger.OutcomeTicket, s.Ticket(step).Raised.Form)
	}
	// retries go on being retried; whatever goes can be stopped
	for _, run := range []string{"e7jp4-1", "62sjn-1", "qwkgb-1", "m7gxj-1"} {
		require.NoError(t, a.Engine.Stop(ctx, run, "ann", "enough"))
		require.Eventually(t, func() bool { return status(run) == ledger.Stopped }, 20*time.Second, 5*time.Millisecond, run)
	}
}
