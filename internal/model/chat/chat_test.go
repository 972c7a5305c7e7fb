package chat_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"runtime"
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
	ctx, cancel := context.WithTimeout(context.Background(), 10*limit)
	defer cancel()
	w := chat.New(secret.New(func(n string) (string, bool) { return "the-key", n == "KEY" }), nil)
	m := &project.Model{Name: "mine", URL: url, Key: "${secret:KEY}", Remote: "some-model", Timeout: limit, Longest: 10 * limit, Headers: map[string]string{"X-Team": "harbour"}}
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
		"too slow":      {status(408, ``), "server", "answered 408", true},
		"in conflict":   {status(409, ``), "server", "answered 409", true},
		"error as text": {status(400, `{"error":"no such thing"}`), "request", "(400): no such thing", false},
		"error as else": {status(400, `{"error":{"reason":7}}`), "request", `(400): {"reason":7}`, false},
		"filtered":      {stream(`{"choices":[{"delta":{"content":"Once "}}]}`, `{"choices":[{"delta":{},"finish_reason":"content_filter"}]}`), "filter", "withheld the reply by its filter", false},
		"cut in a call": {stream(`{"choices":[{"delta":{"tool_calls":[{"index":0,"id":"a","function":{"name":"look","arguments":"{\"na"}}]}}]}`, `{"choices":[{"delta":{},"finish_reason":"length"}]}`), "length", "length limit", false},
		"too large":     {stream(`{"choices":[{"delta":{"content":"` + strings.Repeat("x", 17<<20) + `"}}]}`), "large", "larger than 16 MB", false},
		"broken":        {status(503, `oops`), "server", "answered 503", true},
		"not taken":     {status(400, `{"error":{"message":"too long"}}`), "request", "did not take the request (400): too long", false},
		"cut":           {stream(`{"choices":[{"delta":{"content":"Half"}}]}`), "cut", "broke off after 4 letters", true},
		"garbled":       {stream(`{"choices":`), "cut", "not JSON", true},
		"empty":         {stream(`{"choices":[{"delta":{},"finish_reason":"stop"}]}`, "[DONE]"), "empty", "answered nothing", true},
		"length":        {stream(`{"choices":[{"delta":{},"finish_reason":"length"}]}`, "[DONE]"), "length", "length limit", false},
		"fails midway":  {stream(`{"choices":[{"delta":{"content":"a"}}]}`, `{"error":{"message":"overloaded"}}`), "server", "in the middle of its reply: overloaded", true},
		"slow":          {func(http.ResponseWriter, *http.Request) { <-hang }, "timeout", "had said nothing for 100ms", true},
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
			if bad.Retry && bad.Status > 0 {
				assert.Equal(t, 3*time.Second, bad.After, "whatever says that it is to be tried again may say when")
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
	raw, err := json.Marshal(chat.Encode(deed.Request{}, "m", chat.Kept))
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "temperature")
	raw, err = json.Marshal(chat.Encode(deed.Request{Temperature: new(0.0)}, "m", chat.Kept))
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"temperature":0`)
}

func TestSettingsAndTheShapeOfTheAnswerAreSent(t *testing.T) {
	raw, err := json.Marshal(chat.Encode(deed.Request{Seed: new(7), Choice: "some", Answer: map[string]any{"type": "object"}}, "m", chat.Kept))
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"seed":7`)
	assert.Contains(t, string(raw), `"tool_choice":"required"`)
	assert.NotContains(t, string(raw), "response_format", "only to an endpoint that takes it")
	raw, err = json.Marshal(chat.Encode(deed.Request{Choice: "look", Answer: map[string]any{"type": "object"}, Offer: true}, "m", chat.Kept))
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"tool_choice":{"function":{"name":"look"},"type":"function"}`)
	assert.Contains(t, string(raw), `"response_format":{"type":"json_schema","json_schema":{"name":"answer","schema":{"type":"object"}}}`)
}

// raw answers with a stream as it stands.
func raw(kind, body string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", kind)
		fmt.Fprint(w, body)
	}
}

func TestHabitsOfEndpoints(t *testing.T) {
	piece := func(call string) string { return `{"choices":[{"delta":{"tool_calls":[` + call + `]}}]}` }
	const end = `{"choices":[{"delta":{},"finish_reason":"tool_calls"}]}`
	look := []ledger.Ask{{ID: "a", Tool: "look", Args: `{"n":1}`}}
	both := append(look[:1:1], ledger.Ask{ID: "b", Tool: "tide", Args: `{"d":2}`})
	for name, c := range map[string]struct {
		h     http.HandlerFunc
		text  string
		calls []ledger.Ask
	}{
		"pieces without an index":      {stream(piece(`{"id":"a","function":{"name":"look","arguments":"{\"n"}}`), piece(`{"function":{"arguments":"\":1}"}}`), piece(`{"id":"b","function":{"name":"tide","arguments":"{\"d\":2}"}}`), end, "[DONE]"), "", both},
		"whole calls without anything": {stream(piece(`{"function":{"name":"look","arguments":"{\"n\":1}"}}`), piece(`{"function":{"name":"tide","arguments":"{\"d\":2}"}}`), end), "", []ledger.Ask{{Tool: "look", Args: `{"n":1}`}, {Tool: "tide", Args: `{"d":2}`}}},
		"an index that is always 0":    {stream(piece(`{"index":0,"id":"a","function":{"name":"look","arguments":"{\"n\":1}"}}`), piece(`{"index":0,"id":"b","function":{"name":"tide","arguments":"{\"d"}}`), piece(`{"index":0,"function":{"arguments":"\":2}"}}`), end), "", both},
		"the name with every piece":    {stream(piece(`{"index":0,"id":"a","function":{"name":"look","arguments":"{\"n"}}`), piece(`{"index":0,"id":"a","function":{"name":"look","arguments":"\":1}"}}`), end), "", look},
		"the name in pieces":           {stream(piece(`{"index":0,"id":"a","function":{"name":"lo"}}`), piece(`{"index":0,"function":{"name":"ok","arguments":"{\"n\":1}"}}`), end), "", look},
		"arguments as an object":       {raw("application/json", `{"choices":[{"message":{"content":null,"tool_calls":[{"id":"a","function":{"name":"look","arguments":{"n":1}}}]},"finish_reason":"tool_calls"}]}`), "", look},
		"cut, with a whole call":       {stream(piece(`{"index":0,"id":"a","function":{"name":"look","arguments":"{\"n\":1}"}}`), piece(`{"index":1,"id":"b","function":{"name":"tide","arguments":"{\"d"}}`), `{"choices":[{"delta":{},"finish_reason":"length"}]}`), "", look},
		"content in parts":             {raw("application/json", `{"choices":[{"message":{"content":[{"type":"text","text":"High "},{"type":"image_url"},{"type":"text","text":"water."}]},"finish_reason":"stop"}]}`), "High water.", nil},
		"a refusal":                    {stream(`{"choices":[{"delta":{"content":null,"refusal":"I will not."}}]}`, `{"choices":[{"delta":{},"finish_reason":"stop"}]}`), "I will not.", nil},
		"a mark of the byte order":     {raw("application/json", "\ufeff"+`{"choices":[{"message":{"content":"Yes."},"finish_reason":"stop"}]}`), "Yes.", nil},
		"one in a stream":              {raw("text/event-stream", "\ufeffdata: "+`{"choices":[{"delta":{"content":"Yes."},"finish_reason":"stop"}]}`+"\n\n"), "Yes.", nil},
		"two lines of data":            {raw("text/event-stream", "data: {\"choices\":[{\"delta\":\ndata: {\"content\":\"Yes.\"},\"finish_reason\":\"stop\"}]}\n\n"), "Yes.", nil},
		"carriage returns alone":       {raw("text/event-stream", "data: "+`{"choices":[{"delta":{"content":"Yes."}}]}`+"\r\rdata: "+`{"choices":[{"delta":{},"finish_reason":"stop"}]}`+"\r\r"), "Yes.", nil},
		"another spelling of the type": {raw("Text/Event-Stream;charset=utf-8", "data: "+`{"choices":[{"delta":{"content":"Yes."},"finish_reason":"stop"}]}`+"\n\n"), "Yes.", nil},
		"an event above 4 MB":          {stream(`{"choices":[{"delta":{"content":"Yes.","reasoning":"`+strings.Repeat("x", 5<<20)+`"},"finish_reason":"stop"}]}`, "[DONE]"), "Yes.", nil},
		"no end after its reason": {func(w http.ResponseWriter, r *http.Request) {
			stream(`{"choices":[{"delta":{"content":"Yes."},"finish_reason":"stop"}]}`)(w, r)
			w.(http.Flusher).Flush()
			<-r.Context().Done()
		}, "Yes.", nil},
		"a line that is no event": {raw("text/event-stream", ": keep alive\n\nevent: x\ndata: "+`{"choices":[{"delta":{"content":"Yes."},"finish_reason":"stop"}]}`+"\n\n"), "Yes.", nil},
	} {
		t.Run(name, func(t *testing.T) {
			srv := httptest.NewServer(c.h)
			defer srv.Close()
			r, bad, _ := ask(t, srv.URL, time.Minute)
			require.Nil(t, bad, "%+v", bad)
			assert.Equal(t, c.text, r.Text)
			assert.Equal(t, c.calls, r.Calls)
		})
	}
}

func TestUsageThatCannotBeIsNotCounted(t *testing.T) {
	for usage, want := range map[string]ledger.Usage{
		`{"prompt_tokens":30,"completion_tokens":6.2}`:       {In: 30, Out: 7},
		`{"prompt_tokens":"30","completion_tokens":7}`:       {In: 30, Out: 7},
		`{"prompt_tokens":30,"completion_tokens":-7}`:        {Estimated: true},
		`{"prompt_tokens":-1e30,"completion_tokens":7}`:      {Estimated: true},
		`{"prompt_tokens":9e18,"completion_tokens":9e18}`:    {Estimated: true},
		`{"prompt_tokens":null,"completion_tokens":null}`:    {Estimated: true},
		`{"prompt_tokens":1e999,"completion_tokens":"lots"}`: {Estimated: true},
	} {
		srv := httptest.NewServer(stream(`{"choices":[{"delta":{"content":"Yes."},"finish_reason":"stop"}]}`, `{"choices":[],"usage":`+usage+`}`, "[DONE]"))
		r, bad, _ := ask(t, srv.URL, time.Minute)
		srv.Close()
		require.Nil(t, bad, "%s: %+v", usage, bad)
		if want.Estimated {
			assert.True(t, r.Usage.Estimated, usage)
			assert.Positive(t, r.Usage.In)
			assert.Positive(t, r.Usage.Out)
			continue
		}
		assert.Equal(t, want, r.Usage, usage)
	}
}

func TestASteadyStreamMayTakeLongerThanASilence(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		for range 20 {
			fmt.Fprint(w, "data: {\"choices\":[{\"delta\":{\"content\":\"x\"}}]}\n\n")
			w.(http.Flusher).Flush()
			select {
			case <-time.After(20 * time.Millisecond):
			case <-r.Context().Done():
			}
		}
		fmt.Fprint(w, "data: {\"choices\":[{\"delta\":{},\"finish_reason\":\"stop\"}]}\n\n")
	}))
	defer srv.Close()
	w := chat.New(secret.New(func(string) (string, bool) { return "", false }), nil)
	m := &project.Model{Name: "mine", URL: srv.URL, Timeout: 300 * time.Millisecond, Longest: time.Minute}
	r, bad := w.Ask(t.Context(), &project.Project{}, m, deed.Request{}, func(string) {})
	require.Nil(t, bad, "%+v", bad)
	assert.Len(t, r.Text, 20)
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond) // as the engine bounds the whole
	defer cancel()
	_, bad = w.Ask(ctx, &project.Project{}, m, deed.Request{}, func(string) {})
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "had not ended after 1m0s")
}

func TestNoRedirectLeadsToAnotherOrigin(t *testing.T) {
	reached := false
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { reached = true }))
	defer other.Close()
	for _, code := range []int{301, 302, 303, 307, 308} {
		srv := httptest.NewServer(http.RedirectHandler(other.URL+"/v1/chat/completions", code))
		_, bad, _ := ask(t, srv.URL, time.Minute)
		srv.Close()
		require.NotNil(t, bad)
		assert.False(t, reached, "%d", code)
		assert.Contains(t, bad.Say, "which is not followed")
		assert.False(t, bad.Retry)
	}
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/chat/completions" {
			http.Redirect(w, r, "/v2/chat/completions", http.StatusPermanentRedirect)
			return
		}
		assert.Equal(t, "Bearer the-key", r.Header.Get("Authorization"))
		stream(`{"choices":[{"delta":{"content":"Yes."},"finish_reason":"stop"}]}`)(w, r)
	}))
	defer srv.Close()
	r, bad, _ := ask(t, srv.URL, time.Minute)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "Yes.", r.Text, "on its own origin one is followed, with the request as it was")
}

func TestCallsInManyPiecesTakeTimeByTheirSize(t *testing.T) {
	calls := func(n int) string {
		var b strings.Builder
		b.WriteString("data: {\"choices\":[{\"delta\":{\"tool_calls\":[{\"index\":0,\"id\":\"a\",\"function\":{\"name\":\"look\",\"arguments\":\"\\\"\"}}]}}]}\n\n")
		for range n {
			b.WriteString("data: {\"choices\":[{\"delta\":{\"tool_calls\":[{\"index\":0,\"function\":{\"arguments\":\"xxxxxxxx\"}}]}}]}\n\n")
		}
		return b.String() + "data: {\"choices\":[{\"delta\":{\"tool_calls\":[{\"index\":0,\"function\":{\"arguments\":\"\\\"\"}}]},\"finish_reason\":\"tool_calls\"}]}\n\n"
	}
	allocated := func(n int) uint64 {
		srv := httptest.NewServer(raw("text/event-stream", calls(n)))
		defer srv.Close()
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		r, bad, _ := ask(t, srv.URL, time.Minute)
		runtime.ReadMemStats(&after)
		require.Nil(t, bad, "%+v", bad)
		require.Len(t, r.Calls[0].Args, 8*n+2)
		return after.TotalAlloc - before.TotalAlloc
	}
	small, large := allocated(2_000), allocated(16_000)
	assert.Less(t, large, 16*small, "eight times as much takes about eight times as much")
}

func TestTooManyCallsAreRefusedInWords(t *testing.T) {
	var b strings.Builder
	for i := range 1001 {
		fmt.Fprintf(&b, "data: {\"choices\":[{\"delta\":{\"tool_calls\":[{\"index\":%d,\"id\":\"c%[1]d\",\"function\":{\"name\":\"look\",\"arguments\":\"{}\"}}]}}]}\n\n", i)
	}
	srv := httptest.NewServer(raw("text/event-stream", b.String()))
	defer srv.Close()
	_, bad, _ := ask(t, srv.URL, time.Minute)
	require.NotNil(t, bad)
	assert.Equal(t, `the model "mine" makes more than 1000 calls in one reply`, bad.Say)
}
