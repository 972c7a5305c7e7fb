package store

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/people"
	"stonebaton.example/internal/rows"
	"stonebaton.example/internal/tools"
)

// ErrNoTry says that there is no such try.
var ErrNoTry = errors.New("there is no such try")

var (
	saveTry  = statement(`INSERT INTO try (tool, at, status, way, ms, bytes, tokens, args, words, body, file) VALUES (:tool, :at, :status, :way, :ms, :bytes, :tokens, :args, :words, :body, :file) RETURNING id`)
	send     = statement(`INSERT INTO outbox (key, at, run, tool, recipient, subject, text) VALUES (:key, :at, :run, :tool, :recipient, :subject, :text) ON CONFLICT (key) DO NOTHING`)
	sentAs   = statement(`SELECT n FROM outbox WHERE key = :key`)
	change   = statement(`INSERT INTO change (key, run, step, at, path, before, after) VALUES (:key, :run, :step, :at, :path, :before, :after) ON CONFLICT (key) DO UPDATE SET after = excluded.after`)
	undone   = statement(`UPDATE change SET undone = :at WHERE key = :key`)
	offered  = statement(`INSERT INTO catalogue (source, data, at) VALUES (:source, :data, :at) ON CONFLICT (source) DO UPDATE SET data = excluded.data, at = excluded.at`)
	setTrust = statement(`INSERT INTO trusted (what, say, by, at) VALUES (:what, :say, :by, :at) ON CONFLICT (what) DO UPDATE SET by = excluded.by, at = excluded.at`)
)

// tryRow is a try with its body, in its row or in a file.
type tryRow struct {
	rows.Try
	Body []byte
	File sql.NullString
}

// SaveTry keeps a try with its whole result, and gives it its number.
func (s *Store) SaveTry(ctx context.Context, r rows.Try, body []byte) (int64, error) {
	row := tryRow{Try: r, Body: body}
	if len(body) > inline {
		h := ledger.HashOf(body)
		if err := s.blobs.putAs(h, body); err != nil {
			return 0, err
		}
		row.Body, row.File = nil, sql.NullString{String: string(h), Valid: true}
	}
	var id int64
	err := s.write.do(ctx, func(t *tx) error { return t.get(&id, saveTry, row) })
	return id, err
}

// Tries lists the tries of a tool, or of all, the newest first; before is the
// number of the last one of the page before, 0 for the first page.
func (s *Store) Tries(ctx context.Context, tool string, before int64, limit int) ([]rows.Try, error) {
	out := []rows.Try{}
	err := s.list(ctx, &out, `SELECT id, tool, at, status, way, ms, bytes, tokens, args, words FROM try
		WHERE (:before = 0 OR id < :before) AND :tool IN ('', tool) ORDER BY id DESC LIMIT :limit`, named{"tool": tool, "before": before, "limit": limit})
	return out, err
}

// CountTries counts the tries of a tool, or of all.
func (s *Store) CountTries(ctx context.Context, tool string) (n int, err error) {
	err = s.read.GetContext(ctx, &n, `SELECT count(*) FROM try WHERE ? IN ('', tool)`, tool)
	return n, err
}

