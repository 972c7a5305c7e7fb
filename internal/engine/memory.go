package engine

import (
	"context"
	"iter"
	"slices"
	"sync"
	"time"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/view"
)

// Memory is a Log that keeps everything in the process: for drills and tests.
type Memory struct {
	mu       sync.Mutex
	runs     map[string]*memRun
	sessions map[string]*Session
	inbox    []Waiting
	parts    map[ledger.Hash][]byte
	nextID   int64
	told     map[string]bool // sessions of calls that waited aside, of which the conversation was told
}

type memRun struct {
	session string
	events  []ledger.Event
	head    view.Head
	epoch   int64
}

// NewMemory gives an empty Memory.
func NewMemory() *Memory {
	return &Memory{runs: map[string]*memRun{}, sessions: map[string]*Session{}, parts: map[ledger.Hash][]byte{}, told: map[string]bool{}}
}

// Open begins a run.
func (m *Memory) Open(_ context.Context, o Opening) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	s := m.sessions[o.Session]
	switch {
	case o.New && s != nil, m.runs[o.Run] != nil:
		return ErrTaken
	case o.New:
		s = &Session{ID: o.Session, Person: o.Person}
		m.sessions[o.Session] = s
	case s == nil:
		return ErrNoSession
	case s.Busy:
		return ErrBusy
	}
	s.Runs, s.Last = s.Runs+1, o.Run
	for i, w := range m.inbox {
		if w.ID == o.Inbox {
			m.inbox = append(m.inbox[:i:i], m.inbox[i+1:]...)
			break
		}
	}
	m.runs[o.Run] = &memRun{session: o.Session, epoch: o.Epoch}
	return m.append(o.Batch)
}

// Append adds a batch to a run.
func (m *Memory) Append(_ context.Context, b Batch) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.append(b)
}

func (m *Memory) append(b Batch) error {
	r := m.runs[b.Run]
	if r == nil {
		return ErrNoRun
	}
	if int64(len(r.events))+1 != b.Events[0].Seq {
		return ErrConflict
	}
	if b.Epoch < r.epoch {
		return ErrFenced
	}
	r.events = append(r.events, b.Events...)
	r.head = b.Head
	for h, body := range b.Parts {
		m.parts[h] = body
	}
	if s := m.sessions[r.session]; s.Last == b.Run {
		s.Busy, s.Kept = !b.Head.Status.Over(), b.Kept
	}
	return nil
}

// Lease gives a run to a driver.
func (m *Memory) Lease(_ context.Context, run string) (int64, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	r := m.runs[run]
	if r == nil {
		return 0, ErrNoRun
	}
	r.epoch++
	return r.epoch, nil
}

// Read gives a run's events after one.
func (m *Memory) Read(_ context.Context, run string, after int64) iter.Seq2[ledger.Event, error] {
	m.mu.Lock()
	defer m.mu.Unlock()
	r := m.runs[run]
	return func(yield func(ledger.Event, error) bool) {
		if r == nil {
			yield(ledger.Event{}, ErrNoRun)
			return
		}
		m.mu.Lock()
		events := r.events[:len(r.events):len(r.events)]
		m.mu.Unlock()
		for _, e := range events[min(int(after), len(events)):] {
			if !yield(e, nil) {
				return
			}
		}
	}
}

// Part gives a part of a request by its hash.
func (m *Memory) Part(h ledger.Hash) []byte {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.parts[h]
}

// Session gives what is known of a session.
func (m *Memory) Session(_ context.Context, id string) (Session, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if s := m.sessions[id]; s != nil {
		return *s, nil
	}
	return Session{}, ErrNoSession
}

// Enqueue keeps a message until the session's run is over.
func (m *Memory) Enqueue(_ context.Context, s Start) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.nextID++
	m.inbox = append(m.inbox, Waiting{ID: m.nextID, Start: s})
	return nil
}

// Inbox gives the oldest message of a session.
func (m *Memory) Inbox(_ context.Context, session string) (Waiting, bool, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, w := range m.inbox {
		if w.Start.Session == session {
			return w, true, nil
		}
	}
	return Waiting{}, false, nil
}

// Queues lists the sessions of the messages that wait, one for each message.
func (m *Memory) Queues(context.Context) ([]string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []string
	for _, w := range m.inbox {
		out = append(out, w.Start.Session)
	}
	return out, nil
}

// Unfinished lists the runs that are neither over nor held.
func (m *Memory) Unfinished(context.Context) ([]string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []string
	for id, r := range m.runs {
		if r.head.Status == ledger.Going {
			out = append(out, id)
		}
	}
	return out, nil
}

// Due lists the runs with something that has become due, and when the next is.
func (m *Memory) Due(_ context.Context, now time.Time) (runs []string, next time.Time, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for id, r := range m.runs {
		if r.head.Status.Over() {
			continue
		}
		set := map[Timer]time.Time{}
		for _, ev := range r.events {
			Set(ev, func(t Timer, due time.Time) { set[t] = due }, func(t Timer) { delete(set, t) })
		}
		for _, due := range set {
			switch {
			case !due.After(now):
				if !slices.Contains(runs, id) {
					runs = append(runs, id)
				}
			case next.IsZero() || due.Before(next):
				next = due
			}
		}
	}
	return runs, next, nil
}

// Asides lists the calls that wait aside.
func (m *Memory) Asides(_ context.Context, session string) ([]Aside, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []Aside
	for id, r := range m.runs {
		for _, ev := range r.events {
			d, ok := ev.Data.(*ledger.CallRefused)
			if !ok || d.Aside == nil || m.told[d.Aside.Session] || (session != "" && d.Aside.Session != session) {
				continue
			}
			a := Aside{Run: id, Step: ev.Step, Session: d.Aside.Session}
			if x := m.runs[d.Aside.Run()]; x != nil {
				a.Status = x.head.Status
			}
			out = append(out, a)
		}
	}
	return out, nil
}

// TellAside keeps the message of a call that waited aside, once.
func (m *Memory) TellAside(ctx context.Context, a Aside, s Start) (bool, error) {
	m.mu.Lock()
	if m.told[a.Session] {
		m.mu.Unlock()
		return false, nil
	}
	m.told[a.Session] = true
	m.mu.Unlock()
	return true, m.Enqueue(ctx, s)
}
