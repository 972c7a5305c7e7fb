package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/modelcontextprotocol/go-sdk/mcp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const notes = `
tool: keep_note # accept unused: tried alone
summary: Keep a note for the office when somebody asks for it.
builtin: {do: files.write, in: [notes]}
---
tool: tell # accept unused: tried alone
summary: Send a message to a skipper when somebody has to be told.
builtin: {do: outbox.send}
`

// bench calls everything of the bench, and holds the answers against the document.
func (a *api) bench(dir string) {
	t := a.t
	get := func(path string) map[string]any { t.Helper(); return a.call("GET", path, "", 200) }
	tried := a.call("POST", "/api/tools/keep_note/try", `{"args":{"path":"a.md","text":"One.\n"}}`, 200)
	require.Equal(t, "returned", tried["status"], tried)
	sent := tried["sent"].(map[string]any)
	assert.Contains(t, sent["diff"], "+One.")
	assert.FileExists(t, filepath.Join(dir, "notes/a.md"))
	assert.NotEmpty(t, a.call("POST", "/api/undo/"+sent["undo"].(string), "{}", 200)["undone"])
	assert.NoFileExists(t, filepath.Join(dir, "notes/a.md"))
	a.call("POST", "/api/undo/"+sent["undo"].(string), "{}", 409)
	a.call("POST", "/api/undo/nothing", "{}", 404)

	a.call("POST", "/api/tools/tell/try", `{"args":{"to":"ann","text":"Berth C4."}}`, 200)
	assert.Equal(t, "Berth C4.", get("/api/outbox?to=ann")["messages"].([]any)[0].(map[string]any)["text"])
	assert.Empty(t, get("/api/outbox?to=ben")["messages"])

	all := get("/api/tries?limit=2")
	assert.Len(t, all["tries"], 2)
	assert.EqualValues(t, 5, all["count"])
	assert.Len(t, get(fmt.Sprintf("/api/tries?limit=2&cursor=%v", all["next"]))["tries"], 2)
	assert.Len(t, get("/api/tries?tool=tell")["tries"], 1)
	one := get(fmt.Sprintf("/api/tries/%v", tried["id"]))
	assert.Equal(t, tried["words"], one["words"])
	a.call("GET", "/api/tries/999", "", 404)
	a.call("GET", "/api/tries/x", "", 400)

	assert.Len(t, get("/api/sources")["sources"], 3)
	station := get("/api/sources/station")
	assert.Equal(t, "kelmere-station 1.0 (Model Context Protocol 2026-07-28)", station["from"])
	offers := station["offers"].([]any)
	require.Len(t, offers, 3)
	assert.Equal(t, "the summary of \"log_sighting\" says what it is, but not when to use it", offers[1].(map[string]any)["remarks"].([]any)[0].(map[string]any)["say"])
	assert.Len(t, get("/api/sources/office")["offers"], 6)
	a.call("GET", "/api/sources/ofice", "", 404)

	found := a.call("POST", "/api/tools/berth_facts/try", `{"args":{"berth":"D2"}}`, 200)
	edit := a.call("POST", "/api/tools/berth_facts/stubs", fmt.Sprintf(`{"try":%v}`, found["id"]), 201)
	raw, err := os.ReadFile(filepath.Join(dir, edit["file"].(string)))
	require.NoError(t, err)
	assert.Contains(t, string(raw), `  - {when: "args.berth == 'D2'", returns: {"basin":"Dolphin"`)
	stub := a.call("POST", "/api/tools/berth_facts/try", `{"args":{"berth":"D2"},"tools":"stubs"}`, 200)
	assert.Equal(t, found["result"], stub["result"], "the stub answers as the real one did, at once")
	assert.Contains(t, a.call("POST", "/api/tools/berth_facts/stubs", `{"returns":1e400}`, 400)["detail"], "returns cannot be read: ")
	assert.Contains(t, a.call("POST", "/api/tools/berth_facts/stubs", `{"returns":{"berth":7}}`, 422)["detail"], "the stub does not fit the output schema")
	again, err := os.ReadFile(filepath.Join(dir, edit["file"].(string)))
	require.NoError(t, err)
	assert.Equal(t, string(raw), string(again), "nothing was written")
	a.call("POST", "/api/tools/none/stubs", `{}`, 404)
	a.call("POST", "/api/tools/tell/stubs", fmt.Sprintf(`{"try":%v}`, found["id"]), 400)

	refused := a.call("POST", "/api/tools/berth_facts/try", `{"args":{"berth":7}}`, 200)
	assert.Equal(t, "refused", refused["status"])
	assert.Contains(t, a.call("POST", "/api/tools/berth_facts/stubs", fmt.Sprintf(`{"try":%v}`, refused["id"]), 409)["detail"], "was refused before the call")
	absent := a.call("POST", "/api/tools/find_vessel/try", `{"args":{"name":"Nowhere"}}`, 200)
	edit = a.call("POST", "/api/tools/find_vessel/stubs", fmt.Sprintf(`{"try":%v}`, absent["id"]), 201)
	assert.Contains(t, edit["text"], `, status: 404}`, "what failed, fails as it did")
}

