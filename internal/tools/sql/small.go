package sql

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/jmoiron/sqlx"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/sqlite"
	"stonebaton.example/internal/tools"
)

// small is a database of the project, opened: its file, or a copy of it in memory.
type small struct {
	mu   sync.Mutex // one call at a time in memory, where reading and changing have one connection
	main *sqlx.DB
	read *sqlx.DB // cannot change anything; main itself in memory
	path string   // "" in memory
}

func (s *small) close() error {
	if s.read != s.main {
		return errors.Join(s.read.Close(), s.main.Close())
	}
	return s.main.Close()
}

// own are the tables in which a database says of what it was made, and which calls are done.
const own = `CREATE TABLE _made (of TEXT NOT NULL); CREATE TABLE _done (key TEXT PRIMARY KEY, result TEXT NOT NULL);`

// maxCopies bounds the copies in memory for runs whose calls go to stubs.
const maxCopies = 16

// copyOf gives the copy of a database that a session has whose calls go to stubs, in which nothing
// that it changes is anybody else's.
func (h *Handler) copyOf(d *project.Database, session string) (*small, error) {
	key := d.Name + "\x00" + session
	h.mu.Lock()
	defer h.mu.Unlock()
	for i, c := range h.copies {
		if c.key == key {
			h.copies = append(slices.Delete(h.copies, i, i+1), c)
			return c.small, nil
		}
	}
	s, err := h.inMemory(d)
	if err != nil {
		return nil, err
	}
	if h.copies = append(h.copies, copied{key, s}); len(h.copies) > maxCopies {
		h.copies[0].small.close()
		h.copies = slices.Delete(h.copies, 0, 1)
	}
	return s, nil
}

type copied struct {
	key   string
	small *small
}

// inMemory makes a database anew.
func (h *Handler) inMemory(d *project.Database) (*small, error) {
	db, err := connect(1, sqlite.Memory)
	if err != nil {
		return nil, err
	}
	if err := h.filled(db, d); err != nil {
		db.Close()
		return nil, err
	}
	return &small{main: db, read: db}, nil
}

// smallOf gives the file of a database, which is made where it is not there.
func (h *Handler) smallOf(d *project.Database) (*small, error) {
	schema, err := h.text(d.Schema)
	if err != nil {
		return nil, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	at := filepath.Join(h.data, d.Name+".db")
	s := h.smalls[d.Name]
	if s != nil {
		if _, err := os.Stat(at); err == nil {
			return s, h.fits(s, d, schema)
		}
		delete(h.smalls, d.Name) // somebody has taken the file away
		s.close()
	}
	if _, err := os.Stat(at); errors.Is(err, os.ErrNotExist) {
		if err := h.make(d, at); err != nil {
			return nil, err
		}
	}
	main, err := connect(4, at, "_pragma=journal_mode(WAL)", "_pragma=foreign_keys(1)", "_txlock=immediate")
	if err != nil {
		return nil, damaged(d, err)
	}
	read, err := connect(4, at, readOnly...)
	if err != nil {
		main.Close()
		return nil, damaged(d, err)
	}
	s = &small{main: main, read: read, path: at}
	if err := h.fits(s, d, schema); err != nil {
		s.close()
		return nil, err
	}
	h.smalls[d.Name] = s
	return s, nil
}

// fits says what keeps a file from being the database that the project means.
func (h *Handler) fits(s *small, d *project.Database, schema string) error {
	var of string
	if err := s.read.Get(&of, "SELECT of FROM _made"); err != nil {
		return damaged(d, err)
	}
	if of != string(ledger.HashOf([]byte(schema))) {
		return fmt.Errorf("the database %s was made from another schema than %s has now; `stonebaton database reset %s` makes it anew, without what was written since", d.Name, d.Schema, d.Name)
	}
	return nil
}

// damaged words an error of a file.
func damaged(d *project.Database, err error) error {
	if sqlite.Code(err) == sqlite.Busy {
		return fmt.Errorf("the database %s is locked by another program: %w", d.Name, err)
	}
	return fmt.Errorf("the database %s cannot be read (%s); `stonebaton database reset %s` makes it anew", d.Name, strings.TrimSuffix(err.Error(), "."), d.Name)
}

// make makes the file of a database: beside it, and then in its place, so that there is a whole
// one or none.
func (h *Handler) make(d *project.Database, at string) error {
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return err
	}
	fresh := at + ".new"
	if err := os.Remove(fresh); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	db, err := connect(1, fresh)
	if err != nil {
		return err
	}
	err = errors.Join(h.filled(db, d), db.Close())
	if err == nil {
		err = os.Chmod(fresh, 0o600)
	}
	if err == nil {
		err = os.Rename(fresh, at)
	}
	if err != nil {
		_ = os.Remove(fresh) // what is left is of no use
	}
	return err
}

