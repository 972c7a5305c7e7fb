//go:build linux

package sandbox

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"

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
			f := stat(e.Name())
			over := len(f) > 0 && f[0] == "Z" // nobody has taken note of its end
			if unix.Kill(-pid, unix.SIGKILL) == nil && !over {
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
	heir.tell(pid, on)
	if !on {
		_ = os.Remove(name)
		return
	}
	_ = os.WriteFile(name, []byte(began(pid)), 0o600) // without it a kill at the wrong moment would leave the program running
}

// heir is a small process that outlives this one by a moment: it hears which groups are under
// way, and ends those that are left when nobody is there any more who tells it. The first process
// of a group ends with this one by a signal of its own; what that has started does not.
var heir inheritor

type inheritor struct {
	mu    sync.Mutex
	begun bool
	pipe  *os.File // nil: there is none, and what is left ends at the next start
}

// lastWill reads a line for each group that begins (+) or has ended (-). What it ends it has
// heard of from the one that has started it.
const lastWill = `g=" "
while read -r op n; do
  case $op in
  +) g="$g$n " ;;
  -) case $g in *" $n "*) g="${g%%" $n "*} ${g#*" $n "}" ;; esac ;;
  esac
done
for n in $g; do kill -s KILL -- "-$n" 2>/dev/null; done
exit 0`

func (h *inheritor) tell(pid int, on bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if !h.begun {
		h.begun = true
		h.pipe = testament()
	}
	if h.pipe == nil {
		return
	}
	op := "-"
	if on {
		op = "+"
	}
	if _, err := fmt.Fprintf(h.pipe, "%s %d\n", op, pid); err != nil {
		_ = h.pipe.Close() // somebody has ended it
		h.pipe = nil
	}
}

// testament starts the heir, in a group of its own so that what is pressed at a terminal does
// not end it, and gives the pipe that it reads.
func testament() *os.File {
	r, w, err := os.Pipe()
	if err != nil {
		return nil
	}
	defer r.Close()
	c := exec.Command("/bin/sh", "-c", lastWill)
	c.Stdin, c.Dir, c.Env = r, "/", []string{}
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := c.Start(); err != nil {
		_ = w.Close()
		return nil
	}
	go func() { _ = c.Wait() }()
	return w
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
