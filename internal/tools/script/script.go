// Package script carries tools out that are JavaScript: in process, with no way
// to anything outside but its arguments, with bounds on time and memory.
package script

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime"
	"net"
	"net/http"
	"path"
	"regexp"
	"runtime"
	"runtime/metrics"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/dop251/goja"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/tools"
	"stonebaton.example/internal/tools/web"
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
	head = "(function(args, state, person, today, now, log, attach, fetch, secret) { 'use strict';"
	tail = "\n})"
)

func compile(code string) (*goja.Program, error) { return goja.Compile(source, head+code+tail, true) }

// source names the script in positions.
const source = "script"

// mistake is the head of what a script throws when it is wrong, not when it says no.
var mistake = regexp.MustCompile(`^(TypeError|ReferenceError|RangeError|SyntaxError): `)

var lineCol = regexp.MustCompile(`Line (\d+):(\d+) `)

// check gives the problem of a script that cannot be compiled; nil where it can.
func check(tool string, s *Script) *project.Problem {
	_, err := compile(s.Code)
	if err == nil {
		return nil
	}
	p := &project.Problem{Grade: project.Error, Place: s.Place, Tool: tool, Remedy: "It is the body of a function: use return for the result."}
	say := strings.TrimPrefix(err.Error(), "SyntaxError: ")
	if m := lineCol.FindStringSubmatch(say); m != nil {
		line, _ := strconv.Atoi(m[1])
		col, _ := strconv.Atoi(m[2])
		_, say, _ = strings.Cut(say, m[0])
		lines := strings.Split(s.Code, "\n")
		if line > len(lines) { // it ends too early
			line, col = len(lines), 1
		}
		if line == 1 {
			col -= len(head)
		}
		if awaited.MatchString(lines[line-1]) {
			say, p.Remedy = "nothing here is asynchronous", "Omit await and async: fetch itself waits for its reply."
		}
		p.Place = place(s, line, max(1, col))
		p.Text = strings.TrimSpace(lines[line-1])
	}
	p.Say = fmt.Sprintf("the script of %s cannot be compiled: %s", tool, say)
	return p
}

var awaited = regexp.MustCompile(`\bawait\b`)

// place gives where a line of a script stands in its file.
func place(s *Script, line, col int) project.Place {
	at := s.Place
	at.Line += line - 1
	at.Col += col - 1 // behind its key, or the indentation of its block
	return at
}

// running is one call of a script.
type running struct {
	vm   *goja.Runtime
	tell io.Writer
	// wrote says that something was sent that may have changed something elsewhere.
	wrote atomic.Bool

	mu      sync.Mutex // a script that does not stop is left behind, and may go on writing
	log     strings.Builder
	fetched []string
	failed  string            // where the script threw
	secrets map[string]string // handle → name
	media   tools.Media       // of the script's goroutine, until it has ended
}

// attach adds a file to the result: attach(name, body, type), with a text or bytes.
func (r *running) attach(c goja.FunctionCall) goja.Value {
	name, body := c.Argument(0).String(), []byte(nil)
	switch x := c.Argument(1).Export().(type) {
	case string:
		body = []byte(x)
	case []byte:
		body = x
	case goja.ArrayBuffer:
		body = x.Bytes()
	default:
		panic(r.vm.NewTypeError("attach takes a name, a text or bytes, and a media type"))
	}
	typ := mime.TypeByExtension(path.Ext(name))
	if said := c.Argument(2); !goja.IsUndefined(said) {
		typ = said.String()
	}
	if len(r.media.Files) == maxFiles || len(body) > maxFile {
		panic(r.vm.NewTypeError(fmt.Sprintf("a result may have %d files, each of at most %d MB", maxFiles, maxFile>>20)))
	}
	return r.vm.ToValue(r.media.Add("file", typ, name, body))
}

// Bounds of what a script attaches.
const (
	maxFiles = 20
	maxFile  = 8 << 20
)

