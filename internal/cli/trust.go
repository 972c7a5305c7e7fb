package cli

import (
	"context"
	"flag"
	"strings"

	"stonebaton.example/core/project"
)

var trustCommand = command{
	name: "trust", args: "[NAME…]", most: -1, does: "list what waits until a person lets it run outside the sandbox, or let some of it", example: "stonebaton trust\nstonebaton trust station",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		return func(ctx context.Context, names []string) error {
			t, err := k.client().Trust(ctx)
			if err != nil {
				return err
			}
			if len(names) == 0 {
				if k.json {
					return k.printJSON(t.Waiting)
				}
				if len(t.Waiting) == 0 {
					k.print("Nothing waits to run outside the sandbox.\n")
				}
				for _, o := range t.Waiting {
					k.print("%s %s %s\n    %s   let it with   stonebaton trust %s\n", o.Kind, o.Name, o.Say, o.Place, o.Name)
				}
				return nil
			}
			let := []project.Outside{}
			for _, name := range names {
				found := false
				for _, o := range t.Waiting {
					if o.Name != name {
						continue
					}
					found = true
					out, err := k.client().Confirm(ctx, string(o.ID))
					if err != nil {
						return err
					}
					let = append(let, out)
				}
				if !found {
					return use("nothing of the name %s waits; `stonebaton trust` lists what does", strings.TrimSpace(name))
				}
			}
			if k.json {
				return k.printJSON(let)
			}
			for _, o := range let {
				k.print("The %s %s may run now: it %s.\n", o.Kind, o.Name, o.Say)
			}
			return nil
		}
	},
}
