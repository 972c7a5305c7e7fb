// Package mcp carries tools out that a server of the Model Context Protocol
// offers, over standard input and output or streamable HTTP. Servers are started
// when they are first needed, and again when they have died; those that come in a package are
// installed before. What they say of themselves is never trusted, and every answer of theirs has
// bounds.
package mcp

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/modelcontextprotocol/go-sdk/jsonrpc"
	"github.com/modelcontextprotocol/go-sdk/mcp"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/value"
	"stonebaton.example/internal/sandbox"
	"stonebaton.example/internal/tools"
	"stonebaton.example/internal/tools/web"
)

// Bounds of what a server says.
const (
	maxTools   = 10_000
	maxBeside  = 500 // resources and prompts
	maxSummary = 4000
	maxResult  = 4 << 20
	maxLog     = 4 << 10
	maxRecord  = 2 << 10
)

// Servers are the tool servers of a project. Calls to the tools of one go through
// one connection. It is a tools.Handler.
type Servers struct {
	dir     string
	work    string
	client  *web.Client
	changed func(source string) // what a server offers has changed

	packages packages

	mu    sync.Mutex
	conns map[string]*conn
}

// Config says what the servers of a project are to be.
type Config struct {
	Dir      string // the project's folder
	Work     string // where each server gets a folder of its own; "" is the system's folder for what is temporary
	Packages string // where the packages are installed that servers come in
	Client   *web.Client
	Changed  func(source string)       // what one offers is something else than before; nil: nobody is told
	Tell     func(source, line string) // how far a package is installed; nil: nobody is told
}

// New gives the servers of a project. Close them.
func New(c Config) *Servers {
	if c.Changed == nil {
		c.Changed = func(string) {}
	}
	if c.Tell == nil {
		c.Tell = func(string, string) {}
	}
	if abs, err := filepath.Abs(c.Packages); err == nil && c.Packages != "" { // installers start there
		c.Packages = abs
	}
	if abs, err := filepath.Abs(c.Work); err == nil && c.Work != "" { // servers are told of it
		c.Work = abs
	}
	s := &Servers{dir: c.Dir, work: c.Work, client: c.Client, changed: c.Changed, packages: packages{dir: c.Packages, tell: c.Tell, jobs: map[string]*job{}, now: time.Now}, conns: map[string]*conn{}}
	s.packages.life, s.packages.end = context.WithCancel(context.Background())
	return s
}

// Prepare has the package installed that a source's program comes in, where it is not there
// yet, and waits for it until ctx ends. Where it is still being installed then, it says how far
// that is; the installation goes on.
func (s *Servers) Prepare(ctx context.Context, src *project.SourceDoc) (*Installing, error) {
	return s.packages.prepare(ctx, src)
}

// ready waits until the package of a source is installed, or ctx ends.
func (s *Servers) ready(ctx context.Context, src *project.SourceDoc) error {
	on, err := s.Prepare(ctx, src)
	if on != nil {
		err = fmt.Errorf("the tool server %s: %s", src.Name, on.Say())
	}
	return err
}

// Installing says how far the package of a source is; nil where it is not being installed.
func (s *Servers) Installing(src *project.SourceDoc) *Installing { return s.packages.state(src) }

// conn is one server, connected or not.
type conn struct {
	connecting chan struct{} // held by whoever connects
	older      bool          // it is of a version before the newest, and does not say so; of whoever connects

	mu       sync.Mutex
	key      string // what it was started from
	session  *mcp.ClientSession
	log      *tools.Tail
	starts   int
	hashes   map[string]ledger.Hash // of the inputs of what it offers now
	progress sync.Map               // token → io.Writer
}

func (s *Servers) conn(src *project.SourceDoc) *conn {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.conns[src.Name]
	if c == nil {
		c = &conn{log: tools.NewTail(maxLog), connecting: make(chan struct{}, 1)}
		s.conns[src.Name] = c
	}
	return c
}

// Close ends every connection, the servers that were started, and what is being installed.
func (s *Servers) Close() error {
	s.packages.close()
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range s.conns {
		c.mu.Lock()
		if c.session != nil {
			_ = c.session.Close() // it goes either way
		}
		c.session = nil
		c.mu.Unlock()
	}
	return nil
}

