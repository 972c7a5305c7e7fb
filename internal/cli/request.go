package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"stonebaton.example/core/trace"
)

var requestCommand = command{
	name: "request", args: "RUN", most: 1, does: "show the exact request of a turn", example: "stonebaton request k7f2m-1 -step 4",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		step := fs.String("step", "", "the turn with this `number` or id; the newest by default")
		wire := fs.Bool("wire", false, "print the body as it was sent")
		return func(ctx context.Context, args []string) error {
			if len(args) == 0 {
				return use("which run? `stonebaton runs` lists them")
			}
			if *step == "" {
				run, err := k.client().Run(ctx, args[0])
				if err != nil {
					return err
				}
				for _, s := range run.Steps {
					if s.Kind == trace.Turn {
						*step = string(s.ID)
					}
				}
				if *step == "" {
					return fmt.Errorf("run %s has no turn", args[0])
				}
			}
			r, err := k.client().Request(ctx, args[0], *step)
			if err != nil {
				return err
			}
			if *wire {
				if len(r.Wire) == 0 {
					return fmt.Errorf("the model %s is in process; so no body is sent", r.Model)
				}
				return k.printJSON(r.Wire)
			}
			if k.json {
				return k.printJSON(r)
			}
			k.print("turn %s of %s, to the model %s, attempt %d\n", r.Step, r.Agent, r.Model, r.Attempt)
			if r.Same {
				k.print("This program would build the same request today.\n")
			} else {
				k.print("Built today it would differ: %s.\n", r.Differs)
			}
			if len(r.Parts) > 0 {
				k.print("\n--- parts, about\n")
				for _, p := range r.Parts {
					where := ""
					if p.Place.File != "" {
						where = fmt.Sprintf("%s:%d", p.Place.File, p.Place.Line)
					}
					k.print("    %6s tok  %-28s %s\n", spaced(p.Tokens), p.Name, where)
				}
			}
			k.block("\n--- system\n    ", 4, strings.TrimSpace(r.System))
			for _, m := range r.Messages {
				who := string(m.Role)
				if m.Agent != "" {
					who += " " + m.Agent
				}
				if m.Tool != "" {
					who += " " + m.Tool
				}
				k.print("\n--- %s\n", who)
				if m.Text != "" {
					k.block("    ", 4, m.Text)
				}
				for _, f := range m.Pictures {
					k.print("    shows the picture %s (%s, %d bytes)\n", f.Path, f.Type, f.Bytes)
				}
				for _, c := range m.Calls {
					k.print("    calls %s %s\n", c.Tool, c.Args)
				}
			}
			k.print("\n--- tools\n")
			for _, t := range r.Tools {
				k.print("    %s: %s\n      %s\n", t.Name, t.Summary, t.Parameters)
			}
			return nil
		}
	},
}