func TestARecordedCallBecomesAStub(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "harbour")
	s := demo(t, dir)
	a := newAPI(t, s)
	r := s.run(t, "say", "-json", "What is known of the vessel Gannet?")
	require.Zero(t, r.code, r.err)
	run := last[struct{ ID string }](t, r.out).ID
	a.call("POST", "/api/tools/find_vessel/stubs", `{"run":"`+run+`","step":"t1.c1"}`, 201)
	raw, err := os.ReadFile(filepath.Join(dir, "tools/office.yaml"))
	require.NoError(t, err)
	assert.Contains(t, string(raw), `      - {when: "args.name == 'Gannet'", returns: {"draught_m":2.6,"home":"Kelmere","kind":"workboat","length_m":18.5,"vessel":"Gannet"}}`)
	r = s.run(t, "say", "-rung", "stub", "What is known of the vessel Gannet?")
	assert.Contains(t, r.out, "18.5")
	assert.Contains(t, r.out, "(stub)")
	a.call("POST", "/api/tools/find_vessel/stubs", `{"run":"`+run+`","step":"t9.c1"}`, 404)
	a.call("POST", "/api/tools/tell/stubs", `{"run":"`+run+`","step":"t1.c1"}`, 400)
}

// last reads the last JSON value that a command printed.
func last[T any](t *testing.T, out string) (v T) {
	t.Helper()
	dec := json.NewDecoder(strings.NewReader(out))
	for dec.More() {
		require.NoError(t, dec.Decode(&v), out)
	}
	return v
}

func TestTheSameQuestionOnEveryRung(t *testing.T) {
	s := demo(t, filepath.Join(t.TempDir(), "harbour"))
	steps := map[string][]string{}
	contracts := map[string]string{}
	for _, rung := range []string{"stub", "read", "free"} {
		r := s.run(t, "say", "-json", "-rung", rung, "Reserve a berth for the Petrel from tomorrow 14:00, two nights, please.")
		require.Zero(t, r.code, r.out+r.err)
		id := last[struct{ ID string }](t, r.out).ID
		var one struct {
			Run   struct{ Rung string }
			Steps []struct {
				ID, Kind, Name, Rung, Effect string
				Stub                         bool
			}
		}
		require.NoError(t, json.Unmarshal([]byte(body(t, s.url+"/api/runs/"+id)), &one))
		assert.Equal(t, rung, one.Run.Rung)
		for _, st := range one.Steps {
			steps[rung] = append(steps[rung], st.Name)
			if st.Kind == "call" {
				assert.Equal(t, rung, st.Rung, "each call is marked")
				want := rung == "stub" || (rung == "read" && st.Effect != "read")
				assert.Equal(t, want, st.Stub, "%s on rung %s", st.Name, rung)
			}
			if st.ID == "t2" {
				var q struct{ Tools json.RawMessage }
				require.NoError(t, json.Unmarshal([]byte(body(t, s.url+"/api/runs/"+id+"/turns/t2/request")), &q))
				contracts[rung] = string(q.Tools)
			}
		}
	}
	assert.Equal(t, steps["stub"], steps["free"], "the same steps")
	assert.Equal(t, steps["stub"], steps["read"])
	assert.NotEmpty(t, contracts["stub"])
	assert.Equal(t, contracts["stub"], contracts["free"], "the same contract")
	assert.Equal(t, contracts["stub"], contracts["read"])

	r := s.run(t, "say", "-rung", "ask", "Reserve a berth for the Petrel from tomorrow 14:00, two nights, please.")
	assert.Equal(t, 4, r.code, "a person is asked, though no gate stands there")
	assert.Contains(t, r.out, "rung ask: a person agrees to every call that is not a read")
	r = s.run(t, "say", "-rung", "assign_berth=stub", "Reserve a berth for the Petrel from tomorrow 14:00, two nights, please.")
	require.Zero(t, r.code, r.out+r.err)
	assert.Contains(t, r.out, "B-1041", "one tool alone")
	r = s.run(t, "say", "-rung", "loud", "Hello.")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.err, `unknown rung "loud"`)
	r = s.run(t, "say", "-rung", "asign_berth=stub", "Hello.")
	assert.Contains(t, r.err, `unknown tool "asign_berth" in the rungs. Did you mean "assign_berth"`)
}

