package cli

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"stonebaton/app"
	"stonebaton/core/ledger"
	"stonebaton/core/project"
	"stonebaton/engine"
	"stonebaton/examples/harbour"
	"stonebaton/examples/harbour/office"
	"stonebaton/examples/harbour/station"
	"stonebaton/service"
	"stonebaton/understudy"
	"stonebaton/web"
)

// listen opens a listener on loopback. Any other address would let strangers
// in: people with tokens of their own are not built yet.
func listen(addr string) (net.Listener, error) {
	host, _, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, use("-listen takes HOST:PORT, not %q", addr)
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, fmt.Errorf("%s is not a loopback address. This version has no sign-in, so it listens on 127.0.0.1 or [::1] alone; reach it from elsewhere through a tunnel of yours", addr)
	}
	l, err := net.Listen("tcp", addr)
	if err != nil {
		return nil, fmt.Errorf("cannot listen on %s: %w. Name another with -listen HOST:PORT; port 0 is any free one", addr, err)
	}
	return l, nil
}

func logger(k *call, level string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, use("-log takes debug, info, warn or error, not %q", level)
	}
	return slog.New(slog.NewTextHandler(k.Err, &slog.HandlerOptions{Level: l})), nil
}

var serveCommand = command{
	name: "serve", args: "[DIR]", most: 1, does: "run a project's service and its console, on loopback", example: "stonebaton serve workshop",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		addr := fs.String("listen", DefaultAddress, "`HOST:PORT` to listen on; port 0 is any free one")
		data := fs.String("data", "", "the `folder` of the records; .stonebaton in the project, if not said")
		level := fs.String("log", "warn", "log `level`: debug, info, warn, error")
		return func(ctx context.Context, args []string) error {
			dir := "."
			if len(args) > 0 {
				dir = args[0]
			}
			if _, err := os.Stat(filepath.Join(dir, project.Main)); err != nil {
				return fmt.Errorf("%s has no %s, so it is not a project. Make one with   stonebaton new %s", dir, project.Main, dir)
			}
			log, err := logger(k, *level)
			if err != nil {
				return err
			}
			l, err := listen(*addr)
			if err != nil {
				return err
			}
			defer l.Close()
			a, err := app.Open(ctx, app.Config{Dir: dir, Data: *data, Own: k.own, Logger: log})
			if err != nil {
				return err
			}
			k.problems(a)
			return k.serve(ctx, a, l, log)
		}
	},
}

// problems notes what is wrong with the project's files.
func (k *call) problems(a *app.App) {
	probs, _, _ := a.Projects.Problems()
	for _, p := range probs {
		k.note("%s\n", problemText(p))
	}
}

// serve says that it is ready and serves until ctx ends.
func (k *call) serve(ctx context.Context, a *app.App, l net.Listener, log *slog.Logger) error {
	s := service.New(a, web.Files(), log, Version)
	k.print("ready http://%s\n", l.Addr())
	err := s.Serve(ctx, l)
	return errors.Join(err, a.Close())
}

var demoCommand = command{
	name: "demo", most: 0, does: "run the harbour of Kelmere with its stand-in services and some runs to look at", example: "stonebaton demo",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		addr := fs.String("listen", "", "`HOST:PORT` to listen on; "+DefaultAddress+" or any free port, if not said")
		dir := fs.String("dir", "harbour-demo", "the `folder` for the project's files; those that are there stay")
		data := fs.String("data", "", "the `folder` of the records; .stonebaton in it, if not said")
		level := fs.String("log", "warn", "log `level`: debug, info, warn, error")
		tools := fs.Bool("station", false, "be the demo's signal station instead of all that: a tool server of the Model Context Protocol on standard input and output")
		return func(ctx context.Context, _ []string) error {
			if *tools {
				return quiet(ctx, station.Server().Run(ctx, k.stdio()))
			}
			log, err := logger(k, *level)
			if err != nil {
				return err
			}
			d := demo{k: k, dir: *dir, data: or(*data, filepath.Join(*dir, ".stonebaton")), log: log}
			return d.run(ctx, *addr)
		}
	},
}

// demo is the harbour with its stand-ins.
type demo struct {
	k         *call
	dir, data string
	log       *slog.Logger
}

// ports are where the stand-ins listen. They are kept, since a run goes on with
// the addresses it began with.
type ports struct {
	Office     string `json:"office"`
	Understudy string `json:"understudy"`
}

const (
	officeToken   = "kelmere-office-token"
	understudyKey = "kelmere-understudy-key"
)

