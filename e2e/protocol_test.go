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
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/modelcontextprotocol/go-sdk/mcp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// wire is a client of the protocol that writes its messages itself.
type wire struct {
	t     *testing.T
	in    io.WriteCloser
	lines chan map[string]any
	cmd   *exec.Cmd
	err   *lockedBuffer
}

// wired starts the command that offers tools on standard input and output.
func wired(t *testing.T, args ...string) *wire {
	t.Helper()
	w := &wire{t: t, lines: make(chan map[string]any, 100), cmd: exec.Command(binary, append([]string{"mcp"}, args...)...), err: &lockedBuffer{}}
	w.cmd.Stderr = w.err
	var err error
	w.in, err = w.cmd.StdinPipe()
	require.NoError(t, err)
	out, err := w.cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, w.cmd.Start())
	t.Cleanup(func() { _ = w.cmd.Process.Kill(); _ = w.cmd.Wait() })
	go func() {
		defer close(w.lines)
		r := bufio.NewReader(out)
		for {
			line, err := r.ReadBytes('\n')
			if err != nil {
				return
			}
			var m map[string]any
			if json.Unmarshal(line, &m) == nil {
				w.lines <- m
			}
		}
	}()
	return w
}

func (w *wire) send(text string) {
	w.t.Helper()
	_, err := io.WriteString(w.in, text+"\n")
	require.NoError(w.t, err)
}

// next gives the next message that fits.
func (w *wire) next(what string, fits func(map[string]any) bool) map[string]any {
	w.t.Helper()
	end := time.After(20 * time.Second)
	for {
		select {
		case m, ok := <-w.lines:
			require.True(w.t, ok, "it ended before %s came: %s", what, w.err)
			if fits(m) {
				return m
			}
		case <-end:
			require.Fail(w.t, "it did not come", "%s; %s", what, w.err)
		}
	}
}

func method(name string) func(map[string]any) bool {
	return func(m map[string]any) bool { return m["method"] == name }
}

func answerTo(id float64) func(map[string]any) bool {
	return func(m map[string]any) bool { return m["id"] == id && m["method"] == nil }
}

// greet begins a session of an older revision.
func (w *wire) greet(revision string) {
	w.t.Helper()
	w.send(`{"jsonrpc":"2.0","id":1,"method":"initialize","params":{"protocolVersion":"` + revision + `","capabilities":{},"clientInfo":{"name":"probe","version":"1"}}}`)
	m := w.next("the answer to initialize", answerTo(1))
	assert.Equal(w.t, revision, m["result"].(map[string]any)["protocolVersion"])
	w.send(`{"jsonrpc":"2.0","method":"notifications/initialized"}`)
}

const waiver = `{"name":"waive_dues","arguments":{"vessel":"Gannet","eur":600,"because":"storm"},"_meta":{"progressToken":"x"%s}}`

// newest is what requests of the newest revision carry.
const newest = `"io.modelcontextprotocol/protocolVersion":"2026-07-28","io.modelcontextprotocol/clientInfo":{"name":"probe","version":"1"},"io.modelcontextprotocol/clientCapabilities":{}`

