package http_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	tool "stonebaton.example/internal/tools/http"
	"stonebaton.example/internal/tools/tooltest"
	"stonebaton.example/internal/tools/web"
)

// TestALoginRoute: credentials are posted once, the token is kept, fetched anew after a 401, and
// a service that takes none is not asked for ever.
func TestALoginRoute(t *testing.T) {
	var logins atomic.Int64
	mode := "good"
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if r.URL.Path == "/login" {
			var in map[string]any
			_ = json.NewDecoder(r.Body).Decode(&in)
			assert.Equal(t, map[string]any{"user": "harbour", "password": "the-value", "kind": map[string]any{"of": "app"}}, in)
			n := logins.Add(1)
			switch mode {
			case "refused":
				w.WriteHeader(403)
				fmt.Fprint(w, `{"detail":"the-value is wrong"}`)
			case "no token":
				fmt.Fprint(w, `{"data":{}}`)
			case "no JSON":
				fmt.Fprint(w, `<html>`)
			case "moved":
				http.Redirect(w, r, "http://elsewhere.example/login", http.StatusTemporaryRedirect)
			default:
				fmt.Fprintf(w, `{"data":{"token":"t%d"}}`, n)
			}
			return
		}
		if mode == "never" || r.Header.Get("Authorization") != fmt.Sprintf("Bearer t%d", logins.Load()) {
			w.WriteHeader(401)
			return
		}
		fmt.Fprint(w, `{"depth":3}`)
	}))
	defer srv.Close()
	p, probs := app.Reader.Compile(project.Source{Env: map[string]string{"BASE": srv.URL}, Files: map[string]string{project.Main: coretest.Main + `
---
tool: depth
summary: Tell how deep it is.
effect: read
input: {type: object, properties: {}}
http: {url: "${BASE}/depth", auth: {login: {url: "${BASE}/login", body: {user: harbour, password: "${secret:P}", kind: {of: app}}, token: "=response.body.data.token"}}}
`}})
	require.NotNil(t, p, "%v", probs)
	kept := &tooltest.Secrets{}
	h := tool.New(web.New(kept), "")
	call := func() (any, string, ledger.Outcome) {
		r, bad := tooltest.Call(t, h, p, "depth", nil)
		if bad != nil {
			return nil, bad.Say, bad.Outcome
		}
		assert.Contains(t, r.Sent.Headers["Authorization"], "a token of "+srv.URL+"/login")
		return r.Value, "", ""
	}
	for range 3 {
		v, say, _ := call()
		require.Empty(t, say)
		assert.Equal(t, map[string]any{"depth": 3.0}, v)
	}
	assert.EqualValues(t, 1, logins.Load(), "it is kept")
	assert.Contains(t, kept.Kept, "t1", "and blanked wherever it stands")
	logins.Add(5) // the token of before is no good any more
	v, say, _ := call()
	require.Empty(t, say)
	assert.Equal(t, map[string]any{"depth": 3.0}, v)
	assert.EqualValues(t, 7, logins.Load(), "one new login")

	mode = "never"
	_, say, outcome := call()
	assert.Contains(t, say, "it does not accept the token")
	assert.Equal(t, ledger.NotDone, outcome)
	assert.EqualValues(t, 8, logins.Load(), "and no loop")
	for m, want := range map[string]string{"refused": "gave no token: it answered 403", "no token": "response.body.data.token is not in its answer", "no JSON": "its answer is not JSON", "moved": "gave no token: it answered 307"} {
		mode = m
		_, say, outcome = call()
		assert.Contains(t, say, want, m)
		assert.NotContains(t, say, "the-value")
		assert.Equal(t, ledger.NotDone, outcome)
	}
	srv.Close()
	_, say, _ = call()
	assert.Contains(t, say, "gave no token")
}

func TestALoginThatEverybodyCanRead(t *testing.T) {
	_, probs := app.Reader.Compile(project.Source{Env: map[string]string{}, Files: map[string]string{project.Main: coretest.Main + `
---
tool: depth
summary: Tell how deep it is.
effect: read
http: {url: "http://127.0.0.1:1", auth: {login: {url: "http://127.0.0.1:1/login", body: {password: open}, token: "=respons.token"}}}
`}})
	var says string
	for _, x := range probs {
		says += x.Say + "\n"
	}
	assert.Contains(t, says, "login: none of what is posted is a secret")
	assert.Contains(t, says, "respons")
}
