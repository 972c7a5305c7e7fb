package web_test

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/project"
	"stonebaton.example/internal/tools/tooltest"
	"stonebaton.example/internal/tools/web"
)

func get(t *testing.T, c *web.Client, u string, g web.Grant, auth *project.Auth) (string, error) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, u, nil)
	require.NoError(t, err)
	require.NoError(t, c.Sign(req, auth))
	resp, err := c.Do(req, g)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return string(raw), nil
}

func host(s *httptest.Server) string { u, _ := url.Parse(s.URL); return u.Host }

func TestPrivateAddressesAreReachedOnlyWhereTheyAreNamed(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "in") }))
	defer srv.Close()
	c := web.New(&tooltest.Secrets{})
	_, err := get(t, c, srv.URL, web.Grant{}, nil)
	var private *web.PrivateError
	require.ErrorAs(t, err, &private)
	assert.Contains(t, private.Error(), "127.0.0.1 is a private address; say private: true")
	for _, g := range []web.Grant{{Host: host(srv)}, {Private: true}} {
		text, err := get(t, c, srv.URL, g, nil)
		require.NoError(t, err)
		assert.Equal(t, "in", text)
	}
	_, err = get(t, c, srv.URL, web.Grant{}, nil)
	assert.ErrorAs(t, err, &private, "a connection that is open already does not serve who may not use it")
	_, port, _ := strings.Cut(host(srv), ":")
	if _, err := net.LookupHost("localhost"); err == nil { // a bare machine may not know the name
		_, err = get(t, c, "http://localhost:"+port, web.Grant{}, nil)
		assert.ErrorAs(t, err, &private, "a name does not hide the address")
	}
	for _, u := range []string{"http://10.1.2.3/", "http://169.254.169.254/", "http://[::1]/", "http://100.64.0.1/", "http://0.0.0.0/"} {
		_, err = get(t, c, u, web.Grant{}, nil)
		assert.ErrorAs(t, err, &private, u)
	}
}

func TestRedirectsAreFollowedAsFarAsTheGrantGoes(t *testing.T) {
	var seen http.Header
	inner := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { seen = r.Header; fmt.Fprint(w, "elsewhere") }))
	defer inner.Close()
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/round":
			http.Redirect(w, r, "/round", http.StatusFound)
		case "/post":
			http.Redirect(w, r, "/echo", http.StatusSeeOther)
		case "/again":
			http.Redirect(w, r, "/echo", http.StatusTemporaryRedirect)
		case "/file":
			w.Header().Set("Location", "file:///etc/passwd")
			w.WriteHeader(302)
		case "/echo":
			raw, _ := io.ReadAll(r.Body)
			fmt.Fprintf(w, "%s %s", r.Method, raw)
		default:
			http.Redirect(w, r, inner.URL, http.StatusFound)
		}
	}))
	defer srv.Close()
	c := web.New(&tooltest.Secrets{})
	follow := web.Grant{Host: host(srv), Redirects: true}
	var re *web.RedirectError
	_, err := get(t, c, srv.URL+"/out", web.Grant{Host: host(srv)}, nil)
	require.ErrorAs(t, err, &re)
	assert.Contains(t, err.Error(), "say redirects: true")
	_, err = get(t, c, srv.URL+"/round", follow, nil)
	assert.ErrorContains(t, err, "there were 5 before it")
	_, err = get(t, c, srv.URL+"/file", follow, nil)
	assert.ErrorContains(t, err, "it is not a web address")
	var private *web.PrivateError
	_, err = get(t, c, srv.URL+"/out", follow, nil)
	assert.True(t, errors.As(err, &private), "a redirect to a private address: %v", err)
	text, err := get(t, c, srv.URL+"/out", web.Grant{Host: host(srv), Redirects: true, Private: true}, &project.Auth{Bearer: "${secret:T}", Header: map[string]string{"X-Key": "${secret:K}"}})
	require.NoError(t, err)
	assert.Equal(t, "elsewhere", text)
	assert.Empty(t, seen.Get("Authorization")+seen.Get("X-Key"), "what says who asks stays with its host")
	for path, want := range map[string]string{"/post": "GET ", "/again": "POST body"} {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, srv.URL+path, strings.NewReader("body"))
		require.NoError(t, err)
		resp, err := c.Do(req, follow)
		require.NoError(t, err)
		raw, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		assert.Equal(t, want, string(raw))
	}
}

