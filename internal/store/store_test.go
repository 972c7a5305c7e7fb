package store_test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/view"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/engine/logtest"
	"stonebaton.example/internal/sqlite"
	"stonebaton.example/internal/store"
)

var ctx = context.Background()

var at = time.Date(2026, 5, 4, 9, 0, 0, 123000, time.UTC)

func open(t *testing.T, dir string) *store.Store {
	t.Helper()
	s, err := store.Open(dir)
	require.NoError(t, err)
	return s
}

func event(run string, seq int64, step ledger.StepID, d ledger.Data) ledger.Event {
	e := ledger.New(step, d)
	e.Run, e.Seq, e.At = run, seq, at.Add(time.Duration(seq)*time.Second)
	return e
}

func opening(session string, n int, fresh bool, text string) engine.Opening {
	run := fmt.Sprintf("%s-%d", session, n)
	return engine.Opening{Session: session, New: fresh, Project: "quay", Person: "ann", Text: text, Batch: engine.Batch{Run: run,
		Events: []ledger.Event{event(run, 1, "", &ledger.RunOpened{Session: session, Text: text})}, Head: head(ledger.Going)}}
}

func head(s ledger.Status) view.Head {
	return view.Head{Status: s, Agent: "desk", Path: []string{"desk", "berths"}, Called: []string{"find_berth"}, OpenedAt: at, LastAt: at}
}

func TestEventsComeBackAsTheyWere(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	require.NoError(t, s.Open(ctx, opening("aa", 1, true, "hello")))
	long := strings.Repeat("wave ", 4000)
	parts := map[ledger.Hash][]byte{"small": []byte("part"), ledger.HashOf([]byte(long)): []byte(long)}
	require.NoError(t, s.Append(ctx, engine.Batch{Run: "aa-1", Parts: parts, Head: head(ledger.Going), Events: []ledger.Event{
		event("aa-1", 2, "t1", &ledger.TurnReceived{Text: long}), event("aa-1", 3, "t1", &ledger.TurnReceived{Text: "short"})}}))
	check := func(s *store.Store) {
		events, err := engine.All(s.Read(ctx, "aa-1", 0))
		require.NoError(t, err)
		require.Len(t, events, 3)
		assert.Equal(t, long, events[1].Data.(*ledger.TurnReceived).Text)
		assert.True(t, events[2].At.Equal(at.Add(3*time.Second)))
		tail, err := s.ReadAfter(ctx, "aa-1", 1, 1)
		require.NoError(t, err)
		require.Len(t, tail, 1)
		assert.EqualValues(t, 2, tail[0].Seq)
		for h, want := range parts {
			got, err := s.Part(ctx, h)
			require.NoError(t, err)
			assert.Equal(t, want, got)
		}
	}
	check(s)
	files, err := filepath.Glob(filepath.Join(dir, "blobs", "*", "*"))
	require.NoError(t, err)
	assert.Len(t, files, 1, "what is over 4 KiB is a file, and the same content one file")
	require.NoError(t, s.Close())
	s = open(t, dir)
	defer s.Close()
	check(s)
	_, err = engine.All(s.Read(ctx, "none", 0))
	require.ErrorIs(t, err, engine.ErrNoRun)
	for _, spoil := range []func(string) error{func(f string) error { return os.WriteFile(f, []byte("other"), 0o600) }, os.Remove} {
		for _, f := range files {
			require.NoError(t, spoil(f))
		}
		events, err := engine.All(s.Read(ctx, "aa-1", 0))
		require.NoError(t, err, "a text that is lost costs itself alone")
		require.Len(t, events, 3)
		assert.Regexp(t, `^\(this text is lost: the file .* of the data directory is (missing|damaged: it does not hold what its name says)\)$`, events[1].Data.(*ledger.TurnReceived).Text)
		assert.Equal(t, "short", events[2].Data.(*ledger.TurnReceived).Text)
		for h, want := range parts {
			if len(want) > 4<<10 {
				_, err := s.Part(ctx, h)
				require.ErrorContains(t, err, "of the data directory is")
			}
		}
	}
}

