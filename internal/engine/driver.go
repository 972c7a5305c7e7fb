package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/run"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/value"
)

// note is what a driver finds in its mailbox. A note with nothing in it makes
// the driver look at its run again.
type note struct {
	recover bool
	stop    *ledger.StopAsked
	settle  *Settlement
	undone  *ledger.FileUndone
	step    string // of settle and undone
	done    *done
	reply   chan error
}

func (n note) answer(err error) {
	if n.reply != nil {
		n.reply <- err
	}
}

// done is the result of a deed.
type done struct {
	step    string
	attempt int
	took    time.Duration
	reply   prompt.Reply
	failed  *loop.ModelFailure
	result  loop.Result
	bad     *loop.Failure
	turn    bool
}

type deed struct {
	attempt int
	cancel  context.CancelFunc
}

// driver carries one run on.
type driver struct {
	e       *Engine
	run     string
	project *project.Project
	state   *run.State
	opening *Opening // until the first batch is written
	path    []string // as in Head
	called  []string
	models  []string
	asked   string // the model of the newest turn
	gone    chan struct{}

	staged []ledger.Event // applied, not yet appended
	parts  map[ledger.Hash][]byte
	begin  []func() // deeds to begin once the batch is on disk
	deeds  map[string]deed
	broken error
	bell   bool      // a ticket with a deadline was raised
	force  time.Time // when a stopped run's deeds are given up

	mu   sync.Mutex
	box  []note
	ring chan struct{}
}

func (e *Engine) newDriver(id string, p *project.Project) *driver {
	return &driver{e: e, run: id, project: p, gone: make(chan struct{}), parts: map[ledger.Hash][]byte{}, deeds: map[string]deed{}, ring: make(chan struct{}, 1)}
}

func (d *driver) put(n note) {
	d.mu.Lock()
	d.box = append(d.box, n)
	d.mu.Unlock()
	select {
	case d.ring <- struct{}{}:
	default:
	}
}

func (d *driver) take() []note {
	d.mu.Lock()
	defer d.mu.Unlock()
	box := d.box
	d.box = nil
	return box
}

// load folds the ledger of a run that has no driver yet.
func (d *driver) load() error {
	events, err := d.e.Log.Read(d.e.ctx, d.run)
	if err != nil {
		return err
	}
	if d.state, err = run.Fold(d.run, events); err != nil {
		return err
	}
	for _, ev := range events {
		d.note(ev)
	}
	d.project, err = d.e.Projects.Version(d.e.ctx, d.state.Opened.Version)
	return err
}

// note keeps what the head tells beside the state.
func (d *driver) note(ev ledger.Event) {
	switch x := ev.Data.(type) {
	case *ledger.RunOpened:
		d.path = append(d.path, x.Agent)
	case *ledger.BatonPassed:
		d.path = append(d.path, x.To)
	case *ledger.CallDecided:
		if !slices.Contains(d.called, x.Tool) {
			d.called = append(d.called, x.Tool)
		}
	case *ledger.TurnSent:
		d.asked = x.Model
	case *ledger.TurnReceived:
		if !slices.Contains(d.models, d.asked) {
			d.models = append(d.models, d.asked)
		}
	case *ledger.GateRaised:
		d.bell = d.bell || x.Due != nil
	}
}

// work is the driver's life: notes in, events out, until the run waits for a
// person or is closed.
func (d *driver) work() {
	defer d.e.wg.Done()
	defer close(d.gone)
	if d.state == nil {
		if err := d.load(); err != nil {
			d.leave(err)
			return
		}
		d.bell = false
	}
	for {
		for _, n := range d.take() {
			if err := d.handle(n); err != nil {
				n.answer(err)
				d.leave(err)
				return
			}
		}
		if err := d.advance(); err != nil {
			d.leave(err)
			return
		}
		if d.idle() {
			return
		}
		if d.e.ending() && !d.calling() {
			d.leave(errEnding)
			return
		}
		due, ev, ok := loop.Wake(d.project, d.state)
		if !d.force.IsZero() {
			due, ok = d.force, true
		}
		var timer <-chan time.Time
		stop := func() {}
		if ok {
			timer, stop = d.e.Clock.Until(due, len(d.deeds) == 0)
		}
		select {
		case <-d.ring:
			stop()
		case <-timer:
			if !d.force.IsZero() {
				d.abandon()
			} else {
				d.stage(d.now(), ev)
			}
		case <-d.e.ctx.Done():
			stop()
			d.leave(d.e.ctx.Err())
			return
		}
	}
}

