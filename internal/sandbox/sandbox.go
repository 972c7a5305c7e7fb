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
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	ll "github.com/landlock-lsm/go-landlock/landlock/syscall"
	"golang.org/x/sys/unix"
)

// Spec is one program to run and what it is granted.
type Spec struct {
	Args   []string // the program, absolute, and its arguments
	Env    []string // its whole environment
	Dir    string   // the folder it starts in, and may write to
	Stdin  []byte
	In     io.Reader // in place of Stdin: what comes in while it runs; the caller ends it. A file is its own
	Reads  []string  // files and folders it may read and run
	Writes []string  // folders it may write to, beside Dir
	Bare   bool      // no bounds on files and network

	Network   bool     // it reaches all of the network, but for the service's own addresses (see Hide)
	Hosts     []string // else the hosts that it reaches, by TCP: name, name:port, or *.name for all below
	Memory    int64    // bytes of memory, of all its processes
	Disk      int64    // bytes written to Dir, and to any one file
	Processes int      // at a time; each thread is one
	Output    int      // bytes of standard output, and of standard error
	Resident  bool     // it runs for long: what it writes is not kept, and is not bounded

	Log  io.Writer // gets standard error as it is written; nil: nothing does
	Tell io.Writer // likewise standard output. A file is the own one of a resident program
}

// Done is the result of a program.
type Done struct {
	Code   int // exit code; -1 where a signal ended it
	Signal string
	Stdout []byte
	Stderr []byte
	// Broke says which bound it broke and was ended for; "" where it ended on its own.
	Broke string
	Late  bool // the context ended first
	// Refused are hosts that it asked for and that are not among Hosts.
	Refused []string
}

// system is what nearly every program has to read to start.
var system = []string{"/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/etc/ld.so.cache", "/etc/ld.so.conf", "/etc/ld.so.conf.d", "/etc/alternatives", "/etc/localtime", "/etc/ssl",
	"/etc/nsswitch.conf", "/etc/hosts", "/etc/resolv.conf", "/etc/passwd", "/etc/group", "/etc/mime.types", "/etc/gitconfig", "/proc/meminfo", "/proc/cpuinfo", "/proc/stat", "/proc/sys/vm/overcommit_memory", "/sys/devices/system/cpu", "/sys/fs/cgroup"}

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
	switch {
	case abi() < 1:
		return "this kernel has no Landlock, with which files are kept from programs"
	case archs[runtime.GOARCH] == 0:
		return "the system calls of this processor (" + runtime.GOARCH + ") are not known to the sandbox"
	case filtering() != nil:
		return "this kernel lets no system calls be filtered here (" + filtering().Error() + ")"
	}
	return ""
}

// filtering says why a filter cannot be set; it is tried once.
var filtering = sync.OnceValue(func() error {
	c := newCell(offline)
	offline.keep(c)
	return c.err
})

// accessRead and accessWrite are Landlock's rights on files. Newer rights are
// left out where the kernel does not know them.
const (
	accessRead  = ll.AccessFSExecute | ll.AccessFSReadFile | ll.AccessFSReadDir
	accessWrite = ll.AccessFSWriteFile | ll.AccessFSRemoveDir | ll.AccessFSRemoveFile | ll.AccessFSMakeDir | ll.AccessFSMakeReg | ll.AccessFSMakeSock | ll.AccessFSMakeFifo | ll.AccessFSMakeSym
	// accessNever is granted to none: a device that a program made would open all that is on it.
	accessNever = ll.AccessFSMakeChar | ll.AccessFSMakeBlock
	fileRights  = ll.AccessFSExecute | ll.AccessFSReadFile | ll.AccessFSWriteFile | ll.AccessFSTruncate
)

