//go:build linux

package sandbox_test

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"stonebaton.example/internal/sandbox"
)

// perl runs a piece of Perl, which can make any system call.
func perl(t *testing.T, code string, change ...func(*sandbox.Spec)) sandbox.Done {
	t.Helper()
	return sh(t, "", append([]func(*sandbox.Spec){func(s *sandbox.Spec) { s.Args = []string{"/usr/bin/perl", "-e", code} }}, change...)...)
}

// file makes a file that no program is granted.
func file(t *testing.T) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "theirs")
	require.NoError(t, os.WriteFile(name, []byte("theirs"), 0o640))
	return name
}

func TestWhatAFileIsCannotBeChangedOutside(t *testing.T) {
	theirs := file(t)
	before, err := os.Stat(theirs)
	require.NoError(t, err)
	same := func(t *testing.T) {
		t.Helper()
		now, err := os.Stat(theirs)
		require.NoError(t, err)
		assert.Equal(t, before.Mode(), now.Mode())
		assert.Equal(t, before.ModTime(), now.ModTime())
		assert.Equal(t, before.Size(), now.Size())
		assert.Equal(t, before.Sys().(*syscall.Stat_t).Uid, now.Sys().(*syscall.Stat_t).Uid)
	}
	for what, code := range map[string]string{
		"mode":             `chmod 0777, $f or print "$!"`,
		"owner":            `chown 12, 12, $f or print "$!"`,
		"times":            `utime 1, 1, $f or print "$!"`,
		"length":           `truncate $f, 0 or print "$!"`,
		"through a link":   `symlink $f, "l"; chmod 0777, "l" or print "$!"`,
		"through a folder": `($d = $f) =~ s,/[^/]*$,,; chdir $d; chmod 0777, "theirs" or print "$!"`,
		"a hard link":      `link $f, "l" or print "$!"; chmod 0777, "l"`,
		"attributes":       fmt.Sprintf(`my ($n, $v) = ("user.x", "y"); syscall(%d, $f, $n, $v, 1, 0) and print "$!"`, unix.SYS_SETXATTR),
	} {
		t.Run(what, func(t *testing.T) {
			d := perl(t, `$f = "`+theirs+`"; `+code)
			assert.Regexp(t, "Permission denied|not supported|cross-device|not permitted", string(d.Stdout)+string(d.Stderr))
			same(t)
		})
	}
	t.Run("of what it may read", func(t *testing.T) {
		d := perl(t, `open F, "<", "`+theirs+`" or die; print <F>; chmod 0777, *F or print "; $!"; truncate "`+theirs+`", 0 or print "; $!"; sysopen G, "`+theirs+`", 01000 or print "; $!"`, func(s *sandbox.Spec) { s.Reads = []string{theirs} })
		assert.Equal(t, "theirs; Permission denied; Permission denied; Permission denied", string(d.Stdout))
		same(t)
	})
}

func TestWhatAFileIsCanBeChangedInside(t *testing.T) {
	d := sh(t, `umask 022; touch a; chmod 755 a; touch -d 2020-02-03 a; stat -c '%a %y' a | cut -c1-14; cp -p a b; stat -c '%a %y' b | cut -c1-14; mkdir d; ln -s ../a d/l; chmod 600 d/l; stat -c %a a
install -m 700 a c && stat -c %a c; echo one > s; sed -i s/one/two/ s; cat s; tar cf t.tar a d; mkdir x; tar xf t.tar -C x && ls x; truncate -s 3 a; stat -c %s a; cd d && chmod 640 ../b && stat -c %a ../b; touch -h l; chmod 600 missing; chmod 4755 ../b`)
	assert.Equal(t, "755 2020-02-03\n755 2020-02-03\n600\n700\ntwo\na\nd\n3\n640\n", string(d.Stdout), "%s", d.Stderr)
	assert.Regexp(t, `^chmod: cannot access 'missing': No such file or directory\nchmod: changing permissions of '../b': Operation not permitted\n$`, string(d.Stderr), "no file that gives its user's rights away")

	granted := t.TempDir()
	d = sh(t, "cd "+granted+" && echo x > f && chmod 600 f && stat -c %a f", func(s *sandbox.Spec) { s.Writes = []string{granted} })
	assert.Equal(t, "600\n", string(d.Stdout), "%s", d.Stderr)
}

func TestNoDeviceIsMade(t *testing.T) {
	for _, kind := range []string{"b 254 0", "c 1 1"} {
		d := sh(t, "mknod disk "+kind+"; cat disk; mkfifo pipe && ls")
		assert.Regexp(t, "mknod: disk: (Permission denied|Operation not permitted)", string(d.Stderr))
		assert.Equal(t, "pipe\n", string(d.Stdout))
	}
}