// idle says whether the driver can go: the run is closed or held and nothing
// has come in. It takes the driver out of the engine in the same breath.
func (d *driver) idle() bool {
	st := d.state.Status()
	if (st != ledger.Held && !st.Over()) || len(d.deeds) > 0 {
		return false
	}
	if due, ev, ok := loop.Wake(d.project, d.state); ok && !due.After(d.e.Clock.Now()) {
		d.stage(d.now(), ev)
		return false
	}
	d.e.mu.Lock()
	d.mu.Lock()
	empty := len(d.box) == 0
	if empty {
		delete(d.e.drivers, d.run)
	}
	d.mu.Unlock()
	d.e.mu.Unlock()
	if empty && st.Over() {
		d.e.pump(d.state.Opened.Session)
	}
	return empty
}

var errEnding = errors.New("the service is stopping; try again when it is back")

// calling says whether a call is under way, and lets go of a turn that is.
func (d *driver) calling() bool {
	for step, x := range d.deeds {
		if d.state.Call(step) == nil {
			x.cancel()
			delete(d.deeds, step) // its result is not recorded: it will be asked again
		}
	}
	return len(d.deeds) > 0
}

// leave ends the driver without ending its run.
func (d *driver) leave(err error) {
	for _, x := range d.deeds {
		x.cancel()
	}
	d.e.mu.Lock()
	delete(d.e.drivers, d.run)
	d.e.mu.Unlock()
	for _, n := range d.take() {
		n.answer(err)
	}
	if d.e.ctx.Err() == nil && !errors.Is(err, ErrNoRun) && !errors.Is(err, errEnding) {
		d.e.Logger.Error("a run cannot continue", "run", d.run, "error", err)
	}
}

func (d *driver) handle(n note) error {
	switch {
	case n.recover:
		d.recover()
	case n.stop != nil:
		if d.state.Closed != nil {
			n.answer(refused("", "run %s is over: it is %s", d.run, d.state.Status()))
			return nil
		}
		if d.state.Stop == nil {
			d.stage(d.now(), ledger.New("", n.stop))
			d.force = d.e.Clock.Now().Add(d.e.Grace)
		}
		if err := d.advance(); err != nil {
			return err
		}
		for _, x := range d.deeds {
			x.cancel()
		}
		n.answer(nil)
	case n.settle != nil:
		ev, err := d.settlement(n.step, n.settle)
		if err != nil {
			var r *RefusedError
			var s *SettledError
			var no *NotEntitledError
			if errors.As(err, &r) || errors.As(err, &s) || errors.As(err, &no) {
				n.answer(err)
				return nil
			}
			return err
		}
		if ev != nil {
			d.stage(d.now(), *ev)
			if err := d.advance(); err != nil {
				return err
			}
		}
		n.answer(nil)
	case n.undone != nil:
		d.stage(d.now(), ledger.New(n.step, n.undone))
		if err := d.advance(); err != nil {
			return err
		}
		n.answer(nil)
	case n.done != nil:
		d.finish(n.done)
	}
	return nil
}

// recover records what was in flight when the service ended.
func (d *driver) recover() {
	lost := d.state.InFlight()
	if d.state.Closed != nil || len(d.deeds) > 0 {
		return
	}
	why := "the service started; nothing was under way"
	if len(lost) > 0 {
		why = "the service ended while this was under way"
	}
	d.stage(d.now(), ledger.New("", &ledger.RunRecovered{Lost: lost, Why: why}))
}

// now gives the time of the next events: never before that of the newest.
func (d *driver) now() time.Time {
	now := d.e.Clock.Now()
	if now.Before(d.state.At) {
		return d.state.At
	}
	return now
}

// stage dates and numbers an event, applies it, and keeps it for the next append.
// At is the moment for which the event was made: what an event holds is made again
// from its date, so the clock is read once for both.
func (d *driver) stage(at time.Time, ev ledger.Event) {
	ev.Run, ev.Seq, ev.At = d.run, d.state.Seq+1, at
	if err := d.state.Apply(ev); err != nil {
		d.broken = err // the loop or the ledger is wrong; advance reports it and nothing is written
		return
	}
	d.note(ev)
	d.staged = append(d.staged, ev)
}

