package code

import (
	"os"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"

	"stonebaton.example/internal/tools"
)

// past keeps the end of what a process writes past its runner: itself, or what it starts. What
// was written before an answer is there when the answer is, since it is read at that moment too.
type past struct {
	from *os.File
	raw  syscall.RawConn
	mu   sync.Mutex // what is read is kept before anybody else reads
	tail *tools.Tail
}

// listen gives what listens, and the file that the process writes to.
func listen() (*past, *os.File, error) {
	from, to, err := os.Pipe()
	if err != nil {
		return nil, nil, err
	}
	p := &past{from: from, tail: tools.NewTail(maxLog)}
	if p.raw, err = from.SyscallConn(); err != nil {
		from.Close()
		to.Close()
		return nil, nil, err
	}
	go func() { _ = p.raw.Read(p.hear) }() // until the other end is closed, or this one
	return p, to, nil
}

// hear reads what is there, and says whether no more can come. A pipe holds no more than it
// reads at a time.
func (p *past) hear(fd uintptr) (over bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	var piece [8 << 10]byte
	for range 9 {
		n, err := unix.Read(int(fd), piece[:])
		switch {
		case n > 0:
			_, _ = p.tail.Write(piece[:n]) // it never fails
		case err != unix.EINTR:
			return err != unix.EAGAIN
		}
	}
	return false
}

// take gives what was written until now, and begins anew.
func (p *past) take() string {
	_ = p.raw.Control(func(fd uintptr) { p.hear(fd) }) // once it is closed all was read
	return p.tail.Take()
}

// close ends it, once nobody writes any more.
func (p *past) close() {
	_ = p.raw.Control(func(fd uintptr) { p.hear(fd) })
	_ = p.from.Close()
}
