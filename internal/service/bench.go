package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"stonebaton.example/api"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/value"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/rows"
	"stonebaton.example/internal/tools"
	"stonebaton.example/internal/understudy"
)

func (s *Service) try(c *echo.Context) error {
	var in api.Try
	if err := body(c, &in); err != nil {
		return err
	}
	p, err := s.app.Projects.Current()
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	about(c, c.Param("name"), string(in.Tools))
	out, err := app.Try(ctx, p, s.app.Tools, s.app.Secrets, c.Param("name"), asks(c).Name, in)
	if err != nil {
		return err
	}
	raw, err := json.Marshal(out)
	if err != nil {
		return err
	}
	args, err := json.Marshal(out.Args)
	if err != nil {
		return err
	}
	out.ID, err = s.app.Store.SaveTry(context.WithoutCancel(ctx), rows.Try{Tool: out.Tool, At: rows.Moment{Time: out.At}, Status: out.Status, Way: string(out.Tools), MS: out.MS, Bytes: int64(out.Bytes),
		Tokens: out.Tokens, Args: args, Words: tools.Clip(out.Words, 160)}, raw)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Service) tries(c *echo.Context) error {
	before, limit, err := page(c, 100)
	if err != nil {
		return err
	}
	ctx, tool := c.Request().Context(), c.QueryParam("tool")
	list, err := s.app.Store.Tries(ctx, tool, before, limit+1)
	if err != nil {
		return err
	}
	out := api.TryList{}
	if out.Count, err = s.app.Store.CountTries(ctx, tool); err != nil {
		return err
	}
	out.Tries, out.Next = paged(list, limit, func(r rows.Try) int64 { return r.ID })
	return c.JSON(http.StatusOK, out)
}