// grace is how long a script that was interrupted may take to stop.
const grace = time.Second

// Call runs the script of a tool.
func (h *Handler) Call(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
	r := &running{vm: goja.New(), tell: i.Logs()}
	fail := func(class deed.Class, format string, args ...any) (deed.Result, *deed.Failure) {
		f := &deed.Failure{Outcome: ledger.NotDone, Class: class, Say: fmt.Sprintf(format, args...), Sent: r.sent()}
		if r.wrote.Load() {
			f.Outcome = ledger.Unknown
		}
		return deed.Result{}, f
	}
	spec := i.Tool.Work.Spec.(*Script)
	prog, err := h.program(spec.Code)
	if err != nil {
		return fail("config", "the script cannot be compiled: %v", err)
	}
	r.vm.SetMaxCallStackSize(maxDepth)
	type end struct {
		value     any
		class, no string
	}
	ended := make(chan end, 1)
	work(func() {
		var e end
		defer func() {
			if x := recover(); x != nil {
				e = end{class: "script", no: fmt.Sprintf("the script panicked: %v", x)}
			}
			ended <- e
		}()
		v, err := h.run(ctx, r, prog, i)
		if e.value = v; err != nil {
			e.class, e.no = why(err)
			var thrown *goja.Exception
			if errors.As(err, &thrown) {
				for _, fr := range thrown.Stack() {
					if pos := fr.Position(); fr.SrcName() == source && pos.Line > 0 {
						if pos.Line == 1 {
							pos.Column -= len(head)
						}
						at := place(spec, pos.Line, max(1, pos.Column)).String()
						r.mu.Lock()
						r.failed = at
						r.mu.Unlock()
						if mistake.MatchString(e.no) && spec.Place.File != "" {
							e.no += " (" + at + ")"
						}
						break
					}
				}
			}
		}
	})
	sample := []metrics.Sample{{Name: heapMetric}}
	metrics.Read(sample)
	before, began := sample[0].Value.Uint64(), time.Now()
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	over, late, stuck := "", ctx.Done(), (<-chan time.Time)(nil)
	stop := func(format string, args ...any) {
		over, late, stuck = fmt.Sprintf(format, args...), nil, time.After(grace)
		r.vm.Interrupt(over)
	}
	for {
		select {
		case e := <-ended:
			if e.no != "" && over != "" {
				return fail("timeout", "%s", over)
			}
			if e.no != "" {
				return fail(deed.Class(e.class), "%s", e.no)
			}
			return deed.Result{Value: e.value, Sent: r.sent(), Files: r.media.Files}, nil
		case <-late:
			stop("the script had not ended after %s and was interrupted", time.Since(began).Round(time.Millisecond))
		case <-stuck:
			return fail("timeout", "%s; it is in one step that does not end, and is left behind", over)
		case <-tick.C:
			metrics.Read(sample)
			if now := sample[0].Value.Uint64(); over == "" && now > before+maxHeap {
				stop("the script used more than %d MB of memory and was interrupted", maxHeap>>20)
			}
		}
	}
}

// Evaluate runs code that is in no file, as the body of a function with no arguments. What it
// says with log is in the Log of what was sent.
func (h *Handler) Evaluate(ctx context.Context, i deed.Invocation, code string) (deed.Result, *deed.Failure) {
	t := *i.Tool
	t.Work = project.Work{Kind: Kind.Name, Spec: &Script{Code: code}}
	i.Tool, i.Args, i.Facts = &t, map[string]any{}, map[string]any{}
	return h.Call(ctx, i)
}

// idle are goroutines that have run a script and wait for the next: their stacks have
// grown to what a script needs, which is most of the cost of a new one.
var idle = make(chan chan func(), runtime.GOMAXPROCS(0))

// work does something on a goroutine of its own.
func work(do func()) {
	select {
	case w := <-idle:
		w <- do
		return
	default:
	}
	w := make(chan func(), 1)
	go func() {
		for do := range w {
			do()
			select {
			case idle <- w:
			default:
				return
			}
		}
	}()
	w <- do
}

