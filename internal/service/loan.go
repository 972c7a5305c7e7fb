package service

import (
	"context"
	"encoding/json"
	"net/http"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"stonebaton.example/api"
	"stonebaton.example/core/ledger"
	"stonebaton.example/internal/engine"
)

// Bounds of what is read of the records at once for those who ask, in bytes. What is small is
// not counted: many of it are no burden.
const (
	loanMost  int64 = 48 << 20
	loanSmall int64 = 256 << 10
)

// loanTime is how long somebody waits for others to be done; tests shorten it.
var loanTime = 10 * time.Second

// lend lets so many bytes of the records be held in memory until done is called, so that peers
// who ask for much, and are slow to read it, or do not, do not fill the memory together. What
// is larger than all that may be held is held alone.
func (s *Service) lend(c *echo.Context, size int64) (done func(), err error) {
	if size < loanSmall {
		return func() {}, nil
	}
	size = min(size, loanMost)
	ctx, cancel := context.WithTimeout(c.Request().Context(), loanTime)
	defer cancel()
	if err := s.loans.Acquire(ctx, size); err != nil {
		c.Response().Header().Set("Retry-After", "10")
		return nil, api.Narrower("busy", problem(http.StatusServiceUnavailable, "Try again in a few seconds.", "others are being given so much of the records that nothing as large as this fits beside it"))
	}
	c.Set(lent, true)
	return sync.OnceFunc(func() { s.loans.Release(size); c.Set(lent, false) }), nil
}

// lent marks a request for which something is lent.
const lent = "lent"

// serializer writes JSON. What is large is lent, where what it was made of is not.
type serializer struct {
	echo.DefaultJSONSerializer
	s *Service
}

// Serialize implements echo.JSONSerializer.
func (j serializer) Serialize(c *echo.Context, target any, indent string) error {
	if c.Get(lent) == true || indent != "" {
		return j.DefaultJSONSerializer.Serialize(c, target, indent)
	}
	raw, err := json.Marshal(target)
	if err != nil {
		return err
	}
	done, err := j.s.lend(c, int64(len(raw)))
	if err != nil {
		return err
	}
	defer done()
	_, err = c.Response().Write(append(raw, '\n'))
	return err
}

// ledger reads all events of a run, which count as lent until done is called.
func (s *Service) ledger(c *echo.Context, run string) (events []ledger.Event, done func(), err error) {
	if done, err = s.lendRun(c, run); err != nil {
		return nil, nil, err
	}
	if events, err = engine.All(s.app.Store.Read(c.Request().Context(), run, 0)); err != nil {
		done()
		return nil, nil, err
	}
	return events, done, nil
}

// lendRun lends what the events of a run take.
func (s *Service) lendRun(c *echo.Context, run string) (done func(), err error) {
	size, err := s.app.Store.Size(c.Request().Context(), run)
	if err != nil {
		return nil, err
	}
	return s.lend(c, size)
}
