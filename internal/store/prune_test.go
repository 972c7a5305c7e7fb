package store_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/ledger"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/store"
)

func TestPruneTakesOldSessionsAndNothingElse(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	long := func(x string) string { return strings.Repeat(x, 5000) }
	for _, id := range []string{"aa", "bb", "cc", "dd"} {
		require.NoError(t, s.Open(ctx, opening(id, 1, true, "x")))
		part := []byte(long(id))
		h := ledger.HashOf(part)
		require.NoError(t, s.Append(ctx, engine.Batch{Run: id + "-1", Parts: map[ledger.Hash][]byte{h: part}, Head: head(ledger.Going), Events: []ledger.Event{
			event(id+"-1", 2, "t1", &ledger.TurnSent{Added: []ledger.Hash{h}}), event(id+"-1", 3, "t1", &ledger.TurnReceived{Text: long("text of " + id)})}}))
	}
	done := func(id string) {
		require.NoError(t, s.Append(ctx, engine.Batch{Run: id + "-1", Head: head(ledger.Done), Events: []ledger.Event{event(id+"-1", 4, "", &ledger.RunClosed{Status: ledger.Done})}}))
	}
	done("aa")
	done("cc")
	done("dd")
	require.NoError(t, s.Enqueue(ctx, engine.Start{Session: "cc", Text: "still to come"}))
	blobs := func() int {
		list, err := filepath.Glob(filepath.Join(dir, "blobs", "*", "*"))
		require.NoError(t, err)
		return len(list)
	}
	require.Equal(t, 8, blobs())
	later := time.Now().Add(time.Hour) // all of it is older
	out, err := s.Prune(ctx, at.Add(-time.Hour), false)
	require.NoError(t, err)
	assert.Zero(t, out.Sessions, "nothing is so old")
	out, err = s.Prune(ctx, later, true)
	require.NoError(t, err)
	assert.Equal(t, []string{"aa", "dd"}, out.IDs, "one goes on, and one has a message that waits")
	assert.Equal(t, 8, blobs(), "it was only asked")
	out, err = s.Prune(ctx, later, false)
	require.NoError(t, err)
	assert.Equal(t, 2, out.Runs)
	assert.Equal(t, 4, out.Files)
	assert.Equal(t, 4, blobs())
	_, err = engine.All(s.Read(ctx, "aa-1", 0))
	require.ErrorIs(t, err, engine.ErrNoRun)
	for _, id := range []string{"bb", "cc"} {
		events, err := engine.All(s.Read(ctx, id+"-1", 0))
		require.NoError(t, err)
		assert.Equal(t, long("text of "+id), events[2].Data.(*ledger.TurnReceived).Text)
		body, err := s.Part(ctx, ledger.HashOf([]byte(long(id))))
		require.NoError(t, err)
		assert.Equal(t, long(id), string(body))
	}
	_, err = s.Part(ctx, ledger.HashOf([]byte(long("aa"))))
	require.Error(t, err)
	require.NoError(t, s.Open(ctx, opening("ee", 1, true, "and it goes on")))
	require.NoError(t, s.Close())
}

func TestPruneSharesItsConnectionWithTheWriter(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	require.NoError(t, s.Open(ctx, opening("aa", 1, true, "x")))
	end, ended := make(chan struct{}), make(chan error)
	go func() {
		for {
			select {
			case <-end:
				ended <- nil
				return
			default:
			}
			if err := s.Enqueue(ctx, engine.Start{Session: "aa", Text: "still to come"}); err != nil {
				ended <- err
				return
			}
		}
	}()
	for range 20 {
		_, err := s.Prune(ctx, time.Now().Add(-time.Hour), false)
		require.NoError(t, err)
	}
	close(end)
	require.NoError(t, <-ended)
}

func TestABackupIsTheRecordsAtOneMoment(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	defer s.Close()
	require.NoError(t, s.Open(ctx, opening("aa", 1, true, "x")))
	long := strings.Repeat("y", 9000)
	require.NoError(t, s.Append(ctx, engine.Batch{Run: "aa-1", Head: head(ledger.Going), Events: []ledger.Event{event("aa-1", 2, "t1.c1", &ledger.CallReturned{Result: json.RawMessage(`"` + long + `"`)})}}))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "people.json"), []byte("{}"), 0o600))
	var file bytes.Buffer
	runs, err := store.Backup(ctx, dir, t.TempDir(), &file)
	require.NoError(t, err, "while the store is open")
	assert.Equal(t, 1, runs)
	require.NoError(t, s.Open(ctx, opening("bb", 1, true, "later")))

	fresh := t.TempDir()
	zip, err := gzip.NewReader(&file)
	require.NoError(t, err)
	for in := tar.NewReader(zip); ; {
		h, err := in.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		require.True(t, filepath.IsLocal(h.Name))
		body, err := io.ReadAll(in)
		require.NoError(t, err)
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(fresh, h.Name)), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(fresh, h.Name), body, 0o600))
	}
	assert.FileExists(t, filepath.Join(fresh, "people.json"))
	again := open(t, fresh)
	defer again.Close()
	events, err := engine.All(again.Read(ctx, "aa-1", 0))
	require.NoError(t, err)
	assert.Equal(t, `"`+long+`"`, string(events[1].Data.(*ledger.CallReturned).Result))
	_, err = engine.All(again.Read(ctx, "bb-1", 0))
	require.ErrorIs(t, err, engine.ErrNoRun)
	_, err = store.Backup(ctx, t.TempDir(), t.TempDir(), io.Discard)
	require.ErrorContains(t, err, "there are no records in")
}
