package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/modelcontextprotocol/go-sdk/mcp"
	"golang.org/x/sync/errgroup"

	"stonebaton/api"
	"stonebaton/app"
	"stonebaton/core/near"
	"stonebaton/core/project"
	"stonebaton/service"
	"stonebaton/standin"
	"stonebaton/tools/script"
)

var sourceCommand = command{
	name: "source", args: "[inspect NAME | stand-in NAME]", most: 2, does: "list the sources, show what one offers with our judgement of each description, or stand in for it", example: "stonebaton source inspect station\nstonebaton source stand-in office -listen 127.0.0.1:8801",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		dir := fs.String("dir", "", "read this project `folder` in place of asking the service")
		addr := fs.String("listen", "127.0.0.1:0", "`HOST:PORT` for a stand-in to listen on; port 0 is any free one")
		find := fs.String("find", "", "show only what has these `words` in its name or summary")
		return func(ctx context.Context, args []string) error {
			if len(args) > 0 && args[0] != "inspect" && args[0] != "stand-in" {
				return use("there is `source inspect NAME` and `source stand-in NAME`, not %q", args[0])
			}
			if len(args) == 1 {
				return use("which source? `stonebaton source` lists them")
			}
			if len(args) == 2 && args[0] == "stand-in" {
				return k.standIn(ctx, or(*dir, "."), args[1], *addr)
			}
			list := func() ([]api.Source, error) { return k.client().Sources(ctx) }
			inspect := func(name string) (api.Inspected, error) { return k.client().Inspect(ctx, name) }
			if k.here(*dir) {
				shop, env := k.workshop(or(*dir, "."))
				defer shop.Close()
				p, err := sourcesOnly(shop, or(*dir, "."), env)
				if err != nil {
					return err
				}
				list = func() ([]api.Source, error) { return service.Sources(p), nil }
				inspect = func(name string) (api.Inspected, error) { return service.Inspect(ctx, p, shop, name) }
			}
			if len(args) == 0 {
				return k.sources(list)
			}
			in, err := inspect(args[1])
			if err != nil {
				return err
			}
			in.Offers = matching(in.Offers, *find)
			if k.json {
				return k.printJSON(in.Offers)
			}
			k.inspected(in)
			return nil
		}
	},
}

