package code

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"stonebaton.example/core/functions"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/runtimes"
	"stonebaton.example/internal/tools"
)

// runtime is what runs a file.
type runtime struct {
	language string   // python or javascript
	program  string   // absolute
	reads    []string // beside the system's, what it needs
	version  string   // such as "Python 3.11"
	types    bool     // it has to be told to leave types out
}

// line gives the command line that loads a file.
func (p runtime) line(file string) []string {
	if p.language == "python" {
		return []string{p.program, "-I", "-B", "-X", "utf8", "-c", python, file}
	}
	line := []string{p.program, "--no-warnings", "--experimental-detect-module"}
	if p.types {
		line = append(line, "--experimental-strip-types")
	}
	return append(line, "--input-type=module", "-e", javascript, "--", file)
}

// order gives what a call says of how a function takes its arguments.
func (p runtime) order(f functions.Function) string {
	if p.language == "python" || f.Fields {
		return ""
	}
	names := make([]string, len(f.Params))
	for n, x := range f.Params {
		names[n] = x.Name
	}
	raw, err := json.Marshal(names)
	if err != nil {
		return "" // names can always be written
	}
	return `,"order":` + string(raw)
}

// install says how a package that is missing comes to where it is found.
func (p runtime) install(name, neighbour string) string {
	switch {
	case neighbour != "":
		return fmt.Sprintf("%s is beside it, but only what file: names can be read: write file: [%s] with both, or name their folder.", neighbour, neighbour)
	case p.language == "python":
		return fmt.Sprintf("Install it beside the project:   python3 -m venv .venv && .venv/bin/pip install %s", tools.Quote(strings.Split(name, ".")[0]))
	}
	return fmt.Sprintf("Install it beside the project:   npm install %s", tools.Quote(name))
}

// neighbour finds a file beside another that a missing package is, and that may not be read.
func (h *Handler) neighbour(src *project.SourceDoc, file, missing string) string {
	stem := strings.SplitN(strings.TrimPrefix(missing, "./"), ".", 2)[0]
	if stem == "" || strings.ContainsAny(stem, `/\`) {
		return ""
	}
	for _, ext := range append([]string{""}, project.Languages()...) {
		at := filepath.Join(h.dir, filepath.Dir(filepath.FromSlash(file)), stem+ext)
		if _, err := os.Stat(at); err == nil {
			rel, err := filepath.Rel(h.dir, at)
			if err != nil {
				return ""
			}
			return filepath.ToSlash(rel)
		}
	}
	return ""
}

// runtime finds what runs a file: what its source names, the environment beside it or the
// project, or the system's.
func (h *Handler) runtime(src *project.SourceDoc, file string) (runtime, error) {
	language := project.Language(file)
	p := runtime{language: language}
	own := src.Code.Runtime
	switch {
	case own != "" && strings.ContainsRune(own, '/'):
		p.program = tools.Place(h.dir, own)
		if info, err := os.Stat(p.program); err != nil || info.IsDir() || info.Mode()&0o111 == 0 {
			return p, fmt.Errorf("there is no program %s, which is to run %s", own, file)
		}
	case own != "":
		at, err := exec.LookPath(own)
		if err != nil {
			return p, fmt.Errorf("there is no program %q on this machine, which is to run %s", own, file)
		}
		p.program = at
	case language == "python":
		for _, dir := range []string{filepath.Dir(filepath.FromSlash(file)), "."} {
			for _, name := range []string{".venv", "venv"} {
				at := filepath.Join(h.dir, dir, name, "bin", "python")
				if _, err := os.Stat(at); err == nil && p.program == "" {
					p.program = at
				}
			}
		}
	}
	if p.program == "" {
		name := map[string]string{"python": "python3", "javascript": "node"}[language]
		if p.program = runtimes.Find(name); p.program == "" {
			return p, fmt.Errorf("there is no %s on this machine, which runs %s: install it, or name one as its runtime", name, file)
		}
	}
	var err error
	if p.reads, err = h.needs(file, p); err != nil {
		return p, err
	}
	if language == "python" {
		p.version = "Python"
		if m := pythonOf.FindStringSubmatch(runtimes.Real(p.program)); m != nil {
			p.version = "Python " + m[1]
		}
		return p, nil
	}
	major, minor := nodeVersion(p.program)
	p.version = fmt.Sprintf("Node %d.%d", major, minor)
	if major < 20 || major == 20 && minor < 10 {
		return p, fmt.Errorf("%s is %s, and 20.10 or newer is needed for %s", p.program, p.version, file)
	}
	if strings.HasSuffix(file, ".ts") || strings.HasSuffix(file, ".mts") {
		if major < 22 || major == 22 && minor < 6 {
			return p, fmt.Errorf("%s is %s, and TypeScript needs 22.6 or newer for %s; or write its types into comments of a .mjs", p.program, p.version, file)
		}
		p.types = major == 22 && minor < 18 || major == 23 && minor < 6
	}
	return p, nil
}

var pythonOf = regexp.MustCompile(`python(\d+\.\d+)$`)

// needs lists what a runtime has to read beside what is the system's: its installation, an
// environment of the project, and packages beside the file.
func (h *Handler) needs(file string, p runtime) ([]string, error) {
	out := runtimes.Reads(p.program)
	if p.language == "javascript" {
		for dir := filepath.Dir(filepath.FromSlash(file)); ; dir = filepath.Dir(dir) {
			for _, name := range []string{"node_modules", "package.json"} {
				at := filepath.Join(h.dir, dir, name)
				if _, err := os.Stat(at); err == nil {
					out = append(out, at)
				}
			}
			if dir == "." {
				break
			}
		}
	}
	for _, at := range out {
		if _, err := tools.Granted(h.dir, at); err != nil {
			return nil, err
		}
	}
	return out, nil
}

var nodeVersions sync.Map // by path

func nodeVersion(program string) (major, minor int) {
	v, ok := nodeVersions.Load(program)
	if !ok {
		out, err := exec.Command(program, "--version").Output()
		if err != nil {
			return 0, 0
		}
		v = strings.TrimPrefix(strings.TrimSpace(string(out)), "v")
		nodeVersions.Store(program, v)
	}
	parts := strings.SplitN(v.(string)+"..", ".", 3)
	major, _ = strconv.Atoi(parts[0])
	minor, _ = strconv.Atoi(parts[1])
	return major, minor
}
