package service_test

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"stonebaton.example/api"
	"stonebaton.example/core/coretest"
	"stonebaton.example/core/right"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/people"
	"stonebaton.example/internal/tools"
)

// shop is a project in which a write needs the harbourmaster, or two people of the office.
const shop = `project: shop
summary: A quay.
start: desk
approvers: [harbourmaster, treasurer]
models:
  house: {speaks: understudy}
---
tool: waive
summary: Waive the dues of a vessel.
effect: write
input: {type: object, required: [vessel, eur], properties: {vessel: {type: string, description: "Name of the vessel."}, eur: {type: integer, description: "How much, in EUR."}}}
gate: {by: [harbourmaster, treasurer], need: 2, self: false}
stubs: [{returns: null}]
---
tool: moor
summary: Moor a vessel at the quay.
effect: write
input: {type: object, required: [vessel], properties: {vessel: {type: string, description: "Name of the vessel."}}}
gate: {when: "true"}
stubs: [{returns: null}]
---
tool: tow
summary: Tow a vessel.
effect: write
input: {type: object, required: [vessel], properties: {vessel: {type: string, description: "Name of the vessel."}}}
gate: {by: [asker]}
stubs: [{returns: null}]
---
agent: desk
summary: Does what it is told.
prompt: You waive, moor and tow.
tools: [waive, moor, tow]
`

// house is a service with people, and their tokens.
type house struct {
	*running
	tokens map[string]string
}

func with(t *testing.T, r *running, list ...people.Person) *house {
	h := &house{r, map[string]string{}}
	for _, p := range list {
		token, err := r.app.People.Add(p, time.Now())
		require.NoError(t, err)
		h.tokens[p.Name] = token
	}
	return h
}

func rights(list ...right.Right) []right.Right { return list }

// as makes a request for somebody; "" is nobody.
func (h *house) as(name, method, path string, in any) (int, string) {
	h.t.Helper()
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		require.NoError(h.t, err)
		body = bytes.NewReader(raw)
	}
	req, err := http.NewRequest(method, h.url+path, body)
	require.NoError(h.t, err)
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if name != "" {
		req.Header.Set("Authorization", "Bearer "+h.tokens[name])
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(h.t, err)
	defer resp.Body.Close()
	if strings.Contains(resp.Header.Get("Content-Type"), "event-stream") {
		return resp.StatusCode, ""
	}
	raw, err := io.ReadAll(resp.Body)
	require.NoError(h.t, err)
	return resp.StatusCode, string(raw)
}

// begins lets somebody say something, and gives the run when it is over or held.
func (h *house) begins(name, text string) string {
	h.t.Helper()
	code, raw := h.as(name, "POST", "/api/runs", api.Start{Text: text})
	require.Equal(h.t, 201, code, raw)
	var b api.Begun
	require.NoError(h.t, json.Unmarshal([]byte(raw), &b))
	require.NoError(h.t, h.app.Engine.Wait(ctx))
	return b.Run
}

func (h *house) ticketOf(run string) api.TicketRow {
	h.t.Helper()
	list, err := h.app.Store.Tickets(ctx, ticketsOf(run))
	require.NoError(h.t, err)
	require.Len(h.t, list, 1)
	return list[0]
}

func (h *house) settle(name string, ticket int64, in api.Settle) (int, string) {
	return h.as(name, "POST", fmt.Sprintf("/api/tickets/%d/settle", ticket), in)
}

func everybody(t *testing.T, r *running) *house {
	return with(t, r,
		people.Person{Name: "tess", Rights: rights(right.Talk)},
		people.Person{Name: "vera", Rights: rights(right.View)},
		people.Person{Name: "bert", Rights: rights(right.Build)},
		people.Person{Name: "agnes", Rights: rights(right.Approve)},
		people.Person{Name: "ada", Rights: rights(right.Admin)},
		people.Person{Name: "hans", Rights: rights(right.Talk), Is: []string{"harbourmaster"}},
		people.Person{Name: "tomas", Rights: rights(right.Talk), Is: []string{"treasurer", "harbourmaster"}})
}

