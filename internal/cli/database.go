package cli

import (
	"context"
	"errors"
	"flag"
	"strings"

	"stonebaton.example/api"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
)

var databaseCommand = command{
	name: "database", args: "[NAME | reset NAME]", most: 2, does: "show the small databases of the project, or make one anew", example: "stonebaton database moorings\nstonebaton database reset moorings",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		dir := fs.String("dir", "", "use this project `folder` in place of asking the service")
		return func(ctx context.Context, args []string) error {
			if len(args) == 2 && args[0] != "reset" {
				return use("there is `stonebaton database NAME` and `stonebaton database reset NAME`")
			}
			if len(args) == 1 && args[0] == "reset" {
				return use("which one? `stonebaton database` lists them")
			}
			var p *project.Project
			var shop *app.Workshop
			if k.here(*dir) {
				var err error
				if p, shop, err = k.folder(ctx, or(*dir, ".")); err != nil {
					return err
				}
				defer shop.Close()
			}
			if len(args) == 2 {
				return k.resetDatabase(ctx, p, shop, args[1])
			}
			var list []api.Database
			if p != nil {
				list = shop.Databases(ctx, p)
			} else {
				var err error
				if list, err = k.client().Databases(ctx); err != nil {
					return err
				}
			}
			if k.json {
				return k.printJSON(list)
			}
			return k.databases(list, args)
		}
	},
}

func (k *call) resetDatabase(ctx context.Context, p *project.Project, shop *app.Workshop, name string) error {
	var out api.Database
	var err error
	if p != nil {
		out, err = shop.ResetDatabase(ctx, p, name)
	} else {
		out, err = k.client().ResetDatabase(ctx, name)
	}
	if err != nil {
		return err
	}
	if k.json {
		return k.printJSON(out)
	}
	k.print("The database %s is made anew:", name)
	for _, t := range out.Tables {
		k.print(" %s (%s)", t.Name, count(t.Count, "row"))
	}
	k.print("\n")
	return nil
}

// databases shows the tables of all databases, or of one.
func (k *call) databases(list []api.Database, args []string) error {
	found := 0
	for _, d := range list {
		if len(args) == 1 && d.ID != args[0] {
			continue
		}
		found++
		if d.Status == "broken" {
			k.print("%s is broken: %s\n", d.ID, d.Problem)
			continue
		}
		for _, t := range d.Tables {
			k.print("%s.%s, %s\n", d.ID, t.Name, count(t.Count, "row"))
			heads := strings.ReplaceAll(strings.Join(t.Columns, "\x00"), " ", "_")
			for _, r := range t.Rows {
				for i := range r {
					if r[i] == nil {
						r[i] = "–"
					}
				}
			}
			if err := k.table(shown(strings.ReplaceAll(heads, "\x00", " ")), t.Rows); err != nil {
				return err
			}
			if t.Count > len(t.Rows) {
				k.print("… the first %d\n", len(t.Rows))
			}
			k.print("\n")
		}
	}
	switch {
	case found > 0:
		return nil
	case len(args) == 1:
		return errors.New("there is no database " + args[0] + "; `stonebaton database` lists them")
	}
	k.print("The project has no database; databases: in stonebaton.yaml names some.\n")
	return nil
}
