//go:build linux

// Package sandboxtest sets a bound behind which a test of a bound runs, so that no failure of
// ours can take the machine with it.
package sandboxtest

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// Outer is a control group of a test.
type Outer struct {
	pids, memory string
	in           string // where its processes begin: in version 2 a group has either processes or groups
}

// Bound makes a control group with at most so many processes and threads and bytes of memory,
// which is removed with all that is in it when the test ends. Where none can be made, the test is
// skipped.
func Bound(t *testing.T, processes int, memory int64) *Outer {
	t.Helper()
	o := &Outer{pids: "/sys/fs/cgroup/pids", memory: "/sys/fs/cgroup/memory"}
	most := "memory.limit_in_bytes"
	unified := false
	share := func(dir string) error {
		return os.WriteFile(filepath.Join(dir, "cgroup.subtree_control"), []byte("+pids +memory"), 0)
	}
	if _, err := os.Stat("/sys/fs/cgroup/cgroup.controllers"); err == nil {
		o.pids, o.memory, most, unified = "/sys/fs/cgroup", "/sys/fs/cgroup", "memory.max", true
		_ = share(o.pids) // they may be there already
	}
	name := fmt.Sprintf("bound-%d-%d", os.Getpid(), time.Now().UnixNano())
	o.pids, o.memory = filepath.Join(o.pids, name), filepath.Join(o.memory, name)
	t.Cleanup(o.remove)
	for _, err := range []error{os.MkdirAll(o.pids, 0o755), os.MkdirAll(o.memory, 0o755), write(o.pids, "pids.max", processes), write(o.memory, most, memory)} {
		if err != nil {
			t.Skipf("no second bound can be set here, behind which this could run: %v", err)
		}
	}
	if o.in = o.pids; unified {
		o.in = filepath.Join(o.pids, "begins")
		if err := errors.Join(share(o.pids), os.Mkdir(o.in, 0o755)); err != nil {
			t.Skipf("no second bound can be set here, behind which this could run: %v", err)
		}
	}
	return o
}

func write[N int | int64](dir, name string, n N) error {
	return os.WriteFile(filepath.Join(dir, name), []byte(fmt.Sprint(n)), 0)
}

// Dir is where its processes are bounded.
func (o *Outer) Dir() string { return o.pids }

// Run runs a command behind the bound, once it has seen that it is in force.
func (o *Outer) Run(t *testing.T, cmd *exec.Cmd) ([]byte, error) {
	t.Helper()
	cmd.Args = append([]string{"sh", "-c", `read x; exec "$@"`, "sh", cmd.Path}, cmd.Args[1:]...)
	cmd.Path = "/bin/sh"
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr, cmd.WaitDelay = &out, &out, time.Second
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	pid := strconv.Itoa(cmd.Process.Pid)
	err = write(o.in, "cgroup.procs", cmd.Process.Pid)
	if err == nil && o.memory != o.pids {
		err = write(o.memory, "cgroup.procs", cmd.Process.Pid)
	}
	within, _ := os.ReadFile(filepath.Join(o.in, "cgroup.procs"))
	if err != nil || strings.TrimSpace(string(within)) != pid || o.number(t, "pids.max") <= 0 {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		t.Skipf("the second bound is not in force: %v", err)
	}
	in.Close()
	err = cmd.Wait()
	return out.Bytes(), err
}

func (o *Outer) number(t *testing.T, name string) int {
	raw, err := os.ReadFile(filepath.Join(o.pids, name))
	if err != nil {
		t.Skipf("the second bound cannot be looked at: %v", err)
	}
	n, _ := strconv.Atoi(strings.TrimSpace(string(raw)))
	return n
}

// Now is how many processes and threads are behind the bound, once those that are about to end
// had a moment to do so.
func (o *Outer) Now(t *testing.T) int {
	n := 0
	for range 1000 {
		if n = o.number(t, "pids.current"); n == 0 {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	return n
}

// Highest is how many there were at a time; 0 where the kernel does not say (before Linux 6.5).
func (o *Outer) Highest(t *testing.T) int {
	if _, err := os.Stat(filepath.Join(o.pids, "pids.peak")); err != nil {
		return 0
	}
	return o.number(t, "pids.peak")
}

// remove ends what is behind the bound.
func (o *Outer) remove() {
	_ = write(o.pids, "pids.max", 0)
	for range 500 {
		var left []string
		_ = filepath.WalkDir(o.pids, func(dir string, e os.DirEntry, err error) error {
			if err == nil && e.IsDir() {
				raw, _ := os.ReadFile(filepath.Join(dir, "cgroup.procs"))
				left = append(left, strings.Fields(string(raw))...)
			}
			return nil
		})
		for _, p := range left {
			if n, err := strconv.Atoi(p); err == nil && n > 1 {
				_ = unix.Kill(n, unix.SIGKILL)
			}
		}
		if len(left) == 0 {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	for _, at := range []string{o.pids, o.memory} {
		for _, dirs := range []string{"/*/*", "/*", ""} {
			found, _ := filepath.Glob(at + dirs)
			for _, dir := range found {
				_ = os.Remove(dir) // of files it does nothing
			}
		}
	}
}

// Busy keeps processors from others until the test ends.
func Busy(t *testing.T, n int) {
	for range n {
		c := exec.Command("/bin/sh", "-c", "while :; do :; done")
		c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		require.NoError(t, c.Start())
		t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
	}
}
