package store

import (
	"context"
	"time"

	"stonebaton.example/internal/rows"
	"stonebaton.example/internal/sqlite"
)

var (
	addNotice = statement(`INSERT INTO notice (run, step, ticket, kind, due, every) SELECT run, step, id, :kind, :due, :every FROM ticket WHERE run = :run AND step = :step AND status = 'open'`)
	more      = statement(`INSERT INTO notice (run, step, ticket, kind, due, every) SELECT run, step, ticket, 'escalated', :due, 0 FROM notice WHERE run = :run AND step = :step AND ticket = (SELECT id FROM ticket WHERE run = :run AND step = :step AND status = 'open') AND kind = 'raised'`)
	overs     = statement(`UPDATE notice SET status = 'over' WHERE run = :run AND step = :step AND status = 'due'`)
	told      = statement(`UPDATE notice SET status = :status, told = :told, failed = :failed, tries = :tries, due = :due WHERE n = :n AND status = 'due'`)
	remind    = statement(`INSERT INTO notice (run, step, ticket, kind, due, every) SELECT run, step, ticket, 'reminder', :due, every FROM notice WHERE n = :n AND every > 0 AND EXISTS (SELECT 1 FROM ticket WHERE id = notice.ticket AND status = 'open')`)
	useLink   = statement(`INSERT INTO used (link, at) VALUES (:link, :at)`)
	freeLink  = statement(`DELETE FROM used WHERE link = :link`)
)

// Notices lists what is due, the oldest first, and when the next one is.
func (s *Store) Notices(ctx context.Context, now time.Time, limit int) (due []rows.Notice, next time.Time, err error) {
	if err := s.list(ctx, &due, `SELECT * FROM notice WHERE status = 'due' AND due <= :now ORDER BY due LIMIT :limit`, named{"now": rows.Moment{Time: now}, "limit": limit}); err != nil {
		return nil, next, err
	}
	var at *rows.Moment
	err = s.read.GetContext(ctx, &at, `SELECT min(due) FROM notice WHERE status = 'due' AND due > ?`, rows.Moment{Time: now})
	if at != nil {
		next = at.Time
	}
	return due, next, err
}

// NoticesOf lists what was told of a ticket, and what is to be.
func (s *Store) NoticesOf(ctx context.Context, ticket int64) ([]rows.Notice, error) {
	out := []rows.Notice{}
	err := s.read.SelectContext(ctx, &out, `SELECT * FROM notice WHERE ticket = ? ORDER BY n`, ticket)
	return out, err
}

// Told keeps what became of a notice. One that was told, of a ticket that is still open, is
// followed by its next reminder.
func (s *Store) Told(ctx context.Context, n rows.Notice, now time.Time) error {
	return s.write.do(ctx, func(t *tx) error {
		done, err := t.changed(told, n)
		if err != nil || done == 0 || n.Status == "due" {
			return err
		}
		return t.do(remind, named{"n": n.N, "due": rows.Moment{Time: now.Add(time.Duration(n.Every) * time.Second)}})
	})
}

// UseLink takes a link that is good once; false says that it was taken before.
func (s *Store) UseLink(ctx context.Context, link string) (bool, error) {
	err := s.write.do(ctx, func(t *tx) error { return t.do(useLink, named{"link": link, "at": rows.Moment{Time: time.Now()}}) })
	if sqlite.Taken(err) {
		return false, nil
	}
	return err == nil, err
}

// FreeLink gives a link back with which nothing was decided.
func (s *Store) FreeLink(ctx context.Context, link string) error {
	return s.write.do(ctx, func(t *tx) error { return t.do(freeLink, named{"link": link}) })
}

// LinkUsed says whether somebody has decided with a link.
func (s *Store) LinkUsed(ctx context.Context, link string) (used bool, err error) {
	err = s.read.GetContext(ctx, &used, `SELECT EXISTS (SELECT 1 FROM used WHERE link = ?)`, link)
	return used, err
}
