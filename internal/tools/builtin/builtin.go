// Package builtin carries tools out that ship with the program: files in granted
// folders, exact reckoning, the state's facts, an outbox of messages, and pages
// of the web as text.
package builtin

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/internal/tools"
	"stonebaton.example/internal/tools/web"
)

// Handler carries builtins out for the project in a folder.
type Handler struct {
	dir     string
	records tools.Records
	client  *web.Client
	writing sync.Mutex // one change of files at a time
}

// New gives a handler for the project in dir.
func New(dir string, r tools.Records, c *web.Client) *Handler {
	return &Handler{dir: dir, records: r, client: c}
}

// Rehearsal gives a handler whose outbox and changes are of its own, and are not kept.
func (h *Handler) Rehearsal() tools.Handler { return New(h.dir, &tools.Memory{}, h.client) }

// Call carries a call out.
func (h *Handler) Call(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
	args, _ := i.Args.(map[string]any)
	c := call{Handler: h, ctx: ctx, i: i, args: args, spec: i.Tool.Work.Spec.(*Builtin)}
	switch do := c.spec.Do; {
	case strings.HasPrefix(do, "files."):
		return c.files(strings.TrimPrefix(do, "files."))
	case do == "calc":
		return c.calc()
	case do == "state.read":
		facts := map[string]any{}
		for _, f := range c.spec.Facts {
			if v, ok := i.Facts[f]; ok {
				facts[f] = v
			}
		}
		return deed.Result{Value: facts}, nil
	case do == "state.set":
		return deed.Result{Value: args}, nil
	case do == "outbox.send":
		m, err := h.records.Send(ctx, i.Key, tools.Message{At: time.Now().UTC(), Run: i.Run, Tool: i.Tool.Name, To: c.text("to"), Subject: c.text("subject"), Text: c.text("text")})
		if err != nil {
			return c.fail(ledger.Unknown, "outbox", "the message could not be kept: %v", err)
		}
		return deed.Result{Value: map[string]any{"id": m.ID, "to": m.To}, Sent: &ledger.Sent{Method: "OUTBOX", URL: m.ID + " to " + m.To, Body: m.Text}}, nil
	case do == "outbox.list":
		list, err := h.records.Messages(ctx, c.text("to"))
		if err != nil {
			return c.fail(ledger.NotDone, "outbox", "the outbox cannot be read: %v", err)
		}
		out := []any{}
		for _, m := range list {
			out = append(out, map[string]any{"id": m.ID, "at": m.At.Format(time.RFC3339), "to": m.To, "subject": m.Subject, "text": m.Text})
		}
		return deed.Result{Value: out}, nil
	case do == "page":
		return c.page()
	}
	return c.fail(ledger.NotDone, "config", "unknown builtin %q", c.spec.Do)
}

// call is one call under way.
type call struct {
	*Handler
	ctx  context.Context
	i    deed.Invocation
	args map[string]any
	spec *Builtin
}

func (c call) text(name string) string { s, _ := c.args[name].(string); return s }

func (c call) number(name string) int { f, _ := c.args[name].(float64); return int(f) }

func (c call) fail(o ledger.Outcome, class deed.Class, format string, args ...any) (deed.Result, *deed.Failure) {
	return deed.Result{}, &deed.Failure{Outcome: o, Class: class, Say: fmt.Sprintf(format, args...)}
}

func (c call) refuse(format string, args ...any) (deed.Result, *deed.Failure) {
	return c.fail(ledger.NotDone, "refused", format, args...)
}
