package chat

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/tmaxmax/go-sse"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/internal/model"
)

const (
	maxReply  = 16 << 20
	maxCalls  = 1000            // of one reply
	finalWait = 2 * time.Second // for what may follow the end of a reply, such as its usage
)

// Expander puts the values of secrets into a text.
type Expander interface {
	Expand(string) (string, error)
}

// Files gives files by their content.
type Files interface {
	File(ledger.Hash) ([]byte, error)
}

// Wire asks models over HTTP. It is a model.Wire.
type Wire struct {
	secrets Expander
	files   Files
	client  *http.Client
}

// New gives a wire that takes keys from e, and pictures from f; nil shows none.
func New(e Expander, f Files) *Wire {
	return &Wire{secrets: e, files: f, client: &http.Client{Transport: &http.Transport{
		Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: 64, IdleConnTimeout: 60 * time.Second, ForceAttemptHTTP2: true,
		DialContext: (&net.Dialer{Timeout: 10 * time.Second}).DialContext,
	}, CheckRedirect: within}}
}

// Showing gives the same wire with pictures from elsewhere.
func (w *Wire) Showing(f Files) *Wire { return &Wire{secrets: w.secrets, files: f, client: w.client} }

// redirectError says that an endpoint pointed elsewhere.
type redirectError struct{ to string }

func (e *redirectError) Error() string { return "it redirects to " + e.to }

// within lets a request be redirected on its own origin alone, and only as it was: keys and
// the conversation are for nobody else.
func within(next *http.Request, via []*http.Request) error {
	first := via[0].URL
	if next.URL.Scheme != first.Scheme || next.URL.Host != first.Host || next.Method != via[0].Method || len(via) > 3 {
		return &redirectError{next.URL.Redacted()}
	}
	return nil
}

func fail(class deed.Class, remedy, format string, args ...any) *deed.ModelFailure {
	return &deed.ModelFailure{Class: class, Say: fmt.Sprintf(format, args...), Remedy: remedy}
}

// Ask sends a request and reads its reply, passing words on as they come.
func (w *Wire) Ask(ctx context.Context, p *project.Project, m *project.Model, r deed.Request, delta func(string)) (deed.Reply, *deed.ModelFailure) {
	ctx, heard, stop := model.Silence(ctx, m.Timeout)
	defer stop()
	req, bad := w.request(ctx, m, r)
	if bad != nil {
		return deed.Reply{}, bad
	}
	resp, err := w.client.Do(req)
	if err != nil {
		return deed.Reply{}, unreached(ctx, m, err)
	}
	defer resp.Body.Close()
	heard()
	if resp.StatusCode != http.StatusOK {
		return deed.Reply{}, refused(m, resp)
	}
	limited := &io.LimitedReader{R: resp.Body, N: maxReply + 1}
	body := bufio.NewReader(&hearing{limited, heard})
	if mark, err := body.Peek(3); err == nil && string(mark) == "\ufeff" {
		_, _ = body.Discard(3) // it is there
	}
	a := assembly{index: map[int]int{}}
	if m.Written {
		v := &veil{to: delta}
		delta = v.write
		defer v.end()
	}
	if kind, _, err := mime.ParseMediaType(resp.Header.Get("Content-Type")); err == nil && kind == "text/event-stream" {
		bad = a.stream(body, delta, m, stop)
	} else {
		bad = a.whole(body, delta, m)
	}
	switch {
	case limited.N == 0:
		return deed.Reply{}, fail("large", "Ask for less, or lower max_tokens of the model.", "the reply of the model %q is larger than %d MB", m.Name, maxReply>>20)
	case bad != nil && ctx.Err() != nil:
		return deed.Reply{}, unreached(ctx, m, ctx.Err())
	case bad != nil:
		return deed.Reply{}, bad
	}
	return a.reply(m, r)
}

// hearing tells of what is read.
type hearing struct {
	io.Reader
	heard func()
}

func (h *hearing) Read(p []byte) (int, error) {
	n, err := h.Reader.Read(p)
	if n > 0 {
		h.heard()
	}
	return n, err
}