// client connects the protocol's own client.
func client(t *testing.T, over mcp.Transport, progress chan string) *mcp.ClientSession {
	t.Helper()
	c := mcp.NewClient(&mcp.Implementation{Name: "quay-editor", Version: "1"}, &mcp.ClientOptions{ProgressNotificationHandler: func(_ context.Context, r *mcp.ProgressNotificationClientRequest) {
		if progress != nil {
			progress <- r.Params.Message
		}
	}})
	session, err := c.Connect(t.Context(), over, nil)
	require.NoError(t, err)
	t.Cleanup(func() { session.Close() })
	return session
}

func text(r *mcp.CallToolResult) string {
	var out []string
	for _, c := range r.Content {
		if x, ok := c.(*mcp.TextContent); ok {
			out = append(out, x.Text)
		}
	}
	return strings.Join(out, "\n")
}

func TestOurToolsAreOfferedOverTheProtocol(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "harbour")
	s := demo(t, dir)
	bridge := exec.Command(binary, "mcp", "-at", s.url)
	bridge.Stderr = &bytes.Buffer{}
	for _, way := range []struct {
		name   string
		over   mcp.Transport
		months int // from now: the two reserve one berth, and may come in either order
	}{{"http", &mcp.StreamableClientTransport{Endpoint: s.url + "/mcp"}, 2}, {"stdio", &mcp.CommandTransport{Command: bridge}, 4}} {
		t.Run(way.name, func(t *testing.T) {
			progress := make(chan string, 16)
			c := client(t, way.over, progress)
			list, err := c.ListTools(t.Context(), nil)
			require.NoError(t, err)
			names := map[string]*mcp.Tool{}
			for _, x := range list.Tools {
				names[x.Name] = x
			}
			require.Len(t, names, 35, "twenty-one tools, four relays, ten agents")
			assert.True(t, names["berth_letter"].Annotations.ReadOnlyHint)
			assert.Contains(t, names["consult_dues"].Description, "Ask dues, and get its answer: Works out what a stay costs")
			assert.True(t, names["find_vessel"].Annotations.ReadOnlyHint)
			assert.False(t, names["assign_berth"].Annotations.ReadOnlyHint)
			assert.Equal(t, "Look a vessel of the register up by its name; gives its length, draught, kind and home port.", names["find_vessel"].Description)

			r, err := c.CallTool(t.Context(), &mcp.CallToolParams{Name: "reckon_dues", Arguments: map[string]any{"length_m": "12.4", "nights": 2}})
			require.NoError(t, err)
			assert.False(t, r.IsError)
			assert.Equal(t, "Dues: 57.68 EUR, at 1.6 a metre and night with 18 of light dues.", text(r), "the same repairs, the same words")
			assert.Equal(t, 57.68, r.StructuredContent.(map[string]any)["total"])
			r, err = c.CallTool(t.Context(), &mcp.CallToolParams{Name: "reckon_dues", Arguments: map[string]any{"length_m": 12.4, "nigths": 2}})
			require.NoError(t, err)
			assert.True(t, r.IsError, "the same checks")
			assert.Contains(t, text(r), `did you mean "nights"?`)

			r, err = c.CallTool(t.Context(), &mcp.CallToolParams{Name: "berth_letter", Arguments: map[string]any{"vessel": "Nobody"}})
			require.NoError(t, err)
			assert.Equal(t, "The register has no vessel Nobody.", text(r), "a relay is a tool")
			r, err = c.CallTool(t.Context(), &mcp.CallToolParams{Name: "berth_letter", Arguments: map[string]any{"ship": "Nobody"}})
			require.NoError(t, err)
			assert.True(t, r.IsError)
			assert.Contains(t, text(r), "the input does not fit berth_letter")
			r, err = c.CallTool(t.Context(), &mcp.CallToolParams{Name: "consult_dues", Arguments: map[string]any{"question": "What are the dues?", "length_m": 12.4, "nights": 2}})
			require.NoError(t, err)
			assert.Contains(t, text(r), "57.68 EUR", "so is an agent")

			arrives := time.Now().AddDate(0, way.months, 0).UTC()
			args := map[string]any{"berth": "E4", "vessel": "Long Hope", "arrives": arrives.Format(time.RFC3339), "leaves": arrives.Add(24 * time.Hour).Format(time.RFC3339)}
			params := &mcp.CallToolParams{Name: "assign_berth", Arguments: args}
			params.SetProgressToken("p1")
			type answer struct {
				r   *mcp.CallToolResult
				err error
			}
			done := make(chan answer, 1)
			go func() {
				r, err := c.CallTool(t.Context(), params)
				done <- answer{r, err}
			}()
			var said string
			select {
			case said = <-progress:
			case <-time.After(20 * time.Second):
				t.Fatal("nobody said that it waits")
			}
			assert.Contains(t, said, "it waits for harbourmaster (ticket ", "the same gates")
			id := strings.Fields(strings.TrimSuffix(said[strings.Index(said, "ticket ")+7:], ")"))[0]
			out := s.run(t, "allow", strings.TrimRight(id, "):"))
			require.Zero(t, out.code, out.err)
			got := <-done
			require.NoError(t, got.err)
			assert.Contains(t, text(got.r), "Reserved E4 for the Long Hope, booking B-")

			runs := s.run(t, "runs", "-json")
			assert.Contains(t, runs.out, `"person": "quay-editor"`, "each call is a run in the ledger")
			show := s.run(t, "show", firstRun(t, runs.out))
			assert.Contains(t, show.out, "assign_berth")
			assert.NotContains(t, show.out, "turn 1", "no model was asked")
		})
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tools/notes.yaml"), []byte(notes), 0o644))
	c := client(t, &mcp.StreamableClientTransport{Endpoint: s.url + "/mcp"}, nil)
	require.Eventually(t, func() bool {
		list, err := c.ListTools(t.Context(), nil)
		return err == nil && len(list.Tools) == 35
	}, 20*time.Second, 50*time.Millisecond, "the list follows the files")
}

