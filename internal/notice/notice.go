package notice

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/view"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/live"
	"stonebaton.example/internal/people"
	"stonebaton.example/internal/rows"
	"stonebaton.example/internal/store"
)

// Bounds of notices.
const (
	lives   = 7 * 24 * time.Hour // a link, where the ticket does not lapse before
	most    = 50                 // people who are told at once
	maxTry  = 6
	firstIn = 20 * time.Second // after a try that failed; then twice as long, and so on
	page    = 100
)

// Teller tells people of tickets. Its fields are set before Run and not changed.
type Teller struct {
	Store    *store.Store
	Projects engine.Projects
	Tools    engine.Tools
	People   *people.Book
	Signer   *people.Signer
	Hub      *live.Hub
	Secrets  engine.Blanker
	Clock    engine.Clock
	Logger   *slog.Logger
	URL      func() string // where people reach the service
}

// Run tells people until ctx ends.
func (t *Teller) Run(ctx context.Context) {
	r := t.Hub.Read("")
	defer r.Close()
	for ctx.Err() == nil {
		next, err := t.Tell(ctx)
		if err != nil && ctx.Err() == nil {
			t.Logger.Error("failed to tell people of tickets", "error", err)
			next = t.Clock.Now().Add(firstIn)
		}
		t.sleep(ctx, r, next)
	}
}

// sleep waits until something may be due.
func (t *Teller) sleep(ctx context.Context, r *live.Reader, next time.Time) {
	var due <-chan time.Time
	stop := func() {}
	if !next.IsZero() {
		due, stop = t.Clock.Until(next, false)
	}
	defer stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-due:
			return
		case n := <-r.C:
			if r.Missed() || slices.ContainsFunc(n.Events, raises) {
				return
			}
		}
	}
}

// raises says whether an event may have made a notice due.
func raises(e ledger.Event) bool {
	return e.Kind == ledger.KindGateRaised || e.Kind == ledger.KindTimerFired
}

// Tell tells all that is due, and gives when the next is.
func (t *Teller) Tell(ctx context.Context) (next time.Time, err error) {
	for {
		now := t.Clock.Now()
		due, next, err := t.Store.Notices(ctx, now, page)
		if err != nil {
			return next, err
		}
		for _, n := range due {
			if err := t.tell(ctx, n); err != nil {
				return next, err
			}
		}
		if len(due) < page {
			if len(due) > 0 { // what was told may be followed by a reminder
				continue
			}
			return next, nil
		}
	}
}

// tell makes the calls of one notice and keeps how they went.
func (t *Teller) tell(ctx context.Context, n rows.Notice) error {
	fails, err := t.calls(ctx, &n)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		fails = append(fails, err.Error())
	}
	n.Tries++
	now := t.Clock.Now()
	switch n.Failed = people.HideLinks(t.Secrets.Text(strings.Join(fails, "; "))); {
	case len(fails) == 0:
		n.Status, n.Due = "told", rows.Moment{Time: now}
	case n.Tries >= maxTry:
		n.Status, n.Due = "failed", rows.Moment{Time: now}
	default:
		n.Due = rows.Moment{Time: now.Add(firstIn << (n.Tries - 1))}
	}
	if len(fails) > 0 {
		t.Logger.Warn("people could not be told of a ticket", "ticket", n.Ticket, "run", n.Run, "try", n.Tries, "error", n.Failed)
	}
	if err := t.Store.Told(ctx, n, now); err != nil {
		return err
	}
	t.Hub.Changed("tickets")
	return nil
}

