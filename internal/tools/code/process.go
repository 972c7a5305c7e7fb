package code

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/functions"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/value"
	"stonebaton.example/internal/sandbox"
	"stonebaton.example/internal/tools"
)

//go:embed runner.py
var python string

//go:embed runner.mjs
var javascript string

// BrokenError says why a file could not be loaded.
type BrokenError struct {
	At     project.Place
	Say    string
	Remedy string
	Trace  string
}

func (e *BrokenError) Error() string { return e.Say }

// raised is an exception, as a runner tells it.
type raised struct {
	Say     string `json:"say"`
	File    string `json:"file"`
	Line    int    `json:"line"`
	Trace   string `json:"trace"`
	NotDone bool   `json:"not_done"`
	Missing string `json:"missing"` // the package that is not there
}

func (r *raised) String() string {
	if r.Line > 0 {
		return fmt.Sprintf("%s (%s:%d)", r.Say, r.File, r.Line)
	}
	return r.Say
}

// message is what a runner says.
type message struct {
	N         int                  `json:"n"` // of the call that it answers
	Log       *string              `json:"log"`
	Functions []functions.Function `json:"functions"`
	Exports   []string             `json:"exports"`
	Broken    *raised              `json:"broken"`
	Returns   json.RawMessage      `json:"returns"`
	Raises    *raised              `json:"raises"`
	Unfit     string               `json:"unfit"`
	Sets      map[string]any       `json:"sets"`
	Files     []struct{ Name, Type, Body string }

	value any   // of Returns
	fault error // why it has none
}

func (m *message) answers() bool {
	return m.Returns != nil || m.Raises != nil || m.Unfit != "" || m.Functions != nil || m.Exports != nil || m.Broken != nil
}

// pool are the processes of one file.
type pool struct {
	mu     sync.Mutex
	stamp  string    // what those that are idle were started from
	looked time.Time // when all that the stamp is of was looked at
	main   mark      // the same of the file alone
	src    *project.SourceDoc
	key    string        // of src
	at     string        // where the file is
	idle   []*process    // the one that was used last at the end
	slots  chan struct{} // held by calls that are under way
}

// look gives what tells whether a file has changed, or what belongs to it. The file is looked at
// every time, and the rest once in a while.
func (p *pool) look(h *Handler, src *project.SourceDoc, file string) (stamp string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.src != src {
		p.src, p.key, p.at, p.looked = src, src.Key(), filepath.Join(h.dir, filepath.FromSlash(file)), time.Time{}
	}
	main := markOf(p.at)
	if p.main == main && time.Since(p.looked) < seldom {
		return p.stamp
	}
	p.looked, p.main = time.Now(), main
	if stamp = fmt.Sprint(p.key, main, "\n", h.beside(src)); p.stamp != stamp {
		for _, x := range p.idle {
			x.end()
		}
		p.idle, p.stamp = nil, stamp
	}
	return stamp
}

const seldom = 50 * time.Millisecond

// mark is another where a file has changed.
type mark struct{ size, changed int64 }

// gone is the mark of a file that is not there.
var gone = mark{-1, 0}

func markOf(path string) mark {
	var st unix.Stat_t // every call looks: it is what os.Stat asks, without what it makes of it
	if unix.Stat(path, &st) != nil {
		return gone
	}
	return mark{st.Size, st.Mtim.Nano()}
}

