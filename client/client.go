// Package client talks to a Stone Baton service over its HTTP API.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/tmaxmax/go-sse"

	"stonebaton.example/api"
	"stonebaton.example/core/chart"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/rows"
	"stonebaton.example/internal/tools"
)

// Client is a service's address. Its methods return *api.Problem for what the
// service refuses and *UnreachableError where there is no service.
type Client struct {
	Token string // with which it says who asks; "" does not
	base  string
	http  *http.Client
}

// UnreachableError says that no service answers at an address.
type UnreachableError struct {
	URL string
	Err error
}

func (e *UnreachableError) Error() string {
	return fmt.Sprintf("no service answers at %s; start one with `stonebaton serve` or `stonebaton demo`, or name another with -at URL", e.URL)
}

func (e *UnreachableError) Unwrap() error { return e.Err }

// New gives the client of the service at a URL.
func New(base string) *Client {
	return &Client{base: strings.TrimSuffix(base, "/"), http: &http.Client{Transport: &http.Transport{Proxy: nil, MaxIdleConnsPerHost: 64, DialContext: (&net.Dialer{Timeout: 5 * time.Second}).DialContext}}}
}

// URL is the service's address.
func (c *Client) URL() string { return c.base }

func (c *Client) do(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return err
	}
	req.Header.Set("Accept", "application/json")
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	resp, err := c.send(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
		return fmt.Errorf("the service's answer to %s %s cannot be read: %w", method, path, err)
	}
	return nil
}

// send sends a request; an answer of 400 or more is an error.
func (c *Client) send(req *http.Request) (*http.Response, error) {
	if c.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.Token)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		if req.Context().Err() != nil {
			return nil, req.Context().Err()
		}
		return nil, &UnreachableError{URL: c.base, Err: err}
	}
	if resp.StatusCode < 400 {
		return resp, nil
	}
	defer resp.Body.Close()
	raw, _ := io.ReadAll(io.LimitReader(resp.Body, 64<<10)) // what arrived is enough
	var p api.Problem
	if json.Unmarshal(raw, &p) != nil || p.Detail == "" {
		p = api.Problem{Status: resp.StatusCode, Detail: fmt.Sprintf("%s %s answered %s, which is not an answer of Stone Baton", req.Method, req.URL, resp.Status)}
	}
	return nil, &p
}

// Begin starts a run, or leaves a message for one that is not over.
func (c *Client) Begin(ctx context.Context, s api.Start) (out api.Begun, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/runs", s, &out)
}

// Runs lists runs; see GET /api/runs for what the query may hold.
func (c *Client) Runs(ctx context.Context, q url.Values) (out api.RunList, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/runs?"+q.Encode(), nil, &out)
}

// Run gives one run with its steps.
func (c *Client) Run(ctx context.Context, id string) (out api.Run, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/runs/"+url.PathEscape(id), nil, &out)
}

// Step gives everything about a step, by its number or id, as JSON.
func (c *Client) Step(ctx context.Context, run, step string) (out json.RawMessage, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/runs/"+url.PathEscape(run)+"/steps/"+url.PathEscape(step), nil, &out)
}

// Request gives the exact request of a turn, by its number or id.
func (c *Client) Request(ctx context.Context, run, step string) (out api.Request, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/runs/"+url.PathEscape(run)+"/turns/"+url.PathEscape(step)+"/request", nil, &out)
}

// Stop asks a run to end.
func (c *Client) Stop(ctx context.Context, run, because string) (out rows.Run, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/runs/"+url.PathEscape(run)+"/stop", api.Stop{Because: because}, &out)
}

// Session gives a session with its conversation.
func (c *Client) Session(ctx context.Context, id string) (out api.Session, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/sessions/"+url.PathEscape(id), nil, &out)
}

// Project gives the project in use.
func (c *Client) Project(ctx context.Context) (out api.Project, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/project", nil, &out)
}

// Map gives the map of the project, or of a relay where one is named, with the paths of runs.
func (c *Client) Map(ctx context.Context, relay string, runs []string) (*chart.Chart, error) {
	q := url.Values{"run": runs}
	if relay != "" {
		q.Set("relay", relay)
	}
	out := &chart.Chart{}
	return out, c.do(ctx, http.MethodGet, "/api/map?"+q.Encode(), nil, out)
}

// Tools lists the tools.
func (c *Client) Tools(ctx context.Context) ([]api.Tool, error) {
	var out struct{ Tools []api.Tool }
	err := c.do(ctx, http.MethodGet, "/api/tools", nil, &out)
	return out.Tools, err
}

// Try calls a tool alone.
func (c *Client) Try(ctx context.Context, tool string, t api.Try) (out api.Tried, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/tools/"+url.PathEscape(tool)+"/try", t, &out)
}

// Choose says what the understudy would do first with a request; nothing is called.
func (c *Client) Choose(ctx context.Context, in api.Choose) (out api.Choice, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/choose", in, &out)
}

// Tickets lists tickets; see GET /api/tickets for what the query may hold.
func (c *Client) Tickets(ctx context.Context, q url.Values) (out api.TicketList, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/tickets?"+q.Encode(), nil, &out)
}

