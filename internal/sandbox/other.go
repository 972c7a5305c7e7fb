//go:build !linux

package sandbox

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net"
	"os/exec"
)

// Spec is one program to run and what it is granted; only Linux bounds it.
type Spec struct {
	Args   []string
	Env    []string
	Dir    string
	Stdin  []byte
	In     io.Reader
	Reads  []string
	Writes []string
	Bare   bool

	Network   bool
	Hosts     []string
	Memory    int64
	Disk      int64
	Processes int
	Output    int
	Resident  bool

	Log  io.Writer
	Tell io.Writer // likewise standard output
}

// Done is the result of a program.
type Done struct {
	Code           int
	Signal         string
	Stdout, Stderr []byte
	Broke          string
	Late           bool
	Refused        []string
}

// Missing says what is missing to bound programs.
func Missing() string { return "programs are bounded on Linux alone" }

// Run runs a program without bounds, where that was asked for.
func Run(ctx context.Context, s Spec) (Done, error) {
	if !s.Bare {
		return Done{}, errors.New(Missing())
	}
	var out, errs bytes.Buffer
	cmd := exec.CommandContext(ctx, s.Args[0], s.Args[1:]...)
	cmd.Env, cmd.Dir, cmd.Stdin, cmd.Stdout, cmd.Stderr = s.Env, s.Dir, bytes.NewReader(s.Stdin), &out, &errs
	if s.Log != nil {
		cmd.Stderr = io.MultiWriter(&errs, s.Log)
	}
	err := cmd.Run()
	d := Done{Stdout: out.Bytes(), Stderr: errs.Bytes(), Late: ctx.Err() != nil}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		d.Code = exit.ExitCode()
		return d, nil
	}
	return d, err
}

// Account ends nothing: what was started is not written down here.
func Account(string) (int, error) { return 0, nil }

// Hide keeps nothing from programs that have no bounds.
func Hide(net.Addr) func() { return func() {} }

// Own says that nothing is kept from a program.
func Own(string) bool { return false }

// Track does nothing.
func Track(int) {}

// Together bounds nothing.
func Together(int, int64) error { return nil }

// Bounds says that there are none.
func Bounds() string { return "No program runs in the sandbox: " + Missing() + "." }

// Readable says that nothing is kept from a program.
func Readable(string, []string) bool { return true }
