package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"stonebaton.example/api"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/secret"
	"stonebaton.example/internal/standin"
)

var sourceCommand = command{
	name: "source", args: "[inspect NAME|FILE | stand-in NAME]", most: 2, does: "list the sources, show what one offers with our judgement of each description, or stand in for it", example: "stonebaton source inspect station\nstonebaton source inspect tools/shop.py\nstonebaton source stand-in office -listen 127.0.0.1:8801",
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
			here := k.here(*dir)
			if here {
				shop, env := k.workshop(or(*dir, "."))
				defer shop.Close()
				p, err := shop.Sources(env)
				if err != nil {
					return err
				}
				list = func() ([]api.Source, error) { return app.Sources(p), nil }
				inspect = func(name string) (api.Inspected, error) { return app.Inspect(ctx, p, shop, name) }
			}
			if len(args) == 0 {
				return k.sources(list)
			}
			if project.Language(args[1]) != "" {
				inspect = func(file string) (api.Inspected, error) {
					if _, err := os.Stat(file); err != nil {
						return api.Inspected{}, fmt.Errorf("%s was not found", file)
					}
					return app.InspectFunctions(ctx, secret.New(os.LookupEnv), filepath.Dir(file), filepath.Base(file), or(*dir, "."))
				}
			}
			in, err := inspect(args[1])
			for said := ""; err == nil && in.Installing != nil; in, err = inspect(args[1]) { // which waits a moment
				if line := or(in.Installing.Line, "installing "+in.Installing.Package); line != said && !here {
					said = line
					k.installing(args[1], line)
				}
			}
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
	p, err := shop.Sources(env)
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
	var rows [][]any
	for _, s := range list {
		rows = append(rows, []any{s.ID, s.Status, clip(s.From, 60), or(strings.Join(s.Take, ", "), "nothing"), fmt.Sprintf("%s:%d", s.Place.File, s.Place.Line)})
	}
	return k.table("source kind from takes file", rows)
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
		says := "(it does not say whether it reads or writes)"
		switch {
		case o.Effect != "":
			says = "(its file says: effect " + string(o.Effect) + ")"
		case o.Says != "":
			says = "(it calls itself a " + o.Says + ")"
		case o.Place.File != "":
			says = "(its file says no effect, so it is a write)"
		}
		if o.Place.File != "" {
			o.Request = fmt.Sprintf("%s:%d", o.Place.File, o.Place.Line)
		}
		k.print("\n%s%s  %s %s\n", mark, o.ID, o.Request, says)
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
		if o.Change != "" {
			k.print("        tune: changes its input:\n")
			for line := range strings.Lines(o.Change) {
				k.print("          %s\n", strings.TrimSuffix(line, "\n"))
			}
		}
		for i, r := range o.Remarks {
			if i == 4 {
				k.print("        … and %d more\n", len(o.Remarks)-i)
				break
			}
			k.print("        %s: %s\n", r.Grade, r.Say)
		}
	}
	for _, b := range in.Broken {
		k.print("\nbroken  %s: %s\n        %s\n", b.At, b.Say, b.Remedy)
	}
	for _, a := range in.Also {
		k.print("\nalso    %s", a)
	}
	if len(in.Also) > 0 {
		k.print("\n")
	}
}
