package service_test

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/api"
	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/sandbox"
	"stonebaton.example/internal/secret"
	"stonebaton.example/internal/service"
	"stonebaton.example/internal/store"
	"stonebaton.example/internal/tools"
)

var ctx = context.Background()

type running struct {
	t   *testing.T
	app *app.App
	url string
	end func()
}

func run(t *testing.T, main string) *running {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, project.Main), []byte(main), 0o600))
	return served(t, app.Config{Dir: dir, Access: app.Access{Open: true}})
}

// served serves a project.
func served(t *testing.T, c app.Config) *running {
	t.Helper()
	c.Access.Open = true
	return locked(t, c)
}

// locked serves a project to those who say who they are, or show the key of the records.
func locked(t *testing.T, c app.Config) *running {
	t.Helper()
	a, err := app.Open(ctx, c)
	require.NoError(t, err)
	console := fstest.MapFS{"index.html": {Data: []byte("<html>console</html>")}, "assets/x.js": {Data: []byte("1")}}
	srv := httptest.NewServer(service.New(a, console, slog.New(slog.DiscardHandler), "test").Handler())
	end := sync.OnceFunc(func() { srv.CloseClientConnections(); srv.Close(); a.Close() })
	t.Cleanup(end)
	return &running{t, a, srv.URL, end}
}

