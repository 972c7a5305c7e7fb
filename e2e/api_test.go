package e2e

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/legacy"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// api calls the service and holds every answer against its OpenAPI document.
type api struct {
	t      *testing.T
	url    string
	router routers.Router
	seen   map[string]bool
	token  string // with which it says who asks; "" does not
}

func newAPI(t *testing.T, s *server) *api {
	t.Helper()
	doc, err := openapi3.NewLoader().LoadFromData([]byte(body(t, s.url+"/api/openapi.json")))
	require.NoError(t, err)
	doc.Servers = openapi3.Servers{{URL: s.url}}
	router, err := legacy.NewRouter(doc)
	require.NoError(t, err)
	return &api{t, s.url, router, map[string]bool{}, ""}
}

func (a *api) call(method, path, in string, code int) map[string]any {
	a.t.Helper()
	req, err := http.NewRequest(method, a.url+path, strings.NewReader(in))
	require.NoError(a.t, err)
	if in != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	return a.send(req, code)
}

// begin starts a run and gives the address that comes with it.
func (a *api) begin(in string) string {
	a.t.Helper()
	resp, err := http.Post(a.url+"/api/runs", "application/json", strings.NewReader(in))
	require.NoError(a.t, err)
	defer resp.Body.Close()
	require.Equal(a.t, 201, resp.StatusCode)
	return resp.Header.Get("Location")
}