func (d *demo) run(ctx context.Context, addr string) error {
	k := d.k
	if err := copyOut(harbour.Files, d.dir); err != nil {
		return err
	}
	if err := os.MkdirAll(d.data, 0o700); err != nil {
		return err
	}
	console, err := consoleListener(addr)
	if err != nil {
		return err
	}
	defer console.Close()
	officeL, understudyL, err := d.listeners()
	if err != nil {
		return err
	}
	defer officeL.Close()
	defer understudyL.Close()
	o, err := office.Open(filepath.Join(d.data, "office.db"), officeToken, time.Now())
	if err != nil {
		return err
	}
	defer o.Close()
	self, err := os.Executable()
	if err != nil {
		return err
	}
	env := map[string]string{"STONEBATON": self, "OFFICE_URL": "http://" + officeL.Addr().String(), "OFFICE_TOKEN": officeToken,
		"UNDERSTUDY_URL": "http://" + understudyL.Addr().String() + "/v1", "UNDERSTUDY_KEY": understudyKey}
	if err := d.dotenv(env); err != nil {
		return err
	}
	k.note("The harbour of Kelmere: everything about it is made up.\n")
	k.note("  files       %s   (change them: they are read again at once)\n", d.dir)
	k.note("  office      %s   the harbour office's own system\n", env["OFFICE_URL"])
	k.note("  understudy  %s   the stand-in model\n", env["UNDERSTUDY_URL"])

	g, ctx := errgroup.WithContext(ctx)
	stand := &understudy.Server{Key: understudyKey, Models: map[string][]understudy.Line{}}
	stand.Turn(understudy.Knob{LatencyMS: 120, WordMS: 12}) // at a pace at which one can watch
	side := func(l net.Listener, h http.Handler) {
		srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
		g.Go(func() error {
			if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) {
				return err
			}
			return nil
		})
		g.Go(func() error { <-ctx.Done(); return srv.Close() })
	}
	side(officeL, o.Handler())
	a, err := app.Open(ctx, app.Config{Dir: d.dir, Data: d.data, Env: env, Own: k.own, Logger: d.log})
	if err != nil {
		return err
	}
	p, _ := a.Projects.Current()
	if p != nil {
		stand.Models["house"], _ = understudy.LinesOf(p, "")
	}
	side(understudyL, stand.Handler())
	k.problems(a)
	if p != nil {
		stand.Turn(understudy.Knob{})
		if err := d.runs(ctx, a); err != nil {
			return errors.Join(err, a.Close())
		}
		stand.Turn(understudy.Knob{LatencyMS: 120, WordMS: 12})
	}
	g.Go(func() error { // the stand-in model plays the lines as they are now
		r := a.Hub.Read("")
		defer r.Close()
		for {
			select {
			case <-ctx.Done():
				return nil
			case n := <-r.C:
				if now, err := a.Projects.Current(); n.Topic == "project" && err == nil {
					lines, _ := understudy.LinesOf(now, "") // the project was checked
					stand.SetLines("house", lines)
				}
			}
		}
	})
	url := "http://" + console.Addr().String()
	k.note("\nOpen %s and ask the desk something, or in another terminal:\n", url)
	if console.Addr().String() != DefaultAddress {
		k.note("  export STONEBATON_URL=%s\n", url)
	}
	name := "stonebaton"
	if _, err := exec.LookPath(name); err != nil {
		name = os.Args[0]
	}
	k.note("  %[1]s say \"Reserve a berth for the Marrow Light from tomorrow noon, two nights, please.\"\n  %[1]s tickets\nCtrl-C ends it; the next start goes on where it stood.\n\n", name)
	g.Go(func() error { return k.serve(ctx, a, console, d.log) })
	err = g.Wait()
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return err
}

// ofDemo is the first line of an .env that the demo wrote, and may write again.
const ofDemo = "# Written by stonebaton demo: where its stand-ins are. Taken anew at each start.\n"

// dotenv puts what the demo's files need into its .env, so that commands on the
// folder work beside the service.
func (d *demo) dotenv(env map[string]string) error {
	file := filepath.Join(d.dir, ".env")
	if raw, err := os.ReadFile(file); err == nil && !strings.HasPrefix(string(raw), ofDemo) {
		return nil // somebody's own
	}
	text := ofDemo
	for _, k := range slices.Sorted(maps.Keys(env)) {
		text += k + "=" + env[k] + "\n"
	}
	return os.WriteFile(file, []byte(text), 0o600)
}

// consoleListener takes the usual address, or any free one where that is taken
// and none was named.
func consoleListener(addr string) (net.Listener, error) {
	if addr != "" {
		return listen(addr)
	}
	if l, err := listen(DefaultAddress); err == nil {
		return l, nil
	}
	return listen("127.0.0.1:0")
}

