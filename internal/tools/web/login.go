package web

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"golang.org/x/oauth2"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/project"
	"stonebaton.example/core/scope"
	"stonebaton.example/core/value"
)

// Bounds of a login.
const (
	loginTime = 15 * time.Second
	maxLogin  = 1 << 20
)

func loginKey(l *project.Login) string {
	raw, err := json.Marshal(l)
	if err != nil {
		panic("a login is texts: " + err.Error())
	}
	return "login " + string(raw)
}

// login gives the token of a login route, and posts the credentials where there is none yet.
func (c *Client) login(ctx context.Context, l *project.Login) (string, error) {
	t, err := c.kept(loginKey(l), func() (oauth2.TokenSource, error) { return oauth2.ReuseTokenSource(nil, &loggingIn{c, l}), nil }, func(err error) error { return err })
	if err != nil {
		return "", err
	}
	return t, ctx.Err()
}

// loggingIn posts credentials for a token.
type loggingIn struct {
	client *Client
	login  *project.Login
}

func (g *loggingIn) Token() (*oauth2.Token, error) {
	l := g.login
	fail := func(format string, args ...any) (*oauth2.Token, error) {
		return nil, &TokenError{fmt.Sprintf("%s gave no token: %s", l.URL, fmt.Sprintf(format, args...))}
	}
	var missing error
	raw, err := json.Marshal(value.Texts(l.Body, func(s string) string {
		x, err := g.client.secrets.Expand(s)
		missing = errors.Join(missing, err)
		return x
	}))
	if err = errors.Join(missing, err); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), loginTime) // others may wait for it too
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, l.URL, bytes.NewReader(raw))
	if err != nil {
		return fail("%v", Brief(err))
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Accept", "application/json")
	resp, err := g.client.open.Do(req)
	if err != nil {
		return fail("%v", Brief(err))
	}
	defer resp.Body.Close()
	back, err := io.ReadAll(io.LimitReader(resp.Body, maxLogin))
	if err != nil {
		return fail("%v", Brief(err))
	}
	if resp.StatusCode < 200 || resp.StatusCode > 299 {
		return fail("it answered %d", resp.StatusCode)
	}
	body, err := value.Read(back)
	if err != nil {
		return fail("its answer is not JSON")
	}
	headers := map[string]any{}
	for k := range resp.Header {
		headers[strings.ToLower(k)] = resp.Header.Get(k)
	}
	v, err := l.Token.Fill(expr.Vars{"response": scope.ResponseOf(resp.StatusCode, body, headers)})
	if err != nil {
		return fail("%s is not in its answer", strings.TrimPrefix(l.Where, "="))
	}
	token, _ := v.(string)
	if token == "" || strings.ContainsAny(token, "\r\n") {
		return fail("%s is not a text in its answer", strings.TrimPrefix(l.Where, "="))
	}
	g.client.secrets.Keep("login token", token)
	return &oauth2.Token{AccessToken: token}, nil
}
