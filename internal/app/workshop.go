package app

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/joho/godotenv"
	"golang.org/x/sync/singleflight"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/openapi"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/secret"
	"stonebaton.example/internal/tools"
	"stonebaton.example/internal/tools/code"
	thttp "stonebaton.example/internal/tools/http"
	"stonebaton.example/internal/tools/mcp"
	"stonebaton.example/internal/tools/own"
	"stonebaton.example/internal/tools/sql"
	"stonebaton.example/internal/tools/web"
)

// Workshop is what carries out the tools of the project in a folder, and asks its
// sources what they offer.
type Workshop struct {
	Secrets *secret.Store
	Set     *tools.Set
	Servers *mcp.Servers

	dir    string
	own    []own.Tool
	client *web.Client
	trust  *trust

	functions *code.Handler
	tables    *sql.Handler

	changed func(source string) // nil: nobody is told, so that everything is waited for
	life    context.Context     // ends with the workshop
	end     context.CancelFunc
	asks    singleflight.Group // of sources

	mu    sync.Mutex
	docs  map[string]readDocument // OpenAPI documents that were read, by where they are
	asked map[string]string       // source → why it could not say what it offers; "" where it could
	late  map[string]error        // source → why, where that was found after it was waited for; told once
}

type readDocument struct {
	stamp string
	cat   project.Catalogue
}

// WorkshopConfig says what a workshop is for.
type WorkshopConfig struct {
	Dir       string
	Work      string // where programs get folders of their own; "" is the system's
	Programs  string // where sessions have folders for the programs of their models; "" is one for each call
	Databases string // where the databases of the project are; "" is in memory
	Packages  string // where the packages are installed that tool servers come in
	Secrets   *secret.Store
	Records   tools.Records // nil: in memory
	Own       []own.Tool
	Changed   func(source string)       // a source offers something else than before, or at last; nil: nobody is told
	Tell      func(source, line string) // how far the package of a source is installed

	trust *trust // nil: all that the files name may run, as where a person checks or tries them
}

// NewWorkshop gives a workshop. Close it.
func NewWorkshop(c WorkshopConfig) *Workshop {
	if c.Records == nil {
		c.Records = &tools.Memory{}
	}
	w := &Workshop{Secrets: c.Secrets, dir: c.Dir, own: c.Own, client: web.New(c.Secrets), changed: c.Changed, trust: c.trust,
		docs: map[string]readDocument{}, asked: map[string]string{}, late: map[string]error{}}
	w.life, w.end = context.WithCancel(context.Background())
	w.Servers = mcp.New(mcp.Config{Dir: c.Dir, Work: c.Work, Packages: c.Packages, Client: w.client, Changed: c.Changed, Tell: c.Tell})
	w.functions = code.New(c.Dir, c.Work, c.Secrets)
	handlers := map[string]tools.Handler{"mcp": w.Servers, "openapi": thttp.New(w.client, c.Dir), "code": w.functions}
	for _, k := range kinds {
		handlers[k.Name] = k.handler(w, c)
	}
	w.Set = tools.NewSet(handlers, w.trust.hold, c.Records)
	return w
}

// Dir is the project's folder.
func (w *Workshop) Dir() string { return w.dir }

// Close ends what the workshop has started.
func (w *Workshop) Close() error {
	w.end()
	return w.Set.Close()
}

// files are the documents of the program's own functions, as files of a project.
func (w *Workshop) files() map[string]string {
	out := map[string]string{}
	for _, t := range w.own {
		out[project.OwnFiles+t.Name+".yaml"] = t.Document
	}
	return out
}

// compile makes a project of files. What is about a function of the program's own is
// placed where the program makes a tool of it.
func (w *Workshop) compile(src project.Source) (*project.Project, []project.Problem) {
	p, probs := compile(src)
	for _, t := range w.own {
		for i := range probs {
			if probs[i].File == project.OwnFiles+t.Name+".yaml" {
				probs[i].Place, probs[i].Tool = t.Place, t.Name
			}
		}
		if p != nil && p.Tools[t.Name] != nil {
			p.Tools[t.Name].Place = t.Place
		}
	}
	return p, probs
}

