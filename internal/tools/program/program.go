// Package program runs programs that a model writes, after a person agreed: in the sandbox,
// in a folder of the session, which the next one of the session finds as this one left it. The
// files that it makes are kept by their content. A program that fails is a result that the
// model reads, and may fix, as often as the tool says.
package program

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/sandbox"
	"stonebaton.example/internal/tools"
)

// Bounds of a program that no file sets.
const (
	maxCode   = 200_000
	maxOutput = 1 << 20
	maxFiles  = 1000 // in its folder
	maxKept   = 50   // that are kept of one run
	maxFile   = 8 << 20
)

// Evaluate runs a script in process, as the body of a function.
type Evaluate func(ctx context.Context, i deed.Invocation, code string) (deed.Result, *deed.Failure)

// Handler runs programs.
type Handler struct {
	dir     string // the project's folder, absolute
	folders string // where sessions have theirs; "" is a new one for each call
	records tools.Records
	script  Evaluate
	offline bool // nothing is installed

	mu       sync.Mutex
	sessions map[string]*sync.Mutex
}

// New gives a handler for the programs of the project in dir. Sessions have their folders
// below folders.
func New(dir, folders string, r tools.Records, script Evaluate) *Handler {
	if abs, err := filepath.Abs(dir); err == nil {
		dir = abs
	}
	if abs, err := filepath.Abs(folders); err == nil && folders != "" { // programs start elsewhere
		folders = abs
	}
	return &Handler{dir: dir, folders: folders, records: r, script: script, sessions: map[string]*sync.Mutex{}}
}

// Rehearsal gives a handler that leaves nothing behind and installs nothing.
func (h *Handler) Rehearsal() tools.Handler {
	r := New(h.dir, "", &tools.Memory{}, h.script)
	r.offline = true
	return r
}

// call is one program to run.
type call struct {
	*Handler
	i                    deed.Invocation
	spec                 *Program
	language, file, code string
	dir                  string // the session's folder
	root                 *os.Root
}

// open opens the folder of a call, which it has to itself until it is closed.
func (h *Handler) open(i deed.Invocation) (*call, func(), error) {
	args, _ := i.Args.(map[string]any)
	text := func(k string) string { s, _ := args[k].(string); return s }
	c := &call{Handler: h, i: i, spec: i.Tool.Work.Spec.(*Program), language: text("language"), file: text("file"), code: text("code")}
	session, _, _ := strings.Cut(i.Run, "-")
	var done func()
	if session == "" || h.folders == "" {
		dir, err := os.MkdirTemp("", "program-")
		if err != nil {
			return nil, nil, err
		}
		c.dir, done = dir, func() { os.RemoveAll(dir); os.RemoveAll(dir + ".libraries") }
	} else {
		h.mu.Lock()
		m := h.sessions[session]
		if m == nil {
			m = &sync.Mutex{}
			h.sessions[session] = m
		}
		h.mu.Unlock()
		m.Lock()
		c.dir, done = filepath.Join(h.folders, session), m.Unlock
		if err := os.MkdirAll(c.dir, 0o700); err != nil {
			done()
			return nil, nil, err
		}
	}
	root, err := os.OpenRoot(c.dir)
	if err != nil {
		done()
		return nil, nil, err
	}
	c.root = root
	return c, func() { root.Close(); done() }, nil
}

// Look shows what has changed in a program since its last version, and what it would install.
func (h *Handler) Look(ctx context.Context, i deed.Invocation) (string, *deed.Failure) {
	c, closeIt, err := h.open(i)
	if err != nil {
		return "", &deed.Failure{Outcome: ledger.NotDone, Class: "config", Say: err.Error()}
	}
	defer closeIt()
	if say := c.missing(); say != "" {
		return "", &deed.Failure{Outcome: ledger.NotDone, Class: "refused", Say: say}
	}
	var seen string
	if c.spec.Network.Any() && c.language != "javascript" {
		seen = "It may reach " + c.spec.Network.String() + ".\n"
	}
	if want := c.wanted(); len(want) > 0 {
		plan, bad := c.planned(ctx, want)
		if bad != nil {
			return "", bad
		}
		seen += plan
	}
	was, err := c.root.ReadFile(c.file)
	if err != nil || string(was) == c.code {
		return seen, nil
	}
	return seen + tools.Diff(c.file, was, []byte(c.code)), nil
}

