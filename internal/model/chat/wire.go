package chat

import (
	"encoding/json"
	"math"
	"strconv"
	"strings"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
)

// Request is the body of a request.
type Request struct {
	Model         string         `json:"model"`
	Messages      []Message      `json:"messages"`
	Tools         []Tool         `json:"tools,omitempty"`
	Temperature   *float64       `json:"temperature,omitempty"`
	Seed          *int           `json:"seed,omitempty"`
	MaxTokens     int            `json:"max_tokens,omitempty"`
	ToolChoice    any            `json:"tool_choice,omitempty"`
	Format        *Format        `json:"response_format,omitempty"`
	Stream        bool           `json:"stream,omitempty"`
	StreamOptions *StreamOptions `json:"stream_options,omitempty"`
}

// Format is the shape that the answer has to have.
type Format struct {
	Type   string `json:"type"` // json_schema
	Schema struct {
		Name   string         `json:"name"`
		Schema map[string]any `json:"schema"`
	} `json:"json_schema"`
}

// StreamOptions asks for the usage at the end of a stream.
type StreamOptions struct {
	IncludeUsage bool `json:"include_usage"`
}

// Message is one message of the wire. Reasoning comes in replies, where an endpoint sends it
// apart from the answer, and goes in requests where an agent wants it sent again; endpoints
// differ in its name.
type Message struct {
	Role       string `json:"role"`
	Content    Text   `json:"content"`
	Parts      []Part `json:"-"`                 // in requests, in place of content
	Refusal    string `json:"refusal,omitempty"` // in replies, in place of content
	Reasoning  string `json:"reasoning_content,omitempty"`
	Reasoning2 string `json:"reasoning,omitempty"`
	ToolCalls  []Call `json:"tool_calls,omitempty"`
	ToolCallID string `json:"tool_call_id,omitempty"`
	Name       string `json:"name,omitempty"`
}

// Part is a part of a message that is more than a text.
type Part struct {
	Type  string `json:"type"` // text or image_url
	Text  string `json:"text,omitempty"`
	Image *Image `json:"image_url,omitempty"`
}

// Image is a picture, as a data URL.
type Image struct {
	URL string `json:"url"`
}

// MarshalJSON writes the message with its parts, where it has some.
func (m Message) MarshalJSON() ([]byte, error) {
	type plain Message
	if len(m.Parts) == 0 {
		return json.Marshal(plain(m))
	}
	return json.Marshal(struct {
		plain
		Content []Part `json:"content"`
	}{plain(m), m.Parts})
}

// Text is a text, also where the wire brings it in parts or as null. Parts of other kinds are
// left out.
type Text string

// UnmarshalJSON reads a text, null, or a list of parts.
func (t *Text) UnmarshalJSON(raw []byte) error {
	*t = ""
	if len(raw) == 0 || raw[0] != '[' {
		return json.Unmarshal(raw, (*string)(t))
	}
	var parts []struct {
		Text    string `json:"text"`
		Refusal string `json:"refusal"`
	}
	if err := json.Unmarshal(raw, &parts); err != nil {
		return err
	}
	for _, p := range parts {
		*t += Text(p.Text + p.Refusal)
	}
	return nil
}

// Arguments are the JSON text of a call's arguments, also where the wire brings them as JSON.
type Arguments string

// UnmarshalJSON reads a text, or any JSON.
func (a *Arguments) UnmarshalJSON(raw []byte) error {
	switch {
	case string(raw) == "null":
		*a = ""
	case raw[0] == '"':
		return json.Unmarshal(raw, (*string)(a))
	default:
		*a = Arguments(raw)
	}
	return nil
}

// Call is a tool call of the wire. Index is used in streams alone.
type Call struct {
	Index    *int     `json:"index,omitempty"`
	ID       string   `json:"id,omitempty"`
	Type     string   `json:"type,omitempty"`
	Function Function `json:"function"`
}

// Function is the name of a called tool, and its arguments as JSON text.
type Function struct {
	Name      string    `json:"name,omitempty"`
	Arguments Arguments `json:"arguments"`
}

// Tool is a tool as the wire describes it.
type Tool struct {
	Type     string `json:"type"`
	Function struct {
		Name        string          `json:"name"`
		Description string          `json:"description"`
		Parameters  json.RawMessage `json:"parameters"`
	} `json:"function"`
}

// Usage counts tokens.
type Usage struct {
	Prompt     Count `json:"prompt_tokens"`
	Completion Count `json:"completion_tokens"`
	Total      Count `json:"total_tokens"`
}

// Count is a number of tokens; -1 is one that cannot be.
type Count int

// maxCount is more than any request has.
const maxCount = 1e9

// UnmarshalJSON reads a number of any form. A part of a token counts as a whole one; what no
// count can be becomes -1, since limits and costs are reckoned by it.
func (c *Count) UnmarshalJSON(raw []byte) error {
	n, err := strconv.ParseFloat(strings.Trim(string(raw), `"`), 64)
	if *c = -1; err == nil && n >= 0 && n <= maxCount {
		*c = Count(math.Ceil(n))
	}
	return nil
}