// beside tells whether what a file may import has changed: what else its source names.
func (h *Handler) beside(src *project.SourceDoc) string {
	var lines []string
	for _, name := range src.Code.Files {
		at := filepath.Join(h.dir, filepath.FromSlash(name))
		root, err := os.OpenRoot(at)
		if err != nil { // a file, or not there
			lines = append(lines, fmt.Sprint(name, " ", markOf(at)))
			continue
		}
		files, _ := tools.Tree(root, 10*maxFiles)
		root.Close()
		for f, st := range files {
			if project.Language(f) != "" {
				lines = append(lines, fmt.Sprint(name, "/", f, " ", st))
			}
		}
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// close ends the idle processes, and gives them.
func (p *pool) close() []*process {
	p.mu.Lock()
	defer p.mu.Unlock()
	ending := p.idle
	for _, x := range ending {
		x.end()
	}
	p.idle, p.stamp, p.main = nil, "", mark{}
	return ending
}

// give takes a process back that was taken. One that is of no more use ends.
func (p *pool) give(x *process, sound bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if sound && x.stamp == p.stamp {
		p.idle = append(p.idle, x)
	} else {
		x.end()
	}
	<-x.slots
}

// take gives a process of a file to the caller alone, which gives it back. It waits while as many
// calls are under way as may be.
func (h *Handler) take(ctx context.Context, src *project.SourceDoc, file string) (*process, error) {
	p := h.pool(src, file)
	stamp := p.look(h, src, file)
	p.mu.Lock()
	if cap(p.slots) != src.Code.AtOnce {
		p.slots = make(chan struct{}, src.Code.AtOnce)
	}
	slots := p.slots
	p.mu.Unlock()
	select {
	case slots <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if x := p.ready(stamp); x != nil {
		x.slots = slots
		return x, nil
	}
	x, err := h.start(ctx, src, file)
	if err != nil {
		<-slots
		return nil, err
	}
	x.stamp, x.slots = stamp, slots
	return x, nil
}

// ready gives an idle process that was started from something, and lives; nil where there is none.
func (p *pool) ready(stamp string) *process {
	p.mu.Lock()
	defer p.mu.Unlock()
	for p.stamp == stamp && len(p.idle) > 0 {
		x := p.idle[len(p.idle)-1]
		p.idle = p.idle[:len(p.idle)-1]
		if x.alive() {
			return x
		}
		x.end()
	}
	return nil
}

// process runs the functions of one file. It serves one call at a time.
type process struct {
	by        runtime
	text      string // of the file
	stamp     string
	slots     chan struct{}
	functions []functions.Function
	hashes    map[string]ledger.Hash // of what functions take, as it is asked for
	printed   string                 // while it was loaded

	in    *os.File
	out   *os.File
	read  *bufio.Reader
	kill  context.CancelFunc
	n     int           // of calls that were begun
	ended chan struct{} // closed when the process has ended
	why   string        // then, why
	log   *past         // what is written past the runner
}

// maxText bounds a file of functions.
const maxText = 1 << 20

// start starts a process, and waits until it has told its functions.
func (h *Handler) start(ctx context.Context, src *project.SourceDoc, file string) (*process, error) {
	root, err := os.OpenRoot(h.dir)
	if err != nil {
		return nil, err
	}
	raw, err := root.ReadFile(filepath.FromSlash(file))
	root.Close()
	if err != nil {
		return nil, fmt.Errorf("there is no %s in the project", file)
	}
	if len(raw) > maxText {
		return nil, fmt.Errorf("%s has %d bytes; a file of functions may have %d at most", file, len(raw), maxText)
	}
	x := &process{text: string(raw), hashes: map[string]ledger.Hash{}, ended: make(chan struct{})}
	spec, err := h.spec(src, file, x)
	if err != nil {
		return nil, err
	}
	if err := x.run(ctx, h.work, spec); err != nil {
		return nil, err
	}
	c := &call{}
	m, end := x.answer(ctx, c)
	x.printed = c.log.String()
	say := ""
	switch {
	case end != "" && ctx.Err() != nil:
		say = "it was not ready in time: what stands outside its functions runs when it is loaded"
	case end != "":
		say = "its process ended while it was loaded: " + end
	case m.Broken != nil:
		x.end()
		b := &BrokenError{At: project.Place{File: file, Line: max(m.Broken.Line, 1), Col: 1}, Say: fmt.Sprintf("%s cannot be loaded: %s", file, m.Broken), Remedy: "Fix the file; it is loaded anew when it changes.", Trace: x.printed + m.Broken.Trace}
		if m.Broken.File != "" && m.Broken.File != filepath.Base(file) {
			b.At.Line = 1 // it is of a file beside it
		}
		if m.Broken.Missing != "" {
			b.Remedy = x.by.install(m.Broken.Missing, h.neighbour(src, file, m.Broken.Missing))
		}
		return nil, b
	}
	if say != "" {
		x.end()
		return nil, &BrokenError{At: project.Place{File: file, Line: 1, Col: 1}, Say: fmt.Sprintf("%s cannot be loaded: %s", file, say), Remedy: "Fix the file; it is loaded anew when it changes.", Trace: x.printed}
	}
	x.functions = m.Functions
	if m.Exports != nil {
		s := functions.ReadScript(x.text)
		for _, name := range m.Exports {
			x.functions = append(x.functions, s.Function(name))
		}
		slices.SortFunc(x.functions, func(a, b functions.Function) int { return cmp.Compare(a.Line, b.Line) })
	}
	return x, nil
}

// spec gives what runs of a file.
func (h *Handler) spec(src *project.SourceDoc, file string, x *process) (sandbox.Spec, error) {
	var err error
	if x.by, err = h.runtime(src, file); err != nil {
		return sandbox.Spec{}, err
	}
	b := src.Bounds
	if m := sandbox.Missing(); m != "" && !b.Bare {
		return sandbox.Spec{}, fmt.Errorf("%s was not loaded: %s; say sandbox: none if it may run without bounds", file, m)
	}
	at := filepath.Join(h.dir, filepath.FromSlash(file))
	spec := sandbox.Spec{Args: x.by.line(at), Reads: append([]string{at}, x.by.reads...), Resident: true, Bare: b.Bare, Network: b.Network.All, Hosts: b.Network.Hosts,
		Memory: int64(b.MemoryMB) << 20, Disk: int64(b.DiskMB) << 20, Processes: b.Processes}
	for _, name := range src.Code.Files {
		spec.Reads = append(spec.Reads, filepath.Join(h.dir, filepath.FromSlash(name)))
	}
	reads, writes, err := tools.Grants(h.dir, b.Reads, b.Writes)
	if err != nil {
		return spec, err
	}
	spec.Reads, spec.Writes = append(spec.Reads, reads...), writes
	spec.Env, err = h.environment(src)
	return spec, err
}

// run starts the process itself, which ends with its pipe, or when it is killed.
func (x *process) run(ctx context.Context, work string, spec sandbox.Spec) error {
	dir, err := os.MkdirTemp(work, "functions-")
	if err != nil {
		return fmt.Errorf("no folder could be made for it: %w", err)
	}
	in, toIn, err := os.Pipe()
	if err != nil {
		return err
	}
	fromOut, out, err := os.Pipe()
	if err != nil {
		return err
	}
	log, errs, err := listen()
	if err != nil {
		return err
	}
	life, kill := context.WithCancel(context.WithoutCancel(ctx)) // it outlives the call that started it
	x.log = log
	x.in, x.out, x.read, x.kill = toIn, fromOut, bufio.NewReaderSize(fromOut, 64<<10), kill
	spec.Dir, spec.In, spec.Tell, spec.Log = dir, in, out, errs
	spec.Env = append([]string{"HOME=" + dir, "TMPDIR=" + dir}, spec.Env...)
	go func() {
		d, err := sandbox.Run(life, spec)
		switch {
		case err != nil:
			x.why = err.Error()
		case d.Broke != "":
			x.why = "it was ended: " + d.Broke
		case d.Signal != "":
			x.why = "a signal ended it: " + d.Signal
		case len(d.Refused) > 0:
			x.why = fmt.Sprintf("exit code %d; %s", d.Code, tools.Unreached(d.Refused, ""))
		default:
			x.why = fmt.Sprintf("exit code %d", d.Code)
		}
		errs.Close()
		log.close()
		out.Close()
		in.Close()
		_ = os.RemoveAll(dir) // what stays is temporary
		close(x.ended)
	}()
	return nil
}

func (x *process) alive() bool {
	select {
	case <-x.ended:
		return false
	default:
		return true
	}
}

// end has the process end: at once where it is idle, and where it does not heed that, soon.
func (x *process) end() {
	x.in.Close()
	go func() {
		t := time.NewTimer(time.Second)
		defer t.Stop()
		select {
		case <-x.ended:
		case <-t.C:
			x.kill()
			<-x.ended
		}
		x.kill()
		x.out.Close()
	}()
}

// call is one call, as far as it has gone.
type call struct {
	log   bytes.Buffer
	limit int
	tell  func(line string) // is told what is printed; nil: nobody listens
}

func (c *call) say(line string) {
	if c.log.Len() < maxLog {
		c.log.WriteString(line + "\n")
	}
	if c.tell != nil {
		c.tell(tools.Clip(line, 500))
	}
}

// call has the process call a function. End says why it is of no more use; "" where it is.
func (x *process) call(ctx context.Context, c *call, f functions.Function, args []byte, i deed.Invocation) (m message, end string) {
	x.n++
	line := append(append([]byte(`{"n":`+strconv.Itoa(x.n)+`,"call":`+strconv.Quote(f.Name)+`,"args":`), args...), x.by.order(f)...)
	if slices.ContainsFunc(f.Params, func(p functions.Param) bool { return p.Name == "_session" }) {
		session, err := json.Marshal(map[string]any{"state": i.Facts, "person": i.Person, "key": i.Key})
		if err != nil {
			return message{Unfit: "the state is not JSON: " + err.Error()}, ""
		}
		line = append(append(line, `,"session":`...), session...)
	}
	line = append(line, "}\n"...)
	stop := context.AfterFunc(ctx, x.stop)
	defer stop()
	if _, err := x.in.Write(line); err != nil {
		return message{}, x.reason()
	}
	return x.heard(c)
}

// stop ends the process, and whatever waits for it.
func (x *process) stop() {
	x.kill()
	_ = x.in.SetWriteDeadline(time.Now())
	_ = x.out.SetReadDeadline(time.Now())
}

// answer reads what the process says, until it is an answer.
func (x *process) answer(ctx context.Context, c *call) (m message, end string) {
	stop := context.AfterFunc(ctx, x.stop)
	defer stop()
	return x.heard(c)
}

func (x *process) heard(c *call) (m message, end string) {
	for {
		line, err := x.line()
		if err != nil {
			if errors.Is(err, errLarge) {
				x.kill()
				return m, err.Error()
			}
			return m, x.reason()
		}
		if m, ok := x.returned(line); ok {
			x.past(c)
			return m, ""
		}
		m = message{}
		if err := json.Unmarshal(line, &m); err != nil || m.Log == nil && (!m.answers() || m.N != x.n) {
			c.say(strings.ToValidUTF8(tools.Clip(strings.TrimRight(string(line), "\n"), 500), "�")) // it wrote past the runner
			continue
		}
		if m.Log == nil {
			if m.Returns != nil {
				m.value, m.fault = value.Read(m.Returns)
			}
			x.past(c)
			return m, ""
		}
		c.say(*m.Log)
	}
}

// returned reads the answer that is nearly every one: a value, and nothing beside it. What is not
// that is read as any other message.
func (x *process) returned(line []byte) (message, bool) {
	rest, ok := bytes.CutPrefix(line, []byte(`{"n":`+strconv.Itoa(x.n)+`,"returns":`))
	if !ok {
		return message{}, false
	}
	rest, ok = bytes.CutSuffix(rest, []byte("}\n"))
	if !ok {
		return message{}, false
	}
	raw := bytes.Clone(rest)
	v, err := value.Read(raw)
	return message{N: x.n, Returns: raw, value: v}, err == nil
}

// past keeps what was written past the runner.
func (x *process) past(c *call) {
	if past := strings.TrimRight(x.log.take(), "\n"); past != "" {
		c.say(past)
	}
}

var errLarge = fmt.Errorf("what it gave is larger than %d MB", maxResult>>20)

func (x *process) line() ([]byte, error) {
	var line []byte
	for {
		piece, err := x.read.ReadSlice('\n')
		if err == nil && line == nil {
			return piece, nil
		}
		if line = append(line, piece...); len(line) > maxResult+maxFileBytes {
			return nil, errLarge
		}
		if err == nil {
			return line, nil
		}
		if !errors.Is(err, bufio.ErrBufferFull) {
			return nil, err
		}
	}
}

// maxFileBytes bounds the files of a result, as they are written.
const maxFileBytes = 40 << 20

// reason waits until the process has ended, and says why.
func (x *process) reason() string {
	x.kill()
	<-x.ended
	if past := strings.TrimSpace(x.log.take()); past != "" {
		lines := strings.Split(past, "\n")
		return x.why + "; it wrote: " + tools.Clip(lines[len(lines)-1], 200)
	}
	return x.why
}

func (x *process) find(name string) (functions.Function, bool) {
	for _, f := range x.functions {
		if f.Name == name {
			return f, true
		}
	}
	return functions.Function{}, false
}

// hash names what a function takes now.
func (x *process) hash(file string, f functions.Function) ledger.Hash {
	h, ok := x.hashes[f.Name]
	if !ok {
		h = project.InputHash(functions.Offer(file, x.text, f).Input)
		x.hashes[f.Name] = h
	}
	return h
}
