package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"stonebaton/core/ledger"
	"stonebaton/engine"
)

// Run is a row of the list of runs.
type Run struct {
	N         int64     `json:"-" db:"n"`
	ID        string    `json:"id" db:"id"`
	Session   string    `json:"session" db:"session"`
	Person    string    `json:"person" db:"person"`
	Text      string    `json:"text" db:"text"`
	Status    string    `json:"status" db:"status"`
	Agent     string    `json:"agent" db:"agent"`
	AgentsRaw string    `json:"-" db:"agents"`
	ToolsRaw  string    `json:"-" db:"tools"`
	Agents    []string  `json:"agents" db:"-"`
	Tools     []string  `json:"tools" db:"-"`
	Turns     int       `json:"turns" db:"turns"`
	Calls     int       `json:"calls" db:"calls"`
	In        int       `json:"tokens_in" db:"tokens_in"`
	Out       int       `json:"tokens_out" db:"tokens_out"`
	Cost      float64   `json:"cost" db:"cost"`
	Worked    int64     `json:"ms" db:"worked"`
	Answer    string    `json:"answer" db:"answer"`
	Problem   string    `json:"problem,omitempty" db:"problem"`
	OpenedRaw int64     `json:"-" db:"opened_at"`
	LastRaw   int64     `json:"-" db:"last_at"`
	Opened    time.Time `json:"opened_at" db:"-"`
	Last      time.Time `json:"last_at" db:"-"`
}

// RunFilter narrows the list of runs; what is empty narrows nothing.
type RunFilter struct {
	Status, Agent, Tool, Text, Session string
	Since, Until                       time.Time
	Before                             int64 // N of the last row of the page before
	Limit                              int
}

func (r *Run) finish() {
	r.Agents, r.Tools = strings.Fields(r.AgentsRaw), strings.Fields(r.ToolsRaw)
	r.Opened, r.Last = fromMicro(r.OpenedRaw), fromMicro(r.LastRaw)
}

// Runs lists runs, the newest first.
func (s *Store) Runs(ctx context.Context, f RunFilter) ([]Run, error) {
	q := `SELECT * FROM (SELECT n, id, session, person, text, status, agent, agents, tools, turns, calls, tokens_in, tokens_out, cost, worked, answer, problem, opened_at, last_at FROM run) WHERE 1`
	var args []any
	add := func(cond string, a ...any) {
		q += " AND " + cond
		args = append(args, a...)
	}
	if f.Status != "" {
		add("status = ?", f.Status)
	}
	if f.Agent != "" {
		add("instr(agents, ?)", " "+f.Agent+" ")
	}
	if f.Tool != "" {
		add("instr(tools, ?)", " "+f.Tool+" ")
	}
	if f.Session != "" {
		add("session = ?", f.Session)
	}
	if f.Text != "" {
		add("(instr(lower(text), lower(?)) OR instr(lower(answer), lower(?)) OR instr(lower(problem), lower(?)) OR id = ?)", f.Text, f.Text, f.Text, f.Text)
	}
	if !f.Since.IsZero() {
		add("opened_at >= ?", micro(f.Since))
	}
	if !f.Until.IsZero() {
		add("opened_at < ?", micro(f.Until))
	}
	if f.Before > 0 {
		add("n < ?", f.Before)
	}
	if f.Limit <= 0 || f.Limit > 1000 {
		f.Limit = 100
	}
	out := []Run{}
	if err := s.read.SelectContext(ctx, &out, q+" ORDER BY n DESC LIMIT ?", append(args, f.Limit)...); err != nil {
		return nil, err
	}
	for i := range out {
		out[i].finish()
	}
	return out, nil
}

