package cli

import (
	"context"
	"flag"

	"stonebaton.example/api"
)

var keepCommand = command{
	name: "keep", args: "RUN", most: 1, does: "make a tool of the project of a program that a run has run", example: "stonebaton keep k7f2m-1 -step 6 -name tide_table -summary \"Make the table of tide windows.\"",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		step := fs.String("step", "", "the `number` or id of the step that ran it")
		name := fs.String("name", "", "the `name` of the tool")
		summary := fs.String("summary", "", "what it does and when it is wanted, in a `sentence`: models choose it by that")
		return func(ctx context.Context, args []string) error {
			switch {
			case len(args) == 0:
				return use("which run? `stonebaton runs` lists them")
			case *step == "" || *name == "":
				return use("say which step, and how the tool is to be called: -step N -name NAME")
			}
			out, err := k.client().Keep(ctx, args[0], *step, api.Keep{Name: *name, Summary: *summary})
			if err != nil {
				return err
			}
			if k.json {
				return k.printJSON(out)
			}
			k.print("The tool %s is in %s; give it to an agent under tools:.\n", *name, out.File)
			if out.Line != "" {
				k.print("Its program runs without it too, from the project's folder:   %s\n", out.Line)
			}
			return nil
		}
	},
}
