// Package shell runs lines of the shell that a model writes, in one granted folder. A line
// works on a copy of the folder, in the sandbox; what it has changed there is then put into the
// folder itself. So a person sees before they agree what it will change, all of it can be
// undone together, and nothing outside is ever touched.
package shell

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/sandbox"
	"stonebaton.example/internal/tools"
)

// Bounds of a line that no file sets.
const (
	maxOutput = 1 << 20
	maxFiles  = 2000
)

// Handler runs lines.
type Handler struct {
	dir, work string
	records   tools.Records
	working   sync.Mutex // one line at a time
}

// New gives a handler for the project in dir. Copies are made below work; "" is the system's
// folder for what is temporary.
func New(dir, work string, r tools.Records) *Handler {
	if abs, err := filepath.Abs(dir); err == nil {
		dir = abs
	}
	return &Handler{dir: dir, work: work, records: r}
}

// Rehearsal gives a handler that changes nothing: its lines work on the copy alone.
func (h *Handler) Rehearsal() tools.Handler { return &rehearsal{h} }

type rehearsal struct{ *Handler }

// Call runs a line on the copy.
func (r *rehearsal) Call(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
	done, bad := r.try(ctx, i)
	return deed.Result{Value: done.value}, bad
}

// tried is a line that was run on the copy.
type tried struct {
	value   map[string]any
	changes map[string]tools.FileChange
}

// try runs the line of a call on a copy of its folder.
func (h *Handler) try(ctx context.Context, i deed.Invocation) (tried, *deed.Failure) {
	s := i.Tool.Work.Spec.(*Shell)
	args, _ := i.Args.(map[string]any)
	line, _ := args["line"].(string)
	var out tried
	if m := sandbox.Missing(); m != "" {
		return out, deed.NotDone("config", "it was not run: %s", m)
	}
	root, err := h.open(s)
	if err != nil {
		return out, deed.NotDone("config", "%v", err)
	}
	defer root.Close()
	before, over := tools.Tree(root, maxFiles)
	if over {
		return out, deed.NotDone("bounds", "the folder %s holds more than %d files", s.In, maxFiles)
	}
	dir, err := os.MkdirTemp(h.work, "shell-")
	if err != nil {
		return out, deed.NotDone("config", "no copy of the folder could be made: %v", err)
	}
	defer os.RemoveAll(dir)
	was := map[string][]byte{}
	total := int64(0)
	for _, p := range slices.Sorted(maps.Keys(before)) {
		body, err := root.ReadFile(p)
		if err != nil {
			return out, deed.NotDone("config", "%s cannot be read: %v", path.Join(s.In, p), err)
		}
		if total += int64(len(body)); total > int64(s.DiskMB)<<20 {
			return out, deed.NotDone("bounds", "the folder %s holds more than %d MB", s.In, s.DiskMB)
		}
		was[p] = body
		at := filepath.Join(dir, filepath.FromSlash(p))
		if err := errors.Join(os.MkdirAll(filepath.Dir(at), 0o700), os.WriteFile(at, body, before[p].Mode|0o600)); err != nil {
			return out, deed.NotDone("config", "no copy of the folder could be made: %v", err)
		}
	}
	spec := sandbox.Spec{Args: []string{"/bin/sh", "-c", line}, Dir: dir, Reads: []string{"/bin/sh"}, Network: s.Network.All, Hosts: s.Network.Hosts, Output: maxOutput, Tell: i.Logs(), Log: i.Logs(),
		Memory: int64(s.MemoryMB) << 20, Disk: int64(s.DiskMB) << 20, Processes: s.Processes, Env: []string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir, "TMPDIR=" + dir, "LANG=C.UTF-8"}}
	reads, _, err := tools.Grants(h.dir, s.Reads, nil)
	if err != nil {
		return out, deed.NotDone("config", "it was not run: %v", err)
	}
	spec.Reads = append(spec.Reads, reads...)
	d, err := sandbox.Run(ctx, spec)
	if err != nil {
		return out, deed.NotDone("config", "it failed to start: %v", err)
	}
	if out.value = tools.Ran(d, i.Tool.Timeout); d.Broke != "" || d.Late {
		out.value["ended"] = out.value["ended"].(string) + "; nothing that it changed is kept"
		return out, nil
	}
	copied, err := os.OpenRoot(dir)
	if err != nil {
		return out, deed.NotDone("config", "%v", err)
	}
	defer copied.Close()
	after, over := tools.Tree(copied, maxFiles)
	if over {
		out.value["exit"], out.value["ended"] = -1.0, fmt.Sprintf("it made more than %d files; nothing that it changed is kept", maxFiles)
		return out, nil
	}
	out.changes = map[string]tools.FileChange{}
	for p, st := range after {
		body, err := copied.ReadFile(p)
		if err != nil {
			continue
		}
		if old, there := was[p]; !there || !bytes.Equal(old, body) {
			out.changes[p] = tools.FileChange{Was: was[p], Now: body, Mode: st.Mode}
		}
	}
	for p, body := range was {
		if _, there := after[p]; !there {
			out.changes[p] = tools.FileChange{Was: body, Mode: before[p].Mode}
		}
	}
	return out, nil
}

