package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/view"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/rows"
	"stonebaton.example/internal/sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is an open data directory. It is an engine.Log.
type Store struct {
	dir   string
	lock  *os.File
	read  *sqlx.DB
	write *writer
	blobs blobs

	ended   chan struct{} // a run is over
	closing chan struct{}
	indexes chan struct{} // is closed when nothing is indexed any more

	Logger *slog.Logger // is told of what is lost; Open sets the standard one
	// Noticed says what was found wrong with the records when they were opened; "" where nothing was.
	Noticed string
}

// LockedError says that another process has the data directory.
type LockedError struct{ Dir string }

func (e *LockedError) Error() string {
	return fmt.Sprintf("the data directory %s is in use by another Stone Baton; stop that one first, or give this one its own with -data DIR", e.Dir)
}

// Open opens a data directory, and makes it where it is not there.
func Open(dir string) (*Store, error) {
	if err := os.MkdirAll(filepath.Join(dir, "blobs"), 0o700); err != nil {
		return nil, fmt.Errorf("the data directory cannot be made: %w", err)
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the data directory cannot be locked: %w", err)
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		return nil, &LockedError{Dir: dir}
	}
	s := &Store{dir: dir, lock: lock, blobs: blobs{filepath.Join(dir, "blobs")}, Logger: slog.Default()}
	if err := s.open(); err != nil {
		lock.Close()
		return nil, err
	}
	return s, nil
}

func (s *Store) open() error {
	file := filepath.Join(s.dir, "stonebaton.db")
	dsn := func(extra string) string {
		return sqlite.DSN(file, "_pragma=busy_timeout(10000)", "_pragma=journal_mode(WAL)", "_pragma=synchronous(FULL)", "_pragma=cache_size(-8000)", extra)
	}
	s.Noticed = sqlite.Lost(file)
	db, err := sqlx.Open("sqlite", dsn("_txlock=immediate"))
	if err != nil {
		return err
	}
	db.SetMaxOpenConns(1)
	if err := migrate(db.DB); err != nil {
		db.Close()
		return fmt.Errorf("the database %s cannot be opened: %w", file, err)
	}
	if s.write, err = newWriter(db); err != nil {
		db.Close()
		return err
	}
	s.read, err = sqlx.Open("sqlite", dsn("_pragma=query_only(1)"))
	if err != nil {
		return err
	}
	s.read.SetMaxOpenConns(4)
	s.ended, s.closing, s.indexes = make(chan struct{}, 1), make(chan struct{}), make(chan struct{})
	s.runEnded() // what ended before
	go s.indexer()
	return nil
}

func migrate(db *sql.DB) error {
	p, err := goose.NewProvider(goose.DialectSQLite3, db, sub(), goose.WithSlog(slog.New(slog.DiscardHandler)))
	if err != nil {
		return err
	}
	_, err = p.Up(context.Background())
	return err
}

// Close ends the writer and lets the directory go.
func (s *Store) Close() error {
	close(s.closing)
	<-s.indexes
	err := errors.Join(s.read.Close(), s.write.close()) // the writer last: it puts the write-ahead log into the database
	return errors.Join(err, s.lock.Close())
}

// headRow is what a run's row takes from its head, and from its opening.
type headRow struct {
	ID, Session, Project, Person, Text, Status, Agent string
	Path, Called, Models                              rows.Names
	WorkedBy                                          rows.Names `db:"worked_by"`
	Turns, Calls, In, Out                             int
	Cost                                              float64
	Worked                                            int64
	Answer                                            string
	Problem                                           rows.JSON
	Opened                                            rows.Moment `db:"opened_at"`
	Last                                              rows.Moment `db:"last_at"`
	Epoch                                             int64
	Seq, Follows                                      int64 // the newest event with the batch, and before it
}

func rowOf(run string, h view.Head) headRow {
	return headRow{ID: run, Status: string(h.Status), Agent: h.Agent, Path: h.Path, WorkedBy: h.Agents, Called: h.Called, Models: h.Models, Turns: h.Turns, Calls: h.Calls, In: h.Tokens.In, Out: h.Tokens.Out, Cost: h.Cost,
		Worked: h.Worked.Milliseconds(), Answer: h.Answer, Problem: problemOf(h), Opened: rows.Moment{Time: h.OpenedAt}, Last: rows.Moment{Time: h.LastAt}}
}