// why says what ended a script.
func why(err error) (class, say string) {
	var stop *goja.InterruptedError
	var thrown *goja.Exception
	var deep *goja.StackOverflowError
	switch {
	case errors.As(err, &deep):
		return "script", fmt.Sprintf("the call stack is deeper than %d: does it call itself without an end?", maxDepth)
	case errors.As(err, &stop):
		return "timeout", fmt.Sprint(stop.Value())
	case errors.As(err, &thrown):
		return "script", said(thrown)
	}
	return "script", strings.TrimPrefix(err.Error(), "RangeError: ")
}

// sent is the proof of a script: what it fetched, and what it wrote.
func (r *running) sent() *ledger.Sent {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.log.Len() == 0 && len(r.fetched) == 0 && r.failed == "" {
		return nil
	}
	return &ledger.Sent{Method: "SCRIPT", URL: r.failed, Body: strings.Join(r.fetched, "\n"), Log: r.log.String()}
}

// said gives the message of what a script threw, without its class or stack. To ask
// for it can run the script's own code.
func said(e *goja.Exception) (say string) {
	defer func() {
		if recover() != nil {
			say = "the script threw something that cannot be shown"
		}
	}()
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

// program is a script that was compiled, with what binds it.
type program struct{ itself, bounds *goja.Program }

func (h *Handler) program(code string) (program, error) {
	if p, ok := h.programs.Load(code); ok {
		return p.(program), nil
	}
	itself, err := compile(code)
	if err != nil {
		return program{}, err
	}
	p := program{itself, bounds(code)}
	h.programs.Store(code, p)
	return p, nil
}

// What is made in one step cannot be interrupted, so it is kept from taking all
// memory. Only what a script names is bound: to touch the rest would cost more than
// most scripts.
const (
	boundHead = `(function() { 'use strict'
	const most = 2e7
	const stop = (what) => { throw new RangeError(what + ' would have more than ' + most + ' elements') }
	const bound = (of, name, size) => {
		const does = of[name]
		const value = function(...a) {
			if (size(this, a[0]) > most) stop('what ' + name + ' makes')
			return does.apply(this, a)
		}
		Object.defineProperty(of, name, {value, writable: true, configurable: true})
	}
	const made = (name) => {
		const of = globalThis[name]
		const value = function(...a) {
			if (a.length === 1 && a[0] > most) stop('the ' + name)
			return new.target ? Reflect.construct(of, a, new.target === value ? of : new.target) : of(...a)
		}
		Object.setPrototypeOf(value, of)
		value.prototype = of.prototype
		of.prototype.constructor = value
		Object.defineProperty(globalThis, name, {value, writable: true, configurable: true})
	}
`
	boundTail = "})()"
)

var bound = []struct{ word, code string }{
	{"repeat", "bound(String.prototype, 'repeat', (s, n) => String(s).length * n)"},
	{"padStart", "bound(String.prototype, 'padStart', (_, n) => n)"},
	{"padEnd", "bound(String.prototype, 'padEnd', (_, n) => n)"},
	{"fill", "bound(Array.prototype, 'fill', (a) => a.length)"},
	{"join", "bound(Array.prototype, 'join', (a) => a.length)"},
	{"from", "bound(Array, 'from', (_, x) => x?.length ?? 0)"},
}

var (
	word  = regexp.MustCompile(`\w+`)
	sized = regexp.MustCompile(`^(Array|ArrayBuffer|(Int|Uint)(8|16|32)Array|Uint8ClampedArray|Float(32|64)Array|Big(Int|Uint)64Array)$`)
)

// bounds gives the program that binds what a script names; nil where it names
// nothing of the kind.
func bounds(code string) *goja.Program {
	words := map[string]bool{}
	for _, w := range word.FindAllString(code, -1) {
		words[w] = true
	}
	var lines []string
	for _, b := range bound {
		if words[b.word] {
			lines = append(lines, b.code)
		}
	}
	for _, w := range slices.Sorted(maps.Keys(words)) {
		if sized.MatchString(w) {
			lines = append(lines, "made('"+w+"')")
		}
	}
	if len(lines) == 0 {
		return nil
	}
	return goja.MustCompile("bounds", boundHead+strings.Join(lines, "\n")+boundTail, true)
}

func (h *Handler) run(ctx context.Context, r *running, prog program, i deed.Invocation) (any, error) {
	vm := r.vm
	if prog.bounds != nil {
		if _, err := vm.RunProgram(prog.bounds); err != nil {
			return nil, err
		}
	}
	f, err := vm.RunProgram(prog.itself)
	if err != nil {
		return nil, err
	}
	call, ok := goja.AssertFunction(f)
	if !ok {
		return nil, errors.New("the script is not the body of a function")
	}
	jsons := vm.Get("JSON").ToObject(vm) // before the script can change it
	stringify, _ := goja.AssertFunction(jsons.Get("stringify"))
	var params []goja.Value
	for _, v := range []any{i.Args, i.Vars["state"], i.Vars["person"], i.Vars["today"], i.Vars["now"]} {
		p, err := give(vm, v)
		if err != nil {
			return nil, err
		}
		params = append(params, p)
	}
	params = append(params, vm.ToValue(func(c goja.FunctionCall) goja.Value {
		words := make([]string, len(c.Arguments))
		for n, a := range c.Arguments {
			words[n] = a.String()
		}
		line := tools.Clip(strings.Join(words, " "), maxLog)
		r.mu.Lock()
		if r.log.Len() < maxLog {
			r.log.WriteString(line + "\n")
		}
		r.mu.Unlock()
		fmt.Fprintln(r.tell, line)
		return goja.Undefined()
	}))
	params = append(params, vm.ToValue(r.attach))
	if allowed := i.Tool.Work.Spec.(*Script).Fetch; len(allowed) > 0 {
		params = append(params, vm.ToValue(h.fetcher(ctx, r, allowed)), vm.ToValue(h.secret(r)))
	}
	out, err := call(goja.Undefined(), params...)
	if err != nil {
		return nil, err
	}
	if out == nil || goja.IsUndefined(out) || goja.IsNull(out) {
		return nil, nil
	}
	text, err := stringify(goja.Undefined(), out)
	if err != nil {
		return nil, err
	}
	if _, promised := out.Export().(*goja.Promise); promised {
		return nil, errors.New("the script returned a promise, and nothing here is asynchronous: omit async and await; fetch itself waits for its reply")
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

// give makes a value of the script's own: a copy, with the keys of objects in order.
func give(vm *goja.Runtime, v any) (goja.Value, error) {
	switch x := v.(type) {
	case nil:
		return goja.Null(), nil
	case string, bool, float64, int64, int:
		return vm.ToValue(x), nil
	case []any:
		list := make([]any, len(x))
		for i, e := range x {
			v, err := give(vm, e)
			if err != nil {
				return nil, err
			}
			list[i] = v
		}
		return vm.NewArray(list...), nil
	case map[string]any:
		o := vm.NewObject()
		for _, k := range slices.Sorted(maps.Keys(x)) {
			v, err := give(vm, x[k])
			if err != nil {
				return nil, err
			}
			if err := o.DefineDataProperty(k, v, goja.FLAG_TRUE, goja.FLAG_TRUE, goja.FLAG_TRUE); err != nil {
				return nil, err
			}
		}
		return o, nil
	}
	raw, err := json.Marshal(v) // what is left, such as a time, is what JSON makes of it
	if err != nil {
		return nil, err
	}
	var plain any
	if err := json.Unmarshal(raw, &plain); err != nil {
		return nil, err
	}
	return give(vm, plain)
}

const heapMetric = "/memory/classes/heap/objects:bytes"

// secret gives the function secret: the handle of a value that fetch alone can open. The
// script itself never sees the value.
func (h *Handler) secret(r *running) func(goja.FunctionCall) goja.Value {
	return func(c goja.FunctionCall) goja.Value {
		name := c.Argument(0).String()
		if _, err := h.client.Expand("${secret:" + name + "}"); err != nil {
			panic(r.vm.NewGoError(err))
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		if r.secrets == nil {
			r.secrets = map[string]string{}
		}
		for handle, n := range r.secrets {
			if n == name {
				return r.vm.ToValue(handle)
			}
		}
		handle := "‹secret " + name + " " + rand.Text() + "›" // that nothing else can hold
		r.secrets[handle] = name
		return r.vm.ToValue(handle)
	}
}

// opened puts the values of secrets in the place of their handles.
func (h *Handler) opened(r *running, text string) (string, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for handle, name := range r.secrets {
		if !strings.Contains(text, handle) {
			continue
		}
		v, err := h.client.Expand("${secret:" + name + "}")
		if err != nil {
			return "", err
		}
		text = strings.ReplaceAll(text, handle, v)
	}
	return text, nil
}

// maxFetch bounds one reply that a script fetches.
const maxFetch = 4 << 20

// fetcher gives the function fetch: it sends a request within what the tool
// allows and waits for the reply, {status, ok, headers, text, json()}.
func (h *Handler) fetcher(ctx context.Context, r *running, allowed []string) func(goja.FunctionCall) goja.Value {
	vm := r.vm
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
		open := func(text string) string {
			out, err := h.opened(r, text)
			if err != nil {
				throw("fetch: %v", err)
			}
			return out
		}
		req, err := http.NewRequestWithContext(ctx, strings.ToUpper(opt.Method), address, strings.NewReader(open(opt.Body)))
		if err != nil {
			throw("fetch: %v", err)
		}
		for k, v := range opt.Headers {
			req.Header.Set(k, open(v))
		}
		// what was sent may have been done, until a reply says that it was not
		writes := req.Method != http.MethodGet && req.Method != http.MethodHead
		had := r.wrote.Load()
		if writes {
			r.wrote.Store(true)
		}
		resp, err := h.client.Do(req, web.Grant{Host: req.URL.Host, Redirects: true, Allowed: may})
		if err != nil {
			if op := (*net.OpError)(nil); errors.As(err, &op) && op.Op == "dial" {
				r.wrote.Store(had) // it was not reached
			}
			throw("fetch %s: %v", address, err)
		}
		defer resp.Body.Close()
		raw, err := io.ReadAll(io.LimitReader(resp.Body, maxFetch+1))
		if err != nil || len(raw) > maxFetch {
			throw("fetch %s: the reply broke off or is larger than %d MB", address, maxFetch>>20)
		}
		r.mu.Lock()
		r.fetched = append(r.fetched, fmt.Sprintf("%s %s → %d, %d bytes", req.Method, address, resp.StatusCode, len(raw)))
		r.mu.Unlock()
		if writes && resp.StatusCode >= 400 && resp.StatusCode < 500 {
			r.wrote.Store(had)
		}
		headers := map[string]any{}
		for k := range resp.Header {
			headers[strings.ToLower(k)] = resp.Header.Get(k)
		}
		v, err := give(vm, map[string]any{"status": resp.StatusCode, "ok": resp.StatusCode < 300, "headers": headers, "text": strings.ToValidUTF8(string(raw), "\uFFFD")})
		if err != nil {
			throw("fetch %s: %v", address, err)
		}
		_ = v.ToObject(vm).Set("json", func(goja.FunctionCall) goja.Value {
			var x any
			if json.Unmarshal(raw, &x) != nil {
				throw("fetch %s: the reply is not JSON", address)
			}
			out, err := give(vm, x)
			if err != nil {
				throw("fetch %s: %v", address, err)
			}
			return out
		})
		return v
	}
}
