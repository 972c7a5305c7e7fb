//go:build linux

package sandbox

import (
	"fmt"
	"os"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// count is how many processes one program has, where no control group bounds them: the guard
// is asked before each of them, and lets it be or not. The number is never too small. It grows
// when a process is let be, and falls only when a look at the machine has shown that there are
// fewer, while no process can be let be. A process that was let be and may not be there yet is
// counted beside those that are seen.
type count struct {
	bound   int
	members func(group int) bool

	// guarded by together.mu
	n       int
	let     map[uint32]bool // threads that were let start a process, and may not have done so
	refused int
	all     bool // it was refused for what all programs have
}

// begin counts a program whose first process is about to start.
func (c *count) begin() error {
	together.mu.Lock()
	defer together.mu.Unlock()
	together.counted[c] = true
	if !fits(c) {
		delete(together.counted, c)
		return errTogether
	}
	c.n++
	return nil
}

func (c *count) end() {
	together.mu.Lock()
	defer together.mu.Unlock()
	delete(together.counted, c)
}

// ask says whether a thread of the program may start a process, or another thread.
func (c *count) ask(thread uint32) bool {
	together.mu.Lock()
	defer together.mu.Unlock()
	delete(c.let, thread) // who asks again has done what it was let
	if !fits(c) {
		c.refused++
		return false
	}
	c.n++
	c.let[thread] = true
	return true
}

// fits says whether one more process may be, and looks where the numbers say no.
func fits(c *count) bool {
	free := func() bool {
		sum := 0
		for o := range together.counted {
			sum += o.n
		}
		c.all = c.n < c.bound && sum >= together.processes
		return c.n < c.bound && sum < together.processes
	}
	if free() {
		return true
	}
	look()
	return free()
}

// look counts the processes of all programs anew. Who may still be about to start one is found
// out first: what they have started by then is seen, and what they start later is counted for them.
func look() {
	for c := range together.counted {
		c.n = 0
		for thread := range c.let {
			if starting(thread) {
				c.n++
			} else {
				delete(c.let, thread)
			}
		}
	}
	procs, err := os.ReadDir("/proc")
	if err != nil { // nobody knows: no more processes
		for c := range together.counted {
			c.n = c.bound
		}
		return
	}
	for _, p := range procs {
		if b := p.Name()[0]; b < '0' || b > '9' {
			continue
		}
		f := stat(p.Name())
		if len(f) < 18 {
			continue
		}
		group, err := strconv.Atoi(f[2])
		if err != nil {
			continue
		}
		for c := range together.counted {
			if c.members(group) {
				threads, _ := strconv.Atoi(f[17])
				c.n += max(1, threads)
			}
		}
	}
}

// starting says whether a thread may still be in the call that starts a process: unless it is
// gone, or waits in another one.
func starting(thread uint32) bool {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/syscall", thread))
	switch {
	case os.IsNotExist(err), err == unix.ESRCH:
		return false
	case err != nil:
		return true
	}
	number, _, _ := strings.Cut(string(raw), " ")
	nr, err := strconv.ParseUint(number, 10, 32)
	if err != nil { // it runs, or is no more
		return strings.HasPrefix(number, "running")
	}
	return forking(uint32(nr))
}

// forking says whether a system call starts a process or a thread.
func forking(nr uint32) bool {
	for _, r := range forks() {
		for _, n := range r.calls {
			if n == nr {
				return true
			}
		}
	}
	return false
}
