package mcp_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	sdk "github.com/modelcontextprotocol/go-sdk/mcp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/examples/harbour/station"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/sandbox"
	"stonebaton.example/internal/tools/mcp"
	"stonebaton.example/internal/tools/tooltest"
	"stonebaton.example/internal/tools/web"
)

// TestMain makes this test binary a tool server where it is asked to be one.
func TestMain(m *testing.M) {
	if how := os.Getenv("TOOL_SERVER"); how != "" {
		serve(how)
		return
	}
	os.Exit(m.Run())
}

func serve(how string) {
	ctx := context.Background()
	switch how {
	case "good":
		_ = station.Server().Run(ctx, &sdk.StdioTransport{})
	case "dies":
		s := station.Server()
		sdk.AddTool(s, &sdk.Tool{Name: "die", Description: "End the server when asked."}, func(context.Context, *sdk.CallToolRequest, struct{}) (*sdk.CallToolResult, any, error) {
			fmt.Fprintln(os.Stderr, "I am going down")
			os.Exit(3)
			return nil, nil, nil
		})
		_ = s.Run(ctx, &sdk.StdioTransport{})
	case "pries":
		fmt.Println("starting up, says a library") // no message: it must not end the connection
		s := station.Server()
		sdk.AddTool(s, &sdk.Tool{Name: "pry", Description: "Look around when asked."}, func(_ context.Context, _ *sdk.CallToolRequest, in struct{ File, Host, Write string }) (*sdk.CallToolResult, any, error) {
			say := []string{}
			tell := func(what string, err error) {
				if err != nil {
					what = "kept"
				}
				say = append(say, what)
			}
			raw, err := os.ReadFile(in.File)
			tell(string(raw), err)
			c, err := net.Dial("tcp", in.Host)
			if err == nil {
				c.Close()
			}
			tell("connected", err)
			tell("written", os.WriteFile(in.Write, []byte("x"), 0o600))
			tell("own", os.WriteFile("own", []byte("x"), 0o600))
			fmt.Println("a line in between")
			return &sdk.CallToolResult{Content: []sdk.Content{&sdk.TextContent{Text: strings.Join(say, ", ")}}}, nil, nil
		})
		_ = s.Run(ctx, &sdk.StdioTransport{})
	case "garbage":
		for range 100 {
			fmt.Println("this is not JSON-RPC {{{")
		}
		time.Sleep(time.Minute)
	case "silent":
		time.Sleep(time.Minute)
	case "lies":
		fmt.Println(`{"jsonrpc":"2.0","id":1,"result":{"protocolVersion":"1984-04-04","capabilities":{},"serverInfo":{"name":"x","version":"1"}}}`)
		time.Sleep(time.Minute)
	case "many":
		byHand(100_000, true)
	case "few":
		byHand(3, true)
	case "older":
		byHand(20, false)
	case "ends":
		fmt.Fprintln(os.Stderr, "no configuration found")
		os.Exit(1)
	}
}

// byHand speaks an older version of the protocol by hand: it offers some number of
// tools, in pages, and may say nothing to what it does not know.
func byHand(tools int, polite bool) {
	const page = 5000
	for in := json.NewDecoder(os.Stdin); ; {
		var m struct {
			ID     json.RawMessage
			Method string
			Params struct {
				Cursor    string
				Arguments json.RawMessage
			}
		}
		if in.Decode(&m) != nil {
			return
		}
		switch m.Method {
		case "initialize":
			fmt.Printf(`{"jsonrpc":"2.0","id":%s,"result":{"protocolVersion":"2025-06-18","capabilities":{"tools":{}},"serverInfo":{"name":"many","version":"1"}}}`+"\n", m.ID)
		case "tools/list":
			from, _ := strconv.Atoi(m.Params.Cursor)
			var list []string
			for i := from; i < min(from+page, tools); i++ {
				list = append(list, fmt.Sprintf(`{"name":"tool_%d","description":"One of many, for when it is asked for.","inputSchema":{"type":"object","properties":{"id":{"type":"integer"},"n":{"type":"number"}}}}`, i))
			}
			next := ""
			if from+page < tools {
				next = fmt.Sprintf(`,"nextCursor":"%d"`, from+page)
			}
			fmt.Printf(`{"jsonrpc":"2.0","id":%s,"result":{"tools":[%s]%s}}`+"\n", m.ID, strings.Join(list, ","), next)
		case "tools/call": // gives back what it got, and says it in a text too
			fmt.Printf(`{"jsonrpc":"2.0","id":%s,"result":{"structuredContent":%s,"content":[{"type":"text","text":%q}]}}`+"\n", m.ID, m.Params.Arguments, m.Params.Arguments)
		default:
			if polite && m.ID != nil {
				fmt.Printf(`{"jsonrpc":"2.0","id":%s,"error":{"code":-32601,"message":"not known here"}}`+"\n", m.ID)
			}
		}
	}
}

