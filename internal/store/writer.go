package store

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/view"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/rows"
	"stonebaton.example/internal/sqlite"
)

// query is a statement of the writer with named parameters. All of them are
// prepared when the store opens.
type query struct{ sql string }

var queries []*query

func statement(sql string) *query {
	q := &query{sql}
	queries = append(queries, q)
	return q
}

var (
	newSession = statement(`INSERT INTO session (id, title, person, runs, last, at) VALUES (:id, :title, :person, 1, :last, :at)`)
	nextRun    = statement(`UPDATE session SET runs = runs + 1, last = :last, kept = NULL, kept_file = NULL WHERE id = :id`)
	busyRuns   = statement(`SELECT count(*) FROM run WHERE session = :id AND status IN ('going', 'held')`)
	newRun     = statement(`INSERT INTO run (id, session, project, person, text, status, agent, path, worked_by, called, models, turns, calls, tokens_in, tokens_out, cost, worked, answer, problem, opened_at, last_at, epoch, seq)
		VALUES (:id, :session, :project, :person, :text, :status, :agent, :path, :worked_by, :called, :models, :turns, :calls, :in, :out, :cost, :worked, :answer, :problem, :opened_at, :last_at, :epoch, :seq)`)
	setHead = statement(`UPDATE run SET status = :status, agent = :agent, path = :path, worked_by = :worked_by, called = :called, models = :models, turns = :turns, calls = :calls, tokens_in = :in, tokens_out = :out, cost = :cost,
		worked = :worked, answer = :answer, problem = :problem, last_at = :last_at, epoch = :epoch, seq = :seq WHERE id = :id AND epoch <= :epoch AND seq = :follows`)
	nextEpoch = statement(`UPDATE run SET epoch = epoch + 1 WHERE id = :run`)
	epochOf   = statement(`SELECT epoch FROM run WHERE id = :run`)
	keep      = statement(`UPDATE session SET kept = :kept, kept_file = :file WHERE id = (SELECT session FROM run WHERE id = :run) AND last = :run`)
	setTimer  = statement(`INSERT INTO timer (run, step, what, due) VALUES (:run, :step, :what, :due) ON CONFLICT (run, step, what) DO UPDATE SET due = excluded.due`)
	endTimer  = statement(`DELETE FROM timer WHERE run = :run AND step = :step AND what = :what`)
	endTimers = statement(`DELETE FROM timer WHERE run = :run`)
	takeInbox = statement(`DELETE FROM inbox WHERE id = :id`)
	addPart   = statement(`INSERT INTO part (hash, body, at) VALUES (:hash, :body, :at) ON CONFLICT DO NOTHING`)
	raise     = statement(`INSERT INTO ticket (run, step, form, agent, tool, args, ask, approvers, why, shown, due, raised_at, reason, diff, link, need, barred, spare, escalates, escalate_to, wants, may, stepwise, status)
		VALUES (:run, :step, :form, :agent, :tool, :args, :ask, :approvers, :why, :shown, :due, :raised_at, :reason, :diff, :link, :need, :barred, :spare, :escalates, :escalate_to, :wants, :may, :stepwise, 'open')`)
	vote     = statement(`UPDATE ticket SET votes = json_insert(votes, '$[#]', json(json_extract(:votes, '$[0]'))) WHERE run = :run AND step = :step AND status = 'open'`)
	revote   = statement(`UPDATE ticket SET votes = :votes, args = :args, ask = :ask, shown = :shown WHERE run = :run AND step = :step AND status = 'open'`)
	escalate = statement(`UPDATE ticket SET escalates = NULL WHERE run = :run AND step = :step AND status = 'open'`)
	settle   = statement(`UPDATE ticket SET status = :status, settled_by = :settled_by, settled_as = :settled_as, because = :because, new_args = :new_args, settled_at = :settled_at WHERE run = :run AND step = :step AND status = 'open'`)
)

// addEvents inserts so many events at once, and one more: most batches have a few, and a
// statement that is carried out costs as much as two rows.
var addEvents = func() (list [8]*query) {
	for i := range list {
		list[i] = statement(`INSERT INTO event (run, seq, at, v, kind, thread, step, data, file) VALUES ` + strings.Repeat(`(?, ?, ?, ?, ?, ?, ?, ?, ?), `, i) + `(?, ?, ?, ?, ?, ?, ?, ?, ?)`)
	}
	return list
}()

// groupMost bounds the batches of one commit.
const groupMost = 512

