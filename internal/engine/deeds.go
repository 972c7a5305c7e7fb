package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/value"
)

// done is the result of a deed.
type done struct {
	step    ledger.StepID
	attempt int
	took    time.Duration
	reply   deed.Reply
	failed  *deed.ModelFailure
	result  deed.Result
	bad     *deed.Failure
	turn    bool
}

type working struct {
	attempt int
	cancel  context.CancelFunc
}

// ask stages a turn's intent with the parts of its request, and its deed.
func (d *driver) ask(now time.Time, a loop.AskModel) error {
	sent := a.Event.Data.(*ledger.TurnSent)
	have := map[ledger.Hash]bool{}
	for _, h := range sent.Added {
		have[h] = true
	}
	d.parts[a.Built.SystemHash] = []byte(a.Built.System)
	d.parts[a.Built.ToolsHash] = a.Built.ToolsJSON
	for i, h := range a.Built.Hashes {
		if !have[h] {
			continue
		}
		raw, err := json.Marshal(a.Built.Messages[i])
		if err != nil {
			return err
		}
		d.parts[h] = raw
	}
	d.stage(now, a.Event)
	req, step, attempt := a.Built.Request, a.Event.Step, sent.Attempt
	agent := d.project.Agent(sent.Agent)
	quiet := agent != nil && agent.Gate != nil // what people have not let through is not said
	d.deed(step, attempt, d.project.Models[sent.Model].Longest, func(ctx context.Context, out *done) {
		out.turn = true
		write, flush := d.e.Blanker.Stream(func(s string) {
			if !quiet {
				d.e.Live.Delta(d.run, step, s)
			}
		})
		out.reply, out.failed = d.e.Models.Ask(ctx, d.project, req, write)
		flush()
	})
	return nil
}

// look sees what a call would do and makes the reads of its gate, side by side, and gives the
// event of it. Nothing has any consequence, so no intent is written first.
func (d *driver) look(a loop.Look) ledger.Event {
	var seen loop.Sight
	var all sync.WaitGroup
	if a.Diff {
		all.Go(func() {
			ctx, cancel := context.WithTimeout(d.e.ctx, a.Tool.Timeout)
			defer cancel()
			inv := d.invocation(a.Tool, a.Call)
			inv.Stub = a.Stub
			var bad *deed.Failure
			if inv.Args, bad = d.whole(ctx, a.Tool, inv.Args); bad == nil {
				inv.Vars["args"] = expr.Typed(a.Tool.Input.Doc(), inv.Args)
				seen.Diff, bad = d.e.Tools.Look(ctx, inv)
				seen.Diff = d.e.Blanker.Text(seen.Diff)
			}
			if bad != nil {
				bad.Say = d.e.Blanker.Text(bad.Say)
				seen.Bad = bad
			}
		})
	}
	found := make([]deed.Result, len(a.Reads))
	lost := make([]*deed.Failure, len(a.Reads))
	for i, r := range a.Reads {
		if lost[i] = r.Bad; r.Bad != nil {
			continue
		}
		inv := d.invocation(a.Tool, a.Call)
		inv.Tool, inv.Args, inv.Stub = r.Tool, r.Args, r.Stub
		inv.Vars["args"] = expr.Typed(r.Tool.Input.Doc(), r.Args)
		inv.Key += "." + r.Name
		all.Go(func() {
			ctx, cancel := context.WithTimeout(d.e.ctx, r.Tool.Timeout)
			defer cancel()
			found[i], lost[i] = d.e.Tools.Call(ctx, inv)
		})
	}
	all.Wait()
	for i, r := range a.Reads {
		if bad := lost[i]; bad != nil && r.Rule && bad.Class == "not_found" {
			seen.Find(r.Name, nil)
			continue
		} else if bad != nil {
			seen.Miss(r.Name, d.e.Blanker.Text(bad.Say))
			continue
		}
		seen.Find(r.Name, d.e.Blanker.Value(found[i].Value))
	}
	return loop.Looked(a, seen)
}

// invocation gives what a handler is told of a call.
func (d *driver) invocation(t *project.Tool, c *run.Call) deed.Invocation {
	args, _ := value.Read(c.Args) // it was checked when it was decided or amended
	return deed.Invocation{Project: d.project, Tool: t, Args: args, Vars: loop.Vars(d.project, d.state, c.Step), Facts: c.Turn.Thread.Facts(),
		Key: ledger.Key(d.run, c.Step), Run: d.run, Step: c.Step, Person: d.state.Opened().Person, Pause: d.pause, Made: d.e.made(d.run)}
}

// earlier is how many runs of a session, beside the one that goes on, are looked at for files.
const earlier = 20

