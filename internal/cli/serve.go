package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"

	"github.com/cli/browser"

	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
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
		return nil, fmt.Errorf("failed to listen on %s: %w. Name another with -listen HOST:PORT; port 0 is any free one", addr, err)
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
		addr := fs.String("listen", "", "`HOST:PORT` to listen on; "+DefaultAddress+" or any free port by default")
		trust := fs.Bool("trust", false, "what the files name may run outside the sandbox at once, also what appears while the service runs")
		open := fs.Bool("open", false, "open the console in a browser")
		data := fs.String("data", "", "the `folder` of the records; .stonebaton in the project by default")
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
			l, err := consoleListener(*addr)
			if err != nil {
				return err
			}
			defer l.Close()
			a, err := app.Open(ctx, app.Config{Dir: dir, Data: *data, Own: k.own, Trust: *trust, Logger: log})
			if err != nil {
				return err
			}
			k.problems(a)
			return k.serve(ctx, a, l, log, *open)
		}
	},
}

// problems notes what is wrong with the project's files.
func (k *call) problems(a *app.App) {
	probs, _, _ := a.Projects.Problems()
	for _, p := range probs {
		k.note("%s", problemText(p))
	}
}

// serve says that it is ready and serves until ctx ends.
func (k *call) serve(ctx context.Context, a *app.App, l net.Listener, log *slog.Logger, open bool) error {
	url := "http://" + l.Addr().String()
	if err := a.Announce(url); err != nil {
		log.Warn("failed to note the address for commands in the project's folder", "error", err)
	}
	k.print("ready %s\n", url)
	if open {
		browser.Stdout = k.Err // what the browser says is not the service's output
		if err := browser.OpenURL(url); err != nil {
			k.note("No browser could be started (%v); open %s\n", err, url)
		}
	}
	err := k.answer(ctx, a, l, log)
	return errors.Join(err, a.Close())
}
