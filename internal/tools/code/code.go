// Package code carries tools out that are functions of a file of the project, in Python or
// JavaScript. Each file has a process of its own in the sandbox, started when it is first
// needed and kept; it has more of them while several calls go on, one call at a time in each,
// so that a call which hangs is ended without the others. A file that changes is loaded anew.
package code

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/functions"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/sandbox"
	"stonebaton.example/internal/tools"
)

// Bounds of one call that no file sets.
const (
	maxResult = 4 << 20
	maxRecord = 2 << 10
	maxLog    = 16 << 10
	maxFiles  = 100 // of a folder
)

// Expander puts the values of secrets into a text.
type Expander interface {
	Expand(string) (string, error)
}

// Handler runs the functions of a project's files. It is a tools.Handler, and tells what a
// source of functions offers.
type Handler struct {
	dir     string
	work    string // where each process gets a folder of its own
	secrets Expander

	mu    sync.Mutex
	pools map[string]*pool // by source and file
}

// New gives a handler for the functions of the project in dir. Processes work in folders below
// work; "" is the system's folder for what is temporary.
func New(dir, work string, s Expander) *Handler {
	if abs, err := filepath.Abs(dir); err == nil {
		dir = abs
	}
	if abs, err := filepath.Abs(work); err == nil && work != "" {
		work = abs
	}
	return &Handler{dir: dir, work: work, secrets: s, pools: map[string]*pool{}}
}

// Close ends all processes.
func (h *Handler) Close() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	var ending []*process
	for _, p := range h.pools {
		ending = append(ending, p.close()...)
	}
	for _, x := range ending {
		<-x.ended // so that nothing of them is left when the service ends
	}
	h.pools = map[string]*pool{}
	return nil
}

// pool gives the processes of a file.
func (h *Handler) pool(src *project.SourceDoc, file string) *pool {
	h.mu.Lock()
	defer h.mu.Unlock()
	key := src.Name + "\x00" + file
	p := h.pools[key]
	if p == nil {
		p = &pool{}
		h.pools[key] = p
	}
	return p
}

