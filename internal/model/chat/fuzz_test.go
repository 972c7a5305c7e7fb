package chat_test

import (
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/model/chat"
	"stonebaton.example/internal/secret"
)

// FuzzReplies: whatever an endpoint answers, there is a reply or a failure that says why, and
// the words that were passed on begin the reply's.
func FuzzReplies(f *testing.F) {
	for kind, bodies := range map[bool][]string{
		true: {"data: {\"choices\":[{\"delta\":{\"content\":\"Yes\"}}]}\n\ndata: {\"choices\":[{\"delta\":{\"tool_calls\":[{\"index\":0,\"id\":\"a\",\"function\":{\"name\":\"x\",\"arguments\":\"{}\"}}]},\"finish_reason\":\"tool_calls\"}],\"usage\":{\"prompt_tokens\":1}}\n\ndata: [DONE]\n\n",
			"\ufeffdata: {\"choices\":[{\"delta\":{\"refusal\":\"no\"},\"finish_reason\":\"stop\"}]}\r\r", "event: error\ndata: {\"error\":\"x\"}\n\n", ": c\n\ndata\ndata:\n\n"},
		false: {`{"choices":[{"message":{"content":[{"type":"text","text":"a"}],"tool_calls":[{"function":{"name":"x","arguments":{"a":1}}}]},"finish_reason":"length"}],"usage":{"prompt_tokens":1e99}}`, `{"error":{"message":7}}`, `[]`, `null`},
	} {
		for _, b := range bodies {
			f.Add([]byte(b), kind)
		}
	}
	var body atomic.Pointer[[]byte]
	var streamed atomic.Bool
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", map[bool]string{true: "text/event-stream", false: "application/json"}[streamed.Load()])
		_, _ = w.Write(*body.Load())
	}))
	f.Cleanup(srv.Close)
	wire := chat.New(secret.New(func(string) (string, bool) { return "", false }), nil) // one, for connections to be used again
	m := &project.Model{Name: "mine", URL: srv.URL, Remote: "m", Timeout: time.Minute, Longest: time.Minute}
	f.Fuzz(func(t *testing.T, raw []byte, stream bool) {
		body.Store(&raw)
		streamed.Store(stream)
		words := ""
		r, bad := wire.Ask(t.Context(), &project.Project{}, m, deed.Request{Messages: []ledger.Message{{Role: ledger.User, Text: "Hi"}}}, func(s string) { words += s })
		if bad != nil {
			require.NotEmpty(t, bad.Say)
			require.NotEmpty(t, bad.Class)
			return
		}
		require.True(t, r.Text != "" || len(r.Calls) > 0)
		require.GreaterOrEqual(t, r.Usage.In, 0)
		require.GreaterOrEqual(t, r.Usage.Out, 0)
		require.Equal(t, r.Text, words)
	})
}
