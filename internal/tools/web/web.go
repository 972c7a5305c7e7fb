// Package web sends HTTP requests for tools within what their files grant: to
// the hosts that a file names, to public addresses beyond, and to private ones
// or along redirects only where that is allowed. It also says who asks.
package web

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"path"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"stonebaton.example/core/project"
	"stonebaton.example/internal/addr"
)

// Secrets puts the values of secrets into texts, and learns values that are
// secret from now on.
type Secrets interface {
	Expand(string) (string, error)
	Keep(name, value string)
}

// Grant is how far one request may go.
type Grant struct {
	Host      string // with its port, named by a file: it may have any address
	Private   bool   // other hosts may have private addresses too
	Redirects bool
	Allowed   func(url string) bool // nil: any; asked at each step of the way
}

// Client sends requests. Connections to addresses that only some may reach are
// kept apart from the others.
type Client struct {
	open, public *http.Client
	secrets      Secrets

	mu     sync.Mutex
	tokens map[string]oauth2.TokenSource
}

// New gives a client that takes secrets from s.
func New(s Secrets) *Client {
	make := func(control func(network, address string, c syscall.RawConn) error) *http.Client {
		return &http.Client{
			Transport: &http.Transport{Proxy: nil, MaxIdleConnsPerHost: 8, IdleConnTimeout: 30 * time.Second, ForceAttemptHTTP2: true,
				DialContext: (&net.Dialer{Timeout: 5 * time.Second, Control: control}).DialContext},
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		}
	}
	return &Client{open: make(nil), public: make(publicOnly), secrets: s, tokens: map[string]oauth2.TokenSource{}}
}

// PrivateError says that an address is one that only insiders reach.
type PrivateError struct{ Address string }

func (e *PrivateError) Error() string {
	return fmt.Sprintf("%s is a private address; say private: true where that is meant", e.Address)
}

// RedirectError says that a reply points elsewhere and was not followed.
type RedirectError struct {
	To, Why string
	Status  int
}

func (e *RedirectError) Error() string {
	return fmt.Sprintf("it redirects to %s, which was not followed: %s", e.To, e.Why)
}

// publicOnly refuses a connection once its name has been resolved, so that no
// name can stand for an inner address.
func publicOnly(_, address string, _ syscall.RawConn) error {
	ap, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	if a := ap.Addr().Unmap(); !addr.Public(a) {
		return &PrivateError{a.String()}
	}
	return nil
}

const maxHops = 5

// Do sends a request and follows redirects as far as the grant lets it. What
// says who asks is not sent on to another host.
func (c *Client) Do(req *http.Request, g Grant) (*http.Response, error) {
	for hop := 0; ; hop++ {
		if g.Allowed != nil && !g.Allowed(req.URL.String()) {
			return nil, &url.Error{Op: req.Method, URL: req.URL.String(), Err: errors.New("it is not among the addresses that are allowed")}
		}
		client := c.public
		if g.Private || req.URL.Host == g.Host {
			client = c.open
		}
		resp, err := client.Do(req)
		if err != nil {
			return nil, err
		}
		to := resp.Header.Get("Location")
		if resp.StatusCode < 301 || resp.StatusCode > 308 || resp.StatusCode == 304 || to == "" {
			return resp, nil
		}
		next, err := req.URL.Parse(to)
		refuse := func(why string) (*http.Response, error) {
			resp.Body.Close()
			return nil, &RedirectError{to, why, resp.StatusCode}
		}
		switch {
		case err != nil || (next.Scheme != "http" && next.Scheme != "https"):
			return refuse("it is not a web address")
		case !g.Redirects:
			return refuse("say redirects: true where that is meant")
		case hop == maxHops:
			return refuse(fmt.Sprintf("there were %d before it", maxHops))
		case req.URL.Scheme == "https" && next.Scheme == "http":
			return refuse("it leads to an unencrypted address")
		}
		_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, 64<<10)) // so that the connection can be used again
		resp.Body.Close()
		again := req.Clone(req.Context())
		again.URL, again.Host = next, ""
		if resp.StatusCode == 303 || ((resp.StatusCode == 301 || resp.StatusCode == 302) && req.Method == http.MethodPost) {
			again.Method, again.Body, again.GetBody, again.ContentLength = http.MethodGet, nil, nil, 0
			again.Header.Del("Content-Type")
		} else if req.GetBody != nil {
			if again.Body, err = req.GetBody(); err != nil {
				return nil, err
			}
		}
		if next.Host != req.URL.Host {
			keep := http.Header{}
			for _, k := range []string{"Accept", "Content-Type", "User-Agent"} {
				if v := req.Header.Get(k); v != "" {
					keep.Set(k, v)
				}
			}
			again.Header = keep
		}
		req = again
	}
}

