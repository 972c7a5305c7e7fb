//go:build linux

package sandbox

import (
	"context"
	"io"
	"net"
	"net/netip"
	"sync"
	"time"
)

// flow is one connection of a program, as it comes to the relay.
type flow struct {
	of   *reach
	up   net.Conn // where it leads; nil: to the names
	once sync.Once
}

// close ends a flow, and lets another be.
func (f *flow) close() {
	f.once.Do(func() {
		if f.up != nil {
			f.up.Close()
		}
		f.of.leave()
	})
}

// serve passes on what comes both ways, until either side ends or the program does.
func (f *flow) serve(c net.Conn) {
	defer f.close()
	defer c.Close()
	stop := context.AfterFunc(f.of.ctx, func() { c.Close(); f.close() })
	defer stop()
	if f.up == nil {
		f.of.serveNames(c)
		return
	}
	back := make(chan struct{})
	go func() {
		defer close(back)
		pass(c, f.up)
	}()
	pass(f.up, c)
	<-back
}

// pass copies one way, and says where it ends.
func pass(to, from net.Conn) {
	_, err := io.Copy(to, from)
	if end, ok := to.(interface{ CloseWrite() error }); ok && err == nil {
		_ = end.CloseWrite()
		return
	}
	to.Close() // a side that broke off: the other is told so
	from.Close()
}

// relay is where the connections of all programs come in. Each is known by the address it
// comes from, which the guard hands over; any other is closed.
var relay struct {
	mu      sync.Mutex
	at      netip.AddrPort
	waiting map[netip.AddrPort]chan *flow
}

// relayAt gives where the relay listens, and starts it where it does not yet.
func relayAt() (netip.AddrPort, error) {
	relay.mu.Lock()
	defer relay.mu.Unlock()
	if relay.at.IsValid() {
		return relay.at, nil
	}
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return netip.AddrPort{}, err
	}
	relay.at, relay.waiting = l.Addr().(*net.TCPAddr).AddrPort(), map[netip.AddrPort]chan *flow{}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil { // the service has too much open; it waits for its turn
				time.Sleep(10 * time.Millisecond)
				continue
			}
			go accepted(c)
		}
	}()
	return relay.at, nil
}

// place gives where a flow is handed over, to whoever comes first.
func place(from netip.AddrPort) chan *flow {
	relay.mu.Lock()
	defer relay.mu.Unlock()
	ch := relay.waiting[from]
	if ch == nil {
		ch = make(chan *flow, 1)
		relay.waiting[from] = ch
	}
	return ch
}

func vacate(from netip.AddrPort, ch chan *flow) {
	relay.mu.Lock()
	defer relay.mu.Unlock()
	if relay.waiting[from] == ch {
		delete(relay.waiting, from)
	}
}

// hand gives a flow to the connection that comes from an address.
func (f *flow) hand(from netip.AddrPort) {
	ch := place(from)
	select {
	case old := <-ch: // of a connection that was closed before it came in
		old.close()
	default:
	}
	ch <- f
	context.AfterFunc(f.of.ctx, func() { vacate(from, ch); f.close() })
}

// accepted waits for the flow of a connection.
func accepted(c net.Conn) {
	from := c.RemoteAddr().(*net.TCPAddr).AddrPort()
	from = netip.AddrPortFrom(from.Addr().Unmap(), from.Port())
	ch := place(from)
	select {
	case f := <-ch:
		vacate(from, ch)
		f.serve(c)
	case <-time.After(5 * time.Second): // it is no program's
		vacate(from, ch)
		c.Close()
	}
}
