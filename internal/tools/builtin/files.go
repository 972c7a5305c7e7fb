package builtin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"syscall"
	"time"
	"unicode/utf8"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/tools"
)

// Bounds of files that tools read and write.
const (
	maxText  = 1 << 20
	maxFound = 2000
	maxFiles = 100_000
)

// folder is one granted folder, opened so that nothing leads out of it: neither
// .. nor links.
type folder struct {
	name string // within the project
	root *os.Root
}

// folders opens the granted folders.
func (c call) folders() ([]folder, error) {
	project, err := os.OpenRoot(c.dir)
	if err != nil {
		return nil, err
	}
	defer project.Close()
	var out []folder
	for _, name := range c.spec.In {
		if !tools.Straight(c.dir, name) {
			closeAll(out)
			return nil, fmt.Errorf("the folder %s, which %s may use, is reached through a link; grant the folder itself", name, c.i.Tool.Name)
		}
		r, err := project.OpenRoot(name)
		if err != nil {
			closeAll(out)
			return nil, fmt.Errorf("the folder %s, which %s may use, cannot be opened: %w", name, c.i.Tool.Name, reason(err))
		}
		out = append(out, folder{name, r})
	}
	return out, nil
}

func closeAll(fs []folder) {
	for _, f := range fs {
		f.root.Close()
	}
}

// Check says what keeps a tool from its folders.
func (h *Handler) Check(_ context.Context, t *project.Tool) error {
	dirs, err := call{Handler: h, i: deed.Invocation{Tool: t}, spec: t.Work.Spec.(*Builtin)}.folders()
	closeAll(dirs)
	return err
}

// reason gives what is wrong without the path of this machine.
func reason(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// place finds the granted folder in which a path stands. With one folder, paths
// are within it; with several they begin with the folder's name.
func place(fs []folder, p string) (folder, string, error) {
	if strings.ContainsRune(p, 0) {
		return folder{}, "", errors.New("a path cannot contain NUL")
	}
	if !utf8.ValidString(p) {
		return folder{}, "", errors.New("the path is not valid UTF-8")
	}
	for _, part := range strings.Split(p, "/") {
		if len(part) > 255 {
			return folder{}, "", errors.New("a name in the path is longer than 255 bytes")
		}
	}
	clean := path.Clean(filepath.ToSlash(p))
	var names []string
	for _, f := range fs {
		names = append(names, f.name)
		if rest, ok := strings.CutPrefix(clean, f.name+"/"); ok {
			return f, rest, inView(rest)
		}
	}
	if len(fs) == 1 && filepath.IsLocal(clean) && clean != "." {
		return fs[0], clean, inView(clean)
	}
	return folder{}, "", fmt.Errorf("%q is outside the folders that may be used: %s", p, strings.Join(names, ", "))
}

// inView refuses what stands aside: files with secrets, and the service's own.
func inView(p string) error {
	for _, part := range strings.Split(p, "/") {
		if strings.HasPrefix(part, ".") {
			return errors.New("files and folders whose name begins with a dot are not for tools")
		}
	}
	return nil
}

func (c call) files(do string) (deed.Result, *deed.Failure) {
	dirs, err := c.folders()
	if err != nil {
		return c.fail(ledger.NotDone, "config", "%v", err)
	}
	defer closeAll(dirs)
	switch do {
	case "list":
		return c.list(dirs)
	case "search":
		return c.search(dirs)
	}
	f, p, err := place(dirs, c.text("path"))
	if err != nil {
		return c.refuse("%v", err)
	}
	switch do {
	case "read":
		return c.read(f, p)
	}
	return c.change(f, p)
}

// edit is a change of a file that has not been made yet.
type edit struct {
	was   string
	there bool
	text  string // what the file is to hold
	line  int    // where the replaced passage begins; 0 where the whole file is written
}

// edit finds out what a call would make of a file. An error is one that the model reads.
func (c call) edit(f folder, p string) (edit, error) {
	name := c.text("path")
	was, err := readText(f.root, p)
	e := edit{was: was, there: err == nil}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return e, fmt.Errorf("%s was not changed: %w", name, err)
	}
	if c.spec.Do == "files.write" {
		e.text = c.text("text")
	} else {
		old := c.text("old")
		n := strings.Count(was, old)
		switch {
		case !e.there:
			return e, fmt.Errorf("cannot find the file %s", name)
		case n == 0:
			return e, fmt.Errorf("the passage is not in %s; read the file and give the passage exactly as it is there", name)
		case n > 1:
			return e, fmt.Errorf("the passage is in %s %d times; give more of the text around it", name, n)
		}
		e.line = strings.Count(was[:strings.Index(was, old)], "\n") + 1
		e.text = strings.Replace(was, old, c.text("new"), 1)
	}
	if len(e.text) > maxText {
		return e, fmt.Errorf("the file would have %d bytes; a tool may write %d", len(e.text), maxText)
	}
	return e, nil
}