func (w *Wire) request(ctx context.Context, m *project.Model, r deed.Request) (*http.Request, *deed.ModelFailure) {
	raw, err := Body(r, m, w.picture)
	if err != nil {
		return nil, fail("request", "", "the request to %q cannot be written: %v", m.Name, err)
	}
	return w.to(ctx, m, http.MethodPost, "chat/completions", raw)
}

// List asks the endpoint of a model which models it has.
func (w *Wire) List(ctx context.Context, m *project.Model) ([]string, *deed.ModelFailure) {
	ctx, cancel := context.WithTimeout(ctx, m.Timeout)
	defer cancel()
	req, bad := w.to(ctx, m, http.MethodGet, "models", nil)
	if bad != nil {
		return nil, bad
	}
	resp, err := w.client.Do(req)
	if err != nil {
		return nil, unreached(ctx, m, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, refused(m, resp)
	}
	raw, err := io.ReadAll(io.LimitReader(resp.Body, maxReply))
	if err != nil {
		return nil, unreached(ctx, m, err)
	}
	var list struct {
		Data []struct {
			ID string `json:"id"`
		} `json:"data"`
	}
	if err := json.Unmarshal(raw, &list); err != nil || list.Data == nil {
		return nil, fail("reply", "Its endpoint may have no such list; write the name that its own description says.", "what the endpoint of the model %q answers is not a list of models", m.Name)
	}
	out := []string{}
	for _, x := range list.Data {
		out = append(out, x.ID)
	}
	slices.Sort(out)
	return out, nil
}

// to makes a request to the endpoint of a model.
func (w *Wire) to(ctx context.Context, m *project.Model, method, path string, raw []byte) (*http.Request, *deed.ModelFailure) {
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
	req, err := http.NewRequestWithContext(ctx, method, to.JoinPath(path).String(), bytes.NewReader(raw))
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

// picture gives a picture as a data URL; "" where it is not kept any more.
func (w *Wire) picture(f ledger.File) string {
	if w.files == nil {
		return ""
	}
	body, err := w.files.File(f.Hash)
	if err != nil {
		return "" // the words of the result name it
	}
	return "data:" + f.Type + ";base64," + base64.StdEncoding.EncodeToString(body)
}

func unreached(ctx context.Context, m *project.Model, err error) *deed.ModelFailure {
	var op *net.OpError
	var redirect *redirectError
	switch cause := context.Cause(ctx); {
	case errors.Is(cause, model.ErrSilent):
		f := fail("timeout", "Raise timeout: of the model, or ask for less.", "the model %q had said nothing for %s", m.Name, m.Timeout)
		f.Retry = true
		return f
	case errors.Is(cause, context.DeadlineExceeded):
		f := fail("timeout", "Raise longest: of the model, or ask for less.", "the reply of the model %q had not ended after %s", m.Name, m.Longest)
		f.Retry = true
		return f
	case errors.As(err, &redirect):
		return fail("redirect", "Write the address itself into url:, if that is where it is to go.", "the endpoint of the model %q redirects to %s, which is not followed: the conversation and the key are for url: alone", m.Name, redirect.to)
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
	case code == 408 || code == 409 || code >= 500:
		f = fail("server", "", "the endpoint of the model %q answered %d%s", m.Name, code, say)
		f.Retry = true
	default:
		f = fail("request", "", "the endpoint of the model %q did not take the request (%d)%s", m.Name, code, say)
	}
	f.Status = resp.StatusCode
	if f.Retry {
		f.After = after(resp.Header.Get("Retry-After"))
	}
	return f
}

// after reads how long an endpoint asks to wait (RFC 9110).
func after(header string) time.Duration {
	const most = 1 << 31 // seconds; more would overflow
	if s, err := strconv.ParseInt(header, 10, 64); err == nil {
		return time.Duration(min(max(s, 0), most)) * time.Second
	}
	if t, err := http.ParseTime(header); err == nil {
		return max(time.Until(t), 0)
	}
	return 0
}

// assembly puts a reply together from its pieces.
type assembly struct {
	text   strings.Builder
	apart  strings.Builder // reasoning
	calls  []*piecemeal
	index  map[int]int // index of the wire → place in calls
	finish string
	model  string
	usage  *Usage
}

// piecemeal is a call whose pieces come one by one.
type piecemeal struct {
	id, tool string
	args     strings.Builder
}

func (a *assembly) whole(body io.Reader, delta func(string), m *project.Model) *deed.ModelFailure {
	var r Response
	if err := json.NewDecoder(body).Decode(&r); err != nil {
		f := fail("cut", "", "the reply of the model %q is not JSON or broke off: %v", m.Name, err)
		f.Retry = true
		return f
	}
	return a.piece(r, delta, m)
}

func (a *assembly) stream(body io.Reader, delta func(string), m *project.Model, stop func()) *deed.ModelFailure {
	var late *time.Timer
	for ev, err := range sse.Read(body, &sse.ReadConfig{MaxEventSize: 2 * maxReply}) {
		if err != nil {
			break
		}
		if ev.Data == "[DONE]" {
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
		if a.finish != "" && late == nil { // some endpoints send no [DONE], and some do not even close
			late = time.AfterFunc(finalWait, stop)
			defer late.Stop()
		}
	}
	if a.finish != "" {
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
			if text := string(msg.Content) + msg.Refusal; text != "" {
				a.text.WriteString(text)
				delta(text)
			}
			for _, call := range msg.ToolCalls {
				a.call(call)
			}
			if len(a.calls) > maxCalls {
				return fail("calls", "", "the model %q makes more than %d calls in one reply", m.Name, maxCalls)
			}
		}
		if c.Finish != nil && *c.Finish != "" {
			a.finish = *c.Finish
		}
	}
	return nil
}

// call adds a call, or a piece of one. In a stream the pieces of a call share an index; some
// endpoints send none, or 0 for all, and some send the name with each piece.
func (a *assembly) call(c Call) {
	at, known := len(a.calls)-1, len(a.calls) > 0
	if c.Index != nil {
		at, known = a.index[*c.Index]
	}
	if known {
		have := a.calls[at]
		another := c.ID != "" && have.id != "" && c.ID != have.id || c.Index == nil && c.ID == "" && c.Function.Name != "" && have.args.Len() > 0 && json.Valid([]byte(have.args.String()))
		if !another {
			if have.id == "" {
				have.id = c.ID
			}
			if c.Function.Name != have.tool && have.args.Len() == 0 {
				have.tool += c.Function.Name
			}
			have.args.WriteString(string(c.Function.Arguments))
			return
		}
	}
	if c.Index != nil {
		a.index[*c.Index] = len(a.calls)
	}
	p := &piecemeal{id: c.ID, tool: c.Function.Name}
	p.args.WriteString(string(c.Function.Arguments))
	a.calls = append(a.calls, p)
}

// asks gives the calls. Of a reply that was cut for its length those that are whole count.
func (a *assembly) asks() []ledger.Ask {
	var out []ledger.Ask
	for _, p := range a.calls {
		args := p.args.String()
		if a.finish == "length" && args != "" && !json.Valid([]byte(args)) {
			continue
		}
		out = append(out, ledger.Ask{ID: p.id, Tool: p.tool, Args: args})
	}
	return out
}

func (a *assembly) reply(m *project.Model, r deed.Request) (deed.Reply, *deed.ModelFailure) {
	out := deed.Reply{Text: a.text.String(), Reasoning: a.apart.String(), Calls: a.asks(), Finish: a.finish, Model: a.model}
	if m.Written {
		words, calls := readWritten(out.Text)
		if len(calls) > maxCalls {
			return out, fail("calls", "", "the model %q makes more than %d calls in one reply", m.Name, maxCalls)
		}
		out.Text, out.Calls = words, append(out.Calls, calls...)
	}
	switch a.finish {
	case "tool_calls":
		out.Finish = "calls"
	case "content_filter":
		return out, fail("filter", "Ask in other words, or give the model a fallback.", "the endpoint of the model %q withheld the reply by its filter", m.Name)
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
	if u := a.usage; u != nil && u.Prompt >= 0 && u.Completion >= 0 {
		out.Usage = ledger.Usage{In: int(u.Prompt), Out: int(u.Completion)}
	} else {
		n := prompt.Tokens(out.Text) + prompt.Tokens(out.Reasoning)
		for _, c := range out.Calls {
			n += prompt.Tokens(c.Tool) + prompt.Tokens(c.Args)
		}
		out.Usage = ledger.Usage{In: r.Estimate(), Out: n, Estimated: true}
	}
	return out, nil
}
