// Package tools carries tool calls out: it picks the stub or the handler and
// hands the call to it. Each kind of handler lives in a folder of its own.
package tools

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jellydator/ttlcache/v3"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/value"
)

// Handler carries out the calls of one kind of tool. Call may be called side by side.
type Handler interface {
	Call(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure)
}

// Looker is a Handler that can tell what a call would do, without doing it.
type Looker interface {
	Look(ctx context.Context, i deed.Invocation) (diff string, bad *deed.Failure)
}

// Checker is a Handler that can tell what keeps a tool from being called on this machine.
type Checker interface {
	Check(ctx context.Context, t *project.Tool) error
}

// Undoer is a Handler that can undo what a call did, by its key. A nil error means that it
// is undone.
type Undoer interface {
	Undo(ctx context.Context, key string) (Change, error)
}

// Rehearser is a Handler that keeps something, and has one beside it that keeps nothing.
type Rehearser interface {
	Rehearsal() Handler
}

// Set is an engine.Tools made of handlers by kind: "script", "http". It keeps the
// rates and the results that tools allow to be kept.
type Set struct {
	handlers map[string]Handler
	allow    func(deed.Invocation) *deed.Failure
	keeper   Keeper
	rates    rates
	kept     *ttlcache.Cache[string, kept]
}

// maxKept bounds how many results are held; what was used longest ago goes first.
const maxKept = 1000

// NewSet gives a set of handlers. Allow says why a handler must not be called; nil allows
// all. Keeper keeps the files of results; nil keeps none.
func NewSet(handlers map[string]Handler, allow func(deed.Invocation) *deed.Failure, keeper Keeper) *Set {
	if keeper == nil {
		keeper = forgetful
	}
	return &Set{handlers: handlers, allow: allow, keeper: keeper, kept: ttlcache.New(ttlcache.WithCapacity[string, kept](maxKept), ttlcache.WithDisableTouchOnHit[string, kept]())}
}

// Call carries a call out. A tool whose calls go to stubs but that has none is
// refused, unless its handler reaches nothing outside.
func (s *Set) Call(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
	kind := i.Tool.Handler()
	if kind == "stub" || (i.Stub && (len(i.Tool.Stubs) > 0 || !i.Tool.Work.Inward)) {
		return stub(ctx, i)
	}
	h := s.handlers[kind]
	if h == nil {
		return deed.Result{}, &deed.Failure{Outcome: ledger.NotDone, Class: "config", Say: fmt.Sprintf("this program has no handler of the kind %q", kind)}
	}
	if r, ok := s.recall(i); ok {
		return r, nil
	}
	if wait := s.rates.wait(i.Tool); wait > 0 {
		return deed.Result{}, &deed.Failure{Outcome: ledger.NotDone, Class: "rate", Retry: true, After: wait,
			Say: fmt.Sprintf("%s may be called %s, and has been; the next call can be made in %s", i.Tool.Name, i.Tool.Rate, wait.Round(time.Second))}
	}
	if s.allow != nil {
		if bad := s.allow(i); bad != nil {
			return deed.Result{}, bad
		}
	}
	i.File = s.keeper.File
	r, bad := safely(ctx, h, i)
	if bad == nil {
		keep(ctx, s.keeper, &r)
	}
	if bad == nil && i.Tool.Cache > 0 {
		s.kept.Set(keyOf(i), kept{r, time.Now()}, i.Tool.Cache)
	}
	return r, bad
}

// Look tells what a call would do. A tool whose handler cannot be looked at shows nothing.
func (s *Set) Look(ctx context.Context, i deed.Invocation) (string, *deed.Failure) {
	if l, ok := s.handlers[i.Tool.Handler()].(Looker); ok {
		return l.Look(ctx, i)
	}
	return "", nil
}

// Check says what keeps a tool from being called on this machine.
func (s *Set) Check(ctx context.Context, t *project.Tool) error {
	if c, ok := s.handlers[t.Handler()].(Checker); ok {
		return c.Check(ctx, t)
	}
	return nil
}

