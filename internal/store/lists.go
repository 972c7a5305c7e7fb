package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"stonebaton.example/core/ledger"
	"stonebaton.example/internal/engine"
)

// Run is a row of the list of runs. Its names are those of the run itself.
type Run struct {
	N       int64        `json:"-" db:"n"`
	ID      string       `json:"id" db:"id"`
	Session string       `json:"session" db:"session"`
	Person  string       `json:"person" db:"person"`
	Text    string       `json:"text" db:"text"`
	Status  string       `json:"status" db:"status"`
	Agent   string       `json:"agent" db:"agent"`
	Path    Names        `json:"path" db:"path"`     // the agents that held the baton, in order
	Called  Names        `json:"called" db:"called"` // tools
	Models  Names        `json:"models" db:"models"`
	Turns   int          `json:"turns" db:"turns"`
	Calls   int          `json:"calls" db:"calls"`
	Tokens  ledger.Usage `json:"tokens" db:"tokens"`
	Cost    float64      `json:"cost" db:"cost"`
	MS      int64        `json:"ms" db:"worked"` // of work, waits for people not counted
	Answer  string       `json:"answer" db:"answer"`
	Problem JSON         `json:"problem,omitempty" db:"problem"`
	Opened  Moment       `json:"opened_at" db:"opened_at"`
	Last    Moment       `json:"last_at" db:"last_at"`
}

// RunFilter narrows the list of runs; what is empty narrows nothing.
type RunFilter struct {
	Status, Agent, Tool, Text, Session string
	Since, Until                       time.Time
	Before                             int64 // N of the last row of the page before
	Limit                              int   // 0 is 100
}

const runCols = `SELECT n, id, session, person, text, status, agent, path, called, models, turns, calls, tokens_in AS "tokens.in", tokens_out AS "tokens.out", cost, worked, answer, problem, opened_at, last_at FROM run`

