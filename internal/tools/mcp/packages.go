package mcp

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/runtimes"
	"stonebaton.example/internal/tools"
)

const (
	installLimit = 15 * time.Minute
	tellGap      = 2 * time.Second        // between two lines of progress
	failedFor    = 10 * time.Second       // that a failure is told: whoever asks how far it is, again and again, learns of it
	lockGap      = 200 * time.Millisecond // between two looks at whether another program still installs
	spare        = 2                      // packages beside the newest that stay
	maxLine      = 200
	maxPart      = 1 << 20 // of a file that is read of a package
)

// packages are the packages that tool servers come in: each is installed once for the project,
// in a folder of its own that is complete where it is there.
type packages struct {
	dir  string
	tell func(source, line string)
	life context.Context // ends with the servers
	end  context.CancelFunc

	running sync.WaitGroup

	mu   sync.Mutex
	jobs map[string]*job // under way, or failed, by folder
	now  func() time.Time
}

// job is an installation.
type job struct {
	name  string
	begun time.Time
	done  chan struct{} // closed when it is over; then err and ended are set
	err   error
	ended time.Time

	mu   sync.Mutex
	line string // what the installer said last
	part []byte // of a line
	told time.Time
	tell func(line string)
}

// Installing says how far the installation of a package is.
type Installing struct {
	Package string
	Since   time.Time
	Line    string // what the installer said last: another's words
}

// Say words that it is under way, the same until it is over.
func (i *Installing) Say() string {
	return fmt.Sprintf("the package %s is still being installed, since %s", i.Package, i.Since.Format(time.TimeOnly))
}

// Write takes what an installer says.
func (j *job) Write(p []byte) (int, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.part = append(j.part, p...)
	for {
		end := bytes.IndexByte(j.part, '\n')
		if end < 0 {
			break
		}
		line := strings.TrimSpace(strings.ToValidUTF8(string(j.part[:end]), "�"))
		j.part = j.part[end+1:]
		if line = strings.TrimPrefix(line, "npm http "); line == "" || strings.HasPrefix(line, "npm ") { // what is wrong is said at the end
			continue
		}
		j.line = tools.Clip(runtimes.WithoutCredentials(line), maxLine)
		if time.Since(j.told) > tellGap {
			j.told = time.Now()
			j.tell(j.line)
		}
	}
	if len(j.part) > maxLog {
		j.part = nil
	}
	return len(p), nil
}

func (j *job) over() bool {
	select {
	case <-j.done:
		return true
	default:
		return false
	}
}

func (j *job) progress() *Installing {
	j.mu.Lock()
	defer j.mu.Unlock()
	return &Installing{Package: j.name, Since: j.begun, Line: j.line}
}

// place gives the interpreter of a source's package, and the folder that the package is
// installed in. Another version, registry or interpreter has another folder.
func (ps *packages) place(src *project.SourceDoc) (interpreter, folder string, err error) {
	p := src.Package
	if p.Name == "" {
		return "", "", fmt.Errorf("the tool server %s: its package cannot be installed as it is written", src.Name)
	}
	if interpreter = runtimes.Find(p.Language); interpreter == "" {
		return "", "", fmt.Errorf("the tool server %s: there is no %s on this machine, which runs %s", src.Name, p.Language, p.Name)
	}
	if ps.dir == "" {
		return "", "", fmt.Errorf("the tool server %s: %s cannot be installed, since no folder is set for packages", src.Name, p.Name)
	}
	key := strings.Join([]string{p.Language, runtimes.Real(interpreter), p.Name, p.Registry}, "\x00")
	return interpreter, filepath.Join(ps.dir, src.Name, string(ledger.HashOf([]byte(key)))), nil
}

// prepare has the package of a source installed, and waits for it until ctx ends. Where it is
// still being installed then, it says how far that is; it goes on.
func (ps *packages) prepare(ctx context.Context, src *project.SourceDoc) (*Installing, error) {
	if src.Package == nil {
		return nil, nil
	}
	interpreter, folder, err := ps.place(src)
	if err != nil {
		return nil, err
	}
	ps.mu.Lock()
	if err := ps.life.Err(); err != nil {
		ps.mu.Unlock()
		return nil, fmt.Errorf("the tool server %s: nothing is installed any more: %w", src.Name, err)
	}
	j := ps.jobs[folder]
	if j == nil || j.over() && ps.now().Sub(j.ended) > failedFor {
		if _, err := os.Stat(folder); err == nil {
			ps.mu.Unlock()
			return nil, nil
		}
		j = &job{name: src.Package.Name, begun: time.Now(), told: time.Now(), done: make(chan struct{}), tell: func(line string) { ps.tell(src.Name, line) }}
		ps.jobs[folder] = j
		ps.running.Go(func() {
			j.tell(strings.TrimSuffix("installing "+j.name+" from "+src.Package.Registry, " from "))
			if j.err = ps.install(j, src, interpreter, folder); j.err == nil {
				j.tell(fmt.Sprintf("installed %s in %s", j.name, time.Since(j.begun).Round(100*time.Millisecond)))
			}
			j.ended = ps.now()
			ps.mu.Lock()
			if close(j.done); j.err == nil {
				delete(ps.jobs, folder)
			}
			ps.mu.Unlock()
		})
	}
	ps.mu.Unlock()
	select {
	case <-j.done:
		return nil, j.err
	case <-ctx.Done():
		return j.progress(), nil
	}
}

