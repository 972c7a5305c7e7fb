package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"stonebaton.example/api"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/reading"
	"stonebaton.example/core/right"
	"stonebaton.example/core/run"
	"stonebaton.example/core/trace"
	"stonebaton.example/core/view"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/model/chat"
	"stonebaton.example/internal/rows"
	"stonebaton.example/internal/store"
)

func (s *Service) ready(c *echo.Context) error {
	if err := s.app.Store.Ready(c.Request().Context()); err != nil {
		return problem(http.StatusServiceUnavailable, recordsRemedy(err), "the records cannot be written: %v", err)
	}
	if err := s.app.Engine.Room(); err != nil {
		return problem(http.StatusServiceUnavailable, "Free some.", "%v", err)
	}
	return c.JSON(http.StatusOK, map[string]string{"status": "ready"})
}

func (s *Service) begin(c *echo.Context) error {
	var in api.Start
	if err := body(c, &in); err != nil {
		return err
	}
	about(c, cmp.Or(in.Session, "a new session"), "")
	person, err := s.speaks(c, in)
	if err != nil {
		return err
	}
	if t, verb, as, err := s.confirms(c, in, person); err != nil {
		return err
	} else if t != nil {
		if asks(c).keyless {
			return keyless()
		}
		said := api.Settle{Verb: verb, As: as, Shown: ledger.Hash(t.Shown)}
		if verb == ledger.RefuseIt {
			said.Because = in.Text
		}
		if err := s.decide(c, *t, said); err != nil {
			return err
		}
		return c.JSON(http.StatusOK, api.Begun{Run: t.Run, Session: in.Session, Status: "going", Settled: t.ID, Broken: s.app.Projects.Broken()})
	}
	b, err := s.app.Engine.Begin(c.Request().Context(), engine.Start{Session: in.Session, Text: in.Text, Person: person, Agent: in.Agent, Tools: in.Tools, Rung: in.Rung, Rungs: in.Rungs, Model: in.Model, State: in.State, Relay: in.Relay, Input: in.Input, From: in.From, Kept: in.Kept, Until: in.Until, Turns: in.Turns, PersonAt: in.PersonAt})
	if err != nil {
		return err
	}
	about(c, "run "+cmp.Or(b.Run, "after "+b.WaitsFor), "")
	out := api.Begun{Run: b.Run, Session: b.Session, Status: "going", WaitsFor: b.WaitsFor, Broken: s.app.Projects.Broken()}
	if b.Run == "" {
		out.Status = "waiting"
		return c.JSON(http.StatusAccepted, out)
	}
	c.Response().Header().Set("Location", "/api/runs/"+b.Run)
	return c.JSON(http.StatusCreated, out)
}

// confirms says whether a message is a plain yes or no to the one question that its session
// waits with: whether the person lets a call go ahead that they asked for and may settle
// themselves. What says more, and what could be about another ticket, is a message.
func (s *Service) confirms(c *echo.Context, in api.Start, person string) (t *rows.Ticket, verb ledger.Verb, as string, err error) {
	m := reading.ReadManners(in.Text)
	if in.Session == "" || in.Agent != "" || in.Relay != "" || in.State != nil || (!m.Yes && !m.No) {
		return nil, "", "", nil
	}
	row, err := s.app.Store.SessionRow(c.Request().Context(), in.Session)
	if err != nil || row.Status != string(ledger.Held) || (person != "" && person != row.Person) {
		return nil, "", "", err
	}
	open, err := s.app.Store.Tickets(c.Request().Context(), store.TicketFilter{Run: row.Last})
	if err != nil || len(open) != 1 {
		return nil, "", "", err
	}
	t = &open[0]
	if t.Form != string(ledger.GateTicket) || t.Need > 1 || t.Barred == row.Person || !slices.Contains(t.By, row.Person) {
		return nil, "", "", nil
	}
	if m.Yes {
		return t, ledger.Allow, row.Person, nil
	}
	return t, ledger.RefuseIt, row.Person, nil
}

// speaks says whom a message is from: whoever asks. What only tries the project out, such as
// facts to begin with or another person to be, is for those who build it.
func (s *Service) speaks(c *echo.Context, in api.Start) (string, error) {
	w := asks(c)
	if w.local() && !w.keyless {
		return in.Person, nil
	}
	if in.Session != "" && !w.local() {
		if ok, err := s.app.Store.MaySee(c.Request().Context(), in.Session, w.Name); err != nil || !ok {
			return "", engine.ErrNoSession // also for one who may read it
		}
	}
	var tried []string
	for name, is := range map[string]bool{"person": in.Person != "" && in.Person != w.Name, "tools": in.Tools != "" && in.Tools != ledger.ToolsLive, "rung": in.Rung != "", "rungs": len(in.Rungs) > 0, "model": in.Model != "", "state": in.State != nil,
		"from": in.From != "", "kept": in.Kept != nil, "until": in.Until != "", "turns": in.Turns != 0, "person_at": len(in.PersonAt) > 0} {
		if is {
			tried = append(tried, name)
		}
	}
	slices.Sort(tried)
	switch {
	case len(tried) > 0 && w.keyless:
		return "", keyless()
	case len(tried) > 0 && !w.Can(right.Build):
		return "", problem(http.StatusForbidden, "Omit it: that is for people with the right build.", "%s may talk, but not say %s", w.Name, strings.Join(tried, ", "))
	case in.Person != "" && in.Person != w.Name:
		return "", problem(http.StatusForbidden, "Omit it.", "a run works for whoever begins it, so %s cannot begin one for %q", w.Name, in.Person)
	}
	return w.Name, nil
}

