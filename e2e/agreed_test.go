package e2e

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// register is a system of somebody else's that knows the keys of what it was sent.
type register struct {
	mu      sync.Mutex
	entries map[string]string // by key
	came    chan struct{}     // a request is being carried out
	slow    bool
}

func (r *register) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	var in struct{ Berth string }
	_ = json.NewDecoder(q.Body).Decode(&in)
	r.mu.Lock()
	if r.entries[q.Header.Get("Idempotency-Key")] == "" {
		r.entries[q.Header.Get("Idempotency-Key")] = in.Berth
	}
	slow := r.slow
	r.mu.Unlock()
	if slow { // it has happened, and the answer is on its way
		select {
		case r.came <- struct{}{}:
		default:
		}
		<-q.Context().Done()
		return
	}
	fmt.Fprintln(w, `{"id": "B-1"}`)
}

const agreed = `project: agreed
start: desk
approvers: [master]
models: {house: {speaks: understudy}}
---
tool: reserve
summary: Reserve a berth for a vessel.
effect: write
resend: key
input: {type: object, required: [berth], properties: {berth: {type: string, pattern: "^[A-F][0-9]$", description: "Berth code, such as C4."}}}
http: {method: POST, url: "%s/berths", body: {berth: "=args.berth"}}
gate: {by: [master]}
says: {done: "Reserved {{ args.berth }}, booking {{ result.id }}."}
---
agent: desk
summary: Reserves berths.
prompt: You reserve berths.
tools: [reserve]
`

// TestWhatWasAgreedHappensOnce kills the service before the ticket, while it waits, just after
// the verdict, and during the write, ten times each.
func TestWhatWasAgreedHappensOnce(t *testing.T) {
	for round := range 10 {
		reg := &register{entries: map[string]string{}, came: make(chan struct{}, 1), slow: true}
		office := httptest.NewServer(reg)
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "stonebaton.yaml"), []byte(fmt.Sprintf(agreed, office.URL)), 0o600))
		var s *server
		again := func() {
			if s != nil {
				_ = s.end(syscall.SIGKILL)
			}
			s = launch(t, "serve", dir, "-listen", "127.0.0.1:0")
		}
		post := func(path, body string) map[string]any {
			resp, err := http.Post(s.url+path, "application/json", strings.NewReader(body))
			require.NoError(t, err)
			defer resp.Body.Close()
			var out map[string]any
			require.NoError(t, json.NewDecoder(resp.Body).Decode(&out))
			return out
		}
		again()
		run := post("/api/runs", `{"text":"Reserve C4, please."}`)["run"].(string)
		again() // before the ticket, or just as it was raised
		waitFor(t, s, run, "held")
		again() // while it waits
		waitFor(t, s, run, "held")
		assert.Equal(t, "amend", post("/api/tickets/1/settle", `{"verb":"amend","args":{"berth":"D2"},"id":"x"}`)["status"])
		again() // just after the verdict
		<-reg.came
		reg.mu.Lock()
		reg.slow = false
		reg.mu.Unlock()
		again() // during the write: it has happened, and its answer did not arrive
		waitFor(t, s, run, "done")
		assert.Contains(t, s.run(t, "show", run).out, "Reserved D2, booking B-1.")
		reg.mu.Lock()
		assert.Equal(t, []string{"D2"}, slices.Collect(maps.Values(reg.entries)), "round %d: exactly what was agreed, once", round)
		reg.mu.Unlock()
		_ = s.end(syscall.SIGTERM)
		office.CloseClientConnections()
		office.Close()
	}
}