// TestACallThatIsTakenBack: it is recorded as that with its reason, and not answered, in a
// session and without, through the service and without one.
func TestACallThatIsTakenBack(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "harbour")
	s := demo(t, dir)
	other := filepath.Join(t.TempDir(), "harbour")
	require.NoError(t, os.CopyFS(other, os.DirFS(dir)))
	require.NoError(t, os.RemoveAll(filepath.Join(other, ".stonebaton")))
	for name, c := range map[string]struct {
		args           []string
		revision, says string
	}{
		"bridge, in a session":   {[]string{"-at", s.url}, "2025-06-18", "the client cancelled the call: changed my mind"},
		"bridge, newest":         {[]string{"-at", s.url}, "", "the client closed the request, which cancels it"},
		"a folder, in a session": {[]string{"-dir", other}, "2025-11-25", "the client cancelled the call: changed my mind"},
	} {
		t.Run(name, func(t *testing.T) {
			w := wired(t, c.args...)
			meta := ""
			if c.revision == "" {
				meta = "," + newest
			} else {
				w.greet(c.revision)
			}
			call := fmt.Sprintf(waiver, meta)
			if c.args[0] == "-dir" { // it has no office
				call = strings.Replace(call, "waive_dues", "run_program", 1)
				call = strings.Replace(call, `"vessel":"Gannet","eur":600,"because":"storm"`, `"code":"return 1","file":"one.js","language":"javascript"`, 1)
			}
			w.send(`{"jsonrpc":"2.0","id":7,"method":"tools/call","params":` + call + `}`)
			w.next("that it waits", method("notifications/progress"))
			w.send(`{"jsonrpc":"2.0","method":"notifications/cancelled","params":{"requestId":7,"reason":"changed my mind","_meta":{` + strings.TrimPrefix(meta, ",") + `}}}`)
			if c.args[0] == "-at" {
				require.Eventually(t, func() bool { return strings.Contains(body(t, s.url+"/api/runs?limit=1"), `"status":"stopped"`) }, 20*time.Second, 20*time.Millisecond)
				run := runsOf(t, s.url)[0]
				assert.Contains(t, s.run(t, "show", run).out, "The run was stopped by probe: "+c.says)
			}
			list := `{"jsonrpc":"2.0","id":8,"method":"tools/list","params":{"_meta":{` + strings.TrimPrefix(meta, ",") + `}}}`
			w.send(list)
			w.next("the next answer", func(m map[string]any) bool {
				assert.False(t, answerTo(7)(m), "what was taken back is not answered: %v", m)
				return answerTo(8)(m)
			})
		})
	}
}

func runsOf(t *testing.T, url string) (out []string) {
	t.Helper()
	var list struct{ Runs []struct{ ID string } }
	require.NoError(t, json.Unmarshal([]byte(body(t, url+"/api/runs?limit=5")), &list))
	for _, r := range list.Runs {
		out = append(out, r.ID)
	}
	return out
}

// TestWhatThereIsToReadAndToAsk: runs, their files and the map are resources, agents and relays
// are prompts; of another person's runs nothing is there.
func TestWhatThereIsToReadAndToAsk(t *testing.T) {
	s := demo(t, filepath.Join(t.TempDir(), "harbour"))
	c := client(t, &mcp.StreamableClientTransport{Endpoint: s.url + "/mcp"}, make(chan string, 16))
	read := func(uri string) string {
		r, err := c.ReadResource(t.Context(), &mcp.ReadResourceParams{URI: uri})
		require.NoError(t, err, uri)
		require.Len(t, r.Contents, 1)
		return r.Contents[0].Text
	}
	list, err := c.ListResources(t.Context(), nil)
	require.NoError(t, err)
	assert.Len(t, list.Resources, 2)
	runs := read("stonebaton://runs")
	id := runsOf(t, s.url)[0]
	assert.Contains(t, runs, id)
	assert.Contains(t, read("stonebaton://runs/"+id), `"steps"`)
	assert.Contains(t, read("stonebaton://map"), "berth_letter")
	for _, none := range []string{"stonebaton://runs/none-1", "stonebaton://runs/" + id + "/files/0", "stonebaton://else"} {
		_, err = c.ReadResource(t.Context(), &mcp.ReadResourceParams{URI: none})
		assert.ErrorContains(t, err, "not found", none)
	}
	prompts, err := c.ListPrompts(t.Context(), nil)
	require.NoError(t, err)
	assert.Len(t, prompts.Prompts, 14, "four relays, ten agents")
	p, err := c.GetPrompt(t.Context(), &mcp.GetPromptParams{Name: "berth_letter", Arguments: map[string]string{"vessel": "Marrow Light"}})
	require.NoError(t, err)
	assert.Contains(t, p.Messages[0].Content.(*mcp.TextContent).Text, `Call the tool berth_letter with {"vessel":"Marrow Light"}`)

	houses := launch(t, "demo", "-sign-in", "-dir", filepath.Join(t.TempDir(), "harbour"), "-listen", "127.0.0.1:0")
	token := regexp.MustCompile(`siv\.\S+`).FindString(houses.err.String())
	siv := client(t, &mcp.StreamableClientTransport{Endpoint: houses.url + "/mcp", HTTPClient: &http.Client{Transport: bearer(token)}}, make(chan string, 16))
	r, err := siv.ReadResource(t.Context(), &mcp.ReadResourceParams{URI: "stonebaton://runs"})
	require.NoError(t, err)
	assert.NotContains(t, r.Contents[0].Text, `"ines"`)
	mara := regexp.MustCompile(`mara\.\S+`).FindString(houses.err.String())
	all, err := http.NewRequest("GET", houses.url+"/api/runs", nil)
	require.NoError(t, err)
	resp, err := bearer(mara).RoundTrip(all)
	require.NoError(t, err)
	defer resp.Body.Close()
	var others struct{ Runs []struct{ ID, Person string } }
	require.NoError(t, json.NewDecoder(resp.Body).Decode(&others))
	require.NotEmpty(t, others.Runs)
	for _, one := range others.Runs {
		if one.Person != "siv" {
			_, err = siv.ReadResource(t.Context(), &mcp.ReadResourceParams{URI: "stonebaton://runs/" + one.ID})
			assert.ErrorContains(t, err, "not found")
		}
	}
}