func (r *running) get(path string) (int, http.Header, string) {
	r.t.Helper()
	resp, err := http.Get(r.url + path)
	require.NoError(r.t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(r.t, err)
	return resp.StatusCode, resp.Header, string(raw)
}

func (r *running) post(path string, in, out any) int {
	r.t.Helper()
	raw, err := json.Marshal(in)
	require.NoError(r.t, err)
	resp, err := http.Post(r.url+path, "application/json", strings.NewReader(string(raw)))
	require.NoError(r.t, err)
	defer resp.Body.Close()
	require.NoError(r.t, json.NewDecoder(resp.Body).Decode(out))
	return resp.StatusCode
}

func ticketsOf(run string) store.TicketFilter { return store.TicketFilter{Run: run} }

// say runs a message with stubs until it ends, or until it is held.
func (r *running) say(text string) api.Run {
	r.t.Helper()
	var b api.Begun
	require.Equal(r.t, 201, r.post("/api/runs", api.Start{Text: text, Tools: ledger.ToolsStubs}, &b))
	require.NoError(r.t, r.app.Engine.Wait(ctx))
	_, _, body := r.get("/api/runs/" + b.Run)
	var out api.Run
	require.NoError(r.t, json.Unmarshal([]byte(body), &out))
	return out
}

func TestTheConsoleIsServed(t *testing.T) {
	r := run(t, coretest.Main)
	for _, path := range []string{"/", "/try", "/runs/a-1"} {
		code, head, body := r.get(path)
		assert.Equal(t, 200, code)
		assert.Equal(t, "<html>console</html>", body, "its pages are drawn by one file")
		assert.Equal(t, "no-cache", head.Get("Cache-Control"))
		assert.NotContains(t, head.Get("Content-Security-Policy"), "unsafe-eval")
		assert.Equal(t, "DENY", head.Get("X-Frame-Options"))
	}
	_, head, _ := r.get("/assets/x.js")
	assert.Contains(t, head.Get("Cache-Control"), "immutable")
	assert.Contains(t, head.Get("Content-Type"), "javascript")
	code, _, body := r.get("/assets/none.js")
	assert.Equal(t, 404, code)
	assert.Contains(t, body, "cannot find the file assets/none.js")
	code, _, _ = r.get("/../../etc/passwd.txt")
	assert.Equal(t, 404, code)
}

func TestAProgramWithoutItsConsoleSaysSo(t *testing.T) {
	a, err := app.Open(ctx, app.Config{Dir: t.TempDir(), Data: t.TempDir(), Access: app.Access{Open: true}})
	require.NoError(t, err)
	defer a.Close()
	srv := httptest.NewServer(service.New(a, fstest.MapFS{}, slog.New(slog.DiscardHandler), "test").Handler())
	defer srv.Close()
	resp, err := http.Get(srv.URL)
	require.NoError(t, err)
	defer resp.Body.Close()
	raw, _ := io.ReadAll(resp.Body)
	assert.Equal(t, 404, resp.StatusCode)
	assert.Contains(t, string(raw), "this program was built without its console")
	assert.Contains(t, string(raw), "make build")
}

func TestTheConversationOfASession(t *testing.T) {
	r := run(t, coretest.Main)
	one := r.say(`Look up the vessel "Petrel" by its name.`)
	assert.Equal(t, ledger.Done, one.Run.Status)
	var b api.Begun
	require.Equal(t, 201, r.post("/api/runs", api.Start{Text: "Who knows berths?", Session: one.Run.Session, Tools: ledger.ToolsStubs}, &b))
	require.NoError(t, r.app.Engine.Wait(ctx))
	_, _, body := r.get("/api/sessions/" + one.Run.Session)
	var s api.Session
	require.NoError(t, json.Unmarshal([]byte(body), &s))
	assert.Equal(t, 2, s.Runs)
	assert.Equal(t, 46.0, s.State["length_m"])
	var who []string
	for _, said := range s.Talk {
		who = append(who, said.Who)
	}
	assert.Equal(t, []string{"user", "agent", "user", "pass", "agent"}, who)
	assert.Equal(t, "berths", s.Agent, "the session goes on with the last holder")
}

func TestTheConversationHasTheAnswerOfADirectTool(t *testing.T) {
	r := run(t, strings.Replace(coretest.Main, "summary: Tell when the tide is high.\neffect: read", "summary: Tell when the tide is high.\neffect: read\ndirect: true", 1))
	one := r.say("Tell me the tide.")
	require.Equal(t, "high", one.Run.Answer)
	var s api.Session
	_, _, body := r.get("/api/sessions/" + one.Run.Session)
	require.NoError(t, json.Unmarshal([]byte(body), &s))
	require.Len(t, s.Talk, 2)
	assert.Equal(t, []string{"agent", "desk", "high", "t1.c1"}, []string{s.Talk[1].Who, s.Talk[1].Agent, s.Talk[1].Text, string(s.Talk[1].Step)})
	two := r.say(`Look up the vessel "Petrel" by its name.`)
	_, _, body = r.get("/api/sessions/" + two.Run.Session)
	require.NoError(t, json.Unmarshal([]byte(body), &s))
	n := 0
	for _, said := range s.Talk {
		if said.Text == two.Run.Answer {
			n++
		}
	}
	assert.Equal(t, 1, n, "an answer in a model's own words stands there once")
}

func TestAHeldRunIsSettledOnce(t *testing.T) {
	r := run(t, coretest.Main)
	one := r.say(`Look up the vessel "Petrel" by its name, then reserve the berth C4.`)
	require.Equal(t, ledger.Held, one.Run.Status)
	require.Len(t, one.Tickets, 1)
	path := "/api/tickets/1/settle"
	var wg sync.WaitGroup
	codes := make([]int, 8)
	for i := range codes {
		wg.Add(1)
		go func() {
			defer wg.Done()
			var out map[string]any
			codes[i] = r.post(path, api.Settle{Verb: ledger.Allow, ID: string(rune('a' + i))}, &out)
		}()
	}
	wg.Wait()
	won := 0
	for _, c := range codes {
		if c == 200 {
			won++
		} else {
			assert.Equal(t, 409, c)
		}
	}
	assert.Equal(t, 1, won, "of many clicks one settles it, and the others are told")
	require.NoError(t, r.app.Engine.Wait(ctx))
	_, _, body := r.get("/api/runs/" + one.Run.ID)
	assert.Contains(t, body, `"booking":"C4"`)
}

func TestTheRequestOfATurnIsProven(t *testing.T) {
	r := run(t, coretest.Main)
	one := r.say(`Look up the vessel "Petrel" by its name.`)
	for _, s := range one.Steps {
		if s.Kind != "turn" {
			code, _, body := r.get("/api/runs/" + one.Run.ID + "/turns/" + string(s.ID) + "/request")
			assert.Equal(t, 404, code)
			assert.Contains(t, body, "has no turn")
			continue
		}
		_, _, body := r.get("/api/runs/" + one.Run.ID + "/turns/" + string(s.ID) + "/request")
		var q api.Request
		require.NoError(t, json.Unmarshal([]byte(body), &q))
		assert.True(t, q.Same, q.Differs)
		assert.Empty(t, q.Wire, "the model is in process")
		assert.NotEmpty(t, q.Tools)
	}
}

func TestTheStreamOfEverything(t *testing.T) {
	r := run(t, coretest.Main)
	req, _ := http.NewRequest("GET", r.url+"/api/live", nil)
	req.Header.Set("Accept", "text/event-stream")
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	lines := make(chan string, 100)
	go func() {
		s := bufio.NewScanner(resp.Body)
		for s.Scan() {
			if s.Text() != "" {
				lines <- s.Text()
			}
		}
	}()
	sees := func(want string) {
		t.Helper()
		late := time.After(20 * time.Second)
		for {
			select {
			case l := <-lines:
				if strings.Contains(l, want) {
					return
				}
			case <-late:
				t.Fatalf("never seen: %s", want)
			}
		}
	}
	sees(`data: {"open":0}`)
	r.say(`Look up the vessel "Petrel" by its name, then reserve the berth C4.`)
	sees(`"status":"held"`)
	sees(`data: {"open":1}`)
	var out api.DrillList
	require.Equal(t, 200, r.post("/api/drills", api.Drills{}, &out))
	sees(`data: {"topic":"drills"}`)
}

func TestServeEndsItsStreamsAndLetsRequestsFinish(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, project.Main), []byte(coretest.Main), 0o600))
	a, err := app.Open(ctx, app.Config{Dir: dir, Access: app.Access{Open: true}})
	require.NoError(t, err)
	defer a.Close()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	stop, cancel := context.WithCancel(ctx)
	done := make(chan error, 1)
	s := service.New(a, fstest.MapFS{}, slog.New(slog.DiscardHandler), "test")
	go func() { done <- s.Serve(stop, l) }()
	resp, err := http.Get("http://" + l.Addr().String() + "/api/live")
	require.NoError(t, err)
	defer resp.Body.Close()
	out := programGets(t, l.Addr().String())
	assert.Contains(t, out, "Permission denied", "a program with the whole network could settle its own gate else")
	cancel()
	_, err = io.ReadAll(resp.Body)
	require.NoError(t, err, "the stream ends in good order")
	require.NoError(t, <-done)
}

