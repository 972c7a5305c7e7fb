//go:build linux

package sandbox

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"unsafe"

	"golang.org/x/sys/unix"
)

// change is a system call that changes what a file is, not what is in it. Landlock
// leaves such calls free on every file there is. The numbers are those of the
// call's arguments; -1 is for what it does not have.
type change struct {
	what         what
	base, path   int // a folder's descriptor and the path from there; the descriptor is the file's where path is 0
	value, flags int
	link         bool // a link is changed itself
}

type what int

const (
	mode what = iota
	owner
	times
	length
)

// changes are those that all processors have.
var changes = map[uint32]change{
	unix.SYS_FCHMOD:    {what: mode, base: 0, path: -1, value: 1, flags: -1},
	unix.SYS_FCHMODAT:  {what: mode, base: 0, path: 1, value: 2, flags: -1},
	unix.SYS_FCHMODAT2: {what: mode, base: 0, path: 1, value: 2, flags: 3},
	unix.SYS_FCHOWN:    {what: owner, base: 0, path: -1, value: 1, flags: -1},
	unix.SYS_FCHOWNAT:  {what: owner, base: 0, path: 1, value: 2, flags: 4},
	unix.SYS_UTIMENSAT: {what: times, base: 0, path: 1, value: 2, flags: 3},
	unix.SYS_TRUNCATE:  {what: length, base: -1, path: 0, value: 1, flags: -1},
}

// guard answers the system calls that the filter leaves to it: it makes changes of
// files in place of the program, where they are its own, keeps count of its groups of
// processes, and connects its sockets.
type guard struct {
	fd   int
	own  []string                  // the folders whose files it may change, with no links in them
	mine func(group int) bool      // whether a group is the program's
	join func(group, pid int) bool // whether a process may be in a group from now on
	fork func(thread uint32) bool  // whether a thread may start a process, or another thread

	reach *reach
	busy  sync.WaitGroup // answers that take a while
}

// notice and reply are the kernel's struct seccomp_notif and seccomp_notif_resp.
type notice struct {
	id    uint64
	pid   uint32 // of the thread that asks
	flags uint32
	nr    int32
	arch  uint32
	ip    uint64
	args  [6]uint64
}

type reply struct {
	id    uint64
	value int64
	errno int32
	flags uint32
}

// let has the kernel carry the call out as it stands, or refuses it.
func (r *reply) let(ok bool, no unix.Errno) {
	if ok {
		r.flags = unix.SECCOMP_USER_NOTIF_FLAG_CONTINUE
	} else {
		r.errno = -int32(no)
	}
}

func (g *guard) ioctl(request uint, p unsafe.Pointer) unix.Errno {
	_, no := g.call(request, p)
	return no
}

func (g *guard) call(request uint, p unsafe.Pointer) (uintptr, unix.Errno) {
	for {
		if v, _, no := unix.Syscall(unix.SYS_IOCTL, uintptr(g.fd), uintptr(request), uintptr(p)); no != unix.EINTR {
			return v, no
		}
	}
}

// serve answers until nobody is left who could ask. It waits with the runtime's
// poller: a thread that waits in a system call would keep a processor from others.
func (g *guard) serve() {
	if unix.SetNonblock(g.fd, true) != nil {
		unix.Close(g.fd) // every call that is asked about fails then
		return
	}
	f := os.NewFile(uintptr(g.fd), "guard")
	defer f.Close()
	defer g.busy.Wait()
	if conn, err := f.SyscallConn(); err == nil {
		_ = conn.Read(func(uintptr) bool { return !g.answer() }) // it ends with those who ask
	}
}

// answer answers all that is asked now. It says whether more may come.
func (g *guard) answer() bool {
	for {
		fds := []unix.PollFd{{Fd: int32(g.fd), Events: unix.POLLIN}}
		if _, err := unix.Poll(fds, 0); err == unix.EINTR {
			continue
		}
		if fds[0].Revents&unix.POLLIN == 0 {
			return fds[0].Revents == 0
		}
		var n notice
		if g.ioctl(unix.SECCOMP_IOCTL_NOTIF_RECV, unsafe.Pointer(&n)) != 0 {
			continue // who asked is gone
		}
		r := reply{id: n.id}
		switch n.nr {
		case unix.SYS_CONNECT:
			g.busy.Add(1)
			go func() {
				defer g.busy.Done()
				r.errno = -int32(g.connect(&n))
				g.ioctl(unix.SECCOMP_IOCTL_NOTIF_SEND, unsafe.Pointer(&r))
			}()
			continue
		case unix.SYS_SOCKET:
			fd, no := g.socket(&n)
			r.value, r.errno = fd, -int32(no)
		case unix.SYS_SETPGID:
			r.let(g.group(&n), unix.EPERM)
		case unix.SYS_KILL, unix.SYS_TGKILL:
			r.let(g.signal(&n), unix.EPERM)
		default:
			if forking(uint32(n.nr)) {
				r.let(g.alive(&n) && g.fork(n.pid), unix.EAGAIN)
				break
			}
			r.errno = -int32(g.change(&n, changes[uint32(n.nr)]))
		}
		g.ioctl(unix.SECCOMP_IOCTL_NOTIF_SEND, unsafe.Pointer(&r))
	}
}

