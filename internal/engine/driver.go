package engine

import (
	"errors"
	"fmt"
	"sync"
	"time"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/view"
)

// driver carries one run on.
type driver struct {
	e       *Engine
	run     string
	project *project.Project
	state   *run.State
	opening *Opening // until the first batch is written
	tally   view.Tally
	epoch   int64
	gone    chan struct{}

	staged []ledger.Event // applied, not yet appended
	parts  map[ledger.Hash][]byte
	begin  []func() // deeds to begin once the batch is on disk
	deeds  map[ledger.StepID]working
	broken error
	stuck  stuck
	bell   bool      // a ticket with a deadline was raised
	force  time.Time // when an ending run's deeds are given up

	mu   sync.Mutex
	box  []note
	ring chan struct{}
}

func (e *Engine) newDriver(id string, p *project.Project) *driver {
	return &driver{e: e, run: id, project: p, gone: make(chan struct{}), parts: map[ledger.Hash][]byte{}, deeds: map[ledger.StepID]working{}, ring: make(chan struct{}, 1)}
}

// load folds the ledger of a run that has no driver yet, and records what nobody carries
// out any more: what was in flight when the driver before went.
func (d *driver) load() error {
	state := run.New(d.run)
	d.tally = view.Tally{}
	for ev, err := range d.e.Log.Read(d.e.ctx, d.run, 0) {
		if err != nil {
			return err
		}
		if err := state.Apply(ev); err != nil {
			return fmt.Errorf("%w: %w", errLedger, err)
		}
		d.tally.Note(ev)
	}
	var err error
	if d.project, err = d.e.Projects.Version(d.e.ctx, state.Opened().Version); err != nil {
		return err
	}
	if d.epoch, err = d.e.Log.Lease(d.e.ctx, d.run); err != nil {
		return err
	}
	d.state = state
	if lost := d.state.InFlight(); len(lost) > 0 {
		d.stage(d.now(), ledger.New("", &ledger.RunRecovered{Lost: lost, Epoch: d.epoch, Why: "the service ended while this was under way"}))
	}
	return nil
}

// work is the driver's life: notes in, events out, until the run waits for a
// person or is closed. Where the records fail it keeps what it knows and tries again, so
// that the result of a call that was made is not lost.
func (d *driver) work() {
	defer d.e.wg.Done()
	defer close(d.gone)
	for {
		if err := d.pass(); err != nil && !d.stick(err) {
			d.leave(err)
			return
		}
		if d.stuck.err == nil {
			if d.idle() {
				return
			}
			if len(d.staged) > 0 {
				continue // something has become due
			}
		}
		if d.e.ending() && !d.calling() {
			d.leave(errEnding)
			return
		}
		if !d.rest() {
			d.leave(d.e.ctx.Err())
			return
		}
	}
}

// pass handles what has come in, and writes what follows from it.
func (d *driver) pass() error {
	if d.state == nil && !d.early() {
		if err := d.load(); err != nil {
			for _, n := range d.take() {
				n.answer(d.e.troubled(err))
			}
			return err
		}
	}
	for notes := d.take(); len(notes) > 0; notes = notes[1:] {
		n := notes[0]
		if d.stuck.err != nil && n.done == nil {
			n.answer(&TroubleError{Err: d.stuck.err})
			continue
		}
		if err := d.handle(n); err != nil {
			if !d.stick(err) {
				n.answer(err)
				d.putBack(notes[1:])
				return err
			}
			n.answer(&TroubleError{Err: err, Kept: true})
		}
	}
	if d.early() {
		return nil
	}
	err := d.advance()
	if err == nil {
		d.unstick()
	}
	return err
}

// rest waits until something has come in or is due. It says whether the engine goes on.
func (d *driver) rest() bool {
	var due time.Time
	var ev ledger.Event
	ok := d.stuck.err != nil
	if ok {
		due = d.stuck.next
	} else if due, ev, ok = loop.Wake(d.project, d.state); !d.force.IsZero() {
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
		switch {
		case d.stuck.err != nil: // it is tried again
		case d.force.IsZero():
			d.stage(d.now(), ev)
		default:
			d.force = time.Time{}
			now := d.now()
			for _, ev := range loop.GiveUp(d.state, d.e.Grace.String()) {
				d.stage(now, ev)
			}
		}
	case <-d.e.ctx.Done():
		stop()
		return false
	}
	return true
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
		d.e.pump(d.state.Opened().Session)
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