func TestTextsOfEventsComeBackAsTheyWere(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	defer s.Close()
	require.NoError(t, s.Open(ctx, opening("aa", 1, true, "x")))
	long := strings.Repeat("<é\u2028\"\\>", 300)
	results := []string{
		fmt.Sprintf(`{"n":12345678901234567890,"f":1.50,"list":[%q,"short"],"text":%q}`, long, long),
		fmt.Sprintf(`{"$file":"a value of its own","text":%q}`, long),
		fmt.Sprintf(`{"text":{"$file":%q}}`, long),
		fmt.Sprintf(`{"text":%q,"own":{"\u0024fi\u006ce":"0123456789abcdef0123456789abcdef"}}`, long),
		fmt.Sprintf(`{%q:%q,"end":"a quote: \"","none":{}}`, long[:1500], long),
		"[" + strings.Repeat(`"many small ones",`, 400) + `null]`,
		fmt.Sprintf("%q", strings.Repeat("y", 100_000)),
	}
	for i, r := range results {
		e := event("aa-1", int64(i+2), "t1.c1", &ledger.CallReturned{Result: json.RawMessage(r)})
		require.NoError(t, s.Append(ctx, engine.Batch{Run: "aa-1", Head: head(ledger.Going), Events: []ledger.Event{e}}))
	}
	files, err := filepath.Glob(filepath.Join(dir, "blobs", "*", "*"))
	require.NoError(t, err)
	assert.Len(t, files, 7, "the long text, the hundred thousand letters, and five that are kept whole: no text of those is written beside")
	events, err := engine.All(s.Read(ctx, "aa-1", 0))
	require.NoError(t, err)
	for i, r := range results {
		assert.JSONEq(t, r, string(events[i+1].Data.(*ledger.CallReturned).Result))
	}
	assert.Contains(t, string(events[1].Data.(*ledger.CallReturned).Result), "12345678901234567890", "numbers stay exact")
}

func TestASecondServiceIsRefused(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	_, err := store.Open(dir)
	var locked *store.LockedError
	require.ErrorAs(t, err, &locked)
	assert.Contains(t, err.Error(), "-data DIR")
	require.NoError(t, s.Close())
	open(t, dir).Close()
}

func TestRecordsThatAreNotWholeAreNoticed(t *testing.T) {
	dir, copied := t.TempDir(), t.TempDir()
	s := open(t, dir)
	require.NoError(t, s.Open(ctx, opening("aa", 1, true, "one")))
	for _, f := range []string{"stonebaton.db", "stonebaton.db-shm"} { // as a kill leaves them, and with the log deleted
		raw, err := os.ReadFile(filepath.Join(dir, f))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(copied, f), raw, 0o600))
	}
	require.NoError(t, s.Close())
	left, err := filepath.Glob(filepath.Join(dir, "stonebaton.db-*"))
	require.NoError(t, err)
	assert.Empty(t, left, "a clean stop puts the log into the database")
	s = open(t, dir)
	assert.Empty(t, s.Noticed)
	require.NoError(t, s.Close())
	s = open(t, copied)
	assert.Contains(t, s.Noticed, "stonebaton.db-wal is gone")
	require.NoError(t, s.Close())
}

func TestOneRunAtATimeInASession(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	require.NoError(t, s.Open(ctx, opening("aa", 1, true, "one")))
	require.ErrorIs(t, s.Open(ctx, opening("aa", 1, true, "one")), engine.ErrTaken)
	require.ErrorIs(t, s.Open(ctx, opening("aa", 2, false, "two")), engine.ErrBusy)
	require.ErrorIs(t, s.Open(ctx, opening("zz", 2, false, "two")), engine.ErrNoSession)
	x, err := s.Session(ctx, "aa")
	require.NoError(t, err)
	assert.Equal(t, engine.Session{ID: "aa", Runs: 1, Last: "aa-1", Busy: true, Person: "ann"}, x)
	require.NoError(t, s.Append(ctx, engine.Batch{Run: "aa-1", Head: head(ledger.Done), Events: []ledger.Event{event("aa-1", 2, "", &ledger.RunClosed{Status: ledger.Done})}}))
	require.NoError(t, s.Enqueue(ctx, engine.Start{Session: "aa", Text: "two"}))
	w, ok, err := s.Inbox(ctx, "aa")
	require.NoError(t, err)
	require.True(t, ok)
	o := opening("aa", 2, false, "two")
	o.Inbox = w.ID
	require.NoError(t, s.Open(ctx, o))
	_, ok, err = s.Inbox(ctx, "aa")
	require.NoError(t, err)
	assert.False(t, ok, "the message is taken with the run it begins")
}

func TestOneCallersConflictSparesTheOthers(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	const n = 100
	var wg sync.WaitGroup
	errs := make([]error, n)
	for i := range n {
		wg.Add(1)
		go func() {
			defer wg.Done()
			id := fmt.Sprintf("s%03d", i)
			if err := s.Open(ctx, opening(id, 1, true, "x")); err != nil {
				errs[i] = err
				return
			}
			seq := int64(2)
			if i%5 == 0 {
				seq = 1 // as another writer would have it
			}
			errs[i] = s.Append(ctx, engine.Batch{Run: id + "-1", Head: head(ledger.Done), Events: []ledger.Event{event(id+"-1", seq, "", &ledger.RunClosed{Status: ledger.Done})}})
		}()
	}
	wg.Wait()
	for i := range n {
		run, err := s.Run(ctx, fmt.Sprintf("s%03d-1", i))
		require.NoError(t, err)
		if i%5 == 0 {
			require.ErrorIs(t, errs[i], engine.ErrConflict)
			assert.Equal(t, "going", run.Status, "nothing of the batch is there, its row neither")
		} else {
			require.NoError(t, errs[i])
			assert.Equal(t, "done", run.Status)
		}
	}
}

