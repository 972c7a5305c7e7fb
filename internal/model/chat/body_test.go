package chat_test

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/model/chat"
	"stonebaton.example/internal/secret"
)

// TestAnEndpointWithHabitsOfItsOwn: a query in its URL, fields that it wants beside, and other
// names for those there are.
func TestAnEndpointWithHabitsOfItsOwn(t *testing.T) {
	var at string
	var body map[string]any
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		at = r.Method + " " + r.URL.String() + " " + r.Header.Get("Authorization") + " " + r.Header.Get("X-Team")
		raw, _ := io.ReadAll(r.Body)
		body = nil
		_ = json.Unmarshal(raw, &body)
		w.Header().Set("Content-Type", "application/json")
		switch r.URL.Path {
		case "/v1/models":
			_, _ = io.WriteString(w, `{"object":"list","data":[{"id":"small"},{"id":"large"}]}`)
		case "/none/models":
			_, _ = io.WriteString(w, `{"detail":"no such thing"}`)
		default:
			_, _ = io.WriteString(w, `{"choices":[{"message":{"content":"yes"},"finish_reason":"stop"}]}`)
		}
	}))
	defer srv.Close()
	w := chat.New(secret.New(func(n string) (string, bool) { return "the-key", n == "KEY" }), nil)
	m := &project.Model{Name: "mine", Speaks: "chat-completions", URL: srv.URL + "/v1?api-version=2", Key: "${secret:KEY}", Remote: "small", MaxTokens: 9, Timeout: 5 * time.Second, Longest: 5 * time.Second,
		Headers: map[string]string{"X-Team": "harbour"}, Extra: map[string]any{"reasoning_effort": "low", "nested": map[string]any{"a": 1.0}}, Fields: map[string]string{"max_tokens": "max_completion_tokens", "seed": "random_seed"}}
	reply, bad := w.Ask(context.Background(), nil, m, deed.Request{System: "s", MaxTokens: 9, Messages: []ledger.Message{{Role: ledger.User, Text: "Are you there?"}}}, func(string) {})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "yes", reply.Text)
	assert.Equal(t, "POST /v1/chat/completions?api-version=2 Bearer the-key harbour", at)
	assert.Equal(t, "low", body["reasoning_effort"])
	assert.Equal(t, map[string]any{"a": 1.0}, body["nested"])
	assert.Equal(t, 9.0, body["max_completion_tokens"])
	assert.NotContains(t, body, "max_tokens")
	assert.NotContains(t, body, "random_seed", "what is not sent has no other name")
	assert.Equal(t, "small", body["model"])

	list, bad := w.List(context.Background(), m)
	require.Nil(t, bad)
	assert.Equal(t, []string{"large", "small"}, list)
	assert.Equal(t, "GET /v1/models?api-version=2 Bearer the-key harbour", at)
	m.URL = srv.URL + "/none"
	_, bad = w.List(context.Background(), m)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "is not a list of models")
	m.URL = "http://127.0.0.1:1"
	_, bad = w.List(context.Background(), m)
	require.NotNil(t, bad)
	assert.Equal(t, deed.Class("unreachable"), bad.Class)
}
