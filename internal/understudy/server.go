package understudy

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/model/chat"
)

// Server is the understudy as an endpoint of the wire chat-completions. The
// name of the model asked for picks the part; an unknown one answers 404.
type Server struct {
	Models map[string]Part
	Key    string // the bearer key it wants; "" wants none

	mu   sync.Mutex
	knob Knob
}

// Knob makes the understudy misbehave as real endpoints do. Each of Fail, Cut,
// Empty and Garble is for that many requests to come.
type Knob struct {
	LatencyMS  int `json:"latency_ms"`  // before the first word
	WordMS     int `json:"word_ms"`     // between words
	Fail       int `json:"fail"`        // answer with Status
	Status     int `json:"status"`      // 500 where it is 0
	RetryAfter int `json:"retry_after"` // seconds, sent with a failure
	Cut        int `json:"cut"`         // break the stream off in the middle
	Empty      int `json:"empty"`       // answer nothing
	Garble     int `json:"garble"`      // send arguments that are not JSON
}

// SetPart gives a model its part, from the next request on.
func (s *Server) SetPart(model string, part Part) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.Models[model] = part
}

// Turn sets the knobs.
func (s *Server) Turn(k Knob) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.knob = k
}

// mood takes one request's share of the knobs.
func (s *Server) mood() Knob {
	s.mu.Lock()
	defer s.mu.Unlock()
	k := s.knob
	for _, n := range []*int{&s.knob.Fail, &s.knob.Cut, &s.knob.Empty, &s.knob.Garble} {
		if *n > 0 {
			*n--
		}
	}
	return k
}

// Handler answers POST /v1/chat/completions, GET /v1/models, and POST /knob.
func (s *Server) Handler() http.Handler {
	e := echo.New()
	e.POST("/v1/chat/completions", s.complete)
	e.GET("/v1/models", func(c *echo.Context) error {
		var list []map[string]string
		s.mu.Lock()
		defer s.mu.Unlock()
		for n := range s.Models {
			list = append(list, map[string]string{"id": n, "object": "model"})
		}
		return c.JSON(http.StatusOK, map[string]any{"object": "list", "data": list})
	})
	e.POST("/knob", func(c *echo.Context) error {
		if !s.allowed(c) {
			return refuse(c, http.StatusUnauthorized, "the key is wrong")
		}
		var k Knob
		if err := json.NewDecoder(c.Request().Body).Decode(&k); err != nil {
			return refuse(c, http.StatusBadRequest, err.Error())
		}
		s.Turn(k)
		return c.JSON(http.StatusOK, k)
	})
	return e
}

func (s *Server) allowed(c *echo.Context) bool {
	return s.Key == "" || c.Request().Header.Get("Authorization") == "Bearer "+s.Key
}

func refuse(c *echo.Context, status int, say string) error {
	return c.JSON(status, chat.Response{Error: &chat.Error{Message: say}})
}

func (s *Server) complete(c *echo.Context) error {
	if !s.allowed(c) {
		return refuse(c, http.StatusUnauthorized, "the key is wrong")
	}
	var in chat.Request
	if err := json.NewDecoder(http.MaxBytesReader(c.Response(), c.Request().Body, 16<<20)).Decode(&in); err != nil {
		return refuse(c, http.StatusBadRequest, "the body is not a request of this wire: "+err.Error())
	}
	s.mu.Lock()
	part, ok := s.Models[in.Model]
	s.mu.Unlock()
	if !ok {
		return refuse(c, http.StatusNotFound, fmt.Sprintf("unknown model %q", in.Model))
	}
	k := s.mood()
	if !sleep(c, k.LatencyMS) {
		return nil
	}
	if k.Fail > 0 {
		if k.Status == 0 {
			k.Status = http.StatusInternalServerError
		}
		if k.RetryAfter > 0 {
			c.Response().Header().Set("Retry-After", fmt.Sprint(k.RetryAfter))
		}
		return refuse(c, k.Status, "the understudy was told to fail")
	}
	r := decode(in)
	out := part.Answer(r)
	if k.Empty > 0 {
		out.Text, out.Calls, out.Finish = "", nil, "stop"
	}
	if k.Garble > 0 {
		for i := range out.Calls {
			out.Calls[i].Args = strings.TrimSuffix(out.Calls[i].Args, "}") + ","
		}
	}
	finish := out.Finish
	if finish == "calls" {
		finish = "tool_calls"
	}
	usage := &chat.Usage{Prompt: chat.Count(out.Usage.In), Completion: chat.Count(out.Usage.Out), Total: chat.Count(out.Usage.In + out.Usage.Out)}
	base := chat.Response{ID: "understudy", Created: time.Now().Unix(), Model: in.Model}
	if !in.Stream {
		base.Object, base.Usage = "chat.completion", usage
		base.Choices = []chat.Choice{{Message: &chat.Message{Role: "assistant", Content: chat.Text(out.Text), Reasoning: out.Reasoning, ToolCalls: calls(out.Calls, false)}, Finish: &finish}}
		return c.JSON(http.StatusOK, base)
	}
	return s.stream(c, base, out, finish, usage, k)
}