// TestEachCallByEachKindOfPerson is the table of the rights: what the document says of each
// call, by who asks. The list below is written by hand, so that a right is not changed in
// passing.
func TestEachCallByEachKindOfPerson(t *testing.T) {
	h := everybody(t, run(t, shop))
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stonebaton.yaml"), []byte(shop), 0o600))
	k := everybody(t, locked(t, app.Config{Dir: dir, Access: app.Access{Local: true}})) // who says nothing there is the local person, without the key
	withKey := []string{"POST /api/runs/{id}/stop", "POST /api/sessions/{id}/share", "POST /api/tickets/{id}/settle"}
	all, known := "tess vera bert agnes ada", "tess vera bert agnes ada"
	table := map[string]string{
		"GET /healthz": all + " nobody", "GET /readyz": all + " nobody", "GET /problems": all + " nobody", "GET /api/me": all + " nobody", "POST /api/sign-in": all + " nobody",
		"GET /metrics": "vera bert ada", "GET /api/openapi.json": known, "POST /api/sign-out": known, "GET /api/record": known, "GET /api/live": known,
		"GET /api/tickets": known, "GET /api/tickets/{id}": known, "POST /api/tickets/{id}/settle": known,
		"GET /api/link": "", "POST /api/link/settle": "",
		"POST /api/runs": "tess ada", "POST /api/runs/{id}/stop": "tess ada", "POST /api/sessions/{id}/share": "tess ada", "POST /mcp": "bert ada",
		"GET /api/runs": "tess vera bert ada", "GET /api/runs/{id}": "tess vera bert ada", "GET /api/runs/{id}/changes": "tess vera bert ada", "POST /api/runs/{id}/undo": "bert ada", "POST /api/runs/{id}/steps/{step}/keep": "bert ada", "GET /api/runs/{id}/files/{hash}": "tess vera bert ada", "GET /api/runs/{id}/events": "tess vera bert ada", "GET /api/runs/{id}/steps/{step}": "tess vera bert ada",
		"GET /api/runs/{id}/turns/{step}/request": "tess vera bert ada", "GET /api/sessions": "tess vera bert ada", "GET /api/sessions/{id}": "tess vera bert ada", "GET /api/sessions/{id}/beside": "tess vera bert ada", "GET /api/outbox": "tess vera bert ada",
		"GET /api/project": known, "GET /api/map": "vera bert ada", "GET /api/problems": "vera bert ada", "GET /api/tools": "vera bert ada", "GET /api/tools/{name}": "vera bert ada", "GET /api/trust": "vera bert ada",
		"GET /api/sources": "vera bert ada", "GET /api/drills": "vera bert ada", "GET /api/models": "vera bert ada",
		"POST /api/trust/{id}": "bert ada", "POST /api/tools/{name}/try": "bert ada", "POST /api/tools/{name}/stubs": "bert ada", "POST /api/choose": "bert ada", "GET /api/tries": "bert ada", "GET /api/tries/{id}": "bert ada", "GET /api/tries/{id}/files/{hash}": "bert ada",
		"POST /api/undo/{key}": "bert ada", "GET /api/sources/{name}": "bert ada", "POST /api/functions": "bert ada", "POST /api/sources/{name}/take": "bert ada", "POST /api/add": "bert ada", "GET /api/databases": "vera bert ada", "POST /api/databases/{name}/reset": "bert ada", "POST /api/drills": "bert ada", "POST /api/models/{name}/test": "bert ada", "GET /api/models/{name}/offers": "bert ada",
		"GET /api/people": "ada", "POST /api/people": "ada", "POST /api/people/{name}": "ada", "POST /api/people/{name}/token": "ada", "POST /api/people/{name}/revoke": "ada",
	}
	raw, err := os.ReadFile("openapi.yaml")
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]any
	}
	require.NoError(t, yaml.Unmarshal(raw, &doc))
	param := regexp.MustCompile(`\{\w+\}`)
	seen := map[string]bool{}
	for path, methods := range doc.Paths {
		for method := range methods {
			call := strings.ToUpper(method) + " " + path
			seen[call] = true
			may, listed := table[call]
			require.True(t, listed, "%s is not in the table of rights", call)
			for _, name := range []string{"", "tess", "vera", "bert", "agnes", "ada"} {
				var in any
				if method == "post" {
					in = map[string]any{"odd": 1} // refused as a body, so that nothing is done
				}
				code, body := h.as(name, strings.ToUpper(method), param.ReplaceAllString(path, "none"), in)
				if slices.Contains(strings.Fields(may), or(name, "nobody")) {
					assert.NotContains(t, []int{401, 403}, code, "%s by %q: %s", call, name, body)
				} else {
					assert.Equal(t, map[bool]int{true: 401, false: 403}[name == ""], code, "%s by %q: %s", call, name, body)
					assert.Contains(t, body, `"remedy"`)
				}
				if name == "" {
					code, body = k.as("", strings.ToUpper(method), param.ReplaceAllString(path, "none"), in)
					if (strings.Contains(may, "tess") || strings.Contains(may, "vera")) && !slices.Contains(withKey, call) {
						assert.NotContains(t, []int{401, 403}, code, "%s without the key: %s", call, body)
					} else {
						assert.Equal(t, 403, code, "%s without the key: %s", call, body)
					}
				}
			}
		}
	}
	for call := range table {
		assert.True(t, seen[call], "%s is in the table of rights, and nowhere else", call)
	}
}

