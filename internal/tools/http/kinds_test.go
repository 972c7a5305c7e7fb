package http_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/openapi"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	tool "stonebaton.example/internal/tools/http"
	"stonebaton.example/internal/tools/tooltest"
	"stonebaton.example/internal/tools/web"
)

// echo answers with what it was asked.
func echo(t *testing.T) *httptest.Server {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprintf(w, `{"asked":%q,"body":%q,"type":%q,"who":%q,"kind":%q,"trace":%q}`, r.Method+" "+r.URL.RequestURI(), raw, r.Header.Get("Content-Type"), r.Header.Get("Authorization"), r.Header.Get("X-Kind"), r.Header.Get("Cookie"))
	}))
	t.Cleanup(srv.Close)
	return srv
}

func TestAFormAndItsProof(t *testing.T) {
	srv := echo(t)
	p := tooltest.Project(t, `
tool: post
summary: Post a form when somebody asks for it.
input: {type: object, properties: {who: {type: string, description: A name.}, tags: {type: array, description: Tags.}}}
http: {url: "`+srv.URL+`/form", auth: {basic: {user: ann, password: "${secret:P}"}}, form: {who: "=args.who", tag: "=args.?tags.orValue([])"}}
resend: key
`, nil)
	r, bad := tooltest.Call(t, tool.New(web.New(&tooltest.Secrets{}), ""), p, "post", map[string]any{"who": "ann & ben", "tags": []any{"a", "b"}}, func(i *deed.Invocation) { i.Bench = true })
	require.Nil(t, bad, "%+v", bad)
	got := r.Value.(map[string]any)
	assert.Equal(t, "POST /form", got["asked"])
	assert.Equal(t, "tag=a&tag=b&who=ann+%26+ben", got["body"])
	assert.Equal(t, "application/x-www-form-urlencoded", got["type"])
	assert.Equal(t, map[string]string{"Accept": "application/json", "Authorization": "Basic ann:${secret:P}", "Content-Type": "application/x-www-form-urlencoded", "Idempotency-Key": "key-1"}, r.Sent.Headers, "the secret by its name")
	assert.Contains(t, r.Sent.Reply, `"asked":"POST /form"`, "what came back, as it came")
	assert.Equal(t, "application/json", r.Sent.Type)
}

func TestOnlyFilesNameSecrets(t *testing.T) {
	srv := echo(t)
	p := tooltest.Project(t, `
tool: tell
summary: Tell something when somebody asks for it.
effect: read
input: {type: object, properties: {x: {type: string, description: A word.}, y: {type: string, description: A word.}}}
http: {method: POST, url: "`+srv.URL+`/{{ args.x }}", query: {k: "${secret:K}", x: "=args.x"}, headers: {x-kind: "${secret:K} {{ args.x }}", cookie: "{{ args.y }}{{ args.x }}", accept: text/plain}, body: {k: "a ${secret:K}", x: "=args.x", all: "=args", both: "${{ args.y }}{{ args.x }}"}}
---
tool: form
summary: Fill a form when somebody asks for it.
effect: read
input: {type: object, properties: {x: {type: string, description: A word.}}}
http: {url: "`+srv.URL+`/", form: {k: "${secret:K}", x: "=args.x"}}
`, nil)
	h := tool.New(web.New(&tooltest.Secrets{}), "")
	for _, args := range []map[string]any{{"x": "${secret:OTHER}", "y": "${secret:OTHER}"}, {"x": "cret:OTHER}", "y": "${se"}, {"x": "}", "y": "{secret:OTHER"}} {
		r, bad := tooltest.Call(t, h, p, "tell", args, func(i *deed.Invocation) { i.Bench = true })
		require.Nil(t, bad, "%+v", bad)
		got := r.Value.(map[string]any)
		x, y := args["x"].(string), args["y"].(string)
		body := map[string]any{"k": "a the-value", "x": x, "all": map[string]any{"x": x, "y": y}, "both": "$" + y + x}
		want, err := json.Marshal(body)
		require.NoError(t, err)
		assert.JSONEq(t, string(want), got["body"].(string))
		assert.Equal(t, "the-value "+x, got["kind"])
		assert.Equal(t, y+x, got["trace"])
		assert.Equal(t, "POST /"+url.PathEscape(x)+"?k=the-value&x="+url.QueryEscape(x), got["asked"])
		assert.Contains(t, r.Sent.URL, "?k=${secret:K}&", "shown by its name")
		assert.Equal(t, "text/plain", r.Sent.Headers["Accept"])
		assert.Contains(t, r.Sent.Body, `"k":"a ${secret:K}"`)
	}
	r, bad := tooltest.Call(t, h, p, "form", map[string]any{"x": "${secret:OTHER}"})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "k=the-value&x=%24%7Bsecret%3AOTHER%7D", r.Value.(map[string]any)["body"])
	r, bad = tooltest.Call(t, h, p, "form", map[string]any{"x": "$\x00{secret:K}\x00{$"})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "k=the-value&x="+url.QueryEscape("$\x00{secret:K}\x00{$"), r.Value.(map[string]any)["body"])
	_, bad = tooltest.Call(t, h, p, "tell", map[string]any{"x": "a\x00", "y": ""})
	require.NotNil(t, bad)
	assert.Equal(t, ledger.NotDone, bad.Outcome)
	for _, dots := range []string{".", ".."} {
		_, bad = tooltest.Call(t, h, p, "tell", map[string]any{"x": dots, "y": ""})
		require.NotNil(t, bad)
		assert.Contains(t, bad.Say, "a part of the path would lead elsewhere (. or ..)")
	}
}