// Sources reads the source documents of the folder, so that a source can be looked at before
// its project is whole.
func (w *Workshop) Sources(env func(string) (string, bool)) (*project.Project, error) {
	src, err := Load(w.dir, env)
	if err != nil {
		return nil, err
	}
	p := &project.Project{Sources: map[string]*project.SourceDoc{}}
	for _, s := range Reader.Sources(src) {
		p.Sources[s.Name] = s
	}
	for _, text := range src.Files {
		w.Secrets.Learn(text)
	}
	return p, nil
}

// Offers asks one source for all that it offers.
func (w *Workshop) Offers(ctx context.Context, s *project.SourceDoc) (project.Catalogue, error) {
	if err := w.trusted(s); err != nil {
		return project.Catalogue{}, err
	}
	switch {
	case s.Code != nil:
		return w.functions.Catalogue(ctx, s)
	case s.Document == "":
		return w.Servers.Catalogue(ctx, s)
	}
	raw, stamp, err := w.document(ctx, s)
	if err != nil {
		return project.Catalogue{}, err
	}
	w.mu.Lock()
	was, ok := w.docs[s.Document]
	w.mu.Unlock()
	if ok && was.stamp == stamp && stamp != "" {
		return was.cat, nil
	}
	cat, err := openapi.Read(raw)
	if err != nil {
		return cat, fmt.Errorf("%s: %w", s.Document, err)
	}
	w.mu.Lock()
	w.docs[s.Document] = readDocument{stamp, cat}
	w.mu.Unlock()
	return cat, nil
}

// trusted is an UntrustedError where a source is not to be asked yet.
func (w *Workshop) trusted(s *project.SourceDoc) error {
	if o, is := s.Outside(); is && !w.trust.allows(o) {
		return &UntrustedError{o}
	}
	return nil
}

// Prepare has what a source needs installed, and waits for it for a moment. Where it is still
// being installed then, it says how far that is; the installation goes on.
func (w *Workshop) Prepare(ctx context.Context, s *project.SourceDoc) (*mcp.Installing, error) {
	if err := w.trusted(s); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, moment)
	defer cancel()
	return w.Servers.Prepare(ctx, s)
}

// UntrustedError says that something does not run before a person has confirmed it.
type UntrustedError struct{ What project.Outside }

func (e *UntrustedError) Error() string { return waits(e.What) }

// maxDocument bounds one OpenAPI document.
const maxDocument = 64 << 20

// document reads a document, of the project or from a URL. The stamp tells whether it
// is as it was; raw may be nil then.
func (w *Workshop) document(ctx context.Context, s *project.SourceDoc) (raw []byte, stamp string, err error) {
	if !strings.Contains(s.Document, "://") {
		root, err := os.OpenRoot(w.dir)
		if err != nil {
			return nil, "", err
		}
		defer root.Close()
		f, err := root.Open(filepath.FromSlash(s.Document))
		if err != nil {
			return nil, "", fmt.Errorf("cannot find the file %s in the project", s.Document)
		}
		defer f.Close()
		if info, err := f.Stat(); err == nil {
			stamp = fmt.Sprint(info.Size(), info.ModTime().UnixNano())
		}
		w.mu.Lock()
		same := w.docs[s.Document].stamp == stamp
		w.mu.Unlock()
		if same && stamp != "" {
			return nil, stamp, nil
		}
		raw, err = io.ReadAll(io.LimitReader(f, maxDocument+1))
		return raw, stamp, err
	}
	ctx, cancel := context.WithTimeout(ctx, s.Timeout)
	defer cancel()
	u, err := url.Parse(s.Document)
	if err != nil {
		return nil, "", err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.Document, nil)
	if err != nil {
		return nil, "", err
	}
	if err := w.client.Sign(req, s.Auth); err != nil {
		return nil, "", err
	}
	resp, err := w.client.Do(req, web.Grant{Host: u.Host, Redirects: true})
	if err != nil {
		return nil, "", fmt.Errorf("%s does not answer: %s", u.Host, web.Brief(err))
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, "", fmt.Errorf("%s answered %d", s.Document, resp.StatusCode)
	}
	raw, err = io.ReadAll(io.LimitReader(resp.Body, maxDocument+1))
	return raw, string(ledger.HashOf(raw)), err
}

