package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
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
	"stonebaton.example/core/trace"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/rows"
	"stonebaton.example/internal/service"
	"stonebaton.example/internal/store"
)

func TestFiguresAsPeopleSayThem(t *testing.T) {
	for ms, want := range map[int64]string{0: "0 ms", 9999: "9999 ms", 61_000: "61 s", 600_000: "10 min", 172_800_000: "48 h"} {
		assert.Equal(t, want, span(ms))
	}
	for n, want := range map[int]string{0: "0", 999: "999", 1000: "1 000", 1234567: "1 234 567"} {
		assert.Equal(t, want, spaced(n))
	}
	assert.Equal(t, "1 turn", count(1, "turn"))
	assert.Equal(t, "2 turns", count(2, "turn"))
	assert.Equal(t, "a b…", clip("a  b\ncdef", 4))
}

func TestLines(t *testing.T) {
	k := &call{Streams: Streams{Out: &bytes.Buffer{}}}
	now := time.Now()
	for want, s := range map[string]trace.Step{
		"desk     turn 1              412 ms    653 tok   a message came in (house)":                 {Agent: "desk", Kind: trace.Turn, Name: "turn 1", Status: "returned", Model: "house", MS: 412, Tokens: &ledger.Usage{In: 612, Out: 41}, Why: "a message came in"},
		"desk     find_vessel          18 ms              Marrow Light → 46 m":                       {Agent: "desk", Kind: trace.Call, Name: "find_vessel", Status: "returned", MS: 18, Title: "Marrow Light", Brief: "46 m"},
		"desk     → berths                                handoffs come last":                        {Agent: "desk", Kind: trace.Pass, To: "berths", Status: "returned", Why: "handoffs come last"},
		"berths   assign_berth          held              gate: length over 40 m":                    {Agent: "berths", Kind: trace.Call, Name: "assign_berth", Status: "waiting", Wait: &trace.Wait{Why: "gate: length over 40 m"}},
		"berths   assign_berth      refused              Not done: no.":                              {Agent: "berths", Kind: trace.Call, Name: "assign_berth", Status: "refused", Brief: "Not done: no."},
		"berths   assign_berth         5 ms              failed: D2 is taken":                        {Agent: "berths", Kind: trace.Call, Name: "assign_berth", Status: "failed", MS: 5, Brief: "D2 is taken"},
		"berths   assign_berth         5 ms              failed: D2 is taken   (stub)   (rung stub)": {Agent: "berths", Kind: trace.Call, Name: "assign_berth", Status: "failed", MS: 5, Brief: "D2 is taken", Stub: true, Rung: ledger.RungStub},
		"berths   assign_berth         5 ms              C4 → B-1   allowed by ann   (stub)":         {Agent: "berths", Kind: trace.Call, Name: "assign_berth", Status: "returned", MS: 5, Title: "C4", Brief: "B-1", Stub: true, Wait: &trace.Wait{Settled: &now, Verb: ledger.Allow, Who: "ann"}},
	} {
		got := k.line(&s)
		assert.Equal(t, strings.Join(strings.Fields(want), " "), strings.Join(strings.Fields(string(got)), " "))
	}
	assert.Equal(t, "lapsed", settledBy(&trace.Wait{Verb: ledger.Lapsed}))
	assert.Equal(t, "withdrawn", settledBy(&trace.Wait{Verb: ledger.Withdrawn}))
}

func TestTicketLines(t *testing.T) {
	k := &call{Streams: Streams{Out: &bytes.Buffer{}}}
	due := time.Now().Add(29 * time.Minute)
	got := string(k.ticketLines(rows.Ticket{ID: 7, Form: "gate", Tool: "reserve", Args: rows.JSON(`{"berth":"C4"}`), Diff: "-a\n+b\n", Ask: "Reserve C4?", By: []string{"harbourmaster"}, Due: &rows.Moment{Time: due}}))
	assert.Contains(t, got, "ticket 7: Reserve C4?   harbourmaster, lapses in 29 min")
	assert.Contains(t, got, "stonebaton allow 7")
	assert.Contains(t, got, "reserve {\"berth\":\"C4\"}\n         -a\n         +b\n", "what it is about")
	got = string(k.ticketLines(rows.Ticket{ID: 8, Form: "outcome", Ask: "Did it happen?"}))
	assert.Contains(t, got, "stonebaton answer 8 not_happened")
	assert.Contains(t, got, "anybody")
}

// here is a service in process, and the commands against it.
type here struct {
	t   *testing.T
	app *app.App
	url string
}

