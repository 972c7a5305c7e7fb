package e2e

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/ledger"
)

// quay is a service that does what the project's tools ask for, and counts it by the key of
// each call. It lives on when ours is killed.
type quay struct {
	*httptest.Server
	mu   sync.Mutex
	done map[string]int
}

func newQuay(t *testing.T) *quay {
	q := &quay{done: map[string]int{}}
	q.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			q.mu.Lock()
			q.done[r.URL.Path+" "+r.Header.Get("Idempotency-Key")]++
			q.mu.Unlock()
			time.Sleep(60 * time.Millisecond) // so that some kills come after the deed and before the answer
		}
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, `{"depth_m": 4.5}`)
	}))
	t.Cleanup(q.Close)
	return q
}

// did says how often a path was asked for, in all.
func (q *quay) did(path string) (n int) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for k, times := range q.done {
		if strings.HasPrefix(k, path+" ") {
			n += times
		}
	}
	return n
}

// has says whether a path was asked for with a key.
func (q *quay) has(path, key string) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.done[path+" "+key] > 0
}

// quayProject gives a folder with the project.
func quayProject(t *testing.T, q *quay) string {
	dir := filepath.Join(t.TempDir(), "quay")
	require.NoError(t, os.CopyFS(dir, os.DirFS("testdata/quay")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".env"), []byte("QUAY_URL="+q.URL+"\n"), 0o600))
	return dir
}

// decide settles what waits: gates are amended; of what was lost the person looks whether
// the quay did it.
func decide(t *testing.T, s *server, q *quay) {
	r := s.run(t, "tickets", "-json")
	if r.code != 0 {
		return // it was killed meanwhile
	}
	var tickets []struct {
		ID              int
		Run, Form, Tool string
		Step            ledger.StepID
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &tickets), r.out)
	for _, tk := range tickets {
		switch {
		case tk.Form == "gate":
			s.run(t, "amend", itoa(tk.ID), "-args", `{"berth":"D2"}`)
		case q.has("/"+tk.Tool, ledger.Key(tk.Run, tk.Step)):
			s.run(t, "answer", itoa(tk.ID), "happened", "-result", "{}")
		default:
			s.run(t, "answer", itoa(tk.ID), "not_happened")
		}
	}
}

func TestATreeOfThreadsThroughFortyKills(t *testing.T) {
	throughKills(t, 40, `{"text":"bring her in"}`, []string{"All is ready: It is 4.5 m deep.", "Reserved, and the flag is up."}, map[string]any{"booking": "D2", "depth_m": 4.5}, 1, 1)
}

func TestAListOfConsultsInARelayThroughTwentyKills(t *testing.T) {
	throughKills(t, 20, `{"relay":"rounds","input":{"piers":["North","South","East","West"]}}`, []string{"North is ready; South is ready; East is ready; West is ready"}, map[string]any{}, 0, 4)
}

func TestAPlanThroughTwentyKills(t *testing.T) {
	throughKills(t, 20, `{"relay":"voyage"}`, []string{"She is in."}, map[string]any{"booking": "D2", "depth_m": 4.5}, 1, 1)
}

// throughKills kills the service at moments of chance while a run goes on, in rounds of ten,
// and holds that the run comes to what it says, and that no deed is doubled or lost.
func throughKills(t *testing.T, most int, body string, says []string, state map[string]any, reserved, hoisted int) {
	t.Helper()
	if os.Getenv("ATTACK") != "" { // make attack
		most *= 4
	}
	kills := 0
	for kills < most {
		q := newQuay(t)
		dir := quayProject(t, q)
		serve := func() *server { return launch(t, "serve", dir, "-listen", "127.0.0.1:0", "-data", dir+"-data") }
		s := serve()
		resp, err := http.Post(s.url+"/api/runs", "application/json", strings.NewReader(body))
		require.NoError(t, err)
		var b struct{ Run string }
		require.NoError(t, json.NewDecoder(resp.Body).Decode(&b))
		resp.Body.Close()
		status := func() string {
			r := s.run(t, "runs", "-json")
			var runs []struct{ ID, Status string }
			require.NoError(t, json.Unmarshal([]byte(r.out), &runs), r.err)
			for _, x := range runs {
				if x.ID == b.Run {
					return x.Status
				}
			}
			return ""
		}
		for range 10 {
			time.Sleep(time.Duration(rand.IntN(120)) * time.Millisecond) // the moment of the kill is chance
			_ = s.end(syscall.SIGKILL)
			kills++
			s = serve()
			if kills%2 == 0 {
				decide(t, s, q)
			}
		}
		require.Eventually(t, func() bool {
			decide(t, s, q)
			return status() == "done"
		}, 30*time.Second, 50*time.Millisecond, "%s", s.run(t, "show", b.Run).out)
		one := s.run(t, "show", b.Run)
		for _, x := range says {
			assert.Contains(t, one.out, x)
		}
		r := s.run(t, "show", b.Run, "-json")
		var run struct {
			Run struct{ State map[string]any }
		}
		require.NoError(t, json.Unmarshal([]byte(r.out), &run))
		assert.Equal(t, state, run.Run.State)
		assert.Equal(t, []int{reserved, hoisted}, []int{q.did("/reserve"), q.did("/hoist")}, "no deed is doubled, none is lost: %v", q.done)
		_ = s.end(syscall.SIGTERM)
	}
}