func handled() uint64 {
	all := uint64(accessRead | accessWrite | accessNever)
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

// Readable says whether a program that is let read some paths beside the system's can
// read what stands beside a file.
func Readable(file string, reads []string) bool {
	for _, p := range append(slices.Clone(system), reads...) {
		if real, err := filepath.EvalSymlinks(p); err == nil {
			p = real
		}
		if rel, err := filepath.Rel(p, filepath.Dir(file)); err == nil && filepath.IsLocal(rel) {
			return true
		}
	}
	return false
}

// addPath lets programs use what a path leads to, with some of the rights. What is not
// there cannot be reached either.
func addPath(rules int, path string, rights uint64) error {
	p, err := unix.Open(path, unix.O_PATH|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil
	}
	defer unix.Close(p)
	var st unix.Stat_t
	if unix.Fstat(p, &st) == nil && st.Mode&unix.S_IFMT != unix.S_IFDIR {
		rights &= fileRights
	}
	return ll.LandlockAddPathBeneathRule(rules, &ll.PathBeneathAttr{AllowedAccess: rights & handled(), ParentFd: p}, 0)
}

// common makes the rules that all programs of a kind have. The caller closes them.
func common(net network) (rules int, err error) {
	attr := ll.RulesetAttr{HandledAccessFS: handled()}
	if abi() >= 6 {
		attr.Scoped = ll.ScopeSignal | ll.ScopeAbstractUnixSocket
	}
	if abi() >= 4 && net != whole {
		attr.HandledAccessNet = ll.AccessNetBindTCP | ll.AccessNetConnectTCP
	}
	if rules, err = ll.LandlockCreateRuleset(&attr, 0); err != nil {
		return -1, fmt.Errorf("the sandbox's rules cannot be made: %w", err)
	}
	dirs, _ := systemFolders()
	for _, d := range dirs {
		err = errors.Join(err, ll.LandlockAddPathBeneathRule(rules, &ll.PathBeneathAttr{AllowedAccess: accessRead, ParentFd: d}, 0))
	}
	for _, p := range devices {
		err = errors.Join(err, addPath(rules, p, ll.AccessFSReadFile|ll.AccessFSWriteFile))
	}
	if err != nil {
		unix.Close(rules)
		return -1, fmt.Errorf("the sandbox's rules cannot be made: %w", err)
	}
	return rules, nil
}

// grant adds what this program may use beside that.
func (s *Spec) grant(rules int) (err error) {
	_, files := systemFolders()
	for _, p := range append(append([]string{}, files...), s.Reads...) {
		err = errors.Join(err, addPath(rules, p, accessRead))
	}
	for _, p := range append([]string{s.Dir}, s.Writes...) {
		err = errors.Join(err, addPath(rules, p, handled()&^accessNever))
	}
	if err != nil {
		return fmt.Errorf("the sandbox's rules cannot be made: %w", err)
	}
	return nil
}

// Run runs a program until it ends, within its bounds. An error means that it was
// not started.
//
// The bounds are put on the one thread that starts the program, its cell, which the
// program inherits from; the thread ends with it. So nothing of ours has to run in
// between, and the service itself stays as it is.
func Run(ctx context.Context, s Spec) (Done, error) {
	if len(s.Args) == 0 {
		return Done{}, errors.New("no program is named")
	}
	cmd := exec.Command(s.Args[0], s.Args[1:]...)
	cmd.Env, cmd.Dir = s.Env, s.Dir
	if cmd.Stdin = io.Reader(bytes.NewReader(s.Stdin)); s.In != nil {
		cmd.Stdin = s.In
	}
	if _, direct := s.In.(*os.File); s.In != nil && !direct { // by a pipe of ours: nobody waits for what does not come in
		from, to, err := os.Pipe()
		if err != nil {
			return Done{}, err
		}
		defer from.Close()
		defer to.Close()
		cmd.Stdin = from
		go func() {
			_, _ = io.Copy(to, s.In) // it ends with either side
			to.Close()
		}()
	}
	w := &watch{spec: &s, stop: make(chan struct{}), groups: map[int]bool{}}
	if err := heir.ready(); err != nil {
		return Done{}, err
	}
	out, errs := &bounded{limit: s.Output, w: w, name: "standard output"}, &bounded{limit: s.Output, w: w, name: "standard error"}
	cmd.Stdout, cmd.Stderr = out, errs
	if s.Tell != nil {
		cmd.Stdout = io.MultiWriter(out, s.Tell)
	}
	if s.Log != nil {
		cmd.Stderr = io.MultiWriter(errs, s.Log)
	}
	if s.Resident {
		cmd.Stdout, cmd.Stderr = s.Tell, s.Log
	}
	// A group of its own, so that all of it can be ended; Pdeathsig, so that it does
	// not outlive a service that is killed. It is stopped at its first instruction
	// for its limits to be set before it does anything.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL, Ptrace: !s.Bare}
	cmd.WaitDelay = 500 * time.Millisecond
	if !s.Network && len(s.Hosts) > 0 {
		cmd.Env = append(slices.Clone(s.Env), byStream...)
	}
	within, end := context.WithCancel(context.WithoutCancel(ctx))
	defer end()
	r, err := newReach(within, &s)
	if err != nil {
		return Done{}, err
	}
	of := s.kind()
	c := of.take()
	w.held = c.held
	if !s.Bare && w.held == nil {
		w.count = &count{bound: s.Processes, members: w.mine, let: map[uint32]bool{}}
		defer w.count.end()
	}
	started, over := make(chan error, 1), make(chan struct{})
	defer c.vacate()
	defer close(over)
	c.do <- func() {
		started <- s.start(cmd, w, c, r)
		<-over // Pdeathsig is of the thread
	}
	if err := <-started; err != nil {
		return Done{}, err
	}
	go of.prepare()
	defer w.forget()
	var watching sync.WaitGroup
	watching.Add(1)
	go func() { defer watching.Done(); w.look(ctx) }()
	err = cmd.Wait()
	close(w.stop)
	watching.Wait()
	w.close()
	if buried(cmd) {
		w.broke("it had itself traced, and stopped")
	}
	w.gone() // what it left behind
	unused(w)
	if (w.late || err != nil) && w.reason() == "" { // did it do without?
		if why := w.bound(1); why != "" {
			w.broke(why)
		}
	}
	if !s.Bare && w.reason() == "" && size(s.Dir, s.Disk-1) >= s.Disk {
		w.broke(fmt.Sprintf("it wrote more than %d MB to its folder", s.Disk>>20))
	}
	d := Done{Stdout: out.b.Bytes(), Stderr: errs.b.Bytes(), Broke: w.reason(), Late: w.late, Refused: r.told()}
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

// buried waits for the end of a program that had this process trace it: a stop of such a one
// is taken for its end, which is yet to come when it was killed. It says whether that was so.
func buried(cmd *exec.Cmd) bool {
	if cmd.ProcessState == nil {
		return false
	}
	if st, ok := cmd.ProcessState.Sys().(syscall.WaitStatus); !ok || !st.Stopped() {
		return false
	}
	_ = unix.Kill(cmd.Process.Pid, unix.SIGKILL) // nobody has waited for it, so the number is its own
	for {
		var st unix.WaitStatus
		if _, err := unix.Wait4(cmd.Process.Pid, &st, 0, nil); err == unix.EINTR || err == nil && !st.Exited() && !st.Signaled() {
			continue
		}
		return true
	}
}

// start starts the program from this thread, which is of a cell, and puts the
// bounds on files onto it before that.
func (s *Spec) start(cmd *exec.Cmd, w *watch, c *cell, r *reach) error {
	if c.err != nil {
		return c.err
	}
	if !s.Bare {
		defer unix.Close(c.rules)
		own, err := real(append([]string{s.Dir}, s.Writes...))
		if err != nil {
			unix.Close(c.listener)
			return err
		}
		cmd.SysProcAttr.Pgid = c.word
		g := &guard{fd: c.listener, own: own, mine: w.mine, join: w.join, reach: r}
		if w.held != nil {
			err = w.held.bound(s.Processes, s.Memory)
		} else {
			cmd.SysProcAttr.Cloneflags, g.fork = uintptr(c.word), w.fork
			err = w.count.begin()
		}
		go g.serve()
		if err == nil {
			err = s.grant(c.rules)
		}
		if err != nil {
			return err
		}
		if err := ll.LandlockRestrictSelf(c.rules, 0); err != nil {
			return fmt.Errorf("the sandbox cannot be entered: %w", err)
		}
	}
	if err := cmd.Start(); err != nil {
		if errors.Is(err, unix.EAGAIN) && w.held != nil && w.held.of.full() {
			return errTogether
		}
		return exhausted(err)
	}
	if s.Bare {
		w.begin(cmd.Process.Pid)
		return nil
	}
	if err := s.release(cmd.Process.Pid, w); err != nil {
		elsewhere(func() {
			_ = cmd.Process.Kill() // it has not begun
			_ = cmd.Wait()
			w.forget()
		})
		return err
	}
	return nil
}

// real gives folders without the links that lead to them. What is not there is
// left out.
func real(paths []string) ([]string, error) {
	var out []string
	for _, p := range paths {
		r, err := filepath.EvalSymlinks(p)
		switch {
		case err == nil:
			out = append(out, r)
		case !errors.Is(err, fs.ErrNotExist):
			return nil, err
		}
	}
	return out, nil
}

// elsewhere does something on a thread that is not confined.
func elsewhere(do func()) {
	done := make(chan struct{})
	go func() { defer close(done); do() }()
	<-done
}

// release sets the limits of a program that stands at its first instruction, has it
// looked after, and lets it go.
func (s *Spec) release(pid int, w *watch) error {
	var st unix.WaitStatus
	if _, err := unix.Wait4(pid, &st, 0, nil); err != nil || !st.Stopped() {
		return fmt.Errorf("the program did not stop for its limits to be set (%v)", err)
	}
	data := uint64(s.Memory) * 4
	if w.held == nil || w.held.memory == "" { // nothing else bounds it: what it has itself, and the stacks of its threads
		data = uint64(s.Memory) + uint64(s.Processes)*stack
	}
	var err error
	elsewhere(func() {
		if w.held != nil {
			err = w.held.join(pid)
		}
		w.begin(pid)
		for what, n := range map[int]uint64{unix.RLIMIT_FSIZE: uint64(s.Disk), unix.RLIMIT_CORE: 0, unix.RLIMIT_DATA: data, unix.RLIMIT_NOFILE: 256} {
			err = errors.Join(err, unix.Prlimit(pid, what, &unix.Rlimit{Cur: n, Max: n}, nil))
		}
		_ = unix.Setpriority(unix.PRIO_PROCESS, pid, 10) // so that what looks after it comes first; what it starts inherits this
	})
	if err != nil {
		return fmt.Errorf("its limits cannot be set: %w", err)
	}
	if err := unix.PtraceDetach(pid); err != nil {
		return fmt.Errorf("it failed to start: %w", err)
	}
	return nil
}

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

// watch looks after a program: it ends it, and looks for what limits of the kernel do not cover.
type watch struct {
	spec  *Spec
	held  *cgroup // that bounds it
	count *count  // else how many processes it has
	stop  chan struct{}
	late  bool

	mu     sync.Mutex
	why    string
	groups map[int]bool // of processes, that are the program's
	ended  bool
}

const (
	stack    = 8 << 20 // of a thread
	interval = 10 * time.Millisecond
	begins   = 100                    // looks at a program that runs for long, until they become
	seldom   = 500 * time.Millisecond // apart
	grace    = 300 * time.Millisecond // between being asked to end and being ended
	patience = 200                    // processes that a program is refused before it is ended
)

// begin notes the first process of a program.
func (w *watch) begin(pid int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.groups[pid] = true
	w.note(pid, true)
}

// note writes a group down for who ends it when this service is killed. What is in a control
// group is found there.
func (w *watch) note(group int, on bool) {
	if w.held == nil {
		note(group, on)
	}
}

func (w *watch) mine(group int) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.groups[group]
}

// join says whether a process of the program may be in a group: one of its own, or
// a new one. So none gets out of sight.
func (w *watch) join(group, pid int) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.ended || !w.groups[group] && group != pid {
		return false
	}
	if !w.groups[group] {
		w.groups[group] = true
		w.note(group, true)
	}
	return true
}

