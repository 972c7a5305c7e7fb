// Package script carries tools out that are JavaScript: in process, with no way
// to anything outside but its arguments, with bounds on time and memory.
package script

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
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
	"stonebaton/tools/web"
)

// Bounds of one call.
const (
	maxHeap   = 256 << 20 // growth of the heap while a script runs
	maxDepth  = 2000      // nested calls
	maxResult = 4 << 20
	maxLog    = 16 << 10
)

// Handler runs scripts.
type Handler struct {
	programs sync.Map
	client   *web.Client
}

// New gives a handler whose scripts fetch through c, where they may.
func New(c *web.Client) *Handler { return &Handler{client: c} }

const (
	head = "(function(args, state, person, today, now, log, fetch) { 'use strict';"
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
	var proof []string
	fail := func(class, format string, args ...any) (loop.Result, *loop.Failure) {
		return loop.Result{}, &loop.Failure{Outcome: ledger.NotDone, Class: class, Say: fmt.Sprintf(format, args...), Sent: sent(&logged, proof)}
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
	value, err := h.run(ctx, vm, prog, i, &logged, &proof)
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
	return loop.Result{Value: value, Sent: sent(&logged, proof)}, nil
}

// sent is the proof of a script: what it fetched, and what it wrote.
func sent(log *strings.Builder, fetched []string) *ledger.Sent {
	if log.Len() == 0 && len(fetched) == 0 {
		return nil
	}
	return &ledger.Sent{Method: "SCRIPT", Body: strings.Join(fetched, "\n"), Log: log.String()}
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

func (h *Handler) run(ctx context.Context, vm *goja.Runtime, prog *goja.Program, i engine.Invocation, logged *strings.Builder, proof *[]string) (any, error) {
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
	all, err := give([]any{i.Args, i.Vars["state"], i.Vars["person"], i.Vars["today"], i.Vars["now"]})
	if err != nil {
		return nil, err
	}
	var params []goja.Value
	for n := range 5 {
		params = append(params, all.ToObject(vm).Get(strconv.Itoa(n)))
	}
	told := i.Logs()
	params = append(params, vm.ToValue(func(c goja.FunctionCall) goja.Value {
		from := logged.Len()
		for n, a := range c.Arguments {
			if n > 0 {
				logged.WriteByte(' ')
			}
			if logged.Len() < maxLog {
				logged.WriteString(tools.Clip(a.String(), maxLog))
			}
		}
		logged.WriteByte('\n')
		_, _ = told.Write([]byte(logged.String()[from:])) // it never fails
		return goja.Undefined()
	}))
	if allowed := i.Tool.Script.Fetch; len(allowed) > 0 {
		params = append(params, vm.ToValue(h.fetcher(ctx, vm, allowed, give, proof)))
	}
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

// maxFetch bounds one reply that a script fetches.
const maxFetch = 4 << 20

// fetcher gives the function fetch: it sends a request within what the tool
// allows and waits for the reply, {status, ok, headers, text, json()}.
func (h *Handler) fetcher(ctx context.Context, vm *goja.Runtime, allowed []string, give func(any) (goja.Value, error), proof *[]string) func(goja.FunctionCall) goja.Value {
	return func(c goja.FunctionCall) goja.Value {
		throw := func(format string, args ...any) { panic(vm.NewGoError(fmt.Errorf(format, args...))) }
		var opt struct {
			Method, Body string
			Headers      map[string]string
		}
		address := c.Argument(0).String()
		vm.SetFieldNameMapper(goja.UncapFieldNameMapper())
		if o := c.Argument(1); !goja.IsUndefined(o) && !goja.IsNull(o) {
			if err := vm.ExportTo(o, &opt); err != nil {
				throw("fetch: the second argument is {method, headers, body}: %v", err)
			}
		}
		if opt.Method == "" {
			opt.Method = "GET"
		}
		may := func(u string) bool { return web.Within(u, allowed) }
		if !may(address) {
			throw("fetch: %s is not among the addresses that the tool allows: %s", address, strings.Join(allowed, ", "))
		}
		req, err := http.NewRequestWithContext(ctx, strings.ToUpper(opt.Method), address, strings.NewReader(opt.Body))
		if err != nil {
			throw("fetch: %v", err)
		}
		for k, v := range opt.Headers {
			req.Header.Set(k, v)
		}
		resp, err := h.client.Do(req, web.Grant{Host: req.URL.Host, Redirects: true, Allowed: may})
		if err != nil {
			throw("fetch %s: %v", address, err)
		}
		defer resp.Body.Close()
		raw, err := io.ReadAll(io.LimitReader(resp.Body, maxFetch+1))
		if err != nil || len(raw) > maxFetch {
			throw("fetch %s: the reply broke off or is larger than %d MB", address, maxFetch>>20)
		}
		*proof = append(*proof, fmt.Sprintf("%s %s → %d, %d bytes", req.Method, address, resp.StatusCode, len(raw)))
		headers := map[string]any{}
		for k := range resp.Header {
			headers[strings.ToLower(k)] = resp.Header.Get(k)
		}
		v, err := give(map[string]any{"status": resp.StatusCode, "ok": resp.StatusCode < 300, "headers": headers, "text": strings.ToValidUTF8(string(raw), "\uFFFD")})
		if err != nil {
			throw("fetch %s: %v", address, err)
		}
		_ = v.ToObject(vm).Set("json", func(goja.FunctionCall) goja.Value {
			var x any
			if json.Unmarshal(raw, &x) != nil {
				throw("fetch %s: the reply is not JSON", address)
			}
			out, err := give(x)
			if err != nil {
				throw("fetch %s: %v", address, err)
			}
			return out
		})
		return v
	}
}
