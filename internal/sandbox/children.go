//go:build linux

package sandbox

import (
	"errors"
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
// earlier service left behind. It says how many there were. What ending programs needs later,
// when there may be no process to be had, is made ready now.
func Account(dir string) (int, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return 0, err
	}
	children.mu.Lock()
	children.dir = dir
	children.mu.Unlock()
	left, err := os.ReadDir(dir)
	if err == nil {
		err = heir.ready()
	}
	if err == nil {
		err = takeThread()
	}
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
	heir.tell(pid, on)
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

// heir is a small process that outlives this one by a moment: it hears which groups are under
// way, and ends those that are left when nobody is there any more who tells it. The first process
// of a group ends with this one by a signal of its own; what that has started does not.
var heir = inheritor{known: map[int]bool{}}

type inheritor struct {
	mu     sync.Mutex
	pipe   *os.File // nil: there is none
	groups *hierarchy
	known  map[int]bool // groups of processes
}

// lastWill reads a line for each group of processes that begins (+) or has ended (-), and for the
// folder of control groups (=). What it ends it has heard of from the one that has started it. It
// needs no process to do so, since there may be none to be had: all that it calls is the shell's.
const lastWill = `g=" " c="" m=""
while read -r op n; do
  case $op in
  +) g="$g$n " ;;
  -) case $g in *" $n "*) g="${g%%" $n "*} ${g#*" $n "}" ;; esac ;;
  =) c=$n ;;
  m) m=$n ;;
  esac
done
ended() {
  left=no
  for n in $g; do kill -s KILL -- "-$n" 2>/dev/null && left=yes; done
  [ -n "$c" ] || { [ $left = no ]; return; }
  for d in "$c"/*/; do
    while read -r n; do kill -s KILL "$n" 2>/dev/null; left=yes; done <"${d}cgroup.procs"
  done 2>/dev/null
  [ $left = no ]
}
if [ -n "$c" ]; then
  echo 0 >"$c/pids.max"
  [ -e "$c/cgroup.kill" ] && echo 1 >"$c/cgroup.kill"
fi 2>/dev/null
i=0
while ! ended && [ $i -lt 20000 ]; do i=$((i+1)); done
for d in "$c" "$m"; do [ -n "$d" ] && rmdir "$d"/*/ "$d"; done 2>/dev/null
exit 0`

// inherit has the heir end what is in some control groups.
func (h *inheritor) inherit(of *hierarchy) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.groups = of
	return h.start()
}

// ready makes sure that there is an heir.
func (h *inheritor) ready() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.start()
}

func (h *inheritor) tell(pid int, on bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if on {
		h.known[pid] = true
	} else {
		delete(h.known, pid)
	}
	if h.pipe == nil && !on {
		return
	}
	op := "-"
	if on {
		op = "+"
	}
	_ = h.say("%s %d\n", op, pid)
}

// say writes a line for the heir, or for its successor where it was ended.
func (h *inheritor) say(line string, args ...any) error {
	if h.pipe != nil {
		if _, err := fmt.Fprintf(h.pipe, line, args...); err == nil {
			return nil
		}
		_ = h.pipe.Close() // somebody has ended it
		h.pipe = nil
	}
	return h.start()
}

// start starts an heir where there is none, in a group of its own so that what is pressed at a
// terminal does not end it, and tells it all that is known.
func (h *inheritor) start() error {
	if h.pipe != nil {
		return nil
	}
	r, w, err := os.Pipe()
	if err != nil {
		return err
	}
	defer r.Close()
	c := exec.Command("/bin/sh", "-c", lastWill)
	c.Stdin, c.Dir, c.Env = r, "/", []string{"PATH=/usr/bin:/bin"}
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := c.Start(); err != nil {
		_ = w.Close()
		return fmt.Errorf("the process that ends programs when the service is killed failed to start: %w", err)
	}
	go func() { _ = c.Wait() }()
	h.pipe = w
	if h.groups != nil {
		_, err = fmt.Fprintf(w, "= %s\nm %s\n", h.groups.pids, h.groups.memory)
	}
	for pid := range h.known {
		_, e := fmt.Fprintf(w, "+ %d\n", pid)
		err = errors.Join(err, e)
	}
	return err
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
