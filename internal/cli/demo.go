package cli

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
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

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/right"
	"stonebaton.example/examples/harbour"
	"stonebaton.example/examples/harbour/office"
	"stonebaton.example/examples/harbour/pages"
	"stonebaton.example/examples/harbour/station"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/people"
	"stonebaton.example/internal/understudy"
)

var demoCommand = command{
	name: "demo", most: 0, does: "run the harbour of Kelmere with its stand-in services and some runs to look at", example: "stonebaton demo",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		addr := fs.String("listen", "", "`HOST:PORT` to listen on; "+DefaultAddress+" or any free port by default")
		dir := fs.String("dir", "harbour-demo", "the `folder` for the project's files; those that are there stay")
		data := fs.String("data", "", "the `folder` of the records; .stonebaton in it by default")
		open := fs.Bool("open", false, "open the console in a browser")
		level := fs.String("log", "warn", "log `level`: debug, info, warn, error")
		signIn := fs.Bool("sign-in", false, "let everybody say who they are, also you on this machine")
		tools := fs.Bool("station", false, "be the demo's signal station instead of all that: a tool server of the Model Context Protocol on standard input and output")
		return func(ctx context.Context, _ []string) error {
			if *tools {
				return quiet(ctx, station.Server().Run(ctx, k.stdio()))
			}
			log, err := logger(k, *level)
			if err != nil {
				return err
			}
			d := demo{k: k, dir: *dir, data: or(*data, filepath.Join(*dir, ".stonebaton")), log: log, open: *open, signIn: *signIn}
			return d.run(ctx, *addr)
		}
	},
}

// demo is the harbour with its stand-ins.
type demo struct {
	k         *call
	dir, data string
	log       *slog.Logger
	open      bool
	signIn    bool // everybody has to say who they are
}

// ports are where the stand-ins listen. They are kept, since a run keeps
// the addresses that it began with.
type ports struct {
	Office     string `json:"office"`
	Understudy string `json:"understudy"`
}

const (
	officeToken   = "kelmere-office-token"
	understudyKey = "kelmere-understudy-key"
	searchKey     = "kelmere-search-key"
)

func (d *demo) run(ctx context.Context, addr string) error {
	k := d.k
	if err := copyOut(harbour.Files, d.dir); err != nil {
		return err
	}
	if err := os.MkdirAll(d.data, 0o700); err != nil {
		return err
	}
	console, err := consoleListener(addr, false)
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
		"UNDERSTUDY_URL": "http://" + understudyL.Addr().String() + "/v1", "UNDERSTUDY_KEY": understudyKey,
		"SEARCH_URL": "http://" + officeL.Addr().String() + "/web", "SEARCH_KEY": searchKey}
	if err := d.dotenv(env); err != nil {
		return err
	}
	k.note("The harbour of Kelmere: everything about it is made up.\n")
	k.note("  files       %s   (change them: they are read again at once)\n", d.dir)
	k.note("  office      %s   the harbour office's own system\n", env["OFFICE_URL"])
	k.note("  search      %s   a search of 320 pages\n", env["SEARCH_URL"])
	k.note("  understudy  %s   the stand-in model\n", env["UNDERSTUDY_URL"])

	g, ctx := errgroup.WithContext(ctx)
	stand := &understudy.Server{Key: understudyKey, Models: map[string]understudy.Part{}}
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
	outside := http.NewServeMux()
	outside.Handle("/web/", http.StripPrefix("/web", pages.Handler(env["SEARCH_URL"], searchKey)))
	outside.Handle("/", o.Handler())
	side(officeL, outside)
	a, err := app.Open(ctx, app.Config{Dir: d.dir, Data: d.data, Env: env, Own: k.own, Tell: k.installing, Access: app.Access{Local: !d.signIn}, Logger: d.log})
	if err != nil {
		return err
	}
	p, _ := a.Projects.Current()
	if p != nil {
		stand.Models["house"] = understudy.PartOf(p, nil)
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
					stand.SetPart("house", understudy.PartOf(now, nil))
				}
			}
		}
	})
	if err := d.people(ctx, a); err != nil {
		return errors.Join(err, a.Close())
	}
	url := "http://" + console.Addr().String()
	k.note("\nOpen %s and ask the desk something, or in another terminal:\n", consoleLink(url, a.LocalKey()))
	if console.Addr().String() != DefaultAddress {
		k.note("  export STONEBATON_URL=%s\n", url)
	}
	name := "stonebaton"
	if _, err := exec.LookPath(name); err != nil {
		name = os.Args[0]
	}
	k.note("  %[1]s say \"Reserve a berth for the Marrow Light from tomorrow noon, two nights, please.\"\n  %[1]s tickets\nCtrl-C ends it; the next start resumes where it was.\n\n", name)
	g.Go(func() error { return k.serve(ctx, a, console, d.log, d.open) })
	err = g.Wait()
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return err
}

// theOffice are the people of the harbour office.
var theOffice = []people.Person{
	{Name: "ines", Rights: []right.Right{right.Talk}, Address: "ines@kelmere.example"},
	{Name: "jonas", Rights: []right.Right{right.Talk, right.View}, Is: []string{"treasurer"}, Address: "jonas@kelmere.example"},
	{Name: "mara", Rights: []right.Right{right.Talk, right.Build, right.Approve, right.Admin}, Is: []string{"harbourmaster"}, Address: "mara@kelmere.example"},
	{Name: "siv", Rights: []right.Right{right.Talk, right.Build}, Is: []string{"deputy"}, Address: "siv@kelmere.example"},
}

// people lets the office in, and prints tokens, new ones at each start: no other is kept.
func (d *demo) people(ctx context.Context, a *app.App) error {
	d.k.note("  people      sign in as one of them in another browser, or with STONEBATON_TOKEN:\n")
	for _, p := range theOffice {
		var token string
		err := a.ChangePeople(ctx, engine.Local, engine.Local, func() (err error) {
			if _, there, ferr := a.People.Find(p.Name); ferr != nil || !there {
				token, err = a.People.Add(p, time.Now())
			} else {
				token, err = a.People.Renew(p.Name)
			}
			return err
		})
		if err != nil {
			return err
		}
		what := "talks only"
		if len(p.Is) > 0 {
			what = strings.Join(p.Is, ", ")
		}
		d.k.note("    %-6s %-14s %s\n", p.Name, what, token)
	}
	return nil
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
func consoleListener(addr string, far bool) (net.Listener, error) {
	switch {
	case far:
		return listenAt(addr)
	case addr != "":
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
			d.log.Warn("failed to read the ports of the last time; new ones are taken", "file", file, "error", err)
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
// limit, held, one whose reply broke off.
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
		{Text: "Find a berth for a 38 m ketch drawing 3.2 m tomorrow noon for two nights and tell me what it costs"},
		{Text: "When can a vessel come in tomorrow, and what does a stay of 3 nights cost for 12.4 m?"},
		{Text: "Waive 600 EUR of the dues of the Gannet, because the pontoon was broken.", Person: "ines"},
		{Relay: "berth_letter", Input: json.RawMessage(`{"vessel": "Gannet", "nights": 2}`)},
		{Text: "What are the dues for 5 nights at 18.5 m length?", Turns: 1},
		{Text: "Reserve a berth for the Gannet from tomorrow 18:00, one night, please.", Rungs: map[string]ledger.Rung{"assign_berth": ledger.RungStub}}, // whose reply breaks off
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