// connect gives the session of a source, a new one where there is none.
func (s *Servers) connect(ctx context.Context, src *project.SourceDoc) (*conn, *mcp.ClientSession, error) {
	c := s.conn(src)
	ctx, cancel := context.WithTimeout(ctx, src.Timeout)
	defer cancel()
	select {
	case c.connecting <- struct{}{}:
		defer func() { <-c.connecting }()
	case <-ctx.Done():
		return c, nil, c.explain(ctx, src, "cannot be reached", ctx.Err())
	}
	key := src.Key()
	c.mu.Lock()
	old := c.session
	if old != nil && c.key == key {
		c.mu.Unlock()
		return c, old, nil
	}
	if c.session = nil; c.key != key {
		c.older = false
	}
	c.mu.Unlock()
	if old != nil {
		_ = old.Close() // its document has changed
	}
	client := mcp.NewClient(&mcp.Implementation{Name: "stonebaton", Version: "1"}, &mcp.ClientOptions{
		Capabilities:           &mcp.ClientCapabilities{},
		ToolListChangedHandler: func(context.Context, *mcp.ToolListChangedRequest) { s.changed(src.Name) },
		//lint:ignore SA1019 servers of the versions before still say what they do so
		LoggingMessageHandler: func(_ context.Context, r *mcp.LoggingMessageRequest) {
			line := fmt.Sprintf("%s: %s\n", r.Params.Level, tools.Clip(strings.TrimSpace(fmt.Sprint(r.Params.Data)), 1000))
			c.progress.Range(func(_, w any) bool { // it is not said of which call it is
				_, _ = io.WriteString(w.(io.Writer), line)
				return true
			})
		},
		ProgressNotificationHandler: func(_ context.Context, r *mcp.ProgressNotificationClientRequest) {
			if t, ok := c.progress.Load(fmt.Sprint(r.Params.ProgressToken)); ok {
				fmt.Fprintf(t.(io.Writer), "%s\n", strings.TrimSpace(fmt.Sprintf("%g of %g %s", r.Params.Progress, r.Params.Total, r.Params.Message)))
			}
		},
	})
	session, err := s.open(ctx, src, c, client)
	if err != nil {
		return c, nil, err
	}
	c.mu.Lock()
	c.key, c.session, c.starts = key, session, c.starts+1
	c.mu.Unlock()
	go func() {
		_ = session.Wait() // why it ended is said by the call that finds it gone
		c.mu.Lock()
		if c.session == session {
			c.session = nil
		}
		c.mu.Unlock()
	}()
	return c, session, nil
}

// older is the newest version of the protocol that begins with a handshake.
const older = "2025-11-25"

// open begins a session. A server of a version before the newest is asked something
// that it does not know first, and some leave that without an answer: after a third
// of the time it is asked again, as such servers expect it.
func (s *Servers) open(ctx context.Context, src *project.SourceDoc, c *conn, client *mcp.Client) (*mcp.ClientSession, error) {
	if !c.older {
		session, err := s.attempt(ctx, src, c, client, src.Timeout/3, nil)
		if err == nil || !errors.Is(err, errSilent) || ctx.Err() != nil {
			return session, err
		}
	}
	session, err := s.attempt(ctx, src, c, client, src.Timeout, &mcp.ClientSessionOptions{ProtocolVersion: older})
	c.older = err == nil
	return session, err
}

var errSilent = errors.New("it does not answer")

func (s *Servers) attempt(ctx context.Context, src *project.SourceDoc, c *conn, client *mcp.Client, limit time.Duration, opts *mcp.ClientSessionOptions) (*mcp.ClientSession, error) {
	transport, err := s.transport(src, c)
	if err != nil {
		return nil, err
	}
	bounded, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	session, err := client.Connect(bounded, transport, opts)
	switch {
	case err == nil:
		return session, nil
	case bounded.Err() != nil && ctx.Err() == nil:
		return nil, errSilent
	}
	return nil, c.explain(ctx, src, "cannot be reached", err)
}