func serve(t *testing.T, main string) *here {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, project.Main), []byte(main), 0o600))
	a, err := app.Open(context.Background(), app.Config{Dir: dir, Access: app.Access{Open: true}})
	require.NoError(t, err)
	srv := httptest.NewServer(service.New(a, fstest.MapFS{}, slog.New(slog.DiscardHandler), "test").Handler())
	t.Cleanup(func() { srv.CloseClientConnections(); srv.Close(); a.Close() })
	return &here{t, a, srv.URL}
}

func (h *here) run(in string, args ...string) (int, string, string) {
	h.t.Helper()
	var out, errs bytes.Buffer
	code := Run(context.Background(), append([]string{args[0], "-at", h.url}, args[1:]...), Streams{In: strings.NewReader(in), Out: &out, Err: &errs}, Program{})
	return code, out.String(), errs.String()
}

const lookUp = `Look up the vessel "Petrel" by its name, then reserve the berth C4.`

func TestATicketIsPutToThePersonAtTheTerminal(t *testing.T) {
	for name, c := range map[string]struct{ typed, sees, answer string }{
		"allowed":         {"a\n", "allowed by master", "Reserved C4."},
		"changed":         {"x\nc\n{\nc\n{\"berth\":\"quay\"}\nc\n{\"berth\":\"D2\"}\n", "berth must match", `Master changed berth from "C4" to "D2"`},
		"refused":         {"r\n\nr\nNot today.\n", "a refusal needs a reason", "Not today."},
		"left open":       {"\n", "enter leaves it open", ""},
		"no more to read": {"", "enter leaves it open", ""},
	} {
		t.Run(name, func(t *testing.T) {
			h := serve(t, coretest.Main)
			var out bytes.Buffer
			k := &call{Streams: Streams{In: strings.NewReader(c.typed), Out: &out, Err: &out}, at: h.url}
			b, err := h.app.Engine.Begin(context.Background(), engine.Start{Text: lookUp, Tools: ledger.ToolsStubs})
			require.NoError(t, err)
			f := newFollower(k, false)
			in := bufio.NewReader(k.In)
			f.read = func(prompt string) (string, error) { k.print("%s", painted(prompt)); return in.ReadString('\n') }
			last, err := f.follow(context.Background(), b.Run, 0)
			require.NoError(t, err)
			assert.Contains(t, out.String(), c.sees)
			if c.answer == "" {
				assert.Equal(t, ledger.Held, last.Status)
				return
			}
			assert.Equal(t, ledger.Done, last.Status, out.String())
			assert.Contains(t, last.Answer, c.answer)
		})
	}
}

func TestAQuestionIsPutToThePersonAtTheTerminal(t *testing.T) {
	const asking = `project: pier
start: desk
models: {m: {speaks: understudy}}
---
tool: sound
summary: Work out how long a vessel takes to the pier, by its speed.
effect: read
input: {type: object, required: [speed_kn], properties: {speed_kn: {type: number, description: "Speed of the vessel in knots."}}}
stubs: [{returns: "two hours"}]
---
tool: tide
summary: Tell when the tide is high.
effect: read
stubs: [{returns: high}]
---
agent: desk
summary: Reads requests.
prompt: You are the desk.
tools: [tide]
consults: [{agent: pilot, asks: person}]
---
agent: pilot
summary: Works out how long a vessel takes to the pier.
prompt: You are the pilot.
tools: [sound]
`
	for name, c := range map[string]struct{ typed, answer string }{
		"answered":  {"6 knots\n", "two hours"},
		"left open": {"\n", ""},
	} {
		t.Run(name, func(t *testing.T) {
			h := serve(t, asking)
			var out bytes.Buffer
			k := &call{Streams: Streams{In: strings.NewReader(c.typed), Out: &out, Err: &out}, at: h.url}
			b, err := h.app.Engine.Begin(context.Background(), engine.Start{Text: "When is the tide high, and how long does a vessel take to the pier?", Tools: ledger.ToolsStubs})
			require.NoError(t, err)
			f := newFollower(k, false)
			in := bufio.NewReader(k.In)
			f.read = func(prompt string) (string, error) { k.print("%s", painted(prompt)); return in.ReadString('\n') }
			last, err := f.follow(context.Background(), b.Run, 0)
			require.NoError(t, err)
			assert.Contains(t, out.String(), "What is the speed of the vessel in knots?")
			assert.Contains(t, out.String(), "your answer; enter leaves it open")
			if c.answer == "" {
				assert.Equal(t, ledger.Held, last.Status)
				return
			}
			assert.Equal(t, ledger.Done, last.Status, out.String())
			assert.Contains(t, last.Answer, c.answer)
		})
	}
}

