package chat_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
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

func ask(t *testing.T, url string, limit time.Duration) (deed.Reply, *deed.ModelFailure, string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	w := chat.New(secret.New(func(n string) (string, bool) { return "the-key", n == "KEY" }))
	m := &project.Model{Name: "mine", URL: url, Key: "${secret:KEY}", Remote: "some-model", Timeout: limit, Headers: map[string]string{"X-Team": "harbour"}}
	var words strings.Builder
	r, bad := w.Ask(ctx, &project.Project{}, m, deed.Request{System: "Be brief.", Temperature: new(0.5),
		Messages: []ledger.Message{{Role: ledger.User, Text: "Hi"}, {Role: ledger.Assistant, Calls: []ledger.Ask{{ID: "c1", Tool: "look", Args: "{}"}}}, {Role: ledger.FromTool, Tool: "look", Call: "c1", Text: "seen"}},
		Tools:    []project.Contract{{Name: "look", Summary: "Look.", Parameters: json.RawMessage(`{"type":"object"}`)}}}, func(s string) { words.WriteString(s) })
	return r, bad, words.String()
}

func stream(pieces ...string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		for _, p := range pieces {
			fmt.Fprintf(w, "data: %s\n\n", p)
		}
	}
}

func TestTheRequestAndItsStream(t *testing.T) {
	var got map[string]any
	var head http.Header
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		head = r.Header
		assert.Equal(t, "/v1/chat/completions", r.URL.Path)
		_ = json.NewDecoder(r.Body).Decode(&got)
		stream(`{"model":"some-model-2","choices":[{"delta":{"role":"assistant","content":"Let me "}}]}`, `{"choices":[{"delta":{"content":"look."}}]}`,
			`{"choices":[{"delta":{"tool_calls":[{"index":0,"id":"a","function":{"name":"look","arguments":"{\"na"}},{"index":1,"id":"b","function":{"name":"tide","arguments":""}}]}}]}`,
			`{"choices":[{"delta":{"tool_calls":[{"index":0,"function":{"arguments":"me\":1}"}}]}}]}`,
			`{"choices":[{"delta":{},"finish_reason":"tool_calls"}]}`, `{"choices":[],"usage":{"prompt_tokens":30,"completion_tokens":7}}`, "[DONE]")(w, r)
	}))
	defer srv.Close()
	r, bad, words := ask(t, srv.URL+"/v1/", time.Minute)
	require.Nil(t, bad)
	assert.Equal(t, "Bearer the-key", head.Get("Authorization"))
	assert.Equal(t, "harbour", head.Get("X-Team"))
	assert.Equal(t, "some-model", got["model"])
	assert.Equal(t, true, got["stream"])
	msgs := got["messages"].([]any)
	require.Len(t, msgs, 4)
	assert.Equal(t, "system", msgs[0].(map[string]any)["role"])
	assert.Equal(t, "c1", msgs[3].(map[string]any)["tool_call_id"])
	assert.Equal(t, "Let me look.", r.Text)
	assert.Equal(t, "Let me look.", words, "the words came as they were")
	assert.Equal(t, []ledger.Ask{{ID: "a", Tool: "look", Args: `{"name":1}`}, {ID: "b", Tool: "tide"}}, r.Calls)
	assert.Equal(t, ledger.Usage{In: 30, Out: 7}, r.Usage)
	assert.Equal(t, "calls", r.Finish)
	assert.Equal(t, "some-model-2", r.Model)
}

func TestAWholeReplyAndAnEstimate(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, `{"choices":[{"message":{"content":"Hello there."},"finish_reason":"stop"}]}`)
	}))
	defer srv.Close()
	r, bad, words := ask(t, srv.URL, time.Minute)
	require.Nil(t, bad)
	assert.Equal(t, "Hello there.", words)
	assert.True(t, r.Usage.Estimated)
	assert.Positive(t, r.Usage.In)
}

