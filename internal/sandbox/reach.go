//go:build linux

package sandbox

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"stonebaton.example/internal/addr"
)

// reach connects the sockets of one program. The program itself cannot: each of its
// calls of connect comes to the guard, which reads the address once, decides, and
// connects a copy of the descriptor, so that nothing can change in between.
//
// A program with named hosts never sees their addresses. Whatever name server it asks is
// this one's (see names.go), which gives each host that is granted a stand-in address.
// A connection to that is one to the relay, which passes on what comes both ways. So a
// host is known by its name alone, for any protocol over TCP.
type reach struct {
	ctx   context.Context // ends with the program
	any   bool            // all hosts
	hosts []host

	mu      sync.Mutex
	names   []string // whose stand-in addresses were given out, in their order
	refused []string // what was asked for and is not granted
	flows   int      // that are open
	slots   chan struct{}
}

// host is one that is granted.
type host struct {
	name  string // in small letters; without the "*." that stands for what is below
	below bool
	port  uint16 // 0: any
}

const (
	maxNames   = 4096 // of hosts, that one program may ask for
	maxRefused = 20   // that are told of
	maxDials   = 16   // at a time; further ones wait
	maxFlows   = 64   // at a time, each of which takes descriptors of the service
	dialTime   = 10 * time.Second
)

// standIn is where the stand-in addresses are: for measurements of networks, so no host
// of its own has one (RFC 2544).
var standIn = netip.MustParsePrefix("198.18.0.0/15")

func newReach(ctx context.Context, s *Spec) (*reach, error) {
	r := &reach{ctx: ctx, any: s.Network, slots: make(chan struct{}, maxDials)}
	for _, h := range s.Hosts {
		name, port := h, ""
		if i := strings.LastIndexByte(h, ':'); i >= 0 && (strings.Count(h, ":") == 1 || strings.HasPrefix(h, "[") && strings.Contains(h, "]:")) {
			name, port = h[:i], h[i+1:]
		}
		out := host{name: strings.ToLower(strings.Trim(strings.TrimSuffix(name, "."), "[]"))}
		out.name, out.below = strings.CutPrefix(out.name, "*.")
		if port != "" {
			n, err := strconv.ParseUint(port, 10, 16)
			if err != nil || n == 0 {
				return nil, fmt.Errorf("%q is not a port from 1 to 65535, in the host %s", port, h)
			}
			out.port = uint16(n)
		}
		r.hosts = append(r.hosts, out)
	}
	return r, nil
}

// refuse writes down that something was asked for which is not granted.
func (r *reach) refuse(what string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.refused) < maxRefused && !slices.Contains(r.refused, what) {
		r.refused = append(r.refused, what)
	}
}

// told gives what was refused.
func (r *reach) told() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.refused)
}

// enter counts one more flow, where there may be one.
func (r *reach) enter() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.flows == maxFlows {
		return false
	}
	r.flows++
	return true
}

func (r *reach) leave() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.flows--
}

// granted says whether a name is granted, at a port; 0 is any port. It is by a wildcard
// alone where one stands for it, and its own name does not.
func (r *reach) granted(name string, port uint16) (ok, wild bool) {
	for _, h := range r.hosts {
		switch {
		case port != 0 && h.port != 0 && h.port != port:
		case !h.below && h.name == name:
			return true, false
		case h.below && strings.HasSuffix(name, "."+h.name):
			ok, wild = true, true
		}
	}
	return ok, wild
}

// stand gives the stand-in address of a name that is granted.
func (r *reach) stand(name string) (netip.Addr, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	i := slices.Index(r.names, name)
	if i < 0 {
		if len(r.names) == maxNames {
			return netip.Addr{}, false
		}
		i, r.names = len(r.names), append(r.names, name)
	}
	a := standIn.Addr().As4()
	binary.BigEndian.PutUint32(a[:], binary.BigEndian.Uint32(a[:])+uint32(i)+1)
	return netip.AddrFrom4(a), true
}

// name gives the name that a stand-in address is for.
func (r *reach) name(a netip.Addr) (string, bool) {
	if !standIn.Contains(a) {
		return "", false
	}
	first, at := standIn.Addr().As4(), a.As4()
	i := int(binary.BigEndian.Uint32(at[:])) - int(binary.BigEndian.Uint32(first[:])) - 1
	r.mu.Lock()
	defer r.mu.Unlock()
	if i < 0 || i >= len(r.names) {
		return "", false
	}
	return r.names[i], true
}

// lookup gives the addresses of a name. Tests put their own in its place.
var lookup = func(ctx context.Context, name string) ([]netip.Addr, error) {
	return net.DefaultResolver.LookupNetIP(ctx, "ip", name)
}

