package cli

import (
	"context"
	"encoding/json"
	"flag"
	"net/url"
	"slices"
	"strings"

	"stonebaton.example/api"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/trace"
	"stonebaton.example/core/value"
)

var ticketsCommand = command{
	name: "tickets", most: 0, does: "list what waits for a person, the nearest deadline first", example: "stonebaton tickets",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		all := fs.Bool("all", false, "the settled ones too")
		page := paging(fs, 100)
		return func(ctx context.Context, _ []string) error {
			q := page(url.Values{})
			if *all {
				q.Set("status", "all")
			}
			out, err := k.client().Tickets(ctx, q)
			if err != nil {
				return err
			}
			list := out.Tickets
			if k.json {
				k.more(out.Next)
				return k.printJSON(list)
			}
			if len(list) == 0 {
				k.print("Nothing waits for a person.\n")
				return nil
			}
			for _, t := range list {
				wants := t.Agent + " wants " + t.Tool + ": " + t.Why
				if t.Form == string(ledger.QuestionTicket) {
					wants = t.Why
				}
				k.print("%-8s %s\n", t.Run, wants)
				if t.Status == "open" {
					k.print("%s\n", k.ticketLines(t))
					continue
				}
				line := t.Status
				if t.SettledBy != "" {
					line += " by " + t.SettledBy
				}
				if t.Settled != nil {
					line += ", " + t.Settled.Local().Format("2 Jan 15:04")
				}
				if t.Because != "" {
					line += ": " + t.Because
				}
				if len(t.NewArgs) > 0 {
					line += " → " + string(t.NewArgs)
				}
				k.print("         ticket %d: %s\n         %s\n\n", t.ID, line, t.Args)
			}
			k.more(out.Next)
			return nil
		}
	},
}

// settling makes a command that settles a ticket.
func settling(name, args, does, example string, most int, read func(k *call, fs *flag.FlagSet) func(args []string) (api.Settle, error)) command {
	return command{name: name, args: args, does: does, example: example, most: most, set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		as := fs.String("as", "", "the `approver` you act as; the gate's first by default")
		get := read(k, fs)
		return func(ctx context.Context, args []string) error {
			if len(args) == 0 {
				return use("which ticket? `stonebaton tickets` lists them")
			}
			s, err := get(args[1:])
			if err != nil {
				return err
			}
			s.As = *as
			t, err := k.client().Settle(ctx, strings.TrimPrefix(args[0], "#"), s)
			if err != nil {
				return err
			}
			if k.json {
				return k.printJSON(t)
			}
			k.print("Ticket %d: %s. See   stonebaton follow %s\n", t.ID, settledBy(&trace.Wait{Verb: ledger.Verb(t.Status), Who: t.SettledBy}), t.Run)
			return nil
		}
	}}
}

var allowCommand = settling("allow", "TICKET", "let a call that waits go ahead", "stonebaton allow 7", 1, func(*call, *flag.FlagSet) func([]string) (api.Settle, error) {
	return func([]string) (api.Settle, error) { return api.Settle{Verb: ledger.Allow}, nil }
})

var refuseCommand = settling("refuse", "TICKET", "refuse a call that waits, with a reason that the agent passes on", "stonebaton refuse 7 -because \"The pontoon is being repaired.\"", 1, func(_ *call, fs *flag.FlagSet) func([]string) (api.Settle, error) {
	because := fs.String("because", "", "the `reason`")
	return func([]string) (api.Settle, error) {
		if *because == "" {
			return api.Settle{}, use("a refusal needs -because with a reason; the agent passes it on")
		}
		return api.Settle{Verb: ledger.RefuseIt, Because: *because}, nil
	}
})

var amendCommand = settling("amend", "TICKET", "change values of a call that waits, and let it go ahead", `stonebaton amend 7 -args '{"berth":"D2"}'`, 1, func(_ *call, fs *flag.FlagSet) func([]string) (api.Settle, error) {
	args := fs.String("args", "", "the values to change, as `JSON`; the others stay")
	because := fs.String("because", "", "the `reason`")
	return func([]string) (api.Settle, error) {
		s := api.Settle{Verb: ledger.Amend, Because: *because}
		if *args == "" {
			return s, use("an amendment needs -args with the values to change")
		}
		if err := json.Unmarshal([]byte(*args), &s.Args); err != nil {
			return s, use("-args is not a JSON object: %v", err)
		}
		return s, nil
	}
})

var answerCommand = settling("answer", "TICKET TEXT", "answer the question of an agent; or say what happened to a call whose outcome is not known: happened, not_happened or give_up", "stonebaton answer 9 \"She draws 3.2 m.\"\nstonebaton answer 9 happened -result '{\"id\":\"B-1041\"}'", 2, func(_ *call, fs *flag.FlagSet) func([]string) (api.Settle, error) {
	result := fs.String("result", "", "its result as `JSON`, where it happened")
	return func(args []string) (api.Settle, error) {
		if len(args) == 0 {
			return api.Settle{}, use("what is the answer? For a call whose outcome is not known say happened, not_happened or give_up")
		}
		s := api.Settle{Verb: ledger.Verb(args[0])}
		if !slices.Contains(ledger.OutcomeTicket.Verbs(), s.Verb) {
			raw, err := json.Marshal(args[0])
			return api.Settle{Verb: ledger.Answer, Result: raw}, err
		}
		if *result != "" {
			if _, err := value.Read([]byte(*result)); err != nil {
				return s, use("-result is not JSON: %v", err)
			}
			s.Result = json.RawMessage(*result)
		}
		return s, nil
	}
})
