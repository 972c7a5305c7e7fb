package e2e

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hostile is a project whose tools do everything that tools must not do. The
// understudy calls each by its name.
const hostile = `
project: hostile
start: desk
models: {house: {speaks: understudy, lines: "*.lines.yaml"}}
limits: {same_call: 4, turns: 9}
---
tool: endless
summary: Never ends.
effect: read
timeout: 200ms
retry: 0
script: while (true) {}
---
tool: greedy
summary: Eats memory.
effect: read
timeout: 20s
retry: 0
script: |
  let s = 'x'
  while (s.length < 1048576) s += s
  const a = []
  while (true) a.push(s + a.length)
---
tool: down
summary: A host that is down.
effect: read
retry: 1
http: {url: "http://127.0.0.1:1/"}
---
tool: slow
summary: A slow host.
effect: read
timeout: 100ms
retry: 0
http: {url: "${PEER}/slow"}
---
tool: flood
summary: Sends fifty megabytes.
effect: read
retry: 0
http: {url: "${PEER}/flood"}
---
tool: elsewhere
summary: Redirects elsewhere.
effect: read
retry: 0
http: {url: "${PEER}/elsewhere"}
---
tool: unsure
summary: Writes, and breaks.
retry: 2
http: {method: POST, url: "${PEER}/broken"}
---
tool: inner
summary: Redirects to an inner address.
effect: read
retry: 0
http: {url: "${PEER}/inner", redirects: true}
---
tool: outside
summary: A program that reads and writes outside.
effect: read
retry: 0
command: {run: [sh, -c, "echo x > \"$PROJECT/.env\"; cat /etc/shadow"]}
---
tool: network
summary: A program that reaches the network.
effect: read
retry: 0
command: {run: [perl, -e, "use Socket; socket(my $s, PF_INET, SOCK_STREAM, 0) or die qq(no socket: $!\\n)"]}
---
tool: disk
summary: A program that fills the disk.
effect: read
retry: 0
timeout: 30s
command: {run: [sh, -c, "i=0; while true; do i=$((i+1)); head -c 1000000 /dev/zero > f$i; done"], disk_mb: 8}
---
agent: desk
summary: Calls what it is told to call.
prompt: You are the hostile desk.
tools: [endless, greedy, down, slow, flood, elsewhere, unsure, inner, outside, network, disk]
`

const hostileLines = `
  - {who: hostile desk, said: "^for ever$", say: "Again.", calls: [{tool: down}], again: true}
  - {who: hostile desk, said: "^for ever$", came: {from: down}, say: "Again.", calls: [{tool: down}]}
`

func TestHostileToolsGetAClearErrorAndTheServiceLives(t *testing.T) {
	hang := make(chan struct{})
	mux := http.NewServeMux()
	mux.HandleFunc("/slow", func(http.ResponseWriter, *http.Request) { <-hang })
	mux.HandleFunc("/flood", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.CopyN(w, zeros{}, 50<<20) // the reader goes before the end
	})
	mux.HandleFunc("/elsewhere", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "http://elsewhere.example/", http.StatusFound)
	})
	mux.HandleFunc("/inner", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "http://127.0.0.2:1/", http.StatusFound)
	})
	var wrote sync.Map
	mux.HandleFunc("/broken", func(w http.ResponseWriter, r *http.Request) {
		n, _ := wrote.LoadOrStore(r.Header.Get("Idempotency-Key"), 0)
		wrote.Store(r.Header.Get("Idempotency-Key"), n.(int)+1)
		w.WriteHeader(http.StatusBadGateway)
	})
	peer := httptest.NewServer(mux)
	defer peer.Close()
	defer close(hang)
	dir := t.TempDir()
	lines := ""
	for _, tool := range []string{"endless", "greedy", "down", "slow", "flood", "elsewhere", "unsure", "inner", "outside", "network", "disk"} {
		lines += fmt.Sprintf("  - {who: hostile desk, said: \"^call %s$\", calls: [{tool: %s}]}\n", tool, tool)
	}
	lines += hostileLines
	for name, text := range map[string]string{"stonebaton.yaml": hostile, "h.lines.yaml": "lines:\n" + lines, ".env": "PEER=" + peer.URL + "\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	s := launch(t, "serve", dir, "-listen", "127.0.0.1:0")
	require.NotContains(t, s.err.String(), "error:")
	for tool, words := range map[string]string{
		"endless":   "endless failed: the script had not ended after",
		"greedy":    "greedy failed: the script used more than 256 MB of memory and was interrupted",
		"down":      "down failed: 127.0.0.1:1 does not answer: connection refused.",
		"slow":      "did not answer in time",
		"flood":     "is larger than 4 MB; ask for less",
		"elsewhere": "it redirects to http://elsewhere.example/, which was not followed: say redirects: true",
		"inner":     "127.0.0.2 is a private address; say private: true",
		"outside":   "cat: /etc/shadow: Permission denied. In its sandbox it may read the system's programs, write to its own folder, and reach no network.",
		"network":   "no socket: Permission denied. In its sandbox",
		"disk":      "disk was ended: it wrote more than 8 MB to its folder",
	} {
		j := sayJSON(t, s, 0, "call "+tool)
		assert.Contains(t, j.Answer, words)
		assert.Equal(t, "failed", j.Calls[0].Status)
	}

	env, err := os.ReadFile(filepath.Join(dir, ".env"))
	require.NoError(t, err)
	assert.Equal(t, "PEER="+peer.URL+"\n", string(env), "nothing outside is touched")

	// a write whose outcome nobody knows is sent once, and a person is asked
	j := sayJSON(t, s, 4, "call unsure")
	n := 0
	wrote.Range(func(_, v any) bool { n += v.(int); return true })
	assert.Equal(t, 1, n)
	held := s.run(t, "show", j.ID)
	assert.Contains(t, held.out, "Did unsure happen? Unsure: 127.0.0.1:")
	assert.Contains(t, held.out, "stonebaton answer "+itoa(j.Tickets[0])+" happened")
	ok := s.run(t, "answer", itoa(j.Tickets[0]), "happened", "-result", `{"id": 9007199254740993}`)
	assert.Equal(t, 0, ok.code, ok.err)
	end := s.run(t, "follow", j.ID)
	assert.Contains(t, end.out, `unsure was done, says local. Its result: {"id":9007199254740993}`, "a long number stays what it is")

	// a model that always makes the same call is stopped by the limit
	j = sayJSON(t, s, 1, "for ever")
	assert.Equal(t, "failed", j.Status)
	assert.Len(t, j.Calls, 4)
	assert.Contains(t, s.run(t, "show", j.ID).out, "the same call of down in 4 turns, with the same arguments")

	list := s.run(t, "runs", "-json")
	assert.Equal(t, 12, strings.Count(list.out, `"id":`), "nothing of the ledger is lost")
	assert.NoError(t, s.end(syscall.SIGTERM))
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { return len(p), nil }
