// Package http carries tools out that are one HTTP request, described in a
// project's file or by an operation of an OpenAPI document. Secrets are put in
// at the last moment and never come back; what came back, and how far the
// request had got, decides what is known of a failed call.
package http

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/net/http/httpguts"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/openapi"
	"stonebaton.example/core/project"
	"stonebaton.example/core/scope"
	"stonebaton.example/core/value"
	"stonebaton.example/internal/tools"
	"stonebaton.example/internal/tools/web"
)

// Bounds of one reply and of its record.
const (
	maxReply    = 4 << 20
	maxRecord   = 2 << 10
	benchRecord = 256 << 10
)

// Handler sends requests.
type Handler struct {
	client *web.Client
	dir    string
}

// New gives a handler that sends through c, and files of the project in dir where they may be.
func New(c *web.Client, dir string) *Handler { return &Handler{c, dir} }

// outgoing is a request, who makes it, and how it is shown.
type outgoing struct {
	req   *http.Request
	auth  *project.Auth
	grant web.Grant
	proof *ledger.Sent
}

// Call sends the request of a call.
func (h *Handler) Call(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
	r, f, again := h.send(ctx, i)
	if again { // a token that ended early: nothing was done, so a new one is fetched at once
		r, f, _ = h.send(ctx, i)
	}
	return r, f
}

// Check says that the token of a tool has expired.
func (h *Handler) Check(_ context.Context, t *project.Tool) error {
	if t.Remote != nil {
		return h.client.Expired(t.Remote.Source.Auth, time.Now())
	}
	return h.client.Expired(t.Work.Spec.(*Request).Auth, time.Now())
}

func (h *Handler) send(ctx context.Context, i deed.Invocation) (_ deed.Result, _ *deed.Failure, again bool) {
	out, err := h.request(ctx, i)
	if err != nil {
		var te *web.TokenError
		if errors.As(err, &te) {
			return deed.Result{}, deed.NotDone("auth", "%v", err), false
		}
		return deed.Result{}, deed.NotDone("config", "the request of %s cannot be made: %v", i.Tool.Name, err), false
	}
	proof, host := out.proof, out.req.URL.Host
	resp, err := h.client.Do(out.req, out.grant)
	if err != nil {
		f := failed(err)
		f.Sent = proof
		return deed.Result{}, f, false
	}
	defer resp.Body.Close()
	proof.Status, proof.Type = resp.StatusCode, resp.Header.Get("Content-Type")
	raw, err := io.ReadAll(io.LimitReader(resp.Body, maxReply+1))
	proof.Bytes = int64(len(raw))
	proof.Reply = tools.Clip(string(raw), record(i))
	if resp.StatusCode == http.StatusUnauthorized && h.client.Forget(out.auth) {
		return deed.Result{}, deed.NotDone("auth", "%s answered 401: it does not accept the token", host), true
	}
	fail := func(o ledger.Outcome, class deed.Class, format string, args ...any) (deed.Result, *deed.Failure, bool) {
		return deed.Result{}, &deed.Failure{Outcome: o, Class: class, Say: fmt.Sprintf(format, args...), Status: resp.StatusCode, Body: decode(raw), Sent: proof}, false
	}
	switch {
	case err != nil:
		r, f, _ := fail(ledger.Unknown, "cut", "the reply of %s broke off after %d bytes: %v", host, len(raw), web.Brief(err))
		f.Retry = true
		return r, f, false
	case len(raw) > maxReply:
		return fail(ledger.Unknown, "large", "the reply of %s is larger than %d MB; ask for less", host, maxReply>>20)
	case resp.StatusCode == http.StatusTooManyRequests:
		r, f, _ := fail(ledger.NotDone, "rate", "%s answered 429: too many requests", host)
		f.Retry, f.After = true, retryAfter(resp.Header)
		return r, f, false
	case resp.StatusCode >= 500:
		r, f, _ := fail(ledger.Unknown, "server", "%s answered %d%s", host, resp.StatusCode, reason(raw))
		f.Retry, f.After = true, retryAfter(resp.Header)
		return r, f, false
	case resp.StatusCode >= 300:
		if say := reason(raw); say != "" { // what it says of itself is what helps; who said it stands in the proof
			return fail(ledger.NotDone, "refused", "%s", strings.TrimPrefix(say, ": "))
		}
		return fail(ledger.NotDone, "refused", "%s answered %d", host, resp.StatusCode)
	}
	var media tools.Media
	body := decode(raw)
	if binary(proof.Type, raw) {
		proof.Reply = ""
		body = media.Add("file", proof.Type, fileName(resp), raw)
	}
	found := body
	var how project.Reading
	if r, ok := i.Tool.Work.Spec.(*Request); ok {
		how = r.Reading
	} else {
		how = i.Tool.Remote.Reading
	}
	headers := map[string]any{}
	for k := range resp.Header {
		headers[strings.ToLower(k)] = resp.Header.Get(k)
	}
	i.Vars["response"] = scope.ResponseOf(resp.StatusCode, body, headers)
	if how.FailsWhen != nil {
		failed, err := how.FailsWhen.True(i.Vars)
		if err != nil {
			return fail(ledger.Unknown, "result", "fails_when failed to evaluate: %v", err)
		}
		if failed {
			return fail(ledger.NotDone, "refused", "%s", cmp.Or(strings.TrimPrefix(reason(raw), ": "), fmt.Sprintf("%s answered %d, and the reply says that it failed (%s)", host, resp.StatusCode, how.FailsWhen)))
		}
	}
	if how.Pick != nil {
		picked, err := how.Pick.Fill(i.Vars)
		if err != nil {
			return fail(ledger.Unknown, "result", "pick found nothing in the reply: %v", err)
		}
		found = value.Plain(picked)
		if how.NotFound && isEmpty(found) {
			return fail(ledger.NotDone, "not_found", "nothing was found")
		}
	}
	return deed.Result{Value: found, Sent: proof, Files: media.Files}, nil, false
}

