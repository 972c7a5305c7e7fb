// Package command carries tools out that are programs. A program gets
// {"args": …, "state": …, "key": …} as JSON on its standard input and gives its
// result on standard output; what it writes to standard error is its log. It is
// never started through a shell, and runs within the bounds of package sandbox
// unless the project says otherwise.
package command

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"mime"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"unicode"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/value"
	"stonebaton.example/internal/sandbox"
	"stonebaton.example/internal/tools"
)

// Bounds of one call that no file sets.
const (
	maxOutput = 4 << 20
	maxRecord = 2 << 10
	maxLog    = 16 << 10
)

// Expander puts the values of secrets into a text.
type Expander interface {
	Expand(string) (string, error)
}

// Handler runs the programs of a project.
type Handler struct {
	dir     string // the project's folder, absolute
	work    string // where each call gets a folder of its own
	secrets Expander
}

// New gives a handler for the programs of the project in dir. Calls work in
// folders below work; "" is the system's folder for what is temporary.
func New(dir, work string, s Expander) *Handler {
	if abs, err := filepath.Abs(dir); err == nil {
		dir = abs
	}
	return &Handler{dir, work, s}
}

// Call runs the program of a call.
func (h *Handler) Call(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
	c := i.Tool.Work.Spec.(*Command)
	sent := &ledger.Sent{Method: "COMMAND"}
	fail := func(o ledger.Outcome, class deed.Class, format string, args ...any) (deed.Result, *deed.Failure) {
		return deed.Result{}, &deed.Failure{Outcome: o, Class: class, Say: fmt.Sprintf(format, args...), Sent: sent}
	}
	spec, line, err := h.spec(i)
	sent.URL = line
	if err != nil {
		return fail(ledger.NotDone, "config", "%v", err)
	}
	defer os.RemoveAll(spec.Dir)
	if !c.Bare {
		if m := sandbox.Missing(); m != "" {
			return fail(ledger.NotDone, "config", "%s was not run: %s; say sandbox: none if it may run without bounds", i.Tool.Name, m)
		}
	}
	sent.Body = tools.Clip(string(spec.Stdin), record(i))
	d, err := sandbox.Run(ctx, spec)
	if err != nil {
		return fail(ledger.NotDone, "config", "%s failed to start: %v", i.Tool.Name, err)
	}
	sent.Status, sent.Bytes, sent.Log = d.Code, int64(len(d.Stdout)), tools.Clip(text(d.Stderr), maxLog)
	sent.Reply = tools.Clip(text(d.Stdout), record(i))
	switch {
	case d.Broke != "":
		return fail(ledger.Unknown, "bounds", "%s was ended: %s", i.Tool.Name, d.Broke)
	case d.Late:
		return fail(ledger.Unknown, "timeout", "%s had not ended after %s and was ended", i.Tool.Name, i.Tool.Timeout)
	case d.Signal != "":
		return fail(ledger.Unknown, "command", "%s was ended by a signal: %s", i.Tool.Name, d.Signal)
	}
	if say, ok := c.Refusals[d.Code]; ok {
		r, f := fail(ledger.NotDone, "refused", "%s", say)
		f.Status = d.Code
		if last := lastLine(d.Stderr); last != "" {
			f.Say += ": " + last
		}
		return r, f
	}
	if d.Code != 0 {
		r, f := fail(ledger.Unknown, "command", "%s ended with code %d%s%s", i.Tool.Name, d.Code, after(": ", lastLine(d.Stderr)), h.explain(c, d, spec))
		f.Status = d.Code
		return r, f
	}
	left, err := leaves(c.Files, spec.Dir)
	if err != nil {
		return fail(ledger.Unknown, "files", "what %s left cannot be read: %v", i.Tool.Name, err)
	}
	if c.Text {
		return deed.Result{Files: left, Value: strings.TrimRight(text(d.Stdout), "\n"), Sent: sent}, nil
	}
	if len(strings.TrimSpace(string(d.Stdout))) == 0 {
		return deed.Result{Sent: sent, Files: left}, nil
	}
	v, err := value.Read(d.Stdout)
	if err != nil {
		return fail(ledger.Unknown, "result", "what %s wrote is not JSON (%v): %s; say output: text if it is not meant to be", i.Tool.Name, err, tools.Clip(strings.TrimSpace(text(d.Stdout)), 80))
	}
	return deed.Result{Value: v, Sent: sent, Files: left}, nil
}

// Bounds of the files that one call leaves.
const (
	maxLeft  = 20
	maxBytes = 16 << 20
)

