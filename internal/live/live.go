// Package live tells whoever looks on what was committed, and the words of a
// turn as they come. It is lossy on purpose: a reader that is too slow is told
// that it has missed something and reads the ledger.
package live

import (
	"sync"

	"stonebaton.example/core/ledger"
)

// depth is how many notes a reader may be behind before it misses one.
const depth = 256

// Note is one thing that happened: events, or a piece of a turn's words, or
// with neither, something missed.
type Note struct {
	Run    string
	Events []ledger.Event
	Step   ledger.StepID // of Text
	Text   string
	Topic  string // something else that changed: "project", "drills"
	// Trouble keeps the run from going on for now.
	Trouble string
}

// Hub passes notes on. The zero value is ready.
type Hub struct {
	mu  sync.RWMutex
	run map[string]map[*Reader]bool
	all map[*Reader]bool

	troubles map[string]string // of the runs that have some
}

// Reader gets the notes of one run, or of all.
type Reader struct {
	C      <-chan Note
	c      chan Note
	mu     sync.Mutex
	missed bool
	close  func()
}

// Close ends the reading.
func (r *Reader) Close() { r.close() }

// Missed says whether notes were lost since it was last asked.
func (r *Reader) Missed() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	m := r.missed
	r.missed = false
	return m
}

func (r *Reader) put(n Note) {
	select {
	case r.c <- n:
	default:
		r.mu.Lock()
		r.missed = true
		r.mu.Unlock()
	}
}

// Read begins to read the notes of a run; "" is all runs and topics, without words.
func (h *Hub) Read(run string) *Reader {
	c := make(chan Note, depth)
	r := &Reader{C: c, c: c}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.all == nil {
		h.all, h.run = map[*Reader]bool{}, map[string]map[*Reader]bool{}
	}
	if run == "" {
		h.all[r] = true
		r.close = func() { h.mu.Lock(); delete(h.all, r); h.mu.Unlock() }
		return r
	}
	if h.run[run] == nil {
		h.run[run] = map[*Reader]bool{}
	}
	h.run[run][r] = true
	if say := h.troubles[run]; say != "" {
		r.put(Note{Run: run, Trouble: say})
	}
	r.close = func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.run[run], r)
		if len(h.run[run]) == 0 {
			delete(h.run, run)
		}
	}
	return r
}

// Committed passes events on that are on disk.
func (h *Hub) Committed(run string, events []ledger.Event) {
	h.send(Note{Run: run, Events: events}, true)
}

// Delta passes a piece of a turn's words on.
func (h *Hub) Delta(run string, step ledger.StepID, text string) {
	h.send(Note{Run: run, Step: step, Text: text}, false)
}

// Trouble passes on what keeps a run from going on for now; "" ends it. Who begins to read
// the run's notes meanwhile is told too.
func (h *Hub) Trouble(run, say string) {
	h.mu.Lock()
	if h.troubles == nil {
		h.troubles = map[string]string{}
	}
	if h.troubles[run] = say; say == "" {
		delete(h.troubles, run)
	}
	h.mu.Unlock()
	h.send(Note{Run: run, Trouble: say}, false)
}

// Changed tells the readers of everything that a topic changed.
func (h *Hub) Changed(topic string) { h.send(Note{Topic: topic}, true) }

func (h *Hub) send(n Note, all bool) {
	h.mu.RLock()
	defer h.mu.RUnlock()
	for r := range h.run[n.Run] {
		r.put(n)
	}
	if all {
		for r := range h.all {
			r.put(n)
		}
	}
}
