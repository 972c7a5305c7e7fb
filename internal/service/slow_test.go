package service

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/internal/app"
)

// slow serves a project to slow peers. Ended gets each connection that is closed.
func slow(t *testing.T, files fstest.MapFS) (srv *httptest.Server, ended <-chan struct{}) {
	t.Helper()
	was, wasWrite := bodyTime, writeTime
	bodyTime, writeTime = 30*time.Millisecond, 30*time.Millisecond
	a, err := app.Open(t.Context(), app.Config{Dir: t.TempDir(), Access: app.Access{Open: true}})
	require.NoError(t, err)
	closed := make(chan struct{}, 100)
	srv = httptest.NewUnstartedServer(New(a, files, slog.New(slog.DiscardHandler), "test").Handler())
	srv.Config.ConnState = func(_ net.Conn, s http.ConnState) {
		if s == http.StateClosed {
			closed <- struct{}{}
		}
	}
	srv.Start()
	t.Cleanup(func() {
		srv.CloseClientConnections()
		srv.Close()
		a.Close()
		bodyTime, writeTime = was, wasWrite
	})
	return srv, closed
}

func TestWhoDoesNotReadHoldsNothing(t *testing.T) {
	srv, ended := slow(t, fstest.MapFS{"assets/large.js": {Data: bytes.Repeat([]byte("0123456789abcdef"), 1<<20)}})
	for range 20 {
		c, err := net.Dial("tcp", srv.Listener.Addr().String())
		require.NoError(t, err)
		defer c.Close()
		fmt.Fprintf(c, "GET /assets/large.js HTTP/1.1\r\nHost: %s\r\n\r\n", srv.Listener.Addr())
	}
	for range 20 {
		select {
		case <-ended:
		case <-time.After(20 * time.Second):
			require.Fail(t, "a peer that does not read is waited for")
		}
	}
}

func TestABodyThatDoesNotComeIsNotWaitedForByHandlersOfOthers(t *testing.T) {
	srv, ended := slow(t, nil)
	c, err := net.Dial("tcp", srv.Listener.Addr().String())
	require.NoError(t, err)
	defer c.Close()
	fmt.Fprintf(c, "POST /mcp HTTP/1.1\r\nHost: %s\r\nContent-Type: application/json\r\nAccept: application/json, text/event-stream\r\nContent-Length: 100\r\n\r\n{\"js", srv.Listener.Addr())
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		require.Fail(t, "it is waited for")
	}
}

func TestMetricsKnowAFewMethods(t *testing.T) {
	srv, _ := slow(t, nil)
	for _, m := range []string{"GET", "BREW", "X-1", "X-2"} {
		req, err := http.NewRequest(m, srv.URL+"/healthz", nil)
		require.NoError(t, err)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		resp.Body.Close()
	}
	resp, err := http.Get(srv.URL + "/metrics")
	require.NoError(t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	assert.Contains(t, string(raw), `method="other"`)
	assert.NotContains(t, string(raw), "BREW")
	assert.NotContains(t, string(raw), "X-1")
}

func TestABodyThatDoesNotComeIsNotWaitedFor(t *testing.T) {
	srv, _ := slow(t, nil)
	c, err := net.Dial("tcp", srv.Listener.Addr().String())
	require.NoError(t, err)
	defer c.Close()
	fmt.Fprintf(c, "POST /api/runs HTTP/1.1\r\nHost: %s\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{\"te", srv.Listener.Addr())
	resp, err := http.ReadResponse(bufio.NewReader(c), nil)
	require.NoError(t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	assert.Equal(t, http.StatusRequestTimeout, resp.StatusCode)
	assert.Contains(t, string(raw), "the body had not arrived after 30ms")
}