func (s *Service) tried(c *echo.Context) error {
	out, err := s.oneTry(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Service) oneTry(ctx context.Context, name string) (api.Tried, error) {
	var out api.Tried
	id, err := strconv.ParseInt(name, 10, 64)
	if err != nil {
		return out, problem(http.StatusBadRequest, "", "a try's id is a number, not %q", name)
	}
	_, raw, err := s.app.Store.Try(ctx, id)
	if err != nil {
		return out, err
	}
	err = json.Unmarshal(raw, &out)
	out.ID = id
	return out, err
}

// addStub writes a stub into the file of its tool: of a try, of a recorded call,
// or of what the body says.
func (s *Service) addStub(c *echo.Context) error {
	var in api.NewStub
	if err := body(c, &in); err != nil {
		return err
	}
	ctx := c.Request().Context()
	about(c, c.Param("name"), "")
	if in.Run != "" {
		if err := s.mayRead(c, in.Run); err != nil {
			return err
		}
	}
	draft, err := s.draft(ctx, c.Param("name"), in)
	if err != nil {
		return err
	}
	edit, err := s.app.Projects.AddStub(ctx, c.Param("name"), draft)
	if errors.Is(err, app.ErrNoTool) {
		return problem(http.StatusNotFound, "`stonebaton tools` lists them.", "unknown tool %q", c.Param("name"))
	}
	if err != nil {
		return notEdited(err)
	}
	c.Response().Header().Set("Location", "/api/tools/"+url.PathEscape(c.Param("name")))
	return c.JSON(http.StatusCreated, edit)
}

func (s *Service) draft(ctx context.Context, tool string, in api.NewStub) (project.StubDraft, error) {
	d := project.StubDraft{Args: in.Args, Fails: in.Fails, Status: in.Status, After: in.After}
	var err error
	if d.Returns, err = given("returns", in.Returns); err != nil {
		return d, err
	}
	switch {
	case in.Try != 0:
		t, err := s.oneTry(ctx, strconv.FormatInt(in.Try, 10))
		if err != nil {
			return d, err
		}
		if t.Tool != tool {
			return d, problem(http.StatusBadRequest, "", "the try %d is one of %s", in.Try, t.Tool)
		}
		if t.Status == "refused" {
			return d, problem(http.StatusConflict, "A stub needs something that came back.", "the try %d was refused before the call", in.Try)
		}
		after := d.After
		d = app.DraftOf(t)
		d.After = after
	case in.Run != "":
		events, err := engine.All(s.app.Store.Read(ctx, in.Run, 0))
		if err != nil {
			return d, err
		}
		if err := ofCall(events, in.Step, tool, &d); err != nil {
			return d, err
		}
	}
	return d, nil
}

// ofCall fills a draft from a recorded call.
func ofCall(events []ledger.Event, step, tool string, d *project.StubDraft) error {
	found, ended := false, false
	for _, e := range events {
		if e.Step != ledger.StepID(step) {
			continue
		}
		switch x := e.Data.(type) {
		case *ledger.CallDecided:
			if x.Tool != tool {
				return problem(http.StatusBadRequest, "", "the step %s is a call of %s", step, x.Tool)
			}
			d.Args, _ = value.ReadObject(x.Args) // of a call that was refused it may be anything
			found = d.Args != nil
		case *ledger.GateSettled:
			if len(x.Args) > 0 {
				d.Args, _ = value.ReadObject(x.Args) // it was checked when it was settled
			}
		case *ledger.CallReturned:
			var err error
			if d.Returns, err = value.Read(x.Result); err != nil {
				return err
			}
			d.Fails, d.Status, ended = "", 0, true // an attempt before may have failed
		case *ledger.CallFailed:
			d.Fails, d.Class, d.Outcome, ended = x.Say, x.Class, x.Outcome, true
			if x.Sent != nil {
				d.Status = x.Sent.Status
			}
		}
	}
	switch {
	case !found:
		return problem(http.StatusNotFound, "Look at the run's steps.", "the run has no call %q that was decided", step)
	case !ended:
		return problem(http.StatusConflict, "A stub needs something that came back.", "the call %q has not returned yet", step)
	}
	return nil
}

func (s *Service) outbox(c *echo.Context) error {
	after, limit, err := page(c, 100)
	if err != nil {
		return err
	}
	list, err := s.app.Store.MessagesAfter(c.Request().Context(), asks(c).seer(), asks(c).Address, c.QueryParam("to"), after, limit+1)
	if err != nil {
		return err
	}
	var out api.Outbox
	out.Messages, out.Next = paged(list, limit, tools.Message.Number)
	w := asks(c)
	to := func(person string) bool {
		return !w.keyless && (w.local() || w.Name == person && w.via != byLink && !w.own)
	}
	for n := range out.Messages {
		m := &out.Messages[n]
		m.Subject, m.Text = s.app.Links.ShowLinks(m.Subject, to), s.app.Links.ShowLinks(m.Text, to)
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Service) undo(c *echo.Context) error {
	about(c, c.Param("key"), "")
	ch, err := s.app.Undo(c.Request().Context(), c.Param("key"), asks(c).Name)
	var ue *tools.UndoError
	switch {
	case errors.Is(err, tools.ErrNoChange):
		return problem(http.StatusNotFound, "The proof of a call names the key of its change.", "there is no change %q", c.Param("key"))
	case errors.As(err, &ue):
		return problem(http.StatusConflict, "", "%s", ue.Say)
	case err != nil:
		return err
	}
	return c.JSON(http.StatusOK, ch)
}

// changes gives what a run has changed in files, as one difference.
func (s *Service) changes(c *echo.Context) error {
	id := c.Param("id")
	if err := s.mayRead(c, id); err != nil {
		return err
	}
	list, diff, err := s.app.Changes(c.Request().Context(), id)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, api.Changes{Changes: list, Diff: diff})
}

// undoRun undoes all that a run has changed in files, the newest first. Where one cannot be
// undone it stops there, and says so.
func (s *Service) undoRun(c *echo.Context) error {
	if err := body(c, &struct{}{}); err != nil {
		return err
	}
	ctx, id := c.Request().Context(), c.Param("id")
	about(c, "run "+id, "")
	if err := s.mayRead(c, id); err != nil {
		return err
	}
	list, _, err := s.app.Changes(ctx, id)
	if err != nil {
		return err
	}
	out := api.Changes{Changes: []tools.Change{}}
	for _, x := range list {
		ch, err := s.app.Undo(ctx, x.Key, asks(c).Name)
		var ue *tools.UndoError
		if errors.As(err, &ue) {
			return problem(http.StatusConflict, fmt.Sprintf("%d of %d changes of the run are undone; the others are as they were.", len(out.Changes), len(list)), "%s", ue.Say)
		}
		if err != nil {
			return err
		}
		out.Changes = append(out.Changes, ch)
	}
	about(c, "run "+id, fmt.Sprintf("%d changes", len(list)))
	return c.JSON(http.StatusOK, out)
}

// add writes a document more into the project's files.
func (s *Service) add(c *echo.Context) error {
	var in api.Add
	if err := body(c, &in); err != nil {
		return err
	}
	about(c, in.Kind+" "+in.Name, in.Like)
	edits, err := s.app.Projects.Add(c.Request().Context(), project.Addition{Kind: in.Kind, Name: in.Name, Like: in.Like, Summary: in.Summary, PassesFrom: in.PassesFrom, To: in.To})
	if err != nil {
		return notEdited(err)
	}
	c.Response().Header().Set("Location", "/api/project")
	return c.JSON(http.StatusCreated, api.Added{Edits: edits})
}

// take writes into the project's files which tools of a source it has.
func (s *Service) take(c *echo.Context) error {
	var in api.Take
	if err := body(c, &in); err != nil {
		return err
	}
	about(c, "source "+c.Param("name"), strings.Join(in.Take, ", "))
	edits, err := s.app.Projects.Take(c.Request().Context(), project.Taking{Source: c.Param("name"), Take: in.Take, Effects: in.Effects, To: in.To})
	if errors.Is(err, app.ErrNoSource) {
		return problem(http.StatusNotFound, "`stonebaton source` lists them.", "unknown source %q", c.Param("name"))
	}
	if err != nil {
		return notEdited(err)
	}
	return c.JSON(http.StatusOK, api.Added{Edits: edits})
}

func (s *Service) databases(c *echo.Context) error {
	p, err := s.app.Projects.Current()
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"databases": s.app.Workshop.Databases(c.Request().Context(), p)})
}