func TestAProgramHasNoRightsOfRoot(t *testing.T) {
	d := perl(t, fmt.Sprintf(`my $h = pack("Ll", 0x20080522, 0); my $d = "\0" x 24; syscall(%d, $h, $d) and die $!; printf "%%x", $_ for (unpack "L6", $d)[0,3]`, unix.SYS_CAPGET))
	want := "00"
	if os.Getuid() == 0 {
		raw, err := os.ReadFile("/proc/self/status")
		require.NoError(t, err)
		_, rest, _ := strings.Cut(string(raw), "CapEff:\t")
		has, err := strconv.ParseUint(rest[:16], 16, 64)
		require.NoError(t, err)
		if has&(1<<unix.CAP_SETPCAP) == 0 {
			t.Skip("rights cannot be laid down here; the filter refuses what they are for")
		}
		want = "20" // to read and write what its folders hold
	}
	assert.Equal(t, want, string(d.Stdout), "%s", d.Stderr)
}

func TestSocketsOfOtherProgramsAreNotReached(t *testing.T) {
	name := filepath.Join(t.TempDir(), "s")
	l, err := net.Listen("unix", name)
	require.NoError(t, err)
	defer l.Close()
	for _, network := range []bool{false, true} {
		d := perl(t, `use Socket; socket(my $s, PF_UNIX, SOCK_STREAM, 0) or die "socket: $!"; connect($s, sockaddr_un("`+name+`")) and print "through"`, func(s *sandbox.Spec) { s.Network = network })
		assert.Contains(t, string(d.Stderr), "socket: Permission denied")
		assert.Empty(t, d.Stdout)
	}
	box := filepath.Join(t.TempDir(), "box")
	c, err := net.ListenPacket("unixgram", box)
	require.NoError(t, err)
	defer c.Close()
	for _, grant := range []func(*sandbox.Spec){func(*sandbox.Spec) {}, hosts("berths.kelmere.example"), whole} {
		for _, kind := range []string{"SOCK_STREAM", "SOCK_SEQPACKET", "SOCK_DGRAM", "SOCK_RAW"} {
			perl(t, `use Socket; my ($a, $b); for my $to ("`+name+`", "`+box+`") { socketpair($a, $b, PF_UNIX, `+kind+`, 0) or last; send($a, "through", 0, sockaddr_un($to)); connect($a, sockaddr_un($to)); send($a, "through", 0); close $b; connect($a, sockaddr_un($to)); send($a, "through", 0) }`, grant)
		}
	}
	require.NoError(t, c.SetReadDeadline(time.Now().Add(time.Millisecond)))
	_, _, err = c.ReadFrom(make([]byte, 9))
	assert.ErrorIs(t, err, os.ErrDeadlineExceeded, "by no end of a pair")
	require.NoError(t, l.(*net.UnixListener).SetDeadline(time.Now().Add(time.Millisecond)))
	_, err = l.Accept()
	assert.ErrorIs(t, err, os.ErrDeadlineExceeded)
	d := perl(t, `use Socket; socketpair(my $a, my $b, PF_UNIX, SOCK_STREAM, 0) or die $!; syswrite $a, "own"; sysread $b, $x, 3; print $x`)
	assert.Equal(t, "own", string(d.Stdout), "a pair of its own it may have: %s", d.Stderr)
}

func TestGroupsOfProcessesStayInSight(t *testing.T) {
	mark := fmt.Sprint("32", os.Getpid())
	d := perl(t, `if (!fork) { setpgrp(0, 0) or die $!; if (!fork) { exec "sleep", "`+mark+`" } exit } wait; print "left"`)
	assert.Equal(t, "left", string(d.Stdout), "%s", d.Stderr)
	assert.Empty(t, alive(t, "sleep "+mark), "a process of another group, whose parent is gone")

	d = perl(t, fmt.Sprintf(`setpgrp(0, %d) or print "$!"`, unix.Getpgrp()))
	assert.Equal(t, "Operation not permitted", string(d.Stdout), "nor does it go to a group of ours")

	d = perl(t, `for (1..40) { defined($p = fork) or print("$!"), exit 1; if (!$p) { setpgrp(0, 0); if (!fork) { sleep 20 } exit } }`)
	assert.Equal(t, "it asked for a 17th process; 16 are allowed (a thread is one, too)", d.Broke)
	assert.Equal(t, "Resource temporarily unavailable", string(d.Stdout))

	d = perl(t, `for (1..40) { $p = fork; defined $p or print("$_: $!"), exit 3; $p or exit }`)
	assert.Equal(t, "16: Resource temporarily unavailable", string(d.Stdout), "those that have ended and were not asked for count too")

	d = perl(t, `for (1..40) { $p = fork; defined $p or last; $p or exit; $n++ } print "$n did"`)
	assert.Equal(t, "15 did", string(d.Stdout))
	assert.Empty(t, d.Broke, "who does with what there is may")

	d = sh(t, "timeout 0.1 sleep 20; echo $?; set -m; sleep 0 & wait; echo over")
	assert.Equal(t, "124\nover\n", string(d.Stdout), "groups are made for good reasons too: %s", d.Stderr)
}

