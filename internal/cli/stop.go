package cli

import (
	"context"
	"flag"

	"stonebaton.example/core/ledger"
)

var stopCommand = command{
	name: "stop", args: "RUN", most: 1, does: "end a run: start nothing more, withdraw its tickets, close it", example: "stonebaton stop k7f2m-1 -because \"wrong vessel\"",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		because := fs.String("because", "", "the `reason`, for the record")
		return func(ctx context.Context, args []string) error {
			if len(args) == 0 {
				return use("which run? `stonebaton runs -status going` lists those under way")
			}
			r, err := k.client().Stop(ctx, args[0], *because)
			if err != nil {
				return err
			}
			if k.json {
				return k.printJSON(r)
			}
			if ledger.Status(r.Status).Over() {
				k.print("Run %s is %s.\n", r.ID, r.Status)
			} else {
				k.print("Run %s is ending: what is under way gets ten seconds.\n", r.ID)
			}
			return nil
		}
	},
}
