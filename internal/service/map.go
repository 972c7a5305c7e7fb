package service

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"stonebaton.example/core/chart"
	"stonebaton.example/core/near"
)

// chart gives the map of the project or of a relay, with the paths of some runs.
func (s *Service) chart(c *echo.Context) error {
	p, err := s.app.Projects.Current()
	if err != nil {
		return err
	}
	m := chart.Of(p)
	if name := c.QueryParam("relay"); name != "" {
		r := p.Relays[name]
		if r == nil {
			return problem(http.StatusNotFound, "`stonebaton map` shows what there is.", "unknown relay %q.%s", name, near.Hint(name, names(p.Relays)))
		}
		m = chart.OfRelay(p, r)
	}
	for _, id := range c.QueryParams()["run"] {
		if err := s.mayRead(c, id); err != nil {
			return err
		}
		if _, err := s.app.Engine.State(c.Request().Context(), id); err != nil {
			return err
		}
		events, done, err := s.ledger(c, id)
		if err != nil {
			return err
		}
		err = m.Path(id, events)
		done()
		if err != nil {
			return err
		}
	}
	return c.JSON(http.StatusOK, m)
}
