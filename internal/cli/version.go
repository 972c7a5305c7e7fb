package cli

import (
	"context"
	"flag"

	"stonebaton.example/core/ledger"
)

var versionCommand = command{
	name: "version", most: 0, does: "print the version",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.asJSON(fs)
		return func(context.Context, []string) error {
			if k.json {
				return k.printJSON(map[string]any{"version": Version, "ledger": ledger.Newest()})
			}
			k.print("stonebaton %s\n", Version)
			return nil
		}
	},
}
