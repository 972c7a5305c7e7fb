package service

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"

	"github.com/labstack/echo/v5"
	"go.yaml.in/yaml/v4"

	"stonebaton.example/api"
	"stonebaton.example/core/drill"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/core/right"
	"stonebaton.example/core/run"
	"stonebaton.example/core/view"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/rows"
	"stonebaton.example/internal/store"
)

//go:embed openapi.yaml
var openapiYAML []byte

// Document gives the OpenAPI document of the API as JSON.
var Document = sync.OnceValues(func() ([]byte, error) {
	var doc map[string]any
	if err := yaml.Unmarshal(openapiYAML, &doc); err != nil {
		return nil, fmt.Errorf("openapi.yaml: %w", err)
	}
	return json.MarshalIndent(doc, "", "  ")
})

func (s *Service) document(c *echo.Context) error {
	doc, err := Document()
	if err != nil {
		return err
	}
	return c.Blob(http.StatusOK, "application/json", doc)
}

func names[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

func (s *Service) project(c *echo.Context) error {
	probs, older, _ := s.app.Projects.Problems()
	out := api.Project{Dir: s.app.Projects.Dir(), Older: older, Agents: []api.Agent{}, Relays: []api.Relay{}, Models: []api.Model{}, State: map[string]any{}}
	for _, p := range probs {
		switch p.Grade {
		case project.Error:
			out.Errors++
		case project.Warning:
			out.Warnings++
		default:
			out.Hints++
		}
	}
	p, err := s.app.Projects.Current()
	if err != nil {
		return c.JSON(http.StatusOK, out) // there is none that could run; the problems say why
	}
	out.Name, out.Summary, out.Version, out.Start, out.Zone = p.Name, p.Summary, p.Version, p.Start, p.Zone.String()
	if !asks(c).Can(right.View) {
		out.Dir = ""
	}
	if d := p.State.Doc(); d != nil {
		out.State = d
	}
	for _, n := range names(p.Agents) {
		a := p.Agents[n]
		st := "ok"
		if n == p.Start {
			st = "start"
		}
		out.Agents = append(out.Agents, api.Agent{ID: n, Status: st, Summary: a.Summary, Model: a.Model, Tools: list(a.Tools), PassesTo: list(a.PassesTo), Takes: a.Takes(), Place: a.Place})
	}
	for _, n := range names(p.Relays) {
		r := p.Relays[n]
		x := api.Relay{ID: n, Status: "ok", Summary: r.Summary, Effect: r.Effect, Input: r.Input.Doc(), Spoken: r.Spoken(), Legs: []string{}, Place: r.Place}
		if n == p.Start {
			x.Status = "start"
		}
		for _, l := range r.Legs {
			x.Legs = append(x.Legs, l.Name)
		}
		out.Relays = append(out.Relays, x)
	}
	out.Models = app.Models(p)
	return c.JSON(http.StatusOK, out)
}

func list(s []string) []string { return append([]string{}, s...) }

func (s *Service) models(c *echo.Context) error {
	p, err := s.app.Projects.Current()
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"models": app.Models(p)})
}

// testModel asks a model one question, with no fallback and no second attempt.
func (s *Service) testModel(c *echo.Context) error {
	p, err := s.app.Projects.Current()
	if err != nil {
		return err
	}
	name := c.Param("name")
	about(c, name, "")
	m := p.Models[name]
	if m == nil {
		return problem(http.StatusNotFound, "`stonebaton models` lists them.", "unknown model %q.%s", name, near.Hint(name, names(p.Models)))
	}
	out := app.TestModel(c.Request().Context(), s.app.Models, s.app.Secrets, p, m, c.QueryParam("context") != "")
	if out.Can != nil && c.QueryParam("keep") != "" {
		edits, err := s.app.Projects.KeepCan(c.Request().Context(), name, *out.Can)
		if err != nil {
			return notEdited(err)
		}
		out.Kept = &edits[0]
	}
	return c.JSON(http.StatusOK, out)
}