// close ends what is being installed, and waits until it has ended.
func (ps *packages) close() {
	ps.mu.Lock()
	ps.end()
	ps.mu.Unlock()
	ps.running.Wait()
}

// state says how far the installation for a source is; nil where there is none under way.
func (ps *packages) state(src *project.SourceDoc) *Installing {
	if src.Package == nil {
		return nil
	}
	_, folder, err := ps.place(src)
	if err != nil {
		return nil
	}
	ps.mu.Lock()
	defer ps.mu.Unlock()
	if j := ps.jobs[folder]; j != nil && !j.over() {
		return j.progress()
	}
	return nil
}

// install installs a package beside its folder, and moves it there when it is complete, so that
// one that was broken off is never taken for it. Other programs that open the project wait.
func (ps *packages) install(j *job, src *project.SourceDoc, interpreter, folder string) error {
	fail := func(err error) error { return fmt.Errorf("the tool server %s: %w", src.Name, err) }
	ctx, cancel := context.WithTimeout(ps.life, installLimit)
	defer cancel()
	all := filepath.Dir(folder)
	if err := os.MkdirAll(all, 0o700); err != nil {
		return fail(err)
	}
	unlock, err := lock(ctx, filepath.Join(all, "lock"), func() { _, _ = io.WriteString(j, "another program installs it\n") })
	if err != nil {
		return fail(fmt.Errorf("%s is being installed by another program: %w", j.name, err))
	}
	defer unlock()
	if _, err := os.Stat(folder); err == nil {
		return nil // by another program, meanwhile
	}
	clean(all, func(name string) bool { return strings.HasPrefix(name, "new-") }) // which were broken off
	fresh, err := os.MkdirTemp(all, "new-")
	if err != nil {
		return fail(err)
	}
	defer os.RemoveAll(fresh) // nothing, once it has its name
	p := src.Package
	if _, bad := runtimes.Install(ctx, runtimes.Order{Interpreter: interpreter, Language: p.Language, Registry: p.Registry, Packages: []string{p.Name}, Dir: fresh, Bare: src.Bounds.Bare, Within: installLimit, Log: j}); bad != nil {
		return fail(errors.New(bad.Say))
	}
	if err := errors.Join(os.RemoveAll(filepath.Join(fresh, runtimes.Cache)), os.Rename(fresh, folder)); err != nil {
		return fail(err)
	}
	gone := outdated(all, filepath.Base(folder))
	clean(all, func(name string) bool { return slices.Contains(gone, name) })
	return nil
}

// outdated lists the packages in a folder beside one, but for the few that were used last: runs that
// began with another version of the project still need theirs.
func outdated(all, than string) []string {
	list, err := os.ReadDir(all)
	if err != nil {
		return nil
	}
	used := map[string]time.Time{}
	for _, e := range list {
		if info, err := e.Info(); err == nil && e.IsDir() && e.Name() != than {
			used[e.Name()] = info.ModTime()
		}
	}
	names := slices.SortedFunc(maps.Keys(used), func(a, b string) int { return used[b].Compare(used[a]) })
	return names[min(len(names), spare):]
}

// clean takes what is named so out of a folder.
func clean(dir string, named func(string) bool) {
	list, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	for _, e := range list {
		if named(e.Name()) {
			_ = os.RemoveAll(filepath.Join(dir, e.Name())) // what stays is taken out the next time
		}
	}
}

// lock waits until no other program holds a file. Waits is called where that is not so at once.
func lock(ctx context.Context, name string, waits func()) (unlock func(), err error) {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	for n := 0; syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil; n++ {
		if n == 0 {
			waits()
		}
		select {
		case <-time.After(lockGap):
		case <-ctx.Done():
			return nil, errors.Join(ctx.Err(), f.Close())
		}
	}
	return func() { _ = f.Close() }, nil // which lets it go
}