// fork says whether a thread of the program may start a process.
func (w *watch) fork(thread uint32) bool {
	w.mu.Lock()
	ended := w.ended
	w.mu.Unlock()
	return !ended && w.count.ask(thread)
}

// forget strikes out what begin and join wrote down.
func (w *watch) forget() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for g := range w.groups {
		w.note(g, false)
	}
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

// killAll ends all processes of the program. No other can be from now on: a control group lets
// none be, and the guard is not asked in vain.
func (w *watch) killAll() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.ended = true
	w.kill()
}

// close lets no other process of the program be.
func (w *watch) close() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.ended = true
}

// kill says whether nothing is left to be ended.
func (w *watch) kill() bool {
	left := w.signal(unix.SIGKILL) // without a file that has to be opened
	if w.held != nil {
		return w.held.end()
	}
	return !left
}

// gone ends the program until nothing of it is left, so that nothing works in a folder that is
// taken away. A process that the kernel holds is not waited for for ever.
func (w *watch) gone() {
	for n := range 1000 {
		w.mu.Lock()
		over := w.kill()
		w.mu.Unlock()
		if over || n%50 == 49 && w.dead() {
			return
		}
		time.Sleep(time.Millisecond)
	}
}

// dead says whether all that is left has ended, and waits for its parent to take note.
func (w *watch) dead() bool {
	return !slices.ContainsFunc(w.processes(), func(pid string) bool { f := stat(pid); return len(f) > 0 && f[0] != "Z" })
}