// programGets gives what a program in the sandbox with the whole network gets from an address.
func programGets(t *testing.T, address string) string {
	t.Helper()
	if sandbox.Missing() != "" {
		return "Permission denied" // and no program runs
	}
	d, err := sandbox.Run(ctx, sandbox.Spec{Network: true, Args: []string{"/usr/bin/perl", "-MIO::Socket::INET", "-e", `my $s = IO::Socket::INET->new("` + address + `") or print("$@"), exit; print $s "GET /api/live HTTP/1.0\r\n\r\n"; print <$s>`},
		Dir: t.TempDir(), Memory: 256 << 20, Disk: 1 << 20, Processes: 4, Output: 64 << 10})
	require.NoError(t, err)
	return string(d.Stdout) + string(d.Stderr)
}

func TestTry(t *testing.T) {
	p := coretest.Project(t, coretest.Main)
	keep := secret.New(func(string) (string, bool) { return "", false })
	try := func(name string, in api.Try) api.Tried {
		t.Helper()
		out, err := app.Try(ctx, p, tools.NewSet(nil, nil, nil), keep, name, "local", in)
		require.NoError(t, err)
		return out
	}
	r := try("reserve", api.Try{Args: map[string]any{"berth": "C4"}, State: map[string]any{"length_m": 46.0}})
	assert.Equal(t, "returned", r.Status)
	assert.Equal(t, "Reserved C4.", r.Words)
	assert.Equal(t, map[string]any{"booking": "C4"}, r.Sets)
	assert.Equal(t, "in a run a person would be asked first: over 40 m", r.Gate)
	r = try("reserve", api.Try{Args: map[string]any{"berth": "C4"}, State: map[string]any{"length_m": 12.0}})
	assert.Empty(t, r.Gate)
	r = try("reserve", api.Try{})
	assert.Equal(t, "refused", r.Status)
	assert.Equal(t, "reserve was not called: berth is missing (Such as C4).", r.Words)
	r = try("toot", api.Try{})
	assert.Equal(t, "Done; there is no result.", r.Words)
	_, err := app.Try(ctx, p, tools.NewSet(nil, nil, nil), keep, "toto", "local", api.Try{})
	require.ErrorContains(t, err, `Did you mean "toot"?`)
	_, err = app.Try(ctx, p, tools.NewSet(nil, nil, nil), keep, "toot", "local", api.Try{Tools: "off"})
	require.ErrorContains(t, err, "Use live or stubs.")
}

func TestASecretInAnErrorIsBlanked(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, project.Main), []byte(coretest.Main+"---\ntool: x\nsummary: X.\nhttp: {url: \"http://127.0.0.1:1/${secret:KEY}\"}\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".env"), []byte("KEY=hush-hush-hush\n"), 0o600))
	a, err := app.Open(ctx, app.Config{Dir: dir, Access: app.Access{Open: true}})
	require.NoError(t, err)
	defer a.Close()
	srv := httptest.NewServer(service.New(a, fstest.MapFS{}, slog.New(slog.DiscardHandler), "test").Handler())
	defer srv.Close()
	r := &running{t, a, srv.URL, srv.Close}
	var out map[string]any
	assert.Equal(t, 200, r.post("/api/tools/x/try", api.Try{}, &out))
	assert.Equal(t, "failed", out["status"])
	code := r.post("/api/runs", map[string]any{"text": "x", "hush-hush-hush": 1}, &out)
	assert.Equal(t, 400, code)
	raw, _ := json.Marshal(out)
	assert.NotContains(t, string(raw), "hush-hush-hush")
	assert.Contains(t, out["detail"], "‹secret KEY›")
	b, err := a.Engine.Begin(ctx, engine.Start{Text: "say hush-hush-hush", Tools: ledger.ToolsStubs})
	require.NoError(t, err)
	require.NoError(t, a.Engine.Wait(ctx))
	_, _, body := r.get("/api/runs/" + b.Run)
	assert.NotContains(t, body, "hush-hush-hush")
}
