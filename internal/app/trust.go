package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/store"
)

// trust decides what may run outside the sandbox. What the files name when a service
// starts may: the person who started it has them before their eyes. What appears later
// waits until a person has confirmed it, also over the next start.
type trust struct {
	store *store.Store
	all   bool // everything may

	mu      sync.Mutex
	opening bool // the files are read for the first time
	known   map[ledger.Hash]bool
	waiting map[ledger.Hash]project.Outside
}

func newTrust(ctx context.Context, st *store.Store, all bool) (*trust, error) {
	known, err := st.Trusted(ctx)
	return &trust{store: st, all: all, opening: true, known: known, waiting: map[ledger.Hash]project.Outside{}}, err
}

// opened ends the time in which what is new may run.
func (t *trust) opened() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.opening = false
}

// allows says whether something may run now; what may not then waits for a person.
func (t *trust) allows(o project.Outside) bool {
	if t == nil || t.all {
		return true
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	yes, known := t.known[o.ID]
	if !known {
		yes = t.opening
		t.known[o.ID] = yes
		if !yes {
			// without the record the next start would let it run: then it is not known, and asked again
			if err := t.store.SetTrust(context.Background(), o.ID, o.Say, ""); err != nil {
				delete(t.known, o.ID)
			}
		}
	}
	if !yes {
		t.waiting[o.ID] = o
	}
	return yes
}

// list gives what waits for a person.
func (t *trust) list() []project.Outside {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := []project.Outside{}
	for _, o := range t.waiting {
		out = append(out, o)
	}
	slices.SortFunc(out, func(a, b project.Outside) int {
		return strings.Compare(a.Kind+" "+a.Name+string(a.ID), b.Kind+" "+b.Name+string(b.ID))
	})
	return out
}

// keep forgets what waits and is not among those that the files name now.
func (t *trust) keep(now []project.Outside) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for id := range t.waiting {
		if !slices.ContainsFunc(now, func(o project.Outside) bool { return o.ID == id }) {
			delete(t.waiting, id)
		}
	}
}

// ErrNotWaiting says that nothing of an id waits to be confirmed.
var ErrNotWaiting = errors.New("nothing of this id waits to be confirmed")

// confirm lets something run.
func (t *trust) confirm(ctx context.Context, id ledger.Hash, by string) (project.Outside, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	o, ok := t.waiting[id]
	if !ok {
		return o, ErrNotWaiting
	}
	if err := t.store.SetTrust(ctx, id, o.Say, by); err != nil {
		return o, err
	}
	t.known[id] = true
	delete(t.waiting, id)
	return o, nil
}

// waits says that something does not run before a person has confirmed it.
func waits(o project.Outside) string {
	return fmt.Sprintf("the %s %s %s; it appeared while the service runs, and waits until a person confirms it", o.Kind, o.Name, o.Say)
}

const confirmIt = "Look at it, then `stonebaton trust` or the console's project page confirms it; `serve -trust` confirms all."

// hold says why a call is not carried out: what it runs outside the sandbox is not trusted.
func (t *trust) hold(i deed.Invocation) *deed.Failure {
	o, is := i.Tool.Outside()
	if !is && i.Tool.Remote != nil && i.Tool.Remote.Source != nil {
		o, is = i.Tool.Remote.Source.Outside()
	}
	if is && !t.allows(o) {
		return &deed.Failure{Outcome: ledger.NotDone, Class: "trust", Say: waits(o) + ". " + confirmIt}
	}
	return nil
}