// leaves gives the files in the folder of a call that are part of its result. Links are not
// followed.
func leaves(patterns []string, dir string) ([]deed.File, error) {
	if len(patterns) == 0 {
		return nil, nil
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	var m tools.Media
	bytes := int64(0)
	for _, p := range patterns {
		names, err := fs.Glob(root.FS(), p)
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			info, err := root.Lstat(name)
			if err != nil || !info.Mode().IsRegular() {
				continue
			}
			if bytes += info.Size(); bytes > maxBytes || len(m.Files) == maxLeft {
				return nil, fmt.Errorf("at most %d files with %d MB in all can be part of a result", maxLeft, maxBytes>>20)
			}
			body, err := root.ReadFile(name)
			if err != nil {
				return nil, err
			}
			m.Add("file", mime.TypeByExtension(filepath.Ext(name)), name, body)
		}
	}
	return m.Files, nil
}

// explain tells what the bounds are, where a failure looks as if they were met.
func (h *Handler) explain(c *Command, d sandbox.Done, s sandbox.Spec) string {
	if c.Bare {
		return ""
	}
	if near := h.neighbour(d.Stderr, s.Reads); near != "" {
		return fmt.Sprintf(". %s is beside it, but a program reads only the files that its tool names: put what belongs together into a folder of its own, and add that to reads", near)
	}
	low := strings.ToLower(string(d.Stderr))
	if len(d.Refused) > 0 {
		said := tools.Unreached(d.Refused, c.Network.String())
		return ". " + strings.ToUpper(said[:1]) + said[1:]
	}
	denied := strings.Contains(low, "permission denied") || strings.Contains(low, "eacces") || strings.Contains(low, "not permitted") || strings.Contains(low, "eperm")
	if !denied {
		return ""
	}
	net := "reach no network"
	if c.Network.Any() {
		net = "reach " + c.Network.String()
	}
	list := func(paths []string) string {
		var out []string
		for _, p := range paths {
			if rel, err := filepath.Rel(h.dir, p); err == nil && !strings.HasPrefix(rel, "..") {
				out = append(out, rel)
			}
		}
		return strings.Join(out, ", ")
	}
	return fmt.Sprintf(". In its sandbox it may read the system's programs%s, write to its own folder%s, and %s", after(", ", list(s.Reads)), after(", ", list(s.Writes)), net)
}

// neighbour finds a file beside those of the command line that the program may not read
// and that its last words name, as those of a failed import do.
func (h *Handler) neighbour(said []byte, reads []string) string {
	words := strings.FieldsFunc(text(said), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '_' && r != '-' })
	for _, f := range reads {
		if info, err := os.Stat(f); err != nil || info.IsDir() || !h.owns(f) {
			continue
		}
		list, err := os.ReadDir(filepath.Dir(f))
		if err != nil {
			continue
		}
		for _, e := range list {
			p := filepath.Join(filepath.Dir(f), e.Name())
			stem := strings.TrimSuffix(e.Name(), filepath.Ext(e.Name()))
			covered := slices.ContainsFunc(reads, func(r string) bool { rel, err := filepath.Rel(r, p); return err == nil && filepath.IsLocal(rel) })
			if stem != "" && !covered && slices.Contains(words, stem) {
				return e.Name()
			}
		}
	}
	return ""
}

func after(lead, s string) string {
	if s == "" {
		return ""
	}
	return lead + s
}

func record(i deed.Invocation) int {
	if i.Bench {
		return maxOutput
	}
	return maxRecord
}

func text(b []byte) string { return strings.ToValidUTF8(string(b), "�") }

func lastLine(b []byte) string {
	lines := strings.Split(strings.TrimSpace(text(b)), "\n")
	return tools.Clip(strings.TrimSpace(lines[len(lines)-1]), 300)
}

// spec makes what runs of a call, and the command line as it is shown.
func (h *Handler) spec(i deed.Invocation) (sandbox.Spec, string, error) {
	c := i.Tool.Work.Spec.(*Command)
	s := sandbox.Spec{Bare: c.Bare, Network: c.Network.All, Hosts: c.Network.Hosts, Memory: int64(c.MemoryMB) << 20, Disk: int64(c.DiskMB) << 20, Processes: c.Processes, Output: maxOutput, Log: i.Logs()}
	var shown []string
	for _, t := range c.Run {
		a, err := t.Fill(i.Vars)
		if err != nil {
			return s, "", err
		}
		if strings.ContainsRune(a, 0) {
			return s, "", errors.New("an argument of the command would hold a NUL")
		}
		shown = append(shown, tools.Quote(a))
		s.Args = append(s.Args, a)
	}
	line := strings.Join(shown, " ")
	program, err := h.find(c, s.Args[0])
	if err != nil {
		return s, line, err
	}
	s.Args[0] = program
	s.Reads = append(s.Reads, program) // it alone: what stands beside it is not its own
	for n, t := range c.Run[1:] {      // a file that the tool names is the program, for an interpreter; what a value names is not
		if p := h.file(c, t); p != "" {
			s.Args[n+1] = p
			s.Reads = append(s.Reads, p)
		}
	}
	reads, writes, err := tools.Grants(h.dir, c.Reads, c.Writes)
	if err != nil {
		return s, line, err
	}
	s.Reads, s.Writes = append(s.Reads, reads...), writes
	if s.Dir, err = os.MkdirTemp(h.work, "call-"); err != nil {
		return s, line, fmt.Errorf("no folder could be made for the call: %w", err)
	}
	s.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + s.Dir, "TMPDIR=" + s.Dir, "LANG=C.UTF-8", "PROJECT=" + h.dir}
	for k, v := range c.Env {
		x, err := h.secrets.Expand(v)
		if err != nil {
			return s, line, err
		}
		s.Env = append(s.Env, k+"="+x)
	}
	facts := map[string]any{}
	for _, f := range c.State {
		if v, ok := i.Facts[f]; ok {
			facts[f] = v
		}
	}
	s.Stdin, err = json.Marshal(map[string]any{"args": i.Args, "state": facts, "key": i.Key})
	return s, line, err
}

