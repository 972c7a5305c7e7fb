package service

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/jellydator/ttlcache/v3"
	"github.com/labstack/echo/v5"
	"golang.org/x/time/rate"

	"stonebaton.example/api"
	"stonebaton.example/core/right"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/people"
	"stonebaton.example/internal/rows"
	"stonebaton.example/internal/store"
)

// caller is who asks.
type caller struct {
	people.Person
	via    string // how it is known: local, token, sign-in, link, or the application that says so
	signin string // hash of the cookie's value, where they have signed in
	link   *people.Link
	// own is true of somebody whom an application has made up: nobody in the book.
	own bool
	// keyless is the local person where they do not show the key of the records: they may look
	// and talk.
	keyless bool
}

// local says whether the caller is the one person of a service that does not know who is who.
// They have every right and may act as anybody.
func (w *caller) local() bool { return w.via == engine.Local }

// seer names whose runs the caller may see; "" is everybody's.
func (w *caller) seer() string {
	if w.Can(right.Admin) {
		return ""
	}
	return w.Name
}

var theLocal = &caller{Person: people.Person{Name: engine.Local, Rights: []right.Right{right.Admin}}, via: engine.Local}

var keylessLocal = &caller{Person: people.Person{Name: engine.Local, Rights: []right.Right{right.Talk, right.View}}, via: engine.Local, keyless: true}

// Bounds of sign-ins.
const (
	cookie     = "stonebaton"
	signedIn   = 30 * 24 * time.Hour // that a sign-in lasts when it is not used
	wrongAtOne = 10                  // wrong tokens from one address before it has to wait
	wrongEvery = 6 * time.Second     // and how long it then waits for each
	addresses  = 10_000              // that are remembered
	signins    = 10_000              // likewise
)

// door keeps what is remembered of those who ask.
type door struct {
	wrong   *ttlcache.Cache[string, *rate.Limiter]
	signins *ttlcache.Cache[string, store.Signin]
}

func newDoor() *door {
	return &door{
		wrong:   ttlcache.New(ttlcache.WithTTL[string, *rate.Limiter](10*time.Minute), ttlcache.WithCapacity[string, *rate.Limiter](addresses)),
		signins: ttlcache.New(ttlcache.WithTTL[string, store.Signin](time.Minute), ttlcache.WithCapacity[string, store.Signin](signins), ttlcache.WithDisableTouchOnHit[string, store.Signin]()),
	}
}

// from gives the address that a request comes from.
func (s *Service) from(r *http.Request) string {
	if s.app.Access.Proxied {
		list := strings.Split(r.Header.Get("X-Forwarded-For"), ",")
		if last := strings.TrimSpace(list[len(list)-1]); last != "" {
			return last
		}
	}
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}

// wrongToken counts a wrong token, by the address that it came from and by what was tried, and
// gives what to say. A right token is never counted and always lets in: nobody can lock others
// out, whatever comes from their address.
func (s *Service) wrongToken(from, tried string, why error) error {
	for _, key := range []string{"from " + from, "tried " + hashOf(tried)} {
		l, _ := s.door.wrong.GetOrSet(key, rate.NewLimiter(rate.Every(wrongEvery), wrongAtOne))
		if !l.Value().Allow() {
			why = problem(http.StatusTooManyRequests, "Wait a minute.", "too many wrong tokens came from %s", from)
		}
	}
	return why
}

// hashOf hashes a cookie's value; it has 256 random bits.
func hashOf(value string) string {
	h := sha256.Sum256([]byte(value))
	return hex.EncodeToString(h[:])
}

// keyless says what the local person needs that does not show the key of the records.
func keyless() error {
	return api.Narrower("key", problem(http.StatusForbidden, "In a browser, open the link that `stonebaton console` prints. Commands of the same user find the key; else it is in local.key in the folder of the records, for STONEBATON_TOKEN or Authorization: Bearer KEY.", "on this machine one settles and builds with the key of the records, and this request does not show it"))
}

const signInRemedy = "Sign in with your token: in the console, or with `stonebaton sign-in`; `stonebaton person token NAME`, on the machine of the service, gives a new one."

func unknownCaller() error {
	return problem(http.StatusUnauthorized, signInRemedy, "it is not known who asks")
}

// who says who asks. Where nobody has to say it, that is the local person.
func (s *Service) who(r *http.Request) (*caller, error) {
	if auth := r.Header.Get("Authorization"); auth != "" {
		return s.bearer(r, auth)
	}
	if c, err := r.Cookie(cookieOf(r)); err == nil {
		w, err := s.signedIn(r, c.Value)
		if err == nil || !errors.Is(err, store.ErrNoSignin) {
			return w, err
		}
	}
	switch here, err := s.here(); {
	case err != nil:
		return nil, err
	case !here:
		return nil, unknownCaller()
	case !s.app.Access.Open:
		return keylessLocal, nil
	}
	return theLocal, nil
}

