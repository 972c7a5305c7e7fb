package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/run"
)

// asides brings the calls that wait aside further, those of a session or all where it is "":
// it begins the run of one that has none, and tells the conversation of one that is over. What
// it fails to do it tries again, and at the next start, since what is left stands in the records.
func (e *Engine) asides(session string) { e.asidesAfter(session, 0) }

func (e *Engine) asidesAfter(session string, wait time.Duration) {
	e.later(0, func() {
		list, err := e.Log.Asides(e.ctx, session)
		for _, a := range list {
			if err == nil {
				err = e.aside(e.ctx, a)
			}
		}
		if err == nil || e.ctx.Err() != nil || errors.Is(err, errEnding) {
			return
		}
		if wait == 0 {
			e.Logger.Error("a call that waits aside is not brought further yet", "error", err)
		}
		wait := longer(wait)
		e.later(wait, func() { e.asidesAfter(session, wait) })
	})
}

func (e *Engine) aside(ctx context.Context, a Aside) error {
	switch {
	case a.Status == "":
		return e.openAside(ctx, a)
	case a.Status.Over():
		return e.tellAside(ctx, a)
	}
	return nil
}

// putAside folds a run to where it put a call aside.
func (e *Engine) putAside(ctx context.Context, a Aside) (*run.State, *run.Call, error) {
	events, err := All(e.Log.Read(ctx, a.Run, 0))
	if err != nil {
		return nil, nil, err
	}
	for i, ev := range events {
		if d, ok := ev.Data.(*ledger.CallRefused); ok && ev.Step == a.Step && d.Aside != nil {
			s, err := run.Fold(a.Run, events[:i])
			if err != nil {
				return nil, nil, err
			}
			return s, s.Call(a.Step), nil
		}
	}
	return nil, nil, fmt.Errorf("run %s has put no call aside at %s", a.Run, a.Step)
}

// openAside begins the run of a call that waits aside. It sees what the call would have seen.
func (e *Engine) openAside(ctx context.Context, a Aside) error {
	s, c, err := e.putAside(ctx, a)
	if err != nil {
		return err
	}
	o := s.Opened()
	p, err := e.Projects.Version(ctx, o.Version)
	if err != nil {
		return err
	}
	_, err = e.open(ctx, p, Start{New: a.Session, Text: c.Decided.Tool, Person: o.Person, Call: &ledger.Ask{ID: "1", Tool: c.Decided.Tool, Args: string(c.Args)}, Via: ledger.ViaAside,
		Beside: &ledger.Beside{Run: a.Run, Step: a.Step, Agent: c.Turn.Agent}, Tools: o.Tools, Rung: o.Rung, Rungs: o.Rungs, State: s.Facts()}, 0)
	if errors.Is(err, ErrTaken) {
		return nil // it was begun before
	}
	return err
}

// tellAside tells the conversation what became of a call.
func (e *Engine) tellAside(ctx context.Context, a Aside) error {
	s, c, err := e.putAside(ctx, a)
	if err != nil {
		return err
	}
	ended, err := e.State(ctx, a.Session+"-1")
	if err != nil {
		return err
	}
	text, changed := loop.AsideTold(c.Decided.Tool, c.Args, ended)
	session, _, _ := strings.Cut(a.Run, "-")
	st := Start{Session: session, Text: text, Person: s.Opened().Person, Via: ledger.ViaAside, Tools: s.Opened().Tools, Rung: s.Opened().Rung, Rungs: s.Opened().Rungs, Model: s.Opened().Model}
	if len(changed) > 0 {
		if st.Sets, err = json.Marshal(changed); err != nil {
			return err
		}
	}
	fresh, err := e.Log.TellAside(ctx, a, st)
	if err != nil || !fresh {
		return err
	}
	e.waits(session, 1)
	e.pump(session)
	return nil
}
