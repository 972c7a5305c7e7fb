package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
	"golang.org/x/sync/semaphore"

	"stonebaton.example/api"
	"stonebaton.example/core/near"
	"stonebaton.example/core/value"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/sandbox"
	"stonebaton.example/internal/toolserver"
)

// Bounds of a request.
const (
	maxBody  = 1 << 20
	maxDepth = 64
)

// Service answers requests. Its Handler is ready when New returns.
type Service struct {
	app     *app.App
	echo    *echo.Echo
	log     *slog.Logger
	metrics *metrics
	door    *door
	loans   *semaphore.Weighted // bytes of the records that are held for those who ask
	reads   atomic.Int64        // of the people, that were looked at for the record
	ending  context.Context     // streams end with it
	end     context.CancelFunc
	version string
}

// New gives the service of an app. Console holds the console's files; version
// is the program's.
func New(a *app.App, console fs.FS, log *slog.Logger, version string) *Service {
	s := &Service{app: a, echo: echo.New(), log: log, metrics: newMetrics(a), door: newDoor(), loans: semaphore.NewWeighted(loanMost), version: version}
	s.ending, s.end = context.WithCancel(context.Background())
	e := s.echo
	e.Logger = log
	e.HTTPErrorHandler = s.fail
	e.JSONSerializer = serializer{s: s}
	known, err := operations(openapiYAML)
	if err != nil {
		panic(err) // it is part of the program
	}
	e.Use(middleware.Recover(), headers, pace, s.observe, s.guard, s.entitled(known), strict(known))
	e.Use(middleware.GzipWithConfig(middleware.GzipConfig{MinLength: 1024, Skipper: func(c *echo.Context) bool {
		return strings.Contains(c.Request().Header.Get("Accept"), "text/event-stream")
	}}))
	e.GET("/healthz", func(c *echo.Context) error { return c.JSON(http.StatusOK, map[string]string{"status": "ok"}) })
	e.GET("/readyz", s.ready)
	e.GET("/metrics", echo.WrapHandler(s.metrics.handler()))
	offered := until(s.ending, toolserver.New(a, log).Handler())
	e.Any("/mcp", func(c *echo.Context) error {
		r, w := c.Request(), asks(c)
		r.Header.Del(toolserver.Person) // it is said here, not by who asks
		if !w.local() {
			r.Header.Set(toolserver.Person, w.Name)
		}
		r.Body = timelyBody(c.Response(), r.Body)
		offered.ServeHTTP(c.Response(), r)
		return nil
	})
	e.GET("/problems", explained)
	g := e.Group("/api")
	g.GET("/openapi.json", s.document)
	g.GET("/me", s.me)
	g.POST("/sign-in", s.signIn)
	g.POST("/sign-out", s.signOut)
	g.GET("/people", s.people)
	g.POST("/people", s.addPerson)
	g.POST("/people/:name", s.setPerson)
	g.POST("/people/:name/token", s.renewToken)
	g.POST("/people/:name/revoke", s.revoke)
	g.GET("/record", s.record)
	g.POST("/sessions/:id/share", s.share)
	g.POST("/runs", s.begin)
	g.GET("/runs", s.runs)
	g.GET("/runs/:id", s.run)
	g.GET("/runs/:id/events", s.events)
	g.GET("/runs/:id/steps/:step", s.step)
	g.GET("/runs/:id/turns/:step/request", s.request)
	g.GET("/runs/:id/files/:hash", s.file)
	g.POST("/runs/:id/steps/:step/keep", s.keep)
	g.GET("/runs/:id/changes", s.changes)
	g.POST("/runs/:id/undo", s.undoRun)
	g.POST("/runs/:id/stop", s.stop)
	g.GET("/sessions", s.sessions)
	g.GET("/sessions/:id", s.session)
	g.GET("/sessions/:id/beside", s.beside)
	g.GET("/project", s.project)
	g.GET("/map", s.chart)
	g.GET("/problems", s.problems)
	g.GET("/tools", s.tools)
	g.GET("/tools/:name", s.tool)
	g.GET("/trust", s.untrusted)
	g.POST("/trust/:id", s.trust)
	g.POST("/tools/:name/try", s.try)
	g.POST("/tools/:name/stubs", s.addStub)
	g.POST("/choose", s.choose)
	g.GET("/tries", s.tries)
	g.GET("/tries/:id", s.tried)
	g.GET("/tries/:id/files/:hash", s.triedFile)
	g.GET("/outbox", s.outbox)
	g.POST("/undo/:key", s.undo)
	g.GET("/sources", s.sources)
	g.GET("/sources/:name", s.inspect)
	g.POST("/sources/:name/take", s.take)
	g.POST("/functions", s.functions)
	g.POST("/add", s.add)
	g.GET("/databases", s.databases)
	g.POST("/databases/:name/reset", s.resetDatabase)
	g.GET("/tickets", s.tickets)
	g.GET("/tickets/:id", s.ticket)
	g.POST("/tickets/:id/settle", s.settle)
	g.GET("/link", s.linkTicket)
	g.POST("/link/settle", s.linkSettle)
	g.GET("/drills", s.drills)
	g.POST("/drills", s.runDrills)
	g.GET("/models", s.models)
	g.POST("/models/:name/test", s.testModel)
	g.GET("/models/:name/offers", s.modelOffers)
	g.GET("/live", s.live)
	s.console(console)
	return s
}

