package service

import (
	"errors"
	"mime"
	"net/http"
	"path"
	"slices"

	"github.com/labstack/echo/v5"

	"stonebaton.example/api"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/trace"
	"stonebaton.example/internal/app"
)

// shown are the media types of files that a browser may show as they are: none of them runs
// anything. All else is offered to be kept.
var shown = []string{"text/csv", "text/plain", "text/tab-separated-values", "application/json", "image/png", "image/jpeg", "image/gif", "image/webp", "application/pdf"}

// file gives a file that came with a result of a run, by its content.
func (s *Service) file(c *echo.Context) error {
	id, hash := c.Param("id"), ledger.Hash(c.Param("hash"))
	if err := s.mayRead(c, id); err != nil {
		return err
	}
	events, done, err := s.ledger(c, id)
	if err != nil {
		return err
	}
	defer done()
	for _, e := range events {
		d, ok := e.Data.(*ledger.CallReturned)
		if !ok || d.Sent == nil {
			continue
		}
		for _, f := range d.Sent.Files {
			if f.Hash != hash {
				continue
			}
			done()
			return s.give(c, f)
		}
	}
	return problem(http.StatusNotFound, "The steps of the run name its files.", "run %s has made no file %q", id, hash)
}

// triedFile gives a file that came with the result of a try.
func (s *Service) triedFile(c *echo.Context) error {
	t, err := s.oneTry(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	if t.Sent != nil {
		for _, f := range t.Sent.Files {
			if f.Hash == ledger.Hash(c.Param("hash")) {
				return s.give(c, f)
			}
		}
	}
	return problem(http.StatusNotFound, "The try names its files.", "no file %q came with try %s", c.Param("hash"), c.Param("id"))
}

// give answers with a file, shown where the request asks for it and nothing in it can run.
func (s *Service) give(c *echo.Context, f ledger.File) error {
	done, err := s.lend(c, f.Bytes)
	if err != nil {
		return err
	}
	defer done()
	body, err := s.app.Store.File(f.Hash)
	if err != nil {
		return err
	}
	kind, _, err := mime.ParseMediaType(f.Type)
	how := "attachment"
	if err != nil || !slices.Contains(shown, kind) {
		kind = "application/octet-stream"
	} else if c.QueryParam("show") == "1" {
		how = "inline"
	}
	h := c.Response().Header()
	h.Set("Content-Disposition", mime.FormatMediaType(how, map[string]string{"filename": path.Base(f.Path)}))
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; img-src 'self' data:; object-src 'self'; sandbox")
	if kind == "text/csv" || kind == "text/plain" || kind == "text/tab-separated-values" {
		kind = "text/plain; charset=utf-8"
	}
	return c.Blob(http.StatusOK, kind, body)
}

// keep makes a tool of the project of a program that a step ran.
func (s *Service) keep(c *echo.Context) error {
	var in api.Keep
	if err := body(c, &in); err != nil {
		return err
	}
	ctx, id := c.Request().Context(), c.Param("id")
	about(c, "tool "+in.Name, "of run "+id)
	if err := s.mayRead(c, id); err != nil {
		return err
	}
	events, done, err := s.ledger(c, id)
	if err != nil {
		return err
	}
	defer done()
	d, err := trace.DetailOf(id, events, c.Param("step"))
	if err != nil {
		return err
	}
	step := c.Param("step")
	if d != nil {
		step = string(d.Step.ID)
	}
	out, err := s.app.Projects.Keep(ctx, events, step, in, asks(c).Name)
	var no *app.KeepError
	var bad *app.EditRefusedError
	switch {
	case errors.As(err, &no):
		return problem(http.StatusUnprocessableEntity, no.Remedy, "%s", no.Say)
	case errors.As(err, &bad):
		return problem(http.StatusUnprocessableEntity, "Nothing was written.", "%s", bad.Problem.Say)
	case err != nil:
		return err
	}
	c.Response().Header().Set("Location", "/api/tools/"+in.Name)
	return c.JSON(http.StatusCreated, out)
}
