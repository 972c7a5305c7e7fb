//go:build linux

package sandbox_test

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"stonebaton.example/internal/sandbox"
)

func sh(t *testing.T, script string, change ...func(*sandbox.Spec)) sandbox.Done {
	t.Helper()
	if m := sandbox.Missing(); m != "" {
		t.Skip(m)
	}
	s := sandbox.Spec{Args: []string{"/bin/sh", "-c", script}, Env: []string{"PATH=/usr/bin:/bin"}, Dir: t.TempDir(), Memory: 256 << 20, Disk: 2 << 20, Processes: 16, Output: 64 << 10}
	for _, c := range change {
		c(&s)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	d, err := sandbox.Run(ctx, s)
	require.NoError(t, err)
	return d
}

func TestAProgramRunsInItsOwnFolder(t *testing.T) {
	t.Setenv("STONEBATON_TEST", "not for you")
	d := sh(t, "cat; pwd; echo made > note; cat note; echo log >&2; echo $STONEBATON_TEST; exit 3", func(s *sandbox.Spec) { s.Stdin = []byte("in ") })
	assert.Equal(t, 3, d.Code)
	assert.True(t, strings.HasPrefix(string(d.Stdout), "in /"))
	assert.Contains(t, string(d.Stdout), "made")
	assert.NotContains(t, string(d.Stdout), "not for you", "no environment is inherited")
	assert.Equal(t, "log\n", string(d.Stderr))
	assert.Empty(t, d.Broke)
}

func TestFilesOutsideCannotBeReadOrWritten(t *testing.T) {
	outside := t.TempDir()
	secret := filepath.Join(outside, "secret")
	require.NoError(t, os.WriteFile(secret, []byte("the key"), 0o600))
	script := fmt.Sprintf("cat %[1]s; echo x > %[1]s; echo x > %[2]s/new; ln -s %[1]s link; cat link; mv %[1]s here; ls %[2]s; true", secret, outside)
	d := sh(t, script)
	assert.NotContains(t, string(d.Stdout), "the key")
	assert.Contains(t, string(d.Stderr), "Permission denied")
	raw, err := os.ReadFile(secret)
	require.NoError(t, err)
	assert.Equal(t, "the key", string(raw))
	assert.NoFileExists(t, filepath.Join(outside, "new"))

	d = sh(t, "cat "+secret+"; echo x > "+secret, func(s *sandbox.Spec) { s.Reads = []string{secret} })
	assert.Contains(t, string(d.Stdout), "the key", "what is granted is read")
	assert.Contains(t, string(d.Stderr), "Permission denied", "and only read")
	sh(t, "echo x > "+outside+"/new", func(s *sandbox.Spec) { s.Writes = []string{outside} })
	assert.FileExists(t, filepath.Join(outside, "new"))
}

func TestTheNetworkCannotBeReached(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	came := make(chan bool, 8)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			came <- true
			c.Close()
		}
	}()
	perl := fmt.Sprintf(`use Socket; socket(my $s, PF_INET, SOCK_STREAM, 0) or die "socket: $!"; connect($s, sockaddr_in(%d, inet_aton("127.0.0.1"))) or die "connect: $!"; print "through"`, l.Addr().(*net.TCPAddr).Port)
	udp := `use Socket; socket(my $s, PF_INET, SOCK_DGRAM, 0) or die "socket: $!"; print "udp"`
	run := func(code string, network bool) sandbox.Done {
		return sh(t, "", func(s *sandbox.Spec) { s.Args, s.Network = []string{"/usr/bin/perl", "-e", code}, network })
	}
	d := run(perl, false)
	assert.Contains(t, string(d.Stderr), "Permission denied")
	assert.Contains(t, string(run(udp, false).Stderr), "Permission denied", "datagrams neither")
	assert.Empty(t, came)
	assert.Equal(t, "through", string(run(perl, true).Stdout), "unless it is granted")
}

func TestTheServiceCannotBeReached(t *testing.T) {
	pid := os.Getpid()
	d := sh(t, fmt.Sprintf(`kill -9 %[1]d; kill -9 -- -1; cat /proc/%[1]d/environ; perl -e 'kill 9, %[1]d or print "no signal: $!\n"; print "over\n"'`, pid))
	assert.Contains(t, string(d.Stdout), "no signal: Operation not permitted")
	assert.Contains(t, string(d.Stdout), "over")
	assert.Contains(t, string(d.Stderr), "Permission denied", "its environment cannot be read")
}

func TestAProgramCannotHideFromItsGroup(t *testing.T) {
	mark := fmt.Sprint("31", os.Getpid())
	d := sh(t, `perl -MPOSIX -e 'if (!fork) { POSIX::setsid() == -1 and print "no session: $!\n"; exec "sleep", "`+mark+`" }'; echo over`)
	assert.Contains(t, string(d.Stdout), "no session: Operation not permitted")
	assert.Empty(t, alive(t, "sleep "+mark), "what it left behind is ended with it")
}

