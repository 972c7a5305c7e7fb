package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"stonebaton/core/ledger"
	"stonebaton/core/project"
	"stonebaton/tools"
)

// TryRow is a line of the history of tries.
type TryRow struct {
	ID     int64           `json:"id" db:"id"`
	Tool   string          `json:"tool" db:"tool"`
	AtRaw  int64           `json:"-" db:"at"`
	At     time.Time       `json:"at" db:"-"`
	Status string          `json:"status" db:"status"`
	Way    string          `json:"tools" db:"way"`
	MS     int64           `json:"ms" db:"ms"`
	Bytes  int64           `json:"bytes" db:"bytes"`
	Tokens int             `json:"tokens" db:"tokens"`
	RawArg string          `json:"-" db:"args"`
	Args   json.RawMessage `json:"args" db:"-"`
	Words  string          `json:"words" db:"words"` // their head
}

// ErrNoTry says that there is no such try.
var ErrNoTry = errors.New("there is no such try")

// SaveTry keeps a try with all that came of it, and gives it its number.
func (s *Store) SaveTry(ctx context.Context, r TryRow, body []byte) (int64, error) {
	var file any
	if len(body) > inline {
		h := ledger.HashOf(body)
		if err := s.blobs.putAs(h, body); err != nil {
			return 0, err
		}
		file, body = string(h), nil
	}
	var id int64
	err := s.write.do(ctx, func(t *tx) error {
		if err := t.exec(`INSERT INTO try (tool, at, status, way, ms, bytes, tokens, args, words, body, file) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			r.Tool, micro(r.At), r.Status, r.Way, r.MS, r.Bytes, r.Tokens, string(r.Args), r.Words, body, file); err != nil {
			return err
		}
		return t.get(&id, `SELECT last_insert_rowid()`)
	})
	return id, err
}

// Tries lists the tries of a tool, or of all, the newest first; before is the
// number of the last one of the page before.
func (s *Store) Tries(ctx context.Context, tool string, before int64, limit int) ([]TryRow, error) {
	if limit <= 0 || limit > 500 {
		limit = 100
	}
	if before <= 0 {
		before = 1 << 62
	}
	q, args := `SELECT id, tool, at, status, way, ms, bytes, tokens, args, words FROM try WHERE id < ?`, []any{before}
	if tool != "" {
		q, args = q+` AND tool = ?`, append(args, tool)
	}
	out := []TryRow{}
	if err := s.read.SelectContext(ctx, &out, q+` ORDER BY id DESC LIMIT ?`, append(args, limit)...); err != nil {
		return nil, err
	}
	for i := range out {
		out[i].At, out[i].Args = fromMicro(out[i].AtRaw), json.RawMessage(out[i].RawArg)
	}
	return out, nil
}

// CountTries counts the tries of a tool, or of all.
func (s *Store) CountTries(ctx context.Context, tool string) (n int, err error) {
	err = s.read.GetContext(ctx, &n, `SELECT count(*) FROM try WHERE ? IN ('', tool)`, tool)
	return n, err
}

// Try gives all of one try.
func (s *Store) Try(ctx context.Context, id int64) (TryRow, []byte, error) {
	var r struct {
		TryRow
		Body []byte
		File sql.NullString
	}
	err := s.read.GetContext(ctx, &r, `SELECT * FROM try WHERE id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return r.TryRow, nil, ErrNoTry
	}
	if err == nil && r.File.Valid {
		r.Body, err = s.blobs.get(ledger.Hash(r.File.String))
	}
	r.At, r.Args = fromMicro(r.AtRaw), json.RawMessage(r.RawArg)
	return r.TryRow, r.Body, err
}

// Send keeps a message of the outbox, once for each key.
func (s *Store) Send(ctx context.Context, key string, m tools.Message) (tools.Message, error) {
	var n int64
	err := s.write.do(ctx, func(t *tx) error {
		if err := t.exec(`INSERT INTO outbox (key, at, run, tool, recipient, subject, text) VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT (key) DO NOTHING`,
			key, micro(m.At), m.Run, m.Tool, m.To, m.Subject, m.Text); err != nil {
			return err
		}
		return t.get(&n, `SELECT n FROM outbox WHERE key = ?`, key)
	})
	m.ID = fmt.Sprintf("M-%d", n)
	return m, err
}

// Messages lists the outbox, the oldest first.
func (s *Store) Messages(ctx context.Context, to string) ([]tools.Message, error) {
	var raw []struct {
		N, At                               int64
		Run, Tool, Recipient, Subject, Text string
	}
	if err := s.read.SelectContext(ctx, &raw, `SELECT n, at, run, tool, recipient, subject, text FROM outbox WHERE ? IN ('', recipient) ORDER BY n LIMIT 1000`, to); err != nil {
		return nil, err
	}
	out := []tools.Message{}
	for _, r := range raw {
		out = append(out, tools.Message{ID: fmt.Sprintf("M-%d", r.N), At: fromMicro(r.At), Run: r.Run, Tool: r.Tool, To: r.Recipient, Subject: r.Subject, Text: r.Text})
	}
	return out, nil
}

// SaveChange keeps what is needed to undo a change of a file.
func (s *Store) SaveChange(ctx context.Context, c tools.Change) error {
	return s.write.do(ctx, func(t *tx) error {
		return t.exec(`INSERT INTO change (key, at, path, before, after) VALUES (?, ?, ?, ?, ?) ON CONFLICT (key) DO UPDATE SET after = excluded.after`, c.Key, micro(c.At), c.Path, c.Before, c.After)
	})
}

// Change finds a change by its key.
func (s *Store) Change(ctx context.Context, key string) (tools.Change, error) {
	var r struct {
		Key, Path, After string
		Before           sql.NullString
		At               int64
		Undone           sql.NullInt64
	}
	err := s.read.GetContext(ctx, &r, `SELECT key, at, path, before, after, undone FROM change WHERE key = ?`, key)
	if errors.Is(err, sql.ErrNoRows) {
		return tools.Change{}, tools.ErrNoChange
	}
	c := tools.Change{Key: r.Key, Path: r.Path, After: r.After, At: fromMicro(r.At)}
	if r.Before.Valid {
		c.Before = &r.Before.String
	}
	if r.Undone.Valid {
		at := fromMicro(r.Undone.Int64)
		c.Undone = &at
	}
	return c, err
}

// MarkUndone notes that a change was undone.
func (s *Store) MarkUndone(ctx context.Context, key string, at time.Time) error {
	return s.write.do(ctx, func(t *tx) error {
		return t.exec(`UPDATE change SET undone = ? WHERE key = ?`, micro(at), key)
	})
}

// SaveCatalogue keeps what a source offered of the tools that are taken, for
// the times when it cannot be reached.
func (s *Store) SaveCatalogue(ctx context.Context, source string, c project.Catalogue) error {
	raw, err := json.Marshal(c)
	if err != nil {
		return err
	}
	return s.write.do(ctx, func(t *tx) error {
		return t.exec(`INSERT INTO catalogue (source, data, at) VALUES (?, ?, ?) ON CONFLICT (source) DO UPDATE SET data = excluded.data, at = excluded.at`, source, string(raw), micro(time.Now()))
	})
}

// Catalogue gives what a source offered when it was last reached.
func (s *Store) Catalogue(ctx context.Context, source string) (c project.Catalogue, ok bool, err error) {
	var raw string
	err = s.read.GetContext(ctx, &raw, `SELECT data FROM catalogue WHERE source = ?`, source)
	if errors.Is(err, sql.ErrNoRows) {
		return c, false, nil
	}
	if err == nil {
		err = json.Unmarshal([]byte(raw), &c)
	}
	return c, err == nil, err
}
