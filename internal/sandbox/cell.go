//go:build linux

package sandbox

import (
	"fmt"
	"runtime"
	"sync"

	"golang.org/x/sys/unix"
)

// cell is a thread from which one program is started. It is made before the program
// is known, as far as that goes: without rights, and with a filter of system calls,
// which takes longer than all else. It ends with the program.
type cell struct {
	do             chan func() // what to do on the thread, which ends then
	listener, word int         // see filter
	rules          int         // see common
	held           *cgroup     // that the program will be in; nil where the guard counts
	err            error       // why it is of no use
}

// kind says what a cell keeps from a program.
type kind struct {
	filtered bool
	net      network
	spare    chan *cell
}

// network is what a program reaches of the network.
type network int

const (
	none  network = iota
	named         // hosts by their names
	whole
)

// spares are how many cells of a kind are made in advance at the most: calls that follow one
// another at once take them faster than one is made.
const spares = 3

var (
	bare    = &kind{}
	offline = &kind{filtered: true, spare: make(chan *cell, spares)}
	partly  = &kind{filtered: true, net: named, spare: make(chan *cell, spares)}
	online  = &kind{filtered: true, net: whole, spare: make(chan *cell, spares)}
)

func (s *Spec) kind() *kind {
	switch {
	case s.Bare:
		return bare
	case s.Network:
		return online
	case len(s.Hosts) > 0:
		return partly
	}
	return offline
}

func newCell(k *kind) *cell {
	c := &cell{do: make(chan func())}
	if c.err = takeThread(); c.err != nil {
		go func() { (<-c.do)() }()
		return c
	}
	ready := make(chan struct{})
	go func() {
		runtime.LockOSThread() // never unlocked: the thread carries the bounds, and goes with the goroutine
		if k.filtered {
			c.enter(k.net)
		}
		close(ready)
		(<-c.do)()
	}()
	<-ready
	return c
}

// take gives a cell.
func (k *kind) take() *cell {
	select {
	case c := <-k.spare:
		return c
	default:
		return newCell(k)
	}
}

// prepare makes a cell for a program that is yet to come, where there is room for one.
func (k *kind) prepare() {
	if k.filtered && len(k.spare) < cap(k.spare) {
		k.keep(newCell(k))
	}
}

func (k *kind) keep(c *cell) {
	if c.err == nil {
		select {
		case k.spare <- c:
			return
		default:
			unix.Close(c.listener)
			unix.Close(c.rules)
		}
	}
	c.do <- func() {}
	c.vacate()
}

// vacate gives the control group back.
func (c *cell) vacate() {
	if c.held != nil {
		c.held.of.leave(c.held)
	}
}

// enter makes the rules, lays down this thread's rights, and sets the filter.
func (c *cell) enter(net network) {
	if c.rules, c.err = common(net); c.err != nil {
		return
	}
	h, _ := control()
	var err error
	if h != nil {
		if c.held, err = h.take(); err == nil {
			err = c.held.enter()
		}
	}
	if err == nil {
		err = dropRights()
	}
	if err == nil {
		err = unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
	}
	if err != nil {
		c.err = fmt.Errorf("the sandbox cannot be entered: %w", err)
	} else {
		c.listener, c.word, c.err = filter(net)
	}
	if c.err != nil {
		unix.Close(c.rules)
	}
}

// layRights says whether this service can lay down root's rights, for programs to
// have none: it can where it has them all, and has none where it is not root's.
var layRights = sync.OnceValue(func() bool {
	head := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var data [2]unix.CapUserData
	if unix.Capget(&head, &data[0]) != nil {
		return false
	}
	return data[0].Permitted|data[1].Permitted == 0 || data[0].Effective&(1<<unix.CAP_SETPCAP) != 0
})

// dropRights lets a program of root's have no more rights than anybody's, save that
// it may read and write what the folders that it is granted hold.
func dropRights() error {
	head := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var data [2]unix.CapUserData
	if err := unix.Capget(&head, &data[0]); err != nil {
		return err
	}
	const keep = 1 << unix.CAP_DAC_OVERRIDE
	data[0].Inheritable, data[1].Inheritable = data[0].Permitted&keep, 0
	if err := unix.Capset(&head, &data[0]); err != nil {
		return err
	}
	if data[0].Effective&(1<<unix.CAP_SETPCAP) == 0 { // not root's, or few are left: see layRights
		return nil
	}
	if err := unix.Prctl(unix.PR_SET_SECUREBITS, secbitNoRoot|secbitNoRootLocked, 0, 0, 0); err != nil || data[0].Inheritable == 0 {
		return err
	}
	return unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_RAISE, unix.CAP_DAC_OVERRIDE, 0, 0)
}

// From linux/securebits.h: a program of the user 0 gets no rights for being so.
const (
	secbitNoRoot       = 1 << 0
	secbitNoRootLocked = 1 << 1
)
