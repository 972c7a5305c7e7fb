// Package tools carries tool calls out: it picks the stub or the handler and
// hands the call to it. Each kind of handler lives in a folder of its own.
package tools

import (
	"context"
	"fmt"
	"strings"

	"stonebaton/core/ledger"
	"stonebaton/core/loop"
	"stonebaton/engine"
)

// Handler carries out the calls of one kind of tool.
type Handler interface {
	Call(ctx context.Context, i engine.Invocation) (loop.Result, *loop.Failure)
}

// Set is an engine.Tools made of handlers by kind: "script", "http".
type Set map[string]Handler

// Call carries a call out. A tool whose calls go to stubs but that has none is
// refused, unless it is a script: a script reaches nothing outside.
func (s Set) Call(ctx context.Context, i engine.Invocation) (loop.Result, *loop.Failure) {
	kind := i.Tool.Handler()
	if kind == "stub" || (i.Stub && (len(i.Tool.Stubs) > 0 || kind != "script")) {
		return stub(i)
	}
	h := s[kind]
	if h == nil {
		return loop.Result{}, &loop.Failure{Outcome: ledger.NotDone, Class: "config", Say: fmt.Sprintf("this program has no handler of the kind %q", kind)}
	}
	return h.Call(ctx, i)
}

func stub(i engine.Invocation) (loop.Result, *loop.Failure) {
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
		if s.Fails != nil {
			say, err := s.Fails.Fill(i.Vars)
			if err != nil {
				return bad("config", "stub %d of %s cannot be filled in: %v", n+1, i.Tool.Name, err)
			}
			return bad("refused", "%s", say)
		}
		v, err := s.Returns.Fill(i.Vars)
		if err != nil {
			return bad("config", "stub %d of %s cannot be filled in: %v", n+1, i.Tool.Name, err)
		}
		return loop.Result{Value: Plain(v), Sent: &ledger.Sent{Method: "STUB", URL: fmt.Sprintf("stub %d of %s", n+1, i.Tool.Name)}}, nil
	}
	if len(i.Tool.Stubs) == 0 {
		return bad("config", "%s has no stubs: add stubs: to %s", i.Tool.Name, i.Tool.Place.File)
	}
	return bad("config", "no stub of %s fits these arguments: add one to %s, perhaps one with no when: at the end", i.Tool.Name, i.Tool.Place.File)
}

// Plain gives a value of expressions as encoding/json has it: whole numbers as float64.
func Plain(v any) any {
	switch x := v.(type) {
	case int64:
		return float64(x)
	case []any:
		out := make([]any, len(x))
		for i := range x {
			out[i] = Plain(x[i])
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(x))
		for k, e := range x {
			out[k] = Plain(e)
		}
		return out
	}
	return v
}

// Clip gives the head of a text for a record.
func Clip(s string, n int) string {
	if len(s) <= n {
		return s
	}
	return strings.ToValidUTF8(s[:n], "") + fmt.Sprintf("… (%d bytes in all)", len(s))
}