// until ends what a handler does when a context does, so that an open stream does
// not hold a service that is ending.
func until(end context.Context, h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ctx, cancel := context.WithCancel(r.Context())
		defer cancel()
		defer context.AfterFunc(end, cancel)()
		h.ServeHTTP(w, r.WithContext(ctx))
	})
}

// Handler answers requests.
func (s *Service) Handler() http.Handler { return s.echo }

// Serve answers on a listener until ctx ends; then it lets requests under way
// finish, streams aside, for at most five seconds. No program in the sandbox reaches it.
func (s *Service) Serve(ctx context.Context, l net.Listener) error {
	defer sandbox.Hide(l.Addr())()
	srv := &http.Server{Handler: s.echo, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		ErrorLog: slog.NewLogLogger(s.log.Handler(), slog.LevelWarn)}
	failed := make(chan error, 1)
	go func() { failed <- srv.Serve(l) }()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	s.end()
	late, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := srv.Shutdown(late); err != nil {
		return srv.Close()
	}
	return nil
}

// fail writes an error as problem details.
func (s *Service) fail(c *echo.Context, err error) {
	if r, uerr := echo.UnwrapResponse(c.Response()); uerr == nil && r.Committed {
		return
	}
	p := asProblem(err)
	if p.Status >= 500 {
		s.log.Error("a request failed", "method", c.Request().Method, "path", c.Request().URL.Path, "error", err)
	}
	p.Detail, p.Remedy = s.app.Secrets.Text(p.Detail), s.app.Secrets.Text(p.Remedy)
	body, merr := json.Marshal(p)
	if merr != nil {
		body = []byte(`{"type":"/problems#internal","title":"Internal Server Error","status":500,"detail":"the error cannot be written"}`)
	}
	if werr := c.Blob(p.Status, "application/problem+json", body); werr != nil {
		s.log.Debug("failed to write an error", "error", werr)
	}
}

// guard refuses requests that another site's page, or a name that is not ours,
// brings here.
func (s *Service) guard(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		if !s.app.Access.Beyond && !loopback(r.Host) {
			return foreign("Use http://127.0.0.1 or http://localhost with the port.", "this service does not answer for the host %q", r.Host)
		}
		if o := r.Header.Get("Origin"); o != "" {
			u, err := url.Parse(o)
			if err != nil || u.Host != r.Host || u.Scheme != s.scheme() {
				return foreign("", "a page of %q may not use this service", o)
			}
		}
		if f := r.Header.Get("Sec-Fetch-Site"); f == "cross-site" && r.Method != http.MethodGet {
			return foreign("", "a page of another site may not use this service")
		}
		return next(c)
	}
}

func foreign(remedy, format string, args ...any) error {
	return api.Narrower("foreign", problem(http.StatusForbidden, remedy, format, args...))
}

// scheme is that of the addresses under which people reach the service.
func (s *Service) scheme() string {
	if s.app.Access.Secure {
		return "https"
	}
	return "http"
}

