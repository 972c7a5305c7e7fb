package cli

import (
	"context"
	"encoding/json"
	"flag"
	"net/url"

	"stonebaton.example/api"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/trace"
	"stonebaton.example/internal/rows"
)

var followCommand = command{
	name: "follow", args: "[RUN]", most: 1, does: "follow a run live, from its beginning until it ends; without one, whatever runs next",
	example: "stonebaton follow k7f2m-1\nstonebaton follow                    # whatever runs next, one run after the other\nstonebaton follow -session k7f2m",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.remote(fs)
		session := fs.String("session", "", "whatever runs next in this `session`")
		fs.BoolVar(&k.json, "json", false, "print each event as a line of JSON")
		return func(ctx context.Context, args []string) error {
			if len(args) == 0 {
				return k.followNext(ctx, *session)
			}
			if *session != "" {
				return use("a run has its own session: omit -session, or the run")
			}
			f := newFollower(k, k.json)
			last, err := f.tail(ctx, args[0], 0, false)
			if err != nil || k.json {
				return err
			}
			return f.finish(ctx, last, false, "")
		}
	},
}

// tail prints a run until it ends, through every wait for a person; untilHeld ends it there.
func (f *follower) tail(ctx context.Context, run string, after int64, untilHeld bool) (trace.Totals, error) {
	var last trace.Totals
	k, waiting := f.k, false
	err := f.c.Follow(ctx, run, after, func(ch api.Change) error {
		last = ch.Totals
		if k.json {
			raw, err := json.Marshal(ch.Event)
			if err != nil {
				return err
			}
			_, err = k.Out.Write(append(harmless(raw), '\n'))
			return err
		}
		if open, ok := ch.Event.Data.(*ledger.RunOpened); ok {
			k.print("run %s, session %s\n", run, open.Session)
			f.person(open.Person, open.Text)
		}
		f.change(ch)
		now := ch.Totals.Status == ledger.Held
		if now == waiting {
			return nil
		}
		if waiting = now; now {
			tickets, err := f.c.Open(ctx, run)
			if err != nil {
				return err
			}
			for _, t := range tickets {
				k.print("%s", k.ticketLines(t))
			}
			if untilHeld {
				return errHeld
			}
		}
		return nil
	}, f.delta)
	if !f.silent {
		f.end()
	}
	return last, err
}

var errHeld error = exit(held)

// followNext prints the runs that go, one after the other, until ctx ends. One that waits
// for a person makes room for others, and is taken up again when it resumes.
func (k *call) followNext(ctx context.Context, session string) error {
	c := k.client()
	found := make(chan rows.Run, 256)
	gone := make(chan error, 1)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		gone <- c.Live(ctx, func(r rows.Run) {
			select {
			case found <- r:
			case <-ctx.Done():
			}
		})
	}()
	q := url.Values{"status": {"going"}}
	if session != "" {
		q.Set("session", session)
	}
	going, err := c.Runs(ctx, q)
	if err != nil {
		return err
	}
	if !k.json {
		k.note("Waiting for what runs next; Ctrl-C ends it.\n")
	}
	seen := map[string]int64{} // the newest event that was printed of a run
	over := map[string]bool{}
	one := func(r rows.Run) error {
		if over[r.ID] || (session != "" && r.Session != session) {
			return nil
		}
		_, began := seen[r.ID]
		if r.Status == string(ledger.Held) && began {
			return nil
		}
		f := newFollower(k, k.json)
		if !k.json {
			k.print("\n")
		}
		last, err := f.tail(ctx, r.ID, seen[r.ID], true)
		seen[r.ID], over[r.ID] = last.Seq, last.Status.Over()
		switch {
		case err == errHeld || k.json:
			return nil
		case err != nil:
			return err
		}
		if err := f.finish(ctx, last, false, ""); err != nil && err != exit(failed) {
			return err
		}
		return nil
	}
	for i := len(going.Runs) - 1; i >= 0; i-- {
		if err := one(going.Runs[i]); err != nil {
			return err
		}
	}
	begun := map[string]bool{}
	for _, r := range going.Runs {
		begun[r.ID] = true
	}
	for {
		select {
		case r := <-found:
			// a run that was over, or held, before is not what runs next
			if !begun[r.ID] && ledger.Status(r.Status).Over() && r.Turns == 0 && r.Calls == 0 {
				continue
			}
			begun[r.ID] = true
			if err := one(r); err != nil {
				return err
			}
		case err := <-gone:
			return err
		case <-ctx.Done():
			return nil
		}
	}
}