// resetDatabase makes a database anew.
func (s *Service) resetDatabase(c *echo.Context) error {
	if err := body(c, &struct{}{}); err != nil {
		return err
	}
	about(c, "database "+c.Param("name"), "made anew")
	p, err := s.app.Projects.Current()
	if err != nil {
		return err
	}
	out, err := s.app.Workshop.ResetDatabase(c.Request().Context(), p, c.Param("name"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}

// notEdited says why files of the project were not changed.
func notEdited(err error) error {
	var by *project.EditError
	var bad *app.EditRefusedError
	switch {
	case errors.As(err, &by) && by.Text != "":
		return problem(http.StatusConflict, "Put this in by hand: "+by.Text, "%s", by.Say)
	case errors.As(err, &by):
		return problem(http.StatusUnprocessableEntity, "Nothing was written.", "%s", by.Say)
	case errors.As(err, &bad):
		out := problem(http.StatusUnprocessableEntity, "Nothing was written.", "%s", bad.Problem.Say)
		out.Place = &bad.Problem.Place
		return out
	}
	return err
}

func (s *Service) sources(c *echo.Context) error {
	p, err := s.app.Projects.Sources()
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"sources": app.Sources(p)})
}

func (s *Service) inspect(c *echo.Context) error {
	p, err := s.app.Projects.Sources()
	if err != nil {
		return err
	}
	out, err := app.Inspect(c.Request().Context(), p, s.app.Workshop, c.Param("name"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}

// functions says what a file of functions would bring.
func (s *Service) functions(c *echo.Context) error {
	var in api.FunctionFile
	if err := body(c, &in); err != nil {
		return err
	}
	out, err := app.InspectText(c.Request().Context(), s.app.Secrets, in, s.app.Workshop.Dir())
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}

// choose says what the understudy would do first with a request.
func (s *Service) choose(c *echo.Context) error {
	var in api.Choose
	if err := body(c, &in); err != nil {
		return err
	}
	if strings.TrimSpace(in.Text) == "" {
		return problem(http.StatusUnprocessableEntity, "Write in text what somebody would say.", "the request has no text")
	}
	p, err := s.app.Projects.Current()
	if err != nil {
		return err
	}
	out, err := understudy.Choose(p, in.Agent, cmp.Or(in.Person, asks(c).Name), in.Text, time.Now().In(p.Zone))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}