// text gives a file of the project.
func (h *Handler) text(file string) (string, error) {
	root, err := os.OpenRoot(h.dir)
	if err != nil {
		return "", err
	}
	defer root.Close()
	raw, err := root.ReadFile(filepath.FromSlash(file))
	if err != nil {
		return "", fmt.Errorf("cannot find the file %s", file)
	}
	return string(raw), nil
}

// filled fills an empty database.
func (h *Handler) filled(db *sqlx.DB, d *project.Database) error {
	return made(db, func(conn *guarded, tx *sqlx.Tx) error { return h.fill(conn, tx, d) })
}

// made does something to a database in one transaction, on a connection that keeps the text of a
// schema to making tables and the like.
func made(db *sqlx.DB, do func(*guarded, *sqlx.Tx) error) error {
	ctx := context.Background()
	conn, err := guard(ctx, db, sqlite.Makes, maxValue, func(string) bool { return true })
	if err != nil {
		return err
	}
	defer conn.Close() //nolint:errcheck // what was done is committed by then, or is not
	conn.Ours(true)
	tx, err := conn.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it says that there is nothing to do
	if err := do(conn, tx); err != nil {
		return err
	}
	return tx.Commit()
}

// fill puts a database's tables and first rows into an empty one.
func (h *Handler) fill(conn *guarded, tx *sqlx.Tx, d *project.Database) error {
	schema, err := h.text(d.Schema)
	if err != nil {
		return err
	}
	if _, err := tx.Exec(own); err != nil {
		return err
	}
	conn.Ours(false)
	_, err = tx.Exec(schema)
	conn.Ours(true)
	if err != nil {
		if why := conn.Denied(); why != "" {
			return fmt.Errorf("%s: %s", d.Schema, why)
		}
		return fmt.Errorf("%s: %s", d.Schema, said(err))
	}
	if _, err := tx.Exec("INSERT INTO _made VALUES (?)", string(ledger.HashOf([]byte(schema)))); err != nil {
		return err
	}
	for _, table := range slices.Sorted(maps.Keys(d.Rows)) {
		if err := h.firstRows(tx, table, d.Rows[table]); err != nil {
			return err
		}
	}
	return nil
}

func (h *Handler) firstRows(tx *sqlx.Tx, table, file string) error {
	columns, rows, err := h.rowsOf(file)
	if err != nil {
		return err
	}
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = inQuotes(c)
	}
	for n, r := range rows {
		for i := range r {
			if r[i] == "" { // a file of CSV has no other way to leave a cell empty
				r[i] = nil
			}
		}
		if _, err := tx.Exec("INSERT INTO "+inQuotes(table)+" ("+strings.Join(names, ", ")+") VALUES ("+strings.TrimSuffix(strings.Repeat("?,", len(columns)), ",")+")", r...); err != nil {
			return fmt.Errorf("%s: row %d does not fit the table %s: %s", file, n+1, table, said(err))
		}
	}
	return nil
}

