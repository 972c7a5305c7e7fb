package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"golang.org/x/term"

	"stonebaton.example/client"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/tools/own"
)

// Version is the program's.
const Version = "0.1.0"

// DefaultAddress is where serve and demo listen, and where commands look.
const DefaultAddress = "127.0.0.1:7117"

// The codes with which the program ends.
const (
	fine        = 0
	failed      = 1
	wrongUse    = 2
	unreachable = 3
	held        = 4
)

// Streams are what a command reads and writes.
type Streams struct {
	In       io.Reader
	Out, Err io.Writer
}

// command is one command: set declares its flags and gives what it does.
type command struct {
	name, args, does, example string
	most                      int // arguments, -1 is any number
	set                       func(*call, *flag.FlagSet) func(ctx context.Context, args []string) error
}

// call is one use of a command.
type call struct {
	Streams
	flags   *flag.FlagSet
	own     []own.Tool // functions of the program itself
	answer  Serve
	at      string
	json    bool
	tty     bool // Out is a terminal
	colour  bool // and may be coloured
	inPlace bool // the newest line will be overwritten
	wide    int  // of the column of who acts, as far as steps were seen
	reached *client.Client
}

// width gives how many letters a line of the terminal has.
func (k *call) width() int {
	if f, ok := k.Out.(*os.File); ok {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 20 {
			return w
		}
	}
	return 80
}

// exit ends the program with a code; the words were said already.
type exit int

func (e exit) Error() string { return fmt.Sprintf("exit %d", int(e)) }

// misuse is a wrong use of a command.
type misuse struct{ say string }

func (m *misuse) Error() string { return m.say }

func use(format string, args ...any) error { return &misuse{fmt.Sprintf(format, args...)} }

func commands() []command {
	return []command{
		newCommand, checkCommand, serveCommand, demoCommand, sayCommand, talkCommand, runsCommand, showCommand, followCommand, stopCommand,
		requestCommand, toolsCommand, tryCommand, ticketsCommand, allowCommand, refuseCommand, amendCommand, backCommand, answerCommand, drillCommand,
		consoleCommand, personCommand, signInCommand, signOutCommand, shareCommand, recordCommand, keepCommand, addCommand, databaseCommand, mapCommand, sourceCommand, trustCommand, mcpCommand, outboxCommand, undoCommand, backupCommand, pruneCommand, modelsCommand, understudyCommand, schemaCommand, versionCommand,
	}
}

// Program is what makes the commands a program.
type Program struct {
	Own   []own.Tool // functions of the program itself, as tools of every project
	Serve Serve
}

// Serve answers the requests of clients and of the console until ctx ends.
type Serve func(ctx context.Context, a *app.App, l net.Listener, log *slog.Logger) error

// Run runs the command that args name and gives the code to end with.
func Run(ctx context.Context, args []string, s Streams, p Program) int {
	all := commands()
	if len(args) == 0 || args[0] == "-h" || args[0] == "--help" || args[0] == "help" {
		if len(args) > 1 && args[0] == "help" {
			return Run(ctx, []string{args[1], "-h"}, s, p)
		}
		overview(s.Out, all)
		return fine
	}
	if args[0] == "-version" || args[0] == "--version" {
		args[0] = "version"
	}
	for _, c := range all {
		if c.name == args[0] {
			return c.run(ctx, args[1:], s, p)
		}
	}
	var names []string
	for _, c := range all {
		names = append(names, c.name)
	}
	fmt.Fprintf(s.Err, "stonebaton: unknown command %q.%s\n`stonebaton -h` lists them.\n", args[0], near.Hint(args[0], names))
	return wrongUse
}

func overview(w io.Writer, all []command) {
	fmt.Fprint(w, "Stone Baton: build agents that call tools, watch every step, test them offline.\n\nusage: stonebaton COMMAND [flags] [arguments]\n\n")
	for _, c := range all {
		fmt.Fprintf(w, "  %-11s %s\n", c.name, c.does)
	}
	fmt.Fprint(w, "\n`stonebaton COMMAND -h` shows a command's flags and an example.\nBegin with `stonebaton demo`, or `stonebaton new DIR`.\n")
}

