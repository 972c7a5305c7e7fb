//go:build linux

package sandbox

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// hierarchy is where this service makes its control groups: a group of all programs together,
// and below it one for each program. In version 2 both controllers are in one tree; in version 1
// each has its own.
type hierarchy struct {
	version int
	pids    string // the folder of the group of all programs
	memory  string // likewise for memory; "" where it cannot be bounded so

	mu   sync.Mutex
	made int
	idle []*cgroup // of programs that have ended: used again, since a group that is removed stays in memory for long
}

// cgroup holds one program. What its end needs is open from the start, also where the service
// can open no more files later.
type cgroup struct {
	of           *hierarchy
	name         string
	pids, memory string
	max          *os.File // pids.max
	kill         *os.File // cgroup.kill; nil in version 1
	own          int      // threads of this service that are in it: see cell
	most         int64    // bytes of memory, as they were set last
	before       counters // up to the program that is in it
	looked       bool     // at the counters, since it is
}

// counters are those of a group.
type counters struct {
	forks  int // that were refused
	kills  int // of processes, for their memory
	beyond int // how often it was about to use more memory than it may
}

// prefix begins the names of groups of all programs of a service.
const prefix = "stonebaton-"

// control gives the control groups of this process, or why there are none. They are tried once.
var control = sync.OnceValues(func() (*hierarchy, error) {
	h, err := newHierarchy()
	if err != nil {
		return nil, err
	}
	if err := h.try(); err != nil {
		h.remove()
		return nil, err
	}
	if err := heir.inherit(h); err != nil {
		h.remove()
		return nil, err
	}
	return h, nil
})

// mount is a line of /proc/self/mountinfo.
type mount struct {
	root, at, kind string
	options        []string
}

func mounts() ([]mount, error) {
	f, err := os.Open("/proc/self/mountinfo")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var out []mount
	for in := bufio.NewScanner(f); in.Scan(); {
		before, after, _ := strings.Cut(in.Text(), " - ")
		b, a := strings.Fields(before), strings.Fields(after)
		if len(b) > 4 && len(a) > 2 && strings.HasPrefix(a[0], "cgroup") {
			out = append(out, mount{root: b[3], at: b[4], kind: a[0], options: strings.Split(a[2], ",")})
		}
	}
	return out, nil
}

// mounted is where a control group is, and the root of its tree.
type mounted struct{ own, mount string }

// folders gives, for each controller of this process ("" is version 2), where its group is.
func folders() (map[string]mounted, error) {
	ms, err := mounts()
	if err != nil {
		return nil, err
	}
	raw, err := os.ReadFile("/proc/self/cgroup")
	if err != nil {
		return nil, err
	}
	out := map[string]mounted{}
	for line := range strings.Lines(string(raw)) {
		parts := strings.SplitN(strings.TrimSpace(line), ":", 3)
		if len(parts) < 3 {
			continue
		}
		for _, name := range strings.Split(parts[1], ",") {
			for _, m := range ms {
				if (name == "") != (m.kind == "cgroup2") || name != "" && !slices.Contains(m.options, name) {
					continue
				}
				if rel, err := filepath.Rel(m.root, parts[2]); err == nil && filepath.IsLocal(rel) {
					out[name] = mounted{own: filepath.Join(m.at, rel), mount: m.at}
				}
			}
		}
	}
	return out, nil
}

// newHierarchy makes the group of all programs: in version 1 where there is one of the
// controller pids, else in version 2.
func newHierarchy() (*hierarchy, error) {
	at, err := folders()
	if err != nil {
		return nil, err
	}
	name := fmt.Sprintf("%s%d-%s", prefix, os.Getpid(), began(os.Getpid()))
	if pids, ok := at["pids"]; ok {
		sweep(pids.own)
		h := &hierarchy{version: 1, pids: filepath.Join(pids.own, name)}
		if err := os.Mkdir(h.pids, 0o755); err != nil {
			return nil, err
		}
		if memory, ok := at["memory"]; ok {
			sweep(memory.own)
			if m := filepath.Join(memory.own, name); os.Mkdir(m, 0o755) == nil {
				h.memory = m
			}
		}
		return h, nil
	}
	unified, ok := at[""]
	if !ok {
		return nil, errors.New("no control groups are mounted here")
	}
	return newUnified(unified.own, name)
}