func inQuotes(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// said words an error of SQLite without its numbers.
func said(err error) string {
	s := strings.TrimPrefix(strings.TrimPrefix(err.Error(), "SQL logic error: "), "constraint failed: ")
	if i := strings.LastIndex(s, " ("); i > 0 {
		s = s[:i]
	}
	return s
}

// of gives the database of a call, and lets it go again.
func (h *Handler) of(i deed.Invocation, q *Query) (*small, func(), error) {
	if h.data == "" || i.Stub {
		session := "" // a rehearsal is one world
		if h.data != "" {
			session = i.Run[:max(0, strings.LastIndexByte(i.Run, '-'))]
		}
		s, err := h.copyOf(q.In, session)
		if err != nil {
			return nil, nil, err
		}
		s.mu.Lock()
		return s, s.mu.Unlock, nil
	}
	s, err := h.smallOf(q.In)
	return s, func() {}, err
}

// callSmall carries out a call on a database of the project.
func (h *Handler) callSmall(ctx context.Context, i deed.Invocation, q *Query) (deed.Result, *deed.Failure) {
	sent := &ledger.Sent{Method: "SQL", URL: statements(q)}
	fail := func(class deed.Class, format string, args ...any) (deed.Result, *deed.Failure) {
		return deed.Result{}, &deed.Failure{Outcome: ledger.NotDone, Class: class, Say: fmt.Sprintf(format, args...), Sent: sent}
	}
	s, release, err := h.of(i, q)
	if err != nil {
		return fail("config", "%v", err)
	}
	defer release()
	if len(q.Change) == 0 {
		from := s.main // in memory there is one connection
		if s.path != "" {
			if from, err = connect(1, s.path, readOnly...); err != nil {
				return fail("config", "%v", damaged(q.In, err))
			}
			defer from.Close()
		}
		return run(ctx, s.read, from, i, q, sent)
	}
	out, diff, bad := change(ctx, s.main, i, q, sent, true)
	if bad != nil {
		return deed.Result{}, bad
	}
	sent.Diff = diff
	return deed.Result{Value: out, Sent: sent}, nil
}

// Look tells what a call would change, and leaves everything as it is.
func (h *Handler) Look(ctx context.Context, i deed.Invocation) (string, *deed.Failure) {
	q := i.Tool.Work.Spec.(*Query)
	if len(q.Change) == 0 {
		return "", nil
	}
	s, release, err := h.of(i, q)
	if err != nil {
		return "", deed.NotDone("config", "%v", err)
	}
	defer release()
	_, diff, bad := change(ctx, s.main, i, q, &ledger.Sent{}, false)
	return diff, bad
}

func statements(q *Query) string {
	var all []string
	for _, s := range q.Change {
		all = append(all, strings.TrimRight(strings.TrimSpace(s.Do), ";"))
	}
	if len(all) == 0 {
		return strings.TrimSpace(q.Query)
	}
	return strings.Join(all, ";\n")
}

// change does the statements of a call together, once for its key, or takes them back.
func change(ctx context.Context, db *sqlx.DB, i deed.Invocation, q *Query, sent *ledger.Sent, keep bool) (out map[string]any, diff string, bad *deed.Failure) {
	fail := func(class deed.Class, format string, args ...any) (map[string]any, string, *deed.Failure) {
		if ctx.Err() != nil {
			class, format, args = "timeout", "the statements had not ended after %s; nothing was changed", []any{i.Tool.Timeout}
		}
		return nil, "", &deed.Failure{Outcome: ledger.NotDone, Class: class, Say: fmt.Sprintf(format, args...), Sent: sent}
	}
	conn, err := guard(ctx, db, sqlite.Changes, maxValue, q.readable)
	if err != nil {
		return fail("config", "%v", damaged(q.In, err))
	}
	defer conn.Close() //nolint:errcheck // what was done is committed by then, or is not
	conn.Ours(true)
	tx, err := conn.BeginTxx(ctx, nil)
	if err != nil {
		if sqlite.Code(err) == sqlite.Busy {
			_, _, bad := fail("unreachable", "the database %s is locked by another program", q.In.Name)
			bad.Retry = true
			return nil, "", bad
		}
		return fail("config", "%v", damaged(q.In, err))
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it says that there is nothing to do
	if keep && i.Key != "" {
		var was string
		switch err := tx.Get(&was, "SELECT result FROM _done WHERE key = ?", i.Key); {
		case err == nil:
			if err := json.Unmarshal([]byte(was), &out); err != nil {
				return fail("config", "%v", damaged(q.In, err))
			}
			return out, "", nil
		case !errors.Is(err, sql.ErrNoRows):
			return fail("config", "%v", damaged(q.In, err))
		}
	}
	before, bad := watched(ctx, conn, tx, i, q, sent)
	if bad != nil {
		return nil, "", bad
	}
	changed := map[string]any{}
	for _, s := range q.Change {
		if err := sqlite.One(s.Do); err != nil {
			return fail("query", "%s: %v", s.Name, err)
		}
		params, err := bind(i, s.Do)
		if err != nil {
			return fail("config", "%s: %v", s.Name, err)
		}
		if raw, err := json.Marshal(params); err == nil && len(params) > 0 {
			sent.Body = strings.TrimPrefix(sent.Body+"\n"+string(raw), "\n")
		}
		conn.Ours(false)
		res, err := tx.ExecContext(ctx, s.Do, params...)
		conn.Ours(true)
		err = conn.explain(err)
		switch sqlite.Code(err) {
		case 0:
			if err != nil {
				return fail("query", "%s: %s; nothing was changed", s.Name, said(err))
			}
		case sqlite.Constraint:
			return fail("refused", "%s; nothing was changed", said(err))
		default:
			return fail("query", "%s: %s; nothing was changed", s.Name, said(err))
		}
		n, err := res.RowsAffected()
		if err != nil {
			return fail("query", "%s: %v", s.Name, err)
		}
		if s.Rows >= 0 && int(n) != s.Rows {
			say := fmt.Sprintf("%s would change %d rows in place of %d", s.Name, n, s.Rows)
			if s.Else != nil {
				if w, err := s.Else.Fill(i.Vars); err == nil {
					say = strings.TrimSuffix(w, ".")
				}
			}
			return fail("refused", "%s; nothing was changed", say)
		}
		changed[s.Name] = n
	}
	after, bad := watched(ctx, conn, tx, i, q, sent)
	if bad != nil {
		return nil, "", bad
	}
	out = map[string]any{"changed": changed}
	if q.Query != "" {
		out["before"], out["after"] = before, after
		diff = tools.Diff(q.In.Name, lines(before), lines(after))
	}
	if !keep {
		return out, diff, nil
	}
	raw, err := json.Marshal(out)
	if err != nil {
		return fail("result", "%v", err)
	}
	if i.Key != "" {
		if _, err := tx.ExecContext(ctx, "INSERT INTO _done VALUES (?, ?)", i.Key, string(raw)); err != nil {
			return fail("query", "%s", said(err))
		}
	}
	if err := tx.Commit(); err != nil {
		return fail("query", "%s", said(err))
	}
	return out, diff, nil
}

// watched gives the rows that a change is seen by.
func watched(ctx context.Context, conn *guarded, tx *sqlx.Tx, i deed.Invocation, q *Query, sent *ledger.Sent) ([]any, *deed.Failure) {
	if q.Query == "" {
		return nil, nil
	}
	fail := func(err error) ([]any, *deed.Failure) {
		return nil, &deed.Failure{Outcome: ledger.NotDone, Class: "query", Say: "watch: " + said(err), Sent: sent}
	}
	params, err := bind(i, q.Query)
	if err != nil {
		return fail(err)
	}
	if err := sqlite.One(q.Query); err != nil {
		return fail(err)
	}
	conn.Ours(false)
	rows, err := tx.QueryxContext(ctx, q.Query, params...)
	conn.Ours(true)
	if err != nil {
		return fail(conn.explain(err))
	}
	defer rows.Close()
	out := []any{}
	for rows.Next() && len(out) < q.Rows {
		m := map[string]any{}
		if err := rows.MapScan(m); err != nil {
			return fail(err)
		}
		for k, v := range m {
			m[k] = plain(v)
		}
		out = append(out, m)
	}
	if err := rows.Err(); err != nil {
		return fail(err)
	}
	return out, nil
}

// lines writes rows for a difference, one on each line.
func lines(rows []any) []byte {
	var b strings.Builder
	for _, r := range rows {
		m := r.(map[string]any)
		var parts []string
		for _, k := range slices.Sorted(maps.Keys(m)) {
			parts = append(parts, fmt.Sprintf("%s: %v", k, shownValue(m[k])))
		}
		b.WriteString(strings.Join(parts, " · ") + "\n")
	}
	return []byte(b.String())
}

func shownValue(v any) any {
	if v == nil {
		return "–"
	}
	return v
}

// Reset makes a database anew: what was written into it is lost. Others may have it open, this
// program or another: they find it anew.
func (h *Handler) Reset(d *project.Database) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	at := filepath.Join(h.data, d.Name+".db")
	if _, err := os.Stat(at); errors.Is(err, os.ErrNotExist) {
		return h.make(d, at)
	}
	err := h.again(d, at)
	if c := sqlite.Code(err); c != sqlite.Corrupt && c != sqlite.NoDatabase {
		return err
	}
	if s := h.smalls[d.Name]; s != nil {
		delete(h.smalls, d.Name)
		s.close()
	}
	for _, end := range []string{"-wal", "-shm"} {
		if err := os.Remove(at + end); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return h.make(d, at)
}

// again takes all out of a database and fills it, in one transaction.
func (h *Handler) again(d *project.Database, at string) error {
	db, err := connect(1, at, "_txlock=immediate")
	if err != nil {
		return err
	}
	defer db.Close()
	return made(db, func(conn *guarded, tx *sqlx.Tx) error {
		var there []struct{ Type, Name string }
		if err := tx.Select(&there, "SELECT type, name FROM sqlite_master WHERE type IN ('view', 'trigger', 'table') AND name NOT LIKE 'sqlite_%' ORDER BY type = 'table'"); err != nil {
			return err
		}
		for _, x := range there {
			if _, err := tx.Exec("DROP " + x.Type + " IF EXISTS " + inQuotes(x.Name)); err != nil {
				return err
			}
		}
		return h.fill(conn, tx, d)
	})
}

// Table is a table of a database, with its first rows.
type Table struct {
	Name    string   `json:"name"`
	Columns []string `json:"columns"`
	Count   int      `json:"count"`
	Rows    [][]any  `json:"rows"`
}

// Tables shows the tables of a database, with so many rows of each at most.
func (h *Handler) Tables(ctx context.Context, d *project.Database, most int) ([]Table, error) {
	s, err := h.smallOf(d)
	if err != nil {
		return nil, err
	}
	out := []Table{}
	for _, t := range contents(s.read) {
		x := Table{Name: t.name, Columns: t.columns, Rows: [][]any{}}
		if err := s.read.GetContext(ctx, &x.Count, "SELECT count(*) FROM "+inQuotes(t.name)); err != nil {
			return nil, damaged(d, err)
		}
		rows, err := s.read.QueryxContext(ctx, "SELECT * FROM "+inQuotes(t.name)+" LIMIT ?", most)
		if err != nil {
			return nil, damaged(d, err)
		}
		for rows.Next() {
			r, err := rows.SliceScan()
			if err != nil {
				rows.Close()
				return nil, damaged(d, err)
			}
			for i := range r {
				r[i] = plain(r[i])
			}
			x.Rows = append(x.Rows, r)
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return nil, damaged(d, err)
		}
		out = append(out, x)
	}
	return out, nil
}

// Rehearsal gives a handler whose databases are made anew, in memory.
func (h *Handler) Rehearsal() tools.Handler { return New(h.dir, "") }