// open opens the folder that lines work in, so that nothing leads out of it.
func (h *Handler) open(s *Shell) (*os.Root, error) {
	if !tools.Straight(h.dir, s.In) {
		return nil, fmt.Errorf("the folder %s is reached through a link; grant the folder itself", s.In)
	}
	root, err := os.OpenRoot(filepath.Join(h.dir, s.In))
	if err != nil {
		return nil, fmt.Errorf("the folder %s cannot be opened: %w", s.In, err)
	}
	return root, nil
}

// Look shows what a line would change. One that may reach the network is not run for that.
func (h *Handler) Look(ctx context.Context, i deed.Invocation) (string, *deed.Failure) {
	s := i.Tool.Work.Spec.(*Shell)
	if s.Network.Any() {
		return "It may reach " + s.Network.String() + ", so it was not tried: what it would change is not known.", nil
	}
	ctx, cancel := context.WithTimeout(ctx, i.Tool.Timeout)
	defer cancel()
	i.Log = nil
	t, bad := h.try(ctx, i)
	if bad != nil {
		return "", bad
	}
	return difference(s.In, t.changes), nil
}

// difference shows changes as one unified difference.
func difference(in string, changes map[string]tools.FileChange) string {
	var b strings.Builder
	for _, p := range slices.Sorted(maps.Keys(changes)) {
		b.WriteString(tools.Diff(path.Join(in, p), changes[p].Was, changes[p].Now))
	}
	return tools.Clip(b.String(), 64<<10)
}

