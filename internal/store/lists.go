package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/rows"
)

// RunFilter narrows the list of runs; what is empty narrows nothing.
type RunFilter struct {
	Status, Agent, Tool, Text, Session string
	ID                                 string
	For                                string // who may see them: their own, and those of sessions that are shared with them
	Since, Until                       time.Time
	Before                             int64 // N of the last row of the page before
	Limit                              int   // 0 is 100
}

// seenBy narrows runs to those that a person may see.
const seenBy = `(person = :for OR session IN (SELECT session FROM shared WHERE person = :for))`

// brief gives a column with a long text cut: lists hold many rows, and runs have their texts whole.
func brief(column string) string {
	return fmt.Sprintf(`CASE WHEN length(%[1]s) > %[2]d THEN substr(%[1]s, 1, %[2]d) || '…' ELSE %[1]s END AS %[1]s`, column, briefly)
}

// briefly is how many letters of a text a row of a list has.
const briefly = 500

var runCols = `SELECT n, id, session, person, ` + brief("text") + `, status, agent, path, called, models, turns, calls, tokens_in AS "tokens.in", tokens_out AS "tokens.out", cost, worked, ` + brief("answer") + `, problem, opened_at, last_at FROM run`

// Runs lists runs, the newest first.
func (s *Store) Runs(ctx context.Context, f RunFilter) ([]rows.Run, error) {
	cond, p := "1", named{"limit": f.Limit}
	add := func(is bool, name string, value any, c string) {
		if is {
			cond += " AND " + c
			p[name] = value
		}
	}
	add(f.Status != "", "status", f.Status, "status = :status")
	add(f.Agent != "", "agent", " "+f.Agent+" ", "(instr(path, :agent) OR instr(worked_by, :agent))")
	add(f.Tool != "", "tool", " "+f.Tool+" ", "instr(called, :tool)")
	add(f.ID != "", "id", f.ID, "id = :id")
	add(f.For != "", "for", f.For, seenBy)
	add(f.Session != "", "session", f.Session, "session = :session")
	add(f.Text != "", "wanted", f.Text, "(instr(lower(text), lower(:wanted)) OR instr(lower(answer), lower(:wanted)) OR instr(lower(coalesce(problem, '')), lower(:wanted)) OR id = :wanted)")
	add(!f.Since.IsZero(), "since", rows.Moment{Time: f.Since}, "opened_at >= :since")
	add(!f.Until.IsZero(), "until", rows.Moment{Time: f.Until}, "opened_at < :until")
	add(f.Before > 0, "before", f.Before, "n < :before")
	if f.Limit <= 0 {
		f.Limit = 100
	}
	if few, err := s.few(ctx, f); err != nil {
		return nil, err
	} else if !few && grams(f.Text) != "" {
		return s.search(ctx, cond, f.Text, f.Before, f.Limit, p)
	}
	p["limit"] = f.Limit
	out := []rows.Run{}
	err := s.list(ctx, &out, runCols+" WHERE "+cond+" ORDER BY n DESC LIMIT :limit", p)
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
// of the page before, 0 for the first page. Where seer is not empty it is those that this
// person may see.
func (s *Store) Sessions(ctx context.Context, seer string, before int64, limit int) ([]rows.Session, error) {
	out := []rows.Session{}
	err := s.list(ctx, &out, sessionCols+` WHERE (:before = 0 OR r.n < :before) AND (:for = '' OR s.person = :for OR s.id IN (SELECT session FROM shared WHERE person = :for)) ORDER BY r.n DESC LIMIT :limit`, named{"before": before, "limit": limit, "for": seer})
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
	All   bool  // the settled ones too
	Skip  int   // rows of the pages before
	Limit int   // 0 is 500
	For   *Seer // who may see them
	Whose Whose // of these; "" is all
	ID    int64 // this one; 0 is all
}

// Whose narrows tickets by what they have to do with somebody.
type Whose string

// Whose tickets.
const (
	Mine  Whose = "mine"  // they may settle it, and have not voted yet
	Asked Whose = "asked" // it is one of their runs
)

// Seer is somebody to whom tickets are shown: those of their runs, and those that they may
// settle, by the names that they stand for.
type Seer struct {
	Name   string
	Stands []string
	Any    bool // those that name nobody are theirs to settle, too
	Every  bool // they see those of others, too
}

// narrow gives the condition for the tickets that a filter lets through.
func (f TicketFilter) narrow(p named) (string, error) {
	q := `(:run = '' OR run = :run) AND (:id = 0 OR id = :id)`
	p["run"], p["id"] = f.Run, f.ID
	if !f.All {
		q += ` AND status = 'open'`
	}
	if f.For == nil {
		return q, nil
	}
	stands, err := json.Marshal(f.For.Stands)
	if err != nil {
		return "", err
	}
	p["name"], p["stands"], p["any"] = f.For.Name, string(stands), f.For.Any
	own := `run IN (SELECT id FROM run WHERE person = :name)`
	mine := `((approvers = '[]' AND (:any OR ((stepwise = 1 OR form NOT IN ('gate', 'text', 'limit')) AND ` + own + `)))
		OR approvers IN (` + names("approvers") + `) OR (escalates IS NULL AND escalate_to IN (` + names("escalate_to") + `)))`
	switch f.Whose {
	case Asked:
		return q + ` AND ` + own, nil
	case Mine:
		return q + ` AND ` + mine + ` AND barred <> :name AND (votes = '[]' OR NOT EXISTS (SELECT 1 FROM json_each(votes) v WHERE json_extract(v.value, '$.by') = :name))`, nil
	}
	if f.For.Every {
		return q, nil
	}
	return q + ` AND (` + mine + ` OR ` + own + ` OR settled_by = :name)`, nil
}

// names selects the lists of names in a column of tickets that hold one of those that somebody
// stands for. There are few of them, however many tickets there are.
func names(column string) string {
	return `SELECT x.` + column + ` FROM (SELECT DISTINCT ` + column + ` FROM ticket) x WHERE EXISTS (SELECT 1 FROM json_each(x.` + column + `) a JOIN json_each(:stands) s ON a.value = s.value)`
}

// Tickets lists tickets: the open ones with the nearest deadline first, or with
// All, then the settled ones, the newest first.
func (s *Store) Tickets(ctx context.Context, f TicketFilter) ([]rows.Ticket, error) {
	p := named{"limit": f.Limit, "skip": f.Skip}
	if f.Limit <= 0 {
		p["limit"] = 500
	}
	q, err := f.narrow(p)
	if err != nil {
		return nil, err
	}
	out := []rows.Ticket{}
	err = s.list(ctx, &out, `SELECT * FROM ticket WHERE `+q+` ORDER BY status <> 'open', CASE status WHEN 'open' THEN coalesce(due, 9e18) ELSE -settled_at END, id LIMIT :limit OFFSET :skip`, p)
	for i := range out {
		out[i].Finish()
	}
	return out, err
}

// CountTickets counts the tickets that a filter lets through.
func (s *Store) CountTickets(ctx context.Context, f TicketFilter) (n int, err error) {
	p := named{}
	where, err := f.narrow(p)
	if err != nil {
		return 0, err
	}
	q, args, err := sqlx.Named(`SELECT count(*) FROM ticket WHERE `+where, p)
	if err != nil {
		return 0, err
	}
	err = s.read.GetContext(ctx, &n, q, args...)
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