func TestCommandsForPrograms(t *testing.T) {
	h := serve(t, coretest.Main)
	code, out, _ := h.run("", "say", "-json", "-stubs", lookUp)
	assert.Equal(t, held, code)
	var s Said
	require.NoError(t, json.Unmarshal([]byte(out), &s))
	assert.Equal(t, "held", s.Status)
	assert.Equal(t, []int64{1}, s.Tickets)
	require.Len(t, s.Calls, 2)
	assert.JSONEq(t, `{"berth":"C4"}`, string(s.Calls[1].Args))
	assert.JSONEq(t, `{"length_m":46}`, string(s.Calls[0].Result))
	assert.Equal(t, []string{"desk", "returned", "waiting"}, []string{s.Calls[0].Agent, s.Calls[0].Status, s.Calls[1].Status})
	assert.Equal(t, []string{"m"}, s.Models, "who answered")
	assert.Equal(t, []string{"desk"}, s.Path)
	for _, args := range [][]string{{"runs", "-json"}, {"tickets", "-json"}, {"tools", "-json"}, {"models", "-json"}} {
		code, out, errs := h.run("", args...)
		assert.Equal(t, fine, code, errs)
		var rows []map[string]any
		require.NoError(t, json.Unmarshal([]byte(out), &rows), out)
		require.NotEmpty(t, rows, args)
		assert.NotEmpty(t, rows[0]["id"], args)
		assert.NotEmpty(t, rows[0]["status"], args)
	}
	code, out, _ = h.run("", "amend", "1", "-json", "-args", `{"berth":"D2"}`)
	assert.Equal(t, fine, code)
	assert.Contains(t, out, `"new_args": {`)
	code, out, _ = h.run("", "follow", "-json", s.ID)
	assert.Equal(t, fine, code)
	lines := strings.Split(strings.TrimSpace(out), "\n")
	assert.Contains(t, lines[len(lines)-1], `"kind":"run.closed"`)
	code, out, _ = h.run("", "show", "-json", s.ID)
	assert.Equal(t, fine, code)
	assert.Contains(t, out, `"steps": [`)
	code, out, _ = h.run("", "show", "-json", s.ID, "-step", "2")
	assert.Equal(t, fine, code)
	assert.Contains(t, out, `"words":`)
	code, out, _ = h.run("", "request", "-json", s.ID, "-step", "1")
	assert.Equal(t, fine, code)
	assert.Contains(t, out, `"same": true`)
	_, out, _ = h.run("", "models", "-test", "m", "-json")
	assert.Contains(t, out, `"status": "answers"`)
	code, out, _ = h.run("", "try", "toot", "-json")
	assert.Equal(t, fine, code)
	assert.Contains(t, out, `"words": "Done; there is no result."`)
}

func TestSayReadsStandardInput(t *testing.T) {
	h := serve(t, coretest.Main)
	code, out, errs := h.run("Tell me the tide.\n", "say", "-quiet", "-stubs", "-")
	assert.Equal(t, fine, code, errs)
	assert.Equal(t, "high\n", out)
	code, _, errs = h.run("", "say", "-to", "nobody", "x")
	assert.Equal(t, failed, code)
	assert.Contains(t, errs, `unknown agent "nobody"`)
}

func TestAFailedRunSaysWhyAndWhatToDo(t *testing.T) {
	h := serve(t, strings.Replace(coretest.Main, "limits: {turns: 8", "limits: {turns: 1", 1))
	code, out, errs := h.run("", "say", "-stubs", "Tell me the tide.")
	assert.Equal(t, failed, code)
	assert.Contains(t, out, "failed: 1 turn, 1 call")
	assert.Empty(t, errs)
	assert.Contains(t, out, "failed   The run failed: the run has used its one turn (limit turns: 1). Look at the run to see why it went on; raise limits: in stonebaton.yaml if it was right to.\n")
}

func TestOutcomeTicketsAreAnswered(t *testing.T) {
	h := serve(t, coretest.Main+"---\ntool: fetch\nsummary: Fetch the mail.\ntimeout: 1s\nretry: 0\nhttp: {method: POST, url: \"http://127.0.0.1:1/\"}\n")
	_, out, _ := h.run("", "tools", "fetch")
	assert.Contains(t, out, "effect   write\nrung     free\nby       http POST http://127.0.0.1:1/, 0 stubs")
	code, _, errs := h.run("", "answer", "1", "happened")
	assert.Equal(t, failed, code)
	assert.Contains(t, errs, "there is no such ticket")
	code, _, errs = h.run("", "answer", "1")
	assert.Equal(t, wrongUse, code)
	assert.Contains(t, errs, "what is the answer?")
	code, _, errs = h.run("", "answer", "1", "happened", "-result", "{")
	assert.Equal(t, wrongUse, code)
	assert.Contains(t, errs, "-result is not JSON")
}

