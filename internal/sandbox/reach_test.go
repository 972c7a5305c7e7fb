//go:build linux

package sandbox_test

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"stonebaton.example/internal/sandbox"
)

func init() {
	sandbox.Names["berths.kelmere.example"] = "127.0.0.1"
	sandbox.Names["tides.kelmere.example"] = "127.0.0.1"
	if to := os.Getenv("DIAL"); to != "" { // this is the program of a test, in the sandbox
		c, err := net.Dial("tcp", to)
		if err != nil {
			fmt.Print(err)
			os.Exit(1)
		}
		fmt.Fprintln(c, "one")
		line, _ := bufio.NewReader(c).ReadString('\n')
		fmt.Print(line)
		os.Exit(0)
	}
	sandbox.Names["quiet.kelmere.example"] = "127.0.0.8"
}

// echo is a server that gives each line back with a word before it.
func echo(t *testing.T) (port int) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				for in := bufio.NewScanner(c); in.Scan(); {
					_, _ = io.WriteString(c, "heard "+in.Text()+"\n")
				}
			}()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

func hosts(names ...string) func(*sandbox.Spec) {
	return func(s *sandbox.Spec) { s.Hosts = names }
}

func whole(s *sandbox.Spec) { s.Network = true }

// dial is Perl that says a word to a host and prints what comes back, or why not.
func dial(host string, port int) string {
	return fmt.Sprintf(`use IO::Socket::INET; my $s = IO::Socket::INET->new(PeerAddr => "%s", PeerPort => %d, Proto => "tcp") or print($@ || $!), exit; print $s "one\n"; print scalar <$s>; print $s "two\n"; print scalar <$s>;`, host, port)
}

func TestNamedHostsAreReached(t *testing.T) {
	port := echo(t)
	for what, names := range map[string][]string{
		"a name":            {"berths.kelmere.example"},
		"a name and a port": {fmt.Sprintf("Berths.Kelmere.example:%d", port)},
		"several":           {"other.example:443", "berths.kelmere.example:443", fmt.Sprintf("berths.kelmere.example:%d", port)},
	} {
		t.Run(what, func(t *testing.T) {
			d := perl(t, dial("berths.kelmere.example", port), hosts(names...))
			assert.Equal(t, "heard one\nheard two\n", string(d.Stdout), "%s", d.Stderr)
			assert.Empty(t, d.Refused)
		})
	}
	t.Run("an address", func(t *testing.T) {
		d := perl(t, dial("127.0.0.1", port), hosts("127.0.0.1"))
		assert.Equal(t, "heard one\nheard two\n", string(d.Stdout), "%s", d.Stderr)
		d = perl(t, dial("localhost", port), hosts("localhost"))
		assert.Equal(t, "heard one\nheard two\n", string(d.Stdout), "a name that a file of the machine knows: %s", d.Stderr)
	})
	t.Run("a socket of the newer kind", func(t *testing.T) {
		d := perl(t, fmt.Sprintf(`use Socket qw(:all); socket(my $s, PF_INET6, SOCK_STREAM, 0) or die "socket: $!"; my @a = unpack("C4", inet_aton("berths.kelmere.example")); connect($s, pack_sockaddr_in6(%d, inet_pton(AF_INET6, "::ffff:" . join(".", @a)))) or die "connect: $!"; syswrite $s, "one\n"; sysread $s, my $x, 99; print $x`, port), hosts("berths.kelmere.example"))
		assert.Equal(t, "heard one\n", string(d.Stdout), "%s", d.Stderr)
	})
	t.Run("a socket that does not wait", func(t *testing.T) {
		d := perl(t, fmt.Sprintf(`use IO::Socket::INET; use IO::Select; my $s = IO::Socket::INET->new(PeerAddr => "berths.kelmere.example", PeerPort => %d, Timeout => 5) or die "$@"; print $s "one\n"; print scalar <$s>`, port), hosts("berths.kelmere.example"))
		assert.Equal(t, "heard one\n", string(d.Stdout), "%s", d.Stderr)
	})
	t.Run("by a program that asks for names itself", func(t *testing.T) {
		goes := func(host string) sandbox.Done {
			return sh(t, "", hosts("berths.kelmere.example"), func(s *sandbox.Spec) {
				s.Args, s.Reads, s.Memory = os.Args[:1], os.Args[:1], 1<<30
				s.Env = []string{"GODEBUG=netdns=go", fmt.Sprintf("DIAL=%s:%d", host, port)}
			})
		}
		d := goes("berths.kelmere.example")
		assert.Equal(t, "heard one\n", string(d.Stdout), "%s", d.Stderr)
		d = goes("tides.kelmere.example")
		assert.Contains(t, string(d.Stdout), "no such host")
		assert.Equal(t, []string{"tides.kelmere.example"}, d.Refused)
	})
	t.Run("many at a time", func(t *testing.T) {
		d := perl(t, fmt.Sprintf(`for (1..8) { if (!fork) { use IO::Socket::INET; for (1..10) { my $s = IO::Socket::INET->new(PeerAddr => "tides.kelmere.example", PeerPort => %d) or print("$@ "), next; print $s "$_\n"; my $l = <$s>; $l eq "heard $_\n" or print "got $l " } exit } } 1 while wait > 0; print "over"`, port), hosts("tides.kelmere.example"))
		assert.Equal(t, "over", string(d.Stdout), "%s", d.Stderr)
	})
	t.Run("what comes is whole, and ends where it ends", func(t *testing.T) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer l.Close()
		go func() {
			c, err := l.Accept()
			if err != nil {
				return
			}
			defer c.Close()
			n, _ := io.Copy(io.Discard, c) // until the program has ended its side
			fmt.Fprintf(c, "%d %s", n, strings.Repeat("x", 1<<20))
		}()
		d := perl(t, fmt.Sprintf(`use IO::Socket::INET; my $s = IO::Socket::INET->new(PeerAddr => "berths.kelmere.example:%d") or die "$@"; print $s "y" x 3000000; $s->flush; shutdown $s, 1; local $/; my $x = <$s>; print length $x, " ", substr $x, 0, 7`, l.Addr().(*net.TCPAddr).Port), hosts("berths.kelmere.example"))
		assert.Equal(t, "1048584 3000000", string(d.Stdout), "%s", d.Stderr)
	})
}