func or(a, b string) string {
	if a == "" {
		return b
	}
	return a
}

func TestNobodySeesASessionOfAnother(t *testing.T) {
	h := everybody(t, run(t, shop))
	mine := h.begins("tess", "Moor the Gannet.")
	session, _, _ := strings.Cut(mine, "-")
	ticket := h.ticketOf(mine)
	for _, name := range []string{"vera", "bert", "hans"} {
		for _, path := range []string{"/api/runs/" + mine, "/api/runs/" + mine + "/events", "/api/runs/" + mine + "/steps/1", "/api/runs/" + mine + "/turns/1/request", "/api/sessions/" + session, fmt.Sprintf("/api/tickets/%d", ticket.ID)} {
			code, body := h.as(name, "GET", path, nil)
			assert.Equal(t, 404, code, "%s by %s: %s", path, name, body)
			assert.NotContains(t, body, "Gannet")
		}
		for _, path := range []string{"/api/runs", "/api/runs?text=Gannet", "/api/sessions", "/api/tickets", "/api/tickets?status=all", "/api/outbox", "/api/record", "/api/runs?session=" + session} {
			_, body := h.as(name, "GET", path, nil)
			assert.NotContains(t, body, "Gannet", "%s by %s", path, name)
			assert.NotContains(t, body, mine)
		}
	}
	for path, in := range map[string]any{"/api/runs": api.Start{Session: session, Text: "And the Petrel."}, "/api/runs/" + mine + "/stop": api.Stop{}, "/api/sessions/" + session + "/share": api.Share{With: []string{"hans"}},
		"/api/tickets/1/settle": api.Settle{Verb: "allow"}} {
		code, body := h.as("hans", "POST", path, in)
		assert.Equal(t, 404, code, "%s: %s", path, body)
	}
	code, _ := h.as("bert", "GET", "/api/map?run="+mine, nil)
	assert.Equal(t, 404, code)
	code, _ = h.as("bert", "POST", "/api/tools/moor/stubs", api.NewStub{Run: mine, Step: "t1.1.1"})
	assert.Equal(t, 404, code)

	code, body := h.as("tess", "POST", "/api/sessions/"+session+"/share", api.Share{With: []string{"hans"}})
	require.Equal(t, 200, code, body)
	code, body = h.as("hans", "GET", "/api/runs/"+mine, nil)
	assert.Equal(t, 200, code, "it is shared")
	assert.Contains(t, body, "Gannet")
	code, body = h.as("hans", "POST", "/api/runs", api.Start{Session: session, Text: "And the Petrel."})
	assert.Equal(t, 202, code, "and may be gone on in: %s", body)
	code, _ = h.as("hans", "POST", "/api/sessions/"+session+"/share", api.Share{With: []string{"vera"}})
	assert.Equal(t, 403, code, "but shared on by its own person alone")
	require.NoError(t, h.app.Engine.Wait(ctx))
	theirs := h.begins("tess", "Moor the Tern.") // a session of its own, in which hans speaks
	other, _, _ := strings.Cut(theirs, "-")
	code, body = h.settle("agnes", h.ticketOf(theirs).ID, api.Settle{Verb: "refuse", Because: "later"})
	require.Equal(t, 200, code, body)
	require.NoError(t, h.app.Engine.Wait(ctx))
	h.as("tess", "POST", "/api/sessions/"+other+"/share", api.Share{With: []string{"hans"}})
	code, body = h.as("hans", "POST", "/api/runs", api.Start{Session: other, Text: "Tow the Petrel."})
	require.Equal(t, 201, code, body)
	var b api.Begun
	require.NoError(t, json.Unmarshal([]byte(body), &b))
	require.NoError(t, h.app.Engine.Wait(ctx))
	tow := h.ticketOf(b.Run)
	code, body = h.settle("tess", tow.ID, api.Settle{Verb: "allow"})
	assert.Equal(t, 404, code, "what hans asked for in her session is his to see and to agree to: %s", body)
	code, body = h.settle("hans", tow.ID, api.Settle{Verb: "allow"})
	assert.Equal(t, 200, code, body)
	h.as("tess", "POST", "/api/sessions/"+session+"/share", api.Share{Without: []string{"hans"}})
	code, _ = h.as("hans", "GET", "/api/runs/"+mine, nil)
	assert.Equal(t, 404, code)

	code, _ = h.as("ada", "GET", "/api/runs/"+mine, nil)
	assert.Equal(t, 200, code)
	_, body = h.as("ada", "GET", "/api/record", nil)
	assert.Contains(t, body, `"did":"looked"`, "who may look at all is recorded when they do")
	code, _ = h.as("ada", "POST", "/api/runs", api.Start{Session: session, Text: "And the Tern."})
	assert.Equal(t, 404, code, "and still cannot speak in it")
}