// signal reaches whole groups at once, so that no fork slips through. It says whether there
// was anything to be reached.
func (w *watch) signal(sig unix.Signal) bool {
	any := false
	for g := range w.groups {
		if unix.Kill(-g, sig) == nil {
			any = true
		}
	}
	return any
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
			w.mu.Lock()
			w.signal(unix.SIGTERM)
			w.mu.Unlock()
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
		if w.spec.Resident && n == begins {
			tick.Reset(seldom)
		}
		if why := w.bound(patience); why != "" {
			w.broke(why)
		}
		if w.held == nil || w.held.memory == "" {
			w.memory()
		}
		if (n%10 == 0 || w.spec.Resident && n > begins) && size(w.spec.Dir, w.spec.Disk)+unlinked(w.processes()) > w.spec.Disk {
			w.broke(fmt.Sprintf("it wrote more than %d MB to its folder", w.spec.Disk>>20))
		}
	}
}

// bound says which bound of the kernel's or the guard's the program has met, where it was
// refused so many processes, or lost one for its memory.
func (w *watch) bound(refused int) string {
	forks, killed, all := 0, false, false
	switch {
	case w.spec.Bare:
		return ""
	case w.held != nil:
		now := w.held.broken()
		forks, killed = now.forks, now.kills > 0
		all = forks > 0 && w.held.of.full() || killed && now.beyond == 0
	default:
		together.mu.Lock()
		forks, all = w.count.refused, w.count.all
		together.mu.Unlock()
	}
	switch {
	case killed && all:
		return fmt.Sprintf("all programs of this service together used more than the %d MB of memory that they may have", together.memory>>20)
	case killed:
		return fmt.Sprintf("it used more than %d MB of memory", w.spec.Memory>>20)
	case forks >= refused && all:
		return tooManyTogether()
	case forks >= refused:
		return tooMany(w.spec.Processes)
	}
	return ""
}

