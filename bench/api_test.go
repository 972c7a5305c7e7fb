package bench

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"stonebaton.example/core/project"
)

// quick is a project of one agent and one tool, whose model is an endpoint that answers at once.
const quick = `project: quick
start: desk
models: {house: {speaks: chat-completions, url: "${ENDPOINT}", name: m}}
---
agent: desk
summary: Answers at the quay.
prompt: You are the desk of the quay. It is {{ now }}.
tools: [depth]
---
tool: depth
summary: Tell how deep the water is at a berth.
effect: read
input: {type: object, required: [berth], properties: {berth: {type: string, description: "Code of the berth."}}}
script: "return {metres: 3.2}"
`

// answersAtOnce is an endpoint whose first reply of a conversation calls the tool, and whose second answers.
func answersAtOnce() *httptest.Server {
	return httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		w.Header().Set("Content-Type", "application/json")
		if strings.Contains(string(raw), `"role":"tool"`) {
			_, _ = io.WriteString(w, `{"choices":[{"message":{"role":"assistant","content":"3.2 metres."},"finish_reason":"stop"}],"usage":{"prompt_tokens":100,"completion_tokens":5}}`)
			return
		}
		_, _ = io.WriteString(w, `{"choices":[{"message":{"role":"assistant","content":null,"tool_calls":[{"id":"a","type":"function","function":{"name":"depth","arguments":"{\"berth\":\"E4\"}"}}]},"finish_reason":"tool_calls"}],"usage":{"prompt_tokens":90,"completion_tokens":9}}`)
	}))
}

// BenchmarkRunThroughAPI begins runs through the API of a service in a process of its own, each
// of two turns and a call, and follows their streams, one at a time and 32 at a time. It gives
// the processor time of that process for each.
func BenchmarkRunThroughAPI(b *testing.B) {
	const runs = 1000
	endpoint := answersAtOnce()
	defer endpoint.Close()
	dir := b.TempDir()
	require.NoError(b, os.WriteFile(filepath.Join(dir, project.Main), []byte(quick), 0o600))
	b.Setenv("XDG_CONFIG_HOME", b.TempDir())
	s := exec.Command("../bin/stonebaton", "serve", dir, "-listen", "127.0.0.1:0")
	s.Env = append(os.Environ(), "ENDPOINT="+endpoint.URL)
	out, err := s.StdoutPipe()
	require.NoError(b, err)
	require.NoError(b, s.Start())
	defer func() { _ = s.Process.Signal(syscall.SIGTERM); _ = s.Wait() }()
	var url string
	_, err = fmt.Fscanf(out, "ready %s\n", &url)
	require.NoError(b, err)
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}}
	one := func() {
		resp, err := client.Post(url+"/api/runs", "application/json", strings.NewReader(`{"text":"How deep is it at E4?"}`))
		require.NoError(b, err)
		var begun struct{ Run string }
		body, _ := io.ReadAll(resp.Body)
		require.NoError(b, json.Unmarshal(body, &begun))
		require.Equal(b, 201, resp.StatusCode, "%s", body)
		resp.Body.Close()
		req, _ := http.NewRequest("GET", url+"/api/runs/"+begun.Run+"/events", nil)
		req.Header.Set("Accept", "text/event-stream")
		resp, err = client.Do(req)
		require.NoError(b, err)
		raw, err := io.ReadAll(resp.Body)
		require.NoError(b, err)
		resp.Body.Close()
		require.Contains(b, string(raw), "3.2 metres.")
	}
	batch := func(side int) {
		var g sync.WaitGroup
		left := make(chan struct{}, runs)
		for range runs {
			left <- struct{}{}
		}
		close(left)
		for range side {
			g.Go(func() {
				for range left {
					one()
				}
			})
		}
		g.Wait()
	}
	batch(32) // it warms up
	for range b.N {
		for _, side := range []int{1, 32} {
			before := ticks(b, s.Process.Pid)
			batch(side)
			b.ReportMetric(float64(ticks(b, s.Process.Pid)-before)*10/runs, fmt.Sprintf("ms-cpu/run-of-%d", side))
		}
	}
}

// ticks gives the processor time of a process in hundredths of a second.
func ticks(b *testing.B, pid int) int64 {
	b.Helper()
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	require.NoError(b, err)
	fields := strings.Fields(string(raw[strings.LastIndexByte(string(raw), ')')+1:]))
	user, err := strconv.ParseInt(fields[11], 10, 64)
	require.NoError(b, err)
	system, err := strconv.ParseInt(fields[12], 10, 64)
	require.NoError(b, err)
	return user + system
}
