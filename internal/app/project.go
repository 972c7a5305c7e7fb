package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/google/renameio/v2"
	"github.com/joho/godotenv"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/secret"
	"stonebaton.example/internal/store"
	"stonebaton.example/internal/understudy"
)

// Environment finds values in the environment, then in a folder's .env.
func Environment(dir string, extra map[string]string) func(string) (string, bool) {
	return func(name string) (string, bool) {
		if v, ok := extra[name]; ok {
			return v, true
		}
		if v, ok := os.LookupEnv(name); ok {
			return v, true
		}
		file, err := godotenv.Read(filepath.Join(dir, ".env"))
		if err != nil {
			return "", false
		}
		v, ok := file[name]
		return v, ok
	}
}

func compile(src project.Source) (*project.Project, []project.Problem) {
	p, probs := Reader.Compile(src)
	if p == nil {
		return nil, probs
	}
	lines := understudy.Check(p)
	probs = append(probs, lines...)
	if slices.ContainsFunc(lines, func(x project.Problem) bool { return x.Grade == project.Error }) {
		return nil, probs
	}
	return p, probs
}

// Projects keeps the project of a folder up to date. A broken edit leaves the
// last good version in place and shows what is wrong. It is an engine.Projects.
type Projects struct {
	dir     string
	env     func(string) (string, bool)
	store   *store.Store
	secrets *secret.Store
	shop    *Workshop
	trust   *trust
	log     *slog.Logger
	changed func()

	editing  sync.Mutex // one at a time changes a file
	reading  sync.Mutex // one at a time reads the folder
	mu       sync.RWMutex
	current  *project.Project
	newest   ledger.Hash // of the files as they are, good or bad
	problems []project.Problem
	data     map[string]bool // files of data that the project names
	read     time.Time
	versions map[ledger.Hash]*project.Project
}

// ProblemsError says that a project cannot be run as its files are.
type ProblemsError struct{ Problems []project.Problem }

func (e *ProblemsError) Error() string {
	n, first := 0, ""
	for _, p := range e.Problems {
		if p.Grade == project.Error {
			if n++; first == "" {
				first = fmt.Sprintf("%s:%d: %s", p.File, p.Line, p.Say)
			}
		}
	}
	if n == 1 {
		return "the project has a problem: " + first
	}
	return fmt.Sprintf("the project has %d problems; the first: %s", n, first)
}

// Reload reads the folder again. It says whether anything changed.
func (ps *Projects) Reload(ctx context.Context) (bool, error) {
	ps.reading.Lock()
	defer ps.reading.Unlock()
	p, src, probs := ps.shop.Read(ctx, ps.env, func(source string) (project.Catalogue, bool) {
		c, ok, err := ps.store.Catalogue(ctx, source)
		return c, ok && err == nil
	})
	hash := src.Hash()
	ps.mu.RLock()
	same := ps.newest == hash && !ps.read.IsZero() && slices.Equal(ps.problems, probs)
	ps.mu.RUnlock()
	if same {
		return false, nil
	}
	if p != nil {
		if err := ps.store.SaveVersion(ctx, src); err != nil {
			return false, err
		}
		for name, cat := range src.Catalogues {
			if cat.Fault == "" {
				if err := ps.store.SaveCatalogue(ctx, name, cat); err != nil {
					return false, err
				}
			}
		}
	}
	if len(src.Catalogues) > 0 {
		go debug.FreeOSMemory() // documents of sources can be large, and are read seldom
	}
	ps.mu.Lock()
	defer ps.mu.Unlock()
	ps.newest, ps.problems, ps.read = hash, probs, time.Now()
	ps.data = named(src, cmp.Or(p, ps.current))
	if p != nil {
		ps.current = p
		ps.versions[p.Version] = p
	}
	return true, nil
}

// Current gives the newest version without errors.
func (ps *Projects) Current() (*project.Project, error) {
	ps.mu.RLock()
	defer ps.mu.RUnlock()
	if ps.current == nil {
		return nil, &ProblemsError{ps.problems}
	}
	return ps.current, nil
}