// Open begins a run: the engine's Opening, in one transaction.
func (s *Store) Open(ctx context.Context, o engine.Opening) error {
	list, err := s.prepare(o.Batch)
	if err != nil {
		return err
	}
	row := rowOf(o.Run, o.Head)
	row.Session, row.Project, row.Person, row.Text, row.Epoch, row.Seq = o.Session, o.Project, o.Person, o.Text, o.Epoch, int64(len(o.Events))
	return s.write.do(ctx, func(t *tx) error {
		if err := t.enter(o, row.Opened); err != nil {
			return err
		}
		if err := t.do(newRun, row); err != nil {
			return taken(err)
		}
		if o.Inbox != 0 {
			n, err := t.changed(takeInbox, named{"id": o.Inbox})
			if err == nil && n != 1 {
				err = engine.ErrBusy // another driver took it
			}
			if err != nil {
				return err
			}
		}
		return t.append(list)
	})
}

// enter begins a session, or takes the next place in one that has no run under way.
func (t *tx) enter(o engine.Opening, at rows.Moment) error {
	if o.New {
		return taken(t.do(newSession, named{"id": o.Session, "title": title(o.Text), "person": o.Person, "last": o.Run, "at": at}))
	}
	var busy int
	if err := t.get(&busy, busyRuns, named{"id": o.Session}); err != nil {
		return err
	}
	if busy > 0 {
		return engine.ErrBusy
	}
	n, err := t.changed(nextRun, named{"last": o.Run, "id": o.Session})
	if err == nil && n != 1 {
		err = engine.ErrNoSession
	}
	return err
}

func taken(err error) error {
	if sqlite.Taken(err) {
		return engine.ErrTaken
	}
	return err
}

func title(text string) string {
	t := strings.Join(strings.Fields(text), " ")
	if r := []rune(t); len(r) > 80 {
		t = string(r[:79]) + "…"
	}
	return t
}

// Append adds a batch to a run.
func (s *Store) Append(ctx context.Context, b engine.Batch) error {
	list, err := s.prepare(b)
	if err != nil {
		return err
	}
	row := rowOf(b.Run, b.Head)
	row.Epoch, row.Follows = b.Epoch, b.Events[0].Seq-1
	row.Seq = row.Follows + int64(len(b.Events))
	err = s.write.do(ctx, func(t *tx) error {
		n, err := t.changed(setHead, row)
		switch {
		case err != nil:
			return err
		case n != 1:
			return t.unfit(b)
		}
		return t.append(list)
	})
	if err == nil && b.Head.Status.Over() {
		s.runEnded()
	}
	return err
}

// unfit says why a batch does not follow what is there.
func (t *tx) unfit(b engine.Batch) error {
	var epoch int64
	err := t.get(&epoch, epochOf, named{"run": b.Run})
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return engine.ErrNoRun
	case err != nil:
		return err
	case epoch > b.Epoch:
		return engine.ErrFenced
	}
	return engine.ErrConflict
}

// eventRow is an event of the table.
type eventRow struct {
	Run    string         `db:"run"`
	Seq    int64          `db:"seq"`
	At     rows.Moment    `db:"at"`
	V      int            `db:"v"`
	Kind   string         `db:"kind"`
	Thread string         `db:"thread"`
	Step   string         `db:"step"`
	Data   []byte         `db:"data"`
	File   sql.NullString `db:"file"`
}

type partRow struct {
	Hash string
	Body []byte
	At   rows.Moment
}

type prepared struct {
	run    string
	events []eventRow
	parts  []partRow
	source []ledger.Event
	over   bool
	kept   []byte // NULL where there is none, or where it is a file
	file   sql.NullString
}

