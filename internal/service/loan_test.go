package service

import (
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
)

// TestLargeAnswersAreBoundedTogether: where others hold all that may be held, a large run is not
// read beside them, and a small one is; nothing stays lent when an answer or the past of a
// stream is out.
func TestLargeAnswersAreBoundedTogether(t *testing.T) {
	was := loanTime
	loanTime = 20 * time.Millisecond
	t.Cleanup(func() { loanTime = was })
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, project.Main), []byte(coretest.Main), 0o600))
	a, err := app.Open(t.Context(), app.Config{Dir: dir, Access: app.Access{Open: true}})
	require.NoError(t, err)
	s := New(a, fstest.MapFS{}, slog.New(slog.DiscardHandler), "test")
	srv := httptest.NewServer(s.Handler())
	t.Cleanup(func() { srv.CloseClientConnections(); srv.Close(); a.Close() })
	begin := func(text string) string {
		b, err := a.Engine.Begin(t.Context(), engine.Start{Text: text})
		require.NoError(t, err)
		require.NoError(t, a.Engine.Wait(t.Context()))
		return b.Run
	}
	small, large := begin("When is high water?"), begin("When is high water? "+strings.Repeat("x", int(loanSmall)))
	get := func(path, accept string) (int, http.Header, string) {
		req, err := http.NewRequestWithContext(t.Context(), "GET", srv.URL+path, nil)
		require.NoError(t, err)
		req.Header.Set("Accept", accept)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		raw, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, resp.Header, string(raw)
	}
	ways := []string{"", "/events", "/steps/1", "/turns/t1/request"}
	require.NoError(t, s.loans.Acquire(t.Context(), loanMost))
	for _, way := range ways {
		code, head, body := get("/api/runs/"+large+way, "application/json")
		assert.Equal(t, 503, code, way)
		assert.Contains(t, body, `"/problems#busy"`, way)
		assert.Equal(t, "10", head.Get("Retry-After"), way)
		code, _, _ = get("/api/runs/"+small+way, "application/json")
		assert.Equal(t, 200, code, way)
	}
	code, _, _ := get("/api/runs/"+large+"/events", "text/event-stream")
	assert.Equal(t, 503, code)
	s.loans.Release(loanMost)
	for _, way := range ways {
		code, _, _ := get("/api/runs/"+large+way, "application/json")
		assert.Equal(t, 200, code, way)
	}
	code, _, _ = get("/api/runs/"+large+"/events", "text/event-stream")
	assert.Equal(t, 200, code)
	code, _, _ = get("/api/sessions/"+strings.Split(large, "-")[0], "application/json")
	assert.Equal(t, 200, code)
	code, _, _ = get("/api/map?run="+large+"&run="+small, "application/json")
	assert.Equal(t, 200, code)
	code, _, list := get("/api/runs", "application/json")
	assert.Equal(t, 200, code)
	assert.Less(t, len(list), 4000, "a row has a text in short")
	assert.Contains(t, list, strings.Repeat("x", 400)+"…")
	assert.True(t, s.loans.TryAcquire(loanMost), "nothing is lent any more")
}