// Problems gives the problems of the files as they are, whether an older
// version is in use because of them, and when they were read.
func (ps *Projects) Problems() (probs []project.Problem, older bool, read time.Time) {
	ps.mu.RLock()
	defer ps.mu.RUnlock()
	return ps.problems, ps.current != nil && ps.current.Version != ps.newest, ps.read
}

// Broken names the first error of the files, where an older version is in use because
// of it; "" where the files are in use as they are.
func (ps *Projects) Broken() string {
	probs, older, _ := ps.Problems()
	if !older {
		return ""
	}
	for _, p := range probs {
		if p.Grade == project.Error {
			return fmt.Sprintf("%s: %s", p.Place, p.Say)
		}
	}
	return ""
}

// Waiting lists what does not run outside the sandbox before a person has confirmed it.
func (ps *Projects) Waiting() []project.Outside { return ps.trust.list() }

// Confirm lets something run that waits, and reads the project again, since a source
// can be asked now. An id that does not wait is ErrNotWaiting.
func (ps *Projects) Confirm(ctx context.Context, id ledger.Hash, by string) (project.Outside, error) {
	o, err := ps.trust.confirm(ctx, id, by)
	if err != nil {
		return o, err
	}
	ps.log.Info("confirmed to run outside the sandbox", "what", o.Kind+" "+o.Name, "by", by)
	changed, err := ps.Reload(ctx)
	if changed {
		ps.report()
		ps.changed()
	}
	return o, err
}

// Sources gives the sources as the files have them now, whole or not; where they cannot be read
// at all, those of the version in use.
func (ps *Projects) Sources() (*project.Project, error) {
	p, err := ps.shop.Sources(ps.env)
	if err != nil {
		return ps.Current()
	}
	return p, nil
}

// Dir is the project's folder.
func (ps *Projects) Dir() string { return ps.dir }

// Version gives the version a run was opened with.
func (ps *Projects) Version(ctx context.Context, h ledger.Hash) (*project.Project, error) {
	ps.mu.RLock()
	p := ps.versions[h]
	ps.mu.RUnlock()
	if p != nil {
		return p, nil
	}
	src, err := ps.store.Version(ctx, h)
	if err != nil {
		return nil, err
	}
	for _, text := range src.Files {
		ps.secrets.Learn(text)
	}
	p, probs := ps.shop.compile(src)
	if p == nil {
		return nil, fmt.Errorf("the version %s of the project, with which the run began, is not accepted by this program: %w", h, &ProblemsError{probs})
	}
	ps.mu.Lock()
	ps.versions[h] = p
	ps.mu.Unlock()
	return p, nil
}

// settle is how long the files must be quiet before they are read again: an
// editor writes in several strokes.
const settle = 120 * time.Millisecond

// pace is how often what is written all the time is looked at again.
const pace = time.Second

// named gives the files of data, and the folders granted, on which it depends
// whether a project is sound: of what they hold the project's hash says nothing.
func named(src project.Source, p *project.Project) map[string]bool {
	out := map[string]bool{}
	add := func(file string) {
		if f := filepath.FromSlash(file); filepath.IsLocal(f) && !strings.Contains(file, "://") {
			out[filepath.Clean(f)] = true
		}
	}
	for _, s := range Reader.Sources(src) {
		add(s.Document)
	}
	if p == nil {
		return out
	}
	for _, t := range p.Tools {
		for _, f := range t.Work.Data {
			add(f)
		}
	}
	return out
}

// delay is how long a change of a file waits to be read, and whether it is read at
// all: of what lies apart only what is named, in its own time.
func (ps *Projects) delay(file string) (wait time.Duration, matters bool) {
	rel, err := filepath.Rel(ps.dir, file)
	if err != nil {
		return settle, true
	}
	ps.mu.RLock()
	defer ps.mu.RUnlock()
	if ps.data[rel] {
		return pace, true
	}
	if base := filepath.Base(rel); strings.HasPrefix(base, ".") && base != ".env" {
		return 0, false
	}
	folders := strings.Split(filepath.Dir(rel), string(filepath.Separator))
	if folders[0] != "." && slices.ContainsFunc(folders, project.Apart) {
		return 0, false
	}
	return settle, true
}