func doc(how string, more string) string {
	self, _ := os.Executable()
	return fmt.Sprintf("source: st\nmcp: {command: [%q, -test.run=xxx], env: {TOOL_SERVER: %s, KEY: \"${secret:K}\"}%s}\n", self, how, more)
}

// opened asks a source what it offers, and compiles a project with it.
func opened(t *testing.T, text string, take ...string) (*mcp.Servers, *project.Project, error) {
	t.Helper()
	src := project.Source{Files: map[string]string{project.Main: coretest.Main, "s.yaml": text + "take: [" + strings.Join(take, ", ") + "]\n"}, Env: map[string]string{}}
	s := mcp.New(mcp.Config{Dir: t.TempDir(), Client: web.New(&tooltest.Secrets{})})
	t.Cleanup(func() { s.Close() })
	list := app.Reader.Sources(src)
	require.Len(t, list, 1)
	cat, err := s.Catalogue(t.Context(), list[0])
	if err != nil {
		return s, nil, err
	}
	src.Catalogues = map[string]project.Catalogue{"st": cat.Only(take)}
	p, probs := app.Reader.Compile(src)
	require.NotNil(t, p, "%v", probs)
	return s, p, nil
}

func TestAServerOnStandardInputAndOutput(t *testing.T) {
	s, p, err := opened(t, doc("good", ""), "bar_report", "log_sighting")
	require.NoError(t, err)
	r, bad := tooltest.Call(t, s, p, "bar_report", map[string]any{"day": "2026-05-08"})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, 16.0, r.Value.(map[string]any)["wind_kn"], "structured content goes before text")
	assert.Equal(t, "st bar_report", r.Sent.URL)
	assert.Equal(t, `{"day":"2026-05-08"}`, r.Sent.Body)
	r, bad = tooltest.Call(t, s, p, "log_sighting", map[string]any{"what": "a seal"})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "Noted: a seal", r.Value)
	p.Tools["bar_report"].Remote.Hash = "other"
	_, bad = tooltest.Call(t, s, p, "bar_report", map[string]any{"day": "2026-05-08"})
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "has changed since this run began; begin a new run")
}