// alive lists processes whose command line holds a text.
func alive(t *testing.T, text string) []string {
	var out []string
	procs, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	for _, p := range procs {
		raw, _ := os.ReadFile(p)
		if line := strings.ReplaceAll(string(raw), "\x00", " "); strings.Contains(line, text) && !strings.Contains(line, "perl") && !strings.Contains(line, "sh -c") {
			out = append(out, line)
		}
	}
	return out
}

func TestAProgramThatFillsTheDiskIsEnded(t *testing.T) {
	d := sh(t, "cat /dev/zero > big")
	assert.Contains(t, d.Broke, "it wrote more than 2 MB")
	d = sh(t, "i=0; while true; do i=$((i+1)); head -c 500000 /dev/zero > f$i; done")
	assert.Contains(t, d.Broke, "it wrote more than 2 MB to its folder", "in many files too")
}

func TestAProgramThatFloodsItsOutputIsEnded(t *testing.T) {
	d := sh(t, "yes")
	assert.Contains(t, d.Broke, "it wrote more than 65536 bytes to its standard output")
	assert.Len(t, d.Stdout, 64<<10)
	d = sh(t, "yes >&2")
	assert.Contains(t, d.Broke, "standard error")
}

func TestAProgramThatTakesTooMuchMemoryIsEnded(t *testing.T) {
	d := sh(t, "", func(s *sandbox.Spec) {
		s.Args, s.Memory = []string{"/usr/bin/perl", "-e", `my @a; while (1) { push @a, "x" x 1000000 }`}, 32<<20
	})
	assert.True(t, strings.Contains(d.Broke, "more than 32 MB of memory") || d.Code != 0, "%+v", d)
}

func TestAProgramThatIgnoresBeingAskedToEndIsEnded(t *testing.T) {
	if sandbox.Missing() != "" {
		t.Skip(sandbox.Missing())
	}
	ctx, cancel := context.WithTimeout(context.Background(), 200*time.Millisecond)
	defer cancel()
	d, err := sandbox.Run(ctx, sandbox.Spec{Args: []string{"/bin/sh", "-c", `trap "" TERM; while true; do sleep 0.05; done`}, Env: []string{"PATH=/usr/bin:/bin"}, Dir: t.TempDir(), Memory: 1 << 30, Disk: 1 << 20, Processes: 8, Output: 1024})
	require.NoError(t, err)
	assert.True(t, d.Late)
	assert.Equal(t, "killed", d.Signal)
}

func TestWhatIsNotThere(t *testing.T) {
	_, err := sandbox.Run(context.Background(), sandbox.Spec{Args: []string{"/no/such/program"}, Dir: t.TempDir(), Memory: 1 << 30, Disk: 1 << 20, Processes: 8, Output: 1024})
	assert.ErrorIs(t, err, os.ErrNotExist)
	_, err = sandbox.Run(context.Background(), sandbox.Spec{})
	assert.Error(t, err)
}

func TestTheServiceItselfStaysUnbounded(t *testing.T) {
	for range 20 {
		sh(t, "true")
	}
	f := filepath.Join(t.TempDir(), "free")
	require.NoError(t, os.WriteFile(f, []byte("x"), 0o600))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l.Close()
}

func TestWhatAnEarlierServiceLeftBehindIsEnded(t *testing.T) {
	dir := t.TempDir()
	cmd := exec.Command("/bin/sleep", "60")
	cmd.SysProcAttr = &unix.SysProcAttr{Setpgid: true}
	require.NoError(t, cmd.Start())
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", cmd.Process.Pid))
	require.NoError(t, err)
	began := strings.Fields(string(raw)[strings.LastIndex(string(raw), ") ")+2:])[19]
	require.NoError(t, os.WriteFile(filepath.Join(dir, strconv.Itoa(cmd.Process.Pid)), []byte(began), 0o600))
	n, err := sandbox.Account(dir)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.ErrorContains(t, cmd.Wait(), "killed")

	other := exec.Command("/bin/sleep", "60")
	other.SysProcAttr = &unix.SysProcAttr{Setpgid: true}
	require.NoError(t, other.Start())
	defer func() { _ = other.Process.Kill(); _ = other.Wait() }()
	require.NoError(t, os.WriteFile(filepath.Join(dir, strconv.Itoa(other.Process.Pid)), []byte("1"), 0o600))
	n, err = sandbox.Account(dir)
	require.NoError(t, err)
	assert.Zero(t, n, "another process that has the number now is left alone")
}