// watch reads the project again whenever its files change, until ctx ends.
func (ps *Projects) watch(ctx context.Context) error {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return err
	}
	add := func() {
		_ = filepath.WalkDir(ps.dir, func(p string, e fs.DirEntry, err error) error {
			if err != nil || !e.IsDir() {
				return nil // a folder that vanished need not be watched
			}
			if p != ps.dir && project.Apart(e.Name()) {
				return fs.SkipDir
			}
			return w.Add(p)
		})
		ps.mu.RLock()
		defer ps.mu.RUnlock()
		for f := range ps.data {
			_ = w.Add(filepath.Join(ps.dir, filepath.Dir(f))) // a folder that is not there yet comes with its parent
		}
	}
	add()
	go func() {
		defer w.Close()
		quiet := time.NewTimer(time.Hour)
		quiet.Stop()
		var since time.Time // of the first change that is not read yet
		for {
			select {
			case <-ctx.Done():
				return
			case ev, ok := <-w.Events:
				if !ok {
					return
				}
				wait, matters := ps.delay(ev.Name)
				if !matters || (!since.IsZero() && (wait == pace || time.Since(since) > pace)) {
					continue // what is written all the time is read in between
				}
				if since.IsZero() {
					since = time.Now()
				}
				quiet.Reset(wait)
			case err := <-w.Errors:
				ps.log.Warn("failed to watch the project's folder", "error", err)
			case <-quiet.C:
				since = time.Time{}
				add()
				changed, err := ps.Reload(ctx)
				if err != nil && !errors.Is(err, context.Canceled) {
					ps.log.Error("failed to read the project again", "error", err)
				}
				if changed {
					ps.report()
					ps.changed()
				}
			}
		}
	}()
	return nil
}

// report says in the log how the files are.
func (ps *Projects) report() {
	probs, older, _ := ps.Problems()
	errs, first := 0, ""
	for _, p := range probs {
		if p.Grade == project.Error {
			if errs++; first == "" {
				first = fmt.Sprintf("%s: %s", p.Place, p.Say)
			}
		}
	}
	switch {
	case older:
		ps.log.Warn("the project's files have errors; the last good version stays in use", "errors", errs, "first", first)
	case errs > 0:
		ps.log.Warn("the project has errors; no run can start until they are fixed", "errors", errs, "first", first)
	default:
		ps.log.Info("read the project", "dir", ps.dir)
	}
	for _, p := range probs {
		if p.Code == "trust" {
			ps.log.Warn(p.Say, "file", p.Place.String())
		}
	}
}

// ErrNoTool says that the project has no such tool.
var ErrNoTool = errors.New("there is no such tool")

// ErrNoSource says that the project has no such source.
var ErrNoSource = errors.New("there is no such source")

// EditRefusedError says that a change of a file would have broken the project.
type EditRefusedError struct{ Problem project.Problem }

func (e *EditRefusedError) Error() string { return e.Problem.Say }

// AddStub writes a stub into the file of its tool, and reads the project again.
func (ps *Projects) AddStub(ctx context.Context, tool string, draft project.StubDraft) (project.Edit, error) {
	ps.editing.Lock()
	defer ps.editing.Unlock()
	p, err := ps.Current()
	if err != nil {
		return project.Edit{}, err
	}
	edit, err := ps.shop.AddStub(p, ps.env, tool, draft)
	if err != nil {
		return edit, err
	}
	return edit, ps.reread(ctx)
}

// Add writes a document more into the project's files, and reads the project again.
func (ps *Projects) Add(ctx context.Context, a project.Addition) ([]project.Edit, error) {
	ps.editing.Lock()
	defer ps.editing.Unlock()
	p, err := ps.Current()
	if err != nil {
		return nil, err
	}
	edits, err := ps.shop.Add(p, ps.env, a)
	if err != nil {
		return nil, err
	}
	return edits, ps.reread(ctx)
}

// KeepCan writes into the project's file what a test found a model able to do, and reads the project
// again.
func (ps *Projects) KeepCan(ctx context.Context, model string, can project.Can) ([]project.Edit, error) {
	ps.editing.Lock()
	defer ps.editing.Unlock()
	edits, err := ps.shop.KeepCan(ps.env, model, can)
	if err != nil {
		return nil, err
	}
	return edits, ps.reread(ctx)
}

