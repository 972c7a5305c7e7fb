package cli

import (
	"context"
	"errors"
	"flag"
	"net/http"
	"time"

	"stonebaton/understudy"
)

var understudyCommand = command{
	name: "understudy", most: 0, does: "run the stand-in model as an HTTP endpoint of the wire chat-completions", example: "stonebaton understudy -dir examples/harbour -latency 200ms",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
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
			s := &understudy.Server{Key: *key, Models: map[string]understudy.Part{*name: {}}}
			if *dir != "" {
				p, shop, err := k.folder(ctx, *dir)
				if err != nil {
					return err
				}
				defer shop.Close()
				s.Models[*name] = understudy.PartOf(p, nil)
			}
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