// here says whether who comes from this machine is the local person.
func (s *Service) here() (bool, error) {
	none, err := s.app.People.None()
	if err != nil {
		s.log.Error("the file of the people cannot be read", "error", err)
		return false, problem(http.StatusServiceUnavailable, "", "%v", err)
	}
	return !s.app.Access.Beyond && (none || s.app.Access.Local), nil
}

// unlocks says whether a token is the key of the records, and may be used as such.
func (s *Service) unlocks(token string) bool {
	if !strings.HasPrefix(token, app.KeyPrefix) || !s.app.Unlocks(token) {
		return false
	}
	here, err := s.here()
	return here && err == nil
}

// bearer says who asks with a token, of their own or of an application that says for whom.
func (s *Service) bearer(r *http.Request, auth string) (*caller, error) {
	from := s.from(r)
	scheme, token, _ := strings.Cut(auth, " ")
	if strings.EqualFold(scheme, "Link") {
		return s.linked(r, token, from)
	}
	if !strings.EqualFold(scheme, "Bearer") {
		return nil, problem(http.StatusUnauthorized, "Send Authorization: Bearer TOKEN.", "the scheme %q is not known here", scheme)
	}
	if s.unlocks(token) {
		return theLocal, nil
	}
	var w *caller
	p, err := people.Person{}, error(nil)
	if strings.Count(token, ".") == 2 {
		var app string
		var own bool
		p, app, own, err = s.app.People.Vouched(token, time.Now(), s.approvers())
		w = &caller{Person: p, via: app, own: own}
	} else {
		p, err = s.app.People.ByToken(token)
		w = &caller{Person: p, via: "token"}
	}
	if errors.Is(err, people.ErrToken) { // why, is not for who tries
		s.log.Debug("a token was refused", "from", from, "error", err)
		return nil, s.wrongToken(from, token, problem(http.StatusUnauthorized, signInRemedy, "%v", people.ErrToken))
	}
	return w, err
}

// linked says who asks with a link that was sent to them. It lets them see and decide its one
// ticket; they have no other right.
func (s *Service) linked(r *http.Request, token, from string) (*caller, error) {
	l, err := s.app.Links.Read(token, time.Now())
	if errors.Is(err, people.ErrExpired) {
		return nil, problem(http.StatusGone, "Sign in and look among the tickets, or wait for the next notice.", "%v", err)
	}
	if err != nil {
		return nil, s.wrongToken(from, token, problem(http.StatusUnauthorized, "Open the link as it was sent.", "%v", err))
	}
	used, err := s.app.Store.LinkUsed(r.Context(), l.ID)
	if err != nil {
		return nil, err
	}
	if used {
		return nil, problem(http.StatusGone, "Sign in to see what became of it.", "somebody has decided with this link, and it is good once")
	}
	none, err := s.app.People.None()
	if err != nil {
		return nil, err
	}
	p, known, err := s.app.People.Find(l.Person)
	switch {
	case err != nil:
		return nil, err
	case none:
		p = people.Person{Name: l.Person}
	case !known:
		return nil, problem(http.StatusUnauthorized, "", "the link was sent to %s, who may not use this service any more", l.Person)
	}
	return &caller{Person: p, via: byLink, link: &l}, nil
}

// byLink is how somebody is known who decides with a link.
const byLink = "link"

// approvers names those who may settle something in the project: no application may say that it
// asks for one.
func (s *Service) approvers() []string {
	p, err := s.app.Projects.Current()
	if err != nil {
		return nil
	}
	return p.Deciders()
}

// signedIn says who signed in with a browser. A token that was renewed, and a person who was
// taken out, put an end to it.
func (s *Service) signedIn(r *http.Request, value string) (*caller, error) {
	h, ctx := hashOf(value), r.Context()
	x := store.Signin{}
	if item := s.door.signins.Get(h); item != nil {
		x = item.Value()
	} else {
		var err error
		if x, err = s.app.Store.Signin(ctx, h); err != nil {
			return nil, err
		}
		now := time.Now()
		if now.Sub(x.Seen.Time) > signedIn {
			return nil, store.ErrNoSignin
		}
		if now.Sub(x.Seen.Time) > time.Minute {
			if err := s.app.Store.Seen(ctx, h, now); err != nil {
				return nil, err
			}
		}
		s.door.signins.Set(h, x, ttlcache.DefaultTTL)
	}
	if x.Person == engine.Local {
		if here, err := s.here(); !here || x.Salt != hashOf(s.app.Key()) {
			return nil, cmp.Or(err, store.ErrNoSignin)
		}
		return &caller{Person: theLocal.Person, via: engine.Local, signin: h}, nil
	}
	p, ok, err := s.app.People.Find(x.Person)
	switch {
	case err != nil:
		return nil, problem(http.StatusServiceUnavailable, "", "%v", err)
	case !ok || p.Salt != x.Salt:
		return nil, store.ErrNoSignin
	}
	return &caller{Person: p, via: "sign-in", signin: h}, nil
}

