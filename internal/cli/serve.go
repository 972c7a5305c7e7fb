package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/people"
	"stonebaton.example/internal/sandbox"
)

// listen opens a listener on loopback.
func listen(addr string) (net.Listener, error) {
	beyond, err := beyond(addr)
	if err != nil {
		return nil, err
	}
	if beyond {
		return nil, fmt.Errorf("%s is not a loopback address; this listens on 127.0.0.1 or [::1] alone", addr)
	}
	return listenAt(addr)
}

// beyond says whether an address can be reached from elsewhere than this machine.
func beyond(addr string) (bool, error) {
	host, _, err := net.SplitHostPort(addr)
	if err != nil {
		return false, use("-listen takes HOST:PORT, not %q", addr)
	}
	ip := net.ParseIP(host)
	return host != "localhost" && (ip == nil || !ip.IsLoopback()), nil
}

func listenAt(addr string) (net.Listener, error) {
	l, err := net.Listen("tcp", addr)
	if err != nil {
		return nil, fmt.Errorf("failed to listen on %s: %w. Name another with -listen HOST:PORT; port 0 is any free one", addr, err)
	}
	return l, nil
}

// reach are the flags that say how requests reach a service.
type reach struct {
	addr, cert, key, url string
	proxied, local       bool
}

func (x *reach) flags(fs *flag.FlagSet) {
	fs.StringVar(&x.addr, "listen", "", "`HOST:PORT` to listen on; "+DefaultAddress+" or any free port by default. Beyond loopback it needs people (stonebaton person add), and TLS or a proxy")
	fs.StringVar(&x.cert, "cert", "", "the `file` of the certificate for TLS, PEM")
	fs.StringVar(&x.key, "key", "", "the `file` of its key")
	fs.BoolVar(&x.proxied, "behind-proxy", false, "requests come through a proxy of yours, which does TLS and sets X-Forwarded-For")
	fs.BoolVar(&x.local, "local", false, "on loopback whoever does not say who they are is the local person, also where there are people")
	fs.StringVar(&x.url, "url", "", "the `URL` under which people reach it, for the links in notices; by default where it listens")
}

// open checks how requests are to reach a service, and listens.
func (x *reach) open(book *people.Book, dir, data string) (net.Listener, app.Access, error) {
	a := app.Access{Secure: x.cert != "" || x.proxied, Proxied: x.proxied, Local: x.local, URL: strings.TrimSuffix(x.url, "/"), Beyond: x.proxied}
	switch {
	case (x.cert == "") != (x.key == ""):
		return nil, a, use("TLS needs both -cert and -key")
	case x.cert != "" && x.proxied:
		return nil, a, use("either this does TLS (-cert, -key), or the proxy does (-behind-proxy)")
	case x.local && x.proxied:
		return nil, a, use("-local trusts whoever comes from this machine, and the proxy does: omit one of them")
	}
	if u, err := url.Parse(x.url); x.url != "" && (err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https")) {
		return nil, a, use("-url takes a URL such as https://agents.kelmere.example, not %q", x.url)
	}
	var certs []tls.Certificate
	if x.cert != "" {
		c, err := tls.LoadX509KeyPair(x.cert, x.key)
		if err != nil {
			return nil, a, fmt.Errorf("the certificate cannot be used: %w", err)
		}
		certs = append(certs, c)
	}
	far := false
	if x.addr != "" {
		var err error
		if far, err = beyond(x.addr); err != nil {
			return nil, a, err
		}
	}
	if far && x.local {
		return nil, a, use("-local is for a service on loopback, and %s is not", x.addr)
	}
	a.Beyond = a.Beyond || far
	if a.Beyond {
		none, err := book.None()
		if err != nil {
			return nil, a, err
		}
		if none || (far && !a.Secure) {
			return nil, a, unready(x.addr, dir, data, none, far && !a.Secure)
		}
	}
	l, err := consoleListener(x.addr, far)
	if err == nil && certs != nil {
		l = tls.NewListener(l, &tls.Config{Certificates: certs, MinVersion: tls.VersionTLS12})
	}
	return l, a, err
}