func TestWhoTalksOnlyTalks(t *testing.T) {
	h := everybody(t, run(t, shop))
	code, body := h.as("tess", "POST", "/api/runs", api.Start{Text: "Moor it.", State: map[string]any{"a": 1}, Turns: 3})
	assert.Equal(t, 403, code)
	assert.Contains(t, body, "may talk, but not say state, turns")
	code, body = h.as("ada", "POST", "/api/runs", api.Start{Text: "Moor it.", Person: "tess"})
	assert.Equal(t, 403, code)
	assert.Contains(t, body, "a run works for whoever begins it")
}

func TestTwoPeopleAreTwoPeople(t *testing.T) {
	h := everybody(t, run(t, shop))
	id := h.begins("tess", "Waive 600 EUR of the dues of the Gannet, please.")
	n := h.ticketOf(id).ID
	for _, name := range []string{"agnes", "bert", "tess"} {
		code, _ := h.settle(name, n, api.Settle{Verb: "allow"})
		assert.Contains(t, []int{403, 404}, code, "%s is none of those whom the gate names", name)
	}
	code, body := h.settle("tomas", n, api.Settle{Verb: "allow", As: "treasurer"})
	require.Equal(t, 200, code, body)
	code, body = h.settle("tomas", n, api.Settle{Verb: "allow", As: "harbourmaster"})
	assert.Equal(t, 422, code, "one person has one vote, whatever they are")
	assert.Contains(t, body, "tomas has agreed already")
	_, body = h.as("tomas", "GET", "/api/tickets?whose=mine", nil)
	assert.NotContains(t, body, "Gannet", "it waits for others")
	code, body = h.settle("hans", n, api.Settle{Verb: "amend", Args: map[string]any{"eur": 500}})
	require.Equal(t, 200, code, body)
	_, body = h.as("tomas", "GET", "/api/tickets?whose=mine", nil)
	assert.Contains(t, body, "Gannet", "the new values need everybody's vote")
	code, body = h.settle("tomas", n, api.Settle{Verb: "allow"})
	require.Equal(t, 200, code, body)
	var out api.Ticket
	require.NoError(t, json.Unmarshal([]byte(body), &out))
	assert.Equal(t, "hans and tomas", out.SettledBy)
	assert.JSONEq(t, `{"vessel": "Gannet", "eur": 500}`, string(out.NewArgs))
	_, body = h.as("ada", "GET", "/api/record?person=hans", nil)
	assert.Contains(t, body, `"did":"settle"`)
	assert.Contains(t, body, fmt.Sprintf(`"about":"ticket %d","detail":"amend"`, n))
}

func TestNobodyAgreesToWhatTheyAsked(t *testing.T) {
	h := everybody(t, run(t, shop))
	id := h.begins("hans", "Waive 600 EUR of the dues of the Gannet, please.")
	code, body := h.settle("hans", h.ticketOf(id).ID, api.Settle{Verb: "allow"})
	assert.Equal(t, 422, code)
	assert.Contains(t, body, "hans asked for it")
}

func TestATicketThatNamesNobody(t *testing.T) {
	h := everybody(t, run(t, shop))
	id := h.begins("tess", "Moor the Gannet, please.")
	n := h.ticketOf(id).ID
	code, body := h.settle("tess", n, api.Settle{Verb: "allow"})
	assert.Equal(t, 403, code)
	assert.Contains(t, body, "it is for people with the right approve")
	code, body = h.settle("agnes", n, api.Settle{Verb: "allow"})
	assert.Equal(t, 200, code, body)

	id = h.begins("tess", "Tow the Gannet, please.")
	code, body = h.settle("tess", h.ticketOf(id).ID, api.Settle{Verb: "allow"})
	assert.Equal(t, 200, code, "a write of one's own that one confirms: %s", body)
}

