package engine

import (
	"fmt"
	"time"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
)

// now gives the time of the next events: never before that of the newest.
func (d *driver) now() time.Time {
	now := d.e.Clock.Now()
	if now.Before(d.state.At()) {
		return d.state.At()
	}
	return now
}

// stage dates and numbers an event, applies it, and keeps it for the next append.
// At is the moment for which the event was made: what an event holds is made again
// from its date, so the clock is read once for both.
func (d *driver) stage(at time.Time, ev ledger.Event) {
	ev.Run, ev.Seq, ev.At = d.run, d.state.Seq()+1, at
	if err := d.blank(&ev); err != nil {
		d.broken = fmt.Errorf("%w: %w", errLedger, err)
		return
	}
	if err := d.state.Apply(ev); err != nil {
		d.broken = fmt.Errorf("%w: %w", errLedger, err) // advance reports it and nothing is written
		return
	}
	d.tally.Note(ev)
	if g, ok := ev.Data.(*ledger.GateRaised); ok && (g.Due != nil || g.Escalate != nil) {
		d.bell = true
	}
	d.staged = append(d.staged, ev)
}

// blank takes secrets out of an event. Every event of the ledger goes through it, whatever it
// holds and whoever said it.
func (d *driver) blank(ev *ledger.Event) error {
	if d.e.Blanker.Empty() {
		return nil
	}
	raw, err := ledger.EncodeData(ev.Data)
	if err != nil {
		return err
	}
	if raw, changed := d.e.Blanker.Raw(raw); changed {
		ev.Data, err = ledger.DecodeData(*ev, raw)
	}
	return err
}

// batchMost bounds the events of one append; a pass is never cut.
const batchMost = 256

// advance asks Next until it has nothing more to say, appends all of it, and begins the
// deeds whose intents are then on disk. What is no longer in flight is cancelled: its result
// would be of no use.
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
			case loop.AskModel:
				if err := d.ask(now, a); err != nil {
					return err
				}
			case loop.Look:
				d.stage(now, d.look(a))
			case loop.CallTool:
				d.call(now, a)
			}
		}
		if len(d.staged) >= batchMost && d.broken == nil {
			if err := d.append(); err != nil {
				return err
			}
		}
	}
	if d.broken != nil {
		return d.broken
	}
	if err := d.append(); err != nil {
		return err
	}
	for step, x := range d.deeds {
		if !d.state.Flying(step) {
			x.cancel()
			delete(d.deeds, step)
		}
	}
	if d.state.Summing() {
		d.force = time.Time{} // its turn has a timeout of its own
		return nil
	}
	if d.state.Ending() && d.force.IsZero() && len(d.deeds) > 0 {
		d.force = d.e.Clock.Now().Add(d.e.Grace)
		for _, x := range d.deeds {
			x.cancel()
		}
	}
	return nil
}

// append puts what is staged on disk, and begins its deeds.
func (d *driver) append() error {
	if len(d.staged) == 0 {
		return nil
	}
	b := Batch{Run: d.run, Events: d.staged, Epoch: d.epoch, Parts: d.parts, Head: d.tally.Head(d.state)}
	if d.state.Closed() != nil {
		b.Kept = d.state.Kept()
	}
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
	d.unstick()
	d.e.Live.Committed(d.run, d.staged)
	for _, ev := range d.staged {
		if x, ok := ev.Data.(*ledger.CallRefused); ok && x.Aside != nil {
			defer d.e.asides(x.Aside.Session)
		}
	}
	if d.state.Closed() != nil && d.state.Opened().Via == ledger.ViaAside && d.state.Opened().Call != nil {
		defer d.e.asides(d.state.Opened().Session)
	}
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
