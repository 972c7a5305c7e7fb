//go:build linux

package sandbox

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"
	"unsafe"

	ll "github.com/landlock-lsm/go-landlock/landlock/syscall"
	"golang.org/x/sys/unix"
)

// Spec is one program to run and what it is granted.
type Spec struct {
	Args   []string // the program, absolute, and its arguments
	Env    []string // its whole environment
	Dir    string   // the folder it starts in, and may write to
	Stdin  []byte
	Reads  []string // files and folders it may read and run
	Writes []string // folders it may write to, beside Dir
	Bare   bool     // no bounds on files and network

	Network   bool
	Memory    int64 // bytes of memory, of all its processes
	Disk      int64 // bytes written to Dir, and to any one file
	Processes int
	Output    int // bytes of standard output, and of standard error

	Log io.Writer // gets standard error as it is written; nil: nothing does
}

// Done is what came of a program.
type Done struct {
	Code   int // exit code; -1 where a signal ended it
	Signal string
	Stdout []byte
	Stderr []byte
	// Broke says which bound it broke and was ended for; "" where it ended by itself.
	Broke string
	Late  bool // the context ended first
}

// system is what nearly every program has to read to start.
var system = []string{"/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/etc/ld.so.cache", "/etc/ld.so.conf", "/etc/ld.so.conf.d", "/etc/alternatives", "/etc/localtime", "/etc/ssl",
	"/etc/nsswitch.conf", "/etc/hosts", "/etc/resolv.conf", "/etc/passwd", "/etc/group", "/etc/mime.types", "/proc/meminfo", "/proc/cpuinfo", "/proc/stat", "/proc/sys/vm/overcommit_memory", "/sys/devices/system/cpu", "/sys/fs/cgroup"}

var devices = []string{"/dev/null", "/dev/zero", "/dev/full", "/dev/random", "/dev/urandom"}

// abi gives the version of Landlock that the kernel has; 0 is none.
var abi = sync.OnceValue(func() int {
	v, err := ll.LandlockGetABIVersion()
	if err != nil {
		return 0
	}
	return v
})

// Missing says what the kernel lacks to bound programs; "" where nothing.
func Missing() string {
	if abi() < 1 {
		return "this kernel has no Landlock, with which files are kept from programs"
	}
	return ""
}

// accessRead and accessWrite are Landlock's rights on files. Newer rights are
// left out where the kernel does not know them.
const (
	accessRead  = ll.AccessFSExecute | ll.AccessFSReadFile | ll.AccessFSReadDir
	accessWrite = ll.AccessFSWriteFile | ll.AccessFSRemoveDir | ll.AccessFSRemoveFile | ll.AccessFSMakeChar | ll.AccessFSMakeDir | ll.AccessFSMakeReg | ll.AccessFSMakeSock |
		ll.AccessFSMakeFifo | ll.AccessFSMakeBlock | ll.AccessFSMakeSym
	fileRights = ll.AccessFSExecute | ll.AccessFSReadFile | ll.AccessFSWriteFile | ll.AccessFSTruncate
)

func handled() uint64 {
	all := uint64(accessRead | accessWrite)
	if abi() >= 2 {
		all |= ll.AccessFSRefer
	}
	if abi() >= 3 {
		all |= ll.AccessFSTruncate
	}
	return all
}

// systemFolders gives the folders among what programs read, opened once, and the
// files, which may be replaced while the service runs.
var systemFolders = sync.OnceValues(func() (dirs []int, files []string) {
	for _, p := range system {
		var st unix.Stat_t
		fd, err := unix.Open(p, unix.O_PATH|unix.O_CLOEXEC, 0)
		switch {
		case err != nil: // not on this machine
		case unix.Fstat(fd, &st) == nil && st.Mode&unix.S_IFMT == unix.S_IFDIR:
			dirs = append(dirs, fd)
		default:
			files = append(files, p)
			unix.Close(fd)
		}
	}
	return dirs, files
})

