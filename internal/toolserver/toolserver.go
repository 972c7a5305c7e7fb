// Package toolserver offers a project's tools, relays and agents to clients of the Model
// Context Protocol: over HTTP, where the service does it, and on standard input and output.
package toolserver

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/jellydator/ttlcache/v3"
	"github.com/modelcontextprotocol/go-sdk/mcp"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/value"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/live"
	"stonebaton.example/internal/rows"
	"stonebaton.example/internal/store"
)

// Person is the header in which the service says who asks. What a client sends in it counts for
// nothing.
const Person = "X-Stonebaton-Person"

// Server offers a project's tools, relays and agents to clients of the Model Context
// Protocol. Each call is a run, with the same checks, rungs, gates and ledger as one that a
// person begins: of one call, through the relay, or of the agent, which stands as a tool
// consult_NAME with a question.
type Server struct {
	app    *app.App
	server *mcp.Server
	log    *slog.Logger

	mu      sync.Mutex
	offered map[string]ledger.Hash // contracts by tool
	asked   map[string]ledger.Hash // prompts, likewise

	taken  taken
	owners *ttlcache.Cache[string, string] // who began a session, by its id
}

// New gives a server of the tools of an app's project. It follows the
// project as its files change.
func New(a *app.App, log *slog.Logger) *Server {
	t := &Server{app: a, log: log, offered: map[string]ledger.Hash{}, asked: map[string]ledger.Hash{},
		owners: ttlcache.New(ttlcache.WithTTL[string, string](2 * sessionLife))}
	t.server = mcp.NewServer(&mcp.Implementation{Name: "stonebaton", Version: "1"}, &mcp.ServerOptions{
		Capabilities: &mcp.ServerCapabilities{Tools: &mcp.ToolCapabilities{ListChanged: true}, Prompts: &mcp.PromptCapabilities{ListChanged: true}, Resources: &mcp.ResourceCapabilities{}},
		Instructions: "The tools, relays and agents of a project. A call may wait for a person; progress says for whom.",
	})
	t.readable()
	t.offer()
	r := a.Hub.Read("")
	go func() {
		defer r.Close()
		for {
			select {
			case <-a.Done():
				return
			case n := <-r.C:
				if n.Topic == "project" || r.Missed() {
					t.offer()
				}
			}
		}
	}()
	return t
}

// Run serves one client over a transport, until it goes or ctx ends.
func (t *Server) Run(ctx context.Context, over mcp.Transport) error {
	return t.server.Run(ctx, watched{over, &t.taken})
}

// sessionHeader names the session of a request.
const sessionHeader = "Mcp-Session-Id"

// sessionLife is how long a session lives in which nothing is asked.
const sessionLife = 30 * time.Minute

// sessionless is the first revision of the protocol whose requests over HTTP stand alone.
const sessionless = "2026-07-28"

// Handler serves clients over streamable HTTP, in sessions as far as their revision of the
// protocol has them.
func (t *Server) Handler() http.Handler {
	here := func(*http.Request) *mcp.Server { return t.server }
	sessions := mcp.NewStreamableHTTPHandler(here, &mcp.StreamableHTTPOptions{SessionTimeout: sessionLife})
	single := mcp.NewStreamableHTTPHandler(here, &mcp.StreamableHTTPOptions{Stateless: true, PropagateRequestCancellation: true})
	return t.taken.watch(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if id := r.Header.Get(sessionHeader); id != "" {
			if o := t.owners.Get(id); o != nil && o.Value() != r.Header.Get(Person) {
				http.Error(w, "there is no such session", http.StatusNotFound) // it is somebody else's
				return
			}
		}
		defer func() {
			if id := w.Header().Get(sessionHeader); id != "" {
				t.owners.GetOrSet(id, r.Header.Get(Person))
			}
		}()
		if r.Header.Get("Mcp-Protocol-Version") >= sessionless { // revisions are dates
			single.ServeHTTP(w, r)
			return
		}
		sessions.ServeHTTP(w, r)
	}))
}

