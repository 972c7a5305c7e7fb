//go:build linux

package sandbox

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sys/unix"
)

// children is where the groups of processes that are under way are written down,
// so that a service that was killed finds them when it starts again.
var children struct {
	mu  sync.Mutex
	dir string
}

// Account keeps a list of running programs in a folder, and ends those that an
// earlier service left behind. It says how many there were.
func Account(dir string) (int, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return 0, err
	}
	children.mu.Lock()
	children.dir = dir
	children.mu.Unlock()
	left, err := os.ReadDir(dir)
	if err != nil {
		return 0, err
	}
	n := 0
	for _, e := range left {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid <= 1 {
			continue
		}
		name := filepath.Join(dir, e.Name())
		when, _ := os.ReadFile(name)
		if s := strings.TrimSpace(string(when)); s != "" && (began(pid) == s || began(pid) == "") { // the group may outlive its first process
			if unix.Kill(-pid, unix.SIGKILL) == nil {
				n++
			}
		}
		_ = os.Remove(name)
	}
	return n, nil
}

// note writes a group down, or strikes it out.
func note(pid int, on bool) {
	children.mu.Lock()
	dir := children.dir
	children.mu.Unlock()
	if dir == "" {
		return
	}
	name := filepath.Join(dir, strconv.Itoa(pid))
	if !on {
		_ = os.Remove(name)
		return
	}
	_ = os.WriteFile(name, []byte(began(pid)), 0o600) // without it a kill at the wrong moment would leave the program running
}

// began gives when a process began, in ticks since the machine did; "" where
// there is no such process.
func began(pid int) string {
	f := stat(strconv.Itoa(pid))
	if len(f) < 20 {
		return ""
	}
	return f[19]
}

// Track writes down the group of a process that was started elsewhere. It is
// struck out at the next start.
func Track(pid int) { note(pid, true) }