// dial connects to what a program asked for: a stand-in address, or an address of its own.
func (r *reach) dial(to netip.AddrPort) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(r.ctx, dialTime)
	defer cancel()
	port := to.Port()
	name, known := r.name(to.Addr())
	if !known {
		if !r.addressed(ctx, to) {
			r.refuse(to.String())
			return nil, unix.EACCES
		}
		return r.dialAny(ctx, []netip.Addr{to.Addr()}, port)
	}
	ok, wild := r.granted(name, port)
	if !ok {
		r.refuse(net.JoinHostPort(name, strconv.Itoa(int(port))))
		return nil, unix.EACCES
	}
	addrs, err := lookup(ctx, name)
	if err != nil {
		return nil, unix.EHOSTUNREACH
	}
	if wild { // whoever owns the names below could let one lead inside
		addrs = slices.DeleteFunc(addrs, func(a netip.Addr) bool { return !addr.Public(a) })
		if len(addrs) == 0 {
			r.refuse(name + ", which has a private address: name it in full")
			return nil, unix.EACCES
		}
	}
	return r.dialAny(ctx, addrs, port)
}

// addressed says whether an address that a program has from elsewhere is one of a host
// that is granted: written as one, or found in a file of the machine, as localhost is.
func (r *reach) addressed(ctx context.Context, to netip.AddrPort) bool {
	for _, h := range r.hosts {
		if h.below || h.port != 0 && h.port != to.Port() {
			continue
		}
		if a, err := netip.ParseAddr(h.name); err == nil {
			if a.Unmap() == to.Addr() {
				return true
			}
			continue
		}
		if addrs, err := lookup(ctx, h.name); err == nil && slices.ContainsFunc(addrs, func(a netip.Addr) bool { return a.Unmap() == to.Addr() }) {
			return true
		}
	}
	return false
}

// dialAny connects to the first of some addresses that answers.
func (r *reach) dialAny(ctx context.Context, addrs []netip.Addr, port uint16) (net.Conn, error) {
	err := error(unix.EHOSTUNREACH)
	for _, a := range addrs {
		to := netip.AddrPortFrom(a.Unmap(), port)
		if hidden(to) {
			r.refuse(to.String() + ownAddress)
			return nil, unix.EACCES
		}
		var conn net.Conn
		if conn, err = (&net.Dialer{}).DialContext(ctx, "tcp", to.String()); err == nil {
			return conn, nil
		}
	}
	return nil, err
}

// hiding are the ports that the service listens on, by how often each was hidden.
var hiding struct {
	mu    sync.Mutex
	ports map[uint16]int
}

// Hide keeps an address that the service listens on from all programs in the sandbox,
// whatever network they have, until the function that it returns is called. A program
// could settle its own gates there otherwise.
func Hide(a net.Addr) (show func()) {
	tcp, ok := a.(*net.TCPAddr)
	if !ok {
		return func() {}
	}
	add := func(n int) {
		hiding.mu.Lock()
		defer hiding.mu.Unlock()
		if hiding.ports == nil {
			hiding.ports = map[uint16]int{}
		}
		hiding.ports[uint16(tcp.Port)] += n
	}
	add(1)
	return sync.OnceFunc(func() { add(-1) })
}

// ownAddress follows the service's own address, where a program asked for that.
const ownAddress = " (this service itself, which no program reaches)"

// Own says whether a host of a grant, NAME:PORT, is one of the service's own addresses, which
// no program reaches.
func Own(host string) bool {
	name, port, err := net.SplitHostPort(host)
	if err != nil {
		return false
	}
	if name == "localhost" {
		name = "127.0.0.1"
	}
	to, err := netip.ParseAddrPort(net.JoinHostPort(name, port))
	return err == nil && hidden(to)
}

// hidden says whether an address is one of the service's own: its port, at any address of
// this machine.
func hidden(to netip.AddrPort) bool {
	hiding.mu.Lock()
	n := hiding.ports[to.Port()]
	hiding.mu.Unlock()
	if n == 0 {
		return false
	}
	a := to.Addr().Unmap().WithZone("")
	if a.IsLoopback() || a.IsUnspecified() {
		return true
	}
	own, err := net.InterfaceAddrs()
	return err != nil || slices.ContainsFunc(own, func(o net.Addr) bool {
		p, ok := o.(*net.IPNet)
		if !ok {
			return false
		}
		at, _ := netip.AddrFromSlice(p.IP)
		return at.Unmap() == a
	})
}

// connect answers a call of connect.
func (g *guard) connect(n *notice) unix.Errno {
	select {
	case g.reach.slots <- struct{}{}:
		defer func() { <-g.reach.slots }()
	case <-g.reach.ctx.Done():
		return unix.EINTR
	}
	raw, err := g.read(n, n.args[1], int(min(n.args[2], unix.SizeofSockaddrAny)))
	if err != nil || uint64(len(raw)) < min(n.args[2], unix.SizeofSockaddrAny) {
		return unix.EFAULT
	}
	fd, no := g.take(n)
	if no != 0 {
		return no
	}
	defer unix.Close(fd)
	domain, _ := unix.GetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_DOMAIN)
	kind, err := unix.GetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TYPE)
	if err != nil {
		return unix.ENOTSOCK
	}
	to, family := address(raw)
	switch {
	case domain == unix.AF_UNIX && !g.reach.any && to.Port() == nameServer:
		return 0 // it is connected with the names already: see socket
	case domain == unix.AF_UNIX:
		return unix.EACCES
	case g.reach.any && to.IsValid() && hidden(to):
		g.reach.refuse(to.String() + ownAddress)
		return unix.EACCES
	case g.reach.any:
		return g.connectTo(fd, raw)
	case kind != unix.SOCK_STREAM || domain != unix.AF_INET && domain != unix.AF_INET6:
		return unix.EACCES
	case !to.IsValid() && (family == unix.AF_INET || family == unix.AF_INET6):
		return unix.EINVAL
	case !to.IsValid():
		return unix.EAFNOSUPPORT
	}
	return g.relay(fd, domain, to)
}

