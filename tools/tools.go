// Package tools carries tool calls out: it picks the stub or the handler and
// hands the call to it. Each kind of handler lives in a folder of its own.
package tools

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"stonebaton/core/ledger"
	"stonebaton/core/loop"
	"stonebaton/core/project"
	"stonebaton/core/value"
	"stonebaton/engine"
)

// Handler carries out the calls of one kind of tool.
type Handler interface {
	Call(ctx context.Context, i engine.Invocation) (loop.Result, *loop.Failure)
}

// Set is an engine.Tools made of handlers by kind: "script", "http". It keeps the
// rates and the results that tools allow to be kept.
type Set struct {
	handlers map[string]Handler
	rates    rates
	kept     kept
}

// NewSet gives a set of handlers.
func NewSet(handlers map[string]Handler) *Set { return &Set{handlers: handlers} }

// Call carries a call out. A tool whose calls go to stubs but that has none is
// refused, unless its handler reaches nothing outside.
func (s *Set) Call(ctx context.Context, i engine.Invocation) (loop.Result, *loop.Failure) {
	kind := i.Tool.Handler()
	if kind == "stub" || (i.Stub && (len(i.Tool.Stubs) > 0 || !i.Tool.Inward())) {
		return stub(ctx, i)
	}
	h := s.handlers[kind]
	if h == nil {
		return loop.Result{}, &loop.Failure{Outcome: ledger.NotDone, Class: "config", Say: fmt.Sprintf("this program has no handler of the kind %q", kind)}
	}
	now := time.Now()
	if r, ok := s.kept.get(i, now); ok {
		return r, nil
	}
	if wait := s.rates.wait(i.Tool, now); wait > 0 {
		return loop.Result{}, &loop.Failure{Outcome: ledger.NotDone, Class: "rate", Retry: true, After: wait,
			Say: fmt.Sprintf("%s may be called %d times in a minute, and has been; the next call can be made in %s", i.Tool.Name, i.Tool.PerMinute, wait.Round(time.Second))}
	}
	r, bad := safely(ctx, h, i)
	if bad == nil {
		s.kept.put(i, r, now)
	}
	return r, bad
}

// safely makes a mistake of ours within one call the failure of that call alone.
func safely(ctx context.Context, h Handler, i engine.Invocation) (r loop.Result, bad *loop.Failure) {
	defer func() {
		if x := recover(); x != nil {
			slog.Error("a tool broke down", "tool", i.Tool.Name, "panic", x, "stack", string(debug.Stack()))
			r, bad = loop.Result{}, &loop.Failure{Outcome: ledger.Unknown, Class: "panic", Say: fmt.Sprintf("%s broke down: %v", i.Tool.Name, x)}
		}
	}()
	return h.Call(ctx, i)
}

func stub(ctx context.Context, i engine.Invocation) (loop.Result, *loop.Failure) {
	bad := func(class, format string, args ...any) (loop.Result, *loop.Failure) {
		return loop.Result{}, &loop.Failure{Outcome: ledger.NotDone, Class: class, Say: fmt.Sprintf(format, args...)}
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
				return loop.Result{}, late
			}
		}
		sent := &ledger.Sent{Method: "STUB", URL: fmt.Sprintf("stub %d of %s", n+1, i.Tool.Name)}
		if s.Fails != nil {
			say, err := s.Fails.Fill(i.Vars)
			if err != nil {
				return bad("config", "stub %d of %s cannot be filled in: %v", n+1, i.Tool.Name, err)
			}
			again := slices.Contains([]string{"rate", "server", "cut", "timeout", "unreachable"}, s.Class) // what may pass
			return loop.Result{}, &loop.Failure{Outcome: s.Outcome, Class: s.Class, Say: say, Status: s.Status, Retry: again, Sent: sent}
		}
		v, err := s.Returns.Fill(i.Vars)
		if err != nil {
			return bad("config", "stub %d of %s cannot be filled in: %v", n+1, i.Tool.Name, err)
		}
		return loop.Result{Value: value.Plain(v), Sent: sent}, nil
	}
	if len(i.Tool.Stubs) == 0 {
		return bad("config", "%s has no stubs: add stubs: to %s, or make one on the bench", i.Tool.Name, i.Tool.Place.File)
	}
	return bad("config", "no stub of %s fits these arguments: add one to %s, perhaps one with no when: at the end", i.Tool.Name, i.Tool.Place.File)
}

// pause waits as long as a stub says; a wait beyond the tool's time is the
// failure that a slow service would be.
func pause(ctx context.Context, i engine.Invocation, wait time.Duration) *loop.Failure {
	late := &loop.Failure{Outcome: ledger.Unknown, Class: "timeout", Retry: true, Say: fmt.Sprintf("%s did not answer in time (%s)", i.Tool.Name, i.Tool.Timeout)}
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

// rates counts the calls of the last minute of each tool that has a rate.
type rates struct {
	mu    sync.Mutex
	calls map[string][]time.Time
}

// wait counts a call, or says how long it has to wait.
func (r *rates) wait(t *project.Tool, now time.Time) time.Duration {
	if t.PerMinute == 0 {
		return 0
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.calls == nil {
		r.calls = map[string][]time.Time{}
	}
	list := r.calls[t.Name]
	for len(list) > 0 && now.Sub(list[0]) >= time.Minute {
		list = list[1:]
	}
	if len(list) >= t.PerMinute {
		r.calls[t.Name] = list
		return time.Minute - now.Sub(list[len(list)-t.PerMinute])
	}
	r.calls[t.Name] = append(list, now)
	return 0
}

// kept holds results of reads for as long as their tools allow.
type kept struct {
	mu      sync.Mutex
	results map[string]keptResult
}

type keptResult struct {
	result loop.Result
	at     time.Time
	until  time.Time
}

// maxKept bounds how many results are held; what ends first goes first.
const maxKept = 1000

func keyOf(i engine.Invocation) string {
	raw, err := json.Marshal([]any{i.Project.Version, i.Tool.Name, i.Args, i.Facts})
	if err != nil {
		return ""
	}
	return string(ledger.HashOf(raw))
}

func (k *kept) get(i engine.Invocation, now time.Time) (loop.Result, bool) {
	if i.Tool.Cache == 0 {
		return loop.Result{}, false
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	x, ok := k.results[keyOf(i)]
	if !ok || !now.Before(x.until) {
		return loop.Result{}, false
	}
	r := x.result
	r.Sent = &ledger.Sent{Method: "CACHE", URL: fmt.Sprintf("the result of %s, kept for %s", x.at.Format("15:04:05"), i.Tool.Cache)}
	return r, true
}

func (k *kept) put(i engine.Invocation, r loop.Result, now time.Time) {
	if i.Tool.Cache == 0 {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.results == nil {
		k.results = map[string]keptResult{}
	}
	if len(k.results) >= maxKept {
		first, end := "", time.Time{}
		for key, x := range k.results {
			if first == "" || x.until.Before(end) {
				first, end = key, x.until
			}
		}
		delete(k.results, first)
	}
	k.results[keyOf(i)] = keptResult{r, now, now.Add(i.Tool.Cache)}
}

// Clip gives the head of a text for a record.
func Clip(s string, n int) string {
	if len(s) <= n {
		return s
	}
	return strings.ToValidUTF8(s[:n], "") + fmt.Sprintf("… (%d bytes in all)", len(s))
}
