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

	"stonebaton.example/api"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/value"
)

// wish holds the flags of say and talk that shape a run.
type wish struct {
	session, to, model, person, state string
	relay, input                      string
	from, kept, until                 string
	turns                             int
	stubs, noTools, pause             bool
	personAt                          []ledger.Place
	rung                              ledger.Rung
	rungs                             map[string]ledger.Rung
}

func (w *wish) flags(fs *flag.FlagSet) {
	fs.StringVar(&w.session, "session", "", "continue this `session`")
	fs.StringVar(&w.to, "to", "", "begin with this `agent`")
	fs.IntVar(&w.turns, "turns", 0, "let the run have `N` turns, in place of the project's limit")
	fs.StringVar(&w.relay, "relay", "", "go through this `relay` in place of asking an agent")
	fs.StringVar(&w.input, "input", "", "the relay's input: a `file` of JSON, - for standard input, or the JSON itself")
	fs.StringVar(&w.from, "from", "", "begin with this `leg` of the relay")
	fs.StringVar(&w.kept, "kept", "", "what the relay has kept by then: a `file` of JSON, - for standard input, or the JSON itself")
	fs.StringVar(&w.until, "until", "", "end with this `leg` of the relay")
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
	fs.BoolVar(&w.pause, "pause", false, "wait before each turn and each call of a tool, until you go on")
	fs.Func("person-at", "let a person look at every step of these `places`: turns, calls, answer, parted by commas", func(v string) error {
		for _, at := range strings.Split(v, ",") {
			place := ledger.Place(strings.TrimSpace(at))
			if !slices.Contains(ledger.Places(), place) {
				return fmt.Errorf("unknown place %q; there is turns, calls and answer", at)
			}
			w.personAt = append(w.personAt, place)
		}
		return nil
	})
	fs.BoolVar(&w.stubs, "stubs", false, "call stubs in place of live tools")
	fs.BoolVar(&w.noTools, "no-tools", false, "take every tool away")
}

// object reads a JSON object that a flag gives: as it is, from a file, or from standard input.
func (w *wish) object(k *call, name, given string) (json.RawMessage, error) {
	raw := []byte(given)
	var err error
	switch {
	case given == "":
		return nil, nil
	case w.relay == "":
		return nil, use("-%s is for -relay NAME", name)
	case given == "-":
		raw, err = io.ReadAll(io.LimitReader(k.In, 1<<20))
	case !strings.HasPrefix(strings.TrimSpace(given), "{"):
		raw, err = os.ReadFile(given)
	}
	if err != nil {
		return nil, err
	}
	if _, err := value.ReadObject(raw); err != nil {
		return nil, use("-%s is not a JSON object: %v", name, err)
	}
	return raw, nil
}

func (w *wish) start(k *call, text string) (api.Start, error) {
	s := api.Start{Text: text, Session: w.session, Agent: w.to, Model: w.model, Person: w.person, Tools: ledger.ToolsLive, Rung: w.rung, Rungs: w.rungs, Relay: w.relay, Turns: w.turns, PersonAt: w.personAt}
	if w.pause {
		s.PersonAt = append(s.PersonAt, ledger.AtTurns, ledger.AtCalls)
	}
	var err error
	if s.Input, err = w.object(k, "input", w.input); err != nil {
		return s, err
	}
	if s.Kept, err = w.object(k, "kept", w.kept); err != nil {
		return s, err
	}
	s.From, s.Until = w.from, w.until
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
	example: "stonebaton say \"When can a vessel drawing 3.1 m come in tomorrow?\"\nstonebaton say -relay berth_letter -input '{\"vessel\": \"Marrow Light\"}'",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		var w wish
		k.remote(fs)
		k.asJSON(fs)
		w.flags(fs)
		quiet := fs.Bool("quiet", false, "print the answer alone")
		return func(ctx context.Context, args []string) error {
			text := ""
			if len(args) > 0 {
				text = args[0]
			} else if w.relay == "" {
				return use("what do you want to say? Put it in quotes")
			}
			if text == "-" {
				raw, err := io.ReadAll(io.LimitReader(k.In, 1<<20))
				if err != nil {
					return err
				}
				text = string(raw)
			}
			start, err := w.start(k, text)
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
