package cli

import (
	"context"
	"flag"
	"fmt"
	"net/url"
	"strings"
)

var runsCommand = command{
	name: "runs", most: 0, does: "list runs, the newest first", example: "stonebaton runs -status held",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		q := map[string]*string{}
		for name, say := range map[string]string{"status": "only going, held, done, failed or stopped `ones`", "agent": "only those this `agent` or relay took part in", "tool": "only those that called this `tool`", "text": "only those with this `text` in message, answer or problem", "session": "only those of this `session`"} {
			q[name] = fs.String(name, "", say)
		}
		page := paging(fs, 20)
		return func(ctx context.Context, _ []string) error {
			v := page(url.Values{})
			for name, val := range q {
				if *val != "" {
					v.Set(name, *val)
				}
			}
			list, err := k.client().Runs(ctx, v)
			if err != nil {
				return err
			}
			if k.json {
				k.more(list.Next)
				return k.printJSON(list.Runs)
			}
			if len(list.Runs) == 0 {
				k.print("No runs. Begin one with   stonebaton say \"…\"\n")
				return nil
			}
			var rows [][]any
			for _, r := range list.Runs {
				rows = append(rows, []any{r.ID, r.Status, r.Agent, strings.Join(r.Models, ", "), r.Turns, r.Calls, spaced(r.Tokens.In + r.Tokens.Out), price(r.Cost), span(r.MS), r.Opened.Local().Format("2 Jan 15:04"), clip(r.Text, 50)})
			}
			if err := k.table("run status agent model turns calls tokens cost took opened message", rows); err != nil {
				return err
			}
			k.more(list.Next)
			return nil
		}
	},
}

// price shows a cost; nothing where there is none.
func price(cost float64) string {
	if cost == 0 {
		return ""
	}
	return fmt.Sprintf("%.4f", cost)
}

func clip(s string, n int) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}