func (a *api) send(req *http.Request, code int) map[string]any {
	a.t.Helper()
	if a.token != "" {
		req.Header.Set("Authorization", "Bearer "+a.token)
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(a.t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(a.t, err)
	where := fmt.Sprintf("%s %s: %s", req.Method, req.URL.Path, raw)
	assert.Equal(a.t, code, resp.StatusCode, where)
	assert.Contains(a.t, resp.Header.Get("Content-Security-Policy"), "script-src 'self';")
	assert.Equal(a.t, "nosniff", resp.Header.Get("X-Content-Type-Options"))
	if route, params, err := a.router.FindRoute(req); err == nil {
		a.seen[req.Method+" "+route.Path] = true
		err = openapi3filter.ValidateResponse(context.Background(), &openapi3filter.ResponseValidationInput{
			RequestValidationInput: &openapi3filter.RequestValidationInput{Request: req, PathParams: params, Route: route}, Status: resp.StatusCode, Header: resp.Header,
			Body: io.NopCloser(bytes.NewReader(raw)), Options: &openapi3filter.Options{IncludeResponseStatus: true, MultiError: true}})
		assert.NoError(a.t, err, where)
	}
	if strings.HasPrefix(resp.Header.Get("Content-Type"), "text/") || strings.HasPrefix(resp.Header.Get("Content-Type"), "application/openmetrics") {
		return map[string]any{"text": string(raw)}
	}
	var out map[string]any
	require.NoError(a.t, json.Unmarshal(raw, &out), where)
	return out
}

func TestEveryAnswerIsAsTheDocumentSays(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "harbour")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "tools"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "notes"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tools", "notes.yaml"), []byte(notes), 0o644))
	s := demo(t, dir)
	a := newAPI(t, s)
	get := func(path string) map[string]any { t.Helper(); return a.call("GET", path, "", 200) }

	get("/healthz")
	get("/readyz")
	assert.Contains(t, get("/metrics")["text"], `stonebaton_runs{status="held"} 6`)
	get("/api/openapi.json")
	assert.Equal(t, "harbour", get("/api/project")["name"])
	assert.Empty(t, get("/api/problems")["problems"])
	assert.Len(t, get("/api/tools")["tools"], 23)
	assert.Len(t, get("/api/project")["relays"], 4)
	assert.Len(t, get("/api/map")["nodes"], 37)
	assert.Len(t, get("/api/map?relay=berth_letter")["nodes"], 12)
	assert.Len(t, get("/api/models")["models"], 3)
	assert.Equal(t, "answers", a.call("POST", "/api/models/house/test", "{}", 200)["status"])
	a.call("GET", "/api/models/house/offers", "", 409)
	assert.Equal(t, "new", get("/api/drills")["drills"].([]any)[0].(map[string]any)["status"])
	assert.Len(t, a.call("POST", "/api/drills", `{"names":["nobody_decides_in_time"]}`, 200)["drills"], 1)
	assert.Len(t, a.call("POST", "/api/drills", `{}`, 200)["drills"], 26)
	assert.Equal(t, "passed", get("/api/drills")["drills"].([]any)[0].(map[string]any)["status"], "results are kept")

	runs := get("/api/runs?limit=2")
	assert.Len(t, runs["runs"], 2)
	second := get("/api/runs?limit=100&cursor=" + runs["next"].(string))
	assert.Len(t, second["runs"], 10)
	held := get("/api/runs?status=held")["runs"].([]any)[0].(map[string]any)["id"].(string)
	for _, r := range get("/api/runs")["runs"].([]any) {
		id := r.(map[string]any)["id"].(string)
		one := get("/api/runs/" + id)
		for _, st := range one["steps"].([]any) {
			step := st.(map[string]any)
			get(fmt.Sprintf("/api/runs/%s/steps/%v", id, step["n"]))
			if step["kind"] == "turn" && step["status"] == "waiting" {
				a.call("GET", fmt.Sprintf("/api/runs/%s/turns/%s/request", id, step["id"]), "", 409) // it was not sent yet
			} else if step["kind"] == "turn" {
				q := get(fmt.Sprintf("/api/runs/%s/turns/%s/request", id, step["id"]))
				assert.Equal(t, true, q["same"], "rebuilt = sent: %v", q["differs"])
			}
		}
		get("/api/runs/" + id + "/events")
	}
	page := get("/api/runs/" + held + "/events?limit=3&cursor=1")
	assert.Equal(t, "4", page["next"])
	sessions := get("/api/sessions?limit=2")
	assert.Len(t, sessions["sessions"], 2)
	assert.NotEmpty(t, get("/api/sessions?cursor=" + sessions["next"].(string))["sessions"])
	assert.Empty(t, get("/api/trust")["waiting"])
	assert.Equal(t, "find_vessel", get("/api/tools/find_vessel")["id"])
	a.call("GET", "/api/tools/find_vesel", "", 404)
	assert.Contains(t, get("/problems")["text"], "/problems#not-entitled")
	get("/api/sessions/" + strings.Split(held, "-")[0])
	beside := get("/api/sessions/" + strings.Split(held, "-")[0] + "/beside")["shown"].([]any)
	assert.Len(t, beside[0].(map[string]any)["value"], 6)

	tk := get("/api/tickets")["tickets"].([]any)[0].(map[string]any)
	id := fmt.Sprint(tk["id"])
	assert.NotEmpty(t, get("/api/tickets/" + id)["schema"])
	a.call("POST", "/api/tickets/"+id+"/settle", `{"verb":"allow","shown":"else"}`, 422)
	assert.Equal(t, "/problems#not-entitled", a.call("POST", "/api/tickets/"+id+"/settle", `{"verb":"allow","as":"cook"}`, 403)["type"])
	early := a.call("POST", fmt.Sprintf("/api/tools/%v/stubs", tk["tool"]), fmt.Sprintf(`{"run":%q,"step":%q}`, tk["run"], tk["step"]), 409)
	assert.Contains(t, early["detail"], "has not returned yet", "what waits is no stub")
	a.call("POST", "/api/tickets/"+id+"/settle", `{"verb":"refuse","because":"not today","id":"x"}`, 200)
	a.call("POST", "/api/tickets/"+id+"/settle", `{"verb":"refuse","because":"not today","id":"x"}`, 200)
	a.call("POST", "/api/tickets/"+id+"/settle", `{"verb":"allow","id":"x"}`, 409)
	assert.Equal(t, "/problems#settled", a.call("POST", "/api/tickets/"+id+"/settle", `{"verb":"allow"}`, 409)["type"])
	get("/api/tickets?status=all")

	begun := a.call("POST", "/api/runs", `{"text":"`+reserve+`"}`, 201)
	waitFor(t, s, begun["run"].(string), "held")
	assert.Equal(t, "waiting", a.call("POST", "/api/runs", `{"text":"and the dues?","session":"`+begun["session"].(string)+`"}`, 202)["status"])
	a.call("POST", "/api/runs/"+begun["run"].(string)+"/stop", `{"because":"enough"}`, 202)
	a.call("POST", "/api/runs/"+begun["run"].(string)+"/stop", `{}`, 422)
	waitFor(t, s, begun["session"].(string)+"-2", "done")

	choice := a.call("POST", "/api/choose", `{"text":"What are the dues for 3 nights at 12 m?"}`, 200)
	assert.Equal(t, "desk", choice["agent"])
	first := choice["goals"].([]any)[0].(map[string]any)["candidates"].([]any)[0].(map[string]any)
	assert.Equal(t, "consult_dues", first["tool"])
	assert.Equal(t, true, first["enough"])
	assert.Equal(t, "berths", a.call("POST", "/api/choose", `{"text":"Is C4 free?","agent":"berths","person":"ann"}`, 200)["agent"])
	a.call("POST", "/api/choose", `{"text":"hello","agent":"nobody"}`, 404)
	a.call("POST", "/api/choose", `{"text":" "}`, 422)
	a.call("POST", "/api/runs", `{"text":"hello","person_at":["tunrs"]}`, 422)

	tried := a.call("POST", "/api/tools/reckon_dues/try", `{"args":{"length_m":12,"nights":2}}`, 200)
	assert.Equal(t, "returned", tried["status"])
	assert.Equal(t, "refused", a.call("POST", "/api/tools/reckon_dues/try", `{"args":{"length_m":"x"}}`, 200)["status"])

	a.call("GET", fmt.Sprintf("/api/tries/%v/files/none", tried["id"]), "", 404)

	berths, err := os.ReadFile(filepath.Join(dir, "agents", "berths.yaml"))
	require.NoError(t, err)
	db := get("/api/databases")["databases"].([]any)[0].(map[string]any)
	assert.Equal(t, "moorings", db["id"])
	assert.EqualValues(t, 6, db["tables"].([]any)[1].(map[string]any)["count"])
	require.Equal(t, "returned", a.call("POST", "/api/tools/take_mooring/try", `{"args":{"vessel":"Heron","mooring":"M1"}}`, 200)["status"])
	assert.EqualValues(t, 0, a.call("POST", "/api/databases/moorings/reset", `{}`, 200)["tables"].([]any)[0].(map[string]any)["count"])
	a.call("POST", "/api/databases/none/reset", `{}`, 404)

	added := a.call("POST", "/api/add", `{"kind":"agent","name":"buoys","like":"tides","summary":"Tells which moorings are free, and for whom.","passes_from":["berths"]}`, 201)["edits"].([]any)
	require.Len(t, added, 2)
	assert.Equal(t, "agents/buoys.yaml", added[0].(map[string]any)["file"])
	assert.Contains(t, added[0].(map[string]any)["text"], "summary: \"Tells which moorings are free, and for whom.\"")
	a.call("POST", "/api/add", `{"kind":"agent","name":"buoys"}`, 422)
	a.call("POST", "/api/add", `{"kind":"agent","name":"x","like":"mooring"}`, 422)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "agents", "berths.yaml"), berths, 0o644))
	require.NoError(t, os.Remove(filepath.Join(dir, "agents", "buoys.yaml")))
	require.Eventually(t, func() bool { return len(get("/api/project")["agents"].([]any)) == 10 }, 20*time.Second, 10*time.Millisecond)

	a.call("POST", "/api/sources/none/take", `{"take":["x"]}`, 404)
	a.call("POST", "/api/sources/station/take", `{"take":["nothing"]}`, 422)
	kept, err := os.ReadFile(filepath.Join(dir, "tools", "watch.yaml"))
	require.NoError(t, err)
	assert.Len(t, a.call("POST", "/api/sources/station/take", `{"take":["bar_report","notices","log_sighting"],"effects":{"log_sighting":"write"},"to":["watch"]}`, 200)["edits"], 2)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tools", "watch.yaml"), kept, 0o644))
	agent, err := os.ReadFile(filepath.Join(dir, "agents", "watch.yaml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "agents", "watch.yaml"), []byte(strings.Replace(string(agent), ", sig_log_sighting", "", 1)), 0o644))
	require.Eventually(t, func() bool { return len(get("/api/tools")["tools"].([]any)) == 23 }, 20*time.Second, 10*time.Millisecond)

	fns := a.call("POST", "/api/functions", `{"file":"shop.py","text":"# effect: read\ndef price(of: str) -> float:\n    'Tell the price of a thing, when somebody asks what it costs.'\n    return 2.5\n"}`, 200)
	offer := fns["offers"].([]any)[0].(map[string]any)
	assert.Equal(t, "price", offer["id"])
	assert.Equal(t, "read", offer["effect"])
	assert.Contains(t, a.call("POST", "/api/functions", `{"file":"shop.py","text":"def (:"}`, 200)["broken"].([]any)[0].(map[string]any)["say"], "SyntaxError")
	a.call("POST", "/api/functions", `{"file":"shop.rb","text":""}`, 422)
	a.call("POST", "/api/functions", `{"file":"..","text":""}`, 422)

	a.bench(dir)
	a.program(s)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tools", "late.yaml"), []byte("source: late\nmcp: {command: [no-such-program-xy], sandbox: none}\ntake: [look]\n"), 0o644))
	require.Eventually(t, func() bool { return len(get("/api/trust")["waiting"].([]any)) == 1 }, 20*time.Second, 10*time.Millisecond, "what appears does not start")
	a.call("GET", "/api/sources/late", "", 409) // nor is it asked before somebody has confirmed it
	late := get("/api/trust")["waiting"].([]any)[0].(map[string]any)
	a.call("POST", "/api/trust/none", "{}", 404)
	assert.Equal(t, "late", a.call("POST", "/api/trust/"+late["id"].(string), "{}", 200)["name"])
	assert.Empty(t, get("/api/trust")["waiting"])
	a.call("GET", "/api/sources/late", "", 502) // there is no such program
	require.NoError(t, os.Remove(filepath.Join(dir, "stonebaton.yaml")))
	assert.Len(t, get("/api/sources")["sources"], 3, "where the files are no project any more, those in use")

	a.people(begun["session"].(string))

	// everything the document describes was called, streams aside
	doc := mustDoc(t, a)
	for path, item := range doc.Paths.Map() {
		for method := range item.Operations() {
			if path != "/api/live" && path != "/mcp" {
				assert.True(t, a.seen[method+" "+path], "%s %s was not called", method, path)
			}
		}
	}
}

// program runs one that a model wrote, reads the file that it made, and keeps it as a tool.
func (a *api) program(s *server) {
	a.t.Helper()
	begun := a.call("POST", "/api/runs", `{"agent":"works","text":"Write a table of the tide windows."}`, 201)["run"].(string)
	for range 2 {
		waitFor(a.t, s, begun, "held")
		id := fmt.Sprint(a.call("GET", "/api/tickets?run="+begun, "", 200)["tickets"].([]any)[0].(map[string]any)["id"])
		a.call("POST", "/api/tickets/"+id+"/settle", `{"verb":"allow"}`, 200)
		require.Eventually(a.t, func() bool {
			return len(a.call("GET", "/api/tickets?run="+begun+"&status=all", "", 200)["tickets"].([]any)) == 2
		}, 20*time.Second, 20*time.Millisecond)
	}
	waitFor(a.t, s, begun, "done")
	var hash, step string
	for _, st := range a.call("GET", "/api/runs/"+begun, "", 200)["steps"].([]any) {
		id := st.(map[string]any)["id"].(string)
		if sent, ok := a.call("GET", "/api/runs/"+begun+"/steps/"+id, "", 200)["sent"].(map[string]any); ok && sent["files"] != nil {
			hash, step = sent["files"].([]any)[0].(map[string]any)["hash"].(string), id
		}
	}
	require.NotEmpty(a.t, hash)
	for show, how := range map[string]string{"": "attachment; filename=windows.csv", "?show=1": "inline; filename=windows.csv"} {
		resp, err := http.Get(a.url + "/api/runs/" + begun + "/files/" + hash + show)
		require.NoError(a.t, err)
		defer resp.Body.Close()
		assert.Equal(a.t, how, resp.Header.Get("Content-Disposition"))
		assert.Contains(a.t, resp.Header.Get("Content-Security-Policy"), "sandbox")
		assert.Equal(a.t, "text/plain; charset=utf-8", resp.Header.Get("Content-Type"))
	}
	a.seen["GET /api/runs/{id}/files/{hash}"] = true
	assert.Empty(a.t, a.call("GET", "/api/runs/"+begun+"/changes", "", 200)["changes"], "its own folder is not the project's")
	assert.Empty(a.t, a.call("POST", "/api/runs/"+begun+"/undo", "{}", 200)["changes"])
	a.call("GET", "/api/runs/"+begun+"/files/none", "", 404)
	a.call("POST", "/api/runs/"+begun+"/steps/"+step+"/keep", `{"name":"Tide Table","summary":"x"}`, 422)
	a.call("POST", "/api/runs/"+begun+"/steps/"+step+"/keep", `{"name":"tide_table","summary":"Make the table of tide windows when somebody asks for it."}`, 201)
}

// people says who may use the service; from then on everybody has to say who they are.
func (a *api) people(session string) {
	a.t.Helper()
	shared := a.call("POST", "/api/sessions/"+session+"/share", `{"with":["mara"]}`, 200)
	assert.Equal(a.t, []any{"mara"}, shared["shared"])
	nils := a.call("POST", "/api/people", `{"name":"nils","rights":["admin"],"is":["harbourmaster"]}`, 201)
	a.call("POST", "/api/sign-in", `{"token":"nils.wrong"}`, 401)
	a.call("POST", "/api/sign-in", fmt.Sprintf(`{"token":%q}`, nils["token"]), 200)
	a.token = "nils.wrong"
	assert.Equal(a.t, "/problems#unknown", a.call("GET", "/api/runs", "", 401)["type"])
	a.token = nils["token"].(string)
	assert.Equal(a.t, "nils", a.call("GET", "/api/me", "", 200)["name"])
	olga := a.call("POST", "/api/people", `{"name":"olga","rights":["talk"]}`, 201)
	a.call("POST", "/api/people", `{"name":"olga","rights":["talk"]}`, 422)
	a.call("POST", "/api/people", `{"name":"approve","rights":["talk"]}`, 422)
	a.call("POST", "/api/people/olga", `{"rights":["talk","view"],"address":"olga@kelmere.example"}`, 200)
	assert.NotEqual(a.t, olga["token"], a.call("POST", "/api/people/olga/token", `{}`, 200)["token"])
	assert.Len(a.t, a.call("GET", "/api/people", "", 200)["people"], 6)
	a.call("POST", "/api/people/olga/revoke", `{}`, 200)
	a.call("POST", "/api/people/olga/revoke", `{}`, 404)
	a.call("POST", "/api/people/nils/revoke", `{}`, 409)
	assert.NotEmpty(a.t, a.call("GET", "/api/record", "", 200)["entries"])
	a.call("POST", "/api/sign-out", `{"everywhere":true}`, 200)
	a.link()
}

// link settles a ticket with a link that was sent.
func (a *api) link() {
	a.t.Helper()
	sent, admin := "", a.token
	assert.Contains(a.t, fmt.Sprint(a.call("GET", "/api/outbox?to=jonas@kelmere.example", "", 200)), ".only-for-whom-it-was-sent-to", "not by an admin")
	a.token = a.call("POST", "/api/people/jonas/token", "{}", 200)["token"].(string)
	mine := a.call("GET", "/api/outbox?to=jonas@kelmere.example", "", 200)["messages"].([]any)
	a.token = admin
	for _, m := range mine {
		if strings.HasPrefix(m.(map[string]any)["subject"].(string), "Waive") {
			_, sent, _ = strings.Cut(m.(map[string]any)["text"].(string), "/link#")
		}
	}
	require.NotEmpty(a.t, sent)
	by := func(method, path, in string, code int) map[string]any {
		req, err := http.NewRequest(method, a.url+path, strings.NewReader(in))
		require.NoError(a.t, err)
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Authorization", "Link "+sent)
		was := a.token
		defer func() { a.token = was }()
		a.token = ""
		return a.send(req, code)
	}
	a.call("GET", "/api/link", "", 403)
	a.call("POST", "/api/link/settle", "{}", 403)
	assert.Equal(a.t, "jonas", by("GET", "/api/link", "", 200)["person"])
	by("GET", "/api/runs", "", 403)
	by("POST", "/api/link/settle", `{"verb":"refuse"}`, 422) // a reason is missing, and the link is still good
	assert.Equal(a.t, "open", by("GET", "/api/link", "", 200)["status"], "looking changes nothing")
	refused := by("POST", "/api/link/settle", `{"verb":"refuse","because":"Not this time."}`, 200)
	assert.Equal(a.t, "refuse", refused["status"])
	assert.Equal(a.t, "jonas", refused["settled_by"])
	assert.Equal(a.t, "treasurer", refused["settled_as"])
	assert.Equal(a.t, "/problems#gone", by("GET", "/api/link", "", 410)["type"], "it is good once")
	by("POST", "/api/link/settle", `{"verb":"allow"}`, 410)
}

func mustDoc(t *testing.T, a *api) *openapi3.T {
	raw, err := json.Marshal(a.call("GET", "/api/openapi.json", "", 200))
	require.NoError(t, err)
	doc, err := openapi3.NewLoader().LoadFromData(raw)
	require.NoError(t, err)
	return doc
}

func waitFor(t *testing.T, s *server, run, status string) {
	t.Helper()
	require.Eventually(t, func() bool { return strings.Contains(body(t, s.url+"/api/runs/"+run), `"status":"`+status+`"`) }, 20*time.Second, 20*time.Millisecond)
}

func TestBadRequestsGetAClearError(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "w")
	command(t, "", "", "new", dir)
	s := launch(t, "serve", dir, "-listen", "127.0.0.1:0")
	a := newAPI(t, s)
	for _, c := range []struct {
		method, path, in string
		code             int
		say              string
	}{
		{"POST", "/api/runs", `{"text": `, 400, "the body is not JSON: line 1, column"},
		{"POST", "/api/runs", `{"txt":"x"}`, 400, `unknown field "txt". Did you mean "text"?`},
		{"POST", "/api/runs", `{"text":7}`, 400, `"text" must be of type string, not number`},
		{"POST", "/api/runs", `{"text":"x"} more`, 400, "there is something after the JSON of the body"},
		{"POST", "/api/runs", `{"text":"x","state":` + strings.Repeat("[", 100) + strings.Repeat("]", 100) + `}`, 400, "nested deeper than 64"},
		{"POST", "/api/runs", `{"text":"` + strings.Repeat("x", 2<<20) + `"}`, 413, "larger than 1048576 bytes"},
		{"POST", "/api/runs", `{"text":"  "}`, 422, "the message is empty"},
		{"POST", "/api/runs", `{"text":"x","session":"none"}`, 404, "there is no such session"},
		{"GET", "/api/runs/none-1", "", 404, "there is no such run"},
		{"GET", "/api/runs?status=lost", "", 400, `status cannot be "lost"`},
		{"GET", "/api/runs?limit=many", "", 400, "limit must be a whole number"},
		{"GET", "/api/runs?limit=5000", "", 400, "limit must be from 1 to 1000, not 5000"},
		{"GET", "/api/runs?stauts=held", "", 400, `GET /api/runs takes no query parameter "stauts". Did you mean "status"?`},
		{"GET", "/api/tools?x=1", "", 400, `GET /api/tools takes no query parameter "x"`},
		{"GET", "/api/runs?cursor=-4", "", 400, `there is no cursor "-4"`},
		{"POST", "/api/runs", `{"text":"x","state":{"nothing":1}}`, 422, "the given state does not fit: nothing is not known"},
		{"GET", "/api/runs?since=yesterday", "", 400, "since must be a date and time"},
		{"GET", "/api/tickets/99", "", 404, "there is no such ticket"},
		{"GET", "/api/tickets/x", "", 400, "a ticket's id is a number"},
		{"POST", "/api/tools/lend_tol/try", `{}`, 404, `Did you mean "lend_tool"?`},
		{"POST", "/api/drills", `{"names":["x"]}`, 404, `unknown drill "x"`},
		{"POST", "/api/models/huose/test", `{}`, 404, `Did you mean "house"?`},
		{"GET", "/api/nothing", "", 404, "there is no call GET /api/nothing"},
	} {
		p := a.call(c.method, c.path, c.in, c.code)
		assert.Contains(t, p["detail"], c.say)
		assert.EqualValues(t, c.code, p["status"])
	}
	req, _ := http.NewRequest("POST", s.url+"/api/runs", strings.NewReader(`{"text":"x"}`))
	req.Header.Set("Content-Type", "text/plain")
	assert.Contains(t, a.send(req, 415)["detail"], "must be JSON")
	for header, value := range map[string]string{"Origin": "https://elsewhere.example", "Sec-Fetch-Site": "cross-site"} {
		req, _ = http.NewRequest("POST", s.url+"/api/runs", strings.NewReader(`{"text":"x"}`))
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set(header, value)
		a.send(req, 403)
	}
	req, _ = http.NewRequest("GET", s.url+"/api/runs", nil)
	req.Host = "rebound.example"
	assert.Contains(t, a.send(req, 403)["detail"], `this service does not answer for the host "rebound.example"`)
	req, _ = http.NewRequest("DELETE", s.url+"/api/runs", nil)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 405, resp.StatusCode)
	assert.ElementsMatch(t, []string{"OPTIONS", "GET", "POST"}, strings.Split(resp.Header.Get("Allow"), ", "))
	begun := a.begin(`{"text":"I want to borrow the saw for 2 days, please."}`)
	assert.Regexp(t, `^/api/runs/[a-z0-9]+-1$`, begun)
	a.call("GET", begun, "", 200)
	assert.Equal(t, 0, s.run(t, "say", "I want to borrow the saw for 2 days, please.").code, "the service lives")
}