// memory adds up what the program uses, and what all use, where no control group bounds it.
// Each process alone is bounded by a limit of the kernel's.
func (w *watch) memory() {
	var rss int64
	for _, pid := range w.processes() {
		if f := stat(pid); len(f) > 21 {
			pages, _ := strconv.ParseInt(f[21], 10, 64)
			rss += pages * int64(os.Getpagesize())
		}
	}
	switch all, most := uses(w, rss); {
	case rss > w.spec.Memory:
		w.broke(fmt.Sprintf("it used more than %d MB of memory", w.spec.Memory>>20))
	case all > most:
		w.broke(fmt.Sprintf("all programs of this service together used more than %d MB of memory, and it the most", most>>20))
	}
}

// processes are those of the program.
func (w *watch) processes() []string {
	var out []string
	if w.held != nil {
		in, _ := w.held.members()
		for _, pid := range in {
			out = append(out, strconv.Itoa(pid))
		}
		return out
	}
	procs, _ := os.ReadDir("/proc")
	for _, p := range procs {
		if c := p.Name()[0]; c < '0' || c > '9' {
			continue
		}
		if f := stat(p.Name()); len(f) > 21 {
			if group, err := strconv.Atoi(f[2]); err == nil && w.mine(group) {
				out = append(out, p.Name())
			}
		}
	}
	return out
}

