package cli

import (
	"context"
	"flag"
	"net/url"
)

var outboxCommand = command{
	name: "outbox", most: 0, does: "show the messages that tools have sent: they are kept here, and go nowhere", example: "stonebaton outbox -to harbourmaster",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		page := paging(fs, 100)
		to := fs.String("to", "", "only messages to this `name` or address")
		return func(ctx context.Context, _ []string) error {
			q := page(url.Values{})
			if *to != "" {
				q.Set("to", *to)
			}
			out, err := k.client().Outbox(ctx, q)
			if err != nil {
				return err
			}
			list := out.Messages
			if k.json {
				rows := []map[string]any{}
				for _, m := range list {
					rows = append(rows, map[string]any{"id": m.ID, "status": "kept", "at": m.At, "run": m.Run, "tool": m.Tool, "to": m.To, "subject": m.Subject, "text": m.Text})
				}
				k.more(out.Next)
				return k.printJSON(rows)
			}
			if len(list) == 0 {
				k.print("The outbox is empty.\n")
			}
			for _, m := range list {
				k.print("%s  %s  to %s", m.ID, m.At.Local().Format("2 Jan 15:04"), m.To)
				if m.Subject != "" {
					k.print(": %s", m.Subject)
				}
				from := m.Tool
				if m.Run != "" {
					from += ", " + m.Run
				}
				k.block(sprint("   (%s)\n      ", from), 6, m.Text)
			}
			k.more(out.Next)
			return nil
		}
	},
}