// changes reads a run's stream behind an event until it ends or n have come.
func changes(t *testing.T, s *server, run, last string, n int) (ids []string, kinds string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	req, _ := http.NewRequestWithContext(ctx, "GET", s.url+"/api/runs/"+run+"/events", nil)
	req.Header.Set("Accept", "text/event-stream")
	if last != "" {
		req.Header.Set("Last-Event-ID", last)
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	if resp.StatusCode == http.StatusNoContent {
		return nil, "over"
	}
	require.Equal(t, 200, resp.StatusCode)
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() && (n == 0 || len(ids) < n) {
		if id, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
			ids = append(ids, id)
		}
		if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			var c struct {
				Event struct{ Kind string }
			}
			require.NoError(t, json.Unmarshal([]byte(data), &c))
			kinds += c.Event.Kind + " "
		}
	}
	return ids, kinds
}

func TestAStreamResumesWithoutAGapOrARepeat(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "w")
	command(t, "", "", "new", dir)
	s := launch(t, "serve", dir, "-listen", "127.0.0.1:0")
	j := sayJSON(t, s, 4, "I want to borrow the lathe for 3 days, please.")
	head, _ := changes(t, s, j.ID, "", 4)
	assert.Equal(t, []string{"1", "2", "3", "4"}, head)
	rest := make(chan []string)
	go func() {
		ids, _ := changes(t, s, j.ID, "4", 0)
		rest <- ids
	}()
	require.Equal(t, 0, s.run(t, "allow", itoa(j.Tickets[0])).code)
	tail := <-rest
	all, kinds := changes(t, s, j.ID, "", 0)
	assert.Equal(t, all, append(head, tail...))
	assert.True(t, strings.HasSuffix(kinds, "run.closed "))
	_, over := changes(t, s, j.ID, all[len(all)-1], 0)
	assert.Equal(t, "over", over, "asked for what comes behind the end, it says that there is no more")
}

func TestAProjectWithErrorsStartsNoRuns(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stonebaton.yaml"), []byte("project: x\nstart: y\nmodels: {m: {speaks: understudy}}\n"), 0o644))
	s := launch(t, "serve", dir, "-listen", "127.0.0.1:0")
	a := newAPI(t, s)
	p := a.call("POST", "/api/runs", `{"text":"x"}`, 409)
	assert.Contains(t, p["detail"], `stonebaton.yaml:2: unknown agent "y"`)
	assert.Equal(t, "stonebaton.yaml", p["place"].(map[string]any)["file"])
	assert.EqualValues(t, 1, a.call("GET", "/api/project", "", 200)["errors"])
}
