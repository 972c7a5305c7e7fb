package chat

import (
	"encoding/json"
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
)

func TestCallsThatAreWritten(t *testing.T) {
	for name, c := range map[string]struct {
		text, words string
		calls       []ledger.Ask
	}{
		"one":         {"I look.\n```call\n{\"tool\": \"look\", \"args\": {\"name\": \"Petrel\"}}\n```\n", "I look.", []ledger.Ask{{ID: "w1", Tool: "look", Args: `{"name": "Petrel"}`}}},
		"two":         {"```call\n{\"tool\":\"a\",\"args\":{}}\n```\n```call\n{\"tool\":\"b\",\"args\":{}}\n```", "", []ledger.Ask{{ID: "w1", Tool: "a", Args: "{}"}, {ID: "w2", Tool: "b", Args: "{}"}}},
		"cut":         {"```call\n{\"tool\":\"a\",\"args\":{}}", "", []ledger.Ask{{ID: "w1", Tool: "a", Args: "{}"}}},
		"no JSON":     {"```call\n{\"tool\": \"a\", \"args\": {x}}\n```", "", []ledger.Ask{{ID: "w1", Tool: "a", Args: `{"tool": "a", "args": {x}}`}}},
		"no tool":     {"```call\nlook(Petrel)\n```", "", []ledger.Ask{{ID: "w1", Tool: "call", Args: "look(Petrel)"}}},
		"other block": {"```json\n{\"tool\":\"a\"}\n```", "```json\n{\"tool\":\"a\"}\n```", nil},
		"within":      {"say ```call now", "say ```call now", nil},
		"none":        {"Hello.", "Hello.", nil},
	} {
		words, calls := readWritten(c.text)
		assert.Equal(t, c.words, words, name)
		assert.Equal(t, c.calls, calls, name)
		for _, size := range []int{1, 3, 1000} { // however it comes in pieces, the blocks are not shown
			var seen strings.Builder
			v := &veil{to: func(s string) { seen.WriteString(s) }}
			for rest := c.text; rest != ""; {
				n := min(size, len(rest))
				v.write(rest[:n])
				rest = rest[n:]
			}
			v.end()
			assert.Equal(t, c.words, strings.TrimSpace(seen.String()), name)
		}
	}
}

func TestARequestToAModelThatWritesItsCalls(t *testing.T) {
	m := &project.Model{Name: "m", Remote: "m", Written: true}
	raw, err := Body(deed.Request{System: "You are the desk.", Choice: "look", Tools: []project.Contract{{Name: "look", Summary: "Look a vessel up.", Parameters: json.RawMessage(`{"type":"object"}`)}},
		Messages: []ledger.Message{{Role: ledger.User, Text: "How long is the Petrel?"}, {Role: ledger.Assistant, Text: "I look.", Calls: []ledger.Ask{{ID: "w1", Tool: "look", Args: `{"name":"Petrel"}`}}}, {Role: ledger.FromTool, Call: "w1", Tool: "look", Text: "12.4 m"}}}, m, Kept)
	require.NoError(t, err)
	var r Request
	require.NoError(t, json.Unmarshal(raw, &r))
	assert.Empty(t, r.Tools)
	assert.Nil(t, r.ToolChoice)
	assert.Contains(t, string(r.Messages[0].Content), "You are the desk.\n\nYou have tools.")
	assert.Contains(t, string(r.Messages[0].Content), "look: Look a vessel up.\n{\"type\":\"object\"}")
	assert.Contains(t, string(r.Messages[0].Content), "Call look now.")
	assert.Equal(t, "I look.\n\n```call\n{\"args\":{\"name\":\"Petrel\"},\"tool\":\"look\"}\n```", string(r.Messages[2].Content))
	assert.Equal(t, Message{Role: "user", Content: "The result of look:\n12.4 m"}, r.Messages[3])
	words, calls := readWritten(string(r.Messages[2].Content))
	assert.Equal(t, "I look.", words, "what it is shown is what it has to write")
	assert.Equal(t, "look", calls[0].Tool)
}

func TestAModelThatWritesItsCallsIsHeard(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		for _, piece := range []string{"I lo", "ok.\n``", "`call\n{\"tool\": \"look\", \"ar", "gs\": {}}\n```"} {
			raw, _ := json.Marshal(piece)
			_, _ = w.Write([]byte(`data: {"choices":[{"index":0,"delta":{"content":` + string(raw) + "}}]}\n\n"))
		}
		_, _ = w.Write([]byte("data: {\"choices\":[{\"index\":0,\"delta\":{},\"finish_reason\":\"stop\"}]}\n\ndata: [DONE]\n\n"))
	}))
	defer s.Close()
	var shown strings.Builder
	reply, bad := New(nothing{}, nil).Ask(t.Context(), nil, &project.Model{Name: "m", Remote: "m", URL: s.URL, Written: true, Timeout: time.Minute}, deed.Request{}, func(d string) { shown.WriteString(d) })
	require.Nil(t, bad)
	assert.Equal(t, "I look.", reply.Text)
	assert.Equal(t, []ledger.Ask{{ID: "w1", Tool: "look", Args: "{}"}}, reply.Calls)
	assert.Equal(t, "I look.\n", shown.String())
}

type nothing struct{}

func (nothing) Expand(s string) (string, error) { return s, nil }
