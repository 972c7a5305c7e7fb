package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strings"
	"unicode/utf8"

	"stonebaton.example/api"
	"stonebaton.example/core/drill"
	"stonebaton.example/internal/app"
)

var drillCommand = command{
	name: "drill", args: "[NAME…]", most: -1, does: "run a project's drills, offline and side by side", example: "stonebaton drill -dir examples/harbour",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.asJSON(fs)
		dir := fs.String("dir", ".", "the project's `folder`")
		steps := fs.Bool("steps", false, "show the steps of every drill, not only of those that failed")
		return func(ctx context.Context, args []string) error {
			p, shop, err := k.folder(ctx, *dir)
			if err != nil {
				return err
			}
			defer shop.Close()
			if len(p.Drills) == 0 {
				return fmt.Errorf("the project has no drills; write one: `stonebaton schema drill` says how")
			}
			tell := func(r drill.Result) {
				if !k.json {
					k.drill(r, *steps)
				}
			}
			results, err := app.RunDrills(ctx, p, shop, args, tell)
			var unknown *app.UnknownDrillError
			if errors.As(err, &unknown) {
				return &api.Problem{Detail: unknown.Error(), Remedy: unknown.Remedy()}
			}
			if err != nil {
				return err
			}
			bad := 0
			for _, r := range results {
				if r.Status != "passed" {
					bad++
				}
			}
			var end error
			if bad > 0 {
				end = exit(failed)
			}
			if k.json {
				return errors.Join(k.printJSON(results), end)
			}
			k.print("\n%d passed, %d failed\n", len(results)-bad, bad)
			return end
		}
	},
}

// drill prints a drill's result: what was expected against what happened.
func (k *call) drill(r drill.Result, steps bool) {
	mark := k.paint("32", "passed")
	if r.Status != "passed" {
		mark = k.paint("31", r.Status)
	}
	k.print("%s  %s   %s\n", mark, r.ID, span(r.MS))
	if r.Error != "" {
		k.block("        ", 8, r.Error)
	}
	for _, f := range r.Faults {
		at := ""
		if f.Step > 0 {
			at = fmt.Sprintf(" (step %d)", f.Step)
		}
		k.print("        %s: expected %s\n        %s  happened %s%s\n", f.What, f.Want, strings.Repeat(" ", utf8.RuneCountInString(f.What)), f.Got, at)
	}
	if r.Status == "passed" && !steps {
		return
	}
	for _, say := range r.Says {
		k.block("      > ", 8, say.Text)
		k.widen(say.Steps...)
		for _, s := range say.Steps {
			k.print("      %3d  %s\n", s.N, k.line(s))
		}
		if say.Totals.Answer != "" {
			k.block("           ", 11, say.Totals.Answer)
		}
	}
	k.print("        %s:%d\n", r.Place.File, r.Place.Line)
}