func (s *Service) runs(c *echo.Context) error {
	f := store.RunFilter{For: asks(c).seer(), Status: c.QueryParam("status"), Agent: c.QueryParam("agent"), Tool: c.QueryParam("tool"), Text: c.QueryParam("text"), Session: c.QueryParam("session")}
	before, limit, err := page(c, 100)
	if err != nil {
		return err
	}
	f.Since, f.Until, f.Before, f.Limit = moment(c, "since"), moment(c, "until"), before, limit+1
	list, err := s.app.Store.Runs(c.Request().Context(), f)
	if err != nil {
		return err
	}
	var out api.RunList
	out.Runs, out.Next = paged(list, limit, func(r rows.Run) int64 { return r.N })
	return c.JSON(http.StatusOK, out)
}

func (s *Service) run(c *echo.Context) error {
	ctx, id := c.Request().Context(), c.Param("id")
	if err := s.mayRead(c, id); err != nil {
		return err
	}
	events, done, err := s.ledger(c, id)
	if err != nil {
		return err
	}
	defer done()
	t, err := trace.Of(id, events)
	if err != nil {
		return err
	}
	out := api.Run{Run: t.Totals(), Steps: t.Steps}
	if out.Steps == nil {
		out.Steps = []*trace.Step{}
	}
	if out.Tickets, err = s.app.Store.Tickets(ctx, store.TicketFilter{Run: id, All: true}); err != nil {
		return err
	}
	if out.Waiting, err = s.waiting(ctx, out.Run.Session); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Service) waiting(ctx context.Context, session string) ([]string, error) {
	w, err := s.app.Store.Waiting(ctx, session)
	out := make([]string, len(w))
	for i := range w {
		out[i] = w[i].Start.Text
	}
	return out, err
}

func (s *Service) step(c *echo.Context) error {
	id := c.Param("id")
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
	if d == nil {
		return problem(http.StatusNotFound, fmt.Sprintf("`stonebaton show %s` lists its steps.", id), "run %s has no step %q", id, c.Param("step"))
	}
	return c.JSON(http.StatusOK, d)
}

func (s *Service) stop(c *echo.Context) error {
	var in api.Stop
	if err := body(c, &in); err != nil {
		return err
	}
	id := c.Param("id")
	about(c, "run "+id, in.Because)
	if err := s.mayRead(c, id); err != nil {
		return err
	}
	if err := s.app.Engine.Stop(c.Request().Context(), id, asks(c).Name, in.Because); err != nil {
		return err
	}
	row, err := s.app.Store.Run(c.Request().Context(), id)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusAccepted, row)
}