// catalogues asks every source of a project for the tools that it takes. Last
// finds what a source offered before, for one that cannot be reached.
func (w *Workshop) catalogues(ctx context.Context, src project.Source, last func(source string) (project.Catalogue, bool)) map[string]project.Catalogue {
	list := Reader.Sources(src)
	if len(list) == 0 {
		return nil
	}
	out := map[string]project.Catalogue{}
	var mu sync.Mutex
	var wg sync.WaitGroup
	for _, s := range list {
		wg.Add(1)
		go func() {
			defer wg.Done()
			was, known := project.Catalogue{Tools: []project.Offer{}}, false
			if last != nil {
				if c, ok := last(s.Name); ok {
					was, known = c, true
				}
			}
			cat, err := w.ask(ctx, s, known)
			cat = cat.Taken(s)
			if err != nil {
				if cat = was; known {
					cat = was.Taken(s)
				}
				cat.Fault = err.Error()
				cat.Soon = errors.As(err, new(soonError))
			}
			mu.Lock()
			out[s.Name] = cat
			mu.Unlock()
		}()
	}
	wg.Wait()
	return out
}

// patience is how long a source that was asked before may keep a project waiting.
const patience = 2 * time.Second

// moment is how long it takes to be told how far the package of a source is installed.
const moment = 500 * time.Millisecond

// soonError says why a source that is still being asked has not answered.
type soonError string

func (e soonError) Error() string { return string(e) }

// ask asks a source what it offers. One that was asked before, by this service or an
// earlier one, and does not answer soon is left to answer later, which is told then:
// a silent server must not hold up every change of a file. Nor must one that is installed
// first.
func (w *Workshop) ask(ctx context.Context, s *project.SourceDoc, known bool) (project.Catalogue, error) {
	key := s.Key()
	w.mu.Lock()
	fault, before := w.asked[key]
	late, is := w.late[key]
	delete(w.late, key)
	w.mu.Unlock()
	if is {
		return project.Catalogue{}, late
	}
	answer := w.asks.DoChan(key, func() (any, error) {
		cat, err := w.Offers(w.life, s)
		w.mu.Lock()
		defer w.mu.Unlock()
		if w.asked[key] = ""; err != nil {
			w.asked[key] = err.Error()
		}
		return cat, err
	})
	var enough <-chan time.Time
	if known || before || s.Package != nil && w.changed != nil {
		enough = time.After(patience)
	}
	select {
	case a := <-answer:
		return a.Val.(project.Catalogue), a.Err
	case <-ctx.Done():
		return project.Catalogue{}, fmt.Errorf("its answer was not waited for: %w", ctx.Err())
	case <-enough:
	}
	go func() {
		if a := <-answer; w.changed != nil && w.life.Err() == nil {
			if a.Err != nil {
				w.mu.Lock()
				w.late[key] = a.Err
				w.mu.Unlock()
			}
			w.changed(s.Name)
		}
	}()
	if on := w.Servers.Installing(s); on != nil {
		return project.Catalogue{}, soonError(on.Say())
	}
	if fault != "" {
		return project.Catalogue{}, errors.New(fault)
	}
	return project.Catalogue{}, soonError(fmt.Sprintf("it has not answered within %s, and is still being asked", patience))
}

// Read reads a project and checks it: scripts, understudy lines and secrets too.
// The project is nil where a problem of the grade Error was found. Last finds what
// a source offered before; nil where that is not known.
func (w *Workshop) Read(ctx context.Context, env func(string) (string, bool), last func(source string) (project.Catalogue, bool)) (*project.Project, project.Source, []project.Problem) {
	src, probs := Reader.Load(os.DirFS(w.dir), env)
	unread := len(probs)
	for name, text := range w.files() {
		src.Files[name] = text
	}
	for _, text := range src.Files {
		w.Secrets.Learn(text)
	}
	src.Catalogues = w.catalogues(ctx, src, last)
	p, more := w.compile(src)
	probs = append(append(append(probs, more...), unset(src, env)...), unreadEnv(w.dir)...)
	if p != nil {
		probs = append(append(probs, w.lacking(ctx, p, src)...), w.untrusted(p)...)
	}
	// files that are not read come first, since others may miss what they hold; then what keeps the project from running
	slices.SortStableFunc(probs[unread:], func(a, b project.Problem) int { return a.Grade.Rank() - b.Grade.Rank() })
	if slices.ContainsFunc(probs, func(x project.Problem) bool { return x.Grade == project.Error }) {
		return nil, src, probs
	}
	return p, src, probs
}