// standIn answers for a described service that is not there, until ctx ends.
func (k *call) standIn(ctx context.Context, dir, name, addr string) error {
	shop, env := k.workshop(dir)
	defer shop.Close()
	p, err := sourcesOnly(shop, dir, env)
	if err != nil {
		return err
	}
	d := p.Sources[name]
	if d == nil || d.Document == "" {
		return fmt.Errorf("%s has no source %q with an OpenAPI document", dir, name)
	}
	cat, err := shop.Offers(ctx, d)
	if err != nil {
		return err
	}
	l, err := listen(addr)
	if err != nil {
		return err
	}
	k.print("ready http://%s\n", l.Addr())
	k.note("It answers as %s says, with made-up values; nothing is changed. Point server: of the source at it.\n", d.Document)
	srv := &http.Server{Handler: standin.Handler(cat), ReadHeaderTimeout: 10 * time.Second}
	go func() { <-ctx.Done(); srv.Close() }()
	if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// sourcesOnly reads the source documents of a folder, so that a source can be
// looked at before its project is whole.
func sourcesOnly(shop *app.Workshop, dir string, env func(string) (string, bool)) (*project.Project, error) {
	src, err := app.Load(dir, env)
	if err != nil {
		return nil, err
	}
	p := &project.Project{Sources: map[string]*project.SourceDoc{}}
	for _, s := range project.Sources(src) {
		p.Sources[s.Name] = s
	}
	for _, text := range src.Files {
		shop.Secrets.Learn(text)
	}
	return p, nil
}

func matching(offers []api.Offer, words string) []api.Offer {
	out := []api.Offer{}
	for _, o := range offers {
		text := strings.ToLower(o.ID + " " + o.Name + " " + o.Summary)
		all := true
		for _, w := range strings.Fields(strings.ToLower(words)) {
			all = all && strings.Contains(text, w)
		}
		if all {
			out = append(out, o)
		}
	}
	return out
}

func (k *call) sources(get func() ([]api.Source, error)) error {
	list, err := get()
	if err != nil {
		return err
	}
	if k.json {
		return k.printJSON(list)
	}
	if len(list) == 0 {
		k.print("The project has no sources.\n")
		return nil
	}
	w := tabwriter.NewWriter(k.Out, 0, 4, 3, ' ', 0)
	fmt.Fprintln(w, "source\tkind\tfrom\ttakes\tfile")
	for _, s := range list {
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s:%d\n", s.ID, s.Status, clip(s.From, 60), or(strings.Join(s.Take, ", "), "nothing"), s.Place.File, s.Place.Line)
	}
	return w.Flush()
}

func (k *call) inspected(in api.Inspected) {
	taken, broken := 0, 0
	for _, o := range in.Offers {
		switch o.Status {
		case "taken":
			taken++
		case "broken":
			broken++
		}
	}
	k.print("%s: %s\n%s, %d taken", in.ID, in.From, count(len(in.Offers), "tool"), taken)
	if broken > 0 {
		k.print(", %d that cannot be taken", broken)
	}
	k.print("\n")
	for _, o := range in.Offers {
		mark := "        "
		if o.Status != "offered" {
			mark = fmt.Sprintf("%-8s", o.Status)
		}
		k.print("\n%s%s  %s %s\n", mark, o.ID, o.Request, "(it calls itself a "+o.Says+")")
		if o.Name != o.ID {
			k.print("        there: %s\n", o.Name)
		}
		if o.Fault != "" {
			k.print("        cannot be taken: %s\n", o.Fault)
			continue
		}
		if o.Summary != "" {
			k.print("        %s\n", clip(o.Summary, 200))
		}
		for i, r := range o.Remarks {
			if i == 4 {
				k.print("        … and %d more\n", len(o.Remarks)-i)
				break
			}
			k.print("        %s: %s\n", r.Grade, r.Say)
		}
	}
	for _, a := range in.Also {
		k.print("\nalso    %s", a)
	}
	if len(in.Also) > 0 {
		k.print("\n")
	}
}

var mcpCommand = command{
	name: "mcp", most: 0, does: "offer the project's tools over the Model Context Protocol, on standard input and output", example: "stonebaton mcp -dir examples/harbour\nstonebaton mcp -at http://127.0.0.1:7117",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		dir := fs.String("dir", "", "open this project `folder`; without it the service is asked, which keeps the records")
		data := fs.String("data", "", "the `folder` of the records; .stonebaton in the project, if not said")
		return func(ctx context.Context, _ []string) error {
			if *dir == "" {
				return k.bridge(ctx)
			}
			log, err := logger(k, "warn")
			if err != nil {
				return err
			}
			a, err := app.Open(ctx, app.Config{Dir: *dir, Data: *data, Own: k.own, Logger: log})
			if err != nil {
				return fmt.Errorf("%w\nWhere a service runs on the project, leave -dir away and name it with -at URL", err)
			}
			defer a.Close()
			if _, err := a.Projects.Current(); err != nil {
				return err
			}
			return quiet(ctx, service.NewToolServer(a, log).Run(ctx, k.stdio()))
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
	there, err := (&mcp.StreamableClientTransport{Endpoint: strings.TrimSuffix(k.client().Base(), "/") + "/mcp"}).Connect(ctx)
	if err != nil {
		return err
	}
	here, err := k.stdio().Connect(ctx)
	if err != nil {
		return err
	}
	g, ctx := errgroup.WithContext(ctx)
	pass := func(from, to mcp.Connection) func() error {
		return func() error {
			defer from.Close()
			defer to.Close()
			for {
				m, err := from.Read(ctx)
				if err != nil {
					return err
				}
				if err := to.Write(ctx, m); err != nil {
					return err
				}
			}
		}
	}
	g.Go(pass(here, there))
	g.Go(pass(there, here))
	return quiet(ctx, g.Wait())
}

var outboxCommand = command{
	name: "outbox", most: 0, does: "show the messages that tools have sent: they are kept here, and go nowhere", example: "stonebaton outbox -to harbourmaster",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		to := fs.String("to", "", "only messages to this `name` or address")
		return func(ctx context.Context, _ []string) error {
			list, err := k.client().Outbox(ctx, *to)
			if err != nil {
				return err
			}
			if k.json {
				rows := []map[string]any{}
				for _, m := range list {
					rows = append(rows, map[string]any{"id": m.ID, "status": "kept", "at": m.At, "run": m.Run, "tool": m.Tool, "to": m.To, "subject": m.Subject, "text": m.Text})
				}
				return k.printJSON(rows)
			}
			if len(list) == 0 {
				k.print("The outbox is empty.\n")
			}
			for _, m := range list {
				k.print("%s  %s  to %s", m.ID, m.At.Local().Format("2 Jan 15:04"), m.To)
				if m.Subject != "" {
					k.print(": %s", m.Subject)
				}
				k.print("   (%s, %s)\n      %s\n", m.Tool, m.Run, strings.ReplaceAll(m.Text, "\n", "\n      "))
			}
			return nil
		}
	},
}

var undoCommand = command{
	name: "undo", args: "KEY", most: 1, does: "undo a change that a tool made to a file; the proof of the call names the key", example: "stonebaton undo 3f9a1c0be77d4e21",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		return func(ctx context.Context, args []string) error {
			if len(args) == 0 {
				return use("which change? `stonebaton show RUN -step N` names its key")
			}
			c, err := k.client().Undo(ctx, args[0])
			if err != nil {
				return err
			}
			if c.Before == nil {
				k.print("%s, which the tool had made, is gone again.\n", c.Path)
			} else {
				k.print("%s is as it was before.\n", c.Path)
			}
			return nil
		}
	},
}

// declarations prints what an editor needs to know of a script.
func (k *call) declarations(ctx context.Context, args []string) error {
	if args[0] != "script" {
		return use("only script takes a tool")
	}
	if len(args) == 1 {
		k.print("%s", script.Declarations(nil, nil))
		return nil
	}
	p, shop, err := k.folder(ctx, ".")
	if err != nil {
		return err
	}
	defer shop.Close()
	t := p.Tools[args[1]]
	if t == nil {
		var have []string
		for n := range p.Tools {
			have = append(have, n)
		}
		return fmt.Errorf("there is no tool %q.%s", args[1], near.Hint(args[1], have))
	}
	k.print("%s", script.Declarations(t, p.State.Doc()))
	return nil
}
