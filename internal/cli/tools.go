package cli

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"slices"
	"strings"

	"stonebaton.example/api"
	"stonebaton.example/core/near"
	"stonebaton.example/internal/app"
)

var toolsCommand = command{
	name: "tools", args: "[TOOL]", most: 1, does: "list the tools, or show one's contract as models see it", example: "stonebaton tools find_berth",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		dir := fs.String("dir", "", "read this project `folder` in place of asking the service")
		return func(ctx context.Context, args []string) error {
			var list []api.Tool
			if k.here(*dir) {
				p, shop, err := k.folder(ctx, or(*dir, "."))
				if err != nil {
					return err
				}
				defer shop.Close()
				list = app.Tools(p, nil)
			} else {
				var err error
				if list, err = k.client().Tools(ctx); err != nil {
					return err
				}
			}
			if len(args) == 1 {
				var names []string
				for _, t := range list {
					names = append(names, t.ID)
					if t.ID == args[0] {
						if k.json {
							return k.printJSON(t)
						}
						k.tool(t)
						return nil
					}
				}
				return fmt.Errorf("unknown tool %q.%s", args[0], near.Hint(args[0], names))
			}
			if k.json {
				return k.printJSON(list)
			}
			if len(list) == 0 {
				k.print("The project has no tools.\n")
				return nil
			}
			return k.toolTable(list)
		}
	},
}

func (k *call) toolTable(list []api.Tool) error {
	var rows [][]any
	for _, t := range list {
		rows = append(rows, []any{t.ID, t.Effect, t.Rung, t.Handler, t.Stubs, or(t.Gate, "none"), clip(usedBy(t), 40), clip(t.Summary, 60)})
	}
	return k.table("tool effect rung by stubs gate users summary", rows)
}

// usedBy names the agents and relays that use a tool.
func usedBy(t api.Tool) string {
	names := slices.Concat(t.Agents, t.Relays)
	for _, a := range t.Hooks {
		names = append(names, "hook of "+a)
	}
	for _, t := range t.Gates {
		names = append(names, "gate of "+t)
	}
	return or(strings.Join(names, ", "), "nobody")
}

func (k *call) tool(t api.Tool) {
	k.print("%s\n%s\n\n", t.ID, t.Summary)
	k.print("effect   %s\nrung     %s\nby       %s, %s\n", t.Effect, t.Rung, strings.TrimSpace(t.Handler+" "+t.Runs), count(t.Stubs, "stub"))
	if t.Source != "" {
		k.print("source   %s\n", t.Source)
	}
	if t.Gate != "" {
		k.print("gate     %s: %s\n", t.Gate, or(strings.Join(t.By, ", "), "anybody"))
	}
	k.print("used by  %s\nfile     %s:%d\n", usedBy(t), t.Place.File, t.Place.Line)
	show := func(name string, doc map[string]any) {
		if b, err := json.MarshalIndent(doc, "", "  "); err == nil && len(doc) > 0 {
			k.block(sprint("\n%s\n", name), 0, string(harmless(b)))
		}
	}
	show("input", t.Input)
	show("output", t.Output)
}