func TestOtherHostsAreNotReached(t *testing.T) {
	port := echo(t)
	for what, c := range map[string]struct {
		host    string
		hosts   []string
		refused string
	}{
		"another name":                  {"tides.kelmere.example", []string{"berths.kelmere.example"}, "tides.kelmere.example"},
		"a name below":                  {"x.berths.kelmere.example", []string{"berths.kelmere.example"}, "x.berths.kelmere.example"},
		"one that ends alike":           {"notkelmere.example", []string{"kelmere.example", "*.kelmere.example"}, "notkelmere.example"},
		"what a wildcard is below":      {"kelmere.example", []string{"*.kelmere.example"}, "kelmere.example"},
		"another port":                  {"berths.kelmere.example", []string{"berths.kelmere.example:443"}, fmt.Sprintf("berths.kelmere.example:%d", port)},
		"its address":                   {"127.0.0.1", []string{"other.example"}, fmt.Sprintf("127.0.0.1:%d", port)},
		"an address next to it":         {"127.0.0.2", []string{"127.0.0.1"}, fmt.Sprintf("127.0.0.2:%d", port)},
		"a private address by wildcard": {"berths.kelmere.example", []string{"*.kelmere.example"}, "berths.kelmere.example, which has a private address: name it in full"},
		"a stand-in of nobody's":        {"198.18.7.7", []string{"berths.kelmere.example"}, fmt.Sprintf("198.18.7.7:%d", port)},
	} {
		t.Run(what, func(t *testing.T) {
			d := perl(t, dial(c.host, port), hosts(c.hosts...))
			assert.NotContains(t, string(d.Stdout), "heard")
			assert.Equal(t, []string{c.refused}, d.Refused, "%s %s", d.Stdout, d.Stderr)
		})
	}
	t.Run("a name that is none", func(t *testing.T) {
		d := perl(t, dial("gone.example", port), hosts("gone.example"))
		assert.Contains(t, string(d.Stdout), "Bad hostname", "%s", d.Stdout)
		assert.Empty(t, d.Refused, "it was granted")
	})
	t.Run("nobody listens", func(t *testing.T) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		free := l.Addr().(*net.TCPAddr).Port
		l.Close()
		d := perl(t, dial("berths.kelmere.example", free), hosts("berths.kelmere.example"))
		assert.Contains(t, string(d.Stdout), "Connection refused")
	})
	t.Run("names are told in characters that can be shown", func(t *testing.T) {
		d := perl(t, `use Socket; inet_aton("evil\e]0;x\a.example")`, hosts("berths.kelmere.example"))
		for _, r := range d.Refused {
			assert.NotContains(t, r, "\x1b")
		}
	})
}

