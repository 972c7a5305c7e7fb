package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"

	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/sandbox"
)

var checkCommand = command{
	name: "check", args: "[DIR]", most: 1, does: "read a project and list its problems", example: "stonebaton check examples/harbour",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.asJSON(fs)
		explain := fs.Bool("explain", false, "say of every leg of every relay what it does, is told and goes on to, defaults too")
		return func(ctx context.Context, args []string) error {
			dir := "."
			if len(args) > 0 {
				dir = args[0]
			}
			if info, err := os.Stat(dir); err != nil || !info.IsDir() {
				return fmt.Errorf("cannot find the folder %s", dir)
			}
			shop, env := k.workshop(dir)
			defer shop.Close()
			if at, err := url.Parse(app.Address(filepath.Join(dir, ".stonebaton"))); err == nil { // no program reaches a service that answers there
				if own, err := netip.ParseAddrPort(at.Host); err == nil {
					defer sandbox.Hide(net.TCPAddrFromAddrPort(own))()
				}
			}
			p, _, probs := shop.Read(ctx, env, nil)
			n := map[project.Grade]int{}
			for _, x := range probs {
				n[x.Grade]++
			}
			errs := n[project.Error]
			var end error
			if errs > 0 {
				end = exit(failed)
			}
			if k.json {
				type row struct {
					ID     string        `json:"id"`
					Status project.Grade `json:"status"`
					project.Problem
				}
				rows := []row{}
				for i, x := range probs {
					rows = append(rows, row{fmt.Sprint(i + 1), x.Grade, x})
				}
				return errors.Join(k.printJSON(rows), end)
			}
			for _, x := range probs {
				k.print("%s", problemText(x))
			}
			if p == nil {
				k.print("%s and %s. No run can start until the errors are fixed.\n", count(errs, "error"), doubts(n))
				return end
			}
			say := "No problems"
			if len(probs) > 0 {
				say = doubts(n)
			}
			relays := ""
			if len(p.Relays) > 0 {
				relays = count(len(p.Relays), "relay") + ", "
			}
			k.print("%s: %s with %s, %s%s, %s, %s. It begins with %s.\n", p.Name, say, count(len(p.Agents), "agent"), relays, count(len(p.Tools), "tool"), count(len(p.Models), "model"), count(len(p.Drills), "drill"), p.Start)
			k.print("%s\n", sandbox.Bounds())
			if *explain {
				for _, n := range slices.Sorted(maps.Keys(p.Relays)) {
					k.print("\nrelay %s\n", n)
					for _, l := range p.Relays[n].Explain() {
						k.print("  %s   (%s)\n", l.Leg, l.Place)
						for _, line := range l.Lines {
							k.print("      %s\n", line)
						}
					}
				}
			}
			return nil
		}
	},
}

// doubts counts what keeps no run from starting.
func doubts(n map[project.Grade]int) string {
	if n[project.Hint] == 0 {
		return count(n[project.Warning], "warning")
	}
	return count(n[project.Warning], "warning") + " and " + count(n[project.Hint], "hint")
}
