package service

import (
	"errors"
	"io"
	"net/http"
	"slices"
	"time"

	"github.com/labstack/echo/v5"
)

// Bounds of what a peer may take; tests shorten them.
var (
	bodyTime  = 20 * time.Second // for a request's body to come
	writeTime = 30 * time.Second // for an answer to be read, or one message of a stream
)

// pace bounds how long a peer may take to read its answer, so that those who do not read hold
// neither the answer nor a goroutine for ever. Streams set their own for each message.
func pace(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if r, err := echo.UnwrapResponse(c.Response()); err == nil {
			ctl := http.NewResponseController(c.Response())
			r.Before(func() { _ = ctl.SetWriteDeadline(time.Now().Add(writeTime)) }) // not every writer can; then it blocks
		}
		return next(c)
	}
}

// timely is a body that has to come in time. Where it does not the connection ends, and what
// is left of the body with it.
type timely struct {
	io.ReadCloser
	ctl   *http.ResponseController
	begun bool
}

func timelyBody(w http.ResponseWriter, body io.ReadCloser) io.ReadCloser {
	return &timely{ReadCloser: body, ctl: http.NewResponseController(w)}
}

func (t *timely) Read(p []byte) (int, error) {
	if !t.begun {
		t.begun = true
		_ = t.ctl.SetReadDeadline(time.Now().Add(bodyTime)) // likewise: then a slow peer costs its own goroutine
	}
	n, err := t.ReadCloser.Read(p)
	if errors.Is(err, io.EOF) {
		_ = t.ctl.SetReadDeadline(time.Time{}) // the connection is watched further
	}
	return n, err
}

// methods are those that metrics tell apart; a peer may send any word.
var methods = []string{http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, http.MethodOptions}

func methodLabel(m string) string {
	if slices.Contains(methods, m) {
		return m
	}
	return "other"
}