func TestTicketsAreKeptInStep(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	now := time.Now()
	raise := func(session string, due *time.Time) {
		require.NoError(t, s.Open(ctx, opening(session, 1, true, "x")))
		require.NoError(t, s.Append(ctx, engine.Batch{Run: session + "-1", Head: head(ledger.Held), Events: []ledger.Event{
			event(session+"-1", 2, "t1.c1", &ledger.GateRaised{Form: ledger.GateTicket, Tool: "reserve", Args: json.RawMessage(`{"berth":"C4"}`), Ask: "Reserve?", By: []string{"master"}, Due: due})}}))
	}
	soon, late := now.Add(-time.Second), now.Add(time.Hour)
	raise("never", nil)
	raise("late", &late)
	raise("soon", &soon)
	list, err := s.Tickets(ctx, store.TicketFilter{})
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Equal(t, []string{"soon-1", "late-1", "never-1"}, []string{list[0].Run, list[1].Run, list[2].Run}, "the nearest deadline first")
	assert.Equal(t, []ledger.Verb{ledger.Allow, ledger.RefuseIt, ledger.Amend}, list[0].Verbs)
	due, next, err := s.Due(ctx, now)
	require.NoError(t, err)
	assert.Equal(t, []string{"soon-1"}, due)
	assert.WithinDuration(t, late, next, time.Millisecond)
	require.NoError(t, s.Append(ctx, engine.Batch{Run: "soon-1", Head: head(ledger.Going), Events: []ledger.Event{event("soon-1", 3, "t1.c1", &ledger.GateSettled{Verb: ledger.Amend, By: "master", Args: json.RawMessage(`{"berth":"D2"}`)})}}))
	tk, err := s.Ticket(ctx, list[0].ID)
	require.NoError(t, err)
	assert.Equal(t, "amend", tk.Status)
	assert.JSONEq(t, `{"berth":"D2"}`, string(tk.NewArgs))
	_, err = s.Ticket(ctx, 99)
	require.ErrorIs(t, err, store.ErrNoTicket)
}

func TestRunsAreFiltered(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	for i := range 5 {
		o := opening(fmt.Sprintf("s%d", i), 1, true, fmt.Sprintf("message %d", i))
		o.Head.OpenedAt = at.Add(time.Duration(i) * time.Hour)
		if i == 3 {
			o.Head = head(ledger.Done)
			o.Head.Answer, o.Head.Path, o.Head.Agents, o.Head.Called = "The Gannet is in", []string{"tides"}, []string{"tides", "gauge"}, nil
		}
		require.NoError(t, s.Open(ctx, o))
	}
	ids := func(f store.RunFilter) string {
		list, err := s.Runs(ctx, f)
		require.NoError(t, err)
		var out []string
		for _, r := range list {
			out = append(out, r.Session)
		}
		return strings.Join(out, " ")
	}
	assert.Equal(t, "s4 s3 s2 s1 s0", ids(store.RunFilter{}))
	assert.Equal(t, "s3", ids(store.RunFilter{Status: "done"}))
	assert.Equal(t, "s3", ids(store.RunFilter{Agent: "tides"}))
	assert.Equal(t, "s3", ids(store.RunFilter{Agent: "gauge"}), "one that was consulted took part")
	assert.Equal(t, "s4 s2 s1 s0", ids(store.RunFilter{Tool: "find_berth"}))
	assert.Empty(t, ids(store.RunFilter{Tool: "find"}), "a part of a name is not the name")
	assert.Equal(t, "s3", ids(store.RunFilter{Text: "gannet"}))
	assert.Equal(t, "s4 s2", ids(store.RunFilter{Since: at.Add(90 * time.Minute)}))
	assert.Equal(t, "s4 s3", ids(store.RunFilter{Limit: 2}))
	page, err := s.Runs(ctx, store.RunFilter{Limit: 2})
	require.NoError(t, err)
	assert.Equal(t, "s2 s1", ids(store.RunFilter{Limit: 2, Before: page[1].N}))
}