// modelOffers lists what the endpoint of a model has.
func (s *Service) modelOffers(c *echo.Context) error {
	p, err := s.app.Projects.Current()
	if err != nil {
		return err
	}
	list, err := app.ListModels(c.Request().Context(), s.app.Models, s.app.Secrets, p, c.Param("name"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, api.ModelOffers{Models: list})
}

func (s *Service) problems(c *echo.Context) error {
	probs, older, read := s.app.Projects.Problems()
	if probs == nil {
		probs = []project.Problem{}
	}
	return c.JSON(http.StatusOK, api.Problems{Problems: probs, Older: older, Read: read})
}

func (s *Service) tools(c *echo.Context) error {
	p, err := s.app.Projects.Current()
	if err != nil {
		return err
	}
	probs, _, _ := s.app.Projects.Problems()
	return c.JSON(http.StatusOK, map[string]any{"tools": app.Tools(p, probs)})
}

func (s *Service) tool(c *echo.Context) error {
	p, err := s.app.Projects.Current()
	if err != nil {
		return err
	}
	name := c.Param("name")
	if p.Tools[name] == nil {
		return problem(http.StatusNotFound, "`stonebaton tools` lists them.", "unknown tool %q.%s", name, near.Hint(name, names(p.Tools)))
	}
	probs, _, _ := s.app.Projects.Problems()
	list := app.Tools(p, probs)
	return c.JSON(http.StatusOK, list[slices.IndexFunc(list, func(t api.Tool) bool { return t.ID == name })])
}

func (s *Service) untrusted(c *echo.Context) error {
	return c.JSON(http.StatusOK, api.Trust{Waiting: s.app.Projects.Waiting()})
}

func (s *Service) trust(c *echo.Context) error {
	if err := body(c, &struct{}{}); err != nil {
		return err
	}
	o, err := s.app.Projects.Confirm(c.Request().Context(), ledger.Hash(c.Param("id")), asks(c).Name)
	about(c, o.Kind+" "+o.Name, o.Say)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, o)
}

func (s *Service) tickets(c *echo.Context) error {
	skip, limit, err := page(c, 100)
	if err != nil {
		return err
	}
	list, err := s.app.Store.Tickets(c.Request().Context(), store.TicketFilter{Run: c.QueryParam("run"), All: c.QueryParam("status") == "all", For: asks(c).seerOf(), Whose: store.Whose(c.QueryParam("whose")), Skip: int(skip), Limit: limit + 1})
	if err != nil {
		return err
	}
	var out api.TicketList
	out.Tickets, out.Next = paged(list, limit, func(rows.Ticket) int64 { return skip + int64(limit) })
	return c.JSON(http.StatusOK, out)
}

func (s *Service) ticketOf(c *echo.Context) (api.Ticket, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return api.Ticket{}, problem(http.StatusBadRequest, "", "a ticket's id is a number, not %q", c.Param("id"))
	}
	row, err := s.app.Store.Ticket(c.Request().Context(), id)
	if err == nil {
		err = s.mayDecide(c, row)
	}
	if err != nil {
		return api.Ticket{}, err
	}
	return s.whole(c, row)
}

// whole gives all that a person needs to decide a ticket.
func (s *Service) whole(c *echo.Context, row rows.Ticket) (api.Ticket, error) {
	events, done, err := s.ledger(c, row.Run)
	if err != nil {
		return api.Ticket{}, err
	}
	defer done()
	return s.wholeOf(c.Request().Context(), row, events)
}

