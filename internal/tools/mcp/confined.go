package mcp

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/modelcontextprotocol/go-sdk/mcp"

	"stonebaton.example/core/project"
	"stonebaton.example/internal/sandbox"
	"stonebaton.example/internal/tools"
)

// confined is a server that runs in the sandbox, in a folder of its own, for as long as its
// connection lasts.
type confined struct {
	spec sandbox.Spec
	work string
	log  io.Writer
}

// confined gives the transport of a source's program. Files of the project that its command
// line names are its own to read, as are those that the file grants.
func (s *Servers) confined(src *project.SourceDoc, c *conn, l launch) (mcp.Transport, error) {
	if m := sandbox.Missing(); m != "" {
		return nil, fmt.Errorf("the tool server %s was not started: %s; say sandbox: none if it may run without bounds", src.Name, m)
	}
	b := src.Bounds
	spec := sandbox.Spec{Args: []string{l.program}, Reads: l.reads, Resident: true, Network: b.Network.All, Hosts: b.Network.Hosts,
		Memory: int64(b.MemoryMB) << 20, Disk: int64(b.DiskMB) << 20, Processes: b.Processes, Log: c.log}
	for _, a := range l.args {
		if at := filepath.Join(s.dir, a); a != "" && !strings.HasPrefix(a, "-") && filepath.IsLocal(a) && tools.Straight(s.dir, a) {
			if info, err := os.Stat(at); err == nil && info.Mode().IsRegular() && !strings.HasPrefix(filepath.Base(a), ".") {
				a = at
				spec.Reads = append(spec.Reads, at)
			}
		}
		spec.Args = append(spec.Args, a)
	}
	reads, writes, err := tools.Grants(s.dir, b.Reads, b.Writes)
	if err != nil {
		return nil, fmt.Errorf("the tool server %s: %w", src.Name, err)
	}
	spec.Reads, spec.Writes = append(spec.Reads, reads...), writes
	spec.Env = append([]string{"LANG=C.UTF-8", "PROJECT=" + s.dir}, l.env...)
	return &confined{spec: spec, work: s.work, log: c.log}, nil
}

// Connect starts the server.
func (t *confined) Connect(ctx context.Context) (mcp.Connection, error) {
	dir, err := os.MkdirTemp(t.work, "server-")
	if err != nil {
		return nil, fmt.Errorf("no folder could be made for it: %w", err)
	}
	run, end := context.WithCancel(context.WithoutCancel(ctx)) // it outlives the request that started it
	in, toIn := io.Pipe()
	fromOut, out := io.Pipe()
	spec := t.spec
	spec.Dir, spec.In, spec.Tell = dir, in, out
	spec.Env = append([]string{"HOME=" + dir, "TMPDIR=" + dir}, spec.Env...)
	go func() {
		d, err := sandbox.Run(run, spec)
		switch {
		case err != nil:
		case d.Broke != "":
			err = errors.New("it was ended: " + d.Broke)
		case len(d.Refused) > 0:
			fmt.Fprintln(t.log, tools.Unreached(d.Refused, ""))
			err = io.EOF
		default:
			err = io.EOF
		}
		out.CloseWithError(err)
		in.CloseWithError(io.ErrClosedPipe)
		end()
		_ = os.RemoveAll(dir) // what stays is temporary
	}()
	return (&mcp.IOTransport{Reader: lines(fromOut, t.log), Writer: &ending{WriteCloser: toIn, end: end}}).Connect(ctx)
}

// ending is the input of a server. Once it is closed the server has a moment to end.
type ending struct {
	io.WriteCloser
	end  context.CancelFunc
	once sync.Once
}

func (e *ending) Close() error {
	e.once.Do(func() { time.AfterFunc(time.Second, e.end) })
	return e.WriteCloser.Close()
}

// lines passes on what looks like messages. A line that is none, such as one that a library
// prints, does not end the connection: it is kept with the log.
func lines(r io.ReadCloser, log io.Writer) io.ReadCloser {
	out, w := io.Pipe()
	go func() {
		in := bufio.NewReaderSize(r, 64<<10)
		for {
			var line []byte
			piece, err := in.ReadSlice('\n')
			for errors.Is(err, bufio.ErrBufferFull) && len(line) <= maxResult {
				line = append(line, piece...)
				piece, err = in.ReadSlice('\n')
			}
			if line = append(line, piece...); len(line) > maxResult {
				err = fmt.Errorf("a message is larger than %d MB", maxResult>>20)
			} else if t := bytes.TrimSpace(line); len(t) > 0 && t[0] != '{' && t[0] != '[' {
				_, _ = log.Write(line)
			} else if _, werr := w.Write(line); werr != nil {
				err = werr
			}
			if err != nil {
				w.CloseWithError(err)
				r.Close()
				return
			}
		}
	}()
	return out
}