// missing says why the language cannot be had here; "" where it can.
func (c *call) missing() string {
	if c.language == "javascript" || c.interpreter(c.spec, c.language) != "" {
		return ""
	}
	var have []string
	for _, l := range c.spec.Languages {
		if v := c.version(c.spec, l); v != "" {
			have = append(have, v)
		}
	}
	say := fmt.Sprintf("there is no %s on this machine", c.language)
	if p, err := exec.LookPath(c.language); err == nil {
		say = fmt.Sprintf("%s is %s, which the sandbox keeps from programs", c.language, p)
	}
	return fmt.Sprintf("%s; there is %s", say, strings.Join(have, ", "))
}

// interpreter gives the whole path of the first interpreter of a language that a program may
// read in the sandbox, with what stands beside it; "" where there is none.
func (h *Handler) interpreter(p *Program, language string) string {
	var reads []string
	for _, r := range append(slices.Clone(p.Reads), p.Libraries...) {
		reads = append(reads, tools.Place(h.dir, r))
	}
	for _, dir := range append(filepath.SplitList(os.Getenv("PATH")), "/usr/bin", "/usr/local/bin", "/bin") {
		name := filepath.Join(dir, language)
		if info, err := os.Stat(name); err != nil || info.IsDir() || info.Mode()&0o111 == 0 || !filepath.IsAbs(name) {
			continue
		}
		if real, err := filepath.EvalSymlinks(name); err == nil && sandbox.Readable(real, reads) {
			return name
		}
	}
	return ""
}

var versions sync.Map // of each interpreter, by its path

// version says what a language is on this machine; "" where it is not there.
func (h *Handler) version(p *Program, language string) string {
	if language == "javascript" {
		return "javascript"
	}
	name := h.interpreter(p, language)
	if name == "" {
		return ""
	}
	if v, ok := versions.Load(name); ok {
		return v.(string)
	}
	v := language
	if language != "sh" { // which has no option for it
		out, err := exec.Command(name, "--version").Output()
		if line, _, _ := strings.Cut(strings.TrimSpace(string(out)), "\n"); err == nil && line != "" {
			words := strings.Fields(line)
			v = language + " " + strings.TrimPrefix(words[len(words)-1], "v")
		}
	}
	versions.Store(name, v)
	return v
}

// Check says what keeps a tool from running programs on this machine.
func (h *Handler) Check(_ context.Context, t *project.Tool) error {
	p := t.Work.Spec.(*Program)
	var gone []string
	for _, l := range p.Languages {
		if h.version(p, l) == "" {
			gone = append(gone, l)
		}
	}
	if len(gone) > 0 && len(p.Languages) < len(all) { // those that the file names
		return fmt.Errorf("%s is not on this machine", strings.Join(gone, ", "))
	}
	for _, d := range append(slices.Clone(p.Libraries), p.Reads...) {
		at, err := tools.Granted(h.dir, d)
		if err != nil {
			return err
		}
		if _, err := os.Stat(at); err != nil {
			return fmt.Errorf("there is no %s, which programs are granted", d)
		}
	}
	if m := sandbox.Missing(); m != "" {
		return errors.New(m + ", so programs are refused")
	}
	return nil
}

// tries is how often a file has failed in a run; it stands beside the session's folder.
type tries map[string]struct {
	Run   string `json:"run"`
	Fails int    `json:"fails"`
}

func (c *call) triesFile() string { return c.dir + ".json" }

func (c *call) tries() tries {
	t := tries{}
	if raw, err := os.ReadFile(c.triesFile()); err == nil {
		_ = json.Unmarshal(raw, &t) // what cannot be read counts nothing
	}
	return t
}