// explain words what a server did wrong, with the end of its log.
func (c *conn) explain(ctx context.Context, src *project.SourceDoc, what string, err error) error {
	say := web.Brief(err)
	if ctx.Err() != nil {
		say = fmt.Sprintf("it had not answered after %s", src.Timeout)
	}
	if log := strings.TrimSpace(c.log.String()); log != "" {
		lines := strings.Split(log, "\n")
		say += "; its log ends with: " + tools.Clip(lines[len(lines)-1], 200)
	}
	return fmt.Errorf("the tool server %s %s: %s", src.Name, what, say)
}

func (s *Servers) transport(src *project.SourceDoc, c *conn) (mcp.Transport, error) {
	if src.URL != "" {
		u, err := url.Parse(src.URL)
		if err != nil || u.Host == "" {
			return nil, fmt.Errorf("the tool server %s: %q is not a URL", src.Name, src.URL)
		}
		return &mcp.StreamableClientTransport{Endpoint: src.URL, MaxRetries: 2, MaxEventSize: maxResult, HTTPClient: &http.Client{Transport: roundTripper{s.client, src.Auth, web.Grant{Host: u.Host}}}}, nil
	}
	l, err := s.launch(src)
	if err != nil {
		return nil, err
	}
	for k, v := range src.Env {
		x, err := s.client.Expand(v)
		if err != nil {
			return nil, fmt.Errorf("the tool server %s: %w", src.Name, err)
		}
		l.env = append(l.env, k+"="+x)
	}
	if !src.Bounds.Bare {
		return s.confined(src, c, l)
	}
	cmd := exec.Command(l.program, l.args...)
	cmd.Dir = s.dir
	cmd.Env = append([]string{"HOME=" + os.Getenv("HOME"), "LANG=C.UTF-8"}, l.env...)
	cmd.Stderr = c.log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // it ends with its connection, not with a key on the terminal
	return &tracked{mcp.CommandTransport{Command: cmd, TerminateDuration: time.Second}}, nil
}

// launch is how a program is started.
type launch struct {
	program string // whole path
	args    []string
	env     []string // its PATH, and what else it needs
	reads   []string // what it reads and runs
}

// launch says how the program of a source is started: one of this machine, or of its package.
func (s *Servers) launch(src *project.SourceDoc) (launch, error) {
	if src.Package != nil {
		return s.packages.start(src)
	}
	program := src.Command[0]
	if strings.ContainsRune(program, '/') && !filepath.IsAbs(program) {
		program = filepath.Join(s.dir, program)
	}
	path, err := exec.LookPath(program)
	if err != nil {
		return launch{}, fmt.Errorf("the tool server %s: there is no program %q on this machine", src.Name, src.Command[0])
	}
	return launch{program: path, args: src.Command[1:], env: []string{"PATH=" + os.Getenv("PATH")}, reads: []string{path}}, nil
}

// tracked writes a server's process down while it runs.
type tracked struct{ mcp.CommandTransport }

func (t *tracked) Connect(ctx context.Context) (mcp.Connection, error) {
	conn, err := t.CommandTransport.Connect(ctx)
	if err == nil && t.Command.Process != nil {
		sandbox.Track(t.Command.Process.Pid)
	}
	return conn, err
}

type roundTripper struct {
	client *web.Client
	auth   *project.Auth
	grant  web.Grant
}

func (r roundTripper) RoundTrip(req *http.Request) (*http.Response, error) {
	send := func() (*http.Response, error) {
		one := req.Clone(req.Context())
		if req.GetBody != nil {
			body, err := req.GetBody()
			if err != nil {
				return nil, err
			}
			one.Body = body
		}
		if err := r.client.Sign(one, r.auth); err != nil {
			return nil, err
		}
		return r.client.Do(one, r.grant)
	}
	resp, err := send()
	if err == nil && resp.StatusCode == http.StatusUnauthorized && (req.Body == nil || req.GetBody != nil) && r.client.Forget(r.auth) {
		resp.Body.Close() // the token ended early: nothing was done, so a new one is fetched at once
		return send()
	}
	return resp, err
}

