// Package own carries tools out that are functions of the program itself, brought
// in through package mason.
package own

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/tools"
)

// Tool is a function with the document that describes it.
type Tool struct {
	Name     string
	Document string        // a tool document of a project, with go: true
	Place    project.Place // where the program makes a tool of it
	Call     func(ctx context.Context, args any) (any, error)
}

// Refusal is an error that says that nothing was done.
type Refusal struct{ Say string }

func (r *Refusal) Error() string { return r.Say }

// Handler calls functions by the names of their tools.
type Handler map[string]Tool

// New gives a handler for some functions.
func New(list []Tool) Handler {
	h := Handler{}
	for _, t := range list {
		h[t.Name] = t
	}
	return h
}

// Call calls the function of a tool. One that panics has failed.
func (h Handler) Call(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
	t, ok := h[i.Tool.Name]
	sent := &ledger.Sent{Method: "GO", URL: i.Tool.Name}
	fail := func(o ledger.Outcome, class deed.Class, format string, args ...any) (deed.Result, *deed.Failure) {
		return deed.Result{}, &deed.Failure{Outcome: o, Class: class, Say: fmt.Sprintf(format, args...), Sent: sent}
	}
	if !ok {
		return fail(ledger.NotDone, "config", "this program has no function for %s; it was built without it", i.Tool.Name)
	}
	l := &logbook{tell: i.Logs()}
	type end struct {
		v        any
		err      error
		panicked any
	}
	ended := make(chan end, 1)
	go func() {
		var e end
		defer func() {
			e.panicked = recover()
			ended <- e
		}()
		e.v, e.err = t.Call(context.WithValue(ctx, logKey{}, l), i.Args)
	}()
	var e end
	select {
	case e = <-ended:
	case <-ctx.Done(): // a function that does not look at its context is left behind
		e.err = ctx.Err()
	}
	sent.Log = l.String()
	var refusal *Refusal
	switch {
	case e.panicked != nil:
		return fail(ledger.Unknown, "panic", "%s panicked: %v", i.Tool.Name, e.panicked)
	case errors.As(e.err, &refusal):
		return fail(ledger.NotDone, "refused", "%s", refusal.Say)
	case ctx.Err() != nil && e.err != nil:
		return fail(ledger.Unknown, "timeout", "%s had not ended after %s", i.Tool.Name, i.Tool.Timeout)
	case e.err != nil:
		return fail(ledger.Unknown, "go", "%v", e.err)
	}
	return deed.Result{Value: e.v, Sent: sent, Files: l.taken()}, nil
}

type logKey struct{}

// logbook is the log of one call.
type logbook struct {
	tell io.Writer

	mu    sync.Mutex
	b     strings.Builder
	media tools.Media
}

func (l *logbook) taken() []deed.File {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.media.Files
}

// Attach adds a file to the result of the call that ctx belongs to, and gives what stands for
// it in the result. Elsewhere it does nothing, and gives nil.
func Attach(ctx context.Context, name, typ string, body []byte) map[string]any {
	l, ok := ctx.Value(logKey{}).(*logbook)
	if !ok {
		return nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.media.Add("file", typ, name, body)
}

// maxLog bounds the log of a call.
const maxLog = 16 << 10

func (l *logbook) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// Log writes a line into the log of the call that ctx belongs to. Elsewhere it does
// nothing.
func Log(ctx context.Context, line string) {
	l, ok := ctx.Value(logKey{}).(*logbook)
	if !ok {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.b.Len() < maxLog {
		fmt.Fprintln(&l.b, tools.Clip(line, maxLog))
	}
	fmt.Fprintln(l.tell, line)
}
