// Package e2e drives the real program as its users do: through its commands,
// its HTTP API and its console.
package e2e

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stonebaton.example/internal/app"
)

var binary string

func TestMain(m *testing.M) {
	if os.Getenv("CONFORMANCE_CLIENT") != "" && len(os.Args) > 1 && strings.HasPrefix(os.Args[len(os.Args)-1], "http") {
		os.Exit(asClient(os.Args[len(os.Args)-1]))
	}
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "stonebaton-e2e")
		if err != nil {
			fmt.Println(err)
			return 1
		}
		defer os.RemoveAll(dir)
		binary = filepath.Join(dir, "stonebaton")
		if out, err := exec.Command("go", "build", "-o", binary, "../cmd/stonebaton").CombinedOutput(); err != nil {
			fmt.Printf("the program cannot be built: %v\n%s", err, out)
			return 1
		}
		// the commands and services of the tests leave word for each other there
		if err := os.Setenv("XDG_CONFIG_HOME", filepath.Join(dir, "config")); err != nil {
			fmt.Println(err)
			return 1
		}
		http.DefaultTransport = keyed{http.DefaultTransport}
		return m.Run()
	}())
}

// keyed shows the key of a service's records with requests that do not say who asks.
type keyed struct{ http.RoundTripper }

func (k keyed) RoundTrip(r *http.Request) (*http.Response, error) {
	if key := app.KeyOf("http://" + r.URL.Host); key != "" && r.Header.Get("Authorization") == "" && r.Header.Get("Cookie") == "" {
		r = r.Clone(r.Context())
		r.Header.Set("Authorization", "Bearer "+key)
	}
	return k.RoundTripper.RoundTrip(r)
}

// server is a running `serve` or `demo`.
type server struct {
	url string
	cmd *exec.Cmd
	err *lockedBuffer
}

type lockedBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lockedBuffer) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lockedBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// launch starts the program and waits for its line `ready URL`.
func launch(t testing.TB, args ...string) *server {
	t.Helper()
	s := &server{cmd: exec.Command(binary, args...), err: &lockedBuffer{}}
	s.cmd.Stderr = s.err
	s.cmd.Env = append(os.Environ(), "STONEBATON_URL=")
	out, err := s.cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, s.cmd.Start())
	t.Cleanup(func() {
		if s.cmd.ProcessState != nil {
			return // the test ended it
		}
		_ = s.end(syscall.SIGKILL)
		if how := s.cmd.ProcessState.Sys().(syscall.WaitStatus); !how.Signaled() || how.Signal() != syscall.SIGKILL {
			t.Errorf("%v ended on its own: %v\n%s", args, s.cmd.ProcessState, s.err)
		}
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err, "%s", s.err)
	go func() { _, _ = io.Copy(io.Discard, out) }()
	require.Regexp(t, `^ready https?://127\.0\.0\.1:`, line)
	s.url = strings.TrimSpace(strings.TrimPrefix(line, "ready "))
	return s
}

// end ends the program with a signal and gives how it ended.
func (s *server) end(sig syscall.Signal) error {
	if s.cmd.ProcessState != nil {
		return nil
	}
	_ = s.cmd.Process.Signal(sig) // it may have ended on its own
	return s.cmd.Wait()
}

// result is what a command printed and how it ended.
type result struct {
	out, err string
	code     int
}

// run runs a command against the server.
func (s *server) run(t testing.TB, args ...string) result { return command(t, s.url, "", args...) }

func command(t testing.TB, url, in string, args ...string) result {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, binary, args...)
	c.Env = append(os.Environ(), "STONEBATON_URL="+url)
	c.Dir = t.TempDir()
	c.Stdin = strings.NewReader(in)
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	err := c.Run()
	if ctx.Err() != nil {
		t.Fatalf("%v did not end\n%s\n%s", args, &out, &errs)
	}
	if c.ProcessState == nil {
		t.Fatal(err)
	}
	return result{out.String(), errs.String(), c.ProcessState.ExitCode()}
}

// inFourDays names the day of the week in four days, such as "next Friday". The bookings
// of the demo lie at days counted from its start, so a fixed name would find other
// berths free on every day of the week.
func inFourDays() string {
	kelmere, err := time.LoadLocation("Europe/Dublin")
	if err != nil {
		panic(err)
	}
	return "next " + time.Now().In(kelmere).AddDate(0, 0, 4).Weekday().String()
}

func demo(t testing.TB, dir string) *server {
	t.Helper()
	return launch(t, "demo", "-dir", dir, "-listen", "127.0.0.1:0")
}
