package cli

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"slices"

	"stonebaton.example/core/chart"
	"stonebaton.example/core/near"
)

var mapCommand = command{
	name: "map", args: "[RELAY]", most: 1, does: "draw the agents, tools and relays of a project and what leads where, or one relay; with the path a run took", example: "stonebaton map\nstonebaton map berth_letter -run k7f2m-1\nstonebaton map -as svg > map.svg",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		dir := fs.String("dir", "", "the project's `folder`; the service's project by default")
		as := fs.String("as", "text", "how it is written: `text`, dot, mermaid or svg")
		var runs []string
		fs.Func("run", "draw in the path that this `run` took; repeatable", func(s string) error { runs = append(runs, s); return nil })
		return func(ctx context.Context, args []string) error {
			writers := map[string]func(*chart.Chart) string{"text": (*chart.Chart).Text, "dot": (*chart.Chart).DOT, "mermaid": (*chart.Chart).Mermaid, "svg": (*chart.Chart).SVG}
			write := writers[*as]
			if write == nil {
				return use("there is no -as %s.%s There is: text, dot, mermaid, svg", *as, near.Hint(*as, slices.Sorted(maps.Keys(writers))))
			}
			relay := ""
			if len(args) > 0 {
				relay = args[0]
			}
			c, err := k.chart(ctx, *dir, relay, runs)
			if err != nil {
				return err
			}
			if k.json {
				return k.printJSON(c)
			}
			k.block("", 0, write(c))
			return nil
		}
	},
}

// chart gives a map: of a folder, or of the service's project, which has the runs.
func (k *call) chart(ctx context.Context, dir, relay string, runs []string) (*chart.Chart, error) {
	if len(runs) > 0 || !k.here(dir) {
		if dir != "" {
			return nil, use("runs are the service's: omit -dir")
		}
		return k.client().Map(ctx, relay, runs)
	}
	if dir == "" {
		dir = "."
	}
	p, shop, err := k.folder(ctx, dir)
	if err != nil {
		return nil, err
	}
	defer shop.Close()
	if relay == "" {
		return chart.Of(p), nil
	}
	r := p.Relays[relay]
	if r == nil {
		have := slices.Sorted(maps.Keys(p.Relays))
		return nil, fmt.Errorf("unknown relay %q.%s The project has: %s", relay, near.Hint(relay, have), near.List(have))
	}
	return chart.OfRelay(p, r), nil
}