// binary says whether a reply is a file, and not a text for somebody to read.
func binary(said string, raw []byte) bool {
	kind, _, _ := mime.ParseMediaType(said)
	group, _, _ := strings.Cut(kind, "/")
	switch {
	case len(raw) == 0 || kind == "image/svg+xml":
		return false
	case group == "image" || group == "audio" || group == "video" || kind == "application/pdf":
		return true
	}
	return !utf8.Valid(raw)
}

// fileName gives the name of a reply that is a file, as it or its address says.
func fileName(resp *http.Response) string {
	_, how, _ := mime.ParseMediaType(resp.Header.Get("Content-Disposition"))
	return cmp.Or(how["filename"], resp.Request.URL.Path)
}

// isEmpty says whether what was picked holds nothing.
func isEmpty(v any) bool {
	switch v := v.(type) {
	case nil:
		return true
	case string:
		return v == ""
	case []any:
		return len(v) == 0
	case map[string]any:
		return len(v) == 0
	}
	return false
}

func record(i deed.Invocation) int {
	if i.Bench {
		return benchRecord
	}
	return maxRecord
}

// request makes the request of a call, of either kind of tool.
func (h *Handler) request(ctx context.Context, i deed.Invocation) (*outgoing, error) {
	var d draft
	var err error
	if r, ok := i.Tool.Work.Spec.(*Request); ok {
		d, err = ofFile(i, r)
	} else {
		d, err = ofOperation(i)
	}
	if err != nil {
		return nil, err
	}
	if d.files, err = h.files(ctx, i); err != nil {
		return nil, err
	}
	d.named(i)
	if name := project.Variable(loose(d.url)); name != "" {
		return nil, fmt.Errorf("%s is not set; put it into the project's .env or the environment", name)
	}
	d.headers["Accept"] = cmp.Or(d.headers["Accept"], "application/json")
	if d.body != nil {
		d.headers["Content-Type"] = d.kind
	}
	if i.Tool.Effect != ledger.Read {
		d.headers["Idempotency-Key"] = i.Key
	}
	var missing error
	full, headers, body, err := d.written(func(s string) string {
		x, err := h.client.Expand(s)
		if missing == nil {
			missing = err
		}
		return x
	})
	if err = errors.Join(err, missing); err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, d.method, full, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	if req.URL.Host == "" {
		return nil, fmt.Errorf("%q is not an absolute URL", d.url)
	}
	for k, v := range headers {
		req.Header.Set(k, v)
	}
	if err := h.client.Sign(req, d.auth); err != nil {
		return nil, err
	}
	d.brief = true
	at, shown, sent, err := d.written(func(s string) string { return s })
	if err != nil {
		return nil, err
	}
	web.Show(d.auth, shown)
	d.grant.Host = d.host
	return &outgoing{req: req, auth: d.auth, grant: d.grant,
		proof: &ledger.Sent{Method: d.method, URL: encodedSecret.ReplaceAllString(at, "$${secret:$1}"), Headers: shown, Body: tools.Clip(string(sent), record(i))}}, nil
}