func firstRun(t *testing.T, out string) string {
	var list []struct{ ID string }
	require.NoError(t, json.Unmarshal([]byte(out), &list))
	return list[0].ID
}

func TestAClientThatGoesAwayStopsItsCall(t *testing.T) {
	s := demo(t, filepath.Join(t.TempDir(), "harbour"))
	progress := make(chan string, 4)
	c := client(t, &mcp.StreamableClientTransport{Endpoint: s.url + "/mcp"}, progress)
	ctx, cancel := context.WithCancel(t.Context())
	params := &mcp.CallToolParams{Name: "assign_berth", Arguments: map[string]any{"berth": "E4", "vessel": "Long Hope", "arrives": "2027-05-06T10:00:00Z", "leaves": "2027-05-07T10:00:00Z"}}
	params.SetProgressToken("p")
	go func() { <-progress; cancel() }()
	_, err := c.CallTool(ctx, params)
	require.Error(t, err)
	require.Eventually(t, func() bool {
		return strings.Contains(s.run(t, "runs", "-json").out, `"status": "stopped"`)
	}, 20*time.Second, 50*time.Millisecond)
	assert.NotContains(t, s.run(t, "tickets").out, "Long Hope", "its ticket is withdrawn")
}

func TestAFolderAloneOffersItsTools(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "p")
	require.Zero(t, command(t, "", "", "new", dir).code)
	c := client(t, &mcp.CommandTransport{Command: exec.Command(binary, "mcp", "-dir", dir)}, nil)
	list, err := c.ListTools(t.Context(), nil)
	require.NoError(t, err)
	var names []string
	for _, x := range list.Tools {
		names = append(names, x.Name)
	}
	assert.Contains(t, names, "lend_tool")
	assert.Contains(t, names, "consult_counter")
	second := command(t, "", "", "mcp", "-dir", dir)
	assert.Equal(t, 1, second.code)
	assert.Contains(t, second.err, "name the service with -at URL")
	gone := command(t, "http://127.0.0.1:1", "", "mcp")
	assert.Equal(t, 3, gone.code)
}