// No other system call leads out where hosts are named.
func TestNoOtherWayOutIsReached(t *testing.T) {
	port := echo(t)
	heard, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer heard.Close()
	udp := heard.LocalAddr().(*net.UDPAddr).Port
	lib := fmt.Sprintf(`use Socket qw(:all); my $to = pack_sockaddr_in(%d, inet_aton("127.0.0.1")); my $udp = pack_sockaddr_in(%d, inet_aton("127.0.0.1")); `, port, udp)
	for what, code := range map[string]string{
		"a datagram":                  `socket(my $s, PF_INET, SOCK_DGRAM, 0) or die; send($s, "x", 0, $udp)`,
		"a datagram after connecting": `socket(my $s, PF_INET, SOCK_DGRAM, 0) or die; connect($s, $udp) and print "through"`,
		"one of the other kind":       `socket(my $s, PF_INET6, SOCK_DGRAM, 0) or die; send($s, "x", 0, pack_sockaddr_in6(` + fmt.Sprint(udp) + `, inet_pton(AF_INET6, "::ffff:127.0.0.1")))`,
		"the names' own socket":       `socket(my $s, PF_INET, SOCK_DGRAM, 0) or die; connect($s, pack_sockaddr_in(53, inet_aton("127.0.0.1"))) or die; send($s, "x", 0, $udp); connect($s, $udp) and print "through"`,
		"data with the connection":    fmt.Sprintf(`socket(my $s, PF_INET, SOCK_STREAM, 0) or die; my $d = "one\n"; syscall(%d, fileno $s, $d, 4, 0x20000000, $to, length $to) >= 0 and print "through"`, unix.SYS_SENDTO),
		"a raw socket":                `socket(my $s, PF_INET, SOCK_RAW, 1) and print "through"; socket($s, 17, SOCK_RAW, 3) and print "through"`,
		"another protocol":            `for my $p (6 .. 300) { next if $p == 6; socket(my $s, PF_INET, SOCK_STREAM, $p) and print "through by $p" }`,
		"another family":              `for my $f (1, 3 .. 9, 11 .. 15, 17 .. 60) { socket(my $s, $f, SOCK_STREAM, 0) and print "through by $f"; socket($s, $f, SOCK_DGRAM, 0) and print "through by $f" }`,
		"listening":                   `socket(my $s, PF_INET, SOCK_STREAM, 0) or die; listen($s, 1) and print "through"`,
		"an address of nobody's":      `socket(my $s, PF_INET, SOCK_STREAM, 0) or die; connect($s, $to) and print "through"`,
		"no address":                  fmt.Sprintf(`socket(my $s, PF_INET, SOCK_STREAM, 0) or die; for my $l (0 .. 15, 129, 1 << 30) { syscall(%[1]d, fileno $s, $to, $l) >= 0 and print "through with $l" } syscall(%[1]d, fileno $s, 0, 16) >= 0 and print "through"`, unix.SYS_CONNECT),
		"no socket":                   fmt.Sprintf(`syscall(%[1]d, 0, $to, 16) >= 0 and print "through"; syscall(%[1]d, 99, $to, 16) >= 0 and print "through"; syscall(%[1]d, -1, $to, 16) >= 0 and print "through"`, unix.SYS_CONNECT),
	} {
		t.Run(what, func(t *testing.T) {
			d := perl(t, lib+code, hosts("quiet.kelmere.example"))
			assert.Empty(t, string(d.Stdout))
			assert.NotContains(t, string(d.Stderr), "Died")
			assert.Equal(t, 0, d.Code, "%s", d.Stderr)
		})
	}
	require.NoError(t, heard.SetReadDeadline(time.Now().Add(time.Millisecond))) // what was sent on this machine is there already
	n, _, err := heard.ReadFrom(make([]byte, 9))
	assert.Error(t, err, "%d bytes came", n)
	t.Run("nor is anything where none are", func(t *testing.T) {
		d := perl(t, lib+`socket(my $s, PF_INET, SOCK_STREAM, 0) and print "through"; socket($s, PF_INET, SOCK_DGRAM, 0) and print "through"`)
		assert.Empty(t, string(d.Stdout))
	})
}

