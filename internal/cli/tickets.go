package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"stonebaton.example/api"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/trace"
	"stonebaton.example/core/value"
	"stonebaton.example/internal/rows"
)

var ticketsCommand = command{
	name: "tickets", args: "[TICKET]", most: 1, does: "list what waits for a person, the nearest deadline first; or tell all of one", example: "stonebaton tickets\nstonebaton tickets 7\nstonebaton tickets -follow",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		all := fs.Bool("all", false, "the settled ones too")
		whose := fs.String("whose", "", "`mine`: those that you may settle and have not voted on; asked: those of your own runs")
		follow := fs.Bool("follow", false, "go on, and print each ticket that is raised, and what becomes of it")
		page := paging(fs, 100)
		return func(ctx context.Context, args []string) error {
			switch {
			case len(args) > 0 && (*follow || *all):
				return use("-follow and -all are for all tickets, not for one")
			case len(args) > 0:
				return k.oneTicket(ctx, args[0])
			case *follow:
				return k.followTickets(ctx)
			}
			q := page(url.Values{})
			if *whose != "" {
				q.Set("whose", *whose)
			}
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
				k.ticket(t)
			}
			k.more(out.Next)
			return nil
		}
	},
}

// ticket prints a ticket: who wants what, and how to settle it, or what became of it.
func (k *call) ticket(t rows.Ticket) {
	wants := t.Agent + " wants " + t.Tool + ": " + t.Why
	if slices.Contains([]ledger.TicketKind{ledger.QuestionTicket, ledger.TextTicket, ledger.PauseTicket, ledger.LimitTicket}, ledger.TicketKind(t.Form)) {
		wants = t.Agent + ": " + t.Why
	}
	k.print("%-8s %s\n", t.Run, wants)
	if t.Status == "open" {
		k.print("%s\n", k.ticketLines(t))
		return
	}
	k.print("         ticket %d: %s\n         %s\n\n", t.ID, became(t), t.Args)
}

// became says what became of a ticket that is settled.
func became(t rows.Ticket) string {
	line := settledBy(&trace.Wait{Verb: ledger.Verb(t.Status), Who: t.SettledBy})
	if t.Settled != nil {
		line += ", " + t.Settled.Local().Format("2 Jan 15:04")
	}
	if t.Because != "" {
		line += ": " + t.Because
	}
	if len(t.NewArgs) > 0 {
		line += " → " + string(t.NewArgs)
	}
	return line
}

// oneTicket prints all of a ticket: what led to it, and what settling it will lead to.
func (k *call) oneTicket(ctx context.Context, id string) error {
	t, err := k.client().Ticket(ctx, strings.TrimPrefix(id, "#"))
	if err != nil {
		return err
	}
	if k.json {
		return k.printJSON(t)
	}
	for _, said := range t.Talk {
		switch said.Who {
		case "user":
			k.print("they said: %s\n", said.Text)
		case "note":
			k.print("%s\n", said.Text)
		case "pass":
			k.print("%s handed over to %s\n", said.Agent, said.To)
		default:
			k.print("%s: %s\n", cmp.Or(said.Agent, said.Who), said.Text)
		}
	}
	k.ticket(t.TicketRow)
	for _, verb := range t.Verbs {
		for _, say := range t.Leads[verb] {
			k.print("         %s: %s\n", verb, say)
		}
	}
	return nil
}

// followTickets prints each ticket when it is raised, who agrees to it, and what becomes of it.
func (k *call) followTickets(ctx context.Context) error {
	seen := map[int64]rows.Ticket{}
	first := true
	if !k.json {
		k.note("Waiting for tickets; Ctrl-C ends it.\n")
	}
	return k.client().LiveTickets(ctx, func() error {
		out, err := k.client().Tickets(ctx, url.Values{"limit": {"200"}, "status": {"all"}})
		if err != nil {
			return err
		}
		slices.SortFunc(out.Tickets, func(a, b rows.Ticket) int { return cmp.Compare(a.ID, b.ID) })
		for _, t := range out.Tickets {
			was, known := seen[t.ID]
			seen[t.ID] = t
			switch {
			case known && was.Status == t.Status && len(was.Votes) == len(t.Votes) && was.Shown == t.Shown && len(was.By) == len(t.By):
			case first && t.Status != "open":
			case k.json:
				raw, err := json.Marshal(t)
				if err != nil {
					return err
				}
				k.print("%s\n", painted(harmless(raw)))
			case t.Status != "open":
				k.print("%-8s ticket %d: %s\n", t.Run, t.ID, became(t))
			default:
				k.ticket(t)
			}
		}
		first = false
		return nil
	})
}

// settling makes a command that settles a ticket, or several in the same way.
func settling(name, args, does, example string, read func(k *call, fs *flag.FlagSet) func(args []string) (tickets []string, s api.Settle, err error)) command {
	return command{name: name, args: args, does: does, example: example, most: 100, set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		as := fs.String("as", "", "the `approver` you act as; by default the first that the gate names who has not agreed yet")
		get := read(k, fs)
		return func(ctx context.Context, args []string) error {
			if len(args) == 0 {
				return use("which ticket? `stonebaton tickets` lists them")
			}
			tickets, s, err := get(args)
			if err != nil {
				return err
			}
			s.As = *as
			var done []api.Ticket
			for _, id := range tickets {
				t, err := k.client().Settle(ctx, strings.TrimPrefix(id, "#"), s)
				if err != nil {
					if len(tickets) > 1 {
						return fmt.Errorf("ticket %s: %w", id, err)
					}
					return err
				}
				done = append(done, t)
				if !k.json {
					k.print("Ticket %d: %s. See   stonebaton follow %s\n", t.ID, decided(t), t.Run)
				}
			}
			if !k.json {
				return nil
			}
			if len(done) == 1 {
				return k.printJSON(done[0])
			}
			return k.printJSON(done)
		}
	}}
}

