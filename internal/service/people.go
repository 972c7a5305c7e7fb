package service

import (
	"cmp"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"stonebaton.example/api"
	"stonebaton.example/core/near"
	"stonebaton.example/core/right"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/people"
	"stonebaton.example/internal/rows"
	"stonebaton.example/internal/store"
)

// cookieOf names the cookie of a request: a browser does not keep the ports of a host apart.
func cookieOf(r *http.Request) string {
	if _, port, err := net.SplitHostPort(r.Host); err == nil {
		return cookie + "_" + port
	}
	return cookie
}

func (s *Service) setCookie(c *echo.Context, value string, age time.Duration) {
	http.SetCookie(c.Response(), &http.Cookie{Name: cookieOf(c.Request()), Value: value, Path: "/", MaxAge: int(age.Seconds()), HttpOnly: true, Secure: s.app.Access.Secure, SameSite: http.SameSiteStrictMode})
}

// signIn lets a browser in with a token.
func (s *Service) signIn(c *echo.Context) error {
	var in api.SignIn
	if err := body(c, &in); err != nil {
		return err
	}
	ctx, from := c.Request().Context(), s.from(c.Request())
	token := strings.TrimSpace(in.Token)
	p, err := people.Person{}, error(nil)
	if s.unlocks(token) {
		p = theLocal.Person
		p.Salt = hashOf(token)
	} else {
		p, err = s.app.People.ByToken(token)
	}
	if errors.Is(err, people.ErrToken) && strings.HasPrefix(token, app.KeyPrefix) {
		return s.wrongToken(from, token, problem(http.StatusUnauthorized, "`stonebaton console` prints the link that is.", "this is not the key of these records"))
	}
	if errors.Is(err, people.ErrToken) {
		why := s.wrongToken(from, token, problem(http.StatusUnauthorized, "`stonebaton person token NAME`, on the machine of the service, gives a new one.", "%v", people.ErrToken))
		if asProblem(why).Status == http.StatusTooManyRequests {
			return why
		}
		name, _, _ := strings.Cut(in.Token, ".")
		if people.CheckName(name) != nil {
			name = "somebody" // what was typed may be anything, a secret too
		}
		if err := s.app.Record(ctx, rows.Entry{Person: name, Via: "sign-in", Did: "sign-in failed", About: from}); err != nil {
			return err
		}
		return why
	}
	if err != nil {
		return err
	}
	raw := make([]byte, 32)
	_, _ = rand.Read(raw) // never fails
	value, now := base64.RawURLEncoding.EncodeToString(raw), rows.Moment{Time: time.Now()}
	browser := c.Request().UserAgent()
	x := store.Signin{Hash: hashOf(value), Person: p.Name, Salt: p.Salt, At: now, Seen: now, Browser: browser[:min(len(browser), 200)]}
	if err := s.app.Store.SignIn(ctx, x, now.Add(-signedIn)); err != nil {
		return err
	}
	if err := s.app.Record(ctx, rows.Entry{Person: p.Name, Via: "sign-in", Did: "signed in", About: from}); err != nil {
		return err
	}
	s.setCookie(c, value, signedIn)
	via := "sign-in"
	if p.Name == engine.Local {
		via = engine.Local
	}
	return c.JSON(http.StatusOK, meOf(&caller{Person: p, via: via}))
}

// signOut lets a browser out, or all of the person's.
func (s *Service) signOut(c *echo.Context) error {
	var in api.SignOut
	if err := body(c, &in); err != nil {
		return err
	}
	w, ctx := asks(c), c.Request().Context()
	var err error
	switch {
	case in.Everywhere:
		err = s.app.Store.SignOutEverywhere(ctx, w.Name)
		for h, item := range s.door.signins.Items() {
			if item.Value().Person == w.Name {
				s.door.signins.Delete(h)
			}
		}
		about(c, w.Name, "everywhere")
	case w.signin != "":
		err = s.app.Store.SignOut(ctx, w.signin)
		s.door.signins.Delete(w.signin)
		about(c, w.Name, "")
	}
	if err != nil {
		return err
	}
	s.setCookie(c, "", -time.Second)
	return c.JSON(http.StatusOK, api.Me{Rights: []right.Right{}, Is: []string{}, SignIn: true})
}

func meOf(w *caller) api.Me {
	out := api.Me{Name: w.Name, Rights: []right.Right{}, Is: append([]string{}, w.Is...), Local: w.local(), Keyless: w.keyless, Via: w.via}
	for _, r := range right.All() {
		if w.Can(r) {
			out.Rights = append(out.Rights, r)
		}
	}
	return out
}

// me says who asks; it answers also where that is nobody.
func (s *Service) me(c *echo.Context) error {
	w, err := s.who(c.Request())
	var p *api.Problem
	if errors.As(err, &p) && p.Status == http.StatusUnauthorized && c.Request().Header.Get("Authorization") == "" {
		return c.JSON(http.StatusOK, api.Me{Rights: []right.Right{}, Is: []string{}, SignIn: true})
	}
	if err != nil {
		return err
	}
	out := meOf(w)
	none, err := s.app.People.None()
	if err != nil {
		return err
	}
	out.People = !none
	return c.JSON(http.StatusOK, out)
}

func (s *Service) people(c *echo.Context) error {
	list, err := s.app.People.List()
	if err != nil {
		return err
	}
	out := api.PeopleList{People: []api.Person{}}
	for _, p := range list {
		out.People = append(out.People, personOf(p))
	}
	return c.JSON(http.StatusOK, out)
}