// listeners opens the stand-ins' listeners where they were the last time.
func (d *demo) listeners() (officeL, understudyL net.Listener, err error) {
	file := filepath.Join(d.data, "ports.json")
	var p ports
	if raw, err := os.ReadFile(file); err == nil {
		if err := json.Unmarshal(raw, &p); err != nil {
			d.log.Warn("the kept ports cannot be read; new ones are taken", "file", file, "error", err)
		}
	}
	again := func(addr string) (net.Listener, error) {
		if addr != "" {
			if l, err := listen(addr); err == nil {
				return l, nil
			}
		}
		return listen("127.0.0.1:0")
	}
	if officeL, err = again(p.Office); err != nil {
		return nil, nil, err
	}
	if understudyL, err = again(p.Understudy); err != nil {
		officeL.Close()
		return nil, nil, err
	}
	raw, err := json.Marshal(ports{officeL.Addr().String(), understudyL.Addr().String()})
	if err == nil {
		err = os.WriteFile(file, raw, 0o600)
	}
	return officeL, understudyL, err
}

// runs makes a few runs to look at, the first time: finished, failed, over a
// limit, held.
func (d *demo) runs(ctx context.Context, a *app.App) error {
	counts, err := a.Store.Counts(ctx)
	if err != nil || len(counts) > 0 {
		return err
	}
	d.k.note("  runs        making a few to look at: ")
	defer d.k.note("\n")
	session := ""
	for _, st := range []engine.Start{
		{Text: "When can a vessel drawing 4.2 m come in over the bar tomorrow?"},
		{Text: "Reserve a berth for the Petrel from tomorrow 14:00, two nights, please."},
		{Text: "What are the dues for 2 nights at 12.4 m length?", Session: "the one before"},
		{Text: "Tell me everything about the vessel Gannet.", Model: "short"},
		{Text: "Keep looking for the Gannet."},
		{Text: "Please reserve a berth for the Marrow Light from tomorrow noon, two nights."},
	} {
		if st.Session != "" {
			st.Session = session
		}
		st.Tools = ledger.ToolsLive
		b, err := a.Engine.Begin(ctx, st)
		if err != nil {
			return err
		}
		session = b.Session
		if err := a.Engine.Wait(ctx); err != nil {
			return err
		}
		row, err := a.Store.Run(ctx, b.Run)
		if err != nil {
			return err
		}
		d.k.note("%s ", row.Status)
	}
	return nil
}

var understudyCommand = command{
	name: "understudy", most: 0, does: "run the stand-in model as an HTTP endpoint of the wire chat-completions", example: "stonebaton understudy -dir examples/harbour -latency 200ms",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		addr := fs.String("listen", "127.0.0.1:0", "`HOST:PORT` to listen on; port 0 is any free one")
		dir := fs.String("dir", "", "play the lines of this project `folder`")
		key := fs.String("key", "", "the bearer `key` it wants; none, if not said")
		name := fs.String("name", "house", "the model's `name`")
		latency := fs.Duration("latency", 0, "`time` before the first word")
		word := fs.Duration("word", 0, "`time` between words")
		var knob understudy.Knob
		fs.IntVar(&knob.Fail, "fail", 0, "fail this `many` requests")
		fs.IntVar(&knob.Status, "status", 500, "with this `status`")
		fs.IntVar(&knob.RetryAfter, "retry-after", 0, "and this many `seconds` in Retry-After")
		fs.IntVar(&knob.Cut, "cut", 0, "break this `many` streams off in the middle")
		fs.IntVar(&knob.Empty, "empty", 0, "answer nothing to this `many` requests")
		fs.IntVar(&knob.Garble, "garble", 0, "send broken arguments in this `many` replies")
		return func(ctx context.Context, _ []string) error {
			s := &understudy.Server{Key: *key, Models: map[string][]understudy.Line{*name: nil}}
			if *dir != "" {
				p, shop, err := k.folder(ctx, *dir)
				if err != nil {
					return err
				}
				defer shop.Close()
				s.Models[*name], _ = understudy.LinesOf(p, "")
			}
			knob.LatencyMS, knob.WordMS = int(latency.Milliseconds()), int(word.Milliseconds())
			s.Turn(knob)
			l, err := listen(*addr)
			if err != nil {
				return err
			}
			k.print("ready http://%s/v1\n", l.Addr())
			k.note("In stonebaton.yaml:   NAME: {speaks: chat-completions, url: \"http://%s/v1\", name: %s}\n", l.Addr(), *name)
			srv := &http.Server{Handler: s.Handler(), ReadHeaderTimeout: 10 * time.Second}
			go func() { <-ctx.Done(); srv.Close() }()
			if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) {
				return err
			}
			return nil
		}
	},
}