func TestAPlainYesCountsForItsOneTicket(t *testing.T) {
	h := everybody(t, run(t, shop))
	say := func(name, session, text string) (int, api.Begun) {
		code, raw := h.as(name, "POST", "/api/runs", api.Start{Session: session, Text: text})
		var b api.Begun
		require.NoError(t, json.Unmarshal([]byte(raw), &b), raw)
		return code, b
	}
	id := h.begins("tess", "Tow the Gannet, please.")
	session, _, _ := strings.Cut(id, "-")
	n := h.ticketOf(id).ID
	code, b := say("tess", session, "Yes, please.")
	assert.Equal(t, 200, code)
	assert.Equal(t, api.Begun{Run: id, Session: session, Status: "going", Settled: n}, b)
	require.NoError(t, h.app.Engine.Wait(ctx))
	row, err := h.app.Store.Ticket(ctx, n)
	require.NoError(t, err)
	assert.Equal(t, "allow", row.Status)
	assert.Equal(t, "tess", row.SettledBy)

	id = h.begins("tess", "Tow the Petrel, please.")
	session, _, _ = strings.Cut(id, "-")
	code, _ = say("tess", session, "No.")
	assert.Equal(t, 200, code)
	require.NoError(t, h.app.Engine.Wait(ctx))
	row, err = h.app.Store.Ticket(ctx, n+1)
	require.NoError(t, err)
	assert.Equal(t, "refuse", row.Status)
	assert.Equal(t, "No.", row.Because)

	id = h.begins("tess", "Tow the Tern, please.")
	session, _, _ = strings.Cut(id, "-")
	code, _ = say("tess", session, "Yes, and then tow the Petrel.")
	assert.Equal(t, 202, code, "what says more is a message")
	id = h.begins("tess", "Moor the Gannet, please.")
	session, _, _ = strings.Cut(id, "-")
	code, _ = say("tess", session, "yes")
	assert.Equal(t, 202, code, "it is not hers to allow")
}

func TestATicketWhosePeopleAreGone(t *testing.T) {
	h := everybody(t, run(t, shop))
	id := h.begins("tess", "Waive 600 EUR of the dues of the Gannet, please.")
	n := h.ticketOf(id).ID
	code, _ := h.settle("ada", n, api.Settle{Verb: "refuse", Because: "No."})
	assert.Equal(t, 403, code, "there are people for it")
	for _, name := range []string{"hans", "tomas"} {
		code, body := h.as("ada", "POST", "/api/people/"+name+"/revoke", struct{}{})
		require.Equal(t, 200, code, body)
	}
	code, _ = h.settle("hans", n, api.Settle{Verb: "allow"})
	assert.Equal(t, 401, code, "who was taken out is out at once")
	code, body := h.settle("ada", n, api.Settle{Verb: "refuse", Because: "Nobody is left."})
	assert.Equal(t, 200, code, body)
}

// browser has cookies, and no token.
func (h *house) browser(name string) *http.Client {
	jar, err := cookiejar.New(nil)
	require.NoError(h.t, err)
	b := &http.Client{Jar: jar}
	resp, err := b.Post(h.url+"/api/sign-in", "application/json", strings.NewReader(fmt.Sprintf(`{"token": %q}`, h.tokens[name])))
	require.NoError(h.t, err)
	defer resp.Body.Close()
	require.Equal(h.t, 200, resp.StatusCode)
	c := resp.Cookies()[0]
	assert.True(h.t, c.HttpOnly)
	assert.Equal(h.t, http.SameSiteStrictMode, c.SameSite)
	return b
}

func status(t *testing.T, b *http.Client, url string) int {
	resp, err := b.Get(url)
	require.NoError(t, err)
	resp.Body.Close()
	return resp.StatusCode
}

func TestASignInEnds(t *testing.T) {
	h := everybody(t, run(t, shop))
	b, c := h.browser("bert"), h.browser("bert")
	out := func(b *http.Client, body string) {
		resp, err := b.Post(h.url+"/api/sign-out", "application/json", strings.NewReader(body))
		require.NoError(t, err)
		resp.Body.Close()
		require.Equal(t, 200, resp.StatusCode)
	}
	stolen := &http.Client{Jar: b.Jar}
	require.Equal(t, 200, status(t, stolen, h.url+"/api/tools"))
	kept, err := cookiejar.New(nil)
	require.NoError(t, err)
	req, err := http.NewRequest("GET", h.url, nil)
	require.NoError(t, err)
	kept.SetCookies(req.URL, b.Jar.Cookies(req.URL))
	out(b, `{}`)
	assert.Equal(t, 401, status(t, &http.Client{Jar: kept}, h.url+"/api/tools"), "a cookie that was kept from before is worth nothing")
	assert.Equal(t, 200, status(t, c, h.url+"/api/tools"), "the other browser stays in")
	d := h.browser("bert")
	out(d, `{"everywhere": true}`)
	assert.Equal(t, 401, status(t, c, h.url+"/api/tools"))

	e := h.browser("bert")
	code, body := h.as("ada", "POST", "/api/people/bert/token", struct{}{})
	require.Equal(t, 200, code, body)
	assert.Equal(t, 401, status(t, e, h.url+"/api/tools"), "a new token puts an end to those who signed in with the old one")
	var made api.Token
	require.NoError(t, json.Unmarshal([]byte(body), &made))
	h.tokens["bert"] = made.Token
	f := h.browser("bert")
	assert.Equal(t, 200, status(t, f, h.url+"/api/tools"))
	code, _ = h.as("ada", "POST", "/api/people/bert", api.ChangePerson{Rights: rights(right.Talk)})
	require.Equal(t, 200, code)
	assert.Equal(t, 403, status(t, f, h.url+"/api/tools"), "a right that is taken away is gone with the next request")
	raw, err := os.ReadFile(h.app.People.File())
	require.NoError(t, err)
	assert.NotContains(t, string(raw), made.Token)
	secret := strings.SplitN(made.Token, ".", 2)[1]
	assert.NotContains(t, string(raw), secret, "the file has no token")
}