// prepare encodes a batch and writes the files of its large values.
func (s *Store) prepare(b engine.Batch) (prepared, error) {
	r := prepared{run: b.Run, over: b.Head.Status.Over(), source: b.Events, events: make([]eventRow, 0, len(b.Events))}
	for _, e := range b.Events {
		data, err := ledger.EncodeData(e.Data)
		if err != nil {
			return r, fmt.Errorf("run %s, event %d cannot be written: %w", e.Run, e.Seq, err)
		}
		row := eventRow{Run: e.Run, Seq: e.Seq, At: rows.Moment{Time: e.At}, V: e.V, Kind: string(e.Kind), Thread: e.Thread, Step: string(e.Step), Data: data}
		if len(data) > inline {
			row.File.Valid = true // "" where texts of it stand in files of their own
			if row.Data, err = split(data, s.blobs.put); err == nil && row.Data == nil {
				var h ledger.Hash
				h, err = s.blobs.put(data)
				row.File.String = string(h)
			}
			if err != nil {
				return r, err
			}
		}
		r.events = append(r.events, row)
	}
	for h, body := range b.Parts {
		if len(body) > inline {
			if err := s.blobs.putAs(h, body); err != nil {
				return r, err
			}
			body = nil
		}
		r.parts = append(r.parts, partRow{string(h), body, rows.Moment{Time: b.Head.LastAt}})
	}
	if b.Kept == nil {
		return r, nil
	}
	raw, err := json.Marshal(b.Kept)
	if err != nil {
		return r, err
	}
	if len(raw) <= inline {
		r.kept = raw
		return r, nil
	}
	h, err := s.blobs.put(raw)
	r.file = sql.NullString{String: string(h), Valid: true}
	return r, err
}

// readMost is how many events are taken from the database at once.
const readMost = 2000

// Read gives a run's events after one.
func (s *Store) Read(ctx context.Context, run string, after int64) iter.Seq2[ledger.Event, error] {
	return func(yield func(ledger.Event, error) bool) {
		for {
			events, err := s.ReadAfter(ctx, run, after, readMost)
			if err != nil {
				yield(ledger.Event{}, err)
				return
			}
			for _, e := range events {
				if !yield(e, nil) {
					return
				}
				after = e.Seq
			}
			if len(events) < readMost {
				return
			}
		}
	}
}

// ReadAfter gives a run's events after one, at most limit of them; 0 is all.
func (s *Store) ReadAfter(ctx context.Context, run string, seq int64, limit int) ([]ledger.Event, error) {
	if limit <= 0 {
		limit = -1
	}
	var raw []eventRow
	if err := s.read.SelectContext(ctx, &raw, `SELECT run, seq, at, v, kind, thread, step, data, file FROM event WHERE run = ? AND seq > ? ORDER BY seq LIMIT ?`, run, seq, limit); err != nil {
		return nil, err
	}
	if len(raw) == 0 {
		var n int
		if err := s.read.GetContext(ctx, &n, `SELECT count(*) FROM run WHERE id = ?`, run); err != nil {
			return nil, err
		}
		if n == 0 {
			return nil, engine.ErrNoRun
		}
	}
	out := make([]ledger.Event, 0, len(raw))
	for _, r := range raw {
		e := ledger.Event{Run: r.Run, Seq: r.Seq, At: r.At.Time, V: r.V, Kind: ledger.Kind(r.Kind), Thread: r.Thread, Step: ledger.StepID(r.Step)}
		var err error
		switch {
		case r.File.Valid && r.File.String == "":
			r.Data, err = s.join(r.Data, r.Run, r.Seq)
		case r.File.Valid:
			r.Data, err = s.blobs.get(ledger.Hash(r.File.String))
		}
		if err != nil {
			return nil, fmt.Errorf("event %d of the run %s cannot be read: %w", r.Seq, r.Run, err)
		}
		if e.Data, err = ledger.DecodeData(e, r.Data); err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, nil
}

// Lease gives a run to a driver.
func (s *Store) Lease(ctx context.Context, run string) (epoch int64, err error) {
	err = s.write.do(ctx, func(t *tx) error {
		n, err := t.changed(nextEpoch, named{"run": run})
		if err != nil {
			return err
		}
		if n != 1 {
			return engine.ErrNoRun
		}
		return t.get(&epoch, epochOf, named{"run": run})
	})
	return epoch, err
}

// Part gives a part of a request by its hash.
func (s *Store) Part(ctx context.Context, h ledger.Hash) ([]byte, error) {
	var body []byte
	err := s.read.GetContext(ctx, &body, `SELECT body FROM part WHERE hash = ?`, string(h))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("the part %s of a request is not in the store", h)
	}
	if err == nil && body == nil {
		return s.blobs.get(h)
	}
	return body, err
}