// file gives the whole path of a file of the project that an argument of the tool names;
// "" where it names none, or where a value has a part in it.
func (h *Handler) file(c *Command, t *expr.Template) string {
	name := t.String()
	if !t.Plain() || name == "" || strings.HasPrefix(name, "-") || filepath.IsAbs(name) {
		return ""
	}
	rel := filepath.Join(c.Base, name)
	if !filepath.IsLocal(rel) || slices.ContainsFunc(strings.Split(rel, string(filepath.Separator)), func(part string) bool { return strings.HasPrefix(part, ".") && part != "." }) {
		return ""
	}
	p := filepath.Join(h.dir, rel)
	if info, err := os.Stat(p); err != nil || !info.Mode().IsRegular() {
		return "" // a folder is granted by reads: alone
	}
	return p
}

// Check says what keeps a tool's program from being run.
func (h *Handler) Check(_ context.Context, t *project.Tool) error {
	c := t.Work.Spec.(*Command)
	program, err := h.find(c, c.Run[0].String())
	if err != nil {
		return err
	}
	reads := []string{program}
	for _, p := range c.Reads {
		at, err := tools.Granted(h.dir, p)
		if err != nil {
			return err
		}
		reads = append(reads, at)
	}
	for _, a := range c.Run[1:] {
		name := a.String()
		if !a.Plain() || h.file(c, a) != "" || !strings.ContainsRune(name, '/') || !filepath.IsLocal(name) {
			continue
		}
		if info, err := os.Stat(filepath.Join(h.dir, name)); err == nil && info.Mode().IsRegular() {
			if rel, err := filepath.Rel(filepath.Join(h.dir, c.Base), filepath.Join(h.dir, name)); err == nil {
				return fmt.Errorf("there is no %s beside the file that names it: paths count from there, so write %s", name, rel)
			}
		}
	}
	for _, p := range append(append([]string{}, c.Reads...), c.Writes...) {
		if _, err := os.Stat(tools.Place(h.dir, p)); err != nil {
			return fmt.Errorf("there is no %s, which the program is granted", p)
		}
	}
	if real, err := filepath.EvalSymlinks(program); err == nil && !c.Bare && !h.owns(real) && !sandbox.Readable(real, reads[1:]) {
		return fmt.Errorf("%s is %s, beside which it may need files that its sandbox keeps from it; add the folder of its installation to reads", c.Run[0].String(), real)
	}
	for _, host := range c.Network.Hosts {
		if sandbox.Own(host) {
			return fmt.Errorf("network: %s is this service itself, which no program reaches", host)
		}
	}
	if !c.Bare && sandbox.Missing() != "" {
		return errors.New(sandbox.Missing() + ", so it will be refused; say sandbox: none if it may run without bounds")
	}
	return nil
}

// owns says whether a path is within the project.
func (h *Handler) owns(path string) bool {
	dir := h.dir
	if real, err := filepath.EvalSymlinks(dir); err == nil {
		dir = real
	}
	rel, err := filepath.Rel(dir, path)
	return err == nil && filepath.IsLocal(rel)
}

// find gives the whole path of a program: one of the project's, or one of the
// system's by its name.
func (h *Handler) find(c *Command, name string) (string, error) {
	if strings.ContainsRune(name, '/') && !filepath.IsAbs(name) {
		rel := filepath.Join(c.Base, name)
		p := filepath.Join(h.dir, rel)
		if !filepath.IsLocal(rel) {
			return "", fmt.Errorf("the program %s is outside the project", name)
		}
		info, err := os.Stat(p)
		if err != nil {
			return "", fmt.Errorf("there is no program %s in the project; its path counts from the file that names it", name)
		}
		if info.Mode()&0o111 == 0 {
			return "", fmt.Errorf("%s cannot be run: make it executable (chmod +x), or name its interpreter first", name)
		}
		return p, nil
	}
	p, err := exec.LookPath(name)
	if err != nil {
		return "", fmt.Errorf("there is no program %q on this machine; install it, or name it with its path", name)
	}
	return filepath.Abs(p)
}