func TestAServerIsConfined(t *testing.T) {
	if m := sandbox.Missing(); m != "" {
		t.Skip(m)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	outside := t.TempDir()
	secret := filepath.Join(outside, "secret")
	require.NoError(t, os.WriteFile(secret, []byte("theirs"), 0o600))
	for more, want := range map[string]string{
		"": "kept, kept, kept, own",
		", reads: [\"" + outside + "\"], network: [\"" + l.Addr().String() + "\"]": "theirs, connected, kept, own",
	} {
		s, p, err := opened(t, doc("pries", more), "pry")
		require.NoError(t, err, more)
		for range 2 {
			r, bad := tooltest.Call(t, s, p, "pry", map[string]any{"File": secret, "Host": l.Addr().String(), "Write": filepath.Join(outside, "new")})
			require.Nil(t, bad, "%s: %+v", more, bad)
			assert.Equal(t, want, r.Value, more)
		}
	}
}

func TestAServerThatDiesIsStartedAgainAndItIsSaid(t *testing.T) {
	s, p, err := opened(t, doc("dies", ""), "bar_report", "die")
	require.NoError(t, err)
	_, bad := tooltest.Call(t, s, p, "die", nil)
	require.NotNil(t, bad)
	assert.Equal(t, ledger.Unknown, bad.Outcome, "nobody knows what it did before")
	assert.Contains(t, bad.Say, "the tool server st ended while die was under way")
	assert.Contains(t, bad.Say, "its log ends with: I am going down")
	r, bad := tooltest.Call(t, s, p, "bar_report", map[string]any{"day": "2026-05-08"})
	require.Nil(t, bad, "%+v", bad)
	assert.Contains(t, r.Sent.Log, "the tool server st had ended; it was started again")
}

func TestServersThatMisbehave(t *testing.T) {
	for how, want := range map[string]struct{ timeout, say string }{
		"garbage": {"1s", "the tool server st cannot be reached"},
		"silent":  {"1s", "the tool server st cannot be reached: it had not answered after 1s"},
		"lies":    {"1s", "the tool server st cannot be reached"},
		"ends":    {"1m", "its log ends with: no configuration found"},
	} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			_, _, err := opened(t, doc(how, ", timeout: "+want.timeout), "x")
			assert.ErrorContains(t, err, want.say)
		})
	}
	_, _, err := opened(t, "source: st\nmcp: {command: [no-such-server-xy]}\n", "x")
	assert.ErrorContains(t, err, `there is no program "no-such-server-xy" on this machine`)
	_, _, err = opened(t, "source: st\nmcp: {url: \"http://127.0.0.1:1/mcp\", timeout: 2s}\n", "x")
	assert.ErrorContains(t, err, "the tool server st cannot be reached")
}

func TestAHundredThousandToolsAreBounded(t *testing.T) {
	s, p, err := opened(t, doc("many", ", timeout: 5m"), "tool_17")
	require.NoError(t, err)
	cat, err := s.Catalogue(t.Context(), p.Sources["st"])
	require.NoError(t, err)
	assert.Len(t, cat.Tools, 10_000)
	assert.Contains(t, cat.Also, "more than 10000 tools; the first of them are listed")
	assert.NotNil(t, p.Tools["tool_17"])
}

func TestAnElderServerThatIsSilentToWhatItDoesNotKnow(t *testing.T) {
	t.Parallel() // a third of the timeout passes before the older version is spoken
	s, p, err := opened(t, doc("older", ", timeout: 15s"), "tool_17")
	require.NoError(t, err)
	cat, err := s.Catalogue(t.Context(), p.Sources["st"])
	require.NoError(t, err)
	assert.Equal(t, "many 1 (Model Context Protocol 2025-06-18)", cat.From)
	assert.Len(t, cat.Tools, 20)
}

