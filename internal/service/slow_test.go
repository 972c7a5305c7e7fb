package service

import (
	"bufio"
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

func TestABodyThatDoesNotComeIsNotWaitedFor(t *testing.T) {
	was := bodyTime
	bodyTime = 30 * time.Millisecond
	defer func() { bodyTime = was }()
	a, err := app.Open(t.Context(), app.Config{Dir: t.TempDir()})
	require.NoError(t, err)
	defer a.Close()
	srv := httptest.NewServer(New(a, fstest.MapFS{}, slog.New(slog.DiscardHandler), "test").Handler())
	defer srv.Close()
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