// alive says whether who asked still waits; its number may be another's if not.
func (g *guard) alive(n *notice) bool {
	return g.ioctl(unix.SECCOMP_IOCTL_NOTIF_ID_VALID, unsafe.Pointer(&n.id)) == 0
}

// group says whether a process may go to another group.
func (g *guard) group(n *notice) bool {
	pid, to := int(int32(n.args[0])), int(int32(n.args[1]))
	if pid == 0 {
		raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", n.pid))
		if err != nil {
			return false
		}
		_, rest, _ := strings.Cut(string(raw), "\nTgid:")
		line, _, _ := strings.Cut(rest, "\n")
		if pid, err = strconv.Atoi(strings.TrimSpace(line)); err != nil {
			return false
		}
	}
	if to == 0 {
		to = pid
	}
	return g.alive(n) && g.join(to, pid)
}

// signal says whether a process may get a signal: one of the program's own.
func (g *guard) signal(n *notice) bool {
	to := int(int32(n.args[0]))
	if to == 0 {
		return true // the group of who asks
	}
	if to < 0 {
		return g.mine(-to)
	}
	group, err := unix.Getpgid(to)
	return err != nil || g.mine(group) // where there is none, the kernel says so
}

// change makes a change in place of the program.
func (g *guard) change(n *notice, c change) unix.Errno {
	no := func(err error) unix.Errno {
		if e, ok := err.(unix.Errno); ok {
			return e
		}
		return unix.EACCES
	}
	target, err := g.open(n, c)
	if err != nil {
		return no(err)
	}
	defer unix.Close(target)
	name := "/proc/self/fd/" + strconv.Itoa(target)
	path, err := os.Readlink(name)
	if err != nil || !g.owns(path) {
		return unix.EACCES
	}
	value := n.args[c.value]
	var ts []unix.Timespec
	if c.what == times {
		now := unix.Timespec{Nsec: unix.UTIME_NOW}
		ts = []unix.Timespec{now, now}
		if value != 0 {
			raw, err := g.read(n, value, int(2*unsafe.Sizeof(now)))
			if err != nil {
				return no(err)
			}
			copy(unsafe.Slice((*byte)(unsafe.Pointer(&ts[0])), len(raw)), raw)
		}
	}
	if !g.alive(n) {
		return unix.EINTR
	}
	switch c.what {
	case mode:
		if value&(unix.S_ISUID|unix.S_ISGID) != 0 {
			return unix.EPERM
		}
		err = unix.Fchmodat(unix.AT_FDCWD, name, uint32(value)&0o1777, 0)
	case owner:
		err = unix.Fchownat(target, "", int(int32(value)), int(int32(n.args[c.value+1])), unix.AT_EMPTY_PATH)
	case times:
		err = unix.UtimesNanoAt(unix.AT_FDCWD, name, ts, 0)
	case length:
		err = unix.Truncate(name, int64(value))
	}
	if err != nil {
		return no(err)
	}
	return 0
}

// open finds the file of a change, as the program would.
func (g *guard) open(n *notice, c change) (int, error) {
	base := fmt.Sprintf("/proc/%d/cwd", n.pid)
	if c.base >= 0 && int32(n.args[c.base]) != unix.AT_FDCWD {
		base = fmt.Sprintf("/proc/%d/fd/%d", n.pid, int32(n.args[c.base]))
	}
	how := unix.O_PATH | unix.O_CLOEXEC
	if c.path < 0 || n.args[c.path] == 0 {
		return unix.Open(base, how, 0)
	}
	raw, err := g.read(n, n.args[c.path], unix.PathMax)
	if err != nil {
		return -1, err
	}
	end := bytes.IndexByte(raw, 0)
	if end < 0 {
		return -1, unix.ENAMETOOLONG
	}
	path := string(raw[:end])
	link := c.link
	if c.flags >= 0 {
		flags := n.args[c.flags]
		link = flags&unix.AT_SYMLINK_NOFOLLOW != 0
		if path == "" && flags&unix.AT_EMPTY_PATH != 0 {
			return unix.Open(base, how, 0)
		}
	}
	if path == "" {
		return -1, unix.ENOENT
	}
	if link {
		how |= unix.O_NOFOLLOW
	}
	if rest, ok := strings.CutPrefix(path, "/proc/self/"); ok {
		path = fmt.Sprintf("/proc/%d/%s", n.pid, rest)
	}
	if filepath.IsAbs(path) {
		return unix.Open(path, how, 0)
	}
	dir, err := unix.Open(base, unix.O_PATH|unix.O_CLOEXEC|unix.O_DIRECTORY, 0)
	if err != nil {
		return -1, err
	}
	defer unix.Close(dir)
	return unix.Openat(dir, path, how, 0)
}

// read reads the memory of who asked, up to size bytes or to where it ends.
func (g *guard) read(n *notice, at uint64, size int) ([]byte, error) {
	f, err := os.Open(fmt.Sprintf("/proc/%d/mem", n.pid))
	if err != nil {
		return nil, unix.EPERM
	}
	defer f.Close()
	raw := make([]byte, size)
	got, err := f.ReadAt(raw, int64(at))
	if got == 0 && err != nil {
		return nil, unix.EFAULT
	}
	return raw[:got], nil
}

// owns says whether a file is in a folder that the program may write to.
func (g *guard) owns(path string) bool {
	for _, dir := range g.own {
		if path == dir || strings.HasPrefix(path, dir+"/") {
			return true
		}
	}
	return false
}
