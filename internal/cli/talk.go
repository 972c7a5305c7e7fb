package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"golang.org/x/term"

	"stonebaton.example/api"
	"stonebaton.example/core/near"
)

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
			k.note("You talk with %s. :help lists what you can do beside it; exit or Ctrl-D leaves.\n", p.Name)
			t := &talk{k: k, wish: w, lines: k.lines()}
			err = t.run(ctx)
			if t.wish.session != "" {
				k.note("\nContinue with   stonebaton talk -session %s\n", t.wish.session)
			}
			return err
		}
	},
}

// talk is one conversation.
type talk struct {
	k     *call
	wish  wish
	lines func(prompt string) (string, error)
	last  string // the newest run
}

func (t *talk) run(ctx context.Context) error {
	for {
		text, err := t.lines("\n> ")
		if errors.Is(err, io.EOF) && strings.TrimSpace(text) == "" {
			return nil
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		text = strings.TrimSpace(text)
		switch {
		case text == "":
			continue
		case text == "exit":
			return nil
		case strings.HasPrefix(text, "::"):
			err = t.say(ctx, text[1:])
		case strings.HasPrefix(text, ":"):
			leave, cerr := t.order(ctx, strings.Fields(text[1:]))
			if leave {
				return nil
			}
			err = cerr
		default:
			err = t.say(ctx, text)
		}
		var refused *api.Problem
		var wrong *misuse
		switch {
		case errors.As(err, &refused):
			t.k.note("%s\n", painted(hanging(refused.Error(), 4)))
		case errors.As(err, &wrong):
			t.k.note("%s\n", wrong.say)
		case err != nil && !errors.As(err, new(exit)):
			return err
		}
	}
}

func (t *talk) say(ctx context.Context, text string) error {
	start, err := t.wish.start(t.k, text)
	if err != nil {
		return err
	}
	f := newFollower(t.k, false)
	f.read = t.lines
	b, err := f.c.Begin(ctx, start)
	if err != nil {
		return err
	}
	t.k.broken(b)
	t.wish.session, t.wish.state = b.Session, ""
	if b.Run == "" {
		t.k.print("Your message waits: run %s is not over. Another terminal, or the console, settles what it waits for.\n", b.WaitsFor)
		return nil
	}
	t.last = b.Run
	totals, err := f.follow(ctx, b.Run, 0)
	if err != nil {
		return err
	}
	return f.finish(ctx, totals, false, "")
}

// orders are what one can do beside talking. The sign before them is a colon; a message
// that begins with one is written with two.
var orders = []struct{ name, does string }{
	{"help", "this list"},
	{"new", "start over, in a new session"},
	{"state", "the facts that the session keeps"},
	{"step", "everything about the newest step, or about one: :step 3"},
	{"tools", "the tools and how far they are let"},
	{"model", "the models; :model NAME asks that one from now on, :model - the agents' own"},
	{"leave", "leave; so do exit and Ctrl-D"},
}

// order carries out what is not a message; leave ends the conversation.
func (t *talk) order(ctx context.Context, words []string) (leave bool, err error) {
	k, c := t.k, t.k.client()
	if len(words) == 0 {
		words = []string{"help"}
	}
	switch words[0] {
	case "help":
		for _, o := range orders {
			k.print("  :%-7s %s\n", o.name, o.does)
		}
		k.print("  A message that begins with a colon is written with two.\n")
	case "leave":
		return true, nil
	case "new":
		t.wish.session, t.last = "", ""
		k.print("The next message begins a new session.\n")
	case "state":
		if t.wish.session == "" {
			return false, use("there is no state yet: say something first")
		}
		s, err := c.Session(ctx, t.wish.session)
		if err != nil {
			return false, err
		}
		raw, err := json.MarshalIndent(s.State, "", "  ")
		if err != nil {
			return false, err
		}
		k.block("", 0, string(harmless(raw)))
	case "step":
		if t.last == "" {
			return false, use("there is no step yet: say something first")
		}
		which := ""
		if len(words) > 1 {
			which = words[1]
		} else {
			r, err := c.Run(ctx, t.last)
			if err != nil {
				return false, err
			}
			if len(r.Steps) == 0 {
				return false, use("the run has no step")
			}
			which = string(r.Steps[len(r.Steps)-1].ID)
		}
		return false, k.showStep(ctx, t.last, which)
	case "tools":
		list, err := c.Tools(ctx)
		if err != nil {
			return false, err
		}
		return false, k.toolTable(list)
	case "model":
		if len(words) > 1 {
			if t.wish.model = words[1]; words[1] == "-" {
				t.wish.model = ""
				k.print("The agents' own models answer from now on.\n")
				return false, nil
			}
		}
		list, err := c.Models(ctx)
		if err != nil {
			return false, err
		}
		if len(words) == 1 {
			return false, k.modelTable(list)
		}
		if !slices.ContainsFunc(list, func(m api.Model) bool { return m.ID == words[1] }) {
			t.wish.model = ""
			var names []string
			for _, m := range list {
				names = append(names, m.ID)
			}
			return false, use("unknown model %q.%s :model lists them.", words[1], near.Hint(words[1], names))
		}
		k.print("%s answers from now on.\n", words[1])
	default:
		var names []string
		for _, o := range orders {
			names = append(names, o.name)
		}
		return false, use("there is no :%s.%s :help lists what there is", words[0], near.Hint(words[0], names))
	}
	return false, nil
}

// lines gives a reader of lines: with editing, history and pasted lines on a terminal.
func (k *call) lines() func(prompt string) (string, error) {
	in, ok := k.In.(*os.File)
	if !ok || !terminal(k.In) || !k.tty {
		r := bufio.NewReader(k.In)
		return func(prompt string) (string, error) {
			k.note("%s", painted(prompt))
			return r.ReadString('\n')
		}
	}
	t := term.NewTerminal(struct {
		io.Reader
		io.Writer
	}{in, k.Out}, "")
	t.AutoCompleteCallback = complete
	return func(prompt string) (string, error) {
		k.clear()
		lead := prompt[:len(prompt)-len(strings.TrimLeft(prompt, "\n"))]
		fmt.Fprint(k.Out, lead)
		was, err := term.MakeRaw(int(in.Fd()))
		if err != nil {
			return "", err
		}
		defer term.Restore(int(in.Fd()), was) //nolint:errcheck // nothing can be done about it
		if w, h, err := term.GetSize(int(in.Fd())); err == nil {
			_ = t.SetSize(w, h) // then lines wrap where the terminal does
		}
		t.SetBracketedPasteMode(true)
		defer t.SetBracketedPasteMode(false)
		t.SetPrompt(prompt[len(lead):])
		var pasted []string
		for {
			line, err := t.ReadLine()
			if errors.Is(err, term.ErrPasteIndicator) {
				pasted = append(pasted, line)
				t.SetPrompt("… ")
				continue
			}
			return strings.Join(append(pasted, line), "\n"), err
		}
	}
}

// complete completes the name of an order.
func complete(line string, pos int, key rune) (string, int, bool) {
	if key != '\t' || !strings.HasPrefix(line, ":") || pos != len(line) {
		return "", 0, false
	}
	for _, o := range orders {
		if strings.HasPrefix(o.name, line[1:]) {
			full := ":" + o.name + " "
			return full, len(full), true
		}
	}
	return "", 0, false
}