// Undo undoes what the call with a key did.
func (s *Set) Undo(ctx context.Context, key string) (Change, error) {
	var err error = ErrNoChange
	for _, h := range s.handlers {
		u, ok := h.(Undoer)
		if !ok {
			continue
		}
		ch, e := u.Undo(ctx, key)
		if !errors.Is(e, ErrNoChange) {
			return ch, e
		}
	}
	return Change{}, err
}

// Rehearsal gives a set whose calls keep nothing.
func (s *Set) Rehearsal() *Set {
	handlers := maps.Clone(s.handlers)
	for kind, h := range handlers {
		if r, ok := h.(Rehearser); ok {
			handlers[kind] = r.Rehearsal()
		}
	}
	return NewSet(handlers, s.allow, nil)
}

// Close ends what handlers hold open.
func (s *Set) Close() error {
	var err error
	for _, h := range s.handlers {
		if c, ok := h.(io.Closer); ok {
			err = errors.Join(err, c.Close())
		}
	}
	return err
}

// safely makes a panic within one call the failure of that call alone. Where it
// happened stands in the log of the call.
func safely(ctx context.Context, h Handler, i deed.Invocation) (r deed.Result, bad *deed.Failure) {
	defer func() {
		if x := recover(); x != nil {
			r, bad = deed.Result{}, &deed.Failure{Outcome: ledger.Unknown, Class: "panic", Say: fmt.Sprintf("%s panicked: %v", i.Tool.Name, x),
				Sent: &ledger.Sent{Method: "PANIC", Log: Clip(string(debug.Stack()), 8<<10)}}
		}
	}()
	return h.Call(ctx, i)
}

func stub(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
	bad := func(class deed.Class, format string, args ...any) (deed.Result, *deed.Failure) {
		return deed.Result{}, &deed.Failure{Outcome: ledger.NotDone, Class: class, Say: fmt.Sprintf(format, args...)}
	}
	for n, s := range i.Tool.Stubs {
		if s.When != nil {
			yes, err := s.When.True(i.Vars)
			if err != nil {
				return bad("config", "the condition of stub %d of %s cannot be evaluated: %v", n+1, i.Tool.Name, err)
			}
			if !yes {
				continue
			}
		}
		if s.After > 0 {
			if late := pause(ctx, i, s.After); late != nil {
				return deed.Result{}, late
			}
		}
		sent := &ledger.Sent{Method: "STUB", URL: fmt.Sprintf("stub %d of %s", n+1, i.Tool.Name)}
		if s.Fails != nil {
			say, err := s.Fails.Fill(i.Vars)
			if err != nil {
				return bad("config", "stub %d of %s cannot be filled in: %v", n+1, i.Tool.Name, err)
			}
			again := slices.Contains([]string{"rate", "server", "cut", "timeout", "unreachable"}, s.Class) // what may pass
			return deed.Result{}, &deed.Failure{Outcome: s.Outcome, Class: deed.Class(s.Class), Say: say, Status: s.Status, Retry: again, Sent: sent}
		}
		v, err := s.Returns.Fill(i.Vars)
		if err != nil {
			return bad("config", "stub %d of %s cannot be filled in: %v", n+1, i.Tool.Name, err)
		}
		return deed.Result{Value: value.Plain(v), Sent: sent}, nil
	}
	if len(i.Tool.Stubs) == 0 {
		return bad("config", "%s has no stubs: add stubs: to %s, or make one on the bench", i.Tool.Name, i.Tool.Place.File)
	}
	return bad("config", "no stub of %s fits these arguments: add one to %s, perhaps one with no when: at the end", i.Tool.Name, i.Tool.Place.File)
}

// pause waits as long as a stub says; a wait beyond the tool's time is the
// failure that a slow service would be.
func pause(ctx context.Context, i deed.Invocation, wait time.Duration) *deed.Failure {
	late := &deed.Failure{Outcome: ledger.Unknown, Class: "timeout", Retry: true, Say: fmt.Sprintf("%s did not answer in time (%s)", i.Tool.Name, i.Tool.Timeout)}
	if i.Pause != nil {
		if wait > i.Tool.Timeout {
			wait = i.Tool.Timeout
			_ = i.Pause(ctx, wait) // how it ended makes no difference: it is late
			return late
		}
		if i.Pause(ctx, wait) != nil {
			return late
		}
		return nil
	}
	t := time.NewTimer(wait)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return late
	}
}

