// Package runtimes finds the interpreters of this machine that run Python and JavaScript, and
// installs packages for them. Interpreters are named as they are found on the path: python3
// and node. All of it may be used side by side.
package runtimes

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"

	"stonebaton.example/internal/sandbox"
)

var found sync.Map // the interpreters that were found, by name and PATH

// Find gives the whole path of an interpreter; "" where there is none. What stands in its
// place to choose one of several, as a script does, is asked which it is.
func Find(name string) string {
	key := name + "\x00" + os.Getenv("PATH")
	if at, ok := found.Load(key); ok && (at == "" || exists(at.(string))) {
		return at.(string)
	}
	program := ""
	for _, dir := range append(filepath.SplitList(os.Getenv("PATH")), "/usr/bin", "/usr/local/bin") {
		at := filepath.Join(dir, name)
		if info, err := os.Stat(at); err != nil || info.IsDir() || info.Mode()&0o111 == 0 || !filepath.IsAbs(at) {
			continue
		}
		if isScript(at) {
			ask := map[string][]string{"python3": {"-c", "import sys; print(sys.executable)"}, "node": {"-p", "process.execPath"}}[name]
			out, err := exec.Command(at, ask...).Output()
			if at = strings.TrimSpace(string(out)); err != nil || !filepath.IsAbs(at) || isScript(at) {
				continue
			}
		}
		program = at
		break
	}
	found.Store(key, program)
	return program
}

// Reads lists what an interpreter has to read beside what is the system's: its installation,
// and the environment that it belongs to.
func Reads(program string) []string {
	var out []string
	at := Real(program)
	if !sandbox.Readable(at, nil) {
		prefix := filepath.Dir(filepath.Dir(at))
		out = append(out, at, filepath.Join(prefix, "lib"), filepath.Join(prefix, "bin"))
	}
	if env := filepath.Dir(filepath.Dir(program)); at != program && exists(filepath.Join(env, "pyvenv.cfg")) { // which keeps a link to it
		out = append(out, env)
	}
	return out
}

// Real gives a path with its links followed, where it is there.
func Real(p string) string {
	if r, err := filepath.EvalSymlinks(p); err == nil {
		return r
	}
	return p
}

func exists(at string) bool { _, err := os.Stat(at); return err == nil }

func isScript(at string) bool {
	f, err := os.Open(at)
	if err != nil {
		return true
	}
	defer f.Close()
	var head [2]byte
	n, _ := f.Read(head[:])
	return n < 2 || string(head[:]) == "#!"
}