func TestEmptyLists(t *testing.T) {
	h := serve(t, coretest.Main)
	for args, say := range map[string]string{"runs": "No runs. Begin one with", "tickets": "Nothing waits for a person."} {
		_, out, _ := h.run("", args)
		assert.Contains(t, out, say)
	}
	for _, args := range [][]string{{"show"}, {"stop"}, {"request"}, {"allow"}, {"try"}, {"new"}} {
		var errs bytes.Buffer
		code := Run(context.Background(), args, Streams{In: strings.NewReader(""), Out: &bytes.Buffer{}, Err: &errs}, Program{})
		assert.Equal(t, wrongUse, code, args)
		assert.Contains(t, errs.String(), "usage: stonebaton "+args[0], fmt.Sprint(args))
	}
}

func TestEveryCommandHelps(t *testing.T) {
	for _, c := range commands() {
		var out bytes.Buffer
		code := Run(context.Background(), []string{"help", c.name}, Streams{Out: &out, Err: &out}, Program{})
		assert.Equal(t, fine, code)
		assert.Contains(t, out.String(), c.does)
		if c.name != "version" {
			assert.Contains(t, out.String(), "example:\n  stonebaton "+c.name, c.name)
		}
	}
}

// write puts a file into the project's folder.
func (h *here) write(name, text string) {
	h.t.Helper()
	require.NoError(h.t, os.WriteFile(filepath.Join(h.app.Projects.Dir(), name), []byte(text), 0o600))
	if strings.HasPrefix(name, "l") { // lines are wanted at once
		_, err := h.app.Projects.Reload(context.Background())
		require.NoError(h.t, err)
	}
}

// messages lists what was said, the newest first.
func (h *here) messages() []string {
	list, err := h.app.Store.Runs(context.Background(), store.RunFilter{})
	require.NoError(h.t, err)
	var out []string
	for _, r := range list {
		out = append(out, r.Text)
	}
	return out
}

// shared is a buffer that may be read while it is written.
type shared struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *shared) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *shared) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// TestTheChangeThatTuneMakesIsShown: of an input that its source says in a wrong way.
func TestTheChangeThatTuneMakesIsShown(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "data"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, project.Main), []byte("project: p\nstart: a\nmodels: {house: {speaks: understudy}}\n---\nagent: a\nsummary: s\nprompt: p\n---\nsource: things\nopenapi: {document: data/d.json}\ntake: [putThing]\n"+
		"tune: {putThing: {input: {type: object, properties: {n: {type: integer, description: How many of them.}}}}}\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "data", "d.json"), []byte(`{"openapi":"3.1.0","info":{"title":"T"},"paths":{"/t":{"put":{"operationId":"putThing","summary":"Put a thing.","requestBody":{"content":{"application/json":{"schema":{"type":"object","properties":{"n":{"type":"string","description":"A count."}}}}}},"responses":{}}}}}`), 0o600))
	var out, errs bytes.Buffer
	code := Run(context.Background(), []string{"source", "inspect", "things", "-dir", dir}, Streams{In: strings.NewReader(""), Out: &out, Err: &errs}, Program{})
	require.Zero(t, code, errs.String())
	assert.Contains(t, out.String(), "tune: changes its input:")
	assert.Contains(t, out.String(), `-      "type": "string"`)
	assert.Contains(t, out.String(), `+      "type": "integer"`)
}

// TestTheRequestNamesThePicturesThatWereShown: they are not part of its texts.
func TestTheRequestNamesThePicturesThatWereShown(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(api.Request{Step: "t2", Agent: "tides", Model: "eyes", Same: true,
			Messages: []ledger.Message{{Role: ledger.FromTool, Tool: "draw", Text: "The chart is drawn.", Pictures: []ledger.File{{Path: "tides.png\x1b[2J", Type: "image/png", Bytes: 3007}}}}})
	}))
	defer srv.Close()
	var out, errs bytes.Buffer
	code := Run(context.Background(), []string{"request", "-at", srv.URL, "-step", "3", "aa-1"}, Streams{In: strings.NewReader(""), Out: &out, Err: &errs}, Program{})
	require.Zero(t, code, errs.String())
	assert.Contains(t, out.String(), "--- tool draw\n    The chart is drawn.\n    shows the picture tides.png")
	assert.Contains(t, out.String(), "(image/png, 3007 bytes)")
	assert.NotContains(t, out.String(), "\x1b[2J")
}