// stat gives the fields of /proc/PID/stat that follow the name, which may hold
// anything: the state, the parent, the group, …; none where there is no such process.
func stat(pid string) []string {
	raw, err := os.ReadFile("/proc/" + pid + "/stat")
	if err != nil {
		return nil
	}
	i := strings.LastIndex(string(raw), ") ")
	if i < 0 {
		return nil
	}
	return strings.Fields(string(raw)[i+2:])
}

// unlinked adds up what files take on the disk that processes have open or mapped and that are
// in no folder any more.
func unlinked(pids []string) int64 {
	type file struct{ dev, ino uint64 }
	seen := map[file]bool{}
	var sum int64
	add := func(name string) bool {
		var st unix.Stat_t
		if unix.Stat(name, &st) != nil {
			return false
		}
		if f := (file{st.Dev, st.Ino}); st.Mode&unix.S_IFMT == unix.S_IFREG && st.Nlink == 0 && !seen[f] {
			seen[f] = true
			sum += taken(&st)
		}
		return true
	}
	for _, p := range pids {
		dir := "/proc/" + p + "/fd/"
		fds, _ := os.ReadDir(dir) // it may have gone away meanwhile
		for _, fd := range fds {
			add(dir + fd.Name())
		}
		maps, _ := os.ReadFile("/proc/" + p + "/maps")
		for line := range strings.Lines(string(maps)) {
			fields := strings.Fields(line)
			if len(fields) < 6 || !strings.HasSuffix(line, " (deleted)\n") || fields[4] == "0" || strings.HasPrefix(fields[5], "/dev/zero") {
				continue
			}
			if add("/proc/" + p + "/map_files/" + fields[0]) {
				continue
			}
			from, to, _ := strings.Cut(fields[0], "-") // what cannot be looked at counts as far as it is mapped
			low, err1 := strconv.ParseUint(from, 16, 64)
			high, err2 := strconv.ParseUint(to, 16, 64)
			ino, err3 := strconv.ParseUint(fields[4], 10, 64)
			if f := (file{0, ino}); err1 == nil && err2 == nil && err3 == nil && !seen[f] {
				seen[f] = true
				sum += int64(high - low)
			}
		}
	}
	return sum
}

// taken is what a file takes on the disk: less than its length where it has holes.
func taken(st *unix.Stat_t) int64 { return st.Blocks * 512 }

// size adds up a folder, and stops when it is beyond a limit. Each entry counts a
// little, since names fill a disk too.
func size(dir string, limit int64) int64 {
	const entry = 1 << 10
	var sum int64
	_ = filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || path == dir {
			return nil // it went away meanwhile
		}
		n := int64(entry)
		var st unix.Stat_t
		if e.Type().IsRegular() && unix.Lstat(path, &st) == nil {
			n = max(n, taken(&st))
		}
		if sum += n; sum > limit {
			return fs.SkipAll
		}
		return nil
	})
	return sum
}
