// Package script carries tools out that are JavaScript: in process, with no way
// to anything outside but its arguments, with bounds on time and memory.
package script

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"runtime/metrics"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/dop251/goja"

	"stonebaton/core/ledger"
	"stonebaton/core/loop"
	"stonebaton/core/project"
	"stonebaton/engine"
	"stonebaton/tools"
)

// Bounds of one call.
const (
	maxHeap   = 256 << 20 // growth of the heap while a script runs
	maxDepth  = 2000      // nested calls
	maxResult = 4 << 20
	maxLog    = 16 << 10
)

// Handler runs scripts. The zero value is ready.
type Handler struct{ programs sync.Map }

const (
	head = "(function(args, state, person, today, now, log) { 'use strict';"
	tail = "\n})"
)

func compile(code string) (*goja.Program, error) { return goja.Compile("script", head+code+tail, true) }

var lineCol = regexp.MustCompile(`Line (\d+):(\d+) `)

// Check gives the problem of a script that cannot be compiled; nil where it can.
func Check(t *project.Tool) *project.Problem {
	_, err := compile(t.Script.Code)
	if err == nil {
		return nil
	}
	p := &project.Problem{Grade: project.Error, Place: t.Script.Place, Say: fmt.Sprintf("the script of %s cannot be compiled: %v", t.Name, err), Remedy: "It is the body of a function: use return for the result."}
	if m := lineCol.FindStringSubmatch(err.Error()); m != nil {
		line, _ := strconv.Atoi(m[1])
		p.Say = strings.Replace(p.Say, m[0], "", 1)
		if p.Line > 1 || strings.HasSuffix(p.File, ".yaml") {
			p.Line += line // the block begins on the line after its key
		} else {
			p.Line = line
		}
	}
	return p
}

// Call runs the script of a tool.
func (h *Handler) Call(ctx context.Context, i engine.Invocation) (loop.Result, *loop.Failure) {
	var logged strings.Builder
	fail := func(class, format string, args ...any) (loop.Result, *loop.Failure) {
		return loop.Result{}, &loop.Failure{Outcome: ledger.NotDone, Class: class, Say: fmt.Sprintf(format, args...), Sent: sent(&logged)}
	}
	prog, err := h.program(i.Tool.Script.Code)
	if err != nil {
		return fail("config", "the script cannot be compiled: %v", err)
	}
	vm := goja.New()
	vm.SetMaxCallStackSize(maxDepth)
	done := make(chan struct{})
	var watch sync.WaitGroup
	watch.Add(1)
	go func() { defer watch.Done(); guard(ctx, vm, done) }()
	value, err := run(vm, prog, i, &logged)
	close(done)
	watch.Wait()
	if err != nil {
		var stop *goja.InterruptedError
		var thrown *goja.Exception
		var deep *goja.StackOverflowError
		switch {
		case errors.As(err, &deep):
			return fail("script", "the call stack is deeper than %d: does it call itself without an end?", maxDepth)
		case errors.As(err, &stop):
			return fail("timeout", "%v", stop.Value())
		case errors.As(err, &thrown):
			return fail("script", "%s", said(thrown))
		}
		return fail("script", "%s", strings.TrimPrefix(err.Error(), "RangeError: "))
	}
	return loop.Result{Value: value, Sent: sent(&logged)}, nil
}

func sent(log *strings.Builder) *ledger.Sent {
	if log.Len() == 0 {
		return nil
	}
	return &ledger.Sent{Method: "SCRIPT", Log: log.String()}
}

// said gives the message of what a script threw, without its class or stack.
func said(e *goja.Exception) string {
	if o, ok := e.Value().(*goja.Object); ok {
		if m := o.Get("message"); m != nil && m.String() != "" {
			name := "Error"
			if n := o.Get("name"); n != nil {
				name = n.String()
			}
			if name != "Error" {
				return name + ": " + m.String()
			}
			return m.String()
		}
	}
	return e.Value().String()
}

func (h *Handler) program(code string) (*goja.Program, error) {
	if p, ok := h.programs.Load(code); ok {
		return p.(*goja.Program), nil
	}
	p, err := compile(code)
	if err == nil {
		h.programs.Store(code, p)
	}
	return p, err
}

func run(vm *goja.Runtime, prog *goja.Program, i engine.Invocation, logged *strings.Builder) (any, error) {
	f, err := vm.RunProgram(prog)
	if err != nil {
		return nil, err
	}
	call, ok := goja.AssertFunction(f)
	if !ok {
		return nil, errors.New("the script is not the body of a function")
	}
	parse, _ := goja.AssertFunction(vm.Get("JSON").ToObject(vm).Get("parse"))
	give := func(v any) (goja.Value, error) {
		raw, err := json.Marshal(v)
		if err != nil {
			return nil, err
		}
		return parse(goja.Undefined(), vm.ToValue(string(raw))) // the script gets copies of its own
	}
	var params []goja.Value
	for _, v := range []any{i.Args, i.Vars["state"], i.Vars["person"], i.Vars["today"], i.Vars["now"]} {
		p, err := give(v)
		if err != nil {
			return nil, err
		}
		params = append(params, p)
	}
	params = append(params, vm.ToValue(func(c goja.FunctionCall) goja.Value {
		for n, a := range c.Arguments {
			if n > 0 {
				logged.WriteByte(' ')
			}
			if logged.Len() < maxLog {
				logged.WriteString(tools.Clip(a.String(), maxLog))
			}
		}
		logged.WriteByte('\n')
		return goja.Undefined()
	}))
	out, err := call(goja.Undefined(), params...)
	if err != nil {
		return nil, err
	}
	if out == nil || goja.IsUndefined(out) || goja.IsNull(out) {
		return nil, nil
	}
	stringify, _ := goja.AssertFunction(vm.Get("JSON").ToObject(vm).Get("stringify"))
	text, err := stringify(goja.Undefined(), out)
	if err != nil {
		return nil, err
	}
	if goja.IsUndefined(text) {
		return nil, errors.New("the result is not JSON: return an object, a list, a text or a number")
	}
	if raw := text.String(); len(raw) > maxResult {
		return nil, fmt.Errorf("the result has %d bytes; %d are allowed", len(raw), maxResult)
	}
	var v any
	err = json.Unmarshal([]byte(text.String()), &v)
	return v, err
}

const heapMetric = "/memory/classes/heap/objects:bytes"

// guard interrupts a script that takes too long or grows too large.
func guard(ctx context.Context, vm *goja.Runtime, done <-chan struct{}) {
	sample := []metrics.Sample{{Name: heapMetric}}
	metrics.Read(sample)
	before := sample[0].Value.Uint64()
	began := time.Now()
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-done:
			return
		case <-ctx.Done():
			vm.Interrupt(fmt.Sprintf("the script had not ended after %s and was interrupted", time.Since(began).Round(time.Millisecond)))
			return
		case <-tick.C:
			metrics.Read(sample)
			if now := sample[0].Value.Uint64(); now > before+maxHeap {
				vm.Interrupt(fmt.Sprintf("the script used more than %d MB of memory and was interrupted", maxHeap>>20))
				return
			}
		}
	}
}