// start says how the program of a source's package is started. The package has been installed.
func (ps *packages) start(src *project.SourceDoc) (launch, error) {
	interpreter, folder, err := ps.place(src)
	if err != nil {
		return launch{}, err
	}
	_ = os.Chtimes(folder, time.Time{}, ps.now()) // see outdated; without it, it may go sooner
	p := src.Package
	name, args := "", src.Command
	if len(args) > 0 {
		name, args = args[0], args[1:]
	}
	at := filepath.Join(folder, "node_modules", ".bin")
	programs := nodePrograms(folder, p.Name)
	env := []string{"PATH=" + filepath.Dir(interpreter) + string(os.PathListSeparator) + os.Getenv("PATH")}
	if p.Language == "python3" {
		at, programs = filepath.Join(folder, "bin"), pythonPrograms(folder, p.Name)
		env = append(env, "PYTHONPATH="+folder, "PYTHONDONTWRITEBYTECODE=1")
	}
	plain := bare(p.Name)
	plain = plain[strings.LastIndexByte(plain, '/')+1:]
	switch {
	case name != "":
		if info, err := os.Stat(filepath.Join(at, name)); err != nil || info.IsDir() || filepath.Base(name) != name {
			return launch{}, fmt.Errorf("the tool server %s: the package %s has no program %q; it has %s.%s", src.Name, p.Name, name, near.List(programs), near.Hint(name, programs))
		}
	case len(programs) == 1:
		name = programs[0]
	case slices.Contains(programs, plain):
		name = plain
	case len(programs) == 0:
		return launch{}, fmt.Errorf("the tool server %s: the package %s has no program to start", src.Name, p.Name)
	default:
		return launch{}, fmt.Errorf("the tool server %s: the package %s has the programs %s; name one of them under command", src.Name, p.Name, near.List(programs))
	}
	return launch{program: filepath.Join(at, name), args: args, env: env, reads: append([]string{folder, interpreter}, runtimes.Reads(interpreter)...)}, nil
}

// bare gives the name of a package without its version.
func bare(name string) string {
	if at := strings.LastIndexByte(name, '@'); at > 0 {
		return name[:at]
	}
	return name
}

// nodePrograms lists the programs that a package of modules says it has.
func nodePrograms(folder, name string) []string {
	var said struct{ Bin json.RawMessage }
	if json.Unmarshal(part(folder, "node_modules", filepath.FromSlash(bare(name)), "package.json"), &said) != nil {
		return nil
	}
	var many map[string]string
	if json.Unmarshal(said.Bin, &many) != nil {
		plain := bare(name)
		many = map[string]string{plain[strings.LastIndexByte(plain, '/')+1:]: ""}
	}
	return local(filepath.Join(folder, "node_modules", ".bin"), slices.Sorted(maps.Keys(many)))
}

var separators = regexp.MustCompile(`[-_.]+`)

// pythonPrograms lists the programs that a package of an index says it has
// (https://packaging.python.org/specifications/entry-points/).
func pythonPrograms(folder, name string) []string {
	list, err := os.ReadDir(folder)
	if err != nil {
		return nil
	}
	same := func(s string) string { return separators.ReplaceAllString(strings.ToLower(s), "_") }
	var out []string
	for _, e := range list {
		whose, is := strings.CutSuffix(e.Name(), ".dist-info")
		if whose, _, _ = strings.Cut(whose, "-"); !is || same(whose) != same(bare(name)) {
			continue
		}
		section := ""
		for line := range strings.Lines(string(part(folder, e.Name(), "entry_points.txt"))) {
			switch line = strings.TrimSpace(line); {
			case strings.HasPrefix(line, "["):
				section = line
			case section == "[console_scripts]":
				if key, _, ok := strings.Cut(line, "="); ok {
					out = append(out, strings.TrimSpace(key))
				}
			}
		}
	}
	slices.Sort(out)
	return local(filepath.Join(folder, "bin"), out)
}

// local keeps the programs that are there.
func local(dir string, list []string) []string {
	return slices.DeleteFunc(list, func(name string) bool {
		_, err := os.Stat(filepath.Join(dir, name))
		return err != nil || filepath.Base(name) != name
	})
}

// part reads a small file of a package; nil where there is none that is in its folder.
func part(folder string, path ...string) []byte {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil
	}
	defer root.Close()
	f, err := root.Open(filepath.Join(path...))
	if err != nil {
		return nil
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, maxPart))
	if err != nil {
		return nil
	}
	return raw
}
