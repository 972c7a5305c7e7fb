package chat

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/tmaxmax/go-sse"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
)

const maxReply = 16 << 20

// Expander puts the values of secrets into a text.
type Expander interface {
	Expand(string) (string, error)
}

// Wire asks models over HTTP. It is a model.Wire.
type Wire struct {
	secrets Expander
	client  *http.Client
}

// New gives a wire that takes keys from e.
func New(e Expander) *Wire {
	return &Wire{secrets: e, client: &http.Client{Transport: &http.Transport{
		Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: 64, IdleConnTimeout: 60 * time.Second, ForceAttemptHTTP2: true,
		DialContext: (&net.Dialer{Timeout: 10 * time.Second}).DialContext,
	}}}
}

func fail(class deed.Class, remedy, format string, args ...any) *deed.ModelFailure {
	return &deed.ModelFailure{Class: class, Say: fmt.Sprintf(format, args...), Remedy: remedy}
}

// Ask sends a request and reads its reply, passing words on as they come.
func (w *Wire) Ask(ctx context.Context, p *project.Project, m *project.Model, r deed.Request, delta func(string)) (deed.Reply, *deed.ModelFailure) {
	req, bad := w.request(ctx, m, r)
	if bad != nil {
		return deed.Reply{}, bad
	}
	resp, err := w.client.Do(req)
	if err != nil {
		return deed.Reply{}, unreached(m, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return deed.Reply{}, refused(m, resp)
	}
	body := io.LimitReader(resp.Body, maxReply)
	var a assembly
	if strings.HasPrefix(resp.Header.Get("Content-Type"), "text/event-stream") {
		bad = a.stream(body, delta, m)
	} else {
		bad = a.whole(body, delta, m)
	}
	if bad != nil {
		if ctx.Err() != nil {
			return deed.Reply{}, unreached(m, ctx.Err())
		}
		return deed.Reply{}, bad
	}
	return a.reply(m, r)
}

func (w *Wire) request(ctx context.Context, m *project.Model, r deed.Request) (*http.Request, *deed.ModelFailure) {
	raw, err := json.Marshal(Encode(r, m.Remote))
	if err != nil {
		return nil, fail("request", "", "the request to %q cannot be written: %v", m.Name, err)
	}
	base, err := w.secrets.Expand(m.URL)
	if err != nil {
		return nil, fail("config", "", "%v", err)
	}
	if name := project.Variable(base); name != "" {
		return nil, fail("config", "Set it in the environment or in the project's .env.", "the url of the model %q has no value: %s is not set", m.Name, name)
	}
	to, err := url.Parse(base)
	if err != nil || to.Host == "" {
		return nil, fail("config", "Write an absolute URL, such as http://127.0.0.1:8080/v1.", "the url of the model %q is not a URL", m.Name)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, to.JoinPath("chat/completions").String(), bytes.NewReader(raw))
	if err != nil {
		return nil, fail("config", "Write an absolute URL, such as http://127.0.0.1:8080/v1.", "the url of the model %q is not one that can be asked", m.Name)
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Accept", "text/event-stream, application/json")
	if m.Key != "" {
		key, err := w.secrets.Expand(m.Key)
		if err != nil {
			return nil, fail("key", "", "the model %q cannot be asked: %v", m.Name, err)
		}
		req.Header.Set("Authorization", "Bearer "+key)
	}
	for k, v := range m.Headers {
		x, err := w.secrets.Expand(v)
		if err != nil {
			return nil, fail("config", "", "the header %s of the model %q: %v", k, m.Name, err)
		}
		req.Header.Set(k, x)
	}
	return req, nil
}

func unreached(m *project.Model, err error) *deed.ModelFailure {
	var op *net.OpError
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		f := fail("timeout", "Raise timeout: of the model, or ask for less.", "the model %q had not answered after %s", m.Name, m.Timeout)
		f.Retry = true
		return f
	case errors.Is(err, context.Canceled):
		return fail("stopped", "", "the request to the model %q was cancelled", m.Name)
	case errors.As(err, &op) && op.Op == "dial":
		f := fail("unreachable", "Is the endpoint running, and is url: right?", "the model %q cannot be reached: %v", m.Name, op.Err)
		f.Retry = true
		return f
	}
	f := fail("unreachable", "", "the connection to the model %q broke: %v", m.Name, err)
	f.Retry = true
	return f
}

// refused says what a status other than 200 means.
func refused(m *project.Model, resp *http.Response) *deed.ModelFailure {
	raw, _ := io.ReadAll(io.LimitReader(resp.Body, 64<<10)) // what arrived is enough
	say := ""
	var body Response
	if json.Unmarshal(raw, &body) == nil && body.Error != nil {
		say = ": " + body.Error.Message
	}
	var f *deed.ModelFailure
	switch code := resp.StatusCode; {
	case code == 401 || code == 403:
		f = fail("key", "Check key: of the model and the value of the secret it names.", "the endpoint of the model %q refused the key (%d)%s", m.Name, code, say)
	case code == 404:
		f = fail("model", "Check name: and url: of the model; the URL usually ends in /v1.", "the endpoint of %q knows no model %q (404)%s", m.Name, m.Remote, say)
	case code == 429:
		f = fail("rate", "Wait, or ask for a higher limit.", "the endpoint of the model %q answered 429, too many requests%s", m.Name, say)
		f.Retry = true
		if s, err := strconv.Atoi(resp.Header.Get("Retry-After")); err == nil {
			f.After = time.Duration(s) * time.Second
		} else if t, err := http.ParseTime(resp.Header.Get("Retry-After")); err == nil {
			f.After = time.Until(t)
		}
	case code >= 500:
		f = fail("server", "", "the endpoint of the model %q answered %d%s", m.Name, code, say)
		f.Retry = true
	default:
		f = fail("request", "", "the endpoint of the model %q did not take the request (%d)%s", m.Name, code, say)
	}
	f.Status = resp.StatusCode
	return f
}

// assembly puts a reply together from its pieces.
type assembly struct {
	text   strings.Builder
	apart  strings.Builder // reasoning
	calls  []ledger.Ask
	index  map[int]int // index of the wire → place in calls
	finish string
	model  string
	usage  *Usage
	ended  bool
}

func (a *assembly) whole(body io.Reader, delta func(string), m *project.Model) *deed.ModelFailure {
	var r Response
	if err := json.NewDecoder(body).Decode(&r); err != nil {
		f := fail("cut", "", "the reply of the model %q is not JSON or broke off: %v", m.Name, err)
		f.Retry = true
		return f
	}
	if bad := a.piece(r, delta, m); bad != nil {
		return bad
	}
	a.ended = true
	return nil
}

func (a *assembly) stream(body io.Reader, delta func(string), m *project.Model) *deed.ModelFailure {
	var broke error
	for ev, err := range sse.Read(body, &sse.ReadConfig{MaxEventSize: 4 << 20}) {
		if err != nil {
			broke = err
			break
		}
		if ev.Data == "[DONE]" {
			a.ended = true
			return nil
		}
		var r Response
		if err := json.Unmarshal([]byte(ev.Data), &r); err != nil {
			f := fail("cut", "", "the stream of the model %q holds something that is not JSON: %v", m.Name, err)
			f.Retry = true
			return f
		}
		if bad := a.piece(r, delta, m); bad != nil {
			return bad
		}
	}
	if a.finish != "" && broke == nil {
		a.ended = true // some endpoints send no [DONE]
		return nil
	}
	f := fail("cut", "", "the stream of the model %q broke off after %d letters", m.Name, a.text.Len())
	f.Retry = true
	return f
}

func (a *assembly) piece(r Response, delta func(string), m *project.Model) *deed.ModelFailure {
	if r.Error != nil {
		f := fail("server", "", "the model %q failed in the middle of its reply: %s", m.Name, r.Error.Message)
		f.Retry = true
		return f
	}
	if r.Model != "" {
		a.model = r.Model
	}
	if r.Usage != nil {
		a.usage = r.Usage
	}
	for _, c := range r.Choices {
		if c.Index != 0 {
			continue // we asked for one
		}
		msg := c.Delta
		if msg == nil {
			msg = c.Message
		}
		if msg != nil {
			a.apart.WriteString(cmp.Or(msg.Reasoning, msg.Reasoning2))
			if msg.Content != "" {
				a.text.WriteString(msg.Content)
				delta(msg.Content)
			}
			for _, call := range msg.ToolCalls {
				a.call(call)
			}
		}
		if c.Finish != nil && *c.Finish != "" {
			a.finish = *c.Finish
		}
	}
	return nil
}

// call adds a call, or a piece of one: in a stream the pieces of a call share an index.
func (a *assembly) call(c Call) {
	if c.Index != nil {
		if a.index == nil {
			a.index = map[int]int{}
		}
		if at, ok := a.index[*c.Index]; ok {
			have := &a.calls[at]
			if have.ID == "" {
				have.ID = c.ID
			}
			have.Tool += c.Function.Name
			have.Args += c.Function.Arguments
			return
		}
		a.index[*c.Index] = len(a.calls)
	}
	a.calls = append(a.calls, ledger.Ask{ID: c.ID, Tool: c.Function.Name, Args: c.Function.Arguments})
}

func (a *assembly) reply(m *project.Model, r deed.Request) (deed.Reply, *deed.ModelFailure) {
	out := deed.Reply{Text: a.text.String(), Reasoning: a.apart.String(), Calls: a.calls, Finish: a.finish, Model: a.model}
	if a.finish == "tool_calls" {
		out.Finish = "calls"
	}
	if out.Text == "" && len(out.Calls) == 0 {
		f := fail("empty", "", "the model %q answered nothing", m.Name)
		if a.finish == "length" {
			f = fail("length", "Raise max_tokens of the model, or ask for less.", "the model %q reached its length limit before it said anything", m.Name)
			return out, f
		}
		f.Retry = true
		return out, f
	}
	if a.usage != nil {
		out.Usage = ledger.Usage{In: a.usage.Prompt, Out: a.usage.Completion}
	} else {
		n := prompt.Tokens(out.Text) + prompt.Tokens(out.Reasoning)
		for _, c := range out.Calls {
			n += prompt.Tokens(c.Tool) + prompt.Tokens(c.Args)
		}
		out.Usage = ledger.Usage{In: r.Estimate(), Out: n, Estimated: true}
	}
	return out, nil
}