func TestAStreamEndsWithTheRight(t *testing.T) {
	h := everybody(t, run(t, shop))
	req, err := http.NewRequest("GET", h.url+"/api/live", nil)
	require.NoError(t, err)
	req.Header.Set("Accept", "text/event-stream")
	req.Header.Set("Authorization", "Bearer "+h.tokens["vera"])
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	lines := bufio.NewReader(resp.Body)
	_, err = lines.ReadString('\n')
	require.NoError(t, err)
	code, _ := h.as("ada", "POST", "/api/people/vera", api.ChangePerson{Rights: rights(right.Talk)})
	require.Equal(t, 200, code)
	h.begins("tess", "Moor the Gannet, please.")
	rest, err := io.ReadAll(lines)
	require.NoError(t, err, "it ends with the next thing that it would have told")
	assert.NotContains(t, string(rest), "Gannet")
}

// TestNobodyIsLockedOut: wrong tokens from an address keep no right one from there out, nor the
// key of the records.
func TestNobodyIsLockedOut(t *testing.T) {
	h := everybody(t, run(t, shop))
	h.tokens["x"] = "ada.guess"
	limited := false
	for range 40 {
		code, body := h.as("x", "GET", "/api/runs", nil)
		limited = limited || code == 429
		if code == 401 {
			assert.Contains(t, body, `"detail":"the token is not valid"`)
		}
	}
	assert.True(t, limited)
	for _, name := range []string{"ada", "tess", "vera"} {
		code, body := h.as(name, "GET", "/api/runs", nil)
		assert.Equal(t, 200, code, body)
	}
	code, body := h.as("", "POST", "/api/sign-in", api.SignIn{Token: h.tokens["ada"]})
	assert.Equal(t, 200, code, body)

	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stonebaton.yaml"), []byte(shop), 0o600))
	k := &house{locked(t, app.Config{Dir: dir}), map[string]string{"x": app.KeyPrefix + "guess"}}
	for range 40 {
		k.as("x", "GET", "/api/runs", nil)
	}
	k.tokens["key"] = k.app.Key()
	code, body = k.as("key", "GET", "/api/people", nil)
	assert.Equal(t, 200, code, body)
}

// TestTheOutboxKeepsLinks: what makes a link good is shown to whom it was sent to alone.
func TestTheOutboxKeepsLinks(t *testing.T) {
	h := everybody(t, run(t, shop))
	token, err := h.app.Links.Sign(people.NewLink(7, "hans", time.Now().Add(time.Hour)), time.Now())
	require.NoError(t, err)
	_, err = h.app.Store.Send(ctx, "k", tools.Message{At: time.Now(), To: "hans", Text: "Decide: http://127.0.0.1/link#" + token + " soon"})
	require.NoError(t, err)
	kept, err := h.app.Store.Messages(ctx, "")
	require.NoError(t, err)
	assert.NotContains(t, kept[0].Text, token, "nor is it in the records")
	read := func(name string) string {
		code, body := h.as(name, "GET", "/api/outbox", nil)
		require.Equal(t, 200, code)
		return body
	}
	assert.NotContains(t, read("ada"), token)
	assert.Contains(t, read("ada"), "only-for-whom-it-was-sent-to")
	shown := h.app.Links.ShowLinks(kept[0].Text, func(p string) bool { return p == "hans" })
	assert.Contains(t, shown, token, "hans has it whole")
	l, err := h.app.Links.Read(token, time.Now())
	require.NoError(t, err)
	assert.Equal(t, "hans", l.Person)
	assert.NotContains(t, h.app.Links.ShowLinks(kept[0].Text, func(p string) bool { return p == "ada" }), token)
}