// Sign adds what says who asks. Show gives it as it may be shown: secrets by
// their names.
func (c *Client) Sign(req *http.Request, a *project.Auth) error {
	if a == nil {
		return nil
	}
	set := func(to func(string), v string) error {
		x, err := c.secrets.Expand(v)
		if err == nil {
			to(x)
		}
		return err
	}
	var err error
	keep := func(e error) {
		if err == nil {
			err = e
		}
	}
	switch {
	case a.Bearer != "":
		keep(set(func(v string) { req.Header.Set("Authorization", "Bearer "+v) }, a.Bearer))
	case a.User != "" || a.Password != "":
		var user string
		keep(set(func(v string) { user = v }, a.User))
		keep(set(func(v string) { req.SetBasicAuth(user, v) }, a.Password))
	case a.OAuth != nil:
		token, terr := c.token(req.Context(), a.OAuth)
		if terr != nil {
			return terr
		}
		req.Header.Set("Authorization", "Bearer "+token)
	case a.Login != nil:
		token, terr := c.login(req.Context(), a.Login)
		if terr != nil {
			return terr
		}
		req.Header.Set("Authorization", "Bearer "+token)
	}
	for k, v := range a.Header {
		keep(set(func(v string) { req.Header.Set(k, v) }, v))
	}
	if len(a.Query) > 0 {
		q := req.URL.Query()
		for k, v := range a.Query {
			keep(set(func(v string) { q.Set(k, v) }, v))
		}
		req.URL.RawQuery = q.Encode()
	}
	return err
}

// Expired says that the token with which requests would be signed has expired, where it is a
// JSON Web Token that says when (RFC 7519). Its signature is for the other side to check. A
// secret that has no value is for Sign to report.
func (c *Client) Expired(a *project.Auth, now time.Time) error {
	if a == nil || a.Bearer == "" {
		return nil
	}
	token, err := c.secrets.Expand(a.Bearer)
	if err != nil {
		return nil
	}
	var claims jwt.RegisteredClaims
	if _, _, err := jwt.NewParser().ParseUnverified(token, &claims); err != nil || claims.ExpiresAt == nil || claims.ExpiresAt.After(now) || claims.ExpiresAt.Year() > 9999 { // such a time has overflowed
		return nil
	}
	return fmt.Errorf("the token %s expired at %s; put a new one in its place", a.Bearer, claims.ExpiresAt.Format("2006-01-02 15:04 MST"))
}

// Show gives the headers that Sign sets, with secrets by their names.
func Show(a *project.Auth, into map[string]string) {
	if a == nil {
		return
	}
	switch {
	case a.Bearer != "":
		into["Authorization"] = "Bearer " + a.Bearer
	case a.User != "" || a.Password != "":
		into["Authorization"] = "Basic " + a.User + ":" + a.Password
	case a.OAuth != nil:
		into["Authorization"] = "Bearer (a token of " + a.OAuth.TokenURL + " for " + a.OAuth.ClientID + ")"
	case a.Login != nil:
		into["Authorization"] = "Bearer (a token of " + a.Login.URL + ")"
	}
	for k, v := range a.Header {
		into[k] = v
	}
	for k, v := range a.Query {
		into["?"+k] = v
	}
}