// calls tells each of those who may settle the ticket and were not told yet.
func (t *Teller) calls(ctx context.Context, n *rows.Notice) (fails []string, err error) {
	defer func() { // what a notice trips over must not end the service
		if r := recover(); r != nil {
			t.Logger.Error("a notice could not be put together", "ticket", n.Ticket, "panic", r, "stack", string(debug.Stack()))
			err = fmt.Errorf("the notice could not be put together: %v", r)
		}
	}()
	ticket, err := t.Store.Ticket(ctx, n.Ticket)
	if err != nil {
		return nil, err
	}
	events, err := engine.All(t.Store.Read(ctx, n.Run, 0))
	if err != nil {
		return nil, err
	}
	s, err := run.Fold(n.Run, events)
	if err != nil {
		return nil, err
	}
	if ticket.Status != "open" || !s.Ticket(ledger.StepID(n.Step)).Open() {
		return nil, nil
	}
	p, err := t.Projects.Version(ctx, s.Opened().Version)
	if err != nil {
		return nil, err
	}
	who, err := t.recipients(s, ticket, n.Kind)
	if err != nil {
		return nil, err
	}
	for _, to := range who {
		key := to.Name
		if slices.Contains(n.Told, key) {
			continue
		}
		if err := t.call(ctx, p, s, ticket, *n, to); err != nil {
			fails = append(fails, fmt.Sprintf("%s: %v", to.Name, err))
			continue
		}
		n.Told = append(n.Told, key)
	}
	return fails, nil
}

// recipients gives whom a notice is for.
func (t *Teller) recipients(s *run.State, ticket rows.Ticket, kind string) ([]people.Person, error) {
	names := s.Ticket(ledger.StepID(ticket.Step)).For()
	if kind == "escalated" {
		names = s.Ticket(ledger.StepID(ticket.Step)).Raised.Escalate.To
	}
	if len(names) == 0 { // anybody: those who may, and whoever the run works for, where it asks them
		names = []string{"approve"}
		if s.Ticket(ledger.StepID(ticket.Step)).Raised.Theirs() {
			names = []string{s.Opened().Person}
		}
	}
	none, err := t.People.None()
	if none && len(s.Ticket(ledger.StepID(ticket.Step)).For()) == 0 {
		names = []string{engine.Local}
	}
	if err != nil {
		return nil, err
	}
	who, err := t.People.Of(names)
	if err != nil {
		return nil, err
	}
	who = slices.DeleteFunc(who, func(p people.Person) bool {
		return p.Name == ticket.Barred || slices.ContainsFunc(ticket.Votes, func(v view.Vote) bool { return v.By == p.Name })
	})
	if len(who) == 0 && len(s.Ticket(ledger.StepID(ticket.Step)).For()) == 0 {
		return nil, nil // the gate names nobody, and there is nobody to be told: who looks finds it
	}
	if len(who) == 0 {
		return nil, fmt.Errorf("nobody is %s", strings.Join(names, " or "))
	}
	if len(who) > most {
		return nil, fmt.Errorf("%d people may settle it, and at most %d are told", len(who), most)
	}
	return who, nil
}

// call tells one person, by the tool that the project names.
func (t *Teller) call(ctx context.Context, p *project.Project, s *run.State, ticket rows.Ticket, n rows.Notice, to people.Person) error {
	now := t.Clock.Now()
	expires := now.Add(lives)
	if ticket.Due != nil && ticket.Due.Before(expires) {
		expires = ticket.Due.Time
	}
	token, err := t.Signer.Sign(people.NewLink(ticket.ID, to.Name, expires), now)
	if err != nil {
		return err
	}
	address := to.Address
	if address == "" {
		address = to.Name
	}
	tool, args, vars, err := loop.NoticeCall(p, s, ledger.StepID(n.Step), loop.Notice{To: to.Name, Address: address, Link: t.URL() + "/link#" + token, Kind: n.Kind, Ticket: ticket.ID})
	if err != nil {
		return err
	}
	pause := func(ctx context.Context, wait time.Duration) error { return engine.Pause(ctx, t.Clock, wait, false) }
	o := s.Opened()
	rung := tool.Rung.Lower(o.Rung).Lower(o.Rungs[tool.Name]) // where tools are not let, neither is this one
	_, bad := t.Tools.Call(ctx, deed.Invocation{Stub: rung.Stubs(tool.Effect), Project: p, Tool: tool, Args: args, Vars: vars, Facts: s.Facts(), Key: fmt.Sprintf("notice-%d-%s", n.N, to.Name), Person: to.Name, Pause: pause})
	if bad != nil {
		return errors.New(bad.Say)
	}
	return nil
}