// untrusted warns of what waits until a person lets it run.
func (w *Workshop) untrusted(p *project.Project) []project.Problem {
	if w.trust == nil {
		return nil
	}
	now := p.Outside()
	w.trust.keep(now)
	var out []project.Problem
	for _, o := range now {
		if !w.trust.allows(o) {
			x := project.Problem{Grade: project.Warning, Code: "trust", Place: o.Place, Say: waits(o), Remedy: confirmIt}
			if o.Kind == "tool" {
				x.Tool = o.Name
			}
			out = append(out, x)
		}
	}
	return out
}

// unreadEnv warns of an .env file that cannot be read.
func unreadEnv(dir string) []project.Problem {
	raw, err := os.ReadFile(filepath.Join(dir, ".env"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	warn := func(line int, text, format string, args ...any) []project.Problem {
		return []project.Problem{{Grade: project.Warning, Place: project.Place{File: ".env", Line: line, Col: 1}, Text: text, Say: fmt.Sprintf(format, args...) + "; no value of the file is used",
			Remedy: "Write one NAME=value on each line; a comment begins with #."}}
	}
	if err != nil {
		return warn(1, "", "the file cannot be read: %v", reasonOf(err))
	}
	if _, err := godotenv.UnmarshalBytes(raw); err == nil {
		return nil
	}
	// the package names no line: it is the first after the longest head that can be read
	lines, good := strings.Split(string(raw), "\n"), 0
	for n := range lines {
		if _, err := godotenv.Unmarshal(strings.Join(lines[:n], "\n") + "\n"); err == nil {
			good = n
		}
	}
	name, _, _ := strings.Cut(lines[good], "=") // a value may be secret
	return warn(good+1, strings.TrimSpace(name), "the line is not NAME=value")
}

// reasonOf gives what is wrong without the path of this machine.
func reasonOf(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// lacking warns of tools that cannot run as things are on this machine:
// a program, a file or a folder that is not there, a query that cannot be run.
func (w *Workshop) lacking(ctx context.Context, p *project.Project, src project.Source) []project.Problem {
	var out []project.Problem
	for _, name := range slices.Sorted(maps.Keys(p.Tools)) {
		t := p.Tools[name]
		if err := w.Set.Check(ctx, t); err != nil {
			out = append(out, project.Problem{Grade: project.Warning, Tool: name, Place: t.Place, Text: src.Line(t.Place), Say: fmt.Sprintf("%q cannot be called: %v", name, err), Remedy: "Fix it before an agent calls it; `stonebaton try " + name + "` tries it."})
		}
	}
	return out
}

// unset warns of secrets that have no value.
func unset(src project.Source, env func(string) (string, bool)) []project.Problem {
	var out []project.Problem
	told := map[string]bool{}
	for _, f := range slices.Sorted(maps.Keys(src.Files)) {
		if !strings.HasSuffix(f, ".yaml") && !strings.HasSuffix(f, ".js") {
			continue
		}
		lines := strings.Split(src.Files[f], "\n")
		for i, line := range lines {
			if strings.HasPrefix(strings.TrimSpace(line), "#") {
				continue // an example that is not in use
			}
			for _, name := range secret.Names(line) {
				if v, ok := env(name); told[name] || (ok && v != "") {
					continue
				}
				told[name] = true
				if project.Accepts(line, "secret") || (i > 0 && project.Accepts(lines[i-1], "secret")) {
					continue
				}
				out = append(out, project.Problem{Grade: project.Warning, Code: "secret", Place: project.Place{File: f, Line: i + 1, Col: strings.Index(line, "${secret:") + 1},
					Say: fmt.Sprintf("the secret %s has no value; what needs it will fail when it is used", name), Remedy: "Put " + name + "=… into the project's .env or the environment.", Text: strings.TrimSpace(line)})
			}
		}
	}
	return out
}

// Load reads the files of a project's folder as they are.
func Load(dir string, env func(string) (string, bool)) (project.Source, error) {
	src, _ := Reader.Load(os.DirFS(dir), env)
	if _, ok := src.Files[project.Main]; !ok {
		return src, fmt.Errorf("there is no %s in %s, so it is not a project", project.Main, dir)
	}
	return src, nil
}