func TestWhatGoesWrongOnTheWire(t *testing.T) {
	status := func(code int, body string) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Retry-After", "3")
			w.WriteHeader(code)
			fmt.Fprint(w, body)
		}
	}
	hang := make(chan struct{})
	defer close(hang)
	for name, c := range map[string]struct {
		h          http.HandlerFunc
		class, say string
		retry      bool
	}{
		"wrong key":     {status(401, `{"error":{"message":"bad key the-key"}}`), "key", `refused the key (401): bad key`, false},
		"no such model": {status(404, `{"error":{"message":"unknown"}}`), "model", `knows no model "some-model" (404): unknown`, false},
		"too many":      {status(429, ``), "rate", "429", true},
		"broken":        {status(503, `oops`), "server", "answered 503", true},
		"not taken":     {status(400, `{"error":{"message":"too long"}}`), "request", "did not take the request (400): too long", false},
		"cut":           {stream(`{"choices":[{"delta":{"content":"Half"}}]}`), "cut", "broke off after 4 letters", true},
		"garbled":       {stream(`{"choices":`), "cut", "not JSON", true},
		"empty":         {stream(`{"choices":[{"delta":{},"finish_reason":"stop"}]}`, "[DONE]"), "empty", "answered nothing", true},
		"length":        {stream(`{"choices":[{"delta":{},"finish_reason":"length"}]}`, "[DONE]"), "length", "length limit", false},
		"fails midway":  {stream(`{"choices":[{"delta":{"content":"a"}}]}`, `{"error":{"message":"overloaded"}}`), "server", "in the middle of its reply: overloaded", true},
		"slow":          {func(http.ResponseWriter, *http.Request) { <-hang }, "timeout", "had not answered after 100ms", true},
	} {
		t.Run(name, func(t *testing.T) {
			srv := httptest.NewUnstartedServer(c.h)
			srv.Start()
			t.Cleanup(srv.CloseClientConnections)
			limit := time.Minute
			if name == "slow" {
				limit = 100 * time.Millisecond
			}
			_, bad, _ := ask(t, srv.URL, limit)
			require.NotNil(t, bad)
			assert.EqualValues(t, c.class, bad.Class)
			assert.Contains(t, bad.Say, c.say)
			assert.Equal(t, c.retry, bad.Retry)
			if name == "too many" {
				assert.Equal(t, 3*time.Second, bad.After)
			}
		})
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l.Close()
	_, bad, _ := ask(t, "http://"+l.Addr().String(), time.Minute)
	require.NotNil(t, bad)
	assert.EqualValues(t, "unreachable", bad.Class)
	_, bad, _ = ask(t, "${MODEL_URL}/v1", time.Minute)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "MODEL_URL")
}

func TestAURLMayHaveAQuery(t *testing.T) {
	var got string
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got = r.URL.String()
		stream(`{"choices":[{"delta":{"content":"x"},"finish_reason":"stop"}]}`, "[DONE]")(w, r)
	}))
	defer srv.Close()
	for url, want := range map[string]string{"/v1?api-version=2026-10-01": "/v1/chat/completions?api-version=2026-10-01", "/v1/": "/v1/chat/completions", "": "/chat/completions"} {
		_, bad, _ := ask(t, srv.URL+url, time.Minute)
		require.Nil(t, bad, "%+v", bad)
		assert.Equal(t, want, got)
	}
}

func TestReasoningIsKeptApartFromTheAnswer(t *testing.T) {
	for _, field := range []string{"reasoning_content", "reasoning"} {
		srv := httptest.NewServer(stream(`{"choices":[{"delta":{"`+field+`":"Let me "}}]}`, `{"choices":[{"delta":{"`+field+`":"think."}}]}`, `{"choices":[{"delta":{"content":"Yes."},"finish_reason":"stop"}]}`, "[DONE]"))
		r, bad, words := ask(t, srv.URL, time.Minute)
		srv.Close()
		require.Nil(t, bad)
		assert.Equal(t, "Let me think.", r.Reasoning)
		assert.Equal(t, "Yes.", r.Text)
		assert.Equal(t, "Yes.", words, "nor is it passed on as words")
	}
}

func TestWhatIsNotSetIsNotSent(t *testing.T) {
	raw, err := json.Marshal(chat.Encode(deed.Request{}, "m"))
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "temperature")
	raw, err = json.Marshal(chat.Encode(deed.Request{Temperature: new(0.0)}, "m"))
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"temperature":0`)
}

func TestSettingsAndTheShapeOfTheAnswerAreSent(t *testing.T) {
	raw, err := json.Marshal(chat.Encode(deed.Request{Seed: new(7), Choice: "some", Answer: map[string]any{"type": "object"}}, "m"))
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"seed":7`)
	assert.Contains(t, string(raw), `"tool_choice":"required"`)
	assert.NotContains(t, string(raw), "response_format", "only to an endpoint that takes it")
	raw, err = json.Marshal(chat.Encode(deed.Request{Choice: "look", Answer: map[string]any{"type": "object"}, Offer: true}, "m"))
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"tool_choice":{"function":{"name":"look"},"type":"function"}`)
	assert.Contains(t, string(raw), `"response_format":{"type":"json_schema","json_schema":{"name":"answer","schema":{"type":"object"}}}`)
}
