package tools

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"stonebaton.example/core/project"
	"stonebaton.example/internal/sandbox"
)

// MaxRead bounds what the model reads of a text that a program wrote, in bytes.
const MaxRead = 20_000

// Place gives the path of a file or folder that a tool of the project in dir names.
func Place(dir, p string) string {
	if filepath.IsAbs(p) {
		return filepath.Clean(p)
	}
	return filepath.Join(dir, p)
}

// private are the paths that no file of a project grants to programs, each as often as it was
// given.
var private = struct {
	sync.Mutex
	paths map[string]int
}{paths: map[string]int{}}

// Private keeps paths from what programs are granted: the records, with the key of the local
// person, and secrets. Reveal takes that back.
func Private(paths ...string) (reveal func()) {
	private.Lock()
	defer private.Unlock()
	for _, p := range paths {
		private.paths[p]++
	}
	return func() {
		private.Lock()
		defer private.Unlock()
		for _, p := range paths {
			if private.paths[p]--; private.paths[p] == 0 {
				delete(private.paths, p)
			}
		}
	}
}

// real gives a path with its links followed, as far as it is there.
func real(p string) string {
	if r, err := filepath.EvalSymlinks(p); err == nil {
		return r
	}
	if up := filepath.Dir(p); up != p {
		return filepath.Join(real(up), filepath.Base(p))
	}
	return p
}

// within says whether a path is another, or in it.
func within(p, other string) bool {
	rel, err := filepath.Rel(other, p)
	return err == nil && filepath.IsLocal(rel)
}

// Granted gives the path of what programs of the project in dir are granted to read. What
// the project itself is within is refused, and what is private, links followed.
func Granted(dir, p string) (string, error) {
	at := Place(dir, p)
	r := real(at)
	if within(real(dir), r) {
		return "", fmt.Errorf("reads: %s would open the whole project, with its .env and its records", at)
	}
	return at, secluded(dir, "reads", at, r)
}

// Secluded says why no tool of the project in dir may read a file: it is private, links followed.
func Secluded(dir, key, at string) error { return secluded(dir, key, at, real(at)) }

// secluded refuses what would open what is private: the records wherever they are, and by
// their usual names where no service has said so.
func secluded(dir, key, at, r string) error {
	private.Lock()
	defer private.Unlock()
	own := real(dir)
	for _, p := range append(slices.Collect(maps.Keys(private.paths)), filepath.Join(own, project.Records), filepath.Join(own, ".env")) {
		if p = real(p); within(r, p) || within(p, r) {
			return fmt.Errorf("%s: %s would open %s, which no program reads: the records, or secrets", key, at, p)
		}
	}
	return nil
}

// Grants gives the paths of what a program of the project in dir is granted: what it may read,
// and the folders that it may write to, which no link leads to.
func Grants(dir string, reads, writes []string) (read, write []string, err error) {
	for _, p := range reads {
		at, err := Granted(dir, p)
		if err != nil {
			return nil, nil, err
		}
		read = append(read, at)
	}
	for _, p := range writes {
		if !Straight(dir, p) {
			return nil, nil, fmt.Errorf("writes: %s is reached through a link; grant the folder itself", p)
		}
		at := filepath.Join(dir, p)
		if err := secluded(dir, "writes", at, real(at)); err != nil {
			return nil, nil, err
		}
		write = append(write, at)
	}
	return read, write, nil
}

// Unreached tells what a program asked for of the network and did not get, where its tool grants
// it granted.
func Unreached(refused []string, granted string) string {
	var own, other []string
	for _, r := range refused {
		if at, _, itself := strings.Cut(r, " ("); itself {
			own = append(own, at)
		} else {
			other = append(other, r)
		}
	}
	var out []string
	if len(other) > 0 {
		out = append(out, fmt.Sprintf("it asked for %s, which its network does not name", strings.Join(other, ", ")))
		if granted != "" {
			out[0] += "; it may reach " + granted
		}
	}
	if len(own) > 0 {
		out = append(out, fmt.Sprintf("it asked for %s, which is this service itself, and no program reaches that", strings.Join(own, ", ")))
	}
	return strings.Join(out, "; ")
}

// Ran gives the result that a model reads of a program which had the time within: "exit",
// and where there is something to say "output", "errors", the hosts that were "refused" to
// it, and why it was "ended".
func Ran(d sandbox.Done, within time.Duration) map[string]any {
	out := map[string]any{"exit": float64(d.Code)}
	ended := ""
	switch {
	case d.Broke != "":
		out["exit"], ended = -1.0, "it was ended: "+d.Broke
	case d.Late:
		out["exit"], ended = -1.0, fmt.Sprintf("it had not ended after %s, and was ended", within)
	case d.Signal != "":
		ended = "it was ended by a signal: " + d.Signal
	}
	var refused []any
	for _, host := range d.Refused {
		refused = append(refused, host)
	}
	if refused != nil {
		out["refused"] = refused
	}
	for k, v := range map[string]string{"output": written(d.Stdout), "errors": written(d.Stderr), "ended": ended} {
		if v != "" {
			out[k] = v
		}
	}
	return out
}

func written(b []byte) string {
	return Clip(strings.TrimRight(strings.ToValidUTF8(string(b), "\ufffd"), "\n"), MaxRead)
}
