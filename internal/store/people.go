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

var (
	addSignin  = statement(`INSERT INTO signin (hash, person, salt, at, seen, browser) VALUES (:hash, :person, :salt, :at, :at, :browser)`)
	seeSignin  = statement(`UPDATE signin SET seen = :seen WHERE hash = :hash`)
	endSignin  = statement(`DELETE FROM signin WHERE hash = :hash`)
	endSignins = statement(`DELETE FROM signin WHERE person = :person`)
	oldSignins = statement(`DELETE FROM signin WHERE seen < :before`)
	share      = statement(`INSERT INTO shared (session, person, at) VALUES (:session, :person, :at) ON CONFLICT DO NOTHING`)
	unshare    = statement(`DELETE FROM shared WHERE session = :session AND person = :person`)
	note       = statement(`INSERT INTO record (at, person, via, did, about, detail) VALUES (:at, :person, :via, :did, :about, :detail)`)
)

// Signin is a browser in which somebody has signed in.
type Signin struct {
	Hash    string      // of the cookie's value
	Person  string      //
	Salt    string      // of the token with which they did
	At      rows.Moment //
	Seen    rows.Moment // when it was last used, within a minute
	Browser string      // what it calls itself
}

// ErrNoSignin says that a cookie is not, or no longer, that of somebody who has signed in.
var ErrNoSignin = errors.New("nobody has signed in here")

// SignIn keeps that somebody has signed in, and forgets those who were not seen since.
func (s *Store) SignIn(ctx context.Context, x Signin, before time.Time) error {
	return s.write.do(ctx, func(t *tx) error {
		if err := t.do(oldSignins, named{"before": rows.Moment{Time: before}}); err != nil {
			return err
		}
		return t.do(addSignin, x)
	})
}

// Signin gives a sign-in by the hash of its cookie's value.
func (s *Store) Signin(ctx context.Context, hash string) (Signin, error) {
	var x Signin
	err := s.read.GetContext(ctx, &x, `SELECT hash, person, salt, at, seen, browser FROM signin WHERE hash = ?`, hash)
	if errors.Is(err, sql.ErrNoRows) {
		return x, ErrNoSignin
	}
	return x, err
}

// Seen keeps when a sign-in was last used.
func (s *Store) Seen(ctx context.Context, hash string, at time.Time) error {
	return s.write.do(ctx, func(t *tx) error { return t.do(seeSignin, named{"hash": hash, "seen": rows.Moment{Time: at}}) })
}

// SignOut ends a sign-in.
func (s *Store) SignOut(ctx context.Context, hash string) error {
	return s.write.do(ctx, func(t *tx) error { return t.do(endSignin, named{"hash": hash}) })
}

// SignOutEverywhere ends all sign-ins of a person.
func (s *Store) SignOutEverywhere(ctx context.Context, person string) error {
	return s.write.do(ctx, func(t *tx) error { return t.do(endSignins, named{"person": person}) })
}

// Share lets a person go on in a session of another; on says whether it does or does not any more.
func (s *Store) Share(ctx context.Context, session, person string, on bool) error {
	q := unshare
	if on {
		q = share
	}
	return s.write.do(ctx, func(t *tx) error {
		return t.do(q, named{"session": session, "person": person, "at": rows.Moment{Time: time.Now()}})
	})
}

// SharedWith lists with whom a session is shared.
func (s *Store) SharedWith(ctx context.Context, session string) ([]string, error) {
	out := []string{}
	err := s.read.SelectContext(ctx, &out, `SELECT person FROM shared WHERE session = ? ORDER BY person`, session)
	return out, err
}

// MaySee says whether a session is a person's own, or shared with them.
func (s *Store) MaySee(ctx context.Context, session, person string) (bool, error) {
	var own bool
	err := s.read.GetContext(ctx, &own, `SELECT person = ?2 OR EXISTS (SELECT 1 FROM shared WHERE session = ?1 AND person = ?2) FROM session WHERE id = ?1`, session, person)
	if errors.Is(err, sql.ErrNoRows) {
		return false, engine.ErrNoSession
	}
	return own, err
}

// Record keeps that somebody did something.
func (s *Store) Record(ctx context.Context, e rows.Entry) error {
	return s.write.do(ctx, func(t *tx) error { return t.do(note, e) })
}

// Entries lists the record, the newest first: before is the N of the last entry of the page
// before, 0 for the first page; person narrows it where it is not empty.
func (s *Store) Entries(ctx context.Context, person string, before int64, limit int) ([]rows.Entry, error) {
	out := []rows.Entry{}
	err := s.list(ctx, &out, `SELECT n, at, person, via, did, about, detail FROM record WHERE (:person = '' OR person = :person) AND (:before = 0 OR n < :before) ORDER BY n DESC LIMIT :limit`,
		named{"person": person, "before": before, "limit": limit})
	return out, err
}

// LastEntry gives the newest entry about something that was done; nil where there is none.
func (s *Store) LastEntry(ctx context.Context, did string) (*rows.Entry, error) {
	var e rows.Entry
	err := s.read.GetContext(ctx, &e, `SELECT n, at, person, via, did, about, detail FROM record WHERE did = ? ORDER BY n DESC LIMIT 1`, did)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &e, err
}

// KnownPeople gives the detail of the newest entry about each person who was added or
// changed, and has not gone since.
func (s *Store) KnownPeople(ctx context.Context, came []string, went string) (map[string]string, error) {
	q, args, err := sqlx.In(`SELECT about, did, detail FROM record WHERE n IN (SELECT max(n) FROM record WHERE did IN (?) GROUP BY about)`, append([]string{went}, came...))
	if err != nil {
		return nil, err
	}
	var list []rows.Entry
	if err := s.read.SelectContext(ctx, &list, q, args...); err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, e := range list {
		if e.Did != went {
			out[e.About] = e.Detail
		}
	}
	return out, nil
}

// BesideOf lists the runs of the calls of a session that wait aside.
func (s *Store) BesideOf(ctx context.Context, session string) ([]string, error) {
	out := []string{}
	err := s.read.SelectContext(ctx, &out, `SELECT session || '-1' FROM aside WHERE run >= ? || '-' AND run < ? || '.' ORDER BY session`, session, session)
	return out, err
}