// TestASessionOfToolsIsWhoBeganIt: another person does not go on in it.
func TestASessionOfToolsIsWhoBeganIt(t *testing.T) {
	h := everybody(t, run(t, shop))
	send := func(name, session, body string) *http.Response {
		req, err := http.NewRequest("POST", h.url+"/mcp", strings.NewReader(body))
		require.NoError(t, err)
		for k, v := range map[string]string{"Content-Type": "application/json", "Accept": "application/json, text/event-stream", "Authorization": "Bearer " + h.tokens[name], "Mcp-Session-Id": session} {
			if v != "" {
				req.Header.Set(k, v)
			}
		}
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		t.Cleanup(func() { resp.Body.Close() })
		return resp
	}
	began := send("bert", "", `{"jsonrpc":"2.0","id":1,"method":"initialize","params":{"protocolVersion":"2025-06-18","capabilities":{},"clientInfo":{"name":"x","version":"1"}}}`)
	require.Equal(t, 200, began.StatusCode)
	session := began.Header.Get("Mcp-Session-Id")
	require.NotEmpty(t, session)
	const list = `{"jsonrpc":"2.0","id":2,"method":"tools/list"}`
	assert.Equal(t, 200, send("bert", session, list).StatusCode)
	assert.Equal(t, 404, send("ada", session, list).StatusCode)
}

func TestWrongTokensAreLimited(t *testing.T) {
	h := everybody(t, run(t, shop))
	wrong := 0
	for code := 401; code == 401; { // on a slow machine some more are let through
		if code, _ = h.as("", "POST", "/api/sign-in", api.SignIn{Token: "ada.guess"}); code == 401 {
			wrong++
		} else {
			assert.Equal(t, 429, code)
		}
	}
	assert.GreaterOrEqual(t, wrong, 10)
	list, err := h.app.Store.Entries(ctx, "ada", 0, 1000)
	require.NoError(t, err)
	assert.Len(t, list, wrong, "each is in the record")
}

func TestAnApplicationSaysWhoAsks(t *testing.T) {
	pub, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	der, err := x509.MarshalPKIXPublicKey(pub)
	require.NoError(t, err)
	pemKey := string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}))
	h := with(t, run(t, shop), people.Person{Name: "portal", Rights: rights(right.Talk), Key: pemKey},
		people.Person{Name: "ada", Rights: rights(right.Admin)}, people.Person{Name: "hans", Rights: rights(right.Talk, right.View), Is: []string{"harbourmaster"}})
	now := time.Now()
	says := func(change func(*jwt.RegisteredClaims)) string {
		c := &jwt.RegisteredClaims{Issuer: "portal", Subject: "skipper@kelmere.example", Audience: jwt.ClaimStrings{people.Audience}, IssuedAt: jwt.NewNumericDate(now), ExpiresAt: jwt.NewNumericDate(now.Add(5 * time.Minute))}
		if change != nil {
			change(c)
		}
		signed, err := jwt.NewWithClaims(jwt.SigningMethodEdDSA, c).SignedString(key)
		require.NoError(t, err)
		return signed
	}
	h.tokens["skipper"] = says(nil)
	id := h.begins("skipper", "Tow the Gannet, please.")
	code, body := h.settle("skipper", h.ticketOf(id).ID, api.Settle{Verb: "allow"})
	assert.Equal(t, 200, code, body)
	row, err := h.app.Store.Run(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, "skipper@kelmere.example", row.Person)
	h.tokens["x"] = says(func(c *jwt.RegisteredClaims) { c.Subject = "hans" })
	code, body = h.as("x", "GET", "/api/me", nil)
	assert.Equal(t, 401, code, "nobody in the book, where the book does not say so: %s", body)
	assert.Contains(t, body, `"detail":"the token is not valid"`)
	require.NoError(t, h.app.People.Set("hans", func(p *people.Person) { p.Through = []string{"portal"} }))
	code, _ = h.as("x", "GET", "/api/tools", nil)
	assert.Equal(t, 403, code, "hans may look at tools, but not through an application that may only talk")
	_, body = h.as("x", "GET", "/api/me", nil)
	assert.Contains(t, body, `"is":[]`, "nor decide")
	for why, change := range map[string]func(*jwt.RegisteredClaims){
		"expired":                  func(c *jwt.RegisteredClaims) { c.ExpiresAt = jwt.NewNumericDate(now.Add(-time.Minute)) },
		"never expires":            func(c *jwt.RegisteredClaims) { c.ExpiresAt = nil },
		"lives for a day":          func(c *jwt.RegisteredClaims) { c.ExpiresAt = jwt.NewNumericDate(now.Add(24 * time.Hour)) },
		"for another service":      func(c *jwt.RegisteredClaims) { c.Audience = jwt.ClaimStrings{"else"} },
		"of an unknown one":        func(c *jwt.RegisteredClaims) { c.Issuer = "other" },
		"of a person":              func(c *jwt.RegisteredClaims) { c.Issuer = "hans" },
		"for an approver":          func(c *jwt.RegisteredClaims) { c.Subject = "treasurer" },
		"for an approver of hans":  func(c *jwt.RegisteredClaims) { c.Subject = "harbourmaster" },
		"for a right":              func(c *jwt.RegisteredClaims) { c.Subject = "approve" },
		"for the local person":     func(c *jwt.RegisteredClaims) { c.Subject = "local" },
		"for itself":               func(c *jwt.RegisteredClaims) { c.Subject = "portal" },
		"for a name with a escape": func(c *jwt.RegisteredClaims) { c.Subject = "a\x1b[2J" },
	} {
		_, _, _, err := h.app.People.Vouched(says(change), now, []string{"treasurer"})
		assert.ErrorIs(t, err, people.ErrToken, why)
	}
	require.NoError(t, h.app.People.Set("portal", func(p *people.Person) { p.Rights = rights(right.Talk, right.Approve) }))
	waived := h.ticketOf(h.begins("skipper", "Waive 30 EUR of dues of the Gannet."))
	for _, name := range []string{"one", "two"} { // as many as it takes, each a name that the application has made up
		h.tokens[name] = says(func(c *jwt.RegisteredClaims) { c.Subject = name })
		code, body := h.settle(name, waived.ID, api.Settle{Verb: "allow"})
		assert.Contains(t, []int{403, 404}, code, body)
	}
	open, err := h.app.Store.Ticket(ctx, waived.ID)
	require.NoError(t, err)
	assert.Equal(t, "open", open.Status)
	assert.Empty(t, open.Votes)
	parts := strings.Split(says(nil), ".")
	parts[2] = strings.Repeat("A", len(parts[2]))
	h.tokens["x"] = strings.Join(parts, ".")
	forged, err := jwt.NewWithClaims(jwt.SigningMethodHS256, &jwt.RegisteredClaims{Issuer: "portal", Subject: "ada", Audience: jwt.ClaimStrings{people.Audience}, IssuedAt: jwt.NewNumericDate(now), ExpiresAt: jwt.NewNumericDate(now.Add(time.Minute))}).SignedString([]byte(pemKey))
	require.NoError(t, err)
	h.tokens["y"] = forged
	for _, name := range []string{"x", "y"} {
		code, _ := h.as(name, "GET", "/api/runs", nil)
		assert.Contains(t, []int{401, 429}, code, "forged")
	}
}

