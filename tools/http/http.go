// Package http carries tools out that are one HTTP request. Secrets are put in
// at the last moment and never come back; redirects to another host are not
// followed; what came back, and how far the request had got, decides what is
// known of a failed call.
package http

import (
	"bytes"
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

	"stonebaton/core/expr"
	"stonebaton/core/ledger"
	"stonebaton/core/loop"
	"stonebaton/core/project"
	"stonebaton/engine"
	"stonebaton/tools"
)

// Bounds of one reply and of its record.
const (
	maxReply  = 4 << 20
	maxRecord = 2 << 10
)

// Expander puts the values of secrets into a text.
type Expander interface {
	Expand(string) (string, error)
}

// Handler sends requests.
type Handler struct {
	secrets Expander
	client  *http.Client
}

// New gives a handler that takes secrets from e.
func New(e Expander) *Handler {
	return &Handler{secrets: e, client: &http.Client{
		Transport: &http.Transport{Proxy: nil, MaxIdleConnsPerHost: 8, IdleConnTimeout: 30 * time.Second, ForceAttemptHTTP2: true,
			DialContext: (&net.Dialer{Timeout: 5 * time.Second}).DialContext},
		CheckRedirect: func(req *http.Request, via []*http.Request) error {
			if req.URL.Host != via[0].URL.Host || req.URL.Scheme != via[0].URL.Scheme {
				return &redirectError{req.URL.Host}
			}
			if len(via) > 3 {
				return errors.New("more than three redirects")
			}
			return nil
		},
	}}
}

type redirectError struct{ host string }

func (e *redirectError) Error() string { return "it redirects to another host, " + e.host }

func notDone(class, format string, args ...any) *loop.Failure {
	return &loop.Failure{Outcome: ledger.NotDone, Class: class, Say: fmt.Sprintf(format, args...)}
}

// Call sends the request of a call.
func (h *Handler) Call(ctx context.Context, i engine.Invocation) (loop.Result, *loop.Failure) {
	req, proof, bad := h.request(ctx, i)
	if bad != nil {
		return loop.Result{}, bad
	}
	resp, err := h.client.Do(req)
	if err != nil {
		f := failed(err)
		f.Sent = proof
		return loop.Result{}, f
	}
	defer resp.Body.Close()
	proof.Status = resp.StatusCode
	raw, err := io.ReadAll(io.LimitReader(resp.Body, maxReply+1))
	proof.Bytes = int64(len(raw))
	fail := func(o ledger.Outcome, class, format string, args ...any) (loop.Result, *loop.Failure) {
		f := &loop.Failure{Outcome: o, Class: class, Say: fmt.Sprintf(format, args...), Status: resp.StatusCode, Sent: proof}
		f.Body = decode(raw)
		proof.Reply = tools.Clip(string(raw), maxRecord)
		return loop.Result{}, f
	}
	switch {
	case err != nil:
		r, f := fail(ledger.Unknown, "cut", "the reply of %s broke off after %d bytes: %v", req.URL.Host, len(raw), brief(err))
		f.Retry = true
		return r, f
	case len(raw) > maxReply:
		return fail(ledger.Unknown, "large", "the reply of %s is larger than %d MB; ask for less", req.URL.Host, maxReply>>20)
	case resp.StatusCode == http.StatusTooManyRequests:
		r, f := fail(ledger.NotDone, "rate", "%s answered 429: too many requests", req.URL.Host)
		f.Retry, f.After = true, retryAfter(resp.Header)
		return r, f
	case resp.StatusCode >= 500:
		r, f := fail(ledger.Unknown, "server", "%s answered %d%s", req.URL.Host, resp.StatusCode, reason(raw))
		f.Retry, f.After = true, retryAfter(resp.Header)
		return r, f
	case resp.StatusCode >= 300:
		if say := reason(raw); say != "" { // what it says of itself is what helps; who said it stands in the proof
			return fail(ledger.NotDone, "refused", "%s", strings.TrimPrefix(say, ": "))
		}
		return fail(ledger.NotDone, "refused", "%s answered %d", req.URL.Host, resp.StatusCode)
	}
	body := decode(raw)
	value := body
	if i.Tool.HTTP.Pick != nil {
		headers := map[string]any{}
		for k := range resp.Header {
			headers[strings.ToLower(k)] = resp.Header.Get(k)
		}
		i.Vars["response"] = map[string]any{"status": int64(resp.StatusCode), "body": body, "headers": headers}
		picked, err := i.Tool.HTTP.Pick.Fill(i.Vars)
		if err != nil {
			return fail(ledger.Unknown, "result", "pick found nothing in the reply: %v", err)
		}
		value = tools.Plain(picked)
	}
	return loop.Result{Value: value, Sent: proof}, nil
}