// Open lists the tickets of a run that wait for a person.
func (c *Client) Open(ctx context.Context, run string) ([]rows.Ticket, error) {
	out, err := c.Tickets(ctx, url.Values{"run": {run}})
	return out.Tickets, err
}

// Trust lists what waits until a person lets it run outside the sandbox.
func (c *Client) Trust(ctx context.Context) (out api.Trust, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/trust", nil, &out)
}

// Confirm lets something run outside the sandbox.
func (c *Client) Confirm(ctx context.Context, id string) (out project.Outside, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/trust/"+url.PathEscape(id), struct{}{}, &out)
}

// Ticket gives one ticket.
func (c *Client) Ticket(ctx context.Context, id string) (out api.Ticket, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/tickets/"+url.PathEscape(id), nil, &out)
}

// Settle settles a ticket.
func (c *Client) Settle(ctx context.Context, id string, s api.Settle) (out api.Ticket, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/tickets/"+url.PathEscape(id)+"/settle", s, &out)
}

// Models lists the models.
func (c *Client) Models(ctx context.Context) ([]api.Model, error) {
	var out struct{ Models []api.Model }
	err := c.do(ctx, http.MethodGet, "/api/models", nil, &out)
	return out.Models, err
}

// TestModel asks a model a few questions. Longest looks for the longest request that it takes; keep
// writes what it can do into the project's file.
func (c *Client) TestModel(ctx context.Context, name string, longest, keep bool) (out api.ModelTest, err error) {
	q := url.Values{}
	for k, on := range map[string]bool{"context": longest, "keep": keep} {
		if on {
			q.Set(k, "1")
		}
	}
	return out, c.do(ctx, http.MethodPost, "/api/models/"+url.PathEscape(name)+"/test?"+q.Encode(), struct{}{}, &out)
}

// ModelOffers lists the models that the endpoint of a model has.
func (c *Client) ModelOffers(ctx context.Context, name string) (out api.ModelOffers, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/models/"+url.PathEscape(name)+"/offers", nil, &out)
}

// ErrStopped ends a Follow from within.
var ErrStopped = errors.New("stopped")

// Follow reads a run's event stream behind an event, until the run ends, ctx
// ends, or a function returns an error; ErrStopped is none. Where the connection
// breaks it resumes where it was. Words may be nil.
func (c *Client) Follow(ctx context.Context, run string, after int64, change func(api.Change) error, words func(api.Delta)) error {
	return resuming(ctx, func() (bool, error) {
		last, err := c.follow(ctx, run, after, change, words)
		came := last > after
		after = max(after, last)
		return came, err
	})
}

