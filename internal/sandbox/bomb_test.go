//go:build linux

package sandbox_test

import (
	"context"
	"fmt"
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
	"stonebaton.example/internal/sandbox/sandboxtest"
)

// bombs are programs that start processes, threads or take memory without end, each in another
// way. Those in Python have its name first.
var bombs = map[string][]string{
	"a pipe of itself": {"sh", `f() { f 2>/dev/null | f 2>/dev/null & }; f; sleep 2; exit 1`},
	"shells in shells": {"sh", `while :; do sh -c 'while :; do (sh -c "sleep 30; :" & ) ; done' 2>/dev/null & done 2>/dev/null; sleep 30`},
	"perl":             {"perl", `while (1) { my $p = fork; defined $p and !$p and $n++ }`},
	"a new session":    {"perl", `use POSIX; while (1) { my $p = fork; if (defined $p and !$p) { POSIX::setsid(); POSIX::setpgid(0, 0) } }`},
	"a double fork":    {"perl", `while (1) { my $p = fork; if (defined $p and !$p) { my $q = fork; defined $q and $q and POSIX::_exit(0); sleep 30 if defined $q } waitpid $p, 0 if $p }`},
	"vfork":            {"python", "import os\nwhile True:\n try: os.posix_spawn('/bin/sleep', ['sleep', '30'], {})\n except OSError: pass"},
	"threads":          {"python", "import threading, time\nwhile True:\n try: threading.Thread(target=time.sleep, args=(30,)).start()\n except RuntimeError: pass"},
	"os.fork":          {"python", "import os\nwhile True:\n try: os.fork()\n except OSError: pass"},
	"memory":           {"perl", `$SIG{CHLD} = "IGNORE"; while (1) { my $p = fork; if (defined $p and !$p) { my $x = "x" x 8000000; sleep 30 } select undef, undef, undef, 0.001 }`},
}

// TestBombs has each bomb go off in a process of its own, behind a second bound that is set
// first and looked at, while two busy loops of a better priority take the processors.
func TestBombs(t *testing.T) {
	if m := sandbox.Missing(); m != "" {
		t.Skip(m)
	}
	rounds := "1"
	if os.Getenv("ATTACK") != "" {
		rounds = "20"
	}
	for _, by := range []string{"", "guard"} {
		for name := range bombs {
			t.Run(name+" "+by, func(t *testing.T) {
				outer := sandboxtest.Bound(t, 400, 3<<30)
				sandboxtest.Busy(t, 2)
				cmd := exec.Command(os.Args[0], "-test.run", "^TestBombIn$")
				cmd.Env = append(os.Environ(), "BOMB="+name, "ROUNDS="+rounds, "BOUNDS="+by)
				out, err := outer.Run(t, cmd)
				assert.NoError(t, err, "%s", out)
				assert.Less(t, outer.Highest(t), 300, "processes and threads, those of the test among them, and those of earlier rounds of which nobody has taken note yet")
				assert.Zero(t, outer.Now(t), "nothing is left")
				t.Logf("at the most %d processes and threads; %s", outer.Highest(t), strings.TrimSpace(string(out)))
			})
		}
	}
}

