package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"stonebaton.example/api"
	"stonebaton.example/client"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/trace"
	"stonebaton.example/core/value"
	"stonebaton.example/internal/rows"
)

// follower prints a run while it goes.
type follower struct {
	*printer
	c    *client.Client
	read func(prompt string) (string, error) // asks the person at the terminal about tickets; nil: nobody is there
}

func newFollower(k *call, silent bool) *follower {
	return &follower{printer: newPrinter(k, silent), c: k.client()}
}

// follow prints until the run ends or waits for a person.
func (f *follower) follow(ctx context.Context, run string, after int64) (trace.Totals, error) {
	var last trace.Totals
	for {
		held := false
		err := f.c.Follow(ctx, run, after, func(ch api.Change) error {
			last, after = ch.Totals, ch.Event.Seq
			f.change(ch)
			if ch.Totals.Status == ledger.Held {
				held = true
				return client.ErrStopped
			}
			return nil
		}, f.delta)
		if !f.silent {
			f.end()
		}
		if err != nil || !held {
			return last, err
		}
		tickets, err := f.c.Open(ctx, run)
		if err != nil {
			return last, err
		}
		if len(tickets) == 0 {
			continue // settled meanwhile
		}
		if f.read == nil {
			return last, nil
		}
		settled, err := f.ask(ctx, tickets[0])
		if err != nil || !settled {
			return last, err
		}
	}
}

// finish prints what a run came to and gives the error to end with.
func (f *follower) finish(ctx context.Context, t trace.Totals, quiet bool, broken string) error {
	k := f.k
	tickets := []rows.Ticket{}
	if t.Status == ledger.Held {
		var err error
		if tickets, err = f.c.Open(ctx, t.ID); err != nil {
			return err
		}
	}
	end := func() error {
		switch t.Status {
		case ledger.Held:
			return exit(held)
		case ledger.Failed, ledger.Stopped:
			return exit(failed)
		}
		return nil
	}
	if k.json {
		out := Said{ID: t.ID, Session: t.Session, Status: string(t.Status), Agent: t.Agent, Answer: t.Answer, Path: t.Path, Models: t.Models, Turns: t.Turns, Calls: []SaidCall{},
			Tokens: t.Tokens, Cost: t.Cost, MS: t.MS, State: t.Facts, Problem: t.Problem, Broken: broken}
		for _, s := range f.steps {
			if c := f.calls[s.ID]; (s.Kind == trace.Call || s.Kind == trace.Consult) && c != nil {
				c.Agent, c.Status, c.Thread = s.Agent, s.Status, s.Thread
				out.Calls = append(out.Calls, *c)
			}
		}
		for _, tk := range tickets {
			out.Tickets = append(out.Tickets, tk.ID)
		}
		return errors.Join(k.printJSON(out), end())
	}
	for _, tk := range tickets {
		if quiet {
			k.note("%s", k.ticketLines(tk))
		} else {
			k.print("%s", k.ticketLines(tk))
		}
	}
	if quiet {
		if t.Answer != "" {
			k.block("", 0, t.Answer)
		}
		if t.Problem != nil {
			k.note("%s\n", problemLine(t))
		}
		return end()
	}
	f.answer(t)
	k.print("\n%s   session %s\n", summary(t), t.Session)
	return end()
}

func problemLine(t trace.Totals) string {
	s := fmt.Sprintf("The run %s: %s.", t.Status, strings.TrimSuffix(t.Problem.Say, "."))
	if t.Status == ledger.Stopped {
		s = fmt.Sprintf("The run was %s.", t.Problem.Say)
	}
	if t.Problem.Remedy != "" {
		s += " " + t.Problem.Remedy
	}
	return s
}

