package engine

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// TroubleError says that the records cannot be read or written for now, as on a full disk.
// Runs go on when that works again.
type TroubleError struct {
	Err  error
	Kept bool // what was asked for is in memory, and is written when that is possible
}

func (e *TroubleError) Error() string {
	if e.Kept {
		return fmt.Sprintf("the records cannot be written now: %v; it is done as soon as they can, unless the service ends before that", e.Err)
	}
	return fmt.Sprintf("the records cannot be written now: %v; nothing was changed", e.Err)
}

func (e *TroubleError) Unwrap() error { return e.Err }

// passing says whether an error of the records may pass: any but those that tell
// something of a run, or that the service ends.
func (e *Engine) passing(err error) bool {
	if err == nil || e.ctx.Err() != nil {
		return false
	}
	for _, lasting := range []error{ErrConflict, ErrFenced, ErrBusy, ErrTaken, ErrNoRun, ErrNoSession, errEnding, errLedger, context.Canceled} {
		if errors.Is(err, lasting) {
			return false
		}
	}
	return true
}

// troubled gives an error of the records as one that says so, where it may pass.
func (e *Engine) troubled(err error) error {
	var t *TroubleError
	if !e.passing(err) || errors.As(err, &t) {
		return err
	}
	return &TroubleError{Err: err}
}

// errLedger says that the events of a run do not follow from one another: the program or the
// records are wrong, and no waiting helps.
var errLedger = errors.New("the ledger of the run cannot be followed")

const (
	firstWait = 250 * time.Millisecond
	mostWait  = 15 * time.Second
)

// longer gives how long to wait for the next attempt, after one that took a wait before it.
func longer(wait time.Duration) time.Duration { return min(max(2*wait, firstWait), mostWait) }

// stuck is a driver whose records fail: it keeps what it has, and tries again.
type stuck struct {
	err  error // nil: it is not
	wait time.Duration
	next time.Time
}

// stick has the driver wait and try again after an error, where that may help.
func (d *driver) stick(err error) bool {
	if !d.e.passing(err) {
		return false
	}
	if d.stuck.err == nil {
		d.e.Logger.Error("a run waits until its records can be written", "run", d.run, "error", err)
		d.e.Live.Trouble(d.run, fmt.Sprintf("the records cannot be written now: %v; the run goes on when they can", err))
	}
	wait := longer(d.stuck.wait)
	d.stuck = stuck{err: err, wait: wait, next: d.e.Clock.Now().Add(wait)}
	return true
}

// unstick notes that the records work again.
func (d *driver) unstick() {
	if d.stuck.err != nil {
		d.stuck = stuck{}
		d.e.Logger.Info("the records can be written again, and a run goes on", "run", d.run)
		d.e.Live.Trouble(d.run, "")
	}
}

// early says whether a driver that is stuck has to wait before it tries again.
func (d *driver) early() bool { return d.stuck.err != nil && d.e.Clock.Now().Before(d.stuck.next) }

// later does something after a wait, beside all else, unless the engine ends before.
func (e *Engine) later(wait time.Duration, do func()) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.closing {
		return
	}
	e.wg.Add(1)
	go func() {
		defer e.wg.Done()
		if wait == 0 || Pause(e.ctx, e.Clock, wait, false) == nil {
			do()
		}
	}()
}