// TestBombIn is what TestBombs runs behind its bound.
func TestBombIn(t *testing.T) {
	bomb := bombs[os.Getenv("BOMB")]
	if bomb == nil {
		t.Skip("TestBombs runs this behind a second bound")
	}
	require.NoError(t, unix.Setpriority(unix.PRIO_PROCESS, 0, 15))
	rounds, err := strconv.Atoi(os.Getenv("ROUNDS"))
	require.NoError(t, err)
	s := sandbox.Spec{Args: []string{"/bin/sh", "-c", bomb[1]}, Env: []string{"PATH=/usr/bin:/bin"}, Memory: 512 << 20, Disk: 2 << 20, Processes: 16, Output: 1 << 20}
	switch bomb[0] {
	case "perl":
		s.Args = []string{"/usr/bin/perl", "-MPOSIX", "-e", bomb[1]}
	case "python":
		out, err := exec.Command("python3", "-c", "import sys; print(sys.executable); print(sys.base_prefix)").Output()
		if err != nil {
			t.Skip("there is no Python here")
		}
		at := strings.Fields(string(out))
		s.Args, s.Reads = []string{at[0], "-c", bomb[1]}, []string{at[0], at[1]}
	}
	want := "it asked for a 17th process; 16 are allowed"
	if os.Getenv("BOMB") == "memory" {
		s.Memory, s.Processes = 48<<20, 100
		want = "it used more than 48 MB of memory"
	}
	for range rounds {
		s.Dir = t.TempDir()
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		began := time.Now()
		d, err := sandbox.Run(ctx, s)
		cancel()
		require.NoError(t, err)
		require.Contains(t, d.Broke, want, "exit %d %s, late %v: %s %s", d.Code, d.Signal, d.Late, d.Stdout, d.Stderr)
		fmt.Printf("ended after %s; ", time.Since(began).Round(10*time.Millisecond))
	}
}

// TestAllProgramsTogetherHaveABound: fifty at once cannot do what one cannot.
func TestAllProgramsTogetherHaveABound(t *testing.T) {
	if m := sandbox.Missing(); m != "" {
		t.Skip(m)
	}
	for _, by := range []string{"", "guard"} {
		t.Run("by "+by, func(t *testing.T) {
			outer := sandboxtest.Bound(t, 400, 3<<30)
			cmd := exec.Command(os.Args[0], "-test.run", "^TestTogetherIn$")
			cmd.Env = append(os.Environ(), "TOGETHER=1", "BOUNDS="+by)
			out, err := outer.Run(t, cmd)
			assert.NoError(t, err, "%s", out)
		})
	}
}

func TestTogetherIn(t *testing.T) {
	if os.Getenv("TOGETHER") == "" {
		t.Skip("TestAllProgramsTogetherHaveABound runs this behind a second bound")
	}
	require.NoError(t, sandbox.Together(60, 0))
	highest := make(chan int)
	done := make(chan struct{})
	mark := fmt.Sprint("33", os.Getpid())
	go func() {
		most := 0
		for {
			select {
			case <-done:
				highest <- most
				return
			default:
				most = max(most, len(alive(t, "sleep "+mark)))
			}
		}
	}()
	type end struct {
		d   sandbox.Done
		err error
	}
	ends := make(chan end)
	for range 20 {
		dir := t.TempDir()
		go func() {
			ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
			defer cancel()
			d, err := sandbox.Run(ctx, sandbox.Spec{Args: []string{"/bin/sh", "-c", "for i in 1 2 3 4 5 6 7 8 9 10; do sleep " + mark + " & done; sleep 1; kill $(jobs -p); exit 7"}, Env: []string{"PATH=/usr/bin:/bin"}, Dir: dir, Memory: 256 << 20, Disk: 1 << 20, Processes: 16, Output: 1 << 16})
			ends <- end{d, err}
		}()
	}
	told := 0
	for range 20 {
		e := <-ends
		if e.err != nil {
			assert.ErrorContains(t, e.err, "the programs of this service have as many processes as they may have together")
			told++
		} else if strings.Contains(e.d.Broke, "all programs of this service together had 60 processes") {
			told++
		}
	}
	close(done)
	assert.LessOrEqual(t, <-highest, 60)
	assert.Positive(t, told, "it is said which bound it was")
	require.NoError(t, sandbox.Together(1000, 0))
	d := sh(t, "echo over")
	assert.Equal(t, "over\n", string(d.Stdout), "and later all is as before")
}

