//go:build linux

package sandbox

import (
	"encoding/binary"
	"errors"
	"io"
	"net"
	"os"
	"strings"
	"unsafe"

	"golang.org/x/net/dns/dnsmessage"
	"golang.org/x/sys/unix"
)

// nameServer is the port of name servers (RFC 1035).
const nameServer = 53

// byStream has the C library ask for names over TCP, and for those alone that are meant.
var byStream = []string{"RES_OPTIONS=use-vc ndots:1", "LOCALDOMAIN="}

// serveNames answers what a program asks a name server over TCP (RFC 7766).
func (r *reach) serveNames(c net.Conn) {
	for {
		var size [2]byte
		if _, err := io.ReadFull(c, size[:]); err != nil {
			return
		}
		raw := make([]byte, binary.BigEndian.Uint16(size[:]))
		if _, err := io.ReadFull(c, raw); err != nil {
			return
		}
		out, err := r.answerName(raw)
		if err != nil {
			return
		}
		if _, err := c.Write(binary.BigEndian.AppendUint16(nil, uint16(len(out)))); err != nil {
			return
		}
		if _, err := c.Write(out); err != nil {
			return
		}
	}
}

// answerName answers one question: a name that is granted, and that is one, has its
// stand-in address. No other name is there.
func (r *reach) answerName(raw []byte) ([]byte, error) {
	var p dnsmessage.Parser
	head, err := p.Start(raw)
	if err != nil {
		return nil, err
	}
	q, err := p.Question()
	if err != nil || head.Response {
		return nil, errors.New("it is no question")
	}
	out := dnsmessage.Message{Header: dnsmessage.Header{ID: head.ID, Response: true, OpCode: head.OpCode, RecursionDesired: head.RecursionDesired, RecursionAvailable: true}, Questions: []dnsmessage.Question{q}}
	name := strings.ToLower(strings.TrimSuffix(q.Name.String(), "."))
	ok, _ := r.granted(name, 0)
	switch {
	case !ok:
		r.refuse(readable(name))
		out.RCode = dnsmessage.RCodeNameError
	case q.Class != dnsmessage.ClassINET || q.Type != dnsmessage.TypeA: // it has one address, of the older kind
	default:
		addrs, err := lookup(r.ctx, name)
		var missing *net.DNSError
		a, room := r.stand(name)
		switch {
		case errors.As(err, &missing) && missing.IsNotFound:
			out.RCode = dnsmessage.RCodeNameError
		case err != nil || len(addrs) == 0 || !room:
			out.RCode = dnsmessage.RCodeServerFailure
		default:
			out.Answers = []dnsmessage.Resource{{Header: dnsmessage.ResourceHeader{Name: q.Name, Class: q.Class, TTL: 60}, Body: &dnsmessage.AResource{A: a.As4()}}}
		}
	}
	return out.Pack()
}

// readable gives a name as it can be shown: a program may ask for any bytes.
func readable(name string) string {
	return strings.Map(func(c rune) rune {
		if c > ' ' && c < 0x7f {
			return c
		}
		return '?'
	}, name)
}

// added is the kernel's struct seccomp_notif_addfd.
type added struct {
	id               uint64
	flags, from      uint32
	to, ofDescriptor uint32
}

// socket gives a program that wants a socket for datagrams one that leads to the names and
// nowhere else; it keeps the bounds of messages, as datagrams do.
func (g *guard) socket(n *notice) (fd int64, no unix.Errno) {
	if !g.reach.enter() {
		return 0, unix.EMFILE
	}
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_SEQPACKET|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		g.reach.leave()
		return 0, unix.EMFILE
	}
	defer unix.Close(pair[1])
	f := os.NewFile(uintptr(pair[0]), "names")
	c, err := net.FileConn(f)
	f.Close()
	if err != nil {
		g.reach.leave()
		return 0, unix.EMFILE
	}
	if n.args[1]&unix.SOCK_NONBLOCK != 0 {
		_ = unix.SetNonblock(pair[1], true)
	}
	a := added{id: n.id, from: uint32(pair[1]), ofDescriptor: uint32(n.args[1] & unix.SOCK_CLOEXEC)}
	v, no := g.call(unix.SECCOMP_IOCTL_NOTIF_ADDFD, unsafe.Pointer(&a))
	if no != 0 {
		c.Close()
		g.reach.leave()
		return 0, no
	}
	go func() {
		defer g.reach.leave()
		g.reach.serveDatagrams(c)
	}()
	return int64(v), 0
}

// serveDatagrams answers questions that come one a message, until the program closes its end.
func (r *reach) serveDatagrams(c net.Conn) {
	defer c.Close()
	raw := make([]byte, 64<<10)
	for {
		n, err := c.Read(raw)
		if err != nil || n == 0 {
			return
		}
		if out, err := r.answerName(raw[:n]); err == nil {
			if _, err := c.Write(out); err != nil {
				return
			}
		}
	}
}