func TestATokenThatEndedEarlyIsFetchedAnew(t *testing.T) {
	var token atomic.Int32
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/token" {
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprintf(w, `{"access_token":"number-%d","token_type":"Bearer","expires_in":3600}`, token.Add(1))
			return
		}
		if r.Header.Get("Authorization") != "Bearer number-2" {
			w.WriteHeader(401)
			return
		}
		fmt.Fprint(w, `"in"`)
	}))
	defer srv.Close()
	p := tooltest.Project(t, `
tool: look_in
summary: Look in when somebody asks for it.
effect: read
http: {url: "`+srv.URL+`/x", auth: {oauth: {token_url: "`+srv.URL+`/token", client_id: me, client_secret: "${secret:S}"}}}
`, nil)
	h := tool.New(web.New(&tooltest.Secrets{}), "")
	r, bad := tooltest.Call(t, h, p, "look_in", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "in", r.Value)
	token.Store(7) // from now on no token is right
	p.Tools["look_in"].Work.Spec.(*tool.Request).Auth.OAuth.ClientID = "other"
	_, bad = tooltest.Call(t, h, p, "look_in", nil)
	require.NotNil(t, bad)
	assert.EqualValues(t, "auth", bad.Class)
	assert.Equal(t, ledger.NotDone, bad.Outcome)
}

func TestAHostFromTheArgumentsMustBePublic(t *testing.T) {
	srv := echo(t)
	p := tooltest.Project(t, `
tool: fetch_any
summary: Fetch an address when one is given.
effect: read
input: {type: object, required: [url], properties: {url: {type: string, description: "Address, such as http://kelmere.example/."}}}
http: {url: "http://{{ args.url }}/"}
`, nil)
	_, bad := tooltest.Call(t, tool.New(web.New(&tooltest.Secrets{}), ""), p, "fetch_any", map[string]any{"url": srv.Listener.Addr().String()})
	require.NotNil(t, bad)
	assert.Equal(t, ledger.NotDone, bad.Outcome)
}

const document = `{"openapi":"3.0.3","info":{"title":"T","version":"1"},"servers":[{"url":"SERVER/v1"}],"paths":{
 "/things/{id}":{"get":{"operationId":"getThing","summary":"Get a thing by its id when asked","parameters":[
   {"name":"id","in":"path","required":true,"schema":{"type":"string"}},{"name":"tags","in":"query","schema":{"type":"array","items":{"type":"string"}}},
   {"name":"near","in":"query","explode":false,"schema":{"type":"array","items":{"type":"number"}}},{"name":"X-Kind","in":"header","schema":{"type":"string"}},{"name":"trace","in":"cookie","schema":{"type":"string"}}],"responses":{"200":{"description":"ok"}}},
  "post":{"operationId":"putThing","summary":"Put a thing where it belongs when asked","parameters":[{"name":"id","in":"path","required":true,"schema":{"type":"string"}}],
   "requestBody":{"required":true,"content":{"application/json":{"schema":{"type":"object","required":["name"],"properties":{"name":{"type":"string"},"n":{"type":"integer"}}}}}},"responses":{"201":{"description":"ok"}}},
  "put":{"operationId":"replaceThing","summary":"Replace a thing when asked","parameters":[{"name":"id","in":"path","required":true,"schema":{"type":"string"}}],"requestBody":{"required":true,"content":{"application/json":{"schema":{"type":"array","items":{"type":"string"}}}}},"responses":{"200":{"description":"ok"}}}}}}`