// callerKey is where a request keeps who asks.
const callerKey = "caller"

// asks gives who asks; the rights of a call let only known callers come so far.
func asks(c *echo.Context) *caller { return c.Get(callerKey).(*caller) }

// entitled lets a request through whose caller has one of the rights of its call, and records
// what is done with it where it changes something.
func (s *Service) entitled(calls map[string]operation) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			name := called(c)
			op, known := calls[name]
			if !known || op.open {
				return next(c)
			}
			w, err := s.who(c.Request())
			s.noticePeople()
			if err != nil {
				return err
			}
			switch {
			case op.lets(w):
			case w.link != nil:
				err = problem(http.StatusForbidden, "Sign in for all else.", "with a link one decides its ticket, and nothing else")
			case w.keyless:
				err = keyless()
			default:
				err = problem(http.StatusForbidden, "Ask somebody with the right "+string(right.Admin)+" for it.", "%s may not do this: it needs the right %s", w.Name, right.Words(op.rights, " or "))
			}
			c.Set(callerKey, w)
			if err == nil {
				err = next(c)
			}
			if op.changes && name != overMCP { // there the runs are recorded that it begins
				s.note(c, w, op.id, err)
			}
			return err
		}
	}
}

// noticePeople records what was changed in the file of the people by another program.
func (s *Service) noticePeople() {
	now, was := s.app.People.Reads(), s.reads.Load()
	if now == was || !s.reads.CompareAndSwap(was, now) {
		return
	}
	go func() {
		if err := s.app.ChangePeople(s.ending, people.File, "file", nil); err != nil && s.ending.Err() == nil {
			s.log.Error("what was changed of the people could not be recorded", "error", err)
		}
	}()
}

// note records what somebody did, or was not let do. What they did has happened: where the
// record cannot be written, the log says so.
func (s *Service) note(c *echo.Context, w *caller, did string, err error) {
	var p *api.Problem
	if err != nil {
		if p = asProblem(err); p.Status != http.StatusForbidden {
			return // nothing was done
		}
	}
	e := rows.Entry{Person: w.Name, Via: w.via, Did: did, About: text(c, aboutKey), Detail: text(c, detailKey)}
	if p != nil {
		e.Detail = "refused: " + p.Detail
	}
	if err := s.app.Record(c.Request().Context(), e); err != nil {
		s.log.Error("what somebody did could not be recorded", "person", w.Name, "did", did, "about", e.About, "error", err)
	}
}

// Where a handler says what a request was about.
const (
	aboutKey  = "about"
	detailKey = "detail"
)

// about says for the record what a request is about, and how it came out.
func about(c *echo.Context, what, detail string) {
	c.Set(aboutKey, what)
	c.Set(detailKey, detail)
}

func text(c *echo.Context, key string) string {
	s, _ := c.Get(key).(string)
	return s
}

// still says whether who asked may still have what a stream tells: rights can go while it is
// open.
func (s *Service) still(c *echo.Context) bool {
	w, err := s.who(c.Request())
	return err == nil && w.Name == asks(c).Name && slices.Equal(w.Stands(), asks(c).Stands())
}

// maySee says whether a session is one of the caller's, or shared with them. To others it is
// not there; one with the right admin may see all, and that they looked is recorded.
func (s *Service) maySee(c *echo.Context, session string) error {
	w, ctx := asks(c), c.Request().Context()
	if w.local() {
		return nil
	}
	ok, err := s.app.Store.MaySee(ctx, session, w.Name)
	switch {
	case err != nil:
		return err
	case ok:
		return nil
	case w.Can(right.Admin):
		return s.app.Record(ctx, rows.Entry{Person: w.Name, Via: w.via, Did: "looked", About: "session " + session})
	}
	return engine.ErrNoSession
}

// mayRead is maySee for a run.
func (s *Service) mayRead(c *echo.Context, run string) error {
	if asks(c).local() {
		return nil
	}
	session, _, _ := strings.Cut(run, "-")
	if err := s.maySee(c, session); errors.Is(err, engine.ErrNoSession) {
		return engine.ErrNoRun
	} else if err != nil {
		return err
	}
	return nil
}

// seerOf gives to whom tickets are shown; nil is to one who sees all.
func (w *caller) seerOf() *store.Seer {
	if w.local() {
		return nil
	}
	return &store.Seer{Name: w.Name, Stands: w.Stands(), Any: w.Can(right.Approve), Every: w.Can(right.Admin)}
}