// TokenError says that a token endpoint gave no token.
type TokenError struct{ Say string }

func (e *TokenError) Error() string { return e.Say }

func tokenKey(o *project.OAuth) string {
	return strings.Join(append([]string{o.TokenURL, o.ClientID, o.Audience}, o.Scopes...), "\x00")
}

func (c *Client) token(ctx context.Context, o *project.OAuth) (string, error) {
	t, err := c.kept(tokenKey(o), func() (oauth2.TokenSource, error) {
		secret, err := c.secrets.Expand(o.ClientSecret)
		if err != nil {
			return nil, err
		}
		id, err := c.secrets.Expand(o.ClientID)
		if err != nil {
			return nil, err
		}
		cfg := clientcredentials.Config{ClientID: id, ClientSecret: secret, TokenURL: o.TokenURL, Scopes: o.Scopes}
		if o.Audience != "" {
			cfg.EndpointParams = url.Values{"audience": {o.Audience}}
		}
		// the source outlives this request, so it must not end with it
		bounded := *c.open
		bounded.Timeout = 15 * time.Second
		return cfg.TokenSource(context.WithValue(context.Background(), oauth2.HTTPClient, &bounded)), nil
	}, func(err error) error {
		var re *oauth2.RetrieveError
		if errors.As(err, &re) {
			say := re.ErrorDescription
			if say == "" {
				say = re.ErrorCode
			}
			return &TokenError{strings.TrimSuffix(fmt.Sprintf("%s gave no token: it answered %d %s", o.TokenURL, re.Response.StatusCode, say), " ")}
		}
		return &TokenError{fmt.Sprintf("%s gave no token: %v", o.TokenURL, Brief(err))}
	})
	if err != nil {
		return "", err
	}
	c.secrets.Keep("OAuth token", t)
	return t, ctx.Err()
}

// kept gives the token of a source that is kept, made where there is none yet. What fails is asked
// anew the next time, since the secret may be another one then.
func (c *Client) kept(key string, fresh func() (oauth2.TokenSource, error), explain func(error) error) (string, error) {
	c.mu.Lock()
	src := c.tokens[key]
	if src == nil { // those who come together wait for one
		var err error
		if src, err = fresh(); err != nil {
			c.mu.Unlock()
			return "", err
		}
		c.tokens[key] = src
	}
	c.mu.Unlock()
	t, err := src.Token()
	if err != nil {
		c.mu.Lock()
		delete(c.tokens, key)
		c.mu.Unlock()
		return "", explain(err)
	}
	return t.AccessToken, nil
}

// Forget drops the token of a client, so that the next request fetches a new one.
// It says whether there was one.
func (c *Client) Forget(a *project.Auth) bool {
	key := ""
	switch {
	case a != nil && a.OAuth != nil:
		key = tokenKey(a.OAuth)
	case a != nil && a.Login != nil:
		key = loginKey(a.Login)
	default:
		return false
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	_, ok := c.tokens[key]
	delete(c.tokens, key)
	return ok
}

// Brief gives the last part of a chain of errors.
func Brief(err error) string {
	s := err.Error()
	if i := strings.LastIndex(s, ": "); i >= 0 {
		return s[i+2:]
	}
	return s
}

// Expand puts the values of secrets into a text.
func (c *Client) Expand(text string) (string, error) { return c.secrets.Expand(text) }

// Within says whether a URL begins with one that is allowed, its way written
// plainly.
func Within(address string, allowed []string) bool {
	u, err := url.Parse(address)
	if err != nil || u.User != nil || (u.Path != "" && path.Clean(u.Path) != strings.TrimSuffix(u.Path, "/") && u.Path != "/") {
		return false
	}
	if u.Path == "" {
		u.Path = "/"
	}
	for _, a := range allowed {
		if strings.HasPrefix(u.String(), a) {
			return true
		}
	}
	return false
}