// Try gives all of one try.
func (s *Store) Try(ctx context.Context, id int64) (rows.Try, []byte, error) {
	var r tryRow
	err := s.read.GetContext(ctx, &r, `SELECT * FROM try WHERE id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return r.Try, nil, ErrNoTry
	}
	if err == nil && r.File.Valid {
		r.Body, err = s.blobs.get(ledger.Hash(r.File.String))
	}
	return r.Try, r.Body, err
}

// messageRow is a message as its table has it.
type messageRow struct {
	N                                   int64
	Key                                 string
	At                                  rows.Moment
	Run, Tool, Recipient, Subject, Text string
}

// Send keeps a message of the outbox, once for each key. Of a link it keeps what makes it good
// from everybody who reads the records.
func (s *Store) Send(ctx context.Context, key string, m tools.Message) (tools.Message, error) {
	var n int64
	err := s.write.do(ctx, func(t *tx) error {
		if err := t.do(send, messageRow{Key: key, At: rows.Moment{Time: m.At}, Run: m.Run, Tool: m.Tool, Recipient: m.To, Subject: people.HideLinks(m.Subject), Text: people.HideLinks(m.Text)}); err != nil {
			return err
		}
		return t.get(&n, sentAs, named{"key": key})
	})
	m.ID = fmt.Sprintf("M-%d", n)
	return m, err
}

// Messages lists the outbox, the oldest first.
func (s *Store) Messages(ctx context.Context, to string) ([]tools.Message, error) {
	return s.outbox(ctx, `SELECT * FROM outbox WHERE :to IN ('', recipient) ORDER BY n LIMIT 1000`, named{"to": to})
}

// MessagesAfter lists a page of the outbox, the oldest first; after is the number of
// the last message of the page before, 0 for the first page. Where seer is not empty it is
// those of runs that this person may see, and those to their name or address.
func (s *Store) MessagesAfter(ctx context.Context, seer, address, to string, after int64, limit int) ([]tools.Message, error) {
	return s.outbox(ctx, `SELECT * FROM outbox WHERE :to IN ('', recipient) AND (:for = '' OR recipient IN (:for, :address) OR run IN (SELECT id FROM run WHERE `+seenBy+`)) AND n > :after ORDER BY n LIMIT :limit`, named{"for": seer, "address": cmp.Or(address, seer), "to": to, "after": after, "limit": limit})
}

func (s *Store) outbox(ctx context.Context, query string, params named) ([]tools.Message, error) {
	var raw []messageRow
	if err := s.list(ctx, &raw, query, params); err != nil {
		return nil, err
	}
	out := []tools.Message{}
	for _, r := range raw {
		out = append(out, tools.Message{ID: fmt.Sprintf("M-%d", r.N), At: r.At.Time, Run: r.Run, Tool: r.Tool, To: r.Recipient, Subject: r.Subject, Text: r.Text})
	}
	return out, nil
}

// changeRow is a change as its table has it.
type changeRow struct {
	Key    string
	Run    string
	Step   string
	At     rows.Moment
	Path   string
	Before *string
	After  string
	Undone *rows.Moment
}

// SaveChange keeps what is needed to undo a change of a file.
func (s *Store) SaveChange(ctx context.Context, c tools.Change) error {
	return s.write.do(ctx, func(t *tx) error {
		return t.do(change, changeRow{Key: c.Key, Run: c.Run, Step: c.Step, At: rows.Moment{Time: c.At}, Path: c.Path, Before: c.Before, After: c.After})
	})
}

// Change finds a change by its key.
func (s *Store) Change(ctx context.Context, key string) (tools.Change, error) {
	var r changeRow
	err := s.read.GetContext(ctx, &r, `SELECT key, run, step, at, path, before, after, undone FROM change WHERE key = ?`, key)
	if errors.Is(err, sql.ErrNoRows) {
		return tools.Change{}, tools.ErrNoChange
	}
	return tools.Change{Key: r.Key, Run: r.Run, Step: r.Step, Path: r.Path, Before: r.Before, After: r.After, At: r.At.Time, Undone: r.Undone.Ptr()}, err
}

// MarkUndone notes that a change was undone.
func (s *Store) MarkUndone(ctx context.Context, key string, at time.Time) error {
	return s.write.do(ctx, func(t *tx) error { return t.do(undone, named{"key": key, "at": rows.Moment{Time: at}}) })
}

// SaveCatalogue keeps what a source offered of the tools that are taken, for
// the times when it cannot be reached.
func (s *Store) SaveCatalogue(ctx context.Context, source string, c project.Catalogue) error {
	return s.write.do(ctx, func(t *tx) error {
		return t.do(offered, named{"source": source, "data": rows.JSONOf[project.Catalogue]{V: c}, "at": rows.Moment{Time: time.Now()}})
	})
}

// Catalogue gives what a source offered when it was last reached.
func (s *Store) Catalogue(ctx context.Context, source string) (c project.Catalogue, ok bool, err error) {
	var data rows.JSONOf[project.Catalogue]
	err = s.read.GetContext(ctx, &data, `SELECT data FROM catalogue WHERE source = ?`, source)
	if errors.Is(err, sql.ErrNoRows) {
		return c, false, nil
	}
	return data.V, err == nil, err
}

// SetTrust records whether something may run outside the sandbox: by is who confirmed
// it, "" where it waits. The id is the hash of all that decides what would run.
func (s *Store) SetTrust(ctx context.Context, id ledger.Hash, say, by string) error {
	return s.write.do(ctx, func(t *tx) error {
		return t.do(setTrust, named{"what": string(id), "say": say, "by": by, "at": rows.Moment{Time: time.Now()}})
	})
}

// Trusted gives what has been recorded, and whether it may run.
func (s *Store) Trusted(ctx context.Context) (map[ledger.Hash]bool, error) {
	var rows []struct{ What, By string }
	err := s.read.SelectContext(ctx, &rows, `SELECT what, by FROM trusted`)
	out := map[ledger.Hash]bool{}
	for _, r := range rows {
		out[ledger.Hash(r.What)] = r.By != ""
	}
	return out, err
}

// KeepFile keeps a file by its content.
func (s *Store) KeepFile(_ context.Context, body []byte) (string, error) {
	h, err := s.blobs.put(body)
	return string(h), err
}

// File gives a file that was kept.
func (s *Store) File(h ledger.Hash) ([]byte, error) { return s.blobs.get(h) }

// ChangesOf lists the changes of files that a run made and nobody has undone, the newest first.
func (s *Store) ChangesOf(ctx context.Context, run string) ([]tools.Change, error) {
	var list []changeRow
	if err := s.read.SelectContext(ctx, &list, `SELECT key, run, step, at, path, before, after, undone FROM change WHERE run = ? AND undone IS NULL ORDER BY at DESC, key DESC`, run); err != nil {
		return nil, err
	}
	out := []tools.Change{}
	for _, r := range list {
		out = append(out, tools.Change{Key: r.Key, Run: r.Run, Step: r.Step, Path: r.Path, Before: r.Before, After: r.After, At: r.At.Time, Undone: r.Undone.Ptr()})
	}
	return out, nil
}