func TestGroupsAreWrittenDownForTheNextStart(t *testing.T) {
	if os.Getenv("BOUNDS") == "" {
		t.Skip("where there are control groups, what is in them is found there: TestWhatAKilledServiceLeaves")
	}
	dir := t.TempDir()
	_, err := sandbox.Account(dir)
	require.NoError(t, err)
	defer func() { _, _ = sandbox.Account(t.TempDir()) }()
	seen := make(chan int, 1)
	d := perl(t, `if (!fork) { setpgrp(0, 0); print STDERR "there\n"; sleep 20 } <STDIN>; sleep 20`, func(s *sandbox.Spec) {
		s.Log = writer(func(p []byte) {
			left, _ := os.ReadDir(dir)
			seen <- len(left)
			for _, e := range left { // as after a kill of the service
				raw, _ := os.ReadFile(filepath.Join(dir, e.Name()))
				assert.NotEmpty(t, raw)
			}
			_, _ = sandbox.Account(dir)
		})
	})
	assert.Equal(t, 2, <-seen)
	assert.Equal(t, "killed", d.Signal)
}

type writer func([]byte)

func (w writer) Write(p []byte) (int, error) { w(p); return len(p), nil }

func TestTheServiceAndOthersKeepTheirLimits(t *testing.T) {
	var before, after unix.Rlimit
	require.NoError(t, unix.Getrlimit(unix.RLIMIT_NOFILE, &before))
	d := perl(t, fmt.Sprintf(`my $l = pack("QQ", 64, 64); syscall(%d, %d, 7, $l, 0) and print "$!; "; syscall(%d, 0, %[2]d, 19) and print "$!; "; syscall(%[3]d, 2, 0, 19) and print "$!; "; syscall(%[3]d, 0, 0, 19) or print "its own"`, unix.SYS_PRLIMIT64, os.Getpid(), unix.SYS_SETPRIORITY))
	assert.Equal(t, "Operation not permitted; Operation not permitted; Operation not permitted; its own", string(d.Stdout), "%s", d.Stderr)
	require.NoError(t, unix.Getrlimit(unix.RLIMIT_NOFILE, &after))
	assert.Equal(t, before, after)
}

// The thread that starts a program has its bounds, and the kernel takes a signal to
// any thread for one to the whole process.
func TestNoThreadOfTheServiceGetsASignal(t *testing.T) {
	threads, err := filepath.Glob("/proc/self/task/*")
	require.NoError(t, err)
	for n := range threads {
		threads[n] = filepath.Base(threads[n])
	}
	d := perl(t, fmt.Sprintf(`for my $t (%[1]d, %[2]s, $$ - 20 .. $$ + 20) { next if $t == $$; kill 0, $t and print "$t by kill\n"; syscall(%[3]d, $t, 0) == 0 and print "$t by tkill\n"; syscall(%[4]d, %[1]d, $t, 0) == 0 and print "$t by tgkill\n" }
pipe my $r, my $w; fcntl($r, 8, getppid) and print "owner"; fcntl($r, 10, 9); syscall(%[5]d, 0x8000 | 17, 0, 0, 0, 0) >= 0 and print "sibling"; kill 0, $$ and print "only itself"`,
		os.Getpid(), strings.Join(threads, ", "), unix.SYS_TKILL, unix.SYS_TGKILL, unix.SYS_CLONE))
	assert.Equal(t, "only itself", string(d.Stdout), "%s", d.Stderr)
}

func TestNothingStaysInMemory(t *testing.T) {
	d := perl(t, fmt.Sprintf(`my $x = "x"; syscall(%d, 0, 1000000, 01600) < 0 and print "$!; "; syscall(%d, $x, 0) < 0 and print "$!; "; syscall(%d, 0x10000000 | 17, 0, 0, 0, 0) < 0 and print "$!"`, unix.SYS_SHMGET, unix.SYS_MEMFD_CREATE, unix.SYS_CLONE))
	assert.Equal(t, "Function not implemented; Function not implemented; Operation not permitted", string(d.Stdout), "%s", d.Stderr)
}

