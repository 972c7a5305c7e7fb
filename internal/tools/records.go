package tools

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"

	"stonebaton.example/core/ledger"
)

// ErrNoChange says that a key names no change that was kept.
var ErrNoChange = errors.New("there is no such change")

// UndoError says why a change cannot be undone.
type UndoError struct{ Say string }

func (e *UndoError) Error() string { return e.Say }

// Message is one message of the outbox, which keeps and shows what would be sent.
type Message struct {
	ID      string    `json:"id" db:"id"`
	At      time.Time `json:"at" db:"at"`
	Run     string    `json:"run,omitempty" db:"run"`
	Tool    string    `json:"tool" db:"tool"`
	To      string    `json:"to" db:"recipient"`
	Subject string    `json:"subject,omitempty" db:"subject"`
	Text    string    `json:"text" db:"text"`
}

// Number gives the number of the message in the outbox, counted from 1.
func (m Message) Number() int64 {
	n, _ := strconv.ParseInt(strings.TrimPrefix(m.ID, "M-"), 10, 64) // Records made it
	return n
}

// Many is the After of a change of several files at once: its Before has them all.
const Many = "many"

// Change is what is needed to undo a change of a file.
type Change struct {
	Key    string     `json:"key" db:"key"`
	Run    string     `json:"run,omitempty" db:"run"`   // that made it; "" on the bench
	Step   string     `json:"step,omitempty" db:"step"` // of Run
	At     time.Time  `json:"at" db:"at"`
	Path   string     `json:"path" db:"path"`               // within the project
	Before *string    `json:"before,omitempty" db:"before"` // nil: the file did not exist
	After  string     `json:"-" db:"after"`                 // hash of what was written
	Undone *time.Time `json:"undone,omitempty" db:"undone"`
}

// FileChange is what one of several files was before a change, and after it. nil where there was none.
type FileChange struct {
	Was, Now []byte
	Mode     fs.FileMode
}

// Files gives the files that the change is about, by their paths within the project, each as
// it was before; nil where there was none.
func (c Change) Files() (map[string][]byte, error) {
	out := map[string][]byte{}
	if c.After != Many {
		out[c.Path] = nil
		if c.Before != nil {
			out[c.Path] = []byte(*c.Before)
		}
		return out, nil
	}
	var list map[string]FileChange
	if err := json.Unmarshal([]byte(*c.Before), &list); err != nil {
		return nil, err
	}
	for p, x := range list {
		out[path.Join(c.Path, p)] = x.Was
	}
	return out, nil
}

// Records keeps what builtins leave behind.
type Records interface {
	// Send keeps a message once for each key.
	Send(ctx context.Context, key string, m Message) (Message, error)
	Messages(ctx context.Context, to string) ([]Message, error)
	SaveChange(ctx context.Context, c Change) error
	Change(ctx context.Context, key string) (Change, error)
	MarkUndone(ctx context.Context, key string, at time.Time) error
	// KeepFile keeps a file by its content, and gives the hash of it.
	KeepFile(ctx context.Context, body []byte) (hash string, err error)
	// File gives a file that is kept.
	File(hash ledger.Hash) ([]byte, error)
}

// Memory is Records in memory, for drills and for tools that are tried on a
// folder alone.
type Memory struct {
	mu       sync.Mutex
	messages []Message
	keys     map[string]Message
	changes  map[string]Change
}

// Send keeps a message.
func (m *Memory) Send(_ context.Context, key string, x Message) (Message, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.keys == nil {
		m.keys = map[string]Message{}
	}
	if was, ok := m.keys[key]; ok {
		return was, nil
	}
	x.ID = fmt.Sprintf("M-%d", len(m.messages)+1)
	m.messages = append(m.messages, x)
	m.keys[key] = x
	return x, nil
}

// Messages lists the messages, to one recipient or to all.
func (m *Memory) Messages(_ context.Context, to string) ([]Message, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := []Message{}
	for _, x := range m.messages {
		if to == "" || x.To == to {
			out = append(out, x)
		}
	}
	return out, nil
}

// SaveChange keeps a change.
func (m *Memory) SaveChange(_ context.Context, c Change) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.changes == nil {
		m.changes = map[string]Change{}
	}
	m.changes[c.Key] = c
	return nil
}

// Change finds a change by its key.
func (m *Memory) Change(_ context.Context, key string) (Change, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	c, ok := m.changes[key]
	if !ok {
		return c, ErrNoChange
	}
	return c, nil
}

// MarkUndone notes that a change was undone.
func (m *Memory) MarkUndone(_ context.Context, key string, at time.Time) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	c := m.changes[key]
	c.Undone = &at
	m.changes[key] = c
	return nil
}

// File gives none.
func (m *Memory) File(hash ledger.Hash) ([]byte, error) {
	return nil, fmt.Errorf("the file %s is not kept", hash)
}

// KeepFile gives the hash of a file, and forgets it.
func (m *Memory) KeepFile(_ context.Context, body []byte) (string, error) {
	return string(ledger.HashOf(body)), nil
}