// Runs lists runs, the newest first.
func (s *Store) Runs(ctx context.Context, f RunFilter) ([]Run, error) {
	q, p := runCols+` WHERE 1`, named{"limit": f.Limit}
	add := func(is bool, name string, value any, cond string) {
		if is {
			q += " AND " + cond
			p[name] = value
		}
	}
	add(f.Status != "", "status", f.Status, "status = :status")
	add(f.Agent != "", "agent", " "+f.Agent+" ", "instr(path, :agent)")
	add(f.Tool != "", "tool", " "+f.Tool+" ", "instr(called, :tool)")
	add(f.Session != "", "session", f.Session, "session = :session")
	add(f.Text != "", "wanted", f.Text, "(instr(lower(text), lower(:wanted)) OR instr(lower(answer), lower(:wanted)) OR instr(lower(coalesce(problem, '')), lower(:wanted)) OR id = :wanted)")
	add(!f.Since.IsZero(), "since", Moment{f.Since}, "opened_at >= :since")
	add(!f.Until.IsZero(), "until", Moment{f.Until}, "opened_at < :until")
	add(f.Before > 0, "before", f.Before, "n < :before")
	if f.Limit <= 0 {
		p["limit"] = 100
	}
	out := []Run{}
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

// Run gives one row of the list.
func (s *Store) Run(ctx context.Context, id string) (Run, error) {
	var r Run
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

// SessionRow is a row of the list of sessions, with the sums of its runs.
type SessionRow struct {
	N      int64        `json:"-" db:"n"` // of its newest run
	ID     string       `json:"id" db:"id"`
	Title  string       `json:"title" db:"title"`
	Person string       `json:"person" db:"person"`
	Runs   int          `json:"runs" db:"runs"`
	Last   string       `json:"last" db:"last"`
	Status string       `json:"status" db:"status"`
	Agent  string       `json:"agent" db:"agent"`
	Turns  int          `json:"turns" db:"turns"`
	Calls  int          `json:"calls" db:"calls"`
	Tokens ledger.Usage `json:"tokens" db:"tokens"`
	Cost   float64      `json:"cost" db:"cost"`
	MS     int64        `json:"ms" db:"worked"`
	LastAt Moment       `json:"last_at" db:"last_at"`
}

const sessionCols = `SELECT r.n, s.id, s.title, s.person, s.runs, s.last, r.status, r.agent, r.last_at,
	(SELECT sum(turns) FROM run WHERE session = s.id) AS turns, (SELECT sum(calls) FROM run WHERE session = s.id) AS calls,
	(SELECT sum(tokens_in) FROM run WHERE session = s.id) AS "tokens.in", (SELECT sum(tokens_out) FROM run WHERE session = s.id) AS "tokens.out",
	(SELECT sum(cost) FROM run WHERE session = s.id) AS cost, (SELECT sum(worked) FROM run WHERE session = s.id) AS worked
	FROM session s JOIN run r ON r.id = s.last`

// Sessions lists the sessions, the newest run first; before is the N of the last row
// of the page before, 0 for the first page.
func (s *Store) Sessions(ctx context.Context, before int64, limit int) ([]SessionRow, error) {
	out := []SessionRow{}
	err := s.list(ctx, &out, sessionCols+` WHERE :before = 0 OR r.n < :before ORDER BY r.n DESC LIMIT :limit`, named{"before": before, "limit": limit})
	return out, err
}

// SessionRow gives one row of the list of sessions.
func (s *Store) SessionRow(ctx context.Context, id string) (SessionRow, error) {
	var r SessionRow
	err := s.read.GetContext(ctx, &r, sessionCols+` WHERE s.id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return r, engine.ErrNoSession
	}
	return r, err
}

// Ticket is a row of the list of tickets.
type Ticket struct {
	ID        int64         `json:"id" db:"id"`
	Run       string        `json:"run" db:"run"`
	Step      string        `json:"step" db:"step"`
	Form      string        `json:"form" db:"form"`
	Agent     string        `json:"agent" db:"agent"`
	Tool      string        `json:"tool" db:"tool"`
	Args      JSON          `json:"args" db:"args"`
	Ask       string        `json:"ask" db:"ask"`
	By        List          `json:"by" db:"approvers"`
	Why       string        `json:"why" db:"why"`
	Reason    string        `json:"reason,omitempty" db:"reason"` // the model's own, for reason_first
	Diff      string        `json:"diff,omitempty" db:"diff"`     // of the file that the call would change
	Shown     string        `json:"shown" db:"shown"`
	Due       *Moment       `json:"due,omitempty" db:"due"`
	Raised    Moment        `json:"raised_at" db:"raised_at"`
	Status    string        `json:"status" db:"status"`
	SettledBy string        `json:"settled_by,omitempty" db:"settled_by"`
	Because   string        `json:"because,omitempty" db:"because"`
	NewArgs   JSON          `json:"new_args,omitempty" db:"new_args"`
	Settled   *Moment       `json:"settled_at,omitempty" db:"settled_at"`
	Verbs     []ledger.Verb `json:"verbs" db:"-"`
}

func (t *Ticket) finish() { t.Verbs = ledger.TicketKind(t.Form).Verbs() }

// TicketFilter narrows the list of tickets; what is empty narrows nothing.
type TicketFilter struct {
	Run   string
	All   bool // the settled ones too
	Skip  int  // rows of the pages before
	Limit int  // 0 is 500
}

// Tickets lists tickets: the open ones with the nearest deadline first, or with
// All, then the settled ones, the newest first.
func (s *Store) Tickets(ctx context.Context, f TicketFilter) ([]Ticket, error) {
	q, p := `SELECT * FROM ticket WHERE (:run = '' OR run = :run)`, named{"run": f.Run, "limit": f.Limit, "skip": f.Skip}
	if !f.All {
		q += ` AND status = 'open'`
	}
	if f.Limit <= 0 {
		p["limit"] = 500
	}
	out := []Ticket{}
	err := s.list(ctx, &out, q+` ORDER BY status <> 'open', CASE status WHEN 'open' THEN coalesce(due, 9e18) ELSE -settled_at END, id LIMIT :limit OFFSET :skip`, p)
	for i := range out {
		out[i].finish()
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

// Ticket gives one ticket.
func (s *Store) Ticket(ctx context.Context, id int64) (Ticket, error) {
	var t Ticket
	err := s.read.GetContext(ctx, &t, `SELECT * FROM ticket WHERE id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return t, ErrNoTicket
	}
	t.finish()
	return t, err
}