// remote is a server over HTTP with everything that can come back.
func remote(t *testing.T, asked *atomic.Value) *httptest.Server {
	s := sdk.NewServer(&sdk.Implementation{Name: "far", Version: "2"}, nil)
	add := func(name string, call func(context.Context, *sdk.CallToolRequest) (*sdk.CallToolResult, error)) {
		s.AddTool(&sdk.Tool{Name: name, Description: "Do " + name + " when it is asked for.", InputSchema: map[string]any{"type": "object"}}, call)
	}
	text := func(s string) *sdk.CallToolResult {
		return &sdk.CallToolResult{Content: []sdk.Content{&sdk.TextContent{Text: s}}}
	}
	add("json", func(context.Context, *sdk.CallToolRequest) (*sdk.CallToolResult, error) { return text(`{"a": 1}`), nil })
	add("refuse", func(context.Context, *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		r := text("the harbour is shut")
		r.IsError = true
		return r, nil
	})
	add("picture", func(context.Context, *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		return &sdk.CallToolResult{Content: []sdk.Content{&sdk.TextContent{Text: "a chart"}, &sdk.ImageContent{MIMEType: "image/png", Data: []byte(png)}, &sdk.AudioContent{MIMEType: "no type", Data: []byte("1")},
			&sdk.EmbeddedResource{Resource: &sdk.ResourceContents{URI: "file:///charts/bar.pdf", MIMEType: "application/pdf", Blob: []byte("%PDF-1.7")}}, &sdk.EmbeddedResource{Resource: &sdk.ResourceContents{URI: "notes://two", Text: "two"}}}}, nil
	})
	add("large", func(context.Context, *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		return text(strings.Repeat("x", 5<<20)), nil
	})
	add("slow", func(ctx context.Context, r *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		<-ctx.Done()
		asked.Store("cancelled")
		return nil, ctx.Err()
	})
	add("half", func(_ context.Context, r *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		return &sdk.CallToolResult{IsError: true, Content: []sdk.Content{&sdk.TextContent{Text: "only half of it"}}, StructuredContent: map[string]any{"done": 3}}, nil
	})
	add("progress", func(ctx context.Context, r *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		_ = r.Session.NotifyProgress(ctx, &sdk.ProgressNotificationParams{ProgressToken: r.Params.GetProgressToken(), Progress: 1, Total: 2, Message: "half way"})
		return text("there"), nil
	})
	add("ask", func(ctx context.Context, r *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		e, err := r.Session.Elicit(ctx, &sdk.ElicitParams{Message: "Which berth?", RequestedSchema: map[string]any{"type": "object", "properties": map[string]any{"berth": map[string]any{"type": "string"}}}})
		if err != nil {
			return text("asked: " + err.Error()), nil
		}
		return text("asked: " + e.Action), nil
	})
	add("think", func(ctx context.Context, r *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		//lint:ignore SA1019 servers of the versions before still ask for it
		_, err := r.Session.CreateMessage(ctx, &sdk.CreateMessageParams{MaxTokens: 10})
		if err != nil {
			return text("no model: " + err.Error()), nil
		}
		return text("a model"), nil
	})
	contents := func(_ context.Context, r *sdk.ReadResourceRequest) (*sdk.ReadResourceResult, error) {
		switch uri := r.Params.URI; uri {
		case "notes://one":
			return &sdk.ReadResourceResult{Contents: []*sdk.ResourceContents{{URI: uri, MIMEType: "text/plain", Text: "The bar is fit."}}}, nil
		case "charts://east%2Fpier/3":
			return &sdk.ReadResourceResult{Contents: []*sdk.ResourceContents{{URI: uri, MIMEType: "image/png", Blob: []byte(png)}}}, nil
		default:
			return nil, sdk.ResourceNotFoundError(uri)
		}
	}
	s.AddResource(&sdk.Resource{URI: "notes://one", Name: "one", Description: "What was noted."}, contents)
	s.AddResourceTemplate(&sdk.ResourceTemplate{URITemplate: "charts://{place}/{n}", Name: "chart"}, contents)
	s.AddPrompt(&sdk.Prompt{Name: "greet", Description: "How to greet.", Arguments: []*sdk.PromptArgument{{Name: "name", Description: "Whom.", Required: true}}}, func(_ context.Context, r *sdk.GetPromptRequest) (*sdk.GetPromptResult, error) {
		return &sdk.GetPromptResult{Messages: []*sdk.PromptMessage{{Role: "user", Content: &sdk.TextContent{Text: "Greet " + r.Params.Arguments["name"] + "."}}}}, nil
	})
	srv := httptest.NewServer(sdk.NewStreamableHTTPHandler(func(*http.Request) *sdk.Server { return s }, nil))
	t.Cleanup(srv.Close)
	return srv
}

const png = "\x89PNG\r\n\x1a\n and so on"

