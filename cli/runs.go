package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"
	"text/tabwriter"

	"stonebaton/api"
	"stonebaton/client"
	"stonebaton/core/ledger"
	"stonebaton/core/trace"
	"stonebaton/core/value"
	"stonebaton/store"
)

// wish holds the flags of say and talk that shape a run.
type wish struct {
	session, to, model string
	stubs, noTools     bool
	rung               ledger.Rung
	rungs              map[string]ledger.Rung
}

func (w *wish) flags(fs *flag.FlagSet) {
	fs.StringVar(&w.session, "session", "", "go on with this `session`")
	fs.StringVar(&w.to, "to", "", "begin with this `agent`")
	fs.StringVar(&w.model, "model", "", "ask this `model` of the project in place of the agents' own")
	fs.Func("rung", "let tools go no further than this `rung` (stub, read, ask, free), or one of them: TOOL=RUNG; may be given again", func(v string) error {
		tool, r, one := strings.Cut(v, "=")
		if !one {
			tool, r = "", v
		}
		if !slices.Contains(ledger.Rungs(), ledger.Rung(r)) {
			return fmt.Errorf("there is no rung %q; there is stub, read, ask and free", r)
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
	s := api.Start{Text: text, Session: w.session, Agent: w.to, Model: w.model, Tools: ledger.ToolsLive, Rung: w.rung, Rungs: w.rungs}
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

// Said is what `say -json` ends with.
type Said struct {
	Run     string          `json:"run"`
	Session string          `json:"session"`
	Status  string          `json:"status"`
	Answer  string          `json:"answer"`
	Turns   int             `json:"turns"`
	Calls   []SaidCall      `json:"calls"`
	Tokens  SaidTokens      `json:"tokens"`
	Cost    float64         `json:"cost"`
	MS      int64           `json:"ms"`
	Problem *ledger.Problem `json:"problem,omitempty"`
	Tickets []int64         `json:"tickets,omitempty"`
}

// SaidCall is one call of a run.
type SaidCall struct {
	Tool   string          `json:"tool"`
	Args   json.RawMessage `json:"args"`
	Status string          `json:"status"`
}

// SaidTokens counts the tokens of a run.
type SaidTokens struct {
	In  int `json:"in"`
	Out int `json:"out"`
}

var sayCommand = command{
	name: "say", args: "TEXT", most: 1, does: "say something to the project's agents and follow the run to its end",
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
			f := &follower{k: k, c: k.client(), silent: *quiet || k.json, settles: terminal(k.In) && terminal(k.Out) && !k.json && !*quiet}
			b, err := f.c.Begin(ctx, start)
			if err != nil {
				return err
			}
			if b.Run == "" {
				if k.json {
					return errors.Join(k.printJSON(Said{Session: b.Session, Status: b.Status, Calls: []SaidCall{}}), exit(held))
				}
				k.print("Your message waits: run %s of session %s is not over. `stonebaton show %s` shows what it waits for.\n", b.WaitsFor, b.Session, b.WaitsFor)
				return exit(held)
			}
			t, err := f.follow(ctx, b.Run, 0)
			if err != nil {
				return err
			}
			return f.finish(ctx, t, *quiet)
		}
	},
}

// follower prints a run's steps as they end.
type follower struct {
	k       *call
	c       *client.Client
	silent  bool
	settles bool // asks about tickets on the terminal
	shown   map[string]string
	calls   map[string]json.RawMessage
	steps   []*trace.Step
}

// follow prints until the run ends or waits for a person.
func (f *follower) follow(ctx context.Context, run string, after int64) (trace.Totals, error) {
	var last trace.Totals
	for {
		held := false
		err := f.c.Follow(ctx, run, after, func(ch api.Change) error {
			last, after = ch.Totals, ch.Event.Seq
			f.event(ch)
			if ch.Totals.Status == ledger.Held {
				held = true
				return client.ErrStopped
			}
			return nil
		}, f.words)
		if err != nil || !held || !f.settles {
			return last, err
		}
		tickets, err := f.c.Tickets(ctx, run, false)
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

// words prints what a call under way says of itself; the words of a turn are
// printed whole when it has ended.
func (f *follower) words(d api.Delta) {
	for _, s := range f.steps {
		if s.ID == d.Step && s.Kind == trace.Call && !f.silent {
			f.k.print("%-8s %-16s %9s %10s   %s\n", s.Agent, s.Name, "…", "", strings.TrimSpace(d.Text))
		}
	}
}

func (f *follower) event(ch api.Change) {
	if f.shown == nil {
		f.shown, f.calls = map[string]string{}, map[string]json.RawMessage{}
	}
	switch d := ch.Event.Data.(type) {
	case *ledger.CallDecided:
		f.calls[ch.Event.Step] = d.Args
	case *ledger.GateSettled:
		if len(d.Args) > 0 {
			f.calls[ch.Event.Step] = d.Args
		}
	}
	for _, s := range ch.Steps {
		found := false
		for i := range f.steps {
			if f.steps[i].ID == s.ID {
				f.steps[i], found = s, true
			}
		}
		if !found {
			f.steps = append(f.steps, s)
		}
		state := fmt.Sprint(s.Status, s.Attempts)
		if s.Wait != nil {
			state += string(s.Wait.Verb)
		}
		if s.Status == "going" || f.shown[s.ID] == state || (s.Status == "waiting" && (s.Wait == nil || s.Wait.Settled != nil)) {
			continue
		}
		f.shown[s.ID] = state
		if !f.silent {
			f.k.print("%s\n", f.k.line(s))
		}
	}
}

// finish prints what a run came to and gives the error to end with.
func (f *follower) finish(ctx context.Context, t trace.Totals, quiet bool) error {
	k := f.k
	tickets := []store.Ticket{}
	if t.Status == ledger.Held {
		var err error
		if tickets, err = f.c.Tickets(ctx, t.ID, false); err != nil {
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
		out := Said{Run: t.ID, Session: t.Session, Status: string(t.Status), Answer: t.Answer, Turns: t.Turns, Calls: []SaidCall{}, Cost: t.Cost, MS: t.MS,
			Tokens: SaidTokens{t.Tokens.In, t.Tokens.Out}, Problem: t.Problem}
		for _, s := range f.steps {
			if s.Kind != trace.Turn {
				out.Calls = append(out.Calls, SaidCall{s.Name, f.calls[s.ID], s.Status})
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
	if t.Answer != "" {
		if !quiet {
			k.print("\n")
		}
		k.print("%s\n", t.Answer)
	}
	if t.Problem != nil {
		k.note("%s\n", problemLine(t))
	}
	if !quiet {
		k.print("\n%s   session %s\n", summary(t), t.Session)
	}
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
func (f *follower) ask(ctx context.Context, t store.Ticket) (bool, error) {
	k := f.k
	k.print("%s", k.ticketLines(t))
	in := bufio.NewReader(k.In)
	read := func(prompt string) (string, error) {
		k.print("%s", prompt)
		line, err := in.ReadString('\n')
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
			k.print("         %v\n", p)
			continue
		}
		return err == nil, err
	}
}

var talkCommand = command{
	name: "talk", most: 0, does: "talk with the project's agents in the terminal, steps shown as they happen",
	example: "stonebaton talk",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		var w wish
		k.remote(fs)
		w.flags(fs)
		return func(ctx context.Context, _ []string) error {
			p, err := k.client().Project(ctx)
			if err != nil {
				return err
			}
			k.note("You talk with %s. An empty line or Ctrl-D ends it.\n", p.Name)
			in := bufio.NewReader(k.In)
			for {
				k.note("%s", "\n> ")
				text, err := in.ReadString('\n')
				if text = strings.TrimSpace(text); text == "" {
					if err == nil || errors.Is(err, io.EOF) {
						err = nil
					}
					if w.session != "" {
						k.note("\nGo on with   stonebaton talk -session %s\n", w.session)
					}
					return err
				}
				start, err := w.start(text)
				if err != nil {
					return err
				}
				f := &follower{k: &call{Streams: Streams{In: in, Out: k.Out, Err: k.Err}, at: k.at}, c: k.client(), settles: terminal(k.In) && terminal(k.Out)}
				b, err := f.c.Begin(ctx, start)
				var refused *api.Problem
				if errors.As(err, &refused) {
					k.note("%v\n", refused)
					continue
				}
				if err != nil {
					return err
				}
				w.session = b.Session
				if b.Run == "" {
					k.print("Your message waits: run %s is not over.\n", b.WaitsFor)
					continue
				}
				t, err := f.follow(ctx, b.Run, 0)
				if err != nil {
					return err
				}
				if err := f.finish(ctx, t, false); err != nil && !errors.As(err, new(exit)) {
					return err
				}
			}
		}
	},
}

var runsCommand = command{
	name: "runs", most: 0, does: "list runs, the newest first", example: "stonebaton runs -status held",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		q := map[string]*string{}
		for name, say := range map[string]string{"status": "only going, held, done, failed or stopped `ones`", "agent": "only those this `agent` took part in", "tool": "only those that called this `tool`", "text": "only those with this `text` in message, answer or problem", "session": "only those of this `session`"} {
			q[name] = fs.String(name, "", say)
		}
		n := fs.Int("n", 20, "how many")
		return func(ctx context.Context, _ []string) error {
			v := url.Values{"limit": {fmt.Sprint(*n)}}
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
				return k.printJSON(list.Runs)
			}
			if len(list.Runs) == 0 {
				k.print("No runs. Begin one with   stonebaton say \"…\"\n")
				return nil
			}
			w := tabwriter.NewWriter(k.Out, 0, 4, 3, ' ', 0)
			fmt.Fprintln(w, "run\tstatus\tagent\tturns\tcalls\ttokens\ttook\topened\tmessage")
			for _, r := range list.Runs {
				fmt.Fprintf(w, "%s\t%s\t%s\t%d\t%d\t%s\t%s\t%s\t%s\n", r.ID, r.Status, r.Agent, r.Turns, r.Calls, spaced(r.Tokens.In+r.Tokens.Out), span(r.MS), r.Opened.Local().Format("2 Jan 15:04"), clip(r.Text, 60))
			}
			return w.Flush()
		}
	},
}

func clip(s string, n int) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

var showCommand = command{
	name: "show", args: "RUN", most: 1, does: "show a run's steps, or everything about one of them", example: "stonebaton show k7f2m-1 -step 3",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		step := fs.String("step", "", "everything about the step with this `number` or id")
		return func(ctx context.Context, args []string) error {
			if len(args) == 0 {
				return use("which run? `stonebaton runs` lists them")
			}
			c := k.client()
			if *step != "" {
				raw, err := c.Step(ctx, args[0], *step)
				if err != nil {
					return err
				}
				if k.json {
					return k.printJSON(raw)
				}
				var d trace.Detail
				if err := json.Unmarshal(raw, &d); err != nil {
					return err
				}
				k.detail(args[0], &d)
				return nil
			}
			r, err := c.Run(ctx, args[0])
			if err != nil {
				return err
			}
			if k.json {
				return k.printJSON(r)
			}
			k.print("%s: %s\n\n", r.Run.Person, clip(r.Run.Text, 200))
			for _, s := range r.Steps {
				k.print("%3d  %s\n", s.N, k.line(s))
			}
			for _, t := range r.Tickets {
				if t.Status == "open" {
					k.print("%s", k.ticketLines(t))
				}
			}
			if r.Run.Answer != "" {
				k.print("\n%s\n", r.Run.Answer)
			}
			if r.Run.Problem != nil {
				k.print("\n%s\n", problemLine(r.Run))
			}
			for _, m := range r.Waiting {
				k.print("\nwaits in the inbox: %s\n", clip(m, 100))
			}
			k.print("\n%s   session %s\n", summary(r.Run), r.Run.Session)
			return nil
		}
	},
}

// proof is what left and what came back, on one line.
func proof(p *ledger.Sent) string {
	line := strings.TrimSpace(p.Method + " " + p.URL)
	if p.Status > 0 {
		line += fmt.Sprintf(" → %d, %d bytes", p.Status, p.Bytes)
	}
	return line
}

// detail prints everything about a step.
func (k *call) detail(run string, d *trace.Detail) {
	s := d.Step
	k.print("%d  %s  %s  %s", s.N, s.Agent, s.Name, s.Status)
	if s.MS > 0 {
		k.print(" in %s", span(s.MS))
	}
	if s.Rung != "" {
		k.print(", rung %s", s.Rung)
	}
	if s.Stub {
		k.print(", by a stub")
	}
	if s.Reads > 0 {
		k.print(", about %d tokens read", s.Reads)
	}
	k.print("\nwhy   %s\n", s.Why)
	if s.Because != "" {
		k.print("says  %s\n", s.Because)
	}
	for _, r := range s.Repairs {
		k.print("mend  %s\n", r)
	}
	part := func(name string, v any) {
		switch x := v.(type) {
		case string:
			if x != "" {
				k.print("%-6s%s\n", name, strings.ReplaceAll(x, "\n", "\n      "))
			}
		case json.RawMessage:
			if len(x) > 0 {
				if val, err := value.Read(x); err == nil {
					if b, err := json.MarshalIndent(val, "      ", "  "); err == nil {
						k.print("%-6s%s\n", name, b)
					}
				}
			}
		}
	}
	part("in", d.In)
	part("sent", d.Args)
	part("out", d.Out)
	part("text", d.Text)
	for _, c := range d.Calls {
		k.print("call  %s %s\n", c.Tool, c.Args)
	}
	part("words", d.Words)
	part("note", d.Note)
	if d.Handle != "" {
		k.print("whole %s   (give it as an argument to have a tool read all of it)\n", d.Handle)
	}
	if p := d.Sent; p != nil {
		part("proof", proof(p))
		part("diff", strings.TrimSpace(p.Diff))
		if p.Undo != "" {
			k.print("undo  stonebaton undo %s\n", p.Undo)
		}
		part("body", p.Body)
		part("reply", strings.TrimSpace(p.Reply))
		part("log", strings.TrimSpace(p.Log))
	}
	if w := s.Wait; w != nil {
		k.print("gate  %s\n      %s\n", w.Ask, w.Why)
		if w.Settled != nil {
			k.print("      %s after %s", settledBy(w), span(w.Settled.Sub(w.Raised).Milliseconds()))
			if w.Because != "" {
				k.print(": %s", w.Because)
			}
			k.print("\n")
		}
	}
	if before, err := json.Marshal(d.Before); err == nil {
		if after, err := json.Marshal(d.After); err == nil && string(before) != string(after) {
			k.print("state %s\n   →  %s\n", before, after)
		}
	}
	if s.Kind == trace.Turn {
		k.print("\nThe exact request:   stonebaton request %s %d\n", run, s.N)
	}
}

var followCommand = command{
	name: "follow", args: "RUN", most: 1, does: "follow a run live, from its beginning to its end", example: "stonebaton follow k7f2m-1",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		fs.BoolVar(&k.json, "json", false, "print each event as a line of JSON")
		return func(ctx context.Context, args []string) error {
			if len(args) == 0 {
				return use("which run? `stonebaton runs` lists them")
			}
			f := &follower{k: k, c: k.client(), silent: k.json}
			var last trace.Totals
			waiting := false
			err := f.c.Follow(ctx, args[0], 0, func(ch api.Change) error {
				last = ch.Totals
				if k.json {
					raw, err := json.Marshal(ch.Event)
					if err != nil {
						return err
					}
					k.print("%s\n", raw)
					return nil
				}
				f.event(ch)
				if now := ch.Totals.Status == ledger.Held; now != waiting {
					if waiting = now; now {
						tickets, err := f.c.Tickets(ctx, args[0], false)
						if err != nil {
							return err
						}
						for _, t := range tickets {
							k.print("%s", k.ticketLines(t))
						}
					}
				}
				return nil
			}, f.words)
			if err != nil || k.json {
				return err
			}
			return f.finish(ctx, last, false)
		}
	},
}

var stopCommand = command{
	name: "stop", args: "RUN", most: 1, does: "end a run: start nothing more, withdraw its tickets, close it", example: "stonebaton stop k7f2m-1 -because \"wrong vessel\"",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		because := fs.String("because", "", "the `reason`, for the record")
		return func(ctx context.Context, args []string) error {
			if len(args) == 0 {
				return use("which run? `stonebaton runs -status going` lists those under way")
			}
			r, err := k.client().Stop(ctx, args[0], *because)
			if err != nil {
				return err
			}
			if k.json {
				return k.printJSON(r)
			}
			if ledger.Status(r.Status).Over() {
				k.print("Run %s is %s.\n", r.ID, r.Status)
			} else {
				k.print("Run %s is ending: what is under way gets ten seconds.\n", r.ID)
			}
			return nil
		}
	},
}

var requestCommand = command{
	name: "request", args: "RUN STEP", most: 2, does: "show the exact request of a turn", example: "stonebaton request k7f2m-1 4",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		wire := fs.Bool("wire", false, "print the body as it went over the wire")
		return func(ctx context.Context, args []string) error {
			if len(args) < 2 {
				return use("which run, and which of its turns? `stonebaton show RUN` numbers them")
			}
			r, err := k.client().Request(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			if *wire {
				if len(r.Wire) == 0 {
					return fmt.Errorf("the model %s is in process; its request has no wire form", r.Model)
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
			k.print("\n--- system\n%s\n", strings.TrimSpace(r.System))
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
					k.print("%s\n", m.Text)
				}
				for _, c := range m.Calls {
					k.print("calls %s %s\n", c.Tool, c.Args)
				}
			}
			k.print("\n--- tools\n")
			for _, t := range r.Tools {
				k.print("%s: %s\n  %s\n", t.Name, t.Summary, t.Parameters)
			}
			return nil
		}
	},
}

var ticketsCommand = command{
	name: "tickets", most: 0, does: "list what waits for a person, the nearest deadline first", example: "stonebaton tickets",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		all := fs.Bool("all", false, "the settled ones too")
		return func(ctx context.Context, _ []string) error {
			list, err := k.client().Tickets(ctx, "", *all)
			if err != nil {
				return err
			}
			if k.json {
				return k.printJSON(list)
			}
			if len(list) == 0 {
				k.print("Nothing waits for a person.\n")
				return nil
			}
			for _, t := range list {
				k.print("%-8s %s wants %s %s\n         %s\n", t.Run, t.Agent, t.Tool, t.Args, t.Why)
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
				k.print("         ticket %d: %s\n\n", t.ID, line)
			}
			return nil
		}
	},
}

// settling makes a command that settles a ticket.
func settling(name, args, does, example string, most int, read func(k *call, fs *flag.FlagSet) func(args []string) (api.Settle, error)) command {
	return command{name: name, args: args, does: does, example: example, most: most, set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		k.asJSON(fs)
		as := fs.String("as", "", "the `approver` you act as; the gate's first, if not said")
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

var answerCommand = settling("answer", "TICKET happened|not_happened|give_up", "say what became of a call whose outcome nobody knows", `stonebaton answer 9 happened -result '{"id":"B-1041"}'`, 2, func(_ *call, fs *flag.FlagSet) func([]string) (api.Settle, error) {
	result := fs.String("result", "", "its result as `JSON`, where it happened")
	return func(args []string) (api.Settle, error) {
		if len(args) == 0 {
			return api.Settle{}, use("did it happen? Say happened, not_happened or give_up")
		}
		s := api.Settle{Verb: ledger.Verb(args[0])}
		if *result != "" {
			if _, err := value.Read([]byte(*result)); err != nil {
				return s, use("-result is not JSON: %v", err)
			}
			s.Result = json.RawMessage(*result)
		}
		return s, nil
	}
})
