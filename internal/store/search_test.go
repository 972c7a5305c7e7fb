package store_test

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/ledger"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/sqlite"
	"stonebaton.example/internal/store"
)

// over begins a run and ends it.
func over(t *testing.T, s *store.Store, session, text, answer string) {
	t.Helper()
	o := opening(session, 1, true, text)
	require.NoError(t, s.Open(ctx, o))
	h := head(ledger.Done)
	h.Answer = answer
	require.NoError(t, s.Append(ctx, engine.Batch{Run: o.Run, Head: h, Events: []ledger.Event{event(o.Run, 2, "", &ledger.RunClosed{Status: ledger.Done, Answer: answer})}}))
}

// caughtUp waits for the index by having it work.
func caughtUp(t *testing.T, s *store.Store) {
	t.Helper()
	for {
		n, err := s.Index(ctx)
		require.NoError(t, err)
		if n == 0 {
			return
		}
	}
}

// TestSearchesFindWhatTheyLookThrough: with the index and without, for any text.
func TestSearchesFindWhatTheyLookThrough(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	defer s.Close()
	r := rand.New(rand.NewPCG(1, 2))
	words := []string{"Petrel", "petréls", "berth", "E4", "100 %", `"quoted"`, "a*b", "NOT", "öl", "marrow", "x\x00y", "日本語の船", "it's", "-", "(", "OR"}
	some := func() string {
		var out []string
		for range 1 + r.IntN(4) {
			out = append(out, words[r.IntN(len(words))])
		}
		return strings.Join(out, " ")
	}
	texts := map[string][2]string{}
	for i := range 120 {
		id := fmt.Sprintf("s%03d", i)
		texts[id] = [2]string{some(), some()}
		if i%50 == 49 {
			texts[id] = [2]string{some() + strings.Repeat(" filler", 20_000), some()} // too long for the index
		}
		over(t, s, id, texts[id][0], texts[id][1])
		if i == 60 {
			caughtUp(t, s)
		}
	}
	require.NoError(t, s.Open(ctx, opening("going", 1, true, "petrel is going")))
	lower := func(s string) string { // as SQLite has it
		return strings.Map(func(r rune) rune {
			if 'A' <= r && r <= 'Z' {
				return r + 'a' - 'A'
			}
			return r
		}, s)
	}
	check := func() {
		t.Helper()
		for _, wanted := range append(words, "etre", "PETREL", "rth E", `d" a`, "s012-1", "nothing of the sort", "語の", "ler filler fil") {
			var want []string
			for i := 119; i >= 0; i-- {
				id := fmt.Sprintf("s%03d", i)
				if x, ok := texts[id]; ok && (strings.Contains(lower(x[0]), lower(wanted)) || strings.Contains(lower(x[1]), lower(wanted)) || wanted == id+"-1") {
					want = append(want, id)
				}
			}
			var got []string
			before := int64(0)
			for {
				list, err := s.Runs(ctx, store.RunFilter{Text: wanted, Limit: 7, Before: before})
				require.NoError(t, err)
				for _, r := range list {
					if r.Session != "going" {
						got = append(got, r.Session)
					}
				}
				if len(list) < 7 {
					break
				}
				before = list[6].N
			}
			assert.Equal(t, want, got, "%q", wanted)
		}
		list, err := s.Runs(ctx, store.RunFilter{Text: "petrel is"})
		require.NoError(t, err)
		require.Len(t, list, 1, "one that goes on is found too")
		list, err = s.Runs(ctx, store.RunFilter{Text: "petrel", Status: "stopped"})
		require.NoError(t, err)
		assert.Empty(t, list)
	}
	check()
	caughtUp(t, s)
	check()
	db, err := sqlx.Open("sqlite", sqlite.DSN(filepath.Join(dir, "stonebaton.db")))
	require.NoError(t, err)
	defer db.Close()
	var left int
	require.NoError(t, db.Get(&left, `SELECT count(*) FROM run WHERE searched = 0`))
	assert.Equal(t, 3, left, "two that are too long, and one that goes on")
	_, err = db.Exec(`DELETE FROM event WHERE run IN ('s000-1', 's001-1'); DELETE FROM run WHERE id IN ('s000-1', 's001-1')`)
	require.NoError(t, err)
	delete(texts, "s000")
	delete(texts, "s001")
	check()
	var kept int
	require.NoError(t, db.Get(&kept, `SELECT count(*) FROM run_words_docsize`))
	assert.Equal(t, 116, kept, "what is taken out of the records is taken out of the index")
}
