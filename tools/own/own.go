// Package own carries tools out that are functions of the program itself, brought
// in through package kit.
package own

import (
	"context"
	"errors"
	"fmt"

	"stonebaton/core/ledger"
	"stonebaton/core/loop"
	"stonebaton/engine"
)

// Tool is a function with the document that describes it.
type Tool struct {
	Name     string
	Document string // a tool document of a project, with go: true
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
func (h Handler) Call(ctx context.Context, i engine.Invocation) (r loop.Result, bad *loop.Failure) {
	t, ok := h[i.Tool.Name]
	sent := &ledger.Sent{Method: "GO", URL: i.Tool.Name}
	fail := func(o ledger.Outcome, class, format string, args ...any) (loop.Result, *loop.Failure) {
		return loop.Result{}, &loop.Failure{Outcome: o, Class: class, Say: fmt.Sprintf(format, args...), Sent: sent}
	}
	if !ok {
		return fail(ledger.NotDone, "config", "this program has no function for %s; it was built without it", i.Tool.Name)
	}
	defer func() {
		if x := recover(); x != nil {
			r, bad = fail(ledger.Unknown, "panic", "%s broke down: %v", i.Tool.Name, x)
		}
	}()
	v, err := t.Call(ctx, i.Args)
	var refusal *Refusal
	switch {
	case errors.As(err, &refusal):
		return fail(ledger.NotDone, "refused", "%s", refusal.Say)
	case ctx.Err() != nil && err != nil:
		return fail(ledger.Unknown, "timeout", "%s had not ended after %s", i.Tool.Name, i.Tool.Timeout)
	case err != nil:
		return fail(ledger.Unknown, "go", "%v", err)
	}
	return loop.Result{Value: v, Sent: sent}, nil
}