// writer commits batches, those that come together in one transaction. It has the
// one connection that writes. A batch that comes alone is committed by whoever brings it:
// handing it over and back would take about as long as the commit.
type writer struct {
	db     *sqlx.DB
	stmts  map[*query]*sqlx.NamedStmt
	queue  chan *write
	done   chan struct{}
	one    sync.Mutex  // held by whoever has the connection
	single atomic.Bool // the last commit was of one batch, so that the next may be, too

	mu     sync.RWMutex
	closed bool
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
	w := &writer{db: db, stmts: map[*query]*sqlx.NamedStmt{}, queue: make(chan *write, groupMost), done: make(chan struct{})}
	for _, q := range queries {
		s, err := db.PrepareNamed(q.sql)
		if err != nil {
			return nil, err
		}
		w.stmts[q] = s
	}
	go w.work()
	return w, nil
}

var errClosed = errors.New("the store is closed")

// do carries work out, or hands it to the writer, and waits until it is on disk. A context that
// ends first does not take the work back.
func (w *writer) do(_ context.Context, f func(*tx) error) error {
	x := &write{do: f, err: make(chan error, 1)}
	w.mu.RLock()
	if w.closed {
		w.mu.RUnlock()
		return errClosed
	}
	if w.single.Load() && len(w.queue) == 0 && w.one.TryLock() {
		w.commit([]*write{x})
		w.one.Unlock()
	} else {
		w.queue <- x
	}
	w.mu.RUnlock()
	return <-x.err
}

// alone lends the connection to work that cannot be a batch, while none is carried out.
func (w *writer) alone(f func(*sqlx.DB) error) error {
	w.one.Lock()
	defer w.one.Unlock()
	return f(w.db)
}

func (w *writer) close() error {
	w.mu.Lock()
	w.closed = true
	close(w.queue)
	w.mu.Unlock()
	<-w.done
	var err error
	for _, s := range w.stmts {
		err = errors.Join(err, s.Close())
	}
	return errors.Join(err, w.db.Close())
}

func (w *writer) work() {
	defer close(w.done)
	for first := range w.queue {
		w.one.Lock()
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
		w.one.Unlock()
	}
}

// commit carries a group out in one transaction. Where one of its batches
// fails, which is rare, all is undone and done again with a savepoint for each,
// so that the others are spared. Whoever calls it has the connection.
func (w *writer) commit(group []*write) {
	w.single.Store(len(group) == 1)
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

// Transactions are begun and ended by prepared statements, like all else: the writer has
// one connection, and the transactions of database/sql parse their statements each time.
var (
	begin     = statement(`BEGIN IMMEDIATE`)
	commit    = statement(`COMMIT`)
	rollback  = statement(`ROLLBACK`)
	savepoint = statement(`SAVEPOINT batch`)
	undo      = statement(`ROLLBACK TO batch`)
	release   = statement(`RELEASE batch`)
)

// attempt carries a group out. Its error means that nothing of it was kept; with
// savepoints a batch that fails has its own in errs, and the rest is kept.
func (w *writer) attempt(group []*write, errs []error, savepoints bool) (err error) {
	t := &tx{stmts: w.stmts}
	if err := t.do(begin, named{}); err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = t.do(rollback, named{}) // the error that matters is the one before it
		}
	}()
	point := func(q *query) error {
		if !savepoints {
			return nil
		}
		return t.do(q, named{})
	}
	for i, x := range group {
		if err := point(savepoint); err != nil {
			return err
		}
		if errs[i] = x.do(t); errs[i] != nil {
			if !savepoints {
				return errs[i]
			}
			if err := point(undo); err != nil {
				return err
			}
		}
		if err := point(release); err != nil {
			return err
		}
	}
	return t.do(commit, named{})
}

// tx is the transaction under way.
type tx struct{ stmts map[*query]*sqlx.NamedStmt }

// do carries a statement out with the named parameters of a struct or map.
func (t *tx) do(q *query, params any) error {
	_, err := t.stmts[q].Exec(params)
	return err
}

