package pages_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/examples/harbour/pages"
)

func TestTheSearchFindsPagesByTheirWords(t *testing.T) {
	all := pages.All()
	assert.Len(t, all, 320)
	for _, p := range all {
		assert.NotContains(t, p.Title+p.Text, "%", "every sentence is filled in")
	}
	x := pages.NewIndex(all)
	assert.Equal(t, "Ferry of Ness", x.Search("when does the ferry at Ness run?", 3)[0].Title)
	assert.Equal(t, "Seals of Birk Island", x.Search("seals near Birk Island", 1)[0].Title)
	assert.Empty(t, x.Search("zeppelin", 5))
	assert.Len(t, x.Search("bridge", 20), 20)
}

func TestTheServiceOfTheSearch(t *testing.T) {
	s := httptest.NewServer(nil)
	defer s.Close()
	s.Config.Handler = pages.Handler(s.URL, "key")
	get := func(path, key string) (int, string) {
		req, err := http.NewRequest(http.MethodGet, s.URL+path, nil)
		require.NoError(t, err)
		req.Header.Set("X-Key", key)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		raw, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(raw)
	}
	code, body := get("/search?q=slipway+of+Tollan&count=2", "key")
	assert.Equal(t, 200, code)
	var out struct{ Results []map[string]string }
	require.NoError(t, json.Unmarshal([]byte(body), &out))
	require.Len(t, out.Results, 2)
	code, page := get(strings.TrimPrefix(out.Results[0]["url"], s.URL), "")
	assert.Equal(t, 200, code)
	assert.Contains(t, page, "<h1>Slipway of Tollan</h1>")
	for path, want := range map[string]int{"/search?q=": 400, "/search?q=x&count=99": 400, "/pages/0": 404, "/pages/9999": 404} {
		code, _ = get(path, "key")
		assert.Equal(t, want, code, path)
	}
	code, _ = get("/search?q=x", "wrong")
	assert.Equal(t, 401, code)
}