// silent is a server to which nobody may come.
func silent(t *testing.T) (at net.Addr, came func() int) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	return l.Addr(), func() int {
		require.NoError(t, l.(*net.TCPListener).SetDeadline(time.Now().Add(time.Millisecond)))
		for n := 0; ; n++ {
			c, err := l.Accept()
			if err != nil {
				return n
			}
			c.Close()
		}
	}
}

// An address may be changed by another of the program's processes while it is looked at.
func TestAnAddressThatChangesIsReachedAsItWasRead(t *testing.T) {
	port := echo(t)
	at, came := silent(t)
	theirs := at.(*net.TCPAddr).Port
	defer sandbox.Hide(at)()
	code := fmt.Sprintf(`use Socket qw(:all); my $ok = pack_sockaddr_in(%d, inet_aton("localhost")); my $bad = pack_sockaddr_in(%d, inet_aton("127.0.0.1")); my $p = syscall(%d, 0, 4096, 3, 0x21, -1, 0);
my $f = fork; if (!$f) { pipe my $r, my $w; while (1) { for ($ok, $bad) { syswrite $w, $_; syscall(%d, fileno $r, $p, 16) } } }
my ($yes, $no) = (0, 0); while ($yes < 100 || $no < 100) { socket(my $s, PF_INET, SOCK_STREAM, 0) or die "$!"; syscall(%d, fileno $s, $p, 16) ? $no++ : $yes++ } kill 9, $f; print "over"`, port, theirs, unix.SYS_MMAP, unix.SYS_READ, unix.SYS_CONNECT)
	for _, grant := range []func(*sandbox.Spec){whole, hosts(fmt.Sprintf("localhost:%d", port))} {
		d := perl(t, code, grant)
		assert.Equal(t, "over", string(d.Stdout), "%s", d.Stderr)
		assert.Zero(t, came())
	}
}

func TestTheServiceIsNotReached(t *testing.T) {
	at, came := silent(t)
	port := at.(*net.TCPAddr).Port
	show := sandbox.Hide(at)
	defer show()
	for _, grant := range []func(*sandbox.Spec){whole, hosts("localhost", "127.0.0.1", "127.0.0.9", "0.0.0.0", "berths.kelmere.example")} {
		for _, at := range own(t) {
			code := fmt.Sprintf(`use Socket qw(:all); my $h = "%s"; my ($f, $a) = $h =~ /:/ ? (PF_INET6, pack_sockaddr_in6(%[2]d, inet_pton(AF_INET6, $h))) : (PF_INET, pack_sockaddr_in(%[2]d, inet_aton($h))); socket(my $s, $f, SOCK_STREAM, 0) or die; connect($s, $a) and print "through" or print "$!"`, at, port)
			d := perl(t, code, grant)
			assert.Regexp(t, "^(Permission denied|Invalid argument)$", string(d.Stdout), "%s: %s", at, d.Stderr)
		}
		perl(t, dial("berths.kelmere.example", port), grant)
		perl(t, dial("localhost", port), grant)
		assert.Zero(t, came())
	}
	other := echo(t)
	assert.Equal(t, "heard one\nheard two\n", string(perl(t, dial("127.0.0.1", other), whole).Stdout), "others of this machine are")
	show()
	d := perl(t, fmt.Sprintf(`use IO::Socket::INET; IO::Socket::INET->new("127.0.0.1:%d") and print "through"`, port), whole)
	assert.Equal(t, "through", string(d.Stdout), "once the service listens there no more")
}

// own lists ways to write addresses of this machine.
func own(t *testing.T) []string {
	t.Helper()
	out := []string{"127.0.0.1", "127.0.0.9", "127.255.255.254", "0.0.0.0", "::ffff:127.0.0.1", "::ffff:0.0.0.0", "::1", "::"}
	list, err := net.InterfaceAddrs()
	require.NoError(t, err)
	for _, a := range list {
		if ip, ok := a.(*net.IPNet); ok && !ip.IP.IsLinkLocalUnicast() {
			out = append(out, ip.IP.String())
		}
	}
	return out
}