func TestABookThatCannotBeReadLetsNobodyIn(t *testing.T) {
	h := everybody(t, run(t, shop))
	require.NoError(t, os.WriteFile(h.app.People.File(), []byte(`{"people": [{"name": "ada", "rights": ["everything"]}]}`), 0o600))
	code, body := h.as("ada", "GET", "/api/runs", nil)
	assert.NotEqual(t, 200, code)
	assert.NotContains(t, body, "token is not valid")
	code, _ = h.as("", "GET", "/api/runs", nil)
	assert.Equal(t, 503, code, "nor as the local person")
}

func TestTheRecordIsNotChanged(t *testing.T) {
	h := everybody(t, run(t, shop))
	h.as("ada", "POST", "/api/people", api.NewPerson{Name: "nils", Rights: rights(right.Talk)})
	code, body := h.as("ada", "GET", "/api/record", nil)
	require.Equal(t, 200, code)
	assert.Contains(t, body, `"person":"ada","via":"token","did":"person added","about":"nils"`)
	_, body = h.as("tess", "GET", "/api/record", nil)
	assert.NotContains(t, body, "nils", "of others one sees nothing")
}

// TestWithoutPeople: on loopback, with nobody in the book, there is the local person, and
// beyond it there is nobody.
func TestWithoutPeople(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stonebaton.yaml"), []byte(coretest.Main), 0o600))
	for _, x := range []struct {
		access app.Access
		code   int
	}{{app.Access{}, 200}, {app.Access{Beyond: true}, 401}} {
		r := served(t, app.Config{Dir: dir, Access: x.access})
		code, _, _ := r.get("/api/runs")
		assert.Equal(t, x.code, code)
		r.end()
	}
	r := served(t, app.Config{Dir: dir, Access: app.Access{Local: true}})
	_, err := r.app.People.Add(people.Person{Name: "ada", Rights: rights(right.Admin)}, time.Now())
	require.NoError(t, err)
	code, _, body := r.get("/api/me")
	assert.Equal(t, 200, code)
	assert.Contains(t, body, `"local":true`)
}