// Take writes into the project's files which tools of a source it has, and reads the project again.
func (ps *Projects) Take(ctx context.Context, t project.Taking) ([]project.Edit, error) {
	ps.editing.Lock()
	defer ps.editing.Unlock()
	p, err := ps.Current()
	if err != nil {
		return nil, err
	}
	d := p.Sources[t.Source]
	if d == nil {
		return nil, ErrNoSource
	}
	cat, err := ps.shop.Offers(ctx, d)
	if err != nil {
		return nil, err
	}
	edits, err := ps.shop.edit(p, ps.env, func(src project.Source) ([]project.Edit, error) {
		edits, err := project.Take(src, t, cat)
		if err == nil {
			taken := *d
			taken.Take = t.Take
			src.Catalogues[t.Source] = cat.Taken(&taken)
		}
		return edits, err
	})
	if err != nil {
		return nil, err
	}
	return edits, ps.reread(ctx)
}

// reread reads the project after a change of its files.
func (ps *Projects) reread(ctx context.Context) error {
	changed, err := ps.Reload(ctx)
	if changed {
		ps.report()
		ps.changed()
	}
	return err
}

// AddStub writes a stub into the file of its tool. A stub that does not fit the
// tool's contract is refused, and nothing is written.
func (w *Workshop) AddStub(p *project.Project, env func(string) (string, bool), tool string, draft project.StubDraft) (project.Edit, error) {
	t := p.Tools[tool]
	if t == nil {
		return project.Edit{}, ErrNoTool
	}
	edits, err := w.edit(p, env, func(src project.Source) ([]project.Edit, error) {
		e, err := project.AddStub(src, t, draft)
		return []project.Edit{e}, err
	})
	if err != nil {
		return project.Edit{}, err
	}
	return edits[0], nil
}

// Add writes a document more into the project's files. What would break the project is refused,
// and nothing is written.
func (w *Workshop) Add(p *project.Project, env func(string) (string, bool), a project.Addition) ([]project.Edit, error) {
	return w.edit(p, env, func(src project.Source) ([]project.Edit, error) { return project.Add(src, a) })
}

// KeepCan writes into the project's file what a test found a model able to do, also where an agent
// then has a model that is of no use to it: that is what it is for.
func (w *Workshop) KeepCan(env func(string) (string, bool), model string, can project.Can) ([]project.Edit, error) {
	src, _ := Reader.Load(os.DirFS(w.dir), env)
	e, err := project.Keep(src, model, can)
	if err != nil {
		return nil, err
	}
	return []project.Edit{e}, w.put(e)
}

// edit changes files of the project, where the project is sound with the changes.
func (w *Workshop) edit(p *project.Project, env func(string) (string, bool), make func(project.Source) ([]project.Edit, error)) ([]project.Edit, error) {
	src, probs := Reader.Load(os.DirFS(w.dir), env)
	src.Catalogues = maps.Clone(p.Catalogues)
	if src.Catalogues == nil {
		src.Catalogues = map[string]project.Catalogue{}
	}
	edits, err := make(src)
	if err != nil {
		return nil, err
	}
	for name, text := range w.files() {
		src.Files[name] = text
	}
	for _, e := range edits {
		src.Files[e.File] = e.Body
	}
	_, more := compile(src)
	for _, x := range append(probs, more...) {
		if x.Grade == project.Error {
			return nil, &EditRefusedError{x}
		}
	}
	for _, e := range edits {
		if err := w.put(e); err != nil {
			return nil, err
		}
	}
	return edits, nil
}

// put writes a changed file.
func (w *Workshop) put(e project.Edit) error {
	name := filepath.Join(w.dir, filepath.FromSlash(e.File))
	mode := os.FileMode(0o644)
	if info, err := os.Stat(name); err == nil {
		mode = info.Mode().Perm()
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	return renameio.WriteFile(name, []byte(e.Body), mode, renameio.IgnoreUmask())
}