// Catalogue asks a server what it offers.
func (s *Servers) Catalogue(ctx context.Context, src *project.SourceDoc) (project.Catalogue, error) {
	if err := s.ready(ctx, src); err != nil {
		return project.Catalogue{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, src.Timeout)
	defer cancel()
	c, session, err := s.connect(ctx, src)
	if err != nil {
		return project.Catalogue{}, err
	}
	init := session.InitializeResult()
	cat := project.Catalogue{Tools: []project.Offer{}}
	if init != nil && init.ServerInfo != nil {
		cat.From = strings.TrimSpace(fmt.Sprintf("%s %s (Model Context Protocol %s)", init.ServerInfo.Name, init.ServerInfo.Version, init.ProtocolVersion))
	}
	hashes := map[string]ledger.Hash{}
	seen := map[string]int{}
	add := func(o project.Offer) {
		if seen[o.Tool]++; seen[o.Tool] > 1 && o.Fault == "" {
			o.Fault = "another of its offers has the same name"
		}
		hashes[o.Name] = project.InputHash(o.Input)
		cat.Tools = append(cat.Tools, o)
	}
	for t, err := range session.Tools(ctx, nil) {
		if err != nil {
			return cat, c.explain(ctx, src, "does not say what it offers", err)
		}
		if len(cat.Tools) == maxTools {
			cat.Also = append(cat.Also, fmt.Sprintf("more than %d tools; the first of them are listed", maxTools))
			break
		}
		add(offer(t))
	}
	beside(ctx, session, add)
	c.mu.Lock()
	c.hashes = hashes
	c.mu.Unlock()
	return cat, nil
}

func offer(t *mcp.Tool) project.Offer {
	o := project.Offer{Name: t.Name, Tool: project.ToolName(t.Name), Summary: strings.TrimSpace(t.Description)}
	switch a := t.Annotations; {
	case a == nil:
	case a.ReadOnlyHint:
		o.Says = "read"
	case a.DestructiveHint != nil || a.IdempotentHint: // said of writes alone
		o.Says = "write"
	}
	if len(o.Summary) > maxSummary {
		o.Summary = strings.ToValidUTF8(o.Summary[:maxSummary], "")
	}
	o.Input, _ = plain(t.InputSchema).(map[string]any)
	if o.Input == nil || o.Input["type"] != "object" {
		o.Fault = "its input is not an object"
	}
	if out, ok := plain(t.OutputSchema).(map[string]any); ok {
		o.Output = out
	}
	return o
}

// plain gives a value as encoding/json reads it.
func plain(v any) any {
	if v == nil {
		return nil
	}
	raw, err := json.Marshal(v)
	if err != nil {
		return nil
	}
	out, _ := value.Read(raw) // it was just written
	return out
}

// Check says that the token of a tool's server has expired.
func (s *Servers) Check(_ context.Context, t *project.Tool) error {
	return s.client.Expired(t.Remote.Source.Auth, time.Now())
}

// Call calls a tool of a server.
func (s *Servers) Call(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
	remote := i.Tool.Remote
	src := remote.Source
	log := tools.NewTail(maxLog)
	raw, err := json.Marshal(i.Args)
	if err != nil {
		raw = nil
	}
	limit := maxRecord
	if i.Bench {
		limit = maxResult
	}
	sent := &ledger.Sent{Method: "MCP", URL: src.Name + " " + remote.Name, Body: tools.Clip(string(raw), limit)}
	fail := func(o ledger.Outcome, class deed.Class, retry bool, format string, args ...any) (deed.Result, *deed.Failure) {
		sent.Log = log.String()
		return deed.Result{}, &deed.Failure{Outcome: o, Class: class, Say: fmt.Sprintf(format, args...), Retry: retry, Sent: sent}
	}
	if err := s.ready(ctx, src); err != nil {
		return fail(ledger.NotDone, "unreachable", true, "%v", err)
	}
	before := s.conn(src)
	before.mu.Lock()
	dead := before.session == nil && before.starts > 0
	before.mu.Unlock()
	c, session, err := s.connect(ctx, src)
	if err != nil {
		return fail(ledger.NotDone, "unreachable", true, "%v", err)
	}
	if dead {
		fmt.Fprintf(log, "the tool server %s had ended; it was started again\n", src.Name)
	}
	c.mu.Lock()
	now, known := c.hashes[remote.Name]
	c.mu.Unlock()
	if known && now != remote.Hash {
		return fail(ledger.NotDone, "changed", false, "%s of %s has changed since this run began; begin a new run to use it as it now is", remote.Name, src.Name)
	}
	token := i.Key
	c.progress.Store(token, io.MultiWriter(log, i.Logs()))
	defer c.progress.Delete(token)
	res, err := ask(ctx, session, remote, i.Args, token)
	if err != nil {
		var answered *jsonrpc.Error
		switch {
		case ctx.Err() != nil:
			return fail(ledger.Unknown, "timeout", true, "%s of %s had not answered after %s; it was told that nobody waits any more", remote.Name, src.Name, i.Tool.Timeout)
		case errors.As(err, &answered):
			return fail(ledger.NotDone, "refused", false, "%s of %s: %s", remote.Name, src.Name, tools.Clip(answered.Message, 500))
		}
		// what is left is not an answer: the connection, or what came over it, is broken
		c.mu.Lock()
		if c.session == session {
			_ = session.Close() // it is of no more use
			c.session = nil
		}
		c.mu.Unlock()
		return fail(ledger.Unknown, "unreachable", true, "%v", c.explain(ctx, src, "ended while "+remote.Name+" was under way", err))
	}
	var m tools.Media
	found, words := result(res, &m)
	whole, _ := json.Marshal(found) // it came as JSON
	sent.Bytes, sent.Reply, sent.Log = int64(len(whole)), tools.Clip(string(whole), limit), log.String()
	if len(whole) > maxResult {
		return fail(ledger.Unknown, "large", false, "the result of %s is larger than %d MB", remote.Name, maxResult>>20)
	}
	if res.IsError {
		if words == "" && found != nil {
			words = string(whole)
		}
		if words == "" {
			words = remote.Name + " says that it failed, and not why"
		}
		r, bad := fail(ledger.NotDone, "refused", false, "%s", tools.Clip(words, 2000))
		if res.StructuredContent != nil {
			bad.Body = found
		}
		return r, bad
	}
	return deed.Result{Value: found, Sent: sent, Files: m.Files}, nil
}

// rounded gives a value as encoding/json alone reads it.
func rounded(v any) (out any) {
	if raw, err := json.Marshal(v); err == nil {
		_ = json.Unmarshal(raw, &out) // it was just written
	}
	return out
}

// result gives what a server answered: its structured content where it has some,
// JSON within a text where that is all, or the text.
func result(r *mcp.CallToolResult, m *tools.Media) (found any, words string) {
	var texts []string
	var other []any
	for _, c := range r.Content {
		switch x := c.(type) {
		case *mcp.TextContent:
			texts = append(texts, x.Text)
		case *mcp.ImageContent:
			other = append(other, m.Add("image", x.MIMEType, "", x.Data))
		case *mcp.AudioContent:
			other = append(other, m.Add("audio", x.MIMEType, "", x.Data))
		case *mcp.EmbeddedResource:
			switch res := x.Resource; {
			case res == nil:
			case len(res.Blob) > 0:
				other = append(other, m.Add("resource", res.MIMEType, res.URI, res.Blob))
			default:
				other = append(other, map[string]any{"kind": "resource", "uri": res.URI, "text": res.Text})
			}
		case *mcp.ResourceLink:
			other = append(other, map[string]any{"kind": "link", "name": x.Name, "uri": x.URI})
		default:
			other = append(other, plain(c))
		}
	}
	words = strings.Join(texts, "\n")
	if r.StructuredContent != nil {
		// the same mostly stands in a text too, where long numbers are still exact
		if v, err := value.Read([]byte(words)); err == nil && reflect.DeepEqual(rounded(v), rounded(r.StructuredContent)) {
			return v, words
		}
		return plain(r.StructuredContent), words
	}
	if len(other) > 0 {
		if words != "" {
			other = slices.Insert(other, 0, any(map[string]any{"kind": "text", "text": words}))
		}
		return other, words
	}
	if t := strings.TrimSpace(words); strings.HasPrefix(t, "{") || strings.HasPrefix(t, "[") {
		if v, err := value.Read([]byte(t)); err == nil {
			return v, words
		}
	}
	if words == "" {
		return nil, ""
	}
	return words, words
}