// wholeOf does the same with the events of the ticket's run.
func (s *Service) wholeOf(ctx context.Context, row rows.Ticket, events []ledger.Event) (out api.Ticket, err error) {
	out = api.Ticket{TicketRow: row, Schema: map[string]any{}, Leads: map[ledger.Verb][]string{}}
	out.Talk = view.Talk(events)
	if o, ok := events[0].Data.(*ledger.RunOpened); ok && o.Beside != nil { // the conversation that it waits beside
		led, err := engine.All(s.app.Store.Read(ctx, o.Beside.Run, 0))
		if err != nil {
			return out, err
		}
		out.Talk = view.Talk(led)
	}
	if out.Told, err = s.app.Store.NoticesOf(ctx, row.ID); err != nil {
		return out, err
	}
	if opened, ok := events[0].Data.(*ledger.RunOpened); ok {
		p, err := s.app.Projects.Version(ctx, opened.Version)
		if err != nil {
			return out, nil // its files cannot be read any more: what was asked can
		}
		if t := p.Tools[row.Tool]; t != nil {
			out.Schema = t.Input.Doc()
		}
		if row.Form == string(ledger.LimitTicket) {
			out.Schema = loop.MoreSchema
		}
		state, err := run.Fold(row.Run, events)
		if err != nil {
			return out, err
		}
		out.Leads = loop.Leads(p, state, ledger.StepID(row.Step))
		if t := p.Tools[row.Tool]; t != nil && row.Status == "open" && row.Form == string(ledger.GateTicket) && opened.Tools == ledger.ToolsLive {
			if err := s.app.Workshop.Set.Check(ctx, t); err != nil { // an agreement would be spent on a call that fails
				out.Leads[ledger.Allow] = append(out.Leads[ledger.Allow], fmt.Sprintf("The call would fail as things are: %v.", err))
			}
		}
	}
	return out, nil
}

// mayDecide says whether a ticket is shown to the caller: it is one of their runs, or they may
// settle it, or they did. To others it is not there.
func (s *Service) mayDecide(c *echo.Context, t rows.Ticket) error {
	w := asks(c)
	if w.local() {
		return nil
	}
	n, err := s.app.Store.CountTickets(c.Request().Context(), store.TicketFilter{Run: t.Run, ID: t.ID, All: true, For: w.seerOf()})
	if err == nil && n == 0 {
		err = store.ErrNoTicket
	}
	return err
}

// stands gives the names that the caller stands for where a ticket says who may settle it; nil
// is any. Where there is nobody any more of those whom it names, people with the right admin
// stand for them.
func (s *Service) stands(w *caller, t rows.Ticket) ([]string, error) {
	if w.local() || (w.link != nil && w.Name == engine.Local) {
		return nil, nil
	}
	own := w.Stands()
	if !w.Can(right.Admin) || len(t.By) == 0 {
		return own, nil
	}
	list, err := s.app.People.List()
	if err != nil {
		return nil, err
	}
	for _, p := range list {
		if slices.ContainsFunc(p.Stands(), func(n string) bool { return slices.Contains(t.By, n) && p.Name != t.Barred }) {
			return own, nil
		}
	}
	return append(own, t.By...), nil
}

func (s *Service) ticket(c *echo.Context) error {
	t, err := s.ticketOf(c)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, t)
}

func (s *Service) settle(c *echo.Context) error {
	var in api.Settle
	if err := body(c, &in); err != nil {
		return err
	}
	t, err := s.ticketOf(c)
	if err != nil {
		return err
	}
	if err := s.decide(c, t.TicketRow, in); err != nil {
		return err
	}
	if t, err = s.ticketOf(c); err != nil {
		return err
	}
	if asks(c).local() && in.As == "" && t.Need <= 1 { // as the first who may
		about(c, fmt.Sprintf("ticket %d", t.ID), verdict(in, t.SettledBy))
	}
	return c.JSON(http.StatusOK, t)
}

// verdict tells of a settlement in the record.
func verdict(in api.Settle, as string) string {
	out := string(in.Verb)
	if as != "" && as != engine.Local {
		out += " as " + as
	}
	if b := strings.TrimSpace(in.Because); b != "" {
		out += ": " + b
	}
	return out
}