func TestAServerOverHTTP(t *testing.T) {
	var asked atomic.Value
	srv := remote(t, &asked)
	names := []string{"json", "refuse", "picture", "large", "slow", "progress", "ask", "think", "half"}
	s, p, err := opened(t, "source: st\nmcp: {url: \""+srv.URL+"\", auth: {bearer: \"${secret:T}\"}}\ntune: {slow: {timeout: 150ms}}\n", names...)
	require.NoError(t, err)
	r, bad := tooltest.Call(t, s, p, "json", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, map[string]any{"a": 1.0}, r.Value, "JSON within a text is a value")
	_, bad = tooltest.Call(t, s, p, "refuse", nil)
	require.NotNil(t, bad)
	assert.Equal(t, "the harbour is shut", bad.Say)
	assert.Equal(t, ledger.NotDone, bad.Outcome)
	r, bad = tooltest.Call(t, s, p, "picture", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, []any{map[string]any{"kind": "text", "text": "a chart"}, map[string]any{"kind": "image", "type": "image/png", "bytes": float64(len(png)), "file": "image-1.png"},
		map[string]any{"kind": "audio", "type": "application/octet-stream", "bytes": 1.0, "file": "audio-2.bin"}, map[string]any{"kind": "resource", "type": "application/pdf", "bytes": 8.0, "file": "bar.pdf"},
		map[string]any{"kind": "resource", "uri": "notes://two", "text": "two"}}, r.Value, "never as base64")
	require.Len(t, r.Files, 3)
	assert.Equal(t, deed.File{Name: "image-1.png", Type: "image/png", Body: []byte(png)}, r.Files[0])
	_, bad = tooltest.Call(t, s, p, "half", nil)
	require.NotNil(t, bad)
	assert.Equal(t, "only half of it", bad.Say)
	assert.Equal(t, map[string]any{"done": 3.0}, bad.Body, "what it says of a failure is not lost")
	_, bad = tooltest.Call(t, s, p, "large", nil, func(i *deed.Invocation) {})
	require.NotNil(t, bad)
	_, bad = tooltest.Call(t, s, p, "slow", nil)
	require.NotNil(t, bad)
	assert.EqualValues(t, "timeout", bad.Class)
	require.Eventually(t, func() bool { return asked.Load() == "cancelled" }, 5*time.Second, 5*time.Millisecond, "it is told that nobody waits")
	require.Eventually(t, func() bool { // a notification may come behind the result
		r, bad := tooltest.Call(t, s, p, "progress", nil)
		return bad == nil && r.Value == "there" && strings.Contains(r.Sent.Log, "1 of 2 half way")
	}, 10*time.Second, time.Millisecond)
	r, bad = tooltest.Call(t, s, p, "ask", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "asked: client does not support elicitation", r.Value, "nobody is asked this way, and it is told so")
	r, bad = tooltest.Call(t, s, p, "think", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Contains(t, r.Value, "no model: ")
}

func TestLongNumbersStayExact(t *testing.T) {
	s, p, err := opened(t, doc("few", ""), "tool_1")
	require.NoError(t, err)
	r, bad := tooltest.Call(t, s, p, "tool_1", map[string]any{"id": int64(9007199254740993), "n": 1.0})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, map[string]any{"id": int64(9007199254740993), "n": 1.0}, r.Value)
}

func TestAChangedListIsNoticed(t *testing.T) {
	server := station.Server()
	srv := httptest.NewServer(sdk.NewStreamableHTTPHandler(func(*http.Request) *sdk.Server { return server }, nil))
	defer srv.Close()
	changed := make(chan string, 4)
	s := mcp.New(mcp.Config{Dir: t.TempDir(), Client: web.New(&tooltest.Secrets{}), Changed: func(source string) { changed <- source }})
	defer s.Close()
	list := app.Reader.Sources(project.Source{Files: map[string]string{project.Main: coretest.Main, "s.yaml": "source: st\nmcp: {url: \"" + srv.URL + "\"}\n"}})
	_, err := s.Catalogue(t.Context(), list[0])
	require.NoError(t, err)
	server.RemoveTools("notices")
	select {
	case name := <-changed:
		assert.Equal(t, "st", name)
	case <-time.After(10 * time.Second):
		t.Fatal("nobody was told")
	}
}