func TestProgramsDoNotOutliveAServiceThatWasKilled(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "p")
	require.Zero(t, command(t, "", "", "new", dir).code)
	mark := fmt.Sprint("86", os.Getpid())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "nap.yaml"), []byte("tool: nap\nsummary: Sleep a while when somebody asks for it.\neffect: read\ntimeout: 10m\ncommand: {run: [sh, -c, \"sleep "+mark+" & wait\"], output: text}\n"), 0o644))
	s := launch(t, "serve", dir, "-listen", "127.0.0.1:0")
	go func() {
		resp, err := http.Post(s.url+"/api/tools/nap/try", "application/json", strings.NewReader(`{"args":{}}`))
		if err == nil {
			resp.Body.Close()
		}
	}()
	require.Eventually(t, func() bool { return running(mark) }, 20*time.Second, 20*time.Millisecond)
	_ = s.end(syscall.SIGKILL)
	assert.Eventually(t, func() bool { return !running(mark) }, 20*time.Second, 20*time.Millisecond, "what it had started in the background ends with it")
	launch(t, "serve", dir, "-listen", "127.0.0.1:0")
}

// running says whether a process has a word in its command line.
func running(word string) bool {
	procs, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, p := range procs {
		raw, _ := os.ReadFile(p)
		if strings.HasPrefix(string(raw), "sleep\x00"+word) {
			return true
		}
	}
	return false
}

func TestAStandInAnswersForADescribedService(t *testing.T) {
	s := launch(t, "source", "stand-in", "office", "-dir", "../examples/harbour", "-listen", "127.0.0.1:0")
	t.Setenv("OFFICE_URL", s.url)
	t.Setenv("OFFICE_TOKEN", "any")
	r := command(t, "", "", "try", "find_vessel", "-dir", mustAbs(t, "../examples/harbour"), "-args", `{"name":"Petrel"}`)
	require.Zero(t, r.code, r.out+r.err)
	assert.Contains(t, r.out, "/vessels/Petrel → 200")
	assert.Contains(t, r.out, `"length_m": 46.5`, "made up, and fitting")
	list := command(t, "", "", "source", "-dir", mustAbs(t, "../examples/harbour"))
	assert.Contains(t, list.out, "office")
	assert.Contains(t, list.out, "data/office.json")
	none := command(t, "", "", "source", "inspect", "ofice", "-dir", mustAbs(t, "../examples/harbour"))
	assert.Equal(t, 1, none.code)
	assert.Contains(t, none.err, `Did you mean "office"?`)
	assert.Equal(t, 2, command(t, "", "", "source", "find").code)
}

func mustAbs(t *testing.T, p string) string {
	t.Helper()
	abs, err := filepath.Abs(p)
	require.NoError(t, err)
	return abs
}

func TestTheOutboxAndUndoFromTheCommandLine(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "harbour")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "tools"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "notes"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tools", "notes.yaml"), []byte(notes), 0o644))
	s := demo(t, dir)
	assert.Contains(t, s.run(t, "outbox", "-to", "ann").out, "The outbox is empty.")
	require.Zero(t, s.run(t, "try", "tell", "-args", `{"to":"ann","subject":"Berth","text":"C4 is yours."}`).code)
	assert.Contains(t, s.run(t, "outbox", "-to", "ann").out, "to ann: Berth")
	assert.Contains(t, s.run(t, "outbox", "-json").out, `"status": "kept"`)
	r := s.run(t, "try", "keep_note", "-args", `{"path":"a.md","text":"One."}`)
	assert.Contains(t, r.out, "+One.")
	key := strings.Fields(r.out[strings.Index(r.out, "stonebaton undo ")+16:])[0]
	r = s.run(t, "undo", key)
	assert.Equal(t, "notes/a.md, which the tool created, is deleted again.\n", r.out)
	r = s.run(t, "undo", key)
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "was undone already")
	assert.Equal(t, 2, s.run(t, "undo").code)
}

func TestTheExamplesInThreeLanguages(t *testing.T) {
	for tool, want := range map[string]string{"passage_sh": "4 h 17 min", "passage_pl": `{"hours":4.29}`, "passage_js": `{"hours":4.29}`} {
		r := command(t, "", "", "try", tool, "-dir", mustAbs(t, "../examples/commands"), "-args", `{"miles":30,"speed_kn":7}`)
		assert.Zero(t, r.code, r.out)
		assert.Contains(t, r.out, "words    "+want)
		r = command(t, "", "", "try", tool, "-dir", mustAbs(t, "../examples/commands"), "-args", `{"miles":30,"speed_kn":70}`)
		assert.Contains(t, r.out, "no vessel of ours is as fast")
	}
}