// Files lists the files of functions of a source: those that it names, and those of the folders
// that it names, by their paths in the project.
func Files(dir string, src *project.SourceDoc) ([]string, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	var out []string
	for _, name := range src.Code.Files {
		info, err := root.Stat(filepath.FromSlash(name))
		if err != nil {
			return nil, fmt.Errorf("there is no %s in the project", name)
		}
		if !info.IsDir() {
			if project.Language(name) == "" {
				return nil, fmt.Errorf("%s is not a file of functions: their names end in %s", name, strings.Join(project.Languages(), ", "))
			}
			out = append(out, name)
			continue
		}
		f, err := root.Open(filepath.FromSlash(name))
		if err != nil {
			return nil, err
		}
		list, err := f.ReadDir(-1)
		f.Close()
		if err != nil {
			return nil, err
		}
		slices.SortFunc(list, func(a, b os.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
		n := 0
		for _, e := range list {
			if project.Language(e.Name()) == "" || !e.Type().IsRegular() || strings.HasPrefix(e.Name(), "_") || strings.HasPrefix(e.Name(), ".") || strings.HasSuffix(e.Name(), ".d.ts") {
				continue
			}
			if n++; n > maxFiles {
				return nil, fmt.Errorf("%s holds more than %d files of functions", name, maxFiles)
			}
			out = append(out, path.Join(name, e.Name()))
		}
		if n == 0 {
			return nil, fmt.Errorf("%s holds no file of functions: their names end in %s", name, strings.Join(project.Languages(), ", "))
		}
	}
	return out, nil
}

// Catalogue lists the functions of a source. A file that cannot be loaded costs its own
// functions alone.
func (h *Handler) Catalogue(ctx context.Context, src *project.SourceDoc) (project.Catalogue, error) {
	cat := project.Catalogue{Tools: []project.Offer{}}
	files, err := Files(h.dir, src)
	if err != nil {
		return cat, err
	}
	ctx, cancel := context.WithTimeout(ctx, src.Timeout)
	defer cancel()
	type found struct {
		offers []project.Offer
		also   []string
		by     string
		err    error
	}
	all := make([]found, len(files))
	var wg sync.WaitGroup
	for n, file := range files {
		wg.Go(func() {
			f := &all[n]
			f.offers, f.also, f.by, f.err = h.offers(ctx, src, file)
		})
	}
	wg.Wait()
	seen := map[string]int{}
	for _, f := range all {
		if b := (*BrokenError)(nil); errors.As(f.err, &b) {
			cat.Broken = append(cat.Broken, project.Broken{At: b.At, Say: b.Say, Remedy: b.Remedy})
			continue
		} else if f.err != nil {
			return cat, f.err
		}
		cat.Also = append(cat.Also, f.also...)
		if !strings.Contains(cat.From, f.by) {
			cat.From = strings.TrimPrefix(cat.From+", "+f.by, ", ")
		}
		for _, o := range f.offers {
			if first, twice := seen[o.Tool]; twice {
				a := &cat.Tools[first]
				a.Lacks = append(a.Lacks, fmt.Sprintf("%s:%d has a function of the same name, which is left out", o.At.File, o.At.Line))
				continue
			}
			seen[o.Tool] = len(cat.Tools)
			cat.Tools = append(cat.Tools, o)
		}
	}
	if len(cat.Tools) == 0 && len(cat.Broken) == 0 {
		cat.Also = append(cat.Also, strings.Join(files, ", ")+" has no public function")
	}
	cat.From = strings.Join(src.Code.Files, ", ") + " (" + cat.From + ")"
	return cat, nil
}

// offers lists the functions of one file.
func (h *Handler) offers(ctx context.Context, src *project.SourceDoc, file string) (offers []project.Offer, also []string, by string, err error) {
	p, err := h.take(ctx, src, file)
	if err != nil {
		return nil, nil, "", err
	}
	defer h.pool(src, file).give(p, true)
	for _, f := range p.functions {
		o := functions.Offer(file, p.text, f)
		if line := functions.Twice(p.text, f); line > 0 {
			o.Lacks = append(o.Lacks, fmt.Sprintf("two functions are called %s: the one of line %d is not used", f.Name, line))
		}
		offers = append(offers, o)
	}
	if n := len(offers); n > functions.MaxOffers {
		also = append(also, fmt.Sprintf("%s has %d functions; the first %d are listed", file, n, functions.MaxOffers))
		offers = offers[:functions.MaxOffers]
	}
	if p.printed != "" {
		also = append(also, fmt.Sprintf("%s printed while it was loaded: %s", file, tools.Clip(p.printed, 200)))
	}
	return offers, also, p.by.version, nil
}

// Check says what keeps a function from being called on this machine.
func (h *Handler) Check(_ context.Context, t *project.Tool) error {
	src := t.Remote.Source
	if !src.Bounds.Bare {
		if m := sandbox.Missing(); m != "" {
			return fmt.Errorf("%s, so it will be refused; say sandbox: none if it may run without bounds", m)
		}
	}
	if _, _, err := tools.Grants(h.dir, src.Bounds.Reads, src.Bounds.Writes); err != nil {
		return err
	}
	_, err := h.runtime(src, t.Remote.File)
	return err
}

// Call calls a function.
func (h *Handler) Call(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
	remote := i.Tool.Remote
	src := remote.Source
	c := &call{limit: maxRecord, tell: i.Log}
	if i.Bench {
		c.limit = maxResult
	}
	raw, err := json.Marshal(i.Args)
	if err != nil {
		return deed.Result{}, deed.NotDone("result", "the arguments are not JSON: %v", err)
	}
	sent := &ledger.Sent{Method: "FUNCTION", URL: remote.File + " " + remote.Name, Body: tools.Clip(string(raw), c.limit)}
	fail := func(o ledger.Outcome, class deed.Class, format string, args ...any) (deed.Result, *deed.Failure) {
		sent.Log = tools.Clip(c.log.String(), maxLog)
		return deed.Result{}, &deed.Failure{Outcome: o, Class: class, Say: fmt.Sprintf(format, args...), Sent: sent}
	}
	p, err := h.take(ctx, src, remote.File)
	if err != nil {
		if ctx.Err() != nil {
			return fail(ledger.NotDone, "timeout", "%s was not called: %s was not ready within %s", remote.Name, remote.File, i.Tool.Timeout)
		}
		if b := (*BrokenError)(nil); errors.As(err, &b) {
			c.log.WriteString(b.Trace)
		}
		return fail(ledger.NotDone, "config", "%s was not called: %v", remote.Name, err)
	}
	pool := h.pool(src, remote.File)
	f, ok := p.find(remote.Name)
	if !ok {
		pool.give(p, true)
		return fail(ledger.NotDone, "changed", "%s has no function %s any more; begin a new run to use what it has now", remote.File, remote.Name)
	}
	if p.hash(remote.File, f) != remote.Hash {
		pool.give(p, true)
		return fail(ledger.NotDone, "changed", "what %s of %s takes has changed since this run began; begin a new run to use it as it now is", remote.Name, remote.File)
	}
	r, end := p.call(ctx, c, f, raw, i)
	pool.give(p, end == "")
	sent.Log = tools.Clip(c.log.String(), maxLog)
	sure := ledger.Unknown
	if src.Inward() {
		sure = ledger.NotDone // there is nothing outside itself that it could have changed
	}
	lost := ""
	if src.Code.Keeps {
		lost = "; what it kept in memory is lost"
	}
	switch {
	case end != "" && ctx.Err() != nil:
		return fail(sure, "timeout", "%s had not returned after %s, and its process was ended%s", remote.Name, i.Tool.Timeout, lost)
	case end != "":
		return fail(sure, "ended", "the process of %s ended while %s was under way: %s%s", remote.File, remote.Name, end, lost)
	case r.Raises != nil:
		if r.Raises.NotDone {
			sure = ledger.NotDone
		}
		c.log.WriteString(r.Raises.Trace)
		if name := r.Raises.Missing; name != "" {
			c.log.WriteString("\n" + p.by.install(name, h.neighbour(src, remote.File, name)) + "\n")
		}
		return fail(sure, "raised", "%s", r.Raises)
	case r.Unfit != "":
		return fail(sure, "result", "%s", r.Unfit)
	}
	if r.fault != nil {
		return fail(sure, "result", "what %s gave is not JSON: %v", remote.Name, r.fault)
	}
	var m tools.Media
	for _, file := range r.Files {
		body, err := base64.StdEncoding.DecodeString(file.Body)
		if err != nil {
			return fail(sure, "result", "the file %q that %s attached cannot be read", file.Name, remote.Name)
		}
		m.Add("file", file.Type, file.Name, body)
	}
	sent.Bytes, sent.Reply = int64(len(r.Returns)), tools.Clip(string(r.Returns), c.limit)
	return deed.Result{Value: r.value, Sets: r.Sets, Sent: sent, Files: m.Files}, nil
}

// environment gives the environment of a source's processes.
func (h *Handler) environment(src *project.SourceDoc) ([]string, error) {
	env := []string{"PATH=" + os.Getenv("PATH"), "LANG=C.UTF-8", "PROJECT=" + h.dir}
	for _, k := range slices.Sorted(maps.Keys(src.Env)) {
		x, err := h.secrets.Expand(src.Env[k])
		if err != nil {
			return nil, err
		}
		env = append(env, k+"="+x)
	}
	return env, nil
}
