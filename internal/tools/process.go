package tools

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

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

// Granted gives the path of what programs of the project in dir are granted to read. What
// the project itself is within is refused, links followed.
func Granted(dir, p string) (string, error) {
	at := Place(dir, p)
	real := func(p string) string {
		if r, err := filepath.EvalSymlinks(p); err == nil {
			return r
		}
		return p
	}
	if rel, err := filepath.Rel(real(at), real(dir)); err == nil && filepath.IsLocal(rel) {
		return "", fmt.Errorf("reads: %s would open the whole project, with its .env and its records", at)
	}
	return at, nil
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
		write = append(write, filepath.Join(dir, p))
	}
	return read, write, nil
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