// offer brings the lists of tools and prompts up to date.
func (t *Server) offer() {
	p, err := t.app.Projects.Current()
	if err != nil {
		return // the files are broken, and there is no version before
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	follow(t.offered, offers(p), t.server.RemoveTools, func(x *mcp.Tool) { t.server.AddTool(x, t.call) })
	follow(t.asked, prompts(p), t.server.RemovePrompts, func(x *mcp.Prompt) { t.server.AddPrompt(x, t.prompt) })
}

// follow brings what is offered up to date with what there is now: clients are told of what
// has changed alone.
func follow[T any](offered map[string]ledger.Hash, now map[string]*T, remove func(...string), add func(*T)) {
	var gone []string
	for n := range offered {
		if now[n] == nil {
			gone = append(gone, n)
			delete(offered, n)
		}
	}
	if len(gone) > 0 {
		remove(gone...)
	}
	for _, n := range slices.Sorted(maps.Keys(now)) {
		raw, err := json.Marshal(now[n])
		if err != nil {
			continue // a contract is JSON
		}
		if h := ledger.HashOf(raw); offered[n] != h {
			offered[n] = h
			add(now[n])
		}
	}
}

// offers describes what a project has to offer, by name. No two kinds share one.
func offers(p *project.Project) map[string]*mcp.Tool {
	out := map[string]*mcp.Tool{}
	for n, a := range p.Agents {
		out[project.ConsultPrefix+n] = described(project.Contract{Name: project.ConsultPrefix + n, Summary: "Ask " + n + ", and get its answer: " + a.Summary, Parameters: schemaOf(a.Takes())}, ledger.Write, false)
	}
	for n, r := range p.Relays {
		out[n] = described(r.Contract(), r.Effect, false)
	}
	for n, tool := range p.Tools {
		c := tool.Contract()
		if doc := tool.Input.Doc(); doc["$schema"] != nil && !tool.ReasonFirst {
			c.Parameters = schemaOf(doc) // a model does without, a client may want to know
		}
		out[n] = described(c, tool.Effect, tool.Resend != "")
		if doc := tool.Output.Doc(); doc["type"] == "object" {
			out[n].OutputSchema = doc
		}
	}
	return out
}

func schemaOf(doc map[string]any) json.RawMessage {
	raw, err := json.Marshal(doc)
	if err != nil {
		panic("a compiled schema is JSON: " + err.Error())
	}
	return raw
}

func described(c project.Contract, effect ledger.Effect, again bool) *mcp.Tool {
	destroys := effect == ledger.Irreversible
	return &mcp.Tool{Name: c.Name, Description: c.Summary, InputSchema: c.Parameters,
		Annotations: &mcp.ToolAnnotations{ReadOnlyHint: effect == ledger.Read, IdempotentHint: again, DestructiveHint: &destroys}}
}

// start says what a call begins: a run of one call, one through a relay, or one of an agent.
func start(p *project.Project, name, args string) engine.Start {
	agent, asks := strings.CutPrefix(name, project.ConsultPrefix)
	switch {
	case p == nil || p.Tools[name] != nil:
	case p.Relays[name] != nil:
		return engine.Start{Relay: name, Input: json.RawMessage(args)}
	case asks && p.Agents[agent] != nil:
		return engine.Start{Agent: agent, Text: loop.Asked(p.Agents[agent], json.RawMessage(args))}
	}
	return engine.Start{Call: &ledger.Ask{ID: "1", Tool: name, Args: args}}
}

// call carries a client's call out as a run of its own.
func (t *Server) call(ctx context.Context, req *mcp.CallToolRequest) (*mcp.CallToolResult, error) {
	who := "a client"
	session, id := request(req)
	if init := req.Session.InitializeParams(); init != nil && init.ClientInfo != nil && init.ClientInfo.Name != "" {
		who = init.ClientInfo.Name
	}
	args := string(req.Params.Arguments)
	p, err := t.app.Projects.Current()
	if err != nil {
		return failed(err.Error()), nil
	}
	from := start(p, req.Params.Name, args)
	entry := rows.Entry{Person: who, Via: "mcp", Did: "begin"}
	if req.Extra != nil && req.Extra.Header.Get(Person) != "" {
		entry.Person, entry.Detail = req.Extra.Header.Get(Person), "through "+who
	}
	from.Person, from.Via = entry.Person, "mcp"
	b, err := t.app.Engine.Begin(ctx, from)
	if err != nil {
		return failed(err.Error()), nil
	}
	entry.About = "run " + b.Run
	if err := t.app.Record(ctx, entry); err != nil {
		t.log.Error("what somebody did could not be recorded", "person", entry.Person, "run", b.Run, "error", err)
	}
	r := t.app.Hub.Read(b.Run)
	defer r.Close()
	token, said := req.Params.GetProgressToken(), 0.0
	tell := func(words string) {
		if token == nil {
			return
		}
		said++
		if err := req.Session.NotifyProgress(ctx, &mcp.ProgressNotificationParams{ProgressToken: token, Progress: said, Message: words}); err != nil {
			t.log.Debug("a client could not be told how its call goes", "run", b.Run, "error", err)
		}
	}
	heard := 0
	told := func(n live.Note) { // what the call says of itself, line by line
		for line := range strings.Lines(n.Text) {
			heard++
			tell(strings.TrimSpace(line))
		}
	}
	for {
		s, err := t.app.Engine.State(ctx, b.Run)
		if err != nil && ctx.Err() == nil {
			return failed(err.Error()), nil
		}
		if err == nil && s.Closed() != nil {
			return t.result(s, b.Run, func(log string) { // a quick call is over before anybody reads
				for line := range strings.Lines(log) {
					if heard--; heard < 0 {
						tell(strings.TrimSpace(line))
					}
				}
			})
		}
		if err == nil && s.Held() {
			tell(t.waits(ctx, b.Run))
		}
		select {
		case n := <-r.C:
			told(n)
		case <-ctx.Done():
			// nobody waits for the result any more: what has not begun does not begin
			stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer cancel()
			var over *loop.RefusedError
			if err := t.app.Engine.Stop(stop, b.Run, who, t.taken.because(session, id)); err != nil && !errors.As(err, &over) {
				t.log.Warn("failed to stop the run of a client that went away", "run", b.Run, "error", err)
			}
			return nil, ctx.Err()
		}
	}
}

// waits says for whom a run waits.
func (t *Server) waits(ctx context.Context, id string) string {
	list, err := t.app.Store.Tickets(ctx, store.TicketFilter{Run: id, Limit: 1})
	if err != nil || len(list) == 0 {
		return "it waits for a person"
	}
	who := "a person"
	if by := list[0].By; len(by) > 0 {
		who = by[0]
	}
	return fmt.Sprintf("it waits for %s (ticket %d): %s", who, list[0].ID, list[0].Ask)
}

func failed(words string) *mcp.CallToolResult {
	return &mcp.CallToolResult{IsError: true, Content: []mcp.Content{&mcp.TextContent{Text: words}}}
}

// media gives the files that came with a result as the protocol has them. One that is not kept
// any more is left to the words, which name it.
func (t *Server) media(sent *ledger.Sent) (out []mcp.Content) {
	if sent == nil {
		return nil
	}
	for _, f := range sent.Files {
		body, err := t.app.Store.File(f.Hash)
		if err != nil {
			t.log.Warn("a file of a result cannot be read", "file", f.Path, "hash", f.Hash, "error", err)
			continue
		}
		switch group, _, _ := strings.Cut(f.Type, "/"); group {
		case "image":
			out = append(out, &mcp.ImageContent{MIMEType: f.Type, Data: body})
		case "audio":
			out = append(out, &mcp.AudioContent{MIMEType: f.Type, Data: body})
		default:
			at := url.URL{Scheme: "file", Path: "/" + f.Path}
			res := &mcp.ResourceContents{URI: at.String(), MIMEType: f.Type}
			if strings.HasPrefix(f.Type, "text/") && utf8.Valid(body) {
				res.Text = string(body)
			} else {
				res.Blob = body
			}
			out = append(out, &mcp.EmbeddedResource{Resource: res})
		}
	}
	return out
}

// result words the end of a run of one call, and gives what it has logged.
func (t *Server) result(s *run.State, id string, log func(string)) (*mcp.CallToolResult, error) {
	if s.Closed().Status != ledger.Done {
		words := "the run was stopped"
		if s.Closed().Problem != nil {
			words = s.Closed().Problem.Say
		}
		return failed(words), nil
	}
	out := &mcp.CallToolResult{Content: []mcp.Content{&mcp.TextContent{Text: s.Closed().Answer}}}
	events, err := engine.All(t.app.Store.Read(context.Background(), id, 0))
	if err != nil {
		return out, nil // the words are the answer; its structure is for programs
	}
	for _, e := range events {
		var whole json.RawMessage
		switch d := e.Data.(type) {
		case *ledger.CallReturned:
			if e.Step.Parent() == ledger.OutsideTurn {
				whole = d.Result
				out.Content = append(out.Content, t.media(d.Sent)...)
				if d.Sent != nil {
					log(d.Sent.Log)
				}
			}
		case *ledger.FrameClosed:
			if e.Step == ledger.Root {
				whole = d.Value
			}
		}
		if m, err := value.ReadObject(whole); err == nil && m != nil {
			out.StructuredContent = m
		}
	}
	return out, nil
}