// ruleset makes the rules of a program. The caller closes it.
func (s *Spec) ruleset() (int, error) {
	attr := ll.RulesetAttr{HandledAccessFS: handled()}
	if abi() >= 6 {
		attr.Scoped = ll.ScopeSignal | ll.ScopeAbstractUnixSocket
	}
	if abi() >= 4 && !s.Network {
		attr.HandledAccessNet = ll.AccessNetBindTCP | ll.AccessNetConnectTCP
	}
	fd, err := ll.LandlockCreateRuleset(&attr, 0)
	if err != nil {
		return -1, fmt.Errorf("the sandbox's rules cannot be made: %w", err)
	}
	add := func(path string, rights uint64) error {
		p, err := unix.Open(path, unix.O_PATH|unix.O_CLOEXEC, 0)
		if err != nil {
			return nil // what is not there cannot be reached either
		}
		defer unix.Close(p)
		var st unix.Stat_t
		if unix.Fstat(p, &st) == nil && st.Mode&unix.S_IFMT != unix.S_IFDIR {
			rights &= fileRights
		}
		return ll.LandlockAddPathBeneathRule(fd, &ll.PathBeneathAttr{AllowedAccess: rights & handled(), ParentFd: p}, 0)
	}
	dirs, files := systemFolders()
	for _, d := range dirs {
		err = errors.Join(err, ll.LandlockAddPathBeneathRule(fd, &ll.PathBeneathAttr{AllowedAccess: accessRead, ParentFd: d}, 0))
	}
	for _, p := range append(append([]string{}, files...), s.Reads...) {
		err = errors.Join(err, add(p, accessRead))
	}
	for _, p := range devices {
		err = errors.Join(err, add(p, ll.AccessFSReadFile|ll.AccessFSWriteFile))
	}
	for _, p := range append([]string{s.Dir}, s.Writes...) {
		err = errors.Join(err, add(p, handled()))
	}
	if err != nil {
		unix.Close(fd)
		return -1, fmt.Errorf("the sandbox's rules cannot be made: %w", err)
	}
	return fd, nil
}

// Run runs a program to its end, within its bounds. An error means that it was
// not started.
//
// The bounds are put on the one thread that starts the program, which the program
// inherits from; the thread ends with it. So nothing of ours has to run in between,
// and the service itself stays as it is.
func Run(ctx context.Context, s Spec) (Done, error) {
	if len(s.Args) == 0 {
		return Done{}, errors.New("no program is named")
	}
	type ended struct {
		done Done
		err  error
	}
	ch := make(chan ended, 1)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread carries the bounds, and goes with the goroutine
		d, err := s.run(ctx)
		ch <- ended{d, err}
	}()
	e := <-ch
	return e.done, e.err
}

func (s *Spec) run(ctx context.Context) (Done, error) {
	cmd := exec.Command(s.Args[0], s.Args[1:]...)
	cmd.Env, cmd.Dir = s.Env, s.Dir
	cmd.Stdin = bytes.NewReader(s.Stdin)
	w := &watch{spec: s, stop: make(chan struct{})}
	out, errs := &bounded{limit: s.Output, w: w, name: "standard output"}, &bounded{limit: s.Output, w: w, name: "standard error"}
	cmd.Stdout, cmd.Stderr = out, errs
	if s.Log != nil {
		cmd.Stderr = io.MultiWriter(errs, s.Log)
	}
	// A group of its own, so that all of it can be ended; Pdeathsig, so that it does
	// not outlive a service that is killed. It is stopped at its first instruction
	// for its limits to be set before it does anything.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL, Ptrace: !s.Bare}
	cmd.WaitDelay = 500 * time.Millisecond
	if !s.Bare {
		if err := s.confine(); err != nil {
			return Done{}, err
		}
	}
	if err := cmd.Start(); err != nil {
		return Done{}, err
	}
	w.begin(cmd.Process.Pid)
	elsewhere(func() { note(w.pid, true) })
	defer elsewhere(func() { note(w.pid, false) })
	if !s.Bare {
		if err := s.release(w.pid); err != nil {
			_ = cmd.Process.Kill() // it has not begun
			_ = cmd.Wait()
			return Done{}, err
		}
	}
	var watching sync.WaitGroup
	watching.Add(1)
	go func() { defer watching.Done(); w.look(ctx) }()
	err := cmd.Wait()
	close(w.stop)
	watching.Wait()
	w.killAll() // what it left behind
	if !s.Bare {
		elsewhere(func() {
			if size(s.Dir, s.Disk-1) >= s.Disk && w.reason() == "" {
				w.broke(fmt.Sprintf("it wrote more than %d MB to its folder", s.Disk>>20))
			}
		})
	}
	d := Done{Stdout: out.b.Bytes(), Stderr: errs.b.Bytes(), Broke: w.reason(), Late: w.late}
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) && !errors.Is(err, exec.ErrWaitDelay) {
		return d, err
	}
	st, _ := cmd.ProcessState.Sys().(syscall.WaitStatus)
	d.Code = st.ExitStatus()
	if st.Signaled() {
		d.Code, d.Signal = -1, st.Signal().String()
	}
	return d, nil
}

// elsewhere does something on a thread that is not confined.
func elsewhere(do func()) {
	done := make(chan struct{})
	go func() { defer close(done); do() }()
	<-done
}

// confine puts the bounds on files and network onto this thread.
func (s *Spec) confine() error {
	fd, err := s.ruleset()
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("the sandbox cannot be entered: %w", err)
	}
	if err := ll.LandlockRestrictSelf(fd, 0); err != nil {
		return fmt.Errorf("the sandbox cannot be entered: %w", err)
	}
	return filter(s.Network)
}