// changed does the same and says how many rows it changed.
func (t *tx) changed(q *query, params any) (int64, error) {
	r, err := t.stmts[q].Exec(params)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

// get reads one row.
func (t *tx) get(into any, q *query, params any) error { return t.stmts[q].Get(into, params) }

type named = map[string]any

// append inserts a batch's rows and keeps the tickets in step with them.
func (t *tx) append(r prepared) error {
	for _, p := range r.parts {
		if err := t.do(addPart, p); err != nil {
			return err
		}
	}
	for list := range slices.Chunk(r.events, len(addEvents)) {
		args := make([]any, 0, 9*len(list))
		for _, e := range list {
			args = append(args, e.Run, e.Seq, e.At, e.V, e.Kind, e.Thread, e.Step, e.Data, e.File)
		}
		if _, err := t.stmts[addEvents[len(list)-1]].Stmt.Exec(args...); err != nil {
			if sqlite.Taken(err) {
				return engine.ErrConflict
			}
			return err
		}
	}
	for i, e := range r.events {
		if err := t.ticket(e, r.source[i].Data); err != nil {
			return err
		}
		if err := t.timers(r.source[i]); err != nil {
			return err
		}
	}
	if !r.over {
		return nil
	}
	if err := t.do(endTimers, named{"run": r.run}); err != nil || (r.kept == nil && !r.file.Valid) {
		return err
	}
	return t.do(keep, named{"run": r.run, "kept": r.kept, "file": r.file})
}

// timers keeps the table of timers in step with the events that set and end them.
func (t *tx) timers(e ledger.Event) error {
	var err error
	engine.Set(e, func(x engine.Timer, due time.Time) {
		err = errors.Join(err, t.do(setTimer, named{"run": e.Run, "step": string(x.Step), "what": string(x.What), "due": rows.Moment{Time: due}}))
	}, func(x engine.Timer) {
		err = errors.Join(err, t.do(endTimer, named{"run": e.Run, "step": string(x.Step), "what": string(x.What)}))
	})
	return err
}

// ticket keeps the tables of tickets, and of calls that wait aside, in step with the events;
// other kinds have no row there.
func (t *tx) ticket(e eventRow, data ledger.Data) error {
	switch d := data.(type) {
	case *ledger.CallRefused:
		if d.Aside != nil {
			return t.do(addAside, named{"session": d.Aside.Session, "run": e.Run, "step": e.Step})
		}
	case *ledger.GateRaised:
		var escalates *rows.Moment
		to := rows.List{}
		if d.Escalate != nil {
			escalates, to = rows.At(&d.Escalate.At), append(to, d.Escalate.To...)
		}
		may := rows.List{}
		for _, v := range d.May {
			may = append(may, string(v))
		}
		err := t.do(raise, rows.Ticket{Run: e.Run, Step: e.Step, Form: string(d.Form), Agent: d.Agent, Tool: d.Tool, Args: rows.JSON(d.Args), Ask: d.Ask, By: append(rows.List{}, d.By...),
			Why: d.Why, Shown: string(d.Shown), Due: rows.At(d.Due), Raised: e.At, Reason: d.Because, Diff: d.Diff, Link: d.Link, Need: max(1, d.Need), Barred: d.Not, Spare: d.Spare, Escalates: escalates, EscalateTo: to, Wants: rows.JSON(d.Wants), May: may, Stepwise: d.Step})
		if err != nil || d.Notify == "" {
			return err
		}
		return t.do(addNotice, rows.Notice{Run: e.Run, Step: e.Step, Kind: "raised", Due: e.At, Every: d.Remind})
	case *ledger.GateVoted:
		if d.Verb == ledger.Amend {
			return t.do(revote, rows.Ticket{Run: e.Run, Step: e.Step, Votes: view.Voted(nil, d, e.At.Time), Args: rows.JSON(d.Args), Ask: d.Ask, Shown: string(d.Shown)})
		}
		return t.do(vote, rows.Ticket{Run: e.Run, Step: e.Step, Votes: view.Voted(nil, d, e.At.Time)})
	case *ledger.TimerFired:
		if d.What == ledger.ForMore {
			if err := t.do(escalate, rows.Ticket{Run: e.Run, Step: e.Step}); err != nil {
				return err
			}
			return t.do(more, rows.Notice{Run: e.Run, Step: e.Step, Due: e.At})
		}
	case *ledger.GateSettled:
		var args rows.JSON
		if len(d.Args) > 0 {
			args = rows.JSON(d.Args)
		}
		at := e.At
		if err := t.do(overs, rows.Notice{Run: e.Run, Step: e.Step}); err != nil {
			return err
		}
		return t.do(settle, rows.Ticket{Run: e.Run, Step: e.Step, Status: string(d.Verb), SettledBy: d.By, SettledAs: d.As, Because: d.Because, NewArgs: args, Settled: &at})
	}
	return nil
}

// problemOf gives the problem of a run for its column.
func problemOf(h view.Head) rows.JSON {
	if h.Problem == nil {
		return nil
	}
	raw, err := json.Marshal(h.Problem)
	if err != nil {
		panic("a problem is plain text: " + err.Error())
	}
	return raw
}