// Call runs the program of a call.
func (h *Handler) Call(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
	c, closeIt, err := h.open(i)
	if err != nil {
		return deed.Result{}, deed.NotDone("config", "no folder could be made for it: %v", err)
	}
	defer closeIt()
	if say := c.missing(); say != "" {
		return deed.Result{}, deed.NotDone("refused", "%s", say)
	}
	t := c.tries()
	if x := t[c.file]; x.Run == i.Run && x.Fails >= c.spec.Tries {
		return deed.Result{}, deed.NotDone("refused", "%s has failed %d times, and is not run again (tries: %d). Say what keeps it from working", c.file, x.Fails, c.spec.Tries)
	}
	if bad := c.install(ctx); bad != nil {
		return deed.Result{}, bad
	}
	r, bad := c.run(ctx)
	if bad != nil {
		return r, bad
	}
	x := t[c.file]
	if x.Run != i.Run {
		x.Run, x.Fails = i.Run, 0
	}
	if v, _ := r.Value.(map[string]any); v["exit"] != 0.0 {
		x.Fails++
	} else {
		x.Fails = 0
	}
	t[c.file] = x
	if raw, err := json.Marshal(t); err == nil && h.folders != "" && i.Run != "" {
		_ = os.WriteFile(c.triesFile(), raw, 0o600) // a count that is lost lets it try once more
	}
	return r, nil
}

// run writes the program into its folder, runs it, and keeps what it made.
func (c *call) run(ctx context.Context) (deed.Result, *deed.Failure) {
	before, over := tools.Tree(c.root, maxFiles)
	if over {
		return deed.Result{}, deed.NotDone("bounds", "the session's folder holds more than %d files", maxFiles)
	}
	if info, err := c.root.Lstat(c.file); err == nil && !info.Mode().IsRegular() {
		return deed.Result{}, deed.NotDone("refused", "%s is there, and is not a file; choose another name", c.file)
	}
	if err := c.root.WriteFile(c.file, []byte(c.code), 0o600); err != nil {
		return deed.Result{}, deed.NotDone("config", "the program could not be written to its folder: %v", err)
	}
	value := map[string]any{"exit": 0.0, "by": c.version(c.spec, c.language)}
	sent := &ledger.Sent{Method: "PROGRAM", URL: value["by"].(string) + " " + c.file, Body: tools.Clip(c.code, tools.MaxRead)}
	if c.language == "javascript" {
		r, bad := c.script(ctx, c.i, c.code)
		if r.Sent != nil {
			value["output"] = tools.Clip(r.Sent.Log, tools.MaxRead)
		}
		if bad != nil {
			value["exit"], value["errors"] = 1.0, bad.Say
			if bad.Sent != nil {
				value["output"] = tools.Clip(bad.Sent.Log, tools.MaxRead)
			}
		} else if r.Value != nil {
			value["result"] = r.Value
		}
	} else if bad := c.start(ctx, value); bad != nil {
		bad.Sent = sent
		return deed.Result{}, bad
	}
	sent.Status = int(value["exit"].(float64))
	sent.Log, _ = value["errors"].(string)
	sent.Reply, _ = value["output"].(string)
	made, err := c.keep(ctx, before)
	if err != nil {
		value["ended"] = err.Error()
	}
	var names []any
	for _, f := range made {
		names = append(names, f.Path)
	}
	if len(names) > 0 {
		value["files"] = names
	}
	sent.Files = made
	for k, v := range value {
		if v == "" {
			delete(value, k)
		}
	}
	return deed.Result{Value: value, Sent: sent}, nil
}