// encodedSecret is the name of a secret as it stands in a query.
var encodedSecret = regexp.MustCompile(`%24%7Bsecret%3A(\w+)%7D`)

// draft is a request before secrets are put in. Host is the one that the files
// name; "" where it comes from the arguments. What comes from the arguments is held:
// only the files name secrets.
type draft struct {
	method, url, host, kind string
	query                   any // beside what url has
	headers                 map[string]string
	body                    any                // written as kind says; nil: none
	operation               *project.Operation // whose body it is; nil: of a tool's file
	auth                    *project.Auth
	grant                   web.Grant
	files                   map[string][]deed.File // by the argument that names them
	brief                   bool                   // files are shown by their names
}

// hold keeps a text from ever being read as the name of a secret, also together
// with what stands beside it; loose gives it back as it was.
var hold, loose = strings.NewReplacer("$", "$\x00", "{", "\x00{").Replace, strings.NewReplacer("$\x00", "$", "\x00{", "{").Replace

// written gives the request with every text of it passed through expand.
func (d *draft) written(expand func(string) string) (address string, headers map[string]string, body []byte, err error) {
	put := func(s string) string { return loose(expand(s)) }
	address = put(d.url)
	if q := values(value.Texts(d.query, put)).Encode(); q != "" {
		address += "?" + q
	}
	headers = map[string]string{}
	for k, v := range d.headers {
		headers[k] = put(v)
	}
	if d.body == nil {
		return address, headers, nil, nil
	}
	tree := value.Texts(d.body, put)
	kind, params, _ := mime.ParseMediaType(d.kind)
	switch {
	case d.operation != nil && len(d.files[d.operation.Arg]) > 0:
		body = d.content(d.files[d.operation.Arg][0])
	case kind == "multipart/form-data":
		fields, _ := tree.(map[string]any)
		body, err = d.parts(fields, params["boundary"])
	case kind == "application/x-www-form-urlencoded" && d.operation != nil:
		fields, _ := tree.(map[string]any)
		body = []byte(openapi.Form(d.operation, fields))
	case kind == "application/x-www-form-urlencoded":
		body = []byte(values(tree).Encode())
	case strings.HasPrefix(kind, "text/"):
		body = []byte(expr.Show(tree))
	default:
		body, err = json.Marshal(tree)
	}
	return address, headers, body, err
}

func ofFile(i deed.Invocation, spec *Request) (draft, error) {
	d := draft{method: spec.Method, headers: map[string]string{}, auth: spec.Auth, grant: web.Grant{Private: spec.Private, Redirects: spec.Redirects}, kind: "application/json"}
	var err error
	var dots bool
	if d.url, err = spec.URL.FillWith(i.Vars, func(v string) string {
		dots = dots || v == "." || v == ".."
		return hold(url.PathEscape(v))
	}); err != nil {
		return d, err
	}
	if dots {
		return d, errors.New("a part of the path would lead elsewhere (. or ..)")
	}
	d.host = hostOf(spec.URL.String())
	if d.query, err = spec.Query.FillWith(i.Vars, hold); err != nil {
		return d, err
	}
	for k, t := range spec.Headers {
		v, err := t.FillWith(i.Vars, hold)
		if err != nil {
			return d, err
		}
		if !httpguts.ValidHeaderFieldValue(loose(v)) {
			return d, fmt.Errorf("the header %s would hold a line break, or another character that no header may hold", k)
		}
		d.headers[http.CanonicalHeaderKey(k)] = v
	}
	if spec.Form != nil {
		d.kind = "application/x-www-form-urlencoded"
		d.body, err = spec.Form.FillWith(i.Vars, hold)
		return d, err
	}
	d.body, err = spec.Body.FillWith(i.Vars, hold)
	if spec.Body != nil && d.body == nil {
		d.body = json.RawMessage("null")
	}
	return d, err
}

// hostOf gives the host that a URL names before any value is put in; "" where a
// value could change it.
func hostOf(template string) string {
	rest, ok := strings.CutPrefix(template, "https://")
	if !ok {
		if rest, ok = strings.CutPrefix(template, "http://"); !ok {
			return ""
		}
	}
	host, _, _ := strings.Cut(rest, "/")
	host, _, _ = strings.Cut(host, "?")
	if strings.ContainsAny(host, "{}$@") {
		return ""
	}
	return host
}