func TestWhoAsks(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, "%s|%s|%s", r.Header.Get("Authorization"), r.Header.Get("X-Key"), r.URL.Query().Get("key"))
	}))
	defer srv.Close()
	c := web.New(&tooltest.Secrets{})
	for want, a := range map[string]*project.Auth{
		"||":                           nil,
		"Bearer the-value||":           {Bearer: "${secret:T}"},
		"Basic YW5uOnRoZS12YWx1ZQ==||": {User: "ann", Password: "${secret:P}"},
		"|the-value|":                  {Header: map[string]string{"X-Key": "${secret:K}"}},
		"||the-value":                  {Query: map[string]string{"key": "${secret:K}"}},
	} {
		text, err := get(t, c, srv.URL, web.Grant{Host: host(srv)}, a)
		require.NoError(t, err)
		assert.Equal(t, want, text)
		shown := map[string]string{}
		web.Show(a, shown)
		assert.NotContains(t, fmt.Sprint(shown), "the-value")
	}
}

func TestATokenThatHasExpired(t *testing.T) {
	now := time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)
	token := func(claims string) string {
		return base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"HS256"}`)) + "." + base64.RawURLEncoding.EncodeToString([]byte(claims)) + ".c2ln"
	}
	for value, expired := range map[string]bool{
		token(`{"exp": 1746349200}`):        true, // a year before
		token(`{"exp": 1809421200}`):        false,
		token(`{"exp": -1}`):                true,
		token(`{"exp": 1e300}`):             false,
		token(`{"exp": "next week"}`):       false,
		token(`{}`):                         false,
		token(`[`):                          false,
		"a-key.of-another.kind":             false,
		"an opaque key, which says nothing": false,
	} {
		c := web.New(&tooltest.Secrets{Value: value})
		err := c.Expired(&project.Auth{Bearer: "${secret:T}"}, now)
		if !expired {
			assert.NoError(t, err, value)
			continue
		}
		require.ErrorContains(t, err, "the token ${secret:T} expired at")
		assert.NotContains(t, err.Error(), value)
	}
	assert.NoError(t, web.New(&tooltest.Secrets{}).Expired(nil, now))
}

func TestTokensAreFetchedKeptAndRenewed(t *testing.T) {
	var fetched, refuse atomic.Int32
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/token" {
			if _, secret, _ := r.BasicAuth(); refuse.Load() > 0 && secret != "a-newer-one" {
				w.Header().Set("Content-Type", "application/json")
				w.WriteHeader(401)
				fmt.Fprint(w, `{"error":"invalid_client","error_description":"no such client"}`)
				return
			}
			_ = r.ParseForm()
			assert.Equal(t, "client_credentials", r.Form.Get("grant_type"))
			assert.Equal(t, "berths", r.Form.Get("scope"))
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprintf(w, `{"access_token":"token-number-%d","token_type":"Bearer","expires_in":3600}`, fetched.Add(1))
			return
		}
		fmt.Fprint(w, r.Header.Get("Authorization"))
	}))
	defer srv.Close()
	secrets := &tooltest.Secrets{}
	c := web.New(secrets)
	a := &project.Auth{OAuth: &project.OAuth{TokenURL: srv.URL + "/token", ClientID: "me", ClientSecret: "${secret:S}", Scopes: []string{"berths"}}}
	for range 3 {
		text, err := get(t, c, srv.URL, web.Grant{Host: host(srv)}, a)
		require.NoError(t, err)
		assert.Equal(t, "Bearer token-number-1", text)
	}
	assert.Contains(t, secrets.Kept, "token-number-1", "a token is a secret from then on")
	assert.True(t, c.Forget(a))
	text, err := get(t, c, srv.URL, web.Grant{Host: host(srv)}, a)
	require.NoError(t, err)
	assert.Equal(t, "Bearer token-number-2", text)
	assert.False(t, c.Forget(&project.Auth{}))
	refuse.Store(1)
	c.Forget(a)
	req, err := http.NewRequest(http.MethodGet, srv.URL, nil)
	require.NoError(t, err)
	err = c.Sign(req, a)
	assert.ErrorContains(t, err, "/token gave no token: it answered 401 no such client")
	secrets.Value = "a-newer-one"
	assert.NoError(t, c.Sign(req, a), "a secret that was refused is read again")
}

func TestWithin(t *testing.T) {
	allowed := []string{"https://good.example/a/", "http://127.0.0.1:8080/"}
	for u, want := range map[string]bool{"https://good.example/a/x": true, "https://good.example/a/x?q=1": true, "https://good.example/b": false, "https://good.example/a/../b": false, "https://good.example.evil/a/": false,
		"https://ann@good.example/a/x": false, "http://127.0.0.1:8080": true, "http://127.0.0.1:8081/": false, "https://good.example/a/%2e%2e/b": false, "::": false} {
		assert.Equal(t, want, web.Within(u, allowed), u)
	}
}