// newUnified makes the group of all programs in version 2. A group that has processes cannot
// share its controllers out below, so it is made beside this process's own group where that is
// not the root of all.
func newUnified(own, name string) (*hierarchy, error) {
	var why error
	for _, parent := range []string{own, filepath.Dir(own)} {
		if _, err := os.Stat(filepath.Join(parent, "cgroup.procs")); err != nil {
			break // above the root
		}
		sweep(parent)
		h := &hierarchy{version: 2, pids: filepath.Join(parent, name)}
		_ = write(parent, "cgroup.subtree_control", "+pids +memory") // they may be there already
		if err := os.Mkdir(h.pids, 0o755); err != nil {
			why = errors.Join(why, err)
			continue
		}
		err := write(h.pids, "cgroup.subtree_control", "+pids")
		if err == nil && write(h.pids, "cgroup.subtree_control", "+memory") == nil {
			h.memory = h.pids
		}
		if err == nil {
			return h, nil
		}
		why = errors.Join(why, err)
		_ = os.Remove(h.pids)
	}
	return nil, why
}

func write(dir, name, what string) error {
	f, err := os.OpenFile(filepath.Join(dir, name), os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteString(what)
	return errors.Join(err, f.Close())
}

// try puts a process into a group and takes it for good only where the kernel then bounds it.
func (h *hierarchy) try() error {
	if err := h.limit(); err != nil {
		return err
	}
	c, err := h.take()
	if err != nil {
		return err
	}
	if err := c.bound(1, 1<<30); err != nil {
		return err
	}
	cmd := exec.Command("/bin/sh", "-c", "read x; (:)")
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := cmd.Start(); err != nil {
		return err
	}
	err = c.join(cmd.Process.Pid)
	in.Close()
	ended := cmd.Wait()
	if err == nil && (ended == nil || c.broken().forks == 0) {
		err = errors.New("a group of one process let it start another")
	}
	h.leave(c)
	return err
}

// limit sets what all programs may have together.
func (h *hierarchy) limit() error {
	together.mu.Lock()
	processes, memory := together.processes, together.memory
	together.mu.Unlock()
	err := write(h.pids, "pids.max", strconv.Itoa(processes))
	if h.memory != "" {
		err = errors.Join(err, limitMemory(h.version, h.memory, memory))
	}
	return err
}

func limitMemory(version int, dir string, bytes int64) error {
	n := strconv.FormatInt(bytes, 10)
	if version == 2 { // without swap
		_ = write(dir, "memory.swap.max", "0") // not there where the kernel does not account it
		return write(dir, "memory.max", n)
	}
	_ = write(dir, "memory.memsw.limit_in_bytes", "-1") // never below the other
	err := write(dir, "memory.limit_in_bytes", n)
	_ = write(dir, "memory.memsw.limit_in_bytes", strconv.FormatInt(bytes+int64(os.Getpagesize()), 10)) // it is memory that is counted as short
	return err
}

// take gives a group that nothing is in.
func (h *hierarchy) take() (*cgroup, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for i, c := range h.idle {
		if c.empty() {
			h.idle = slices.Delete(h.idle, i, i+1)
			return c, nil
		}
	}
	h.made++
	c := &cgroup{of: h, name: strconv.Itoa(h.made)}
	c.pids = filepath.Join(h.pids, c.name)
	err := os.Mkdir(c.pids, 0o755)
	if h.memory != "" {
		if c.memory = filepath.Join(h.memory, c.name); c.memory != c.pids {
			err = errors.Join(err, os.Mkdir(c.memory, 0o755))
		}
	}
	open := func(name string) *os.File {
		f, e := os.OpenFile(filepath.Join(c.pids, name), os.O_WRONLY, 0)
		err = errors.Join(err, e)
		return f
	}
	c.max = open("pids.max")
	if h.version == 2 {
		c.kill = open("cgroup.kill")
		_ = write(c.pids, "memory.oom.group", "1")
	}
	if err != nil {
		return nil, fmt.Errorf("no control group can be made for a program: %w", err)
	}
	return c, nil
}

// leave gives a group back, once nothing of the program is in it.
func (h *hierarchy) leave(c *cgroup) {
	c.own = 0
	if c.looked {
		c.before, c.looked = c.counters(), false
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.idle = append(h.idle, c)
}

// remove removes all groups, as far as they are empty.
func (h *hierarchy) remove() {
	for _, dir := range []string{h.pids, h.memory} {
		if dir != "" {
			discard(dir)
		}
	}
}

func discard(dir string) {
	below, _ := os.ReadDir(dir)
	for _, e := range below {
		if e.IsDir() {
			_ = os.Remove(filepath.Join(dir, e.Name()))
		}
	}
	_ = os.Remove(dir)
}

// sweep ends and removes what services left behind that are no more, and that nobody inherited.
func sweep(parent string) {
	found, _ := filepath.Glob(filepath.Join(parent, prefix+"*"))
	for _, dir := range found {
		pid, when, _ := strings.Cut(strings.TrimPrefix(filepath.Base(dir), prefix), "-")
		if n, err := strconv.Atoi(pid); err != nil || when == "" || began(n) == when {
			continue
		}
		_ = write(dir, "pids.max", "0")
		for range 100 {
			left := 0
			below, _ := filepath.Glob(filepath.Join(dir, "*", "cgroup.procs"))
			for _, name := range below {
				raw, _ := os.ReadFile(name)
				for _, p := range strings.Fields(string(raw)) {
					if n, err := strconv.Atoi(p); err == nil && n > 1 && n != os.Getpid() {
						_ = unix.Kill(n, unix.SIGKILL)
						left++
					}
				}
			}
			if left == 0 {
				break
			}
			time.Sleep(5 * time.Millisecond)
		}
		discard(dir)
	}
}

// enter puts the calling thread into the group, for the program that it starts to be in it
// from its first moment. In version 2 a thread cannot be apart from its process: see join.
func (c *cgroup) enter() error {
	if c.of.version != 1 {
		return nil
	}
	c.own = 1
	err := write(c.pids, "tasks", strconv.Itoa(unix.Gettid()))
	if c.memory != "" {
		err = errors.Join(err, write(c.memory, "tasks", strconv.Itoa(unix.Gettid())))
	}
	if err != nil {
		return fmt.Errorf("the control group of a program cannot be entered: %w", err)
	}
	return nil
}

// join puts a process into the group that is not there by its birth.
func (c *cgroup) join(pid int) error {
	if c.own > 0 {
		return nil
	}
	n := strconv.Itoa(pid)
	err := write(c.pids, "cgroup.procs", n)
	if c.memory != "" && c.memory != c.pids {
		err = errors.Join(err, write(c.memory, "cgroup.procs", n))
	}
	if err != nil {
		return fmt.Errorf("it cannot be put into its control group: %w", err)
	}
	return nil
}

// bound sets what the program may have.
func (c *cgroup) bound(processes int, memory int64) error {
	_, err := c.max.WriteAt([]byte(strconv.Itoa(processes+c.own)), 0)
	if c.memory != "" && memory != c.most {
		err = errors.Join(err, limitMemory(c.of.version, c.memory, memory))
		c.most = memory
	}
	if err != nil {
		return fmt.Errorf("the control group of a program cannot be bounded: %w", err)
	}
	return nil
}

// broken says what the counters have counted since the program began.
func (c *cgroup) broken() counters {
	c.looked = true
	now := c.counters()
	return counters{now.forks - c.before.forks, now.kills - c.before.kills, now.beyond - c.before.beyond}
}

func (c *cgroup) counters() counters {
	out := counters{forks: counter(filepath.Join(c.pids, "pids.events"), "max")}
	switch {
	case c.memory == "":
	case c.of.version == 2:
		file := filepath.Join(c.memory, "memory.events")
		out.kills, out.beyond = counter(file, "oom_kill"), counter(file, "max")
	default:
		out.kills = counter(filepath.Join(c.memory, "memory.oom_control"), "oom_kill")
		out.beyond = counter(filepath.Join(c.memory, "memory.failcnt"), "")
	}
	return out
}

// counter reads a line "name number" of a file, or one that is a number alone.
func counter(file, name string) int {
	raw, _ := os.ReadFile(file)
	for line := range strings.Lines(string(raw)) {
		if rest, ok := strings.CutPrefix(" "+line, " "+name); ok && strings.HasPrefix(rest, " ") || name == "" {
			n, _ := strconv.Atoi(strings.TrimSpace(rest))
			return n
		}
	}
	return 0
}

// full says whether all programs together have as many processes as they may have, or had a
// moment ago: some may have ended since one was refused.
func (h *hierarchy) full() bool {
	now, ok1 := numberIn(filepath.Join(h.pids, "pids.current"))
	most, ok2 := numberIn(filepath.Join(h.pids, "pids.max"))
	return ok1 && ok2 && now >= most-most/4
}

// members are the processes in the group, but for this service's.
func (c *cgroup) members() ([]int, error) {
	raw, err := os.ReadFile(filepath.Join(c.pids, "cgroup.procs")) // opened each time: version 1 shows who was in it then
	var out []int
	for _, f := range strings.Fields(string(raw)) {
		if n, err := strconv.Atoi(f); err == nil && n > 1 && n != os.Getpid() {
			out = append(out, n)
		}
	}
	return out, err
}

// empty says whether nothing at all is in the group, not even what has ended and waits for its
// parent to take note.
func (c *cgroup) empty() bool {
	n, ok := numberIn(filepath.Join(c.pids, "pids.current"))
	return ok && n == 0
}

// end lets no more processes be, and ends those that there are. It says whether none is left.
func (c *cgroup) end() bool {
	_, _ = c.max.WriteAt([]byte("0"), 0)
	if c.kill != nil {
		_, _ = c.kill.WriteAt([]byte("1"), 0)
	}
	left, err := c.members()
	for _, pid := range left {
		_ = unix.Kill(pid, unix.SIGKILL)
	}
	return err == nil && len(left) == 0
}
