package http_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/secret"
	tool "stonebaton.example/internal/tools/http"
	"stonebaton.example/internal/tools/tooltest"
	"stonebaton.example/internal/tools/web"
)

func tools(t *testing.T, base string) *project.Project {
	p, probs := app.Reader.Compile(project.Source{Env: map[string]string{"BASE": base}, Files: map[string]string{project.Main: coretest.Main + `
---
tool: get
summary: Get a thing.
effect: read
input: {type: object, properties: {name: {type: string, description: n}, n: {type: integer, description: n}}}
http: {url: "${BASE}/things/{{ args.name }}", query: {n: "=args.?n.orValue(0)"}, bearer: "${secret:TOKEN}", headers: {X-Day: "{{ today }}"}, pick: "=response.body.thing"}
---
tool: put
summary: Put a thing.
input: {type: object, properties: {name: {type: string, description: n}}}
http: {method: POST, url: "${BASE}/put", body: {who: "=args.name", at: "{{ today }}"}}
`}})
	require.NotNil(t, p, "%v", probs)
	return p
}

func call(t *testing.T, p *project.Project, name string, args map[string]any, limit time.Duration) (deed.Result, *deed.Failure) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	h := tool.New(web.New(secret.New(func(string) (string, bool) { return "the-token", true })), "")
	tl := p.Tools[name]
	return h.Call(ctx, deed.Invocation{Project: p, Tool: tl, Args: args, Key: "key-1", Vars: expr.Vars{"args": expr.Typed(tl.Input.Doc(), args), "today": "2026-05-04"}})
}

func TestARequestIsMadeOfACall(t *testing.T) {
	var got *http.Request
	var body string
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got = r
		b, _ := io.ReadAll(r.Body)
		body = string(b)
		fmt.Fprint(w, `{"thing": {"n": 1}}`)
	}))
	defer srv.Close()
	p := tools(t, srv.URL)
	r, bad := call(t, p, "get", map[string]any{"name": "../a b?x=1", "n": 2.0}, time.Minute)
	require.Nil(t, bad)
	assert.Equal(t, map[string]any{"n": 1.0}, r.Value)
	assert.Equal(t, "/things/..%2Fa%20b%3Fx=1?n=2", got.RequestURI, "each value is percent-encoded")
	assert.Equal(t, "Bearer the-token", got.Header.Get("Authorization"))
	assert.Equal(t, "2026-05-04", got.Header.Get("X-Day"))
	assert.Empty(t, got.Header.Get("Idempotency-Key"), "a read needs none")
	assert.Equal(t, 200, r.Sent.Status)
	assert.NotContains(t, fmt.Sprint(*r.Sent), "the-token")
	_, bad = call(t, p, "put", map[string]any{"name": "Gannet"}, time.Minute)
	require.Nil(t, bad)
	assert.JSONEq(t, `{"who":"Gannet","at":"2026-05-04"}`, body)
	assert.Equal(t, "key-1", got.Header.Get("Idempotency-Key"))
}