func personOf(p people.Person) api.Person {
	return api.Person{ID: p.Name, Rights: p.Rights, Is: append([]string{}, p.Is...), Address: p.Address, Vouches: p.Key != "", Through: p.Through, Since: p.Since}
}

// addPerson adds somebody; the answer has their token, which is not kept.
func (s *Service) addPerson(c *echo.Context) error {
	var in api.NewPerson
	if err := body(c, &in); err != nil {
		return err
	}
	w := asks(c)
	about(c, in.Name, "")
	none, err := s.app.People.None()
	if err != nil {
		return err
	}
	if none && !s.app.Access.Local && !slices.Contains(in.Rights, right.Admin) {
		return problem(http.StatusUnprocessableEntity, "Give the first one the right admin.", "from the first person on everybody has to sign in, and nobody could add the next one")
	}
	var token string
	err = s.app.ChangePeople(c.Request().Context(), w.Name, w.via, func() (err error) {
		token, err = s.app.People.Add(people.Person{Name: in.Name, Rights: in.Rights, Is: in.Is, Address: in.Address, Key: in.Key, Through: in.Through}, time.Now())
		return err
	})
	if err != nil {
		return unfit(err)
	}
	p, _, err := s.app.People.Find(in.Name)
	if err != nil {
		return err
	}
	c.Response().Header().Set("Location", "/api/people/"+in.Name)
	return c.JSON(http.StatusCreated, api.Token{Person: personOf(p), Token: token})
}

// unfit gives the problem of a change of people that cannot be made.
func unfit(err error) error {
	var no *people.UnknownError
	var refused *people.RefusedError
	switch {
	case errors.As(err, &no):
		return problem(http.StatusNotFound, "GET /api/people lists them.", "there is no person %q.%s", no.Name, near.Hint(no.Name, no.Have))
	case errors.As(err, &refused):
		return problem(http.StatusUnprocessableEntity, "", "%v", err)
	}
	return err
}

// setPerson changes what somebody may do.
func (s *Service) setPerson(c *echo.Context) error {
	var in api.ChangePerson
	if err := body(c, &in); err != nil {
		return err
	}
	return s.changePerson(c, func(name string) (string, error) {
		return "", s.app.People.Set(name, func(p *people.Person) {
			p.Rights = in.Rights
			p.Is = in.Is
			p.Address = in.Address
			if in.Through != nil {
				p.Through = in.Through
			}
		})
	})
}

// renewToken gives somebody a new token; the old one and those who signed in with it are out.
func (s *Service) renewToken(c *echo.Context) error {
	if err := body(c, &struct{}{}); err != nil {
		return err
	}
	return s.changePerson(c, s.app.People.Renew)
}

func (s *Service) changePerson(c *echo.Context, change func(name string) (string, error)) error {
	w, name := asks(c), c.Param("name")
	about(c, name, "")
	var token string
	if err := s.app.ChangePeople(c.Request().Context(), w.Name, w.via, func() (err error) {
		token, err = change(name)
		return err
	}); err != nil {
		return unfit(err)
	}
	p, _, err := s.app.People.Find(name)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, api.Token{Person: personOf(p), Token: token})
}

// revoke takes somebody out.
func (s *Service) revoke(c *echo.Context) error {
	if err := body(c, &struct{}{}); err != nil {
		return err
	}
	w, name := asks(c), c.Param("name")
	about(c, name, "")
	if name == w.Name {
		return problem(http.StatusConflict, "Somebody else with the right admin can, or `stonebaton person revoke` on the machine of the service.", "nobody takes themselves out")
	}
	if err := s.app.ChangePeople(c.Request().Context(), w.Name, w.via, func() error { return s.app.People.Remove(name) }); err != nil {
		return unfit(err)
	}
	return s.people(c)
}

// record lists who did what: one's own, or with the right admin everybody's.
func (s *Service) record(c *echo.Context) error {
	before, limit, err := page(c, 100)
	if err != nil {
		return err
	}
	list, err := s.app.Store.Entries(c.Request().Context(), cmp.Or(asks(c).seer(), c.QueryParam("person")), before, limit+1)
	if err != nil {
		return err
	}
	var out api.Record
	out.Entries, out.Next = paged(list, limit, func(e rows.Entry) int64 { return e.N })
	return c.JSON(http.StatusOK, out)
}

// share lets others go on in a session of one's own, or no more.
func (s *Service) share(c *echo.Context) error {
	var in api.Share
	if err := body(c, &in); err != nil {
		return err
	}
	w, ctx, id := asks(c), c.Request().Context(), c.Param("id")
	row, err := s.app.Store.SessionRow(ctx, id)
	if err != nil {
		return err
	}
	if err := s.maySee(c, id); err != nil {
		return err
	}
	if !w.local() && row.Person != w.Name {
		return problem(http.StatusForbidden, "Ask "+row.Person+".", "the session %s is one of %s, who alone may share it", id, row.Person)
	}
	for _, name := range append(slices.Clone(in.With), in.Without...) {
		if err := people.CheckName(name); err != nil {
			return problem(http.StatusUnprocessableEntity, "", "%v", err)
		}
	}
	for _, name := range in.With {
		if err := s.app.Store.Share(ctx, id, name, true); err != nil {
			return err
		}
	}
	for _, name := range in.Without {
		if err := s.app.Store.Share(ctx, id, name, false); err != nil {
			return err
		}
	}
	about(c, "session "+id, strings.TrimSpace("with "+strings.Join(in.With, ", ")+" without "+strings.Join(in.Without, ", ")))
	return s.session(c)
}