func TestWholeNetworkIsReached(t *testing.T) {
	port := echo(t)
	assert.Equal(t, "heard one\nheard two\n", string(perl(t, dial("127.0.0.1", port), whole).Stdout))
	heard, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer heard.Close()
	d := perl(t, fmt.Sprintf(`use Socket qw(:all); my $a = pack_sockaddr_in(%d, inet_aton("127.0.0.1")); socket(my $s, PF_INET, SOCK_DGRAM, 0) or die; connect($s, $a) or die "$!"; send($s, "one", 0) or die "$!"; connect($s, pack("S", 0) . "\0" x 14) or die "$!"; send($s, "two", 0, $a) or die "$!"; print "sent"`, heard.LocalAddr().(*net.UDPAddr).Port), whole)
	assert.Equal(t, "sent", string(d.Stdout), "%s", d.Stderr)
	for _, want := range []string{"one", "two"} {
		buf := make([]byte, 9)
		n, _, err := heard.ReadFrom(buf)
		require.NoError(t, err)
		assert.Equal(t, want, string(buf[:n]))
	}
	d = perl(t, `use IO::Socket::INET; my $l = IO::Socket::INET->new(Listen => 1, LocalAddr => "127.0.0.1") or die; my $p = $l->sockport; if (!fork) { my $c = $l->accept; print $c "mine\n"; exit } my $s = IO::Socket::INET->new("127.0.0.1:$p") or die "$@"; print scalar <$s>`, whole)
	assert.Equal(t, "mine\n", string(d.Stdout), "it may talk to itself: %s", d.Stderr)
}

func TestAConnectionThatIsNotAnsweredEndsWithTheProgram(t *testing.T) {
	l, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	require.NoError(t, err)
	defer unix.Close(l)
	require.NoError(t, unix.Bind(l, &unix.SockaddrInet4{Addr: [4]byte{127, 0, 0, 1}}))
	require.NoError(t, unix.Listen(l, 0)) // nothing is accepted, so that soon nothing is answered
	sa, err := unix.Getsockname(l)
	require.NoError(t, err)
	port := sa.(*unix.SockaddrInet4).Port
	d := perl(t, fmt.Sprintf(`use Socket qw(:all); my $a = pack_sockaddr_in(%d, inet_aton("127.0.0.1")); for (1..8) { if (!fork) { socket(my $s, PF_INET, SOCK_STREAM, 0); connect $s, $a; sleep 20; exit } } select undef, undef, undef, 0.3; print "over"`, port), whole)
	assert.Equal(t, "over", string(d.Stdout), "%s", d.Stderr)
}

func TestHostsThatAreWrittenWrongly(t *testing.T) {
	_, err := sandbox.Run(t.Context(), sandbox.Spec{Args: []string{"/bin/true"}, Dir: t.TempDir(), Hosts: []string{"berths.kelmere.example:99999"}})
	assert.ErrorContains(t, err, `"99999" is not a port from 1 to 65535, in the host berths.kelmere.example:99999`)
}

// TestARedirectLeadsNowhereElse: a host that is granted sends a program on to one that is not, by
// name, by address, and to the service's own address.
func TestARedirectLeadsNowhereElse(t *testing.T) {
	came := make(chan string, 8)
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { came <- r.Host }))
	defer other.Close()
	defer sandbox.Hide(other.Listener.Addr())()
	third := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { came <- r.Host }))
	defer third.Close()
	port := func(s *httptest.Server) int { return s.Listener.Addr().(*net.TCPAddr).Port }
	targets := map[string]string{
		"by name": fmt.Sprintf("http://tides.kelmere.example:%d/", port(third)), "by address": third.URL, "another port": fmt.Sprintf("http://berths.kelmere.example:%d/", port(third)),
		"the service": other.URL, "the service by name": fmt.Sprintf("http://berths.kelmere.example:%d/", port(other)),
	}
	for what, to := range targets {
		first := httptest.NewServer(http.RedirectHandler(to, http.StatusFound))
		grants := []string{fmt.Sprintf("berths.kelmere.example:%d", port(first)), fmt.Sprintf("127.0.0.1:%d", port(other)), fmt.Sprintf("berths.kelmere.example:%d", port(other))}
		d := perl(t, fmt.Sprintf(`use HTTP::Tiny; my $r = HTTP::Tiny->new(timeout => 5)->get("http://berths.kelmere.example:%d/"); print "$r->{status} $r->{url} $r->{content}"`, port(first)), hosts(grants...))
		first.Close()
		host := strings.TrimSuffix(strings.TrimPrefix(to, "http://"), "/")
		assert.Regexp(t, "Could not connect to '"+host+"': (Permission denied|Name or service not known)", string(d.Stdout), "%s: %s", what, d.Stderr)
		assert.NotEmpty(t, d.Refused, what)
		if strings.HasPrefix(what, "the service") {
			assert.Contains(t, d.Refused[0], "this service itself, which no program reaches")
		}
	}
	assert.Empty(t, came)
}