func TestVersionsAreKept(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	defer s.Close()
	src := project.Source{Files: map[string]string{"a.yaml": strings.Repeat("x", 9000)}, Env: map[string]string{"A": "b"}}
	require.NoError(t, s.SaveVersion(ctx, src))
	require.NoError(t, s.SaveVersion(ctx, src))
	db, err := sqlx.Open("sqlite", sqlite.DSN(filepath.Join(dir, "stonebaton.db")))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(`INSERT INTO version (hash, body, at) VALUES ('later', '{"format": 99, "files": {}}', 0), ('first', '{"files": {"a": "b"}, "env": {}}', 0)`)
	require.NoError(t, err)
	_, err = s.Version(ctx, "later")
	require.ErrorContains(t, err, "was kept by a newer Stone Baton (format 99); this one reads up to 2")
	first, err := s.Version(ctx, "first")
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"a": "b"}, first.Files, "those that an earlier program kept have none")
	got, err := s.Version(ctx, src.Hash())
	require.NoError(t, err)
	assert.Equal(t, src, got)
	_, err = s.Version(ctx, "none")
	require.Error(t, err)
}

func TestSessionsDrillsAndCounts(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	require.NoError(t, s.Open(ctx, opening("aa", 1, true, "  a long\n message "+strings.Repeat("x", 100))))
	require.NoError(t, s.Open(ctx, opening("bb", 1, true, "two")))
	rows, err := s.Sessions(ctx, "", 0, 10)
	require.NoError(t, err)
	require.Len(t, rows, 2)
	assert.Equal(t, "bb", rows[0].ID, "the newest run first")
	assert.True(t, strings.HasPrefix(rows[1].Title, "a long message xxx"), "the title is one line")
	assert.LessOrEqual(t, len([]rune(rows[1].Title)), 80)
	one, err := s.SessionRow(ctx, "aa")
	require.NoError(t, err)
	assert.Equal(t, "going", one.Status)
	_, err = s.SessionRow(ctx, "zz")
	require.ErrorIs(t, err, engine.ErrNoSession)
	counts, err := s.Counts(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[string]int{"going": 2}, counts)
	unfinished, err := s.Unfinished(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"aa-1", "bb-1"}, unfinished)

	require.NoError(t, s.SaveDrill(ctx, "d", []byte(`{"status":"failed"}`)))
	require.NoError(t, s.SaveDrill(ctx, "d", []byte(`{"status":"passed"}`)))
	drills, err := s.Drills(ctx)
	require.NoError(t, err)
	assert.JSONEq(t, `{"status":"passed"}`, string(drills["d"]), "the newest result stays")

	for _, text := range []string{"one", "two"} {
		require.NoError(t, s.Enqueue(ctx, engine.Start{Session: "aa", Text: text}))
	}
	queues, err := s.Queues(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"aa", "aa"}, queues)
	waiting, err := s.Waiting(ctx, "aa")
	require.NoError(t, err)
	assert.Equal(t, "one", waiting[0].Start.Text, "in the order in which they came")
	_, err = s.Part(ctx, "none")
	require.ErrorContains(t, err, "is not in the store")
	require.NoError(t, s.Ready(ctx))
}

func TestAClosedStoreSaysSo(t *testing.T) {
	s := open(t, t.TempDir())
	require.NoError(t, s.Close())
	require.ErrorContains(t, s.Ready(ctx), "the store is closed")
}

func TestAFolderThatCannotBeWritten(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err := store.Open(filepath.Join(file, "data"))
	require.ErrorContains(t, err, "the data directory cannot be made")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stonebaton.db"), []byte(strings.Repeat("not a database ", 100)), 0o600))
	_, err = store.Open(dir)
	require.ErrorContains(t, err, "stonebaton.db cannot be opened")
	require.NoError(t, os.Remove(filepath.Join(dir, "stonebaton.db")))
	open(t, dir).Close()
}

func TestAStoreIsALog(t *testing.T) {
	logtest.Run(t, func(t *testing.T) engine.Records {
		s := open(t, t.TempDir())
		t.Cleanup(func() { s.Close() })
		return s
	})
}

func TestAFolderMayHaveAnyName(t *testing.T) {
	for _, name := range []string{"Hafen büro", "100%", "a?b#c", "日誌"} {
		s := open(t, filepath.Join(t.TempDir(), name))
		require.NoError(t, s.Open(ctx, opening("aa", 1, true, "hello")), name)
		require.NoError(t, s.Close())
	}
}

func TestWhatMayRunOutsideTheSandboxIsKept(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	require.NoError(t, s.SetTrust(ctx, "h1", "starts x", ""))
	require.NoError(t, s.SetTrust(ctx, "h2", "starts y", ""))
	require.NoError(t, s.SetTrust(ctx, "h2", "starts y", "ann"))
	require.NoError(t, s.Close())
	s = open(t, dir)
	defer s.Close()
	known, err := s.Trusted(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[ledger.Hash]bool{"h1": false, "h2": true}, known)
}