// decided says how a ticket stands after somebody has decided.
func decided(t api.Ticket) string {
	if t.Status != "open" {
		return settledBy(&trace.Wait{Verb: ledger.Verb(t.Status), Who: t.SettledBy})
	}
	if len(t.Votes) == 0 {
		return "open"
	}
	return fmt.Sprintf("%s; %d of %d have agreed", strings.TrimSuffix(string(vote(t.Votes[len(t.Votes)-1])), "."), len(t.Votes), t.Need)
}

// spare defines the flag with which one who agrees says that this need not be asked again.
func spare(fs *flag.FlagSet) *bool {
	return fs.Bool("spare", false, "do not ask again for this tool in the session, where its gate counts how often it asks (first:)")
}

var allowCommand = settling("allow", "TICKET…", "let a call that waits go ahead, or several", "stonebaton allow 7", func(_ *call, fs *flag.FlagSet) func([]string) ([]string, api.Settle, error) {
	spare := spare(fs)
	because := fs.String("because", "", "the `reason`")
	return func(args []string) ([]string, api.Settle, error) {
		return args, api.Settle{Verb: ledger.Allow, Because: *because, Spare: *spare}, nil
	}
})

var refuseCommand = settling("refuse", "TICKET…", "refuse a call that waits, or several, with a reason that the agent passes on", "stonebaton refuse 7 -because \"The pontoon is being repaired.\"", func(_ *call, fs *flag.FlagSet) func([]string) ([]string, api.Settle, error) {
	because := fs.String("because", "", "the `reason`")
	return func(args []string) ([]string, api.Settle, error) {
		if *because == "" {
			return nil, api.Settle{}, use("a refusal needs -because with a reason; the agent passes it on")
		}
		return args, api.Settle{Verb: ledger.RefuseIt, Because: *because}, nil
	}
})

var backCommand = settling("back", "TICKET", "send a text back with remarks, so that it is written again", "stonebaton back 7 -because \"Say where she lies.\"", func(_ *call, fs *flag.FlagSet) func([]string) ([]string, api.Settle, error) {
	because := fs.String("because", "", "the `remarks`")
	return func(args []string) ([]string, api.Settle, error) {
		if *because == "" {
			return nil, api.Settle{}, use("a text is sent back with -because and remarks")
		}
		return args, api.Settle{Verb: ledger.SendBack, Because: *because}, nil
	}
})

var amendCommand = settling("amend", "TICKET", "change values of a call that waits, and let it go ahead", `stonebaton amend 7 -args '{"berth":"D2"}'`, func(_ *call, fs *flag.FlagSet) func([]string) ([]string, api.Settle, error) {
	args := fs.String("args", "", "the values to change, as `JSON`; the others stay")
	because := fs.String("because", "", "the `reason`")
	spare := spare(fs)
	return func(tickets []string) ([]string, api.Settle, error) {
		s := api.Settle{Verb: ledger.Amend, Because: *because, Spare: *spare}
		switch {
		case len(tickets) > 1:
			return nil, s, use("one ticket is changed at a time")
		case *args == "":
			return nil, s, use("an amendment needs -args with the values to change")
		}
		if err := json.Unmarshal([]byte(*args), &s.Args); err != nil {
			return nil, s, use("-args is not a JSON object: %v", err)
		}
		return tickets, s, nil
	}
})

var answerCommand = settling("answer", "TICKET TEXT", "answer the question of an agent; or say what happened to a call whose outcome is not known: happened, not_happened or give_up", "stonebaton answer 9 \"She draws 3.2 m.\"\nstonebaton answer 9 happened -result '{\"id\":\"B-1041\"}'", func(_ *call, fs *flag.FlagSet) func([]string) ([]string, api.Settle, error) {
	result := fs.String("result", "", "its result as `JSON`, where it happened")
	return func(args []string) ([]string, api.Settle, error) {
		switch {
		case len(args) == 1:
			return nil, api.Settle{}, use("what is the answer? For a call whose outcome is not known say happened, not_happened or give_up")
		case len(args) > 2:
			return nil, api.Settle{}, use("put an answer of several words in quotes")
		}
		ticket, s := args[:1], api.Settle{Verb: ledger.Verb(args[1])}
		if !slices.Contains(ledger.OutcomeTicket.Verbs(), s.Verb) {
			raw, err := json.Marshal(args[1])
			return ticket, api.Settle{Verb: ledger.Answer, Result: raw}, err
		}
		if *result != "" {
			if _, err := value.Read([]byte(*result)); err != nil {
				return nil, s, use("-result is not JSON: %v", err)
			}
			s.Result = json.RawMessage(*result)
		}
		return ticket, s, nil
	}
})