func loopback(host string) bool {
	h, _, err := net.SplitHostPort(host)
	if err != nil {
		h = host
	}
	h = strings.Trim(h, "[]")
	if h == "localhost" {
		return true
	}
	ip := net.ParseIP(h)
	return ip != nil && ip.IsLoopback()
}

// headers sets what browsers are told about every answer. Styles may stand in
// elements because Radix positions its panels so; scripts may not.
func headers(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		if strings.HasPrefix(c.Request().URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		return next(c)
	}
}

// body reads a request's JSON strictly.
func body(c *echo.Context, into any) error {
	r := c.Request()
	if t, _, err := mime.ParseMediaType(r.Header.Get("Content-Type")); err != nil || t != "application/json" {
		return problem(http.StatusUnsupportedMediaType, "Send Content-Type: application/json.", "the body must be JSON")
	}
	raw, err := io.ReadAll(io.LimitReader(timelyBody(c.Response(), r.Body), maxBody+1))
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return problem(http.StatusRequestTimeout, "Send it faster.", "the body had not arrived after %s", bodyTime)
	}
	if err != nil {
		return problem(http.StatusBadRequest, "", "the body broke off: %v", err)
	}
	if len(raw) > maxBody {
		return problem(http.StatusRequestEntityTooLarge, "Send less.", "the body is larger than %d bytes", maxBody)
	}
	if len(bytes.TrimSpace(raw)) == 0 {
		raw = []byte("{}")
	}
	if d := depth(raw); d > maxDepth {
		return problem(http.StatusBadRequest, "", "the body is nested deeper than %d", maxDepth)
	}
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields()
	if err := dec.Decode(into); err != nil {
		return malformed(raw, into, err)
	}
	if dec.More() {
		return problem(http.StatusBadRequest, "Send one JSON object.", "there is something after the JSON of the body")
	}
	return nil
}

// given reads a field of a body that may hold any value; nil where it was not sent.
func given(field string, raw json.RawMessage) (any, error) {
	if raw == nil {
		return nil, nil
	}
	v, err := value.Read(raw)
	if err != nil {
		return nil, problem(http.StatusBadRequest, "", "%s cannot be read: %v", field, err)
	}
	return v, nil
}

// malformed says where and why a body cannot be read.
func malformed(raw []byte, into any, err error) error {
	var syn *json.SyntaxError
	var typ *json.UnmarshalTypeError
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF):
		line, col := position(raw, int64(len(raw)))
		return problem(http.StatusBadRequest, "", "the body is not JSON: line %d, column %d: it ends too early", line, col)
	case errors.As(err, &syn):
		line, col := position(raw, syn.Offset)
		return problem(http.StatusBadRequest, "", "the body is not JSON: line %d, column %d: %v", line, col, syn)
	case errors.As(err, &typ):
		line, col := position(raw, typ.Offset)
		return problem(http.StatusBadRequest, "", "line %d, column %d: %q must be of type %s, not %s", line, col, typ.Field, typ.Type, typ.Value)
	}
	if name, ok := strings.CutPrefix(err.Error(), "json: unknown field "); ok {
		name = strings.Trim(name, `"`)
		var known []string
		if b, merr := json.Marshal(into); merr == nil {
			var m map[string]any
			_ = json.Unmarshal(b, &m) // what is empty may be left out; a hint is all this is
			for k := range m {
				known = append(known, k)
			}
		}
		return problem(http.StatusBadRequest, "GET /api/openapi.json describes the body.", "the body has an unknown field %q.%s", name, near.Hint(name, known))
	}
	return problem(http.StatusBadRequest, "", "the body cannot be read: %v", err)
}

func position(raw []byte, off int64) (line, col int) {
	off = min(off, int64(len(raw)))
	head := raw[:off]
	line = 1 + bytes.Count(head, []byte("\n"))
	return line, int(off) - bytes.LastIndexByte(head, '\n')
}

func depth(raw []byte) int {
	deepest, d, inText := 0, 0, false
	for i := 0; i < len(raw); i++ {
		switch ch := raw[i]; {
		case inText && ch == '\\':
			i++
		case ch == '"':
			inText = !inText
		case inText:
		case ch == '{' || ch == '[':
			d++
			deepest = max(deepest, d)
		case ch == '}' || ch == ']':
			d--
		}
	}
	return deepest
}