// Run gives one row of the list.
func (s *Store) Run(ctx context.Context, id string) (Run, error) {
	var r Run
	err := s.read.GetContext(ctx, &r, `SELECT n, id, session, person, text, status, agent, agents, tools, turns, calls, tokens_in, tokens_out, cost, worked, answer, problem, opened_at, last_at FROM run WHERE id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return r, engine.ErrNoRun
	}
	r.finish()
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

// SessionRow is a row of the list of sessions.
type SessionRow struct {
	ID     string    `json:"id" db:"id"`
	Title  string    `json:"title" db:"title"`
	Person string    `json:"person" db:"person"`
	Runs   int       `json:"runs" db:"runs"`
	Last   string    `json:"last" db:"last"`
	Status string    `json:"status" db:"status"`
	Agent  string    `json:"agent" db:"agent"`
	AtRaw  int64     `json:"-" db:"at"`
	At     time.Time `json:"at" db:"-"`
}

const sessionCols = `SELECT s.id, s.title, s.person, s.runs, s.last, r.status, r.agent, r.last_at AS at FROM session s JOIN run r ON r.id = s.last`

// Sessions lists the sessions, the newest run first.
func (s *Store) Sessions(ctx context.Context, limit int) ([]SessionRow, error) {
	out := []SessionRow{}
	err := s.read.SelectContext(ctx, &out, sessionCols+` ORDER BY r.n DESC LIMIT ?`, limit)
	for i := range out {
		out[i].At = fromMicro(out[i].AtRaw)
	}
	return out, err
}

// SessionRow gives one row of the list of sessions.
func (s *Store) SessionRow(ctx context.Context, id string) (SessionRow, error) {
	var r SessionRow
	err := s.read.GetContext(ctx, &r, sessionCols+` WHERE s.id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return r, engine.ErrNoSession
	}
	r.At = fromMicro(r.AtRaw)
	return r, err
}

// Ticket is a row of the list of tickets.
type Ticket struct {
	ID           int64           `json:"id" db:"id"`
	Run          string          `json:"run" db:"run"`
	Step         string          `json:"step" db:"step"`
	Form         string          `json:"form" db:"form"`
	Agent        string          `json:"agent" db:"agent"`
	Tool         string          `json:"tool" db:"tool"`
	ArgsRaw      string          `json:"-" db:"args"`
	Args         json.RawMessage `json:"args" db:"-"`
	Ask          string          `json:"ask" db:"ask"`
	ApproversRaw string          `json:"-" db:"approvers"`
	By           []string        `json:"by" db:"-"`
	Why          string          `json:"why" db:"why"`
	Reason       string          `json:"reason,omitempty" db:"reason"` // the model's own, for reason_first
	Shown        string          `json:"shown" db:"shown"`
	DueRaw       sql.NullInt64   `json:"-" db:"due"`
	Due          *time.Time      `json:"due,omitempty" db:"-"`
	RaisedRaw    int64           `json:"-" db:"raised_at"`
	Raised       time.Time       `json:"raised_at" db:"-"`
	Status       string          `json:"status" db:"status"`
	SettledBy    string          `json:"settled_by,omitempty" db:"settled_by"`
	Because      string          `json:"because,omitempty" db:"because"`
	NewArgsRaw   sql.NullString  `json:"-" db:"new_args"`
	NewArgs      json.RawMessage `json:"new_args,omitempty" db:"-"`
	SettledRaw   sql.NullInt64   `json:"-" db:"settled_at"`
	Settled      *time.Time      `json:"settled_at,omitempty" db:"-"`
	Verbs        []ledger.Verb   `json:"verbs" db:"-"`
}

func (t *Ticket) finish() {
	t.Args = json.RawMessage(t.ArgsRaw)
	t.By = []string{}
	_ = json.Unmarshal([]byte(t.ApproversRaw), &t.By) // written by the writer
	if t.By == nil {
		t.By = []string{}
	}
	t.Raised = fromMicro(t.RaisedRaw)
	if t.DueRaw.Valid {
		d := fromMicro(t.DueRaw.Int64)
		t.Due = &d
	}
	if t.SettledRaw.Valid {
		d := fromMicro(t.SettledRaw.Int64)
		t.Settled = &d
	}
	if t.NewArgsRaw.Valid {
		t.NewArgs = json.RawMessage(t.NewArgsRaw.String)
	}
	t.Verbs = ledger.TicketKind(t.Form).Verbs()
}

// Tickets lists tickets: the open ones with the nearest deadline first, or with
// all, then the settled ones, the newest first. Run narrows the list where it is set.
func (s *Store) Tickets(ctx context.Context, run string, all bool) ([]Ticket, error) {
	q := `SELECT * FROM ticket WHERE (? = '' OR run = ?)`
	if !all {
		q += ` AND status = 'open'`
	}
	out := []Ticket{}
	err := s.read.SelectContext(ctx, &out, q+` ORDER BY status <> 'open', CASE status WHEN 'open' THEN coalesce(due, 9e18) ELSE -settled_at END, id LIMIT 500`, run, run)
	for i := range out {
		out[i].finish()
	}
	return out, err
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