// made lists the files that came with the results of a run, and of those before it in its
// session, the newest first.
func (e *Engine) made(of string) func(context.Context) ([]ledger.File, error) {
	return func(ctx context.Context) ([]ledger.File, error) {
		session, number, _ := strings.Cut(of, "-")
		n, err := strconv.Atoi(number)
		if err != nil {
			n = 1
		}
		var out []ledger.File
		for at := n; at > 0 && at >= n-earlier; at-- {
			events, err := All(e.Log.Read(ctx, fmt.Sprintf("%s-%d", session, at), 0))
			if errors.Is(err, ErrNoRun) {
				continue
			}
			if err != nil {
				return nil, err
			}
			for _, ev := range slices.Backward(events) {
				if r, ok := ev.Data.(*ledger.CallReturned); ok && r.Sent != nil {
					out = append(out, r.Sent.Files...)
				}
			}
		}
		return out, nil
	}
}

// call stages a call's intent, and its deed.
func (d *driver) call(now time.Time, a loop.CallTool) {
	d.stage(now, a.Event)
	step := a.Event.Step
	inv := d.invocation(a.Tool, a.Call)
	inv.Key, inv.Stub = a.Started.Key, a.Started.Stub
	few := rate.NewLimiter(20, 20) // a flood of lines must not crowd out what readers need
	inv.Log = func(line string) {
		if few.Allow() {
			d.e.Live.Delta(d.run, step, d.e.Blanker.Text(line)+"\n")
		}
	}
	d.deed(step, a.Started.Attempt, a.Tool.Timeout, func(ctx context.Context, out *done) {
		if inv.Args, out.bad = d.whole(ctx, a.Tool, inv.Args); out.bad != nil {
			return
		}
		inv.Vars["args"] = expr.Typed(a.Tool.Input.Doc(), inv.Args)
		out.result, out.bad = d.e.Tools.Call(ctx, inv)
	})
}

// pause waits on the engine's clock, which in a drill stands still.
func (d *driver) pause(ctx context.Context, wait time.Duration) error {
	return Pause(ctx, d.e.Clock, wait, true)
}

func (d *driver) deed(step ledger.StepID, attempt int, limit time.Duration, do func(context.Context, *done)) {
	ctx, cancel := context.WithCancel(d.e.ctx)
	d.deeds[step] = working{attempt, cancel}
	d.begin = append(d.begin, func() {
		ctx, end := context.WithTimeout(ctx, limit) // from now on: the batch may have had to wait for the disk
		go func() {
			defer cancel()
			defer end()
			began := time.Now()
			out := &done{step: step, attempt: attempt}
			do(ctx, out)
			out.took = time.Since(began)
			if d.e.ctx.Err() != nil {
				return // the service is ending; the next start recovers
			}
			d.put(note{done: out})
		}()
	})
}

// finish records the result of a deed.
func (d *driver) finish(x *done) {
	cur, ok := d.deeds[x.step]
	if !ok || cur.attempt != x.attempt {
		return // given up already
	}
	delete(d.deeds, x.step)
	now, bl := d.now(), d.e.Blanker
	switch {
	case x.turn && x.failed != nil:
		x.failed.Say, x.failed.Remedy = bl.Text(x.failed.Say), bl.Text(x.failed.Remedy)
		d.stage(now, loop.TurnFailed(d.project, d.state, x.step, *x.failed, x.took, now, d.e.Jitter()))
	case x.turn:
		x.reply.Text, x.reply.Reasoning = bl.Text(x.reply.Text), bl.Text(x.reply.Reasoning)
		for i := range x.reply.Calls {
			x.reply.Calls[i].Args = bl.Text(x.reply.Calls[i].Args)
		}
		d.stage(now, loop.TurnReceived(d.project, d.state, x.step, x.reply, x.took))
	case x.bad != nil:
		x.bad.Say, x.bad.Body, x.bad.Sent = bl.Text(x.bad.Say), bl.Value(x.bad.Body), BlankSent(bl, x.bad.Sent)
		d.stage(now, loop.CallFailed(d.project, d.state, x.step, *x.bad, x.took, now, d.e.Jitter()))
	default:
		x.result.Value, x.result.Sent = bl.Value(x.result.Value), BlankSent(bl, x.result.Sent)
		for _, ev := range loop.CallReturned(d.project, d.state, x.step, x.result, x.took, now, d.e.Jitter()) {
			d.stage(now, ev)
		}
	}
}

// BlankSent takes secrets out of the proof of a call.
func BlankSent(bl Blanker, s *ledger.Sent) *ledger.Sent {
	if s == nil {
		return nil
	}
	c := *s
	c.URL, c.Body, c.Reply, c.Log, c.Diff = bl.Text(s.URL), bl.Text(s.Body), bl.Text(s.Reply), bl.Text(s.Log), bl.Text(s.Diff)
	c.Headers = map[string]string{}
	for k, v := range s.Headers {
		c.Headers[k] = bl.Text(v)
	}
	if len(c.Headers) == 0 {
		c.Headers = nil
	}
	return &c
}