// ask puts a ticket to the person at the terminal; false leaves it open.
func (f *follower) ask(ctx context.Context, t rows.Ticket) (bool, error) {
	k := f.k
	k.print("%s", k.ticketLines(t))
	read := func(prompt string) (string, error) {
		line, err := f.read(prompt)
		if err != nil && line == "" {
			return "", err
		}
		return strings.TrimSpace(line), nil
	}
	for {
		prompt := map[string]string{
			string(ledger.GateTicket):     "         a allow, c change, r refuse, enter leaves it open: ",
			string(ledger.OutcomeTicket):  "         h it happened, n it did not, g give up, enter leaves it open: ",
			string(ledger.QuestionTicket): "         your answer; enter leaves it open: ",
			string(ledger.PauseTicket):    "         g go on, c change, s say something, n go on without looking, enter leaves it open: ",
			string(ledger.LimitTicket):    "         a give that, c another amount, r no more, enter leaves it open: ",
			string(ledger.TextTicket):     "         a allow, c change, b send back, r refuse, enter leaves it open: ",
		}[t.Form]
		if t.Form == string(ledger.GateTicket) && t.Stepwise {
			prompt = "         a allow, c change, d do not call it but give its result, r refuse, n go on without looking, enter leaves it open: "
		}
		choice, err := read(prompt)
		if err != nil || choice == "" {
			k.print("\n")
			return false, nil
		}
		s := api.Settle{Shown: ledger.Hash(t.Shown)}
		switch {
		case t.Form == string(ledger.QuestionTicket):
			s.Verb = ledger.Answer
			options, _ := wanted(t)
			if n, err := strconv.Atoi(choice); err == nil && n >= 1 && n <= len(options) {
				choice = options[n-1]
			}
			if s.Result, err = json.Marshal(choice); err != nil {
				return false, err
			}
		case t.Form == string(ledger.OutcomeTicket):
			verb, ok := map[string]ledger.Verb{"h": ledger.Happened, "n": ledger.NotHappened, "g": ledger.GiveUp}[strings.ToLower(choice)[:1]]
			if !ok {
				continue
			}
			s.Verb = verb
		case strings.ToLower(choice)[:1] == "n" && t.Spare:
			s.Verb, s.Spare = ledger.Allow, true
		case strings.ToLower(choice)[:1] == "d" && slices.Contains(t.Verbs, ledger.Happened):
			s.Verb = ledger.Happened
			raw, err := read("         its result, as JSON: ")
			if err != nil {
				return false, nil
			}
			if _, err := value.Read([]byte(raw)); err != nil {
				k.print("         that is not JSON: %v\n", err)
				continue
			}
			s.Result = json.RawMessage(raw)
		case strings.ToLower(choice)[:1] == "a", strings.EqualFold(choice, "yes"), strings.ToLower(choice)[:1] == "g" && t.Form == string(ledger.PauseTicket):
			s.Verb = ledger.Allow
		case strings.ToLower(choice)[:1] == "s" && t.Form == string(ledger.PauseTicket):
			s.Verb = ledger.Answer
			line, err := read("         your line: ")
			if err != nil {
				return false, nil
			}
			if s.Result, err = json.Marshal(line); err != nil {
				return false, err
			}
		case strings.ToLower(choice)[:1] == "r":
			s.Verb = ledger.RefuseIt
			if s.Because, err = read("         why? "); err != nil {
				return false, nil
			}
		case strings.ToLower(choice)[:1] == "b" && slices.Contains(t.Verbs, ledger.SendBack):
			s.Verb = ledger.SendBack
			if s.Because, err = read("         your remarks: "); err != nil {
				return false, nil
			}
		case strings.ToLower(choice)[:1] == "c" && (t.Form == string(ledger.TextTicket) || t.Form == string(ledger.PauseTicket)):
			s.Verb = ledger.Amend
			text, err := read("         the text as it is to be, in one line: ")
			if err != nil {
				return false, nil
			}
			s.Args = value.Object{"text": text}
		case strings.ToLower(choice)[:1] == "c":
			s.Verb = ledger.Amend
			raw, err := read("         the values to change, as JSON: ")
			if err != nil {
				return false, nil
			}
			if err := json.Unmarshal([]byte(raw), &s.Args); err != nil {
				k.print("         that is not JSON: %v\n", err)
				continue
			}
		default:
			continue
		}
		_, err = f.c.Settle(ctx, fmt.Sprint(t.ID), s)
		var p *api.Problem
		if errors.As(err, &p) && p.Status == 422 {
			k.print("         %s\n", painted(hanging(p.Error(), 9)))
			continue
		}
		return err == nil, err
	}
}