func (h *Handler) request(ctx context.Context, i engine.Invocation) (*http.Request, *ledger.Sent, *loop.Failure) {
	spec := i.Tool.HTTP
	config := func(err error) (*http.Request, *ledger.Sent, *loop.Failure) {
		return nil, nil, notDone("config", "the request of %s could not be made: %v", i.Tool.Name, err)
	}
	where, err := spec.URL.FillWith(i.Vars, url.PathEscape)
	if err != nil {
		return config(err)
	}
	if j := strings.Index(where, "${"); j >= 0 && !strings.HasPrefix(where[j:], "${secret:") {
		return config(fmt.Errorf("%s is not set; put it into the project's .env or the environment", strings.TrimSuffix(strings.TrimPrefix(where[j:], "${"), "}")))
	}
	if spec.Query != nil {
		q, err := query(spec.Query, i.Vars)
		if err != nil {
			return config(err)
		}
		if q != "" {
			where += "?" + q
		}
	}
	var body []byte
	if spec.Body != nil {
		v, err := spec.Body.Fill(i.Vars)
		if err == nil {
			body, err = json.Marshal(v)
		}
		if err != nil {
			return config(err)
		}
	}
	proof := &ledger.Sent{Method: spec.Method, URL: where, Body: tools.Clip(string(body), maxRecord)}
	full, err := h.secrets.Expand(where)
	if err != nil {
		return config(err)
	}
	req, err := http.NewRequestWithContext(ctx, spec.Method, full, bytes.NewReader(body))
	if err != nil {
		return config(err)
	}
	if req.URL.Host == "" {
		return config(fmt.Errorf("%q is not an absolute URL", where))
	}
	req.Header.Set("Accept", "application/json")
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if i.Tool.Effect != ledger.Read {
		req.Header.Set("Idempotency-Key", i.Key)
	}
	if err := h.headers(req, spec, i.Vars); err != nil {
		return config(err)
	}
	return req, proof, nil
}

func (h *Handler) headers(req *http.Request, spec *project.HTTP, v expr.Vars) error {
	for k, t := range spec.Headers {
		s, err := t.Fill(v)
		if err == nil {
			s, err = h.secrets.Expand(s)
		}
		if err != nil {
			return err
		}
		req.Header.Set(k, s)
	}
	if spec.Bearer != "" {
		token, err := h.secrets.Expand(spec.Bearer)
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+token)
	}
	return nil
}

func query(m *expr.Mapping, v expr.Vars) (string, error) {
	x, err := m.Fill(v)
	if err != nil {
		return "", err
	}
	q := url.Values{}
	fields, _ := x.(map[string]any)
	for k, e := range fields {
		if e == nil {
			continue
		}
		if list, ok := e.([]any); ok {
			for _, one := range list {
				q.Add(k, expr.Show(one))
			}
			continue
		}
		q.Set(k, expr.Show(e))
	}
	return q.Encode(), nil
}

func decode(raw []byte) any {
	var v any
	if json.Unmarshal(raw, &v) == nil {
		return v
	}
	if len(raw) == 0 {
		return nil
	}
	return strings.ToValidUTF8(string(raw), "�")
}

// reason finds what a refusal says of itself, in the ways that are common.
func reason(raw []byte) string {
	var body map[string]any
	if json.Unmarshal(raw, &body) == nil {
		for _, k := range []string{"detail", "message", "error", "title"} {
			if s, ok := body[k].(string); ok && s != "" {
				return ": " + tools.Clip(s, 300)
			}
		}
	}
	return ""
}

func retryAfter(h http.Header) time.Duration {
	if s, err := strconv.Atoi(h.Get("Retry-After")); err == nil && s >= 0 {
		return time.Duration(s) * time.Second
	}
	if t, err := http.ParseTime(h.Get("Retry-After")); err == nil {
		return time.Until(t)
	}
	return 0
}

// failed says what is known of a request that brought no reply.
func failed(err error) *loop.Failure {
	var ue *url.Error
	host := "the service"
	if errors.As(err, &ue) {
		if u, perr := url.Parse(ue.URL); perr == nil {
			host = u.Host
		}
	}
	var redirect *redirectError
	var op *net.OpError
	var dns *net.DNSError
	f := &loop.Failure{Outcome: ledger.Unknown, Class: "unreachable", Retry: true}
	switch {
	case errors.As(err, &redirect):
		f.Outcome, f.Class, f.Retry = ledger.NotDone, "refused", false
		f.Say = fmt.Sprintf("%s was not followed: %v", host, redirect)
	case errors.As(err, &dns):
		f.Outcome, f.Say = ledger.NotDone, fmt.Sprintf("%s cannot be found", host)
	case errors.As(err, &op) && op.Op == "dial":
		f.Outcome, f.Say = ledger.NotDone, fmt.Sprintf("%s does not answer: %s", host, brief(op.Err))
	case errors.Is(err, context.DeadlineExceeded):
		f.Class, f.Say = "timeout", fmt.Sprintf("%s did not answer in time", host)
	case errors.Is(err, context.Canceled):
		f.Class, f.Say, f.Retry = "stopped", fmt.Sprintf("the request to %s was cancelled", host), false
	default:
		f.Say = fmt.Sprintf("the connection to %s broke: %s", host, brief(err))
	}
	return f
}

// brief gives the last part of a chain of errors.
func brief(err error) string {
	s := err.Error()
	if i := strings.LastIndex(s, ": "); i >= 0 {
		return s[i+2:]
	}
	return s
}
