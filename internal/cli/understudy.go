package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"strings"
	"time"

	"stonebaton.example/api"
	"stonebaton.example/core/prompt"
	"stonebaton.example/internal/understudy"
)

var understudyCommand = command{
	name: "understudy", most: 0, does: "run the stand-in model as an HTTP endpoint of the wire chat-completions; or, with -why, say which tool it would choose", example: "stonebaton understudy -dir examples/harbour -latency 200ms",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.asJSON(fs)
		why := fs.String("why", "", "say what it would do with this `request`, with every candidate, its score and the words behind it, and end")
		agent := fs.String("agent", "", "the `agent` that -why asks; by default the one that conversations start at")
		slips := fs.Float64("slips", 0, "let this `share` of its calls go wrong on purpose: 0.1 is about one in ten")
		seed := fs.Int("seed", 0, "another `number` slips at other calls")
		addr := fs.String("listen", "127.0.0.1:0", "`HOST:PORT` to listen on; port 0 is any free one")
		dir := fs.String("dir", "", "play the lines of this project `folder`")
		key := fs.String("key", "", "the bearer `key` it wants; none by default")
		name := fs.String("name", "house", "the model's `name`")
		latency := fs.Duration("latency", 0, "`time` before the first word")
		word := fs.Duration("word", 0, "`time` between words")
		var knob understudy.Knob
		fs.IntVar(&knob.Fail, "fail", 0, "fail this `many` requests")
		fs.IntVar(&knob.Status, "status", 500, "with this `status`")
		fs.IntVar(&knob.RetryAfter, "retry-after", 0, "and this many `seconds` in Retry-After")
		fs.IntVar(&knob.Cut, "cut", 0, "break this `many` streams off in the middle")
		fs.IntVar(&knob.Empty, "empty", 0, "answer nothing to this `many` requests")
		fs.IntVar(&knob.Garble, "garble", 0, "send broken arguments in this `many` replies")
		return func(ctx context.Context, _ []string) error {
			if *slips < 0 || *slips > 1 {
				return use("-slips is a share, from 0 to 1")
			}
			if *why != "" {
				return k.why(ctx, or(*dir, "."), *agent, *why)
			}
			if *agent != "" || k.json {
				return use("-agent and -json go with -why")
			}
			s := &understudy.Server{Key: *key, Models: map[string]understudy.Part{*name: {}}}
			if *dir != "" {
				p, shop, err := k.folder(ctx, *dir)
				if err != nil {
					return err
				}
				defer shop.Close()
				s.Models[*name] = understudy.PartOf(p, nil)
			}
			part := s.Models[*name]
			part.Slips, part.Seed = *slips, *seed
			s.Models[*name] = part
			knob.LatencyMS, knob.WordMS = int(latency.Milliseconds()), int(word.Milliseconds())
			s.Turn(knob)
			l, err := listen(*addr)
			if err != nil {
				return err
			}
			k.print("ready http://%s/v1\n", l.Addr())
			k.note("In stonebaton.yaml:   NAME: {speaks: chat-completions, url: \"http://%s/v1\", name: %s}\n", l.Addr(), *name)
			srv := &http.Server{Handler: s.Handler(), ReadHeaderTimeout: 10 * time.Second}
			go func() { <-ctx.Done(); srv.Close() }()
			if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) {
				return err
			}
			return nil
		}
	},
}

// why says what the understudy would do with a request to an agent of a folder.
func (k *call) why(ctx context.Context, dir, agent, text string) error {
	p, shop, err := k.folder(ctx, dir)
	if err != nil {
		return err
	}
	defer shop.Close()
	c, err := understudy.Choose(p, agent, "local", text, time.Now().In(p.Zone))
	var unknown *prompt.UnknownAgentError
	if errors.As(err, &unknown) {
		return &api.Problem{Detail: unknown.Error(), Remedy: unknown.Remedy()}
	}
	if err != nil {
		return err
	}
	if k.json {
		return k.printJSON(c)
	}
	for _, g := range c.Goals {
		k.block(sprint("%s %s ", c.Agent, map[string]string{"asking": "is asked", "bidding": "is to", "telling": "is told"}[g.Mood]), 0, fmt.Sprintf("%q\n", g.Clause))
		for _, r := range g.Candidates {
			k.print("%5.1f  %s%s\n", r.Score, r.Tool, map[bool]string{false: "   (not enough)"}[r.Enough])
			if len(r.Words) > 0 {
				k.block("       ", 7, r.Because())
			}
			if r.Args != "" && r.Args != "{}" {
				k.block("       fills ", 13, r.Args)
			}
			if len(r.Lacks) > 0 {
				k.print("       lacks %s\n", strings.Join(r.Lacks, ", "))
			}
		}
		k.print("\n")
	}
	for _, n := range c.Notes {
		k.print("%s\n", n)
	}
	for _, a := range c.Calls {
		k.print("It calls %s %s\n", a.Tool, a.Args)
	}
	if c.Text != "" {
		k.block("It says: ", 9, c.Text)
	}
	return nil
}