// rates holds back the calls of tools that have a rate. It counts from when the program started.
type rates struct {
	mu     sync.Mutex
	counts map[string]*limits // by the name of a tool, or that under which several share one count
}

type limits struct {
	of  project.Rate
	all []*window
}

// wait counts a call, or says how long it has to wait.
func (r *rates) wait(t *project.Tool) time.Duration {
	if t.Rate.None() {
		return 0
	}
	key := "tool " + t.Name
	if t.Rate.Shared != "" {
		key = "shared " + t.Rate.Shared
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.counts == nil {
		r.counts = map[string]*limits{}
	}
	l := r.counts[key]
	if l == nil || l.of != t.Rate { // the files may have changed
		l = &limits{of: t.Rate}
		for span, n := range map[time.Duration]int{time.Second: t.Rate.PerSecond, time.Minute: t.Rate.PerMinute, 24 * time.Hour: t.Rate.PerDay} {
			if n > 0 {
				l.all = append(l.all, &window{most: n, span: span})
			}
		}
		r.counts[key] = l
	}
	now, longest := time.Now(), time.Duration(0)
	for _, w := range l.all {
		longest = max(longest, w.wait(now))
	}
	if longest == 0 {
		for _, w := range l.all {
			w.count(now)
		}
	}
	return longest
}

// window holds back what is more than so many calls in any span of so long.
type window struct {
	most  int
	span  time.Duration
	calls []time.Time // the last ones; the oldest is at next, once there are so many
	next  int
}

func (w *window) wait(now time.Time) time.Duration {
	if len(w.calls) < w.most {
		return 0
	}
	return max(0, w.calls[w.next].Add(w.span).Sub(now))
}

func (w *window) count(now time.Time) {
	if len(w.calls) < w.most {
		w.calls = append(w.calls, now)
		return
	}
	w.calls[w.next] = now
	w.next = (w.next + 1) % w.most
}

// kept is a result that a tool allows to be kept, and when it came.
type kept struct {
	result deed.Result
	at     time.Time
}

// keyOf is of all that a call is made of: what one person was given is not given to another,
// unless the tool says that it is the same for all.
func keyOf(i deed.Invocation) string {
	var of any
	if !i.Tool.Shared {
		of = []any{i.Person, i.Vars["person"]}
	}
	raw, err := json.Marshal([]any{i.Project.Version, i.Tool.Name, i.Stub, i.Args, i.Facts, of})
	if err != nil {
		return ""
	}
	return string(ledger.HashOf(raw))
}

func (s *Set) recall(i deed.Invocation) (deed.Result, bool) {
	if i.Tool.Cache == 0 {
		return deed.Result{}, false
	}
	x := s.kept.Get(keyOf(i))
	if x == nil {
		return deed.Result{}, false
	}
	r := x.Value().result
	var files []ledger.File
	if r.Sent != nil {
		files = r.Sent.Files
	}
	r.Sent = &ledger.Sent{Method: deed.FromCache, URL: fmt.Sprintf("the result of %s, kept for %s", x.Value().at.Format("15:04:05"), i.Tool.Cache), Files: files}
	return r, true
}

// Straight says whether a folder of a project is reached without a link: what a tool may
// write to by one name must not be part of the project by another.
func Straight(dir, name string) bool {
	top, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return false
	}
	real, err := filepath.EvalSymlinks(filepath.Join(top, name))
	return err != nil || real == filepath.Join(top, name) // what is not there is told elsewhere
}

// Clip gives the head of a text for a record.
func Clip(s string, n int) string {
	if len(s) <= n {
		return s
	}
	return strings.ToValidUTF8(s[:n], "") + fmt.Sprintf("… (%d bytes in all)", len(s))
}

// Quote gives an argument as a shell has to read it.
func Quote(a string) string {
	if a != "" && !strings.ContainsAny(a, " \t\n\"'\\$`*?[]{}()<>|&;#~!") {
		return a
	}
	return "'" + strings.ReplaceAll(a, "'", `'\''`) + "'"
}
