//go:build linux

package sandbox

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sys/unix"
)

// The runtime ends the whole service where it needs a thread and gets none. So threads are
// made in advance, while there are some to be had, and left to the runtime, which keeps them.
// Each program takes one with it (see cell); they are replaced after a few, and no program
// starts when they cannot be.
var threads = struct {
	mu    sync.Mutex
	taken int // since they were made
}{taken: replaceAfter}

const (
	spareThreads = 32
	replaceAfter = 24
	atOnce       = 8 // for which there has to be room; after half as many it is looked again
)

// errTogether says that all programs have as many processes as they may have.
var errTogether = errors.New("the programs of this service have as many processes as they may have together; try again when some have ended, or raise -programs")

// takeThread counts a thread that a program takes. An error says why it may have none.
func takeThread() error {
	threads.mu.Lock()
	defer threads.mu.Unlock()
	if threads.taken >= replaceAfter {
		if err := spareSome(); err != nil {
			return err
		}
		threads.taken = 0
	}
	threads.taken++
	return nil
}

// spareSome makes threads until there are enough that do nothing: as many goroutines have one
// each at the same time. Before others are made it is looked whether they can be.
func spareSome() error {
	hold := make(chan struct{})
	defer close(hold)
	before := 0
	for n := range spareThreads {
		if n%(atOnce/2) == 0 {
			now := tasks("self")
			if now != before {
				if err := room(atOnce); err != nil {
					return err
				}
			}
			before = now
		}
		locked := make(chan struct{})
		go func() {
			runtime.LockOSThread()
			defer runtime.UnlockOSThread()
			close(locked)
			<-hold
		}()
		<-locked
	}
	return nil
}

// room says why so many more processes or threads cannot be had, by the numbers: of the
// machine, of the user, and of the control groups that this process is in.
func room(n int) error {
	var said [4]string // load of three spans, and "running/all"
	raw, err := os.ReadFile("/proc/loadavg")
	if err != nil {
		return nil // the kernel says nothing
	}
	_, _ = fmt.Sscan(string(raw), &said[0], &said[1], &said[2], &said[3])
	_, last, _ := strings.Cut(said[3], "/")
	all, _ := strconv.Atoi(last)
	for _, most := range []string{"threads-max", "pid_max"} {
		if m, ok := numberIn("/proc/sys/kernel/" + most); ok && all+n > m {
			return exhausted(unix.EAGAIN)
		}
	}
	var limit unix.Rlimit
	if uid := os.Getuid(); uid != 0 && unix.Getrlimit(unix.RLIMIT_NPROC, &limit) == nil && uint64(all+n) > limit.Cur && uint64(ofUser(uid)+n) > limit.Cur {
		return exhausted(unix.EAGAIN)
	}
	own, mount, ok := ownGroup()
	for ok && strings.HasPrefix(own, mount) {
		now, ok1 := numberIn(filepath.Join(own, "pids.current"))
		most, ok2 := numberIn(filepath.Join(own, "pids.max"))
		if ok1 && ok2 && now+n > most {
			return exhausted(unix.EAGAIN)
		}
		own = filepath.Dir(own)
	}
	return nil
}

// ownGroup is where the control group of processes is that this process is in, and the root
// of its tree. A service stays in the group in which it was started.
var ownGroup = func() func() (string, string, bool) {
	once := sync.OnceValues(func() (string, string) {
		at, err := folders()
		if err != nil {
			return "", ""
		}
		for _, name := range []string{"pids", ""} {
			if f, ok := at[name]; ok {
				return f.own, f.mount
			}
		}
		return "", ""
	})
	return func() (string, string, bool) {
		own, mount := once()
		return own, mount, own != ""
	}
}()

// numberIn reads a file that holds a number.
func numberIn(file string) (int, bool) {
	raw, err := os.ReadFile(file)
	if err != nil {
		return 0, false
	}
	n, err := strconv.Atoi(strings.TrimSpace(string(raw)))
	return n, err == nil
}

// tasks are the threads of a process.
func tasks(pid string) int {
	f := stat(pid)
	if len(f) < 18 {
		return 0
	}
	n, _ := strconv.Atoi(f[17])
	return n
}

// ofUser counts the threads of a user's processes.
func ofUser(uid int) int {
	procs, _ := os.ReadDir("/proc")
	n := 0
	for _, p := range procs {
		var st unix.Stat_t
		if c := p.Name()[0]; c >= '0' && c <= '9' && unix.Stat("/proc/"+p.Name(), &st) == nil && int(st.Uid) == uid {
			n += tasks(p.Name())
		}
	}
	return n
}

// exhausted explains an error of a start, where it is that no process can be had.
func exhausted(err error) error {
	if errors.Is(err, unix.EAGAIN) {
		return fmt.Errorf("no process can be started: this machine, this user, or the control group that the service is in has as many as it may have (%w). End some, or raise that bound", err)
	}
	return err
}