// stream sends a reply in pieces: its words one by one, its calls, the usage.
func (s *Server) stream(c *echo.Context, base chat.Response, out deed.Reply, finish string, usage *chat.Usage, k Knob) error {
	w := c.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.WriteHeader(http.StatusOK)
	ctl := http.NewResponseController(w)
	base.Object = "chat.completion.chunk"
	send := func(choices []chat.Choice, u *chat.Usage) error {
		p := base
		p.Choices, p.Usage = choices, u
		raw, err := json.Marshal(p)
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "data: %s\n\n", raw); err != nil {
			return err
		}
		return ctl.Flush()
	}
	if out.Reasoning != "" {
		if err := send([]chat.Choice{{Delta: &chat.Message{Reasoning: out.Reasoning}}}, nil); err != nil {
			return nil
		}
	}
	words := pieces(out.Text)
	for i, piece := range words {
		if k.Cut > 0 && i >= len(words)/2 {
			return nil // the stream ends with no finish
		}
		if piece == "" {
			continue
		}
		if err := send([]chat.Choice{{Delta: &chat.Message{Content: chat.Text(piece)}}}, nil); err != nil {
			return nil
		}
		if !sleep(c, k.WordMS) {
			return nil
		}
	}
	if k.Cut > 0 {
		return nil
	}
	if len(out.Calls) > 0 {
		if err := send([]chat.Choice{{Delta: &chat.Message{ToolCalls: calls(out.Calls, true)}}}, nil); err != nil {
			return nil
		}
	}
	if send([]chat.Choice{{Delta: &chat.Message{}, Finish: &finish}}, nil) != nil || send([]chat.Choice{}, usage) != nil {
		return nil
	}
	_, err := fmt.Fprint(w, "data: [DONE]\n\n")
	return err
}

// sleep waits, and says whether the peer still does.
func sleep(c *echo.Context, ms int) bool {
	if ms <= 0 {
		return true
	}
	select {
	case <-time.After(time.Duration(ms) * time.Millisecond):
		return true
	case <-c.Request().Context().Done():
		return false
	}
}

func calls(asks []ledger.Ask, index bool) []chat.Call {
	var out []chat.Call
	for i, a := range asks {
		call := chat.Call{ID: a.ID, Type: "function", Function: chat.Function{Name: a.Tool, Arguments: chat.Arguments(a.Args)}}
		if index {
			call.Index = &i
		}
		out = append(out, call)
	}
	return out
}

// decode reads a request of the wire.
func decode(in chat.Request) deed.Request {
	r := deed.Request{Model: in.Model, MaxTokens: in.MaxTokens}
	names := map[string]string{} // call id → tool
	for _, m := range in.Messages {
		switch m.Role {
		case "system":
			r.System += string(m.Content)
		case "tool":
			tool := m.Name
			if tool == "" {
				tool = names[m.ToolCallID]
			}
			r.Messages = append(r.Messages, ledger.Message{Role: ledger.FromTool, Tool: tool, Call: m.ToolCallID, Text: string(m.Content)})
		default:
			msg := ledger.Message{Role: ledger.Role(m.Role), Text: string(m.Content)}
			for _, c := range m.ToolCalls {
				names[c.ID] = c.Function.Name
				msg.Calls = append(msg.Calls, ledger.Ask{ID: c.ID, Tool: c.Function.Name, Args: string(c.Function.Arguments)})
			}
			r.Messages = append(r.Messages, msg)
		}
	}
	for _, t := range in.Tools {
		r.Tools = append(r.Tools, project.Contract{Name: t.Function.Name, Summary: t.Function.Description, Parameters: t.Function.Parameters})
	}
	return r
}
