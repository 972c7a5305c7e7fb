package sqlite_test

import (
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/internal/sqlite"
)

func TestALogThatIsLostIsNoticed(t *testing.T) {
	dir := t.TempDir()
	db, err := sql.Open("sqlite", sqlite.DSN(filepath.Join(dir, "a.db"), "_pragma=journal_mode(WAL)"))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("CREATE TABLE t (x TEXT)")
	require.NoError(t, err)
	for range 20 {
		_, err = db.Exec("INSERT INTO t VALUES (?)", strings.Repeat("x", 2000))
		require.NoError(t, err)
	}
	// as a kill leaves it, and then somebody else's hand
	left := func(change func(name string) error) string {
		to := t.TempDir()
		for _, suffix := range []string{"", "-wal", "-shm"} {
			raw, err := os.ReadFile(filepath.Join(dir, "a.db"+suffix))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(to, "a.db"+suffix), raw, 0o600))
		}
		require.NoError(t, change(filepath.Join(to, "a.db")))
		return sqlite.Lost(filepath.Join(to, "a.db"))
	}
	size := func(f string) int64 {
		info, err := os.Stat(f)
		require.NoError(t, err)
		return info.Size()
	}
	assert.Empty(t, left(func(string) error { return nil }), "a kill loses nothing")
	assert.Regexp(t, `a.db-wal is gone: what was recorded last, in \d+ pages, is lost`, left(func(f string) error { return os.Remove(f + "-wal") }))
	assert.Regexp(t, `a.db-wal is cut or damaged: of \d+ pages that were recorded last, [1-9]\d* are lost`, left(func(f string) error { return os.Truncate(f+"-wal", size(f+"-wal")-5000) }))
	assert.Regexp(t, "is cut or damaged", left(func(f string) error { return os.Truncate(f+"-wal", 0) }))
	assert.Regexp(t, "is cut or damaged", left(func(f string) error {
		w, err := os.OpenFile(f+"-wal", os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		defer w.Close()
		_, err = w.WriteAt([]byte("other"), size(f+"-wal")/2)
		return err
	}))
	assert.Empty(t, left(func(f string) error { return os.Remove(f + "-shm") }), "without its index nothing can be told")
	_, err = db.Exec("PRAGMA wal_checkpoint(TRUNCATE)")
	require.NoError(t, err)
	assert.Empty(t, left(func(f string) error { return os.Remove(f + "-wal") }), "all of it was in the database")
}