// take gives a copy of the descriptor that a call is about.
func (g *guard) take(n *notice) (int, unix.Errno) {
	pid, err := unix.PidfdOpen(int(n.pid), unix.O_EXCL) // PIDFD_THREAD: a thread may have descriptors of its own
	if err != nil {
		if pid, err = unix.PidfdOpen(leader(int(n.pid)), 0); err != nil {
			return -1, unix.EACCES
		}
	}
	defer unix.Close(pid)
	if !g.alive(n) { // else it may be another's by now
		return -1, unix.EINTR
	}
	fd, err := unix.PidfdGetfd(pid, int(int32(n.args[0])), 0)
	switch {
	case errors.Is(err, unix.EBADF):
		return -1, unix.EBADF
	case err != nil:
		return -1, unix.EACCES
	}
	return fd, 0
}

// leader gives the process of a thread.
func leader(thread int) int {
	raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", thread))
	_, rest, _ := strings.Cut(string(raw), "\nTgid:")
	line, _, _ := strings.Cut(rest, "\n")
	pid, err := strconv.Atoi(strings.TrimSpace(line))
	if err != nil {
		return thread
	}
	return pid
}

// address reads a socket's address; one that is not of the internet is not valid.
func address(raw []byte) (to netip.AddrPort, family uint16) {
	if len(raw) < 2 {
		return to, 0
	}
	family = binary.NativeEndian.Uint16(raw)
	switch {
	case family == unix.AF_INET && len(raw) >= unix.SizeofSockaddrInet4:
		a, _ := netip.AddrFromSlice(raw[4:8])
		return netip.AddrPortFrom(a, binary.BigEndian.Uint16(raw[2:])), family
	case family == unix.AF_INET6 && len(raw) >= 24: // without the scope (RFC 2133)
		a, _ := netip.AddrFromSlice(raw[8:24])
		return netip.AddrPortFrom(a.Unmap(), binary.BigEndian.Uint16(raw[2:])), family
	}
	return to, family
}

// connectTo connects a descriptor with an address, as the program would have, until the
// program ends.
func (g *guard) connectTo(fd int, raw []byte) unix.Errno {
	stop := context.AfterFunc(g.reach.ctx, func() { _ = unix.Shutdown(fd, unix.SHUT_RDWR) }) // which wakes a call that waits
	defer stop()
	var p unsafe.Pointer
	if len(raw) > 0 {
		p = unsafe.Pointer(&raw[0])
	}
	_, _, no := unix.Syscall(unix.SYS_CONNECT, uintptr(fd), uintptr(p), uintptr(len(raw)))
	return no
}

// relay connects a descriptor with the relay, for it to pass on what comes to where the
// program wants to go. The port of names leads to reach's own, whatever the address.
func (g *guard) relay(fd, domain int, to netip.AddrPort) unix.Errno {
	if _, err := unix.Getpeername(fd); err == nil {
		return unix.EISCONN
	}
	if !g.reach.enter() {
		return unix.EMFILE
	}
	f := &flow{of: g.reach}
	if to.Port() != nameServer {
		up, err := g.reach.dial(to)
		if err != nil {
			f.close()
			return errno(err)
		}
		f.up = up
	}
	at, err := relayAt()
	if err != nil {
		f.close()
		return unix.EACCES
	}
	var sa unix.Sockaddr = &unix.SockaddrInet4{Port: int(at.Port()), Addr: at.Addr().As4()}
	if domain == unix.AF_INET6 {
		sa = &unix.SockaddrInet6{Port: int(at.Port()), Addr: at.Addr().As16()}
	}
	err = unix.Connect(fd, sa)
	no := errno(err) // of a socket that does not wait, it says that it goes on
	if no != 0 && no != unix.EINPROGRESS {
		f.close()
		return no
	}
	from, err := unix.Getsockname(fd)
	if err != nil {
		f.close()
		return errno(err)
	}
	f.hand(port(from))
	return no
}

func port(sa unix.Sockaddr) netip.AddrPort {
	switch a := sa.(type) {
	case *unix.SockaddrInet4:
		return netip.AddrPortFrom(netip.AddrFrom4(a.Addr), uint16(a.Port))
	case *unix.SockaddrInet6:
		return netip.AddrPortFrom(netip.AddrFrom16(a.Addr).Unmap(), uint16(a.Port))
	}
	return netip.AddrPort{}
}

func errno(err error) unix.Errno {
	var no unix.Errno
	switch {
	case err == nil:
		return 0
	case errors.As(err, &no):
		return no
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, context.DeadlineExceeded):
		return unix.ETIMEDOUT
	}
	return unix.EACCES
}