// release sets the limits of a program that stands at its first instruction, and
// lets it go.
func (s *Spec) release(pid int) error {
	var st unix.WaitStatus
	if _, err := unix.Wait4(pid, &st, 0, nil); err != nil || !st.Stopped() {
		return fmt.Errorf("the program did not stop for its limits to be set (%v)", err)
	}
	for what, n := range map[int]uint64{unix.RLIMIT_FSIZE: uint64(s.Disk), unix.RLIMIT_CORE: 0, unix.RLIMIT_DATA: uint64(s.Memory) * 4, unix.RLIMIT_NOFILE: 256} {
		lim := unix.Rlimit{Cur: n, Max: n}
		if err := unix.Prlimit(pid, what, &lim, nil); err != nil {
			return fmt.Errorf("its limits cannot be set: %w", err)
		}
	}
	_ = unix.Setpriority(unix.PRIO_PROCESS, pid, 10) // so that what looks after it comes first; what it starts inherits this
	if err := unix.PtraceDetach(pid); err != nil {
		return fmt.Errorf("it cannot be let go: %w", err)
	}
	return nil
}

// filter refuses system calls to this thread and what it starts: a session of its
// own, in which it could hide from its group, ways around the other bounds, and,
// where the network is not granted, every socket but local ones. Landlock knows of
// TCP alone.
func filter(network bool) error {
	const errno = unix.SECCOMP_RET_ERRNO
	arch, ok := archs[runtime.GOARCH]
	if !ok {
		return nil // Landlock stands alone there
	}
	stmt := func(code uint16, k uint32) unix.SockFilter { return unix.SockFilter{Code: code, K: k} }
	jump := func(k uint32, jt, jf uint8) unix.SockFilter {
		return unix.SockFilter{Code: unix.BPF_JMP | unix.BPF_JEQ | unix.BPF_K, Jt: jt, Jf: jf, K: k}
	}
	load := func(off uint32) unix.SockFilter { return stmt(unix.BPF_LD|unix.BPF_W|unix.BPF_ABS, off) }
	ret := func(k uint32) unix.SockFilter { return stmt(unix.BPF_RET|unix.BPF_K, k) }
	prog := []unix.SockFilter{load(4), jump(arch, 1, 0), ret(unix.SECCOMP_RET_KILL_PROCESS), load(0)}
	const eperm = errno | uint32(unix.EPERM)
	if arch == unix.AUDIT_ARCH_X86_64 { // its second set of numbers (x32) would pass by what follows
		prog = append(prog, unix.SockFilter{Code: unix.BPF_JMP | unix.BPF_JGE | unix.BPF_K, Jf: 1, K: 0x40000000}, ret(errno|uint32(unix.ENOSYS)))
	}
	for _, nr := range []uint32{unix.SYS_SETSID, unix.SYS_PROCESS_VM_READV, unix.SYS_PROCESS_VM_WRITEV, unix.SYS_TKILL, unix.SYS_MOUNT, unix.SYS_UNSHARE, unix.SYS_SETNS, unix.SYS_BPF, unix.SYS_KEYCTL} {
		prog = append(prog, jump(nr, 0, 1), ret(eperm))
	}
	// ptrace: only what lets a program be started by us; the thread that starts it
	// has the same bounds, so nothing else would keep the two apart
	prog = append(prog, jump(unix.SYS_PTRACE, 0, 4), load(16), jump(unix.PTRACE_TRACEME, 2, 0), jump(unix.PTRACE_DETACH, 1, 0), ret(eperm), load(0))
	// no signal to the service, nor to all there are
	for _, nr := range []uint32{unix.SYS_KILL, unix.SYS_TGKILL} {
		prog = append(prog, jump(nr, 0, 4), load(16), jump(uint32(os.Getpid()), 1, 0), jump(^uint32(0), 0, 1), ret(eperm), load(0))
	}
	prog = append(prog, jump(unix.SYS_IO_URING_SETUP, 0, 1), ret(errno|uint32(unix.ENOSYS)))
	if !network {
		// socket(domain, …): only AF_UNIX
		prog = append(prog, jump(unix.SYS_SOCKET, 0, 3), load(16), jump(unix.AF_UNIX, 1, 0), ret(errno|uint32(unix.EACCES)))
	}
	prog = append(prog, ret(unix.SECCOMP_RET_ALLOW))
	f := unix.SockFprog{Len: uint16(len(prog)), Filter: &prog[0]}
	if err := unix.Prctl(unix.PR_SET_SECCOMP, unix.SECCOMP_MODE_FILTER, uintptr(unsafe.Pointer(&f)), 0, 0); err != nil {
		return fmt.Errorf("the sandbox cannot be entered: %w", err)
	}
	return nil
}

