package store

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"stonebaton.example/core/ledger"
	"stonebaton.example/internal/rows"
)

// Pruned says what Prune took away, or would have.
type Pruned struct {
	Sessions int      `json:"sessions"`
	Runs     int      `json:"runs"`
	Files    int      `json:"files"` // of large values that nothing names any more
	IDs      []string `json:"-"`     // of the sessions
}

// old lists the sessions of which nothing goes on, is held or waits, and whose newest run ended
// before a moment.
const old = `SELECT s.id FROM session s WHERE coalesce((SELECT max(last_at) FROM run WHERE session = s.id), 0) < ?
	AND NOT EXISTS (SELECT 1 FROM run WHERE session = s.id AND status IN ('going', 'held'))
	AND NOT EXISTS (SELECT 1 FROM inbox WHERE session = s.id)
	AND NOT EXISTS (SELECT 1 FROM aside a WHERE a.session = s.id OR a.run IN (SELECT id FROM run WHERE session = s.id))
	ORDER BY s.id`

const ofSessions = ` WHERE run IN (SELECT id FROM run WHERE session IN (SELECT value FROM json_each(?)))`

// forget takes away what belongs to sessions, the rows that others are found by last. The record
// of who did what stays.
var forget = []string{`DELETE FROM event` + ofSessions, `DELETE FROM ticket` + ofSessions, `DELETE FROM notice` + ofSessions, `DELETE FROM timer` + ofSessions, `DELETE FROM change` + ofSessions,
	`DELETE FROM shared WHERE session IN (SELECT value FROM json_each(?))`, `DELETE FROM run WHERE session IN (SELECT value FROM json_each(?))`, `DELETE FROM session WHERE id IN (SELECT value FROM json_each(?))`}

// Prune takes sessions away whose newest run ended before a moment, with all that belongs to
// them alone. Nothing but the store itself, which takes runs into its index, may use it meanwhile. Dry says what would go, and keeps it.
func (s *Store) Prune(ctx context.Context, before time.Time, dry bool) (Pruned, error) {
	out := Pruned{IDs: []string{}}
	moment := rows.Moment{Time: before}
	if err := s.read.SelectContext(ctx, &out.IDs, old, moment); err != nil {
		return out, err
	}
	ids, err := json.Marshal(out.IDs)
	if err != nil {
		return out, err
	}
	out.Sessions = len(out.IDs)
	if err := s.read.GetContext(ctx, &out.Runs, `SELECT count(*) FROM run WHERE session IN (SELECT value FROM json_each(?))`, string(ids)); err != nil || dry {
		return out, err
	}
	if err := s.all(ctx, forget, string(ids)); err != nil {
		return out, err
	}
	if out.Files, err = s.sweep(ctx, before); err != nil {
		return out, err
	}
	return out, s.write.alone(func(db *sqlx.DB) error {
		_, err := db.ExecContext(ctx, "VACUUM")
		return err
	})
}

// all carries statements out together.
func (s *Store) all(ctx context.Context, statements []string, param string) error {
	return s.write.alone(func(db *sqlx.DB) error {
		t, err := db.BeginTxx(ctx, nil)
		if err != nil {
			return err
		}
		defer t.Rollback() // nothing, once it is committed
		for _, q := range statements {
			if _, err := t.ExecContext(ctx, q, param); err != nil {
				return err
			}
		}
		return t.Commit()
	})
}

// named32 is any hash, wherever it stands.
var named32 = regexp.MustCompile(`[0-9a-f]{32}`)

// sweep takes away the parts of requests and the files that are older and that nothing names.
// What is named at all stays: a hash in a text costs a file, and none that is needed goes.
func (s *Store) sweep(ctx context.Context, before time.Time) (int, error) {
	keep := map[string]bool{}
	note := func(text []byte) {
		for _, h := range named32.FindAll(text, -1) {
			keep[string(h)] = true
		}
	}
	for _, q := range []string{
		`SELECT coalesce(data, '') AS text, coalesce(file, '') AS file FROM event`,
		`SELECT coalesce(kept, '') AS text, coalesce(kept_file, '') AS file FROM session`,
		`SELECT coalesce(body, '') AS text, coalesce(file, '') AS file FROM try`,
		`SELECT coalesce(body, '') || hash AS text, '' AS file FROM version`,
		`SELECT coalesce(before, '') || ' ' || after AS text, '' AS file FROM change`,
	} {
		list, err := s.read.QueryxContext(ctx, q)
		if err != nil {
			return 0, err
		}
		for list.Next() {
			var r struct {
				Text []byte
				File string
			}
			if err := list.StructScan(&r); err != nil {
				return 0, errors.Join(err, list.Close())
			}
			note(r.Text)
			if r.File != "" {
				keep[r.File] = true
				if body, err := s.blobs.named(ledger.Hash(r.File)); err == nil { // one that is lost names nothing
					note(body)
				}
			}
		}
		if err := errors.Join(list.Err(), list.Close()); err != nil {
			return 0, err
		}
	}
	var parts []string
	if err := s.read.SelectContext(ctx, &parts, `SELECT hash FROM part WHERE at < ?`, rows.Moment{Time: before}); err != nil {
		return 0, err
	}
	parts = slices.DeleteFunc(parts, func(h string) bool { return keep[h] })
	hashes, err := json.Marshal(parts)
	if err != nil {
		return 0, err
	}
	if err := s.all(ctx, []string{`DELETE FROM part WHERE hash IN (SELECT value FROM json_each(?))`}, string(hashes)); err != nil {
		return 0, err
	}
	var left []string
	if err := s.read.SelectContext(ctx, &left, `SELECT hash FROM part WHERE body IS NULL`); err != nil {
		return 0, err
	}
	for _, h := range left {
		keep[h] = true
	}
	gone := 0
	err = filepath.WalkDir(s.blobs.dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || keep[e.Name()] {
			return err
		}
		info, err := e.Info()
		if err != nil || !info.ModTime().Before(before) {
			return err
		}
		gone++
		return os.Remove(path)
	})
	return gone, err
}