// Session gives what the engine has to know of a session.
func (s *Store) Session(ctx context.Context, id string) (engine.Session, error) {
	var r struct {
		Runs int
		Last string
		Busy bool
		Kept []byte
		File sql.NullString `db:"kept_file"`

		Person string
		Shared rows.List
	}
	err := s.read.GetContext(ctx, &r, `SELECT runs, last, person, (SELECT json_group_array(person) FROM shared WHERE session = s.id) AS shared, kept, kept_file, EXISTS (SELECT 1 FROM run WHERE session = s.id AND status IN ('going','held')) AS busy FROM session s WHERE id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return engine.Session{}, engine.ErrNoSession
	}
	out := engine.Session{ID: id, Runs: r.Runs, Last: r.Last, Busy: r.Busy, Person: r.Person}
	if len(r.Shared) > 0 {
		out.Shared = r.Shared
	}
	if err == nil && r.File.Valid {
		if r.Kept, err = s.blobs.get(ledger.Hash(r.File.String)); err != nil {
			return out, nil // it is made again of the run's ledger
		}
	}
	if err != nil || r.Kept == nil {
		return out, err
	}
	out.Kept, err = run.ReadKept(r.Kept)
	return out, err
}

var enqueue = statement(`INSERT INTO inbox (session, start, at) VALUES (:session, :start, :at)`)

// Enqueue keeps a message until the session's run is over.
func (s *Store) Enqueue(ctx context.Context, st engine.Start) error {
	raw, err := json.Marshal(st)
	if err != nil {
		return err
	}
	return s.write.do(ctx, func(t *tx) error {
		return t.do(enqueue, named{"session": st.Session, "start": rows.JSON(raw), "at": rows.Moment{Time: time.Now()}})
	})
}

var (
	addAside  = statement(`INSERT INTO aside (session, run, step) VALUES (:session, :run, :step) ON CONFLICT DO NOTHING`)
	dropAside = statement(`DELETE FROM aside WHERE session = :session`)
)

// Asides lists the calls that wait aside, those of a session or all.
func (s *Store) Asides(ctx context.Context, session string) ([]engine.Aside, error) {
	var out []engine.Aside
	err := s.list(ctx, &out, `SELECT a.run, a.step, a.session, coalesce(r.status, '') AS status FROM aside a LEFT JOIN run r ON r.id = a.session || '-1' WHERE :session IN ('', a.session)`, named{"session": session})
	return out, err
}

// TellAside puts a message into the inbox and takes the aside out.
func (s *Store) TellAside(ctx context.Context, a engine.Aside, st engine.Start) (fresh bool, err error) {
	raw, err := json.Marshal(st)
	if err != nil {
		return false, err
	}
	err = s.write.do(ctx, func(t *tx) error {
		n, err := t.changed(dropAside, named{"session": a.Session})
		if fresh = n > 0; err != nil || !fresh {
			return err
		}
		return t.do(enqueue, named{"session": st.Session, "start": rows.JSON(raw), "at": rows.Moment{Time: time.Now()}})
	})
	return fresh, err
}

// Inbox gives the oldest message of a session.
func (s *Store) Inbox(ctx context.Context, session string) (engine.Waiting, bool, error) {
	all, err := s.Waiting(ctx, session)
	if err != nil || len(all) == 0 {
		return engine.Waiting{}, false, err
	}
	return all[0], true, nil
}

// Waiting lists the messages in a session's inbox, the oldest first.
func (s *Store) Waiting(ctx context.Context, session string) ([]engine.Waiting, error) {
	var raw []struct {
		ID    int64
		Start rows.JSONOf[engine.Start]
	}
	if err := s.read.SelectContext(ctx, &raw, `SELECT id, start FROM inbox WHERE session = ? ORDER BY id`, session); err != nil {
		return nil, err
	}
	out := make([]engine.Waiting, len(raw))
	for i, r := range raw {
		out[i] = engine.Waiting{ID: r.ID, Start: r.Start.V}
	}
	return out, nil
}

// Queues lists the sessions of the messages that wait, one for each message.
func (s *Store) Queues(ctx context.Context) ([]string, error) {
	var out []string
	err := s.read.SelectContext(ctx, &out, `SELECT session FROM inbox`)
	return out, err
}

// Unfinished lists the runs that are neither over nor held.
func (s *Store) Unfinished(ctx context.Context) ([]string, error) {
	var out []string
	err := s.read.SelectContext(ctx, &out, `SELECT id FROM run WHERE status = 'going' ORDER BY n`)
	return out, err
}

// Due lists the runs with something that has become due, and when the next is.
func (s *Store) Due(ctx context.Context, now time.Time) (runs []string, next time.Time, err error) {
	err = s.read.SelectContext(ctx, &runs, `SELECT DISTINCT run FROM timer WHERE due <= ?`, rows.Moment{Time: now})
	if err != nil {
		return nil, next, err
	}
	var due *rows.Moment
	err = s.read.GetContext(ctx, &due, `SELECT min(due) FROM timer WHERE due > ?`, rows.Moment{Time: now})
	if due != nil {
		next = due.Time
	}
	return runs, next, err
}

// formatOfVersions is the format in which versions of a project are kept, so that a held
// run's files can still be read by a later program. Those without a format are of the first.
const formatOfVersions = 2

// version is a version of a project as it is kept.
type version struct {
	Format int `json:"format"`
	project.Source
}

var saveVersion = statement(`INSERT INTO version (hash, body, at) VALUES (:hash, :body, :at) ON CONFLICT DO NOTHING`)

// elsewhere stands for a version that is in a file.
type elsewhere struct {
	File ledger.Hash `json:"$file"`
}

// SaveVersion keeps what a project was made from, by its hash.
func (s *Store) SaveVersion(ctx context.Context, src project.Source) error {
	raw, err := json.Marshal(version{formatOfVersions, src})
	if err != nil {
		return err
	}
	h := src.Hash()
	if len(raw) > inline {
		file, err := s.blobs.put(raw)
		if err != nil {
			return err
		}
		if raw, err = json.Marshal(elsewhere{file}); err != nil {
			return err
		}
	}
	return s.write.do(ctx, func(t *tx) error {
		return t.do(saveVersion, partRow{string(h), raw, rows.Moment{Time: time.Now()}})
	})
}

// Version gives what a version of the project was made from.
func (s *Store) Version(ctx context.Context, h ledger.Hash) (project.Source, error) {
	var body []byte
	var src project.Source
	err := s.read.GetContext(ctx, &body, `SELECT body FROM version WHERE hash = ?`, string(h))
	if errors.Is(err, sql.ErrNoRows) {
		return src, fmt.Errorf("the version %s of the project is not in the store", h)
	}
	var at elsewhere
	switch {
	case err != nil:
	case body == nil:
		body, err = s.blobs.named(h) // an earlier program kept it by the hash of the source
	case json.Unmarshal(body, &at) == nil && at.File != "":
		body, err = s.blobs.get(at.File)
	}
	if err != nil {
		return src, err
	}
	var v version
	if err := json.Unmarshal(body, &v); err != nil {
		return src, fmt.Errorf("the version %s of the project is damaged: %w", h, err)
	}
	if v.Format > formatOfVersions {
		return src, fmt.Errorf("the version %s of the project was kept by a newer Stone Baton (format %d); this one reads up to %d", h, v.Format, formatOfVersions)
	}
	return v.Source, nil
}

var saveDrill = statement(`INSERT INTO drill (name, data, at) VALUES (:name, :data, :at) ON CONFLICT (name) DO UPDATE SET data = excluded.data, at = excluded.at`)

// SaveDrill keeps the newest result of a drill.
func (s *Store) SaveDrill(ctx context.Context, name string, data []byte) error {
	return s.write.do(ctx, func(t *tx) error {
		return t.do(saveDrill, named{"name": name, "data": rows.JSON(data), "at": rows.Moment{Time: time.Now()}})
	})
}

// Drills gives the newest results by drill.
func (s *Store) Drills(ctx context.Context) (map[string]json.RawMessage, error) {
	var raw []struct {
		Name string
		Data rows.JSON
	}
	if err := s.read.SelectContext(ctx, &raw, `SELECT name, data FROM drill`); err != nil {
		return nil, err
	}
	out := map[string]json.RawMessage{}
	for _, r := range raw {
		out[r.Name] = json.RawMessage(r.Data)
	}
	return out, nil
}