// archs are the names that the kernel has for machines.
var archs = map[string]uint32{"amd64": unix.AUDIT_ARCH_X86_64, "arm64": unix.AUDIT_ARCH_AARCH64}

// bounded keeps what a program writes, up to a limit.
type bounded struct {
	b     bytes.Buffer
	limit int
	w     *watch
	name  string
}

func (b *bounded) Write(p []byte) (int, error) {
	room := b.limit - b.b.Len()
	b.b.Write(p[:max(0, min(room, len(p)))])
	if len(p) > room {
		b.w.broke(fmt.Sprintf("it wrote more than %d bytes to its %s", b.limit, b.name))
		return 0, io.ErrShortWrite
	}
	return len(p), nil
}

// watch looks after what limits of the kernel do not cover.
type watch struct {
	spec *Spec
	pid  int
	stop chan struct{}
	late bool

	mu   sync.Mutex
	why  string
	seen map[int]bool // processes that came from it
}

const (
	interval = 10 * time.Millisecond
	grace    = 300 * time.Millisecond // between being asked to end and being ended
)

func (w *watch) begin(pid int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.pid = pid
}

func (w *watch) reason() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.why
}

// broke ends the program for a reason, the first one given.
func (w *watch) broke(why string) {
	w.mu.Lock()
	if w.why == "" {
		w.why = why
	}
	w.mu.Unlock()
	w.killAll()
}

func (w *watch) killAll() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.pid == 0 {
		return
	}
	_ = unix.Kill(-w.pid, unix.SIGKILL) // the whole group at once, so that no fork slips through
	for p := range w.seen {
		if pgid, err := unix.Getpgid(p); err == nil && pgid != unix.Getpgrp() && w.seen[pgid] {
			_ = unix.Kill(p, unix.SIGKILL)
		}
	}
}

func (w *watch) look(ctx context.Context) {
	tick := time.NewTicker(interval)
	defer tick.Stop()
	for n := 1; ; n++ {
		select {
		case <-w.stop:
			return
		case <-ctx.Done():
			w.late = true
			_ = unix.Kill(-w.pid, unix.SIGTERM)
			select {
			case <-w.stop:
			case <-time.After(grace):
				w.killAll()
			}
			return
		case <-tick.C:
		}
		if w.spec.Bare {
			continue
		}
		count, rss := w.count()
		switch {
		case count > w.spec.Processes:
			w.broke(fmt.Sprintf("it had %d processes at a time; %d are allowed", count, w.spec.Processes))
		case rss > w.spec.Memory:
			w.broke(fmt.Sprintf("it used more than %d MB of memory", w.spec.Memory>>20))
		case n%10 == 0 && size(w.spec.Dir, w.spec.Disk) > w.spec.Disk:
			w.broke(fmt.Sprintf("it wrote more than %d MB to its folder", w.spec.Disk>>20))
		}
	}
}

// count gives the processes of the program's group and their memory.
func (w *watch) count() (n int, rss int64) {
	procs, err := os.ReadDir("/proc")
	if err != nil {
		return 0, 0
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.seen == nil {
		w.seen = map[int]bool{w.pid: true}
	}
	for _, p := range procs {
		if c := p.Name()[0]; c < '0' || c > '9' {
			continue
		}
		raw, err := os.ReadFile("/proc/" + p.Name() + "/stat")
		if err != nil {
			continue
		}
		_, rest, ok := strings.Cut(string(raw), ") ") // the name may hold anything
		if i := strings.LastIndex(string(raw), ") "); ok && i >= 0 {
			rest = string(raw)[i+2:]
		}
		var state string
		var ppid, pgrp int
		if _, err := fmt.Sscan(rest, &state, &ppid, &pgrp); err != nil {
			continue
		}
		if pgrp != w.pid && !w.seen[ppid] {
			continue
		}
		var id int
		if _, err := fmt.Sscan(p.Name(), &id); err != nil {
			continue
		}
		w.seen[id] = true
		if n++; n > w.spec.Processes {
			break // enough to know
		}
		f := strings.Fields(rest)
		if len(f) > 21 {
			var pages int64
			if _, err := fmt.Sscan(f[21], &pages); err == nil {
				rss += pages * int64(os.Getpagesize())
			}
		}
	}
	return n, rss
}

// size adds up a folder, and stops when it is beyond a limit.
func size(dir string, limit int64) int64 {
	var sum int64
	_ = filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil // it went away meanwhile
		}
		if info, err := e.Info(); err == nil && info.Mode().IsRegular() {
			sum += info.Size()
		}
		if sum > limit {
			return fs.SkipAll
		}
		return nil
	})
	return sum
}