// TestWhatAKilledServiceLeaves: nothing, also where it was killed with many processes there.
func TestWhatAKilledServiceLeaves(t *testing.T) {
	if m := sandbox.Missing(); m != "" {
		t.Skip(m)
	}
	for _, by := range []string{"", "guard"} {
		t.Run("by "+by, func(t *testing.T) {
			outer := sandboxtest.Bound(t, 1200, 3<<30)
			sandboxtest.Busy(t, 2)
			cmd := exec.Command(os.Args[0], "-test.run", "^TestManyIn$")
			cmd.Env = append(os.Environ(), "MANY=1", "BOUNDS="+by)
			out, _ := outer.Run(t, cmd)
			require.Contains(t, string(out), "900 are there")
			assert.Eventually(t, func() bool { return outer.Now(t) == 0 }, 20*time.Second, 10*time.Millisecond)
			left, err := filepath.Glob(outer.Dir() + "/stonebaton-*")
			require.NoError(t, err)
			assert.Empty(t, left, "nor a control group")
		})
	}
}

func TestManyIn(t *testing.T) {
	if os.Getenv("MANY") == "" {
		t.Skip("TestWhatAKilledServiceLeaves runs this behind a second bound")
	}
	require.NoError(t, sandbox.Together(1000, 0))
	_, _ = sandbox.Run(context.Background(), sandbox.Spec{Args: []string{"/usr/bin/perl", "-e", `$| = 1; for (1..900) { my $p = fork // die "$!"; if (!$p) { setpgrp(0, 0) if $_ % 2; sleep 60; exit } } print "900 are there"; sleep 60`},
		Env: []string{"PATH=/usr/bin:/bin"}, Dir: t.TempDir(), Memory: 2 << 30, Disk: 1 << 20, Processes: 950, Output: 1 << 16, Tell: writer(func(p []byte) {
			fmt.Println(string(p))
			_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
		})})
}

// TestTheServiceOutlivesThatNoProcessIsToBeHad: it goes on, says why nothing can be started, and
// ends what there is.
func TestTheServiceOutlivesThatNoProcessIsToBeHad(t *testing.T) {
	if m := sandbox.Missing(); m != "" {
		t.Skip(m)
	}
	outer := sandboxtest.Bound(t, 200, 3<<30)
	cmd := exec.Command(os.Args[0], "-test.run", "^TestNoneIn$")
	cmd.Env = append(os.Environ(), "NONE=1")
	out, err := outer.Run(t, cmd)
	assert.NoError(t, err, "%s", out)
}

func TestNoneIn(t *testing.T) {
	if os.Getenv("NONE") == "" {
		t.Skip("TestTheServiceOutlivesThatNoProcessIsToBeHad runs this behind a second bound")
	}
	_, err := sandbox.Account(t.TempDir())
	require.NoError(t, err)
	sh(t, "true")
	ctx, cancel := context.WithCancel(context.Background())
	began, over := make(chan bool), make(chan sandbox.Done)
	dir := t.TempDir()
	go func() {
		d, err := sandbox.Run(ctx, sandbox.Spec{Args: []string{"/bin/sh", "-c", `trap "" TERM; echo there; while :; do read x </dev/zero & wait; done 2>/dev/null`}, Env: []string{"PATH=/usr/bin:/bin"}, Dir: dir, Memory: 256 << 20, Disk: 1 << 20, Processes: 8, Output: 1 << 16,
			Tell: writer(func([]byte) { began <- true })})
		assert.NoError(t, err)
		over <- d
	}()
	<-began
	var filled []*exec.Cmd
	refused := 0
	for range 60 {
		for { // every process that there may be
			c := exec.Command("/bin/sleep", "60")
			if err := c.Start(); err != nil {
				assert.ErrorIs(t, err, unix.EAGAIN)
				break
			}
			filled = append(filled, c)
		}
		_, err := sandbox.Run(ctx, sandbox.Spec{Args: []string{"/bin/true"}, Dir: dir, Memory: 1 << 30, Disk: 1 << 20, Processes: 8, Output: 1024})
		if err != nil { // else a thread had just ended, and left room for it
			assert.ErrorContains(t, err, "no process can be started: this machine, this user, or the control group that the service is in has as many as it may have")
			refused++
		}
	}
	assert.Positive(t, refused)
	cancel()
	assert.True(t, (<-over).Late, "it was ended")
	for _, c := range filled {
		_ = c.Process.Kill()
		_ = c.Wait()
	}
	assert.Equal(t, "again\n", string(sh(t, "echo again").Stdout))
}
