package engine

import (
	"slices"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
)

// note is what a driver finds in its mailbox. A note with nothing in it makes
// the driver look at its run again.
type note struct {
	stop   *ledger.StopAsked
	settle *loop.Settlement
	undone *ledger.FileUndone
	step   ledger.StepID // of settle and undone
	done   *done
	reply  chan error
}

func (n note) answer(err error) {
	if n.reply != nil {
		n.reply <- err
	}
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

// putBack gives back notes that were taken, before those that have come since.
func (d *driver) putBack(notes []note) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.box = append(slices.Clone(notes), d.box...)
}

func (d *driver) take() []note {
	d.mu.Lock()
	defer d.mu.Unlock()
	box := d.box
	d.box = nil
	return box
}

func (d *driver) handle(n note) error {
	switch {
	case n.stop != nil:
		if d.state.Closed() != nil {
			n.answer(refused("", "run %s is over: it is %s", d.run, d.state.Status()))
			return nil
		}
		if d.state.Stop() == nil {
			d.stage(d.now(), ledger.New("", n.stop))
		}
		if err := d.advance(); err != nil {
			return err
		}
		n.answer(nil)
	case n.settle != nil:
		ev, err := loop.Settle(d.project, d.state, n.step, *n.settle)
		if err != nil {
			n.answer(err)
			return nil
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