// bearer sends requests with a token.
type bearer string

func (b bearer) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	r.Header.Set("Authorization", "Bearer "+string(b))
	return http.DefaultTransport.RoundTrip(r)
}

func TestTheBridgeSpeaksEachRevision(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "harbour")
	s := demo(t, dir)
	w := wired(t, "-at", s.url)
	w.send(`{"jsonrpc":"2.0","id":1,"method":"server/discover","params":{"_meta":{` + newest + `}}}`)
	found := w.next("what it speaks", answerTo(1))["result"].(map[string]any)["supportedVersions"]
	assert.Equal(t, []any{"2026-07-28", "2025-11-25", "2025-06-18", "2025-03-26", "2024-11-05"}, found)
	w.send(`{"jsonrpc":"2.0","id":2,"method":"tools/call","params":{"name":"daylight","arguments":{"day":"2026-06-21"},"_meta":{` + newest + `}}}`)
	assert.Contains(t, fmt.Sprint(w.next("the result", answerTo(2))["result"]), "rises")
	w.send("{broken")
	assert.Contains(t, fmt.Sprint(w.next("that it is no message", func(m map[string]any) bool { return m["error"] != nil })), "-32700")

	w.greet("2025-03-26")
	file := filepath.Join(dir, "tools", "notices.yaml")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, bytes.Replace(raw, []byte("summary: "), []byte("summary: At any time, "), 1), 0o600))
	w.next("that the tools have changed", method("notifications/tools/list_changed"))

	require.NoError(t, s.end(syscall.SIGTERM))
	state, err := w.cmd.Process.Wait()
	require.NoError(t, err)
	assert.Equal(t, 3, state.ExitCode(), "the service is gone")
	assert.Contains(t, w.err.String(), "no service answers at "+s.url)
	for _, folder := range []string{"children", "work"} {
		left, err := os.ReadDir(filepath.Join(dir, ".stonebaton", folder))
		require.NoError(t, err)
		assert.Empty(t, left, "a service that is ended leaves nothing running, and nothing temporary")
	}
}

// TestTheNewestRevisionOverHTTP: the library's own client of it.
func TestTheNewestRevisionOverHTTP(t *testing.T) {
	s := demo(t, filepath.Join(t.TempDir(), "harbour"))
	c := client(t, &mcp.StreamableClientTransport{Endpoint: s.url + "/mcp"}, make(chan string, 16))
	assert.Equal(t, "2026-07-28", c.InitializeResult().ProtocolVersion)
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	r, err := c.CallTool(ctx, &mcp.CallToolParams{Name: "daylight", Arguments: map[string]any{"day": "2026-06-21"}})
	require.NoError(t, err)
	assert.False(t, r.IsError)
}