// decide settles a ticket for whoever asks.
func (s *Service) decide(c *echo.Context, t rows.Ticket, in api.Settle) error {
	w := asks(c)
	about(c, fmt.Sprintf("ticket %d", t.ID), verdict(in, in.As))
	if t.Status != "open" && in.ID == "" {
		return &loop.SettledError{Verb: ledger.Verb(t.Status), By: t.SettledBy}
	}
	result, err := given("result", in.Result)
	if err != nil {
		return err
	}
	stands, err := s.stands(w, t)
	if err != nil {
		return err
	}
	if w.own && t.Need > 1 { // an application could make up as many as it takes
		return problem(http.StatusForbidden, "Somebody in the file of the people can settle it: stonebaton person list.", "it takes %d people, and %s is known from %s alone", t.Need, w.Name, w.via)
	}
	return s.app.Engine.Settle(c.Request().Context(), t.Run, ledger.StepID(t.Step), loop.Settlement{ID: in.ID, Verb: in.Verb, By: w.Name, Stands: stands, As: in.As, Because: strings.TrimSpace(in.Because), Args: in.Args, Result: result, Shown: in.Shown, Spare: in.Spare})
}

// linkTicket shows the ticket of a link. It changes nothing: programs that look at mail open
// links.
func (s *Service) linkTicket(c *echo.Context) error {
	l := asks(c).link
	if l == nil {
		return notByLink()
	}
	row, err := s.app.Store.Ticket(c.Request().Context(), l.Ticket)
	if err != nil {
		return err
	}
	t, err := s.whole(c, row)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, api.LinkTicket{Ticket: t, Person: l.Person, Expires: l.Expires, Project: s.name()})
}

func notByLink() error {
	return problem(http.StatusForbidden, "Send Authorization: Link TOKEN.", "this is for those who come with a link")
}

// name gives the project's name; "" where its files cannot be read.
func (s *Service) name() string {
	p, err := s.app.Projects.Current()
	if err != nil {
		return ""
	}
	return p.Name
}

// linkSettle settles the ticket of a link, which is used up by that; where what was decided
// cannot be, it is not.
func (s *Service) linkSettle(c *echo.Context) error {
	l := asks(c).link
	if l == nil {
		return notByLink()
	}
	var in api.Settle
	if err := body(c, &in); err != nil {
		return err
	}
	ctx := context.WithoutCancel(c.Request().Context())
	row, err := s.app.Store.Ticket(ctx, l.Ticket)
	if err != nil {
		return err
	}
	free, err := s.app.Store.UseLink(ctx, l.ID)
	if err != nil {
		return err
	}
	if !free {
		return problem(http.StatusGone, "Sign in to see what became of it.", "somebody has decided with this link, and it is good once")
	}
	if err := s.decide(c, row, in); err != nil {
		return errors.Join(err, s.app.Store.FreeLink(ctx, l.ID))
	}
	if row, err = s.app.Store.Ticket(ctx, l.Ticket); err != nil {
		return err
	}
	events, err := engine.All(s.app.Store.Read(ctx, row.Run, 0)) // it is decided, so nothing is waited for
	if err != nil {
		return err
	}
	t, err := s.wholeOf(ctx, row, events)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, api.LinkTicket{Ticket: t, Person: l.Person, Expires: l.Expires, Project: s.name()})
}

func (s *Service) drills(c *echo.Context) error {
	p, err := s.app.Projects.Current()
	if err != nil {
		return err
	}
	last, err := s.app.Store.Drills(c.Request().Context())
	if err != nil {
		return err
	}
	out := api.DrillList{Drills: []drill.Result{}}
	for _, d := range p.Drills {
		r := app.NewDrillResult(d)
		if raw, ok := last[d.Name]; ok {
			if err := json.Unmarshal(raw, &r); err != nil {
				return err
			}
		}
		out.Drills = append(out.Drills, r)
	}
	return c.JSON(http.StatusOK, out)
}

func (s *Service) runDrills(c *echo.Context) error {
	var in api.Drills
	if err := body(c, &in); err != nil {
		return err
	}
	p, err := s.app.Projects.Current()
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	about(c, strings.Join(in.Names, ", "), "")
	results, err := app.RunDrills(ctx, p, s.app.Workshop, in.Names, nil)
	if err != nil {
		return err
	}
	for _, r := range results {
		raw, err := json.Marshal(r)
		if err != nil {
			return err
		}
		if err := s.app.Store.SaveDrill(ctx, r.ID, raw); err != nil {
			return err
		}
	}
	s.app.Hub.Changed("drills")
	return c.JSON(http.StatusOK, api.DrillList{Drills: results})
}
