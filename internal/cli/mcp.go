package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/modelcontextprotocol/go-sdk/mcp"

	"stonebaton.example/internal/app"
	"stonebaton.example/internal/toolserver"
)

var mcpCommand = command{
	name: "mcp", most: 0, does: "offer the project's tools over the Model Context Protocol, on standard input and output", example: "stonebaton mcp -dir examples/harbour\nstonebaton mcp -at http://127.0.0.1:7117",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		dir := fs.String("dir", "", "open this project `folder`; without it the service is asked, which keeps the records")
		data := fs.String("data", "", "the `folder` of the records; .stonebaton in the project by default")
		forget := fs.Bool("forget", false, "keep no records: several may then serve one folder at once")
		return func(ctx context.Context, _ []string) error {
			if *forget {
				tmp, err := os.MkdirTemp("", "stonebaton-")
				if err != nil {
					return err
				}
				defer os.RemoveAll(tmp)
				*data = tmp
			}
			if *dir == "" {
				return k.bridge(ctx)
			}
			log, err := logger(k, "warn")
			if err != nil {
				return err
			}
			a, err := app.Open(ctx, app.Config{Dir: *dir, Data: *data, Own: k.own, Tell: k.installing, Logger: log})
			if err != nil {
				return fmt.Errorf("%w\nWhere a service runs on the project, omit -dir and name the service with -at URL, or add -forget", err)
			}
			defer a.Close()
			if _, err := a.Projects.Current(); err != nil {
				return err
			}
			return quiet(ctx, toolserver.New(a, log).Run(ctx, k.stdio()))
		}
	},
}

// stdio is the transport over what the command reads and writes.
func (k *call) stdio() mcp.Transport {
	return &mcp.IOTransport{Reader: readCloser{k.In}, Writer: writeCloser{k.Out}}
}

type readCloser struct{ r io.Reader }

func (r readCloser) Read(p []byte) (int, error) { return r.r.Read(p) }
func (readCloser) Close() error                 { return nil }

type writeCloser struct{ w io.Writer }

func (w writeCloser) Write(p []byte) (int, error) { return w.w.Write(p) }
func (writeCloser) Close() error                  { return nil }

// quiet takes the error away of an end that was meant.
func quiet(ctx context.Context, err error) error {
	if err == nil || ctx.Err() != nil || strings.Contains(err.Error(), "EOF") || strings.Contains(err.Error(), "closing") {
		return nil
	}
	return err
}

// bridge passes messages between standard input and output and the service.
func (k *call) bridge(ctx context.Context) error {
	if _, err := k.client().Project(ctx); err != nil {
		return err
	}
	return k.client().Bridge(ctx, k.In, k.Out)
}