// TestTheKeyOfTheRecords: who can only reach the service looks and talks; who has the key
// settles and builds.
func TestTheKeyOfTheRecords(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "harbour")
	s := demo(t, dir)
	bare := &http.Client{Transport: http.DefaultTransport.(keyed).RoundTripper}
	send := func(method, path, in, key string) (int, string) {
		req, err := http.NewRequest(method, s.url+path, strings.NewReader(in))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		if key != "" {
			req.Header.Set("Authorization", "Bearer "+key)
		}
		resp, err := bare.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		raw, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(raw)
	}
	raw, err := os.ReadFile(filepath.Join(dir, ".stonebaton", "local.key"))
	require.NoError(t, err)
	key := strings.TrimSpace(string(raw))
	info, err := os.Stat(filepath.Join(dir, ".stonebaton", "local.key"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	for _, c := range []struct{ method, path, in string }{
		{"POST", "/api/tickets/2/settle", `{"verb":"allow","as":"harbourmaster"}`},
		{"POST", "/api/tools/daylight/try", `{"args":{}}`},
		{"POST", "/api/people", `{"name":"eve","rights":["admin"]}`},
		{"POST", "/api/drills", `{}`},
		{"POST", "/mcp", `{"jsonrpc":"2.0","id":1,"method":"ping"}`},
		{"GET", "/api/people", ""},
		{"POST", "/api/runs", `{"text":"x","person":"harbourmaster"}`},
		{"POST", "/api/runs", `{"text":"x","state":{}}`},
	} {
		code, said := send(c.method, c.path, c.in, "")
		assert.Equal(t, 403, code, "%s %s: %s", c.method, c.path, said)
		assert.Contains(t, said, "/problems#key")
		assert.Contains(t, said, "stonebaton console")
		code, said = send(c.method, c.path, c.in, key)
		assert.NotEqual(t, 403, code, "%s %s: %s", c.method, c.path, said)
		assert.NotEqual(t, 401, code, "%s %s: %s", c.method, c.path, said)
	}
	code, said := send("POST", "/api/tickets/2/settle", `{"verb":"allow"}`, "local.wrong-and-long-enough-to-be-one-of-forty-letters")
	assert.Equal(t, 401, code, said)
	code, _ = send("POST", "/api/runs", `{"text":"When can a vessel drawing 3.1 m come in tomorrow?"}`, "")
	assert.Equal(t, 201, code, "everybody here may talk")
	_, said = send("GET", "/api/me", "", "")
	assert.Contains(t, said, `"keyless":true`)

	link := strings.TrimSpace(s.run(t, "console").out)
	assert.Equal(t, s.url+"/#key="+key, link)
	t.Run("commands of another user", func(t *testing.T) {
		t.Setenv("XDG_CONFIG_HOME", t.TempDir())
		r := s.run(t, "try", "daylight", "-args", `{"day":"2026-06-21"}`)
		assert.Equal(t, 1, r.code)
		assert.Contains(t, r.err, "this request does not show it")
		r = s.run(t, "console")
		assert.Equal(t, s.url, strings.TrimSpace(r.out))
		assert.Contains(t, r.err, "looks and talks alone")
		t.Setenv("STONEBATON_TOKEN", key)
		assert.Zero(t, s.run(t, "try", "daylight", "-args", `{"day":"2026-06-21"}`).code)
	})
	t.Run("console", func(t *testing.T) {
		t.Setenv("XDG_CONFIG_HOME", t.TempDir()) // so that it opens without
		p := browse(t, s.url)
		p.open("/tickets")
		p.sees("Here you look and talk")
		assert.False(t, js[bool](p, `[...document.querySelectorAll("nav a")].some(a => a.innerText === "Bench")`))
		p.sound("without the key")
		p.open("/#key=" + key)
		p.until(`[...document.querySelectorAll("nav a")].some(a => a.innerText === "Bench") && location.hash === ""`)
		assert.NotContains(t, js[string](p, "document.body.innerText"), "Here you look and talk")
		p.open("/#key=local.not-the-key-of-these-records-but-of-others")
		p.sees("This is not the key of these records.")
	})
}