func TestFilesWithoutANameFillTheDiskToo(t *testing.T) {
	d := perl(t, `for (1..40) { open my $f, ">", "f$_" or die $!; unlink "f$_"; print $f "x" x 1000000; push @f, $f } sleep 20`)
	assert.Contains(t, d.Broke, "it wrote more than 2 MB to its folder")
	d = perl(t, `while (1) { open my $f, ">", "f" . $n++ }`)
	assert.Contains(t, d.Broke, "it wrote more than 2 MB to its folder", "and names")
}

func TestFilesThatAreMappedFillTheDiskToo(t *testing.T) {
	d := perl(t, fmt.Sprintf(`for (1..40) { open my $f, "+>", "f$_" or die $!; syswrite $f, "x" x 1000000; my $p = syscall(%d, 0, 1000000, 3, 1, fileno $f, 0); $p > 0 or die "$!"; unlink "f$_"; close $f } sleep 20`, unix.SYS_MMAP))
	assert.Contains(t, d.Broke, "it wrote more than 2 MB to its folder", "%s", d.Stderr)
	d = perl(t, `open my $f, ">", "f" or die $!; seek $f, 1500000, 0; print $f "x"; close $f; print -s "f"`)
	assert.Equal(t, "1500001", string(d.Stdout), "holes take nothing: %s", d.Broke)
}

func TestManyProgramsAtOnce(t *testing.T) {
	done := make(chan string, 16)
	for n := range 16 {
		go func() {
			d := sh(t, fmt.Sprintf(`echo %d > f; chmod 600 f; (set -m; cat f & wait); perl -e 'setpgrp(0,0); print "over"'`, n))
			done <- strings.TrimSpace(string(d.Stdout)) + string(d.Stderr)
		}()
	}
	var got []string
	for range 16 {
		select {
		case s := <-done:
			got = append(got, s)
		case <-time.After(30 * time.Second):
			require.Fail(t, "a program hangs")
		}
	}
	for n := range 16 {
		assert.Contains(t, got, fmt.Sprintf("%d\nover", n))
	}
}

func TestOnAnElderKernel(t *testing.T) {
	if os.Getenv("ABI")+os.Getenv("BOUNDS") != "" {
		t.Skip("this is one")
	}
	for _, abi := range []string{"1", "2", "4", "5"} {
		t.Run(abi, func(t *testing.T) {
			cmd := exec.Command(os.Args[0], "-test.run", "Cannot|Can|Stay|Reached|Keep|NoDevice|Rights|Own|Elsewhere|Signal")
			cmd.Env = append(os.Environ(), "ABI="+abi)
			out, err := cmd.CombinedOutput()
			assert.NoError(t, err, "%s", out)
		})
	}
}

func TestWithoutControlGroups(t *testing.T) {
	if os.Getenv("ABI")+os.Getenv("BOUNDS") != "" {
		t.Skip("there are none")
	}
	cmd := exec.Command(os.Args[0], "-test.skip", "Bomb|Together|Killed|Outlives")
	cmd.Env = append(os.Environ(), "BOUNDS=guard")
	out, err := cmd.CombinedOutput()
	assert.NoError(t, err, "%s", out)
}

func TestProgramsElsewhereGetNoSignal(t *testing.T) {
	cmd := exec.Command("/bin/sleep", "60")
	require.NoError(t, cmd.Start())
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	d := perl(t, fmt.Sprintf(`kill 15, %d or print "$!; "; kill -15, %d or print "$!; "; kill 0, 999999999 or print "$!; "; if (!($p = fork)) { sleep 20; exit } kill 15, $p; wait; print $? & 127`, cmd.Process.Pid, unix.Getpgrp()))
	assert.Equal(t, "Operation not permitted; Operation not permitted; No such process; 15", string(d.Stdout), "%s", d.Stderr)
}

// TestAProgramThatHasItselfTraced: it is ended, and nothing is left of it.
func TestAProgramThatHasItselfTraced(t *testing.T) {
	d := perl(t, fmt.Sprintf(`syscall(%d, 0, 0, 0, 0); print "$$"; $| = 1; kill 'STOP', $$; print " after"`, unix.SYS_PTRACE))
	assert.Equal(t, "it had itself traced, and stopped", d.Broke)
	procs, err := filepath.Glob("/proc/[0-9]*/stat")
	require.NoError(t, err)
	for _, p := range procs {
		raw, _ := os.ReadFile(p)
		_, rest, _ := strings.Cut(string(raw), ") ")
		if f := strings.Fields(rest); len(f) > 1 && f[1] == fmt.Sprint(os.Getpid()) {
			assert.NotEqual(t, "Z", f[0], "%s", raw)
		}
	}
}
