package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"

	"stonebaton.example/api"
	"stonebaton.example/client"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/trace"
	"stonebaton.example/internal/rows"
)

// wish holds the flags of say and talk that shape a run.
type wish struct {
	session, to, model, person, state string
	stubs, noTools                    bool
	rung                              ledger.Rung
	rungs                             map[string]ledger.Rung
}

func (w *wish) flags(fs *flag.FlagSet) {
	fs.StringVar(&w.session, "session", "", "continue this `session`")
	fs.StringVar(&w.to, "to", "", "begin with this `agent`")
	fs.StringVar(&w.model, "model", "", "ask this `model` of the project in place of the agents' own")
	fs.StringVar(&w.person, "person", "", "the `name` of who speaks; local by default")
	fs.StringVar(&w.state, "state", "", "the state that a new session begins with, as `JSON`")
	fs.Func("rung", "let tools go no further than this `rung` (stub, read, ask, free), or one of them: TOOL=RUNG; repeatable", func(v string) error {
		tool, r, one := strings.Cut(v, "=")
		if !one {
			tool, r = "", v
		}
		if !slices.Contains(ledger.Rungs(), ledger.Rung(r)) {
			return fmt.Errorf("unknown rung %q; there is stub, read, ask and free", r)
		}
		if !one {
			w.rung = ledger.Rung(r)
			return nil
		}
		if w.rungs == nil {
			w.rungs = map[string]ledger.Rung{}
		}
		w.rungs[tool] = ledger.Rung(r)
		return nil
	})
	fs.BoolVar(&w.stubs, "stubs", false, "call stubs in place of live tools")
	fs.BoolVar(&w.noTools, "no-tools", false, "take every tool away")
}

func (w *wish) start(text string) (api.Start, error) {
	s := api.Start{Text: text, Session: w.session, Agent: w.to, Model: w.model, Person: w.person, Tools: ledger.ToolsLive, Rung: w.rung, Rungs: w.rungs}
	if w.state != "" {
		if err := json.Unmarshal([]byte(w.state), &s.State); err != nil {
			return s, use("-state is not a JSON object: %v", err)
		}
	}
	switch {
	case w.stubs && w.noTools:
		return s, use("-stubs and -no-tools cannot go together")
	case w.stubs:
		s.Tools = ledger.ToolsStubs
	case w.noTools:
		s.Tools = ledger.ToolsOff
	}
	return s, nil
}

// Said is what `say -json` prints. Its names are those of a run.
type Said struct {
	ID      string          `json:"id"`
	Session string          `json:"session"`
	Status  string          `json:"status"`
	Agent   string          `json:"agent"` // who answered
	Answer  string          `json:"answer"`
	Path    []string        `json:"path"`   // agents that held the baton, in order
	Models  []string        `json:"models"` // that answered
	Turns   int             `json:"turns"`
	Calls   []SaidCall      `json:"calls"`
	Tokens  ledger.Usage    `json:"tokens"`
	Cost    float64         `json:"cost"`
	MS      int64           `json:"ms"`
	State   map[string]any  `json:"state"`
	Problem *ledger.Problem `json:"problem,omitempty"`
	Tickets []int64         `json:"tickets,omitempty"`
	Broken  string          `json:"broken,omitempty"` // the first error of the files, where the last good version answered
}

var sayCommand = command{
	name: "say", args: "TEXT", most: 1, does: "say something to the project's agents and follow the run until it ends",
	example: "stonebaton say \"When can a vessel drawing 3.1 m come in tomorrow?\"",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		var w wish
		k.remote(fs)
		k.asJSON(fs)
		w.flags(fs)
		quiet := fs.Bool("quiet", false, "print the answer alone")
		return func(ctx context.Context, args []string) error {
			if len(args) == 0 {
				return use("what do you want to say? Put it in quotes")
			}
			text := args[0]
			if text == "-" {
				raw, err := io.ReadAll(io.LimitReader(k.In, 1<<20))
				if err != nil {
					return err
				}
				text = string(raw)
			}
			start, err := w.start(text)
			if err != nil {
				return err
			}
			f := newFollower(k, *quiet || k.json)
			if terminal(k.In) && k.tty && !f.silent {
				in := bufio.NewReader(k.In)
				f.read = func(prompt string) (string, error) { k.print("%s", painted(prompt)); return in.ReadString('\n') }
			}
			b, err := f.c.Begin(ctx, start)
			if err != nil {
				return err
			}
			k.broken(b)
			if b.Run == "" {
				if k.json {
					return errors.Join(k.printJSON(Said{Session: b.Session, Status: b.Status, Path: []string{}, Models: []string{}, Calls: []SaidCall{}, State: map[string]any{}, Broken: b.Broken}), exit(held))
				}
				k.print("Your message waits: run %s of session %s is not over. `stonebaton show %s` shows what it waits for.\n", b.WaitsFor, b.Session, b.WaitsFor)
				return exit(held)
			}
			t, err := f.follow(ctx, b.Run, 0)
			if err != nil {
				return err
			}
			return f.finish(ctx, t, *quiet, b.Broken)
		}
	},
}

// broken notes that the files have errors, so that the last good version answers.
func (k *call) broken(b api.Begun) {
	if b.Broken != "" && !k.json {
		k.note("note: answered by the last good version of the project; %s\n", b.Broken)
	}
}

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
		if err != nil || !held || f.read == nil {
			return last, err
		}
		tickets, err := f.c.Open(ctx, run)
		if err != nil {
			return last, err
		}
		if len(tickets) == 0 {
			continue // settled meanwhile
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
			if c := f.calls[s.ID]; s.Kind == trace.Call && c != nil {
				c.Agent, c.Status = s.Agent, s.Status
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
		choice, err := read("         a allow, c change, r refuse, enter leaves it open: ")
		if err != nil || choice == "" {
			k.print("\n")
			return false, nil
		}
		s := api.Settle{Shown: ledger.Hash(t.Shown)}
		switch strings.ToLower(choice)[:1] {
		case "a":
			s.Verb = ledger.Allow
		case "r":
			s.Verb = ledger.RefuseIt
			if s.Because, err = read("         why? "); err != nil {
				return false, nil
			}
		case "c":
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