func (c command) run(ctx context.Context, args []string, s Streams, p Program) int {
	k := &call{Streams: s, own: p.Own, answer: p.Serve, tty: terminal(s.Out)}
	k.colour = k.tty && os.Getenv("NO_COLOR") == ""
	fs := flag.NewFlagSet(c.name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	k.flags = fs
	do := c.set(k, fs)
	rest, err := parse(fs, args)
	switch {
	case errors.Is(err, flag.ErrHelp):
		c.help(s.Out, fs)
		return fine
	case err != nil:
		err = use("%v", err)
	case c.most >= 0 && len(rest) > c.most:
		err = use("%q is one argument too many; put a text of several words in quotes", rest[c.most])
	default:
		err = do(ctx, rest)
	}
	return k.end(c, err)
}

// end says what went wrong and gives the code for it.
func (k *call) end(c command, err error) int {
	var code exit
	var wrong *misuse
	var gone *client.UnreachableError
	switch {
	case err == nil:
		return fine
	case errors.As(err, &code):
		return int(code)
	case errors.As(err, &wrong):
		k.note("stonebaton %s: %s\nusage: stonebaton %s\n", c.name, wrong.say, strings.TrimSpace(c.name+" [flags] "+c.args))
		return wrongUse
	case errors.As(err, &gone):
		k.note("stonebaton: %s\n", gone.Error())
		return unreachable
	case errors.Is(err, context.Canceled):
		k.clear()
		return failed
	}
	k.note("stonebaton: %s\n", painted(hanging(err.Error(), 4)))
	return failed
}

// parse reads flags before and behind the arguments.
func parse(fs *flag.FlagSet, args []string) ([]string, error) {
	var rest []string
	for {
		if err := fs.Parse(args); err != nil {
			if name, ok := strings.CutPrefix(err.Error(), "flag provided but not defined: -"); ok {
				var have []string
				fs.VisitAll(func(f *flag.Flag) { have = append(have, f.Name) })
				return nil, fmt.Errorf("there is no flag -%s.%s", name, near.Hint(name, have))
			}
			return nil, err
		}
		args = fs.Args()
		if len(args) == 0 {
			return rest, nil
		}
		rest, args = append(rest, args[0]), args[1:]
	}
}

func (c command) help(w io.Writer, fs *flag.FlagSet) {
	fmt.Fprintf(w, "%s\n\nusage: stonebaton %s\n", c.does, strings.TrimSpace(c.name+" [flags] "+c.args))
	if c.example != "" {
		fmt.Fprintf(w, "\nexample:\n  %s\n", strings.ReplaceAll(c.example, "\n", "\n  "))
	}
	var flags []*flag.Flag
	fs.VisitAll(func(f *flag.Flag) { flags = append(flags, f) })
	if len(flags) == 0 {
		return
	}
	sort.Slice(flags, func(i, j int) bool { return flags[i].Name < flags[j].Name })
	fmt.Fprint(w, "\nflags:\n")
	for _, f := range flags {
		kind, say := flag.UnquoteUsage(f)
		name := "-" + f.Name
		if kind != "" {
			name += " " + kind
		}
		if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "0" && f.DefValue != "0s" {
			say += " (default " + f.DefValue + ")"
		}
		fmt.Fprintf(w, "  %-20s %s\n", name, say)
	}
}

// remote declares the flags of a command that asks the service.
func (k *call) remote(fs *flag.FlagSet) {
	fs.StringVar(&k.at, "at", "", "the service's `URL`; by default STONEBATON_URL, then the service of the project that you stand in, then http://"+DefaultAddress)
}

// paging declares the flags of a command that lists.
func paging(fs *flag.FlagSet, limit int) func(url.Values) url.Values {
	most := fs.Int("limit", limit, "how many, at most")
	cursor := fs.String("cursor", "", "continue behind the `page` that named this")
	return func(q url.Values) url.Values {
		q.Set("limit", fmt.Sprint(*most))
		if *cursor != "" {
			q.Set("cursor", *cursor)
		}
		return q
	}
}

// more tells how to see the next page.
func (k *call) more(next string) {
	if next != "" {
		k.note("There are more: -cursor %s\n", next)
	}
}

func (k *call) asJSON(fs *flag.FlagSet) {
	fs.BoolVar(&k.json, "json", false, "print JSON for programs")
}

// client gives the service to ask: the one that is named, or that of the project in whose
// folder the person stands, or the one at the usual address.
func (k *call) client() *client.Client {
	if k.reached != nil {
		return k.reached
	}
	at := cmp.Or(k.at, os.Getenv("STONEBATON_URL"))
	here := ""
	if _, err := os.Stat(project.Main); err == nil {
		here, _ = filepath.Abs(".")
	}
	if at == "" && here != "" {
		at = app.Address(filepath.Join(here, ".stonebaton"))
	}
	at = cmp.Or(at, "http://"+DefaultAddress)
	if !strings.Contains(at, "://") {
		at = "http://" + at
	}
	k.reached = client.New(at)
	k.reached.Token = cmp.Or(os.Getenv("STONEBATON_TOKEN"), readTokens()[k.reached.URL()], app.KeyOf(k.reached.URL()))
	if here != "" && k.at == "" {
		k.elsewhere(here)
	}
	return k.reached
}

// elsewhere notes that the service runs another project than the one the person stands in.
func (k *call) elsewhere(here string) {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	p, err := k.reached.Project(ctx)
	if err != nil {
		return // the command itself will say so
	}
	same := func(a, b string) bool {
		x, err := os.Stat(a)
		y, err2 := os.Stat(b)
		return err == nil && err2 == nil && os.SameFile(x, y)
	}
	if p.Dir != "" && !same(p.Dir, here) {
		k.note("note: the service at %s runs the project in %s, not the one in this folder; `stonebaton serve` runs this one\n", k.reached.URL(), p.Dir)
	}
}

// named says whether the person named a service.
func (k *call) named() bool {
	named := os.Getenv("STONEBATON_URL") != ""
	k.flags.Visit(func(f *flag.Flag) { named = named || f.Name == "at" })
	return named
}

// printJSON prints a value for programs.
func (k *call) printJSON(v any) error {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	if err := enc.Encode(v); err != nil {
		return err
	}
	_, err := k.Out.Write(harmless(b.Bytes()))
	return err
}

// terminal says whether a stream is a terminal.
func terminal(s any) bool {
	f, ok := s.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}