// Look gives the difference that a change of a file would make.
func (h *Handler) Look(ctx context.Context, i deed.Invocation) (string, *deed.Failure) {
	args, _ := i.Args.(map[string]any)
	c := call{Handler: h, ctx: ctx, i: i, args: args, spec: i.Tool.Work.Spec.(*Builtin)}
	bad := func(class deed.Class, err error) (string, *deed.Failure) {
		return "", &deed.Failure{Outcome: ledger.NotDone, Class: class, Say: err.Error()}
	}
	dirs, err := c.folders()
	if err != nil {
		return bad("config", err)
	}
	defer closeAll(dirs)
	f, p, err := place(dirs, c.text("path"))
	if err != nil {
		return bad("refused", err)
	}
	e, err := c.edit(f, p)
	if err != nil {
		return bad("refused", err)
	}
	return diff(path.Join(f.name, p), e.was, e.text, e.there), nil
}

// walk goes through the files of the granted folders, by their paths as tools
// name them.
func walk(dirs []folder, do func(f folder, p, shown string, info fs.FileInfo) error) error {
	n := 0
	for _, f := range dirs {
		err := fs.WalkDir(f.root.FS(), ".", func(p string, e fs.DirEntry, err error) error {
			if err != nil || p == "." {
				return nil // what cannot be read is not there for a tool
			}
			if strings.HasPrefix(e.Name(), ".") {
				if e.IsDir() {
					return fs.SkipDir
				}
				return nil
			}
			info, err := e.Info()
			if err != nil || !info.Mode().IsRegular() {
				return nil
			}
			if n++; n > maxFiles {
				return fmt.Errorf("there are more than %d files in the folders", maxFiles)
			}
			shown := p
			if len(dirs) > 1 {
				shown = f.name + "/" + p
			}
			return do(f, p, shown, info)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func (c call) list(dirs []folder) (deed.Result, *deed.Failure) {
	match := c.text("match")
	out, more := []any{}, false
	err := walk(dirs, func(_ folder, p, shown string, info fs.FileInfo) error {
		if c.ctx.Err() != nil {
			return c.ctx.Err()
		}
		if match != "" {
			ok, err := path.Match(match, path.Base(p))
			if err != nil {
				return fmt.Errorf("%q is not a pattern such as *.md", match)
			}
			if whole, _ := path.Match(match, shown); !ok && !whole {
				return nil
			}
		}
		if len(out) == maxFound {
			more = true
			return fs.SkipAll
		}
		out = append(out, map[string]any{"path": shown, "bytes": float64(info.Size()), "changed": info.ModTime().UTC().Format(time.RFC3339)})
		return nil
	})
	if err != nil {
		return c.refuse("%v", err)
	}
	return deed.Result{Value: out, More: more}, nil
}

func (c call) search(dirs []folder) (deed.Result, *deed.Failure) {
	words := strings.ToLower(c.text("text"))
	out, more := []any{}, false
	err := walk(dirs, func(f folder, p, shown string, info fs.FileInfo) error {
		if c.ctx.Err() != nil {
			return c.ctx.Err()
		}
		text, err := readText(f.root, p)
		if err != nil {
			return nil // not a text
		}
		for n, line := range strings.Split(text, "\n") {
			if strings.Contains(strings.ToLower(line), words) {
				if len(out) == maxFound {
					more = true
					return fs.SkipAll
				}
				out = append(out, map[string]any{"path": shown, "line": float64(n + 1), "text": clip(strings.TrimSpace(line), 300)})
			}
		}
		return nil
	})
	if err != nil {
		return c.refuse("the search was not finished: %v", err)
	}
	return deed.Result{Value: out, More: more}, nil
}

func clip(s string, n int) string {
	if len(s) > n {
		return strings.ToValidUTF8(s[:n], "") + "…"
	}
	return s
}

// errNoText says of a file that it is there, and no text.
var errNoText = errors.New("it is not a text")

func readText(root *os.Root, p string) (string, error) {
	f, err := root.OpenFile(p, os.O_RDONLY|syscall.O_NONBLOCK, 0) // a pipe would be waited for
	if err != nil {
		return "", reason(err)
	}
	defer f.Close()
	info, err := f.Stat()
	switch {
	case err != nil:
		return "", reason(err)
	case info.IsDir():
		return "", errors.New("it is a folder")
	case !info.Mode().IsRegular():
		return "", errors.New("it is not a plain file")
	case info.Size() > maxText:
		return "", fmt.Errorf("it has %d bytes; a tool may read %d", info.Size(), maxText)
	}
	raw, err := io.ReadAll(io.LimitReader(f, maxText+1))
	if err != nil {
		return "", reason(err)
	}
	if !utf8.Valid(raw) {
		return "", errNoText
	}
	return string(raw), nil
}

func (c call) read(f folder, p string) (deed.Result, *deed.Failure) {
	text, err := readText(f.root, p)
	if errors.Is(err, errNoText) {
		body, rerr := f.root.ReadFile(p)
		if typ := tools.TypeOf("", body); rerr == nil && typ != "application/octet-stream" {
			var m tools.Media
			return deed.Result{Value: map[string]any{"path": c.text("path"), "lines": 0.0, "text": fmt.Sprintf("It is no text; the file itself comes with this (%s).", typ), "file": m.Add("file", typ, p, body)}, Files: m.Files}, nil
		}
	}
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return c.refuse("cannot find the file %s", c.text("path"))
		}
		return c.refuse("%s cannot be read: %v", c.text("path"), err)
	}
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	all := len(lines)
	if from := max(1, c.number("from")); from > 1 || c.number("lines") > 0 {
		if from > all {
			return c.refuse("%s has %d lines; there is no line %d", c.text("path"), all, from)
		}
		lines = lines[from-1:]
		if n := c.number("lines"); n > 0 && n < len(lines) {
			lines = lines[:n]
		}
		text = strings.Join(lines, "\n")
	}
	return deed.Result{Value: map[string]any{"path": c.text("path"), "text": text, "lines": float64(all)}}, nil
}

// change writes a file anew, and keeps what is needed to undo it.
func (c call) change(f folder, p string) (deed.Result, *deed.Failure) {
	c.writing.Lock()
	defer c.writing.Unlock()
	done := func(text string, more map[string]any, sent *ledger.Sent) (deed.Result, *deed.Failure) {
		more["path"], more["bytes"] = c.text("path"), float64(len(text))
		return deed.Result{Value: more, Sent: sent}, nil
	}
	whole := path.Join(f.name, p)
	if old, err := c.records.Change(c.ctx, c.i.Key); err == nil && old.Undone == nil {
		if is, err := readText(f.root, p); err == nil && old.After == string(ledger.HashOf([]byte(is))) {
			what := map[string]any{"created": old.Before == nil}
			if c.spec.Do == "files.replace" {
				what = map[string]any{"line": float64(strings.Count(is[:max(0, strings.Index(is, c.text("new")))], "\n") + 1)}
			}
			return done(is, what, &ledger.Sent{Method: "FILE", URL: whole, Bytes: int64(len(is)), Log: "the same call had done it already", Undo: c.i.Key})
		}
	}
	e, err := c.edit(f, p)
	if err != nil {
		return c.refuse("%v", err)
	}
	sent := &ledger.Sent{Method: "FILE", URL: whole, Bytes: int64(len(e.text)), Diff: diff(whole, e.was, e.text, e.there), Undo: c.i.Key}
	ch := tools.Change{Key: c.i.Key, Run: c.i.Run, Step: string(c.i.Step), At: time.Now().UTC(), Path: whole, After: string(ledger.HashOf([]byte(e.text)))}
	if e.there {
		ch.Before = &e.was
	}
	if err := c.records.SaveChange(c.ctx, ch); err != nil {
		return c.fail(ledger.NotDone, "files", "%s was not changed, because what is needed to undo it could not be stored: %v", whole, err)
	}
	if err := write(f.root, p, e.text); err != nil {
		return c.fail(ledger.NotDone, "files", "%s could not be written: %v", whole, reason(err))
	}
	if e.line > 0 {
		return done(e.text, map[string]any{"line": float64(e.line)}, sent)
	}
	return done(e.text, map[string]any{"created": !e.there}, sent)
}

// write puts a text in a file's place all at once: a crash leaves the old or the
// new one.
func write(root *os.Root, p, text string) error {
	if dir := path.Dir(p); dir != "." {
		if err := root.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	mode := fs.FileMode(0o644)
	if info, err := root.Lstat(p); err == nil {
		if !info.Mode().IsRegular() {
			return errors.New("it is not a plain file")
		}
		mode = info.Mode().Perm()
	}
	tmp := path.Join(path.Dir(p), fmt.Sprintf(".%d.new", time.Now().UnixNano()))
	f, err := root.OpenFile(tmp, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	err = errors.Join(err, f.Sync(), f.Close())
	if err == nil {
		err = root.Rename(tmp, p)
	}
	if err != nil {
		_ = root.Remove(tmp)
	}
	return err
}

// diff shows how a file changes; there says whether it was there before.
func diff(name, was, is string, there bool) string {
	if !there {
		return tools.Diff(name, nil, []byte(is))
	}
	return tools.Diff(name, []byte(was), []byte(is))
}

// Undo puts a file back as it was before a change, unless it has changed since.
func (h *Handler) Undo(ctx context.Context, key string) (tools.Change, error) {
	h.writing.Lock()
	defer h.writing.Unlock()
	c, err := h.records.Change(ctx, key)
	if err != nil {
		return c, err
	}
	if c.After == tools.Many {
		return c, tools.ErrNoChange // of another kind
	}
	if c.Undone != nil {
		return c, &tools.UndoError{Say: fmt.Sprintf("the change of %s was undone already, at %s", c.Path, c.Undone.Format(time.RFC3339))}
	}
	root, err := os.OpenRoot(h.dir)
	if err != nil {
		return c, err
	}
	defer root.Close()
	is, err := readText(root, c.Path)
	if err != nil || string(ledger.HashOf([]byte(is))) != c.After {
		return c, &tools.UndoError{Say: fmt.Sprintf("%s has been changed since; undo that first, or change it by hand", c.Path)}
	}
	if c.Before == nil {
		err = root.Remove(c.Path)
	} else {
		err = write(root, c.Path, *c.Before)
	}
	if err != nil {
		return c, fmt.Errorf("%s could not be put back: %w", c.Path, reason(err))
	}
	now := time.Now().UTC()
	c.Undone = &now
	return c, h.records.MarkUndone(ctx, key, now)
}