// values makes a query or form of a mapping's value; lists repeat the name.
func values(v any) url.Values {
	q := url.Values{}
	fields, _ := v.(map[string]any)
	for k, e := range fields {
		if list, ok := e.([]any); ok {
			for _, one := range list {
				q.Add(k, expr.Show(one))
			}
		} else if e != nil {
			q.Set(k, expr.Show(e))
		}
	}
	return q
}

func decode(raw []byte) any {
	if v, err := value.Read(raw); err == nil {
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
func failed(err error) *deed.Failure {
	var ue *url.Error
	host := "the service"
	if errors.As(err, &ue) {
		if u, perr := url.Parse(ue.URL); perr == nil {
			host = u.Host
		}
	}
	var redirect *web.RedirectError
	var private *web.PrivateError
	var op *net.OpError
	var dns *net.DNSError
	f := &deed.Failure{Outcome: ledger.Unknown, Class: "unreachable", Retry: true}
	switch {
	case errors.As(err, &redirect):
		f.Class, f.Retry, f.Status = "refused", false, redirect.Status
		if redirect.Status >= 307 { // the others may point at what was done
			f.Outcome = ledger.NotDone
		}
		f.Say = fmt.Sprintf("the reply was not used: %v", redirect)
	case errors.As(err, &private):
		f.Outcome, f.Class, f.Retry = ledger.NotDone, "refused", false
		f.Say = fmt.Sprintf("%s was not called: %v", host, private)
	case errors.As(err, &dns):
		f.Outcome, f.Say = ledger.NotDone, fmt.Sprintf("%s cannot be found", host)
	case errors.As(err, &op) && op.Op == "dial":
		f.Outcome, f.Say = ledger.NotDone, fmt.Sprintf("%s does not answer: %s", host, web.Brief(op.Err))
	case errors.Is(err, context.DeadlineExceeded):
		f.Class, f.Say = "timeout", fmt.Sprintf("%s did not answer in time", host)
	case errors.Is(err, context.Canceled):
		f.Class, f.Say, f.Retry = "stopped", fmt.Sprintf("the request to %s was cancelled", host), false
	default:
		f.Say = fmt.Sprintf("the connection to %s broke: %s", host, web.Brief(err))
	}
	return f
}

// ofOperation makes the request of an operation, its parameters put where the
// document says.
func ofOperation(i deed.Invocation) (draft, error) {
	op, src := i.Tool.Remote.Operation, i.Tool.Remote.Source
	server := op.Server
	if src.Server != "" {
		server = src.Server
	}
	d := draft{method: op.Method, headers: map[string]string{}, auth: src.Auth, grant: web.Grant{Private: src.Private, Redirects: src.Redirects}, host: hostOf(server)}
	args, _ := i.Args.(map[string]any)
	rest := map[string]any{}
	for k, v := range args {
		rest[k] = v
	}
	path := op.Path
	var query, cookies []string
	for _, p := range op.Params {
		v, ok := args[p.Arg]
		delete(rest, p.Arg)
		if !ok || v == nil {
			continue
		}
		text := openapi.Encoded(p, v)
		switch p.In {
		case "path":
			if t := strings.TrimLeft(text, ".;"); text == "" || text == "." || text == ".." || (p.Style != "" && t == "") {
				return d, fmt.Errorf("%s cannot be %q: it is part of the path", p.Arg, expr.Show(v))
			}
			path = strings.ReplaceAll(path, "{"+p.Name+"}", text)
		case "query":
			if text != "" {
				query = append(query, text)
			}
		case "header":
			if !httpguts.ValidHeaderFieldValue(text) {
				return d, fmt.Errorf("%s would put a line break, or another character that no header may hold, into a header", p.Arg)
			}
			d.headers[http.CanonicalHeaderKey(p.Name)] = hold(text)
		case "cookie":
			if text != "" {
				cookies = append(cookies, text)
			}
		}
	}
	if len(cookies) > 0 {
		d.headers["Cookie"] = strings.Join(cookies, "; ")
	}
	d.url = strings.TrimSuffix(server, "/") + path
	if len(query) > 0 {
		d.url += "?" + strings.Join(query, "&")
	}
	if op.Body == "" {
		return d, nil
	}
	var body any = rest
	if op.Arg != "" {
		var ok bool
		if body, ok = args[op.Arg]; !ok {
			return d, nil
		}
	}
	d.kind, d.body, d.operation = op.Body, value.Texts(body, hold), op
	return d, nil
}
