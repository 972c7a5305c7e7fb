package toolserver

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"

	"github.com/modelcontextprotocol/go-sdk/jsonrpc"
	"github.com/modelcontextprotocol/go-sdk/mcp"
)

// The protocol wants that a call which its client takes back is not answered, and says why it
// was taken back beside the call. The library ends the call's context and answers with that
// error; so the messages are looked at where they come in and go out.

// requestHeader is where the id of a request over HTTP stands for its handler; requestMeta is
// the same of one over standard input. What a client sends there counts for nothing.
const (
	requestHeader = "X-Stonebaton-Request"
	requestMeta   = "stonebaton/request"
)

// maxTaken bounds the reasons that are kept: those of calls that were over already stay.
const maxTaken = 1000

// taken keeps why calls were taken back, by their session and id.
type taken struct {
	mu      sync.Mutex
	reasons map[string]string
}

func (t *taken) add(session, id, reason string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.reasons == nil || len(t.reasons) >= maxTaken {
		t.reasons = map[string]string{}
	}
	t.reasons[session+" "+id] = reason
}

// because says why a call ended before it was answered.
func (t *taken) because(session, id string) string {
	t.mu.Lock()
	defer t.mu.Unlock()
	reason, ok := t.reasons[session+" "+id]
	delete(t.reasons, session+" "+id)
	switch {
	case !ok && session == "":
		return "the client closed the request, which cancels it"
	case !ok:
		return "the client went away"
	case reason == "":
		return "the client cancelled the call"
	}
	return "the client cancelled the call: " + reason
}

const (
	calling    = "tools/call"
	cancelling = "notifications/cancelled"
)

// note is what is looked at of a message.
type note struct {
	ID     json.RawMessage `json:"id"`
	Method string          `json:"method"`
	Params struct {
		Request json.RawMessage `json:"requestId"`
		Reason  string          `json:"reason"`
	} `json:"params"`
}

// maxMessage bounds a message over HTTP.
const maxMessage = 32 << 20

// watch looks at the messages of requests over HTTP before a handler has them.
func (t *taken) watch(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.Header.Del(requestHeader)
		if r.Method != http.MethodPost {
			next.ServeHTTP(w, r)
			return
		}
		body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxMessage))
		if err != nil {
			http.Error(w, fmt.Sprintf("the message has more than %d MB, or did not come whole", maxMessage>>20), http.StatusRequestEntityTooLarge)
			return
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		var n note
		if json.Unmarshal(body, &n) == nil {
			switch n.Method {
			case calling:
				r.Header.Set(requestHeader, string(n.ID))
				w = &unanswered{w}
			case cancelling:
				t.add(r.Header.Get(sessionHeader), string(n.Params.Request), n.Params.Reason)
			}
		}
		next.ServeHTTP(w, r)
	})
}

// wentBack is the answer to a call that was taken back.
var wentBack = []byte(`"error":{"code":0,"message":"` + context.Canceled.Error() + `"}`)

// unanswered leaves out the answer to a call that was taken back.
type unanswered struct{ http.ResponseWriter }

func (u *unanswered) Write(b []byte) (int, error) {
	if len(b) < 1000 && bytes.Contains(b, wentBack) {
		return len(b), nil
	}
	return u.ResponseWriter.Write(b)
}

// Unwrap is how the stream is flushed.
func (u *unanswered) Unwrap() http.ResponseWriter { return u.ResponseWriter }

// watched is a transport whose messages are looked at.
type watched struct {
	mcp.Transport
	taken *taken
}

func (w watched) Connect(ctx context.Context) (mcp.Connection, error) {
	c, err := w.Transport.Connect(ctx)
	return &watchedConn{c, w.taken}, err
}

type watchedConn struct {
	mcp.Connection
	taken *taken
}

func (c *watchedConn) Read(ctx context.Context) (jsonrpc.Message, error) {
	m, err := c.Connection.Read(ctx)
	r, ok := m.(*jsonrpc.Request)
	if !ok {
		return m, err
	}
	switch r.Method {
	case calling:
		var params map[string]any
		if json.Unmarshal(r.Params, &params) == nil && params != nil {
			meta, _ := params["_meta"].(map[string]any)
			if meta == nil {
				meta = map[string]any{}
			}
			meta[requestMeta] = text(r.ID.Raw())
			params["_meta"] = meta
			if raw, err := json.Marshal(params); err == nil {
				with := *r
				with.Params = raw
				return &with, nil
			}
		}
	case cancelling:
		var n note
		raw := r.Params
		if json.Unmarshal(raw, &n.Params) == nil {
			c.taken.add(stdio, string(n.Params.Request), n.Params.Reason)
		}
	}
	return m, err
}

func (c *watchedConn) Write(ctx context.Context, m jsonrpc.Message) error {
	if r, ok := m.(*jsonrpc.Response); ok && r.Error != nil && strings.HasSuffix(r.Error.Error(), context.Canceled.Error()) {
		return nil
	}
	return c.Connection.Write(ctx, m)
}

// stdio stands for the one session over standard input.
const stdio = "stdio"

// text gives an id as it stands in a message.
func text(id any) string {
	raw, err := json.Marshal(id)
	if err != nil {
		return ""
	}
	return string(raw)
}

// request names the session and the id of a call.
func request(req *mcp.CallToolRequest) (session, id string) {
	if id, ok := req.Params.Meta[requestMeta].(string); ok {
		return stdio, id
	}
	if req.Extra == nil {
		return "", ""
	}
	return req.Session.ID(), req.Extra.Header.Get(requestHeader)
}
