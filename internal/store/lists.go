package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/rows"
)

// RunFilter narrows the list of runs; what is empty narrows nothing.
type RunFilter struct {
	Status, Agent, Tool, Text, Session string
	Since, Until                       time.Time
	Before                             int64 // N of the last row of the page before
	Limit                              int   // 0 is 100
}

const runCols = `SELECT n, id, session, person, text, status, agent, path, called, models, turns, calls, tokens_in AS "tokens.in", tokens_out AS "tokens.out", cost, worked, answer, problem, opened_at, last_at FROM run`

// Runs lists runs, the newest first.
func (s *Store) Runs(ctx context.Context, f RunFilter) ([]rows.Run, error) {
	q, p := runCols+` WHERE 1`, named{"limit": f.Limit}
	add := func(is bool, name string, value any, cond string) {
		if is {
			q += " AND " + cond
			p[name] = value
		}
	}
	add(f.Status != "", "status", f.Status, "status = :status")
	add(f.Agent != "", "agent", " "+f.Agent+" ", "(instr(path, :agent) OR instr(worked_by, :agent))")
	add(f.Tool != "", "tool", " "+f.Tool+" ", "instr(called, :tool)")
	add(f.Session != "", "session", f.Session, "session = :session")
	add(f.Text != "", "wanted", f.Text, "(instr(lower(text), lower(:wanted)) OR instr(lower(answer), lower(:wanted)) OR instr(lower(coalesce(problem, '')), lower(:wanted)) OR id = :wanted)")
	add(!f.Since.IsZero(), "since", rows.Moment{Time: f.Since}, "opened_at >= :since")
	add(!f.Until.IsZero(), "until", rows.Moment{Time: f.Until}, "opened_at < :until")
	add(f.Before > 0, "before", f.Before, "n < :before")
	if f.Limit <= 0 {
		p["limit"] = 100
	}
	out := []rows.Run{}
	err := s.list(ctx, &out, q+" ORDER BY n DESC LIMIT :limit", p)
	return out, err
}

// list reads rows by a statement with named parameters.
func (s *Store) list(ctx context.Context, into any, query string, params named) error {
	q, args, err := sqlx.Named(query, params)
	if err != nil {
		return err
	}
	return s.read.SelectContext(ctx, into, q, args...)
}

// rows.Run gives one row of the list.
func (s *Store) Run(ctx context.Context, id string) (rows.Run, error) {
	var r rows.Run
	err := s.read.GetContext(ctx, &r, runCols+` WHERE id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return r, engine.ErrNoRun
	}
	return r, err
}

// Counts gives how many runs there are of each status.
func (s *Store) Counts(ctx context.Context) (map[string]int, error) {
	var raw []struct {
		Status string
		N      int
	}
	err := s.read.SelectContext(ctx, &raw, `SELECT status, count(*) AS n FROM run GROUP BY status`)
	out := map[string]int{}
	for _, r := range raw {
		out[r.Status] = r.N
	}
	return out, err
}

const sessionCols = `SELECT r.n, s.id, s.title, s.person, s.runs, s.last, r.status, r.agent, r.last_at,
	(SELECT sum(turns) FROM run WHERE session = s.id) AS turns, (SELECT sum(calls) FROM run WHERE session = s.id) AS calls,
	(SELECT sum(tokens_in) FROM run WHERE session = s.id) AS "tokens.in", (SELECT sum(tokens_out) FROM run WHERE session = s.id) AS "tokens.out",
	(SELECT sum(cost) FROM run WHERE session = s.id) AS cost, (SELECT sum(worked) FROM run WHERE session = s.id) AS worked
	FROM session s JOIN run r ON r.id = s.last`

// Sessions lists the sessions, the newest run first; before is the N of the last row
// of the page before, 0 for the first page.
func (s *Store) Sessions(ctx context.Context, before int64, limit int) ([]rows.Session, error) {
	out := []rows.Session{}
	err := s.list(ctx, &out, sessionCols+` WHERE :before = 0 OR r.n < :before ORDER BY r.n DESC LIMIT :limit`, named{"before": before, "limit": limit})
	return out, err
}

// rows.Session gives one row of the list of sessions.
func (s *Store) SessionRow(ctx context.Context, id string) (rows.Session, error) {
	var r rows.Session
	err := s.read.GetContext(ctx, &r, sessionCols+` WHERE s.id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return r, engine.ErrNoSession
	}
	return r, err
}

// TicketFilter narrows the list of tickets; what is empty narrows nothing.
type TicketFilter struct {
	Run   string
	All   bool // the settled ones too
	Skip  int  // rows of the pages before
	Limit int  // 0 is 500
}

// Tickets lists tickets: the open ones with the nearest deadline first, or with
// All, then the settled ones, the newest first.
func (s *Store) Tickets(ctx context.Context, f TicketFilter) ([]rows.Ticket, error) {
	q, p := `SELECT * FROM ticket WHERE (:run = '' OR run = :run)`, named{"run": f.Run, "limit": f.Limit, "skip": f.Skip}
	if !f.All {
		q += ` AND status = 'open'`
	}
	if f.Limit <= 0 {
		p["limit"] = 500
	}
	out := []rows.Ticket{}
	err := s.list(ctx, &out, q+` ORDER BY status <> 'open', CASE status WHEN 'open' THEN coalesce(due, 9e18) ELSE -settled_at END, id LIMIT :limit OFFSET :skip`, p)
	for i := range out {
		out[i].Finish()
	}
	return out, err
}

// OpenTickets counts the tickets that wait for a person.
func (s *Store) OpenTickets(ctx context.Context) (n int, err error) {
	err = s.read.GetContext(ctx, &n, `SELECT count(*) FROM ticket WHERE status = 'open'`)
	return n, err
}

// ErrNoTicket says that there is no such ticket.
var ErrNoTicket = errors.New("there is no such ticket")

// rows.Ticket gives one ticket.
func (s *Store) Ticket(ctx context.Context, id int64) (rows.Ticket, error) {
	var t rows.Ticket
	err := s.read.GetContext(ctx, &t, `SELECT * FROM ticket WHERE id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return t, ErrNoTicket
	}
	t.Finish()
	return t, err
}