// request shows what a turn was sent, from the parts that were stored, and
// says whether this program would still build the same.
func (s *Service) request(c *echo.Context) error {
	ctx, id, name := c.Request().Context(), c.Param("id"), c.Param("step")
	if err := s.mayRead(c, id); err != nil {
		return err
	}
	events, done, err := s.ledger(c, id)
	if err != nil {
		return err
	}
	defer done()
	t, err := trace.Of(id, events)
	if err != nil {
		return err
	}
	st := t.Find(name)
	if st == nil || st.Kind != trace.Turn {
		return problem(http.StatusNotFound, fmt.Sprintf("`stonebaton show %s` lists its steps.", id), "run %s has no turn %q", id, name)
	}
	at := -1
	for i, e := range events {
		if e.Kind == ledger.KindTurnSent && e.Step == st.ID {
			at = i // the newest attempt
		}
	}
	if at < 0 {
		return problem(http.StatusConflict, "It waits for a person; `stonebaton tickets` says for whom.", "turn %q of the run %s has not been sent yet", name, id)
	}
	before, err := run.Fold(id, events[:at])
	if err != nil {
		return err
	}
	sent := events[at].Data.(*ledger.TurnSent)
	out := api.Request{Step: st.ID, Agent: sent.Agent, Model: sent.Model, Attempt: sent.Attempt, Messages: []ledger.Message{}, Parts: []prompt.Part{}}
	system, err := s.app.Store.Part(ctx, sent.System)
	if err != nil {
		return err
	}
	out.System = string(system)
	toolsJSON, err := s.app.Store.Part(ctx, sent.Tools)
	if err == nil {
		err = json.Unmarshal(toolsJSON, &out.Tools)
	}
	if err != nil {
		return err
	}
	on := before.Thread(st.ID.Parent())
	hashes := append(slices.Clip(on.Sent()[sent.Skip:sent.Skip+sent.Kept]), sent.Added...)
	for _, h := range hashes {
		raw, err := s.app.Store.Part(ctx, h)
		if err != nil {
			return err
		}
		var m ledger.Message
		if err := json.Unmarshal(raw, &m); err != nil {
			return err
		}
		out.Messages = append(out.Messages, m)
	}
	p, err := s.app.Projects.Version(ctx, before.Opened().Version)
	if err != nil {
		out.Differs = err.Error()
		return c.JSON(http.StatusOK, out)
	}
	b, err := prompt.Build(p, before, on, sent.Model, events[at].At)
	out.Differs = differs(b, err, sent, hashes)
	out.Same = out.Differs == ""
	out.Parts = append(out.Parts, b.Parts...)
	m := p.Models[sent.Model]
	if m != nil && m.Speaks == "chat-completions" {
		r := b.Request // with its settings
		r.System, r.Tools, r.Messages, r.Temperature = out.System, out.Tools, out.Messages, sent.Temp
		if out.Wire, err = chat.Body(r, m, chat.Kept); err != nil {
			return err
		}
	}
	if m == nil || !m.Pictures {
		for i := range out.Messages {
			out.Messages[i].Pictures = nil // it was shown none
		}
	}
	return c.JSON(http.StatusOK, out)
}

// differs says in which part a request built today would differ; "" in none.
func differs(b prompt.Built, err error, sent *ledger.TurnSent, hashes []ledger.Hash) string {
	switch {
	case err != nil:
		return err.Error()
	case b.SystemHash != sent.System:
		return "the system text would be another"
	case b.ToolsHash != sent.Tools:
		return "the tools would be others"
	case len(b.Hashes) != len(hashes):
		return fmt.Sprintf("there would be %d messages, not %d", len(b.Hashes), len(hashes))
	}
	for i := range hashes {
		if b.Hashes[i] != hashes[i] {
			return fmt.Sprintf("message %d would be another", i+1)
		}
	}
	return ""
}

func (s *Service) sessions(c *echo.Context) error {
	before, limit, err := page(c, 100)
	if err != nil {
		return err
	}
	list, err := s.app.Store.Sessions(c.Request().Context(), asks(c).seer(), before, limit+1)
	if err != nil {
		return err
	}
	var out api.SessionList
	out.Sessions, out.Next = paged(list, limit, func(r rows.Session) int64 { return r.N })
	return c.JSON(http.StatusOK, out)
}

// beside gives what the project shows beside a session.
func (s *Service) beside(c *echo.Context) error {
	ctx, id := c.Request().Context(), c.Param("id")
	if err := s.maySee(c, id); err != nil {
		return err
	}
	p, err := s.app.Projects.Current()
	if err != nil {
		return err
	}
	row, err := s.app.Store.SessionRow(ctx, id)
	if err != nil {
		return err
	}
	events, done, err := s.ledger(c, row.Last)
	if err != nil {
		return err
	}
	defer done()
	st, err := run.Fold(row.Last, events)
	if err != nil {
		return err
	}
	shown := []api.Shown{}
	if len(p.Beside) > 0 {
		shown = app.Beside(ctx, p, s.app.Workshop.Set, s.app.Secrets, row.Person, st.Facts())
	}
	return c.JSON(http.StatusOK, map[string]any{"shown": shown})
}

func (s *Service) session(c *echo.Context) error {
	ctx, id := c.Request().Context(), c.Param("id")
	if err := s.maySee(c, id); err != nil {
		return err
	}
	row, err := s.app.Store.SessionRow(ctx, id)
	if err != nil {
		return err
	}
	out := api.Session{SessionRow: row, Talk: []api.Said{}}
	for n := 1; n <= row.Runs; n++ {
		events, done, err := s.ledger(c, fmt.Sprintf("%s-%d", id, n))
		if err != nil {
			return err
		}
		out.Talk = append(out.Talk, view.Talk(events)...)
		if n == row.Runs {
			st, err := run.Fold(row.Last, events)
			if err != nil {
				done()
				return err
			}
			out.State = st.Facts()
		}
		done()
	}
	if out.Waiting, err = s.waiting(ctx, id); err != nil {
		return err
	}
	if out.Aside, err = s.app.Store.BesideOf(ctx, id); err != nil {
		return err
	}
	if out.Shared, err = s.app.Store.SharedWith(ctx, id); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}
