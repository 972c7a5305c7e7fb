package cli

import (
	"context"
	"flag"
)

var undoCommand = command{
	name: "undo", args: "KEY", most: 1, does: "undo a change that a tool made to a file; the proof of the call names the key", example: "stonebaton undo 3f9a1c0be77d4e21\nstonebaton undo -run k7f2m-1",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		run := fs.String("run", "", "undo all that this `run` has changed, the newest first")
		return func(ctx context.Context, args []string) error {
			if *run != "" {
				out, err := k.client().UndoRun(ctx, *run)
				if err != nil {
					return err
				}
				if len(out.Changes) == 0 {
					k.print("Run %s has changed nothing that is not undone.\n", *run)
				}
				for _, c := range out.Changes {
					k.print("%s is as it was before.\n", c.Path)
				}
				return nil
			}
			if len(args) == 0 {
				return use("which change? `stonebaton show RUN -step N` names its key")
			}
			c, err := k.client().Undo(ctx, args[0])
			if err != nil {
				return err
			}
			if c.Before == nil {
				k.print("%s, which the tool created, is deleted again.\n", c.Path)
			} else {
				k.print("%s is as it was before.\n", c.Path)
			}
			return nil
		}
	},
}