func TestAnOperationIsARequest(t *testing.T) {
	srv := echo(t)
	cat, err := openapi.Read([]byte(document))
	require.NoError(t, err)
	p, probs := app.Reader.Compile(project.Source{Files: map[string]string{project.Main: coretest.Main, "s.yaml": "source: things\nopenapi: {document: data/t.json, server: \"" + srv.URL + "/v1\", auth: {bearer: \"${secret:T}\"}}\ntake: [getThing, putThing, replaceThing]\neffects: {getThing: read}\ntune: {getThing: {pick: \"=response.body.asked\"}}\n"},
		Catalogues: map[string]project.Catalogue{"things": cat}})
	require.NotNil(t, p, "%v", probs)
	h := tool.New(web.New(&tooltest.Secrets{}), "")
	r, bad := tooltest.Call(t, h, p, "get_thing", map[string]any{"id": "a/b c", "tags": []any{"x", "y z"}, "near": []any{1.0, 2.5}, "X-Kind": "k", "trace": "t;1"})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "GET /v1/things/a%2Fb%20c?tags=x&tags=y%20z&near=1,2.5", r.Value, "pick takes what is wanted")
	assert.Contains(t, r.Sent.Reply, `"who":"Bearer the-value","kind":"k","trace":"trace=t%3B1"`)
	r, bad = tooltest.Call(t, h, p, "get_thing", map[string]any{"id": "1", "X-Kind": "${secret:OTHER}"})
	require.Nil(t, bad, "%+v", bad)
	assert.Contains(t, r.Sent.Reply, `"kind":"${secret:OTHER}"`, "no argument names a secret")
	r, bad = tooltest.Call(t, h, p, "put_thing", map[string]any{"id": "1", "name": "buoy", "n": "3"})
	require.Nil(t, bad, "%+v", bad)
	assert.JSONEq(t, `{"name":"buoy","n":3}`, r.Value.(map[string]any)["body"].(string), "the rest of the arguments is the body")
	r, bad = tooltest.Call(t, h, p, "replace_thing", map[string]any{"id": "1", "body": []any{"a"}})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, `["a"]`, r.Value.(map[string]any)["body"])
	for _, args := range []map[string]any{{"id": ".."}, {"id": ""}, {"id": "1", "X-Kind": "a\r\nHost: evil"}} {
		_, bad = tooltest.Call(t, h, p, "get_thing", args)
		require.NotNil(t, bad, "%v", args)
		assert.EqualValues(t, "config", bad.Class)
	}
}

func TestLongNumbersAreSentAndReadAsTheyAre(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, `{"asked":%q,"got":%s,"next":9007199254740995}`, r.URL.RequestURI(), raw)
	}))
	t.Cleanup(srv.Close)
	p := tooltest.Project(t, `
tool: post
summary: Post a thing by its number when somebody asks for it.
input: {type: object, properties: {id: {type: integer, description: Its number.}}}
http: {method: POST, url: "`+srv.URL+`/{{ args.id }}", query: {again: "=args.id"}, body: {id: "=args.id", after: "=args.id + 1"}, pick: {asked: "=response.body.asked", id: "=response.body.got.id", after: "=response.body.got.after", next: "=response.body.next"}}
resend: key
`, nil)
	r, bad := tooltest.Call(t, tool.New(web.New(&tooltest.Secrets{}), ""), p, "post", map[string]any{"id": int64(9007199254740993)})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, map[string]any{"asked": "/9007199254740993?again=9007199254740993", "id": int64(9007199254740993), "after": int64(9007199254740994), "next": int64(9007199254740995)}, r.Value)
}

func TestRedirectsOfAWriteLeaveItOpenWhetherItHappened(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/done", http.StatusSeeOther) }))
	defer srv.Close()
	_, bad := call(t, tools(t, srv.URL), "put", map[string]any{"name": "x"}, time.Minute)
	require.NotNil(t, bad)
	assert.Equal(t, ledger.Unknown, bad.Outcome, "a 303 says that it was done")
}
