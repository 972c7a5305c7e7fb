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

var addCommand = command{
	name: "add", args: "agent|tool|drill NAME", most: 2, does: "write an agent, a tool or a drill more into the project's files, like one that is there or plain", example: "stonebaton add agent moorings -like berths -passes-from desk\nstonebaton add tool crane_hours -to berths\nstonebaton add drill a_second_boat -like a_boat",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		var a project.Addition
		fs.StringVar(&a.Like, "like", "", "begin with the text of this `one` of its kind")
		fs.Func("passes-from", "this `agent` hands over to the new one; repeatable", func(v string) error { a.PassesFrom = append(a.PassesFrom, v); return nil })
		fs.Func("to", "this `agent` has the new tool; repeatable", func(v string) error { a.To = append(a.To, v); return nil })
		fs.StringVar(&a.Summary, "summary", "", "what it is for, in a `sentence`: models choose by that")
		dir := fs.String("dir", "", "change this project `folder` in place of that of the service")
		return func(ctx context.Context, args []string) error {
			if len(args) < 2 {
				return use("what is to be added? Say `stonebaton add agent NAME`, or a tool, or a drill")
			}
			a.Kind, a.Name = args[0], args[1]
			edits, err := k.added(ctx, *dir, a)
			if err != nil {
				return err
			}
			if k.json {
				return k.printJSON(api.Added{Edits: edits})
			}
			for n, e := range edits {
				switch {
				case n == 0:
					k.print("Made %s, with the %s %s.\n", e.File, a.Kind, a.Name)
				case e.Text == "":
					k.print("%s:%d names it already.\n", e.File, e.Line)
				default:
					k.print("%s:%d names it now.\n", e.File, e.Line)
				}
			}
			if a.Like != "" && a.Summary == "" {
				k.print("Its text is that of %s: change what it says of itself.\n", a.Like)
			}
			return nil
		}
	},
}

// added writes a document more, through the service or into a folder.
func (k *call) added(ctx context.Context, dir string, a project.Addition) ([]project.Edit, error) {
	if !k.here(dir) {
		out, err := k.client().Add(ctx, api.Add{Kind: a.Kind, Name: a.Name, Like: a.Like, Summary: a.Summary, PassesFrom: a.PassesFrom, To: a.To})
		return out.Edits, err
	}
	p, shop, err := k.folder(ctx, or(dir, "."))
	if err != nil {
		return nil, err
	}
	defer shop.Close()
	edits, err := shop.Add(p, app.Environment(or(dir, "."), nil), a)
	var by *project.EditError
	var bad *app.EditRefusedError
	switch {
	case errors.As(err, &by) && by.Text != "":
		return nil, &api.Problem{Detail: by.Say, Remedy: "Put this in by hand: " + strings.TrimSpace(by.Text)}
	case errors.As(err, &bad):
		return nil, &api.Problem{Detail: bad.Problem.Say, Remedy: "Nothing was written.", Place: &bad.Problem.Place}
	}
	return edits, err
}
