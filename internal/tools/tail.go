package tools

import (
	"strings"
	"sync"
)

// Tail keeps the end of what is written to it. It may be used side by side.
type Tail struct {
	most int
	mu   sync.Mutex
	b    []byte
}

// NewTail gives one that keeps so many bytes at the most.
func NewTail(most int) *Tail { return &Tail{most: most} }

// Write takes more; it never fails.
func (t *Tail) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.b = append(t.b, p...); len(t.b) > t.most {
		t.b = t.b[len(t.b)-t.most:]
	}
	return len(p), nil
}

// String gives what is kept, as a text.
func (t *Tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return strings.ToValidUTF8(string(t.b), "�")
}

// Take gives what is kept, and begins anew.
func (t *Tail) Take() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	s := strings.ToValidUTF8(string(t.b), "�")
	t.b = nil
	return s
}