// unready says what a service needs that can be reached from elsewhere.
func unready(addr, dir, data string, people, tls bool) error {
	var needs, remedies []string
	of := ""
	if dir != "." {
		of = " " + dir
	}
	if people {
		needs = append(needs, "people who may use it")
		where := ""
		switch {
		case data != "":
			where = " -data " + data
		case dir != ".":
			where = " -dir " + dir
		}
		remedies = append(remedies, "stonebaton person add NAME -rights talk,view,build,approve,admin"+where)
	}
	if tls {
		needs = append(needs, "TLS")
		remedies = append(remedies, fmt.Sprintf("stonebaton serve -listen %s -cert cert.pem -key key.pem%s     (or -behind-proxy)", addr, of))
	} else {
		remedies = append(remedies, "and this command again")
	}
	return errors.New("a service that can be reached from elsewhere needs " + near.And(needs) + ":\n  " + strings.Join(remedies, "\n  "))
}

func logger(k *call, level string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, use("-log takes debug, info, warn or error, not %q", level)
	}
	return slog.New(slog.NewTextHandler(k.Err, &slog.HandlerOptions{Level: l})), nil
}

var serveCommand = command{
	name: "serve", args: "[DIR]", most: 1, does: "run a project's service and its console", example: "stonebaton serve workshop\nstonebaton serve -listen 0.0.0.0:7117 -cert cert.pem -key key.pem workshop",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		var at reach
		at.flags(fs)
		trust := fs.Bool("trust", false, "what the files name may run outside the sandbox at once, also what appears while the service runs")
		open := fs.Bool("open", false, "open the console in a browser")
		data := fs.String("data", "", "the `folder` of the records; .stonebaton in the project by default")
		spare := fs.Int64("spare", 64, "so many `MB` have to be free where the records are for a new run to begin")
		var together programs
		fs.Var(&together, "programs", "how many `PROCESSES,MB` of memory all programs in the sandbox may have at a time; 1000 and half of the machine's memory by default")
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
			records := or(*data, filepath.Join(dir, ".stonebaton"))
			l, access, err := at.open(people.Open(records), dir, *data)
			if err != nil {
				return err
			}
			defer l.Close()
			if err := sandbox.Together(together.processes, together.memory<<20); err != nil {
				return fmt.Errorf("-programs: the bound cannot be set: %w", err)
			}
			a, err := app.Open(ctx, app.Config{Dir: dir, Data: records, Own: k.own, Tell: k.installing, Trust: *trust, Spare: *spare << 20, Access: access, Logger: log})
			if err != nil {
				return err
			}
			k.problems(a)
			k.note("%s\n", sandbox.Bounds())
			switch {
			case a.LocalKey() == "":
			case terminal(k.Err): // what is kept in a file is read by others
				k.note("The console, with the key of the records: %s\n", consoleLink(addressOf(l), a.LocalKey()))
			default:
				k.note("`stonebaton console` prints the link that opens the console with the key of the records.\n")
			}
			return k.serve(ctx, a, l, log, *open)
		}
	},
}

// programs is the value of -programs.
type programs struct {
	processes int
	memory    int64 // MB
}

func (p *programs) String() string { return "" }

func (p *programs) Set(s string) error {
	first, second, both := strings.Cut(s, ",")
	n, err := strconv.Atoi(strings.TrimSpace(first))
	if err == nil && both {
		p.memory, err = strconv.ParseInt(strings.TrimSpace(second), 10, 64)
	}
	if err != nil || n < 10 || both && p.memory < 64 {
		return errors.New("it takes at least 10 processes and 64 MB, as in 500,4096, or processes alone")
	}
	p.processes = n
	return nil
}

// problems notes what is wrong with the project's files.
func (k *call) problems(a *app.App) {
	probs, _, _ := a.Projects.Problems()
	for _, p := range probs {
		k.note("%s", problemText(p))
	}
}

// addressOf gives the URL of a listener.
func addressOf(l net.Listener) string {
	scheme := "http"
	if _, plain := l.(*net.TCPListener); !plain {
		scheme = "https"
	}
	at := l.Addr().String()
	if host, port, err := net.SplitHostPort(at); err == nil && net.ParseIP(host).IsUnspecified() {
		at = "127.0.0.1:" + port // which is one of all
	}
	return scheme + "://" + at
}

// serve says that it is ready and serves until ctx ends.
func (k *call) serve(ctx context.Context, a *app.App, l net.Listener, log *slog.Logger, open bool) error {
	url := addressOf(l)
	if err := a.Announce(url); err != nil {
		log.Warn("failed to note the address for commands in the project's folder", "error", err)
	}
	k.print("ready %s\n", url)
	if open {
		k.browse(consoleLink(url, a.LocalKey()))
	}
	err := k.answer(ctx, a, l, log)
	return errors.Join(err, a.Close())
}
