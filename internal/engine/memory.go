package engine

import (
	"context"
	"sync"
	"time"

	"stonebaton.example/core/ledger"
)

// Memory is a Log that keeps everything in the process: for drills and tests.
type Memory struct {
	mu       sync.Mutex
	runs     map[string]*memRun
	sessions map[string]*Session
	inbox    []Waiting
	parts    map[ledger.Hash][]byte
	nextID   int64
}

type memRun struct {
	session string
	events  []ledger.Event
	head    Head
}

// NewMemory gives an empty Memory.
func NewMemory() *Memory {
	return &Memory{runs: map[string]*memRun{}, sessions: map[string]*Session{}, parts: map[ledger.Hash][]byte{}}
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
		s = &Session{ID: o.Session}
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
	m.runs[o.Run] = &memRun{session: o.Session}
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
	r.events = append(r.events, b.Events...)
	r.head = b.Head
	for h, body := range b.Parts {
		m.parts[h] = body
	}
	if s := m.sessions[r.session]; s.Last == b.Run {
		s.Busy = !b.Head.Status.Over()
	}
	return nil
}

// Read gives a run's events.
func (m *Memory) Read(_ context.Context, run string) ([]ledger.Event, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	r := m.runs[run]
	if r == nil {
		return nil, ErrNoRun
	}
	return r.events[:len(r.events):len(r.events)], nil
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

// Due lists the held runs with a deadline that has passed, and the next deadline.
func (m *Memory) Due(_ context.Context, now time.Time) (runs []string, next time.Time, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for id, r := range m.runs {
		if r.head.Status != ledger.Held {
			continue
		}
		open := map[string]*time.Time{}
		for _, ev := range r.events {
			switch d := ev.Data.(type) {
			case *ledger.GateRaised:
				open[ev.Step] = d.Due
			case *ledger.GateSettled:
				delete(open, ev.Step)
			}
		}
		for _, due := range open {
			if due == nil {
				continue
			}
			if !due.After(now) {
				runs = append(runs, id)
			} else if next.IsZero() || due.Before(next) {
				next = *due
			}
		}
	}
	return runs, next, nil
}
