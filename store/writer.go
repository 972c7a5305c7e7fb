package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"io/fs"
	"strings"
	"sync"

	"github.com/jmoiron/sqlx"

	"stonebaton/core/ledger"
	"stonebaton/engine"
)

const (
	sqlNewSession = `INSERT INTO session (id, title, person, runs, last, at) VALUES (?, ?, ?, 1, ?, ?)`
	sqlNextRun    = `UPDATE session SET runs = runs + 1, last = ? WHERE id = ?`
	sqlNewRun     = `INSERT INTO run (id, session, project, person, text, status, agent, agents, tools, turns, calls, tokens_in, tokens_out, cost, worked, answer, problem, opened_at, last_at)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`
	sqlHead      = `UPDATE run SET status = ?, agent = ?, agents = ?, tools = ?, turns = ?, calls = ?, tokens_in = ?, tokens_out = ?, cost = ?, worked = ?, answer = ?, problem = ?, last_at = ? WHERE id = ?`
	sqlInboxTake = `DELETE FROM inbox WHERE id = ?`
	sqlEvent     = `INSERT INTO event (run, seq, at, v, kind, thread, step, data, file) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`
	sqlPart      = `INSERT INTO part (hash, body, at) VALUES (?, ?, ?) ON CONFLICT DO NOTHING`
	sqlRaise     = `INSERT INTO ticket (run, step, form, agent, tool, args, ask, approvers, why, shown, due, raised_at, reason, status) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 'open')`
	sqlSettle    = `UPDATE ticket SET status = ?, settled_by = ?, because = ?, new_args = ?, settled_at = ? WHERE run = ? AND step = ? AND status = 'open'`
)

// groupMost bounds the batches of one commit.
const groupMost = 512

// writer commits batches, those that come together in one transaction.
type writer struct {
	db    *sqlx.DB
	conn  *sqlx.Conn
	queue chan *write
	done  chan struct{}

	mu     sync.RWMutex
	closed bool
	stmts  map[string]*sqlx.Stmt
}

type write struct {
	do  func(*tx) error
	err chan error
}

func sub() fs.FS {
	f, err := fs.Sub(migrations, "migrations")
	if err != nil {
		panic("migrations are embedded: " + err.Error())
	}
	return f
}

func newWriter(db *sqlx.DB) (*writer, error) {
	conn, err := db.Connx(context.Background())
	if err != nil {
		return nil, err
	}
	w := &writer{db: db, conn: conn, queue: make(chan *write, groupMost), done: make(chan struct{}), stmts: map[string]*sqlx.Stmt{}}
	go w.work()
	return w, nil
}

var errClosed = errors.New("the store is closed")

// do hands work to the writer and waits until it is on disk. A context that
// ends first does not take the work back.
func (w *writer) do(ctx context.Context, f func(*tx) error) error {
	x := &write{do: f, err: make(chan error, 1)}
	w.mu.RLock()
	if w.closed {
		w.mu.RUnlock()
		return errClosed
	}
	w.queue <- x
	w.mu.RUnlock()
	return <-x.err
}

func (w *writer) close() error {
	w.mu.Lock()
	w.closed = true
	close(w.queue)
	w.mu.Unlock()
	<-w.done
	return errors.Join(w.conn.Close(), w.db.Close())
}

func (w *writer) work() {
	defer close(w.done)
	for first := range w.queue {
		group := []*write{first}
	more:
		for len(group) < groupMost {
			select {
			case x, ok := <-w.queue:
				if !ok {
					break more
				}
				group = append(group, x)
			default:
				break more
			}
		}
		w.commit(group)
	}
}

// commit carries a group out in one transaction. Where one of its batches
// fails, which is rare, all is undone and done again with a savepoint for each,
// so that the others are spared.
func (w *writer) commit(group []*write) {
	errs := make([]error, len(group))
	err := w.attempt(group, errs, false)
	if err != nil && len(group) > 1 {
		clear(errs)
		err = w.attempt(group, errs, true)
	}
	for i, x := range group {
		if err != nil && errs[i] == nil {
			errs[i] = err
		}
		x.err <- errs[i]
	}
}

// attempt carries a group out. Its error means that nothing of it was kept; with
// savepoints a batch that fails has its own in errs, and the rest is kept.
func (w *writer) attempt(group []*write, errs []error, savepoints bool) (err error) {
	t := &tx{w: w}
	if err := t.exec("BEGIN IMMEDIATE"); err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = t.exec("ROLLBACK") // the error that matters is the one before it
		}
	}()
	for i, x := range group {
		if savepoints {
			if err := t.exec("SAVEPOINT batch"); err != nil {
				return err
			}
		}
		if errs[i] = x.do(t); errs[i] != nil {
			if !savepoints {
				return errs[i]
			}
			if err := t.exec("ROLLBACK TO batch"); err != nil {
				return err
			}
		}
		if savepoints {
			if err := t.exec("RELEASE batch"); err != nil {
				return err
			}
		}
	}
	return t.exec("COMMIT")
}

// tx is the transaction under way.
type tx struct{ w *writer }

func (t *tx) stmt(q string) (*sqlx.Stmt, error) {
	if s := t.w.stmts[q]; s != nil {
		return s, nil
	}
	s, err := t.w.conn.PreparexContext(context.Background(), q)
	if err == nil {
		t.w.stmts[q] = s
	}
	return s, err
}

func (t *tx) exec(q string, args ...any) error {
	_, err := t.count(q, args...)
	return err
}

func (t *tx) count(q string, args ...any) (int64, error) {
	s, err := t.stmt(q)
	if err != nil {
		return 0, err
	}
	r, err := s.Exec(args...)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

// append inserts a batch's rows and keeps the tickets in step with them.
func (t *tx) append(r rows) error {
	for _, p := range r.parts {
		if err := t.exec(sqlPart, string(p.hash), p.body, r.at); err != nil {
			return err
		}
	}
	for i, e := range r.events {
		if err := t.exec(sqlEvent, e.Run, e.Seq, e.At, e.V, e.Kind, e.Thread, e.Step, e.Data, e.File); err != nil {
			if strings.Contains(err.Error(), "UNIQUE") {
				return engine.ErrConflict
			}
			return err
		}
		if err := t.ticket(e, r.source[i].Data); err != nil {
			return err
		}
	}
	return nil
}

func (t *tx) ticket(e eventRow, data ledger.Data) error {
	switch d := data.(type) {
	case *ledger.GateRaised:
		by, err := json.Marshal(d.By)
		if err != nil {
			return err
		}
		var due sql.NullInt64
		if d.Due != nil {
			due = sql.NullInt64{Int64: micro(*d.Due), Valid: true}
		}
		return t.exec(sqlRaise, e.Run, e.Step, string(d.Form), d.Agent, d.Tool, string(d.Args), d.Ask, string(by), d.Why, string(d.Shown), due, e.At, d.Because)
	case *ledger.GateSettled:
		var args sql.NullString
		if len(d.Args) > 0 {
			args = sql.NullString{String: string(d.Args), Valid: true}
		}
		return t.exec(sqlSettle, string(d.Verb), d.By, d.Because, args, e.At, e.Run, e.Step)
	}
	return nil
}

// get reads one row.
func (t *tx) get(into any, q string, args ...any) error {
	s, err := t.stmt(q)
	if err != nil {
		return err
	}
	return s.Get(into, args...)
}