func TestWhatGoesWrong(t *testing.T) {
	hang := make(chan struct{})
	mux := http.NewServeMux()
	answer := func(path string, f http.HandlerFunc) { mux.HandleFunc(path, f) }
	answer("/things/missing", func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(404)
		fmt.Fprint(w, `{"error": "no such thing; \"mooring\" is nearest"}`)
	})
	answer("/things/broken", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(500) })
	answer("/things/busy", func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("Retry-After", "7"); w.WriteHeader(429) })
	answer("/things/slow", func(http.ResponseWriter, *http.Request) { <-hang })
	answer("/things/large", func(w http.ResponseWriter, _ *http.Request) { _, _ = io.Copy(w, io.LimitReader(zeros{}, 50<<20)) })
	answer("/things/away", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "http://elsewhere.example/x", http.StatusFound)
	})
	answer("/things/near", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/things/here", http.StatusFound) })
	answer("/things/here", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"thing": "here"}`) })
	answer("/things/text", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "not JSON") })
	answer("/things/cut", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "100")
		fmt.Fprint(w, "half")
	})
	srv := httptest.NewServer(mux)
	defer srv.Close()
	defer close(hang)
	p := tools(t, srv.URL)
	for name, c := range map[string]struct {
		class, say string
		outcome    ledger.Outcome
		retry      bool
	}{
		"missing": {"refused", `no such thing; "mooring" is nearest`, ledger.NotDone, false},
		"broken":  {"server", "answered 500", ledger.Unknown, true},
		"busy":    {"rate", "too many requests", ledger.NotDone, true},
		"slow":    {"timeout", "did not answer in time", ledger.Unknown, true},
		"large":   {"large", "larger than 4 MB", ledger.Unknown, false},
		"away":    {"refused", "it redirects to http://elsewhere.example/x, which was not followed: say redirects: true", ledger.Unknown, false},
		"text":    {"result", "pick found nothing in the reply", ledger.Unknown, false},
		"cut":     {"cut", "broke off after 4 bytes", ledger.Unknown, true},
	} {
		t.Run(name, func(t *testing.T) {
			limit := time.Minute
			if name == "slow" {
				limit = 50 * time.Millisecond
			}
			_, bad := call(t, p, "get", map[string]any{"name": name}, limit)
			require.NotNil(t, bad)
			assert.EqualValues(t, c.class, bad.Class)
			assert.Contains(t, bad.Say, c.say)
			assert.Equal(t, c.outcome, bad.Outcome)
			assert.Equal(t, c.retry, bad.Retry)
			if name == "busy" {
				assert.Equal(t, 7*time.Second, bad.After)
			}
		})
	}
	p.Tools["get"].Work.Spec.(*tool.Request).Redirects = true
	r, bad := call(t, p, "get", map[string]any{"name": "near"}, time.Minute)
	require.Nil(t, bad, "a redirect is followed where that is allowed")
	assert.Equal(t, "here", r.Value)
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { return copy(p, strings.Repeat("0", len(p))), nil }

func TestAHostThatIsDownWasNotReached(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l.Close()
	_, bad := call(t, tools(t, "http://"+l.Addr().String()), "put", map[string]any{"name": "x"}, time.Minute)
	require.NotNil(t, bad)
	assert.Equal(t, ledger.NotDone, bad.Outcome)
	assert.Contains(t, bad.Say, "does not answer: connection refused")
	p := tools(t, "http://127.0.0.1:1")
	p.Tools["put"].Work.Spec.(*tool.Request).Body = nil
	q, _ := app.Reader.Compile(project.Source{Files: map[string]string{project.Main: strings.Replace(coretest.Main, "stubs: [{returns: high}]", `http: {url: "${OFFICE}/tide"}`, 1)}, Env: map[string]string{}})
	_, bad = call(t, q, "tide", nil, time.Minute)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "OFFICE")
	assert.Contains(t, bad.Say, "is not set")
}

func TestAReplyCanBeARefusal(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.WriteString(w, map[string]string{"/bad": `{"status":"error","message":"the berth is closed"}`, "/quiet": `{"status":"error"}`, "/none": `{"status":"ok","rows":[]}`, "/ok": `{"status":"ok","rows":[{"berth":"C4"}]}`}[r.URL.Path])
	}))
	defer srv.Close()
	p := tooltest.Project(t, "tool: ask\nsummary: Ask the office when somebody asks for it.\neffect: read\ninput: {type: object, properties: {path: {type: string, description: A path.}}}\n"+
		"http:\n  url: \""+srv.URL+"/{{ args.?path.orValue('') }}\"\n  fails_when: \"response.body.status == 'error'\"\n  pick: \"=response.body.rows\"\n  when_empty: not_found\n", nil)
	call := func(path string) (deed.Result, *deed.Failure) {
		return tooltest.Call(t, tool.New(web.New(&tooltest.Secrets{}), ""), p, "ask", map[string]any{"path": path})
	}
	r, bad := call("ok")
	require.Nil(t, bad, "%+v", bad)
	assert.Len(t, r.Value, 1)
	for path, want := range map[string][2]string{"bad": {"refused", "the berth is closed"}, "quiet": {"refused", "and the reply says that it failed (response.body.status == 'error')"}, "none": {"not_found", "nothing was found"}} {
		_, bad = call(path)
		require.NotNil(t, bad, path)
		assert.EqualValues(t, want[0], bad.Class)
		assert.Contains(t, bad.Say, want[1])
		assert.Equal(t, ledger.NotDone, bad.Outcome)
	}
}

func TestAReplyCanBeAFile(t *testing.T) {
	const png = "\x89PNG\r\n\x1a\n and so on"
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/things/chart.png":
			w.Header().Set("Content-Type", "image/png")
			fmt.Fprint(w, png)
		case "/things/lie":
			w.Header().Set("Content-Type", "image/png")
			w.Header().Set("Content-Disposition", `attachment; filename="../../etc/passwd"`)
			fmt.Fprint(w, "<script>")
		default:
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, "\xff\xfe")
		}
	}))
	defer srv.Close()
	p, probs := app.Reader.Compile(project.Source{Env: map[string]string{"BASE": srv.URL}, Files: map[string]string{project.Main: coretest.Main + `
---
tool: get
summary: Get a thing.
effect: read
input: {type: object, properties: {name: {type: string, description: n}}}
http: {url: "${BASE}/things/{{ args.name }}"}
`}})
	require.NotNil(t, p, "%v", probs)
	for thing, want := range map[string]map[string]any{
		"chart.png": {"kind": "file", "type": "image/png", "bytes": float64(len(png)), "file": "chart.png"},
		"lie":       {"kind": "file", "type": "application/octet-stream", "bytes": 8.0, "file": "passwd"},
		"bytes":     {"kind": "file", "type": "application/json", "bytes": 2.0, "file": "bytes"},
	} {
		r, bad := call(t, p, "get", map[string]any{"name": thing}, time.Minute)
		require.Nil(t, bad, "%s: %+v", thing, bad)
		assert.Equal(t, want, r.Value)
		require.Len(t, r.Files, 1)
		assert.Equal(t, want["file"], r.Files[0].Name)
		assert.Len(t, r.Files[0].Body, int(want["bytes"].(float64)))
		assert.Empty(t, r.Sent.Reply, "bytes are nothing to read")
	}
}