// start runs the program in the sandbox, and fills in how it went.
func (c *call) start(ctx context.Context, value map[string]any) *deed.Failure {
	bad := func(format string, args ...any) *deed.Failure {
		f := deed.NotDone("config", format, args...)
		return f
	}
	if m := sandbox.Missing(); m != "" {
		return bad("it was not run: %s", m)
	}
	interpreter := c.interpreter(c.spec, c.language)
	s := sandbox.Spec{Args: []string{interpreter, c.file}, Dir: c.dir, Reads: []string{interpreter}, Network: c.spec.Network.All, Hosts: c.spec.Network.Hosts, Output: maxOutput, Tell: c.i.Logs(), Log: c.i.Logs(),
		Memory: int64(c.spec.MemoryMB) << 20, Disk: int64(c.spec.DiskMB) << 20, Processes: c.spec.Processes,
		Env: []string{"PATH=" + os.Getenv("PATH"), "HOME=" + c.dir, "TMPDIR=" + c.dir, "LANG=C.UTF-8", "PYTHONDONTWRITEBYTECODE=1"}}
	if c.language == "node" {
		s.Memory = max(s.Memory, 512<<20) // which it sets aside before it does anything
	}
	var libraries []string
	for n, p := range append(slices.Clone(c.spec.Libraries), c.spec.Reads...) {
		at, err := tools.Granted(c.Handler.dir, p)
		if err != nil {
			return bad("it was not run: %v", err)
		}
		s.Reads = append(s.Reads, at)
		if n < len(c.spec.Libraries) {
			libraries = append(libraries, at)
		}
	}
	switch c.language { // "python3" installs into the folder itself, "node" below it
	case "python3":
		libraries = append(libraries, c.installed())
	case "node":
		libraries = append(libraries, filepath.Join(c.installed(), "node_modules"))
	}
	s.Reads = append(s.Reads, c.installed())
	if len(libraries) > 0 {
		list := strings.Join(libraries, string(os.PathListSeparator))
		s.Env = append(s.Env, "PYTHONPATH="+list, "NODE_PATH="+list)
	}
	d, err := sandbox.Run(ctx, s)
	if err != nil {
		return bad("it failed to start: %v", err)
	}
	maps.Copy(value, tools.Ran(d, c.i.Tool.Timeout))
	if d.Code != 0 && c.spec.Installs[c.language] != "" {
		value["lacks"] = lacks(c.language, string(d.Stderr))
	}
	return nil
}

// keep keeps the files that are new, or other than before, by their content.
func (c *call) keep(ctx context.Context, before map[string]tools.Stamp) ([]ledger.File, error) {
	after, over := tools.Tree(c.root, maxFiles)
	if over {
		c.empty()
		return nil, fmt.Errorf("it made more than %d files; its folder was emptied", maxFiles)
	}
	var out []ledger.File
	left := 0
	for _, p := range slices.Sorted(maps.Keys(after)) {
		if p == c.file || before[p] == after[p] || strings.HasPrefix(path.Base(p), ".") {
			continue
		}
		if len(out) == maxKept || after[p].Size > maxFile {
			left++
			continue
		}
		f, err := c.root.Open(p)
		if err != nil {
			continue
		}
		body, err := io.ReadAll(io.LimitReader(f, maxFile+1))
		f.Close()
		if err != nil || len(body) > maxFile {
			continue
		}
		hash, err := c.records.KeepFile(ctx, body)
		if err != nil {
			return out, fmt.Errorf("its files could not be kept: %w", err)
		}
		out = append(out, ledger.File{Path: p, Hash: ledger.Hash(hash), Bytes: int64(len(body)), Type: kindOf(p)})
	}
	if left > 0 {
		return out, fmt.Errorf("of its files %d are not kept: at most %d of at most %d MB are", left, maxKept, maxFile>>20)
	}
	return out, nil
}

// empty takes all out of the folder.
func (c *call) empty() {
	list, err := os.ReadDir(c.dir)
	if err != nil {
		return
	}
	for _, e := range list {
		_ = c.root.RemoveAll(e.Name()) // what stays is counted the next time
	}
}

// kindOf gives the media type of a file, by its name.
func kindOf(name string) string {
	if t := mime.TypeByExtension(path.Ext(name)); t != "" {
		return t
	}
	return "application/octet-stream"
}