// Call runs the line of a call, and puts what it changed into the folder.
func (h *Handler) Call(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
	h.working.Lock()
	defer h.working.Unlock()
	s := i.Tool.Work.Spec.(*Shell)
	args, _ := i.Args.(map[string]any)
	line, _ := args["line"].(string)
	sent := &ledger.Sent{Method: "SHELL", URL: line}
	t, bad := h.try(ctx, i)
	if bad != nil {
		bad.Sent = sent
		return deed.Result{}, bad
	}
	sent.Status = int(t.value["exit"].(float64))
	sent.Reply, _ = t.value["output"].(string)
	sent.Log, _ = t.value["errors"].(string)
	if len(t.changes) == 0 {
		return deed.Result{Value: t.value, Sent: sent}, nil
	}
	if s.free(i.Args) {
		t.value["ended"] = "it changed files, which are as they were: the line is listed as harmless"
		return deed.Result{Value: t.value, Sent: sent}, nil
	}
	sent.Diff, sent.Undo = difference(s.In, t.changes), i.Key
	was, err := json.Marshal(t.changes)
	if err != nil {
		return deed.Result{}, deed.NotDone("config", "what it changed cannot be kept: %v", err)
	}
	text := string(was)
	if err := h.records.SaveChange(ctx, tools.Change{Key: i.Key, Run: i.Run, Step: string(i.Step), At: time.Now().UTC(), Path: s.In, Before: &text, After: tools.Many}); err != nil {
		f := deed.NotDone("store", "what is needed to undo it cannot be kept, so nothing was changed: %v", err)
		f.Sent = sent
		return deed.Result{}, f
	}
	root, err := h.open(s)
	if err != nil {
		return deed.Result{}, deed.NotDone("config", "%v", err)
	}
	defer root.Close()
	if err := apply(root, t.changes, func(c tools.FileChange) []byte { return c.Now }); err != nil {
		return deed.Result{}, &deed.Failure{Outcome: ledger.Unknown, Class: "files", Say: err.Error(), Sent: sent}
	}
	var names []any
	for _, p := range slices.Sorted(maps.Keys(t.changes)) {
		names = append(names, p)
	}
	t.value["changed"] = names
	return deed.Result{Value: t.value, Sent: sent}, nil
}

// apply brings files to how they were before the changes, or after them.
func apply(root *os.Root, changes map[string]tools.FileChange, to func(tools.FileChange) []byte) error {
	for _, p := range slices.Sorted(maps.Keys(changes)) {
		c := changes[p]
		body := to(c)
		if body == nil {
			if err := root.Remove(p); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("%s could not be removed: %w", p, err)
			}
			continue
		}
		if err := root.MkdirAll(path.Dir(p), 0o755); err != nil {
			return fmt.Errorf("the folder of %s could not be made: %w", p, err)
		}
		if err := root.WriteFile(p, body, c.Mode); err != nil {
			return fmt.Errorf("%s could not be written: %w", p, err)
		}
	}
	return nil
}

// Undo puts all files back that a line changed, unless one has changed since.
func (h *Handler) Undo(ctx context.Context, key string) (tools.Change, error) {
	h.working.Lock()
	defer h.working.Unlock()
	c, err := h.records.Change(ctx, key)
	switch {
	case err != nil:
		return c, err
	case c.After != tools.Many:
		return c, tools.ErrNoChange
	case c.Undone != nil:
		return c, &tools.UndoError{Say: fmt.Sprintf("what the line changed in %s was undone already, at %s", c.Path, c.Undone.Format(time.RFC3339))}
	}
	changes := map[string]tools.FileChange{}
	if err := json.Unmarshal([]byte(*c.Before), &changes); err != nil {
		return c, err
	}
	root, err := h.open(&Shell{In: c.Path})
	if err != nil {
		return c, &tools.UndoError{Say: err.Error()}
	}
	defer root.Close()
	for p, x := range changes {
		now, err := root.ReadFile(p)
		gone := errors.Is(err, fs.ErrNotExist)
		if (x.Now == nil) != gone || (!gone && !bytes.Equal(now, x.Now)) {
			return c, &tools.UndoError{Say: fmt.Sprintf("%s has been changed since; undo that first, or change it by hand", path.Join(c.Path, p))}
		}
	}
	if err := apply(root, changes, func(x tools.FileChange) []byte { return x.Was }); err != nil {
		return c, err
	}
	now := time.Now().UTC()
	c.Undone = &now
	return c, h.records.MarkUndone(ctx, key, now)
}

// Check says what keeps lines from being run.
func (h *Handler) Check(_ context.Context, t *project.Tool) error {
	s := t.Work.Spec.(*Shell)
	root, err := h.open(s)
	if err != nil {
		return err
	}
	root.Close()
	for _, p := range s.Reads {
		if _, err := tools.Granted(h.dir, p); err != nil {
			return err
		}
	}
	if m := sandbox.Missing(); m != "" {
		return errors.New(m + ", so lines are refused")
	}
	return nil
}
