package store

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"stonebaton.example/internal/rows"
)

// Runs that are over are taken into the index of words behind their back, a few at a time, so
// that nothing that goes on waits for it. Until then a search looks through them.
const (
	indexed  = 16                     // runs in one transaction
	indexGap = 10 * time.Millisecond  // between two, for others to write
	indexLag = 300 * time.Millisecond // after a run has ended, so that those which end together go in together
	// most is how much of a run's texts is in the index; a search looks through the rest of one
	// that has more.
	most = 64 << 10
)

var (
	addWords = statement(`INSERT INTO run_words (rowid, body) VALUES (:n, :body)`)
	markRun  = statement(`UPDATE run SET searched = 1 WHERE n = :n`)
)

// indexer takes runs into the index until the store is closed.
func (s *Store) indexer() {
	defer close(s.indexes)
	for {
		select {
		case <-s.ended:
		case <-s.closing:
			return
		}
		for wait := indexLag; ; wait = indexGap {
			select {
			case <-time.After(wait):
			case <-s.closing:
				return
			}
			n, err := s.index(context.Background())
			if err != nil && !errors.Is(err, errClosed) {
				s.Logger.Warn("failed to index runs for searches, which look through them meanwhile", "error", err)
			}
			if n == 0 || err != nil {
				break
			}
		}
	}
}

// runEnded has the index catch up.
func (s *Store) runEnded() {
	select {
	case s.ended <- struct{}{}:
	default: // it will
	}
}

// index takes some runs that are over into the index, and says how many.
func (s *Store) index(ctx context.Context) (int, error) {
	var list []struct {
		N                     int64
		Text, Answer, Problem string
	}
	err := s.read.SelectContext(ctx, &list, `SELECT n, text, answer, coalesce(problem, '') AS problem FROM run INDEXED BY run_over
		WHERE searched = 0 AND status NOT IN ('going', 'held') AND length(text) + length(answer) + length(coalesce(problem, '')) <= ? ORDER BY n LIMIT ?`, most, indexed)
	if err != nil || len(list) == 0 {
		return 0, err
	}
	return len(list), s.write.do(ctx, func(t *tx) error {
		for _, r := range list {
			n, err := t.changed(markRun, named{"n": r.N})
			if err != nil {
				return err
			}
			if n == 0 {
				continue // it was taken out meanwhile
			}
			if err := t.do(addWords, named{"n": r.N, "body": r.Text + "\n" + r.Answer + "\n" + r.Problem}); err != nil {
				return err
			}
		}
		return nil
	})
}

// few says whether a filter leaves so few runs that they are looked through at once.
func (s *Store) few(ctx context.Context, f RunFilter) (bool, error) {
	const most = 2000
	if f.Session != "" || f.ID != "" || f.Status == "" {
		return f.Session != "" || f.ID != "", nil
	}
	var n int
	err := s.read.GetContext(ctx, &n, `SELECT count(*) FROM (SELECT 1 FROM run WHERE status = ? LIMIT ?)`, f.Status, most)
	return n < most, err
}

// grams gives what the index is asked for a text; "" where it is too short for it.
func grams(text string) string {
	letters := []rune(text)
	if len(letters) < 3 || !utf8.ValidString(text) || strings.ContainsRune(text, 0) {
		return ""
	}
	var out []string
	for i := 0; i+3 <= len(letters); i++ {
		if g := string(letters[i : i+3]); !slices.Contains(out, g) {
			out = append(out, g)
		}
	}
	slices.SortStableFunc(out, func(a, b string) int { return common(a) - common(b) })
	out = out[:min(len(out), asked)] // what is found is looked through
	for i, g := range out {
		out[i] = `"` + strings.ReplaceAll(g, `"`, `""`) + `"`
	}
	return strings.Join(out, " AND ")
}

// asked is how many groups of letters the index is asked for: the rarest few leave next to
// nothing to look through, and each common one costs as much as there are runs.
const asked = 5

// common guesses how common a group of letters is, by how common its letters are in English.
func common(group string) (n int) {
	const frequent = "zqjxkvbpygfwmucldrhsnioate "
	for _, r := range strings.ToLower(group) {
		n += 1 + strings.IndexRune(frequent, r) // what is none of them is rare
	}
	return n
}

// search lists runs whose texts hold one, the newest first: those that are not in the index by
// looking through them, the others by what the index gives. Cond narrows the runs; p has its
// parameters.
func (s *Store) search(ctx context.Context, cond, wanted string, before int64, limit int, p named) ([]rows.Run, error) {
	out := []rows.Run{}
	p["limit"] = limit
	if err := s.list(ctx, &out, runCols+` INDEXED BY run_unsearched WHERE searched = 0 AND `+cond+` ORDER BY n DESC LIMIT :limit`, p); err != nil {
		return nil, err
	}
	var exact []rows.Run
	if err := s.list(ctx, &exact, runCols+` WHERE searched = 1 AND id = :wanted AND `+cond, p); err != nil {
		return nil, err
	}
	found := 0
	for chunk, at := 200, before; found < limit; chunk = min(chunk*4, 20_000) {
		var ns []int64
		q := `SELECT rowid FROM run_words WHERE run_words MATCH ?`
		args := []any{grams(wanted)}
		if at > 0 {
			q, args = q+` AND rowid < ?`, append(args, at)
		}
		if err := s.read.SelectContext(ctx, &ns, q+` ORDER BY rowid DESC LIMIT ?`, append(args, chunk)...); err != nil {
			return nil, err
		}
		if len(ns) > 0 {
			at = ns[len(ns)-1]
			list, err := json.Marshal(ns)
			if err != nil {
				return nil, err
			}
			p["ns"], p["limit"] = string(list), limit-found
			var some []rows.Run
			if err := s.list(ctx, &some, runCols+` WHERE n IN (SELECT value FROM json_each(:ns)) AND searched = 1 AND `+cond+` ORDER BY n DESC LIMIT :limit`, p); err != nil {
				return nil, err
			}
			found += len(some)
			out = append(out, some...)
		}
		if len(ns) < chunk {
			break
		}
	}
	out = append(out, exact...)
	slices.SortFunc(out, func(a, b rows.Run) int { return int(b.N - a.N) })
	out = slices.CompactFunc(out, func(a, b rows.Run) bool { return a.N == b.N })
	return out[:min(len(out), limit)], nil
}