// Choice is one answer, whole (Message) or in part (Delta).
type Choice struct {
	Index   int      `json:"index"`
	Message *Message `json:"message,omitempty"`
	Delta   *Message `json:"delta,omitempty"`
	Finish  *string  `json:"finish_reason"`
}

// Response is the body of a reply, or one piece of a stream.
type Response struct {
	ID      string   `json:"id"`
	Object  string   `json:"object"`
	Created int64    `json:"created"`
	Model   string   `json:"model"`
	Choices []Choice `json:"choices"`
	Usage   *Usage   `json:"usage,omitempty"`
	Error   *Error   `json:"error,omitempty"`
}

// Error is what the wire says of a failure.
type Error struct {
	Message string `json:"message"`
	Type    string `json:"type,omitempty"`
	Code    any    `json:"code,omitempty"`
}

// UnmarshalJSON reads an error, also where it is a mere text.
func (e *Error) UnmarshalJSON(raw []byte) error {
	if json.Unmarshal(raw, &e.Message) == nil {
		return nil
	}
	type plain Error
	if err := json.Unmarshal(raw, (*plain)(e)); err != nil || e.Message == "" {
		e.Message = string(raw) // whatever it is, it says something
	}
	return nil
}

// Encode gives the body of a request: the same bytes for the same request. What the
// project does not set is omitted, so that the endpoint decides. Picture gives what stands for
// one as a URL, "" where it is not there: results are texts on this wire, so the pictures of a
// turn's results follow these as what a person says.
func Encode(r deed.Request, remote string, picture func(ledger.File) string) Request {
	out := Request{Model: remote, Temperature: r.Temperature, Seed: r.Seed, MaxTokens: r.MaxTokens, Stream: true, StreamOptions: &StreamOptions{IncludeUsage: true}}
	out.Messages = append(out.Messages, Message{Role: "system", Content: Text(r.System)})
	var pictures []Part
	for _, m := range r.Messages {
		w := Message{Role: string(m.Role), Content: Text(m.Text), Reasoning: m.Reasoning}
		for _, c := range m.Calls {
			w.ToolCalls = append(w.ToolCalls, Call{ID: c.ID, Type: "function", Function: Function{Name: c.Tool, Arguments: Arguments(c.Args)}})
		}
		if m.Role == ledger.FromTool {
			w.ToolCallID, w.Name = m.Call, m.Tool
		}
		if m.Role != ledger.FromTool {
			out.Messages = shown(out.Messages, &pictures)
		}
		out.Messages = append(out.Messages, w)
		if r.Pictures {
			for _, f := range m.Pictures {
				if at := picture(f); at != "" {
					pictures = append(pictures, Part{Type: "text", Text: f.Path + ", which came with the result of " + m.Tool + ":"}, Part{Type: "image_url", Image: &Image{at}})
				}
			}
		}
	}
	out.Messages = shown(out.Messages, &pictures)
	for _, t := range r.Tools {
		w := Tool{Type: "function"}
		w.Function.Name, w.Function.Description, w.Function.Parameters = t.Name, t.Summary, t.Parameters
		out.Tools = append(out.Tools, w)
	}
	switch {
	case r.Choice == "some":
		out.ToolChoice = "required"
	case r.Choice != "":
		out.ToolChoice = map[string]any{"type": "function", "function": map[string]string{"name": r.Choice}}
	}
	if r.Offer && r.Answer != nil {
		out.Format = &Format{Type: "json_schema"}
		out.Format.Schema.Name, out.Format.Schema.Schema = "answer", r.Answer
	}
	return out
}

// Body writes the body of a request to a model: Encode, with the fields that the project adds,
// and the names that it gives to others. Picture is as of Encode.
func Body(r deed.Request, m *project.Model, picture func(ledger.File) string) ([]byte, error) {
	if m.Written {
		r = written(r)
	}
	raw, err := json.Marshal(Encode(r, m.Remote, picture))
	if err != nil || len(m.Extra)+len(m.Fields) == 0 {
		return raw, err
	}
	var body map[string]json.RawMessage
	if err := json.Unmarshal(raw, &body); err != nil {
		return nil, err
	}
	for k, v := range m.Extra {
		if body[k], err = json.Marshal(v); err != nil {
			return nil, err
		}
	}
	for k, name := range m.Fields {
		if v, ok := body[k]; ok {
			delete(body, k)
			body[name] = v
		}
	}
	return json.Marshal(body) // in the order of their names
}

// shown puts the pictures of the results before behind these.
func shown(messages []Message, pictures *[]Part) []Message {
	if len(*pictures) > 0 {
		messages = append(messages, Message{Role: string(ledger.User), Parts: *pictures})
		*pictures = nil
	}
	return messages
}

// Kept is what stands for a picture where a request is shown: what it is, without its bytes.
func Kept(f ledger.File) string { return "data:" + f.Type + ";base64,(" + string(f.Hash) + ")" }