// TestResourcesAndPromptsComeInAsTools: what is taken of them is read, and is a tool as any other.
func TestResourcesAndPromptsComeInAsTools(t *testing.T) {
	var asked atomic.Value
	srv := remote(t, &asked)
	src := project.Source{Files: map[string]string{project.Main: coretest.Main, "s.yaml": "source: st\nprefix: st_\nmcp: {url: \"" + srv.URL + "\", auth: {bearer: \"${secret:T}\"}}\ntake: {tools: [json], resources: [\"notes://one\", \"charts://{place}/{n}\"], prompts: [greet]}\n"}, Env: map[string]string{}}
	s := mcp.New(mcp.Config{Dir: t.TempDir(), Client: web.New(&tooltest.Secrets{})})
	t.Cleanup(func() { s.Close() })
	d := app.Reader.Sources(src)[0]
	cat, err := s.Catalogue(t.Context(), d)
	require.NoError(t, err)
	src.Catalogues = map[string]project.Catalogue{"st": cat.Only(d.Take)}
	p, probs := app.Reader.Compile(src)
	require.NotNil(t, p, "%v", probs)
	for _, name := range []string{"st_read_one", "st_read_chart", "st_greet"} {
		require.NotNil(t, p.Tools[name], name)
		assert.Equal(t, ledger.Read, p.Tools[name].Effect)
	}
	assert.Equal(t, "Read one: What was noted.", p.Tools["st_read_one"].Summary)
	r, bad := tooltest.Call(t, s, p, "st_read_one", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "The bar is fit.", r.Value)
	r, bad = tooltest.Call(t, s, p, "st_read_chart", map[string]any{"place": "east/pier", "n": "3"})
	require.Nil(t, bad, "a value is a part of the address, and never more of it: %+v", bad)
	require.Len(t, r.Files, 1)
	assert.Equal(t, "image/png", r.Files[0].Type)
	_, bad = tooltest.Call(t, s, p, "st_read_chart", map[string]any{"place": "nowhere", "n": "3"})
	require.NotNil(t, bad)
	assert.Equal(t, ledger.NotDone, bad.Outcome)
	r, bad = tooltest.Call(t, s, p, "st_greet", map[string]any{"name": "Ann"})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "Greet Ann.", r.Value)

	src.Files["s.yaml"] = strings.Replace(src.Files["s.yaml"], "prompts: [greet]", "prompts: [great]", 1)
	src.Catalogues = map[string]project.Catalogue{"st": cat.Only(app.Reader.Sources(src)[0].Take)}
	_, probs = app.Reader.Compile(src)
	require.NotEmpty(t, probs)
	assert.Contains(t, probs[0].Say, `st offers no tool "prompt great"`)
	assert.Equal(t, 4, probs[0].Line)
}

// TestAServerWithALogin: the token is fetched, kept, and fetched anew after a 401.
func TestAServerWithALogin(t *testing.T) {
	sv := sdk.NewServer(&sdk.Implementation{Name: "s", Version: "1"}, nil)
	sv.AddTool(&sdk.Tool{Name: "peek", InputSchema: map[string]any{"type": "object"}}, func(context.Context, *sdk.CallToolRequest) (*sdk.CallToolResult, error) {
		return &sdk.CallToolResult{Content: []sdk.Content{&sdk.TextContent{Text: "seen"}}}, nil
	})
	inner := sdk.NewStreamableHTTPHandler(func(*http.Request) *sdk.Server { return sv }, nil)
	var logins atomic.Int64
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/login" {
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprintf(w, `{"token":"t%d"}`, logins.Add(1))
			return
		}
		if r.Header.Get("Authorization") != fmt.Sprintf("Bearer t%d", logins.Load()) {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		inner.ServeHTTP(w, r)
	}))
	defer srv.Close()
	defer srv.CloseClientConnections()
	s, p, err := opened(t, "source: st\nmcp: {url: \""+srv.URL+"\", auth: {login: {url: \""+srv.URL+"/login\", body: {password: \"${secret:P}\"}, token: \"=response.body.token\"}}}\n", "peek")
	require.NoError(t, err)
	r, bad := tooltest.Call(t, s, p, "peek", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "seen", r.Value)
	assert.EqualValues(t, 1, logins.Load())
	logins.Add(3) // the token of before is no good any more
	r, bad = tooltest.Call(t, s, p, "peek", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "seen", r.Value)
	assert.EqualValues(t, 5, logins.Load(), "one new login")
}
