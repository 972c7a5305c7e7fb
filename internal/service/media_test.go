package service_test

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/modelcontextprotocol/go-sdk/mcp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/api"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
)

const drawing = `
project: quay
start: desk
models:
  eyes: {speaks: chat-completions, url: "${ENDPOINT}", name: m, takes_pictures: true, timeout: 10s}
  ears: {speaks: chat-completions, url: "${ENDPOINT}", name: m, timeout: 10s}
---
agent: desk
summary: Draws.
model: eyes
prompt: Draw.
tools: [draw]
---
tool: draw
summary: Draw a chart of the tides when one is asked for.
effect: read
input: {type: object, properties: {}}
script: |
  attach("chart.png", new Uint8Array([0x89, 0x50, 0x4e, 0x47, 13, 10, 26, 10, 1]));
  attach("tone.wav", "RIFF", "audio/wav");
  return {drawn: 1}
`

// TestAPictureOfAResult: it is kept by its content, shown with the step, given to clients of the
// protocol, shown to a model that takes pictures, and a line to another.
func TestAPictureOfAResult(t *testing.T) {
	picture := []byte("\x89PNG\r\n\x1a\n\x01")
	var mu sync.Mutex
	var asked []map[string]any
	endpoint := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		var q map[string]any
		_ = json.Unmarshal(raw, &q)
		mu.Lock()
		asked = append(asked, q)
		mu.Unlock()
		w.Header().Set("Content-Type", "application/json")
		if strings.Contains(string(raw), `"role":"tool"`) {
			_, _ = io.WriteString(w, `{"choices":[{"message":{"role":"assistant","content":"It is a chart."},"finish_reason":"stop"}]}`)
			return
		}
		_, _ = io.WriteString(w, `{"choices":[{"message":{"role":"assistant","content":null,"tool_calls":[{"id":"a","type":"function","function":{"name":"draw","arguments":"{}"}}]},"finish_reason":"tool_calls"}]}`)
	}))
	defer endpoint.Close()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, project.Main), []byte(drawing), 0o600))
	r := served(t, app.Config{Dir: dir, Env: map[string]string{"ENDPOINT": endpoint.URL}})
	begin := func(model string) string {
		var b api.Begun
		require.Equal(t, 201, r.post("/api/runs", api.Start{Text: "Draw the tides.", Model: model}, &b))
		require.NoError(t, r.app.Engine.Wait(ctx))
		return b.Run
	}
	url := "data:image/png;base64," + base64.StdEncoding.EncodeToString(picture)
	hash := string(ledger.HashOf(picture))

	run := begin("eyes")
	require.Len(t, asked, 2)
	list := asked[1]["messages"].([]any)
	result, shown := list[len(list)-2].(map[string]any), list[len(list)-1].(map[string]any)
	assert.Equal(t, "tool", result["role"])
	words := result["content"].(string)
	assert.Contains(t, words, "With it came the file chart.png (image/png, 9 bytes).")
	assert.Contains(t, words, "With it came the file tone.wav (audio/wav, 4 bytes).")
	assert.NotContains(t, words, base64.StdEncoding.EncodeToString(picture))
	assert.Equal(t, map[string]any{"role": "user", "content": []any{
		map[string]any{"type": "text", "text": "chart.png, which came with the result of draw:"},
		map[string]any{"type": "image_url", "image_url": map[string]any{"url": url}}}}, shown)

	_, _, request := r.get("/api/runs/" + run + "/turns/t2/request")
	assert.Contains(t, request, "data:image/png;base64,("+hash+")", "as it is shown")
	assert.Contains(t, request, `"same":true`, "it is proven to be what was sent")
	assert.Contains(t, request, `"pictures":[{"path":"chart.png"`)
	_, _, step := r.get("/api/runs/" + run + "/steps/2")
	assert.Contains(t, step, hash)
	code, head, body := r.get("/api/runs/" + run + "/files/" + hash + "?show=1")
	assert.Equal(t, 200, code)
	assert.Equal(t, "image/png", head.Get("Content-Type"))
	assert.Equal(t, string(picture), body)

	asked = nil
	_, _, request = r.get("/api/runs/" + begin("ears") + "/turns/t2/request")
	assert.NotContains(t, request, "pictures", "it was shown none")
	require.Len(t, asked, 2)
	list = asked[1]["messages"].([]any)
	last := list[len(list)-1].(map[string]any)
	assert.Equal(t, "tool", last["role"], "no picture for one that takes none")
	assert.Contains(t, last["content"], "chart.png (image/png, 9 bytes)")

	var try struct {
		ID   int64
		Sent ledger.Sent
	}
	require.Equal(t, 200, r.post("/api/tools/draw/try", map[string]any{"args": map[string]any{}}, &try))
	require.Len(t, try.Sent.Files, 2)
	code, _, body = r.get(fmt.Sprintf("/api/tries/%d/files/%s", try.ID, hash) + "?show=1")
	assert.Equal(t, 200, code, "what was made on the bench is shown there: %s", body)
	assert.Equal(t, string(picture), body)

	c, err := mcp.NewClient(&mcp.Implementation{Name: "probe", Version: "1"}, nil).Connect(t.Context(), &mcp.StreamableClientTransport{Endpoint: r.url + "/mcp"}, nil)
	require.NoError(t, err)
	defer c.Close()
	res, err := c.CallTool(t.Context(), &mcp.CallToolParams{Name: "draw"})
	require.NoError(t, err)
	require.Len(t, res.Content, 3)
	assert.Equal(t, &mcp.ImageContent{MIMEType: "image/png", Data: picture}, res.Content[1])
	assert.Equal(t, &mcp.AudioContent{MIMEType: "audio/wav", Data: []byte("RIFF")}, res.Content[2])
}