// resuming reads a stream, and again where it broke off or the service cannot be reached,
// for some seconds more after each time that something came.
func resuming(ctx context.Context, read func() (came bool, err error)) error {
	const first = 100 * time.Millisecond
	for wait := first; ; wait *= 2 {
		came, err := read()
		if came {
			wait = first
		}
		var gone *UnreachableError
		switch {
		case err == nil || errors.Is(err, ErrStopped):
			return nil
		case ctx.Err() != nil:
			return ctx.Err()
		case !errors.As(err, &gone) && !errors.Is(err, errBroken), wait > 3*time.Second:
			return err
		}
		select { // the service may be coming back
		case <-time.After(wait):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// stream opens an event stream behind an event.
func (c *Client) stream(ctx context.Context, path string, after int64) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base+path, nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Accept", "text/event-stream")
	if after > 0 {
		req.Header.Set("Last-Event-ID", fmt.Sprint(after))
	}
	return c.send(req)
}

// maxEvent bounds one message of a stream.
const maxEvent = 32 << 20

var errBroken = errors.New("the stream broke off")

// follow reads the stream once; without an error the run is over.
func (c *Client) follow(ctx context.Context, run string, after int64, change func(api.Change) error, words func(api.Delta)) (last int64, err error) {
	resp, err := c.stream(ctx, "/api/runs/"+url.PathEscape(run)+"/events", after)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	if resp.StatusCode == http.StatusNoContent {
		return 0, nil
	}
	for ev, err := range sse.Read(resp.Body, &sse.ReadConfig{MaxEventSize: maxEvent}) {
		if err != nil {
			break
		}
		if ev.Type == "delta" {
			var d api.Delta
			if words != nil && json.Unmarshal([]byte(ev.Data), &d) == nil {
				words(d)
			}
			continue
		}
		var ch api.Change
		if err := json.Unmarshal([]byte(ev.Data), &ch); err != nil {
			return last, fmt.Errorf("an event of run %s cannot be read: %w", run, err)
		}
		last = ch.Event.Seq
		if err := change(ch); err != nil {
			return last, err
		}
		if ch.Totals.Status.Over() {
			return last, nil
		}
	}
	return last, errBroken
}

// live reads the stream of what changes, until ctx ends or tell returns an error. It is lossy:
// where the connection breaks it is taken up again, and what happened meanwhile is not told.
func (c *Client) live(ctx context.Context, tell func(kind, data string) error) error {
	return resuming(ctx, func() (bool, error) {
		resp, err := c.stream(ctx, "/api/live", 0)
		if err != nil {
			return false, err
		}
		defer resp.Body.Close()
		for ev, err := range sse.Read(resp.Body, &sse.ReadConfig{MaxEventSize: maxEvent}) {
			if err != nil {
				break
			}
			if err := tell(ev.Type, ev.Data); err != nil {
				return true, err
			}
		}
		return true, errBroken
	})
}

// Live tells of every run that begins or changes, until ctx ends. What happens while the
// connection is broken is not told.
func (c *Client) Live(ctx context.Context, tell func(rows.Run)) error {
	return c.live(ctx, func(kind, data string) error {
		var r rows.Run
		if kind == "run" && json.Unmarshal([]byte(data), &r) == nil {
			tell(r)
		}
		return nil
	})
}

// LiveTickets calls look at once, and again whenever a ticket was raised, voted on or settled,
// until ctx ends or look returns an error. Several changes may be told as one.
func (c *Client) LiveTickets(ctx context.Context, look func() error) error {
	return c.live(ctx, func(kind, _ string) error {
		if kind != "tickets" {
			return nil
		}
		return look()
	})
}

// AddStub writes a stub into the file of a tool.
func (c *Client) AddStub(ctx context.Context, tool string, in api.NewStub) (out project.Edit, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/tools/"+url.PathEscape(tool)+"/stubs", in, &out)
}

// Outbox lists the messages that tools have sent; see GET /api/outbox for what the query
// may hold.
func (c *Client) Outbox(ctx context.Context, q url.Values) (out api.Outbox, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/outbox?"+q.Encode(), nil, &out)
}

// Undo undoes a change of a file, by its key.
func (c *Client) Undo(ctx context.Context, key string) (out tools.Change, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/undo/"+url.PathEscape(key), struct{}{}, &out)
}

// Sources lists the sources of the project.
func (c *Client) Sources(ctx context.Context) ([]api.Source, error) {
	var out struct{ Sources []api.Source }
	return out.Sources, c.do(ctx, http.MethodGet, "/api/sources", nil, &out)
}

// Inspect asks what a source offers.
func (c *Client) Inspect(ctx context.Context, name string) (out api.Inspected, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/sources/"+url.PathEscape(name), nil, &out)
}

// Functions says what a file of functions would bring. It is not kept.
func (c *Client) Functions(ctx context.Context, f api.FunctionFile) (out api.Inspected, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/functions", f, &out)
}

// Me says who asks.
func (c *Client) Me(ctx context.Context) (out api.Me, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/me", nil, &out)
}

// SignOut lets the browsers out in which whoever asks has signed in.
func (c *Client) SignOut(ctx context.Context, everywhere bool) error {
	return c.do(ctx, http.MethodPost, "/api/sign-out", api.SignOut{Everywhere: everywhere}, nil)
}

// Record lists who did what; see GET /api/record for what the query may hold.
func (c *Client) Record(ctx context.Context, q url.Values) (out api.Record, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/record?"+q.Encode(), nil, &out)
}

// Share lets others go on in a session, or no more.
func (c *Client) Share(ctx context.Context, session string, in api.Share) (out api.Session, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/sessions/"+url.PathEscape(session)+"/share", in, &out)
}

// Add writes a document more into the project's files.
func (c *Client) Add(ctx context.Context, in api.Add) (out api.Added, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/add", in, &out)
}

// Take writes into the project's files which tools of a source it has.
func (c *Client) Take(ctx context.Context, source string, in api.Take) (out api.Added, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/sources/"+url.PathEscape(source)+"/take", in, &out)
}

// Databases shows the databases of the project.
func (c *Client) Databases(ctx context.Context) ([]api.Database, error) {
	var out struct{ Databases []api.Database }
	return out.Databases, c.do(ctx, http.MethodGet, "/api/databases", nil, &out)
}

// ResetDatabase makes a database anew, without what was written into it.
func (c *Client) ResetDatabase(ctx context.Context, name string) (out api.Database, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/databases/"+url.PathEscape(name)+"/reset", struct{}{}, &out)
}

// Keep makes a tool of the project of a program that a step has run.
func (c *Client) Keep(ctx context.Context, run, step string, in api.Keep) (out api.KeptTool, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/runs/"+url.PathEscape(run)+"/steps/"+url.PathEscape(step)+"/keep", in, &out)
}

// File reads a file that a program of a run made, by its content.
func (c *Client) File(ctx context.Context, run, hash string) (io.ReadCloser, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base+"/api/runs/"+url.PathEscape(run)+"/files/"+url.PathEscape(hash), nil)
	if err != nil {
		return nil, err
	}
	resp, err := c.send(req)
	if err != nil {
		return nil, err
	}
	return resp.Body, nil
}

// Changes gives what a run has changed in files and nobody has undone.
func (c *Client) Changes(ctx context.Context, run string) (out api.Changes, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/runs/"+url.PathEscape(run)+"/changes", nil, &out)
}

// UndoRun undoes all that a run has changed in files.
func (c *Client) UndoRun(ctx context.Context, run string) (out api.Changes, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/runs/"+url.PathEscape(run)+"/undo", struct{}{}, &out)
}