// advance asks Next until it has nothing more to say, appends all of it in one
// batch, and begins the deeds whose intents are then on disk.
func (d *driver) advance() error {
	for d.broken == nil && (d.opening != nil || !d.e.ending()) {
		now := d.now()
		acts := loop.Next(d.project, d.state, now)
		if len(acts) == 0 {
			break
		}
		for _, a := range acts {
			switch a := a.(type) {
			case loop.Record:
				d.stage(now, a.Event)
			case loop.Ask:
				if err := d.ask(now, a); err != nil {
					return err
				}
			case loop.Look:
				d.stage(now, d.look(a))
			case loop.Call:
				d.call(now, a)
			}
		}
	}
	if d.broken != nil {
		return d.broken
	}
	if len(d.staged) == 0 {
		return nil
	}
	b := Batch{Run: d.run, Events: d.staged, Parts: d.parts, Head: d.head()}
	var err error
	if d.opening != nil {
		d.opening.Batch = b
		err = d.e.Log.Open(d.e.ctx, *d.opening)
	} else {
		err = d.e.Log.Append(d.e.ctx, b)
	}
	if err != nil {
		return err
	}
	d.opening = nil
	d.e.Live.Committed(d.run, d.staged)
	d.staged, d.parts = nil, map[ledger.Hash][]byte{}
	for _, f := range d.begin {
		f()
	}
	d.begin = nil
	if d.bell {
		d.bell = false
		select {
		case d.e.bell <- struct{}{}:
		default:
		}
	}
	return nil
}

func (d *driver) head() Head {
	s := d.state
	h := Head{Status: s.Status(), Agent: s.Agent, Path: d.path, Called: d.called, Models: d.models, Turns: s.Turns, Calls: s.Calls, Tokens: s.Tokens, Cost: s.Cost,
		Worked: s.Worked(s.At), OpenedAt: s.OpenedAt, LastAt: s.At}
	if s.Closed != nil {
		h.Answer, h.Problem = s.Closed.Answer, s.Closed.Problem
	}
	return h
}

// ask stages a turn's intent with the parts of its request, and its deed.
func (d *driver) ask(now time.Time, a loop.Ask) error {
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
	d.deed(step, attempt, d.project.Models[sent.Model].Timeout, func(ctx context.Context, out *done) {
		out.turn = true
		write, flush := d.e.Blanker.Stream(func(s string) { d.e.Live.Delta(d.run, step, s) })
		out.reply, out.failed = d.e.Models.Ask(ctx, d.project, req, write)
		flush()
	})
	return nil
}

// look sees what a call would do, and gives the event of it. Nothing has any
// consequence, so no intent is written first.
func (d *driver) look(a loop.Look) ledger.Event {
	ctx, cancel := context.WithTimeout(d.e.ctx, a.Tool.Timeout)
	defer cancel()
	inv := d.invocation(a.Tool, a.Call)
	var diff string
	var bad *loop.Failure
	if inv.Args, bad = d.whole(ctx, a.Tool, inv.Args); bad == nil {
		inv.Vars["args"] = expr.Typed(a.Tool.Input.Doc(), inv.Args)
		diff, bad = d.e.Tools.Look(ctx, inv)
	}
	if bad != nil {
		bad.Say = d.e.Blanker.Text(bad.Say)
	}
	return loop.Looked(a.Tool, a.Call.Step, d.e.Blanker.Text(diff), bad)
}

// invocation gives what a handler is told of a call.
func (d *driver) invocation(t *project.Tool, c *run.Call) Invocation {
	args, _ := value.Read(c.Args) // it was checked when it was decided or amended
	return Invocation{Project: d.project, Tool: t, Args: args, Vars: loop.Vars(d.project, d.state, c.Step), Facts: d.state.Facts,
		Key: ledger.Key(d.run, c.Step), Run: d.run, Step: c.Step, Person: d.state.Opened.Person, Pause: d.pause}
}