func TestTheSameFunctionsInTwoLanguages(t *testing.T) {
	for tool, c := range map[string]struct{ args, want string }{
		"reckon_dues": {`{"length_m":12.4,"nights":2}`, `{"currency":"EUR","light_dues":18,"rate":1.6,"total":57.68}`},
		"season_of":   {`{"day":"2026-10-01"}`, "winter"},
		"split_dues":  {`{"total":177.6,"parts":7}`, "[25.38,25.37,25.37,25.37,25.37,25.37,25.37]"},
		"late_fee":    {`{"total":100,"due":"2026-05-08","paid":"2026-05-20"}`, "4"},
	} {
		for _, dir := range []string{"../examples/functions", "../examples/harbour"} {
			r := command(t, "", "", "try", tool, "-dir", mustAbs(t, dir), "-args", c.args)
			assert.Zero(t, r.code, r.out+r.err)
			if tool == "reckon_dues" && dir == "../examples/harbour" {
				c.want = "Dues: 57.68 EUR"
			}
			assert.Contains(t, r.out, "words    "+c.want)
		}
	}
	r := command(t, "", "", "check", mustAbs(t, "../examples/functions"))
	assert.Zero(t, r.code)
	assert.Contains(t, r.out, "No problems with 1 agent, 4 tools")
	r = command(t, "", "", "source", "inspect", mustAbs(t, "../examples/functions/dues.mjs"))
	assert.Zero(t, r.code)
	assert.Contains(t, r.out, "4 tools, 4 taken")
	r = command(t, "", "", "source", "inspect", mustAbs(t, "../examples/functions/none.mjs"))
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "none.mjs")
}

func TestACallUnderWayIsHeardOfEverywhere(t *testing.T) {
	dir, flag := filepath.Join(t.TempDir(), "p"), filepath.Join(t.TempDir(), "go")
	require.Zero(t, command(t, "", "", "new", dir).code)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stonebaton.yaml"), []byte("project: stores\nmodels: {m: {speaks: understudy}}\nmodel: m\nstart: counter\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "counter.yaml"), []byte("agent: counter\nsummary: Counts the stores.\nprompt: You count the stores.\ntools: [count_shelves]\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "lend_tool.yaml"), []byte("tool: count_shelves\nsummary: Count the shelves when somebody asks for the shelves to be counted.\neffect: read\ntimeout: 5m\n"+
		"command: {run: [sh, -c, \"until [ -e "+flag+" ]; do echo shelf after shelf >&2; sleep 0.1; done; echo counted\"], output: text, sandbox: none}\n"), 0o644))
	require.NoError(t, os.Remove(filepath.Join(dir, "lathe_loan.yaml")))
	require.NoError(t, os.Remove(filepath.Join(dir, "stores.yaml")))
	s := launch(t, "serve", dir, "-listen", "127.0.0.1:0")

	say := exec.CommandContext(t.Context(), binary, "say", "Count the shelves")
	said := &lockedBuffer{}
	say.Env, say.Stdout, say.Stderr = append(os.Environ(), "STONEBATON_URL="+s.url), said, said
	require.NoError(t, say.Start())
	progress, result := make(chan string, 1000), make(chan *mcp.CallToolResult, 1)
	c := client(t, &mcp.StreamableClientTransport{Endpoint: s.url + "/mcp"}, progress)
	params := &mcp.CallToolParams{Name: "count_shelves"}
	params.SetProgressToken("p")
	go func() {
		r, _ := c.CallTool(t.Context(), params)
		result <- r
	}()
	assert.Equal(t, "shelf after shelf", <-progress, "by a client of the protocol")
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "shelf after shelf") }, 20*time.Second, 20*time.Millisecond, "on the command line")
	p := browse(t, s.url)
	p.open("/runs/" + firstRun(t, s.run(t, "runs", "-json").out))
	p.sees("shelf after shelf")
	p.click("count_shelves")
	p.until(`document.querySelector("aside pre").innerText.includes("shelf after shelf")`)
	require.NoError(t, os.WriteFile(flag, nil, 0o644))
	require.NoError(t, say.Wait())
	assert.Contains(t, said.String(), "counted")
	r := <-result
	require.NotNil(t, r)
	assert.Equal(t, "counted", text(r))
	p.until(`!document.querySelector("aside pre")?.innerText.includes("shelf after shelf")`)
}