// call stages a call's intent, and its deed.
func (d *driver) call(now time.Time, a loop.Call) {
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
	due, stop := d.e.Clock.Until(d.e.Clock.Now().Add(wait), true)
	defer stop()
	select {
	case <-due:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (d *driver) deed(step string, attempt int, limit time.Duration, do func(context.Context, *done)) {
	ctx, cancel := context.WithTimeout(d.e.ctx, limit)
	d.deeds[step] = deed{attempt, cancel}
	d.begin = append(d.begin, func() {
		go func() {
			defer cancel()
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
		d.stage(now, loop.TurnFailed(d.project, d.state, *x.failed, x.took, now, d.e.Jitter()))
	case x.turn:
		x.reply.Text, x.reply.Reasoning = bl.Text(x.reply.Text), bl.Text(x.reply.Reasoning)
		for i := range x.reply.Calls {
			x.reply.Calls[i].Args = bl.Text(x.reply.Calls[i].Args)
		}
		d.stage(now, loop.TurnReceived(d.project, d.state, x.reply, x.took))
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

// abandon ends what a stopped run still has in flight.
func (d *driver) abandon() {
	d.force = time.Time{}
	now := d.now()
	for _, step := range d.state.InFlight() {
		d.deeds[step].cancel()
		delete(d.deeds, step)
		why := fmt.Sprintf("it had not ended %s after the stop", d.e.Grace)
		if c := d.state.Call(step); c != nil {
			d.stage(now, ledger.New(step, &ledger.CallFailed{Attempt: c.Attempt, Outcome: ledger.Unknown, Class: "stopped", Say: why, Words: "Not known whether it was done: the run was stopped.", Final: true, Why: why}))
		} else {
			d.stage(now, ledger.New(step, &ledger.TurnFailed{Attempt: d.state.Turn.Attempt, Problem: ledger.Problem{Class: "stopped", Say: why}, Why: why}))
		}
	}
}

// NotEntitledError says that a ticket is for others to settle.
type NotEntitledError struct {
	As  string
	For []string // the approvers who may
}

func (e *NotEntitledError) Error() string {
	return fmt.Sprintf("%q may not settle this ticket; it is for %s", e.As, strings.Join(e.For, ", "))
}

// SettledError says that somebody else was first.
type SettledError struct {
	Verb ledger.Verb
	By   string
}

func (e *SettledError) Error() string {
	who := e.By
	if who == "" {
		who = "nobody"
	}
	return fmt.Sprintf("the ticket is already settled: %s by %s", e.Verb, who)
}

// settlement checks what a person decided and gives its event; nil where the
// same settlement has come before.
func (d *driver) settlement(step string, s *Settlement) (*ledger.Event, error) {
	t := d.state.Ticket(step)
	if !t.Open() {
		was := d.state.Settled[step]
		switch {
		case was == nil:
			return nil, &SettledError{Verb: ledger.Withdrawn}
		case s.ID != "" && was.ID == s.ID && was.Verb == s.Verb:
			return nil, nil
		}
		return nil, &SettledError{Verb: was.Verb, By: was.By}
	}
	verbs := t.Raised.Form.Verbs()
	if !slices.Contains(verbs, s.Verb) {
		return nil, refused("", "a ticket of the kind %s is settled by %s, not by %q", t.Raised.Form, verbList(verbs), s.Verb)
	}
	if s.Shown != "" && s.Shown != t.Raised.Shown {
		return nil, refused("Look at the ticket again.", "the ticket is not what you were shown")
	}
	by := s.By
	if len(t.Raised.By) > 0 {
		by = s.As
		if by == "" {
			by = t.Raised.By[0]
		}
		if !slices.Contains(t.Raised.By, by) {
			return nil, &NotEntitledError{As: by, For: t.Raised.By}
		}
	}
	ev := &ledger.GateSettled{Verb: s.Verb, By: by, Because: s.Because, ID: s.ID, Why: by + " decided"}
	switch s.Verb {
	case ledger.RefuseIt:
		if strings.TrimSpace(s.Because) == "" {
			return nil, refused("Add a reason: the agent passes it on.", "a refusal needs a reason")
		}
	case ledger.Amend:
		args, err := d.amendment(t, s.Args)
		if err != nil {
			return nil, err
		}
		ev.Args = args
	case ledger.Happened:
		if t := d.project.Tools[t.Raised.Tool]; t != nil && s.Result != nil {
			if faults := t.Output.Check(s.Result); len(faults) > 0 {
				return nil, refused("Give a result as output: of the tool describes it, or omit it.", "the result is not one that %s gives: %s", t.Name, schema.Say(faults))
			}
		}
		raw, err := json.Marshal(s.Result)
		if err != nil {
			return nil, err
		}
		ev.Result = raw
	}
	e := ledger.New(step, ev)
	return &e, nil
}

func verbList(v []ledger.Verb) string {
	out := make([]string, len(v))
	for i := range v {
		out[i] = string(v[i])
	}
	return strings.Join(out, ", ")
}

// amendment puts changed values into a ticket's arguments and checks them.
func (d *driver) amendment(t *run.Ticket, change map[string]any) (json.RawMessage, error) {
	if len(change) == 0 {
		return nil, refused("Give the values to change, or allow it as it is.", "an amendment changes at least one value")
	}
	tool := d.project.Tools[t.Raised.Tool]
	args, err := value.ReadObject(t.Raised.Args)
	if err != nil {
		return nil, err
	}
	known := schema.Keys(tool.Input.Doc())
	for k, v := range change {
		if !slices.Contains(known, k) {
			return nil, refused("", "%s has no value %q.%s", tool.Name, k, near.Hint(k, known))
		}
		if v == nil {
			delete(args, k)
			continue
		}
		args[k] = v
	}
	raw, err := json.Marshal(args)
	if err != nil {
		return nil, err
	}
	if _, faults := tool.Input.CheckJSON(raw); len(faults) > 0 {
		return nil, refused("", "the new values do not fit: %s", schema.Say(faults))
	}
	return raw, nil
}
