package standin_test

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/openapi"
	"stonebaton.example/core/schema"
	"stonebaton.example/internal/standin"
)

const document = `{"openapi":"3.1.0","info":{"title":"T","version":"1"},"components":{"schemas":{"Thing":{"type":"object","required":["id","at","next"],"properties":{"id":{"type":"integer","minimum":5},"at":{"type":"string","format":"date-time"},
 "kind":{"enum":["rope","sail"]},"next":{"oneOf":[{"$ref":"#/components/schemas/Thing"},{"type":"null"}]}}}}},
 "paths":{"/things/{id}":{"get":{"operationId":"get","parameters":[{"name":"id","in":"path","required":true,"schema":{"type":"string"}},{"name":"full","in":"query","required":true,"schema":{"type":"boolean"}}],"responses":{"200":{"description":"ok","content":{"application/json":{"schema":{"type":"object","properties":{"kind":{"enum":["rope","sail"]},"id":{"type":"integer","minimum":5},"at":{"type":"string","format":"date-time"}}}}}}}}},
 "/things/all":{"get":{"operationId":"all","responses":{"200":{"description":"ok","content":{"application/json":{"schema":{"type":"array","items":{"type":"string","examples":["one"]}}}}}}},"delete":{"operationId":"clear","responses":{"204":{"description":"gone"}}}}}}`

func TestItAnswersAsTheDocumentSays(t *testing.T) {
	cat, err := openapi.Read([]byte(document))
	require.NoError(t, err)
	srv := httptest.NewServer(standin.Handler(cat))
	defer srv.Close()
	ask := func(method, path string) (int, string) {
		req, err := http.NewRequest(method, srv.URL+path, nil)
		require.NoError(t, err)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		var b strings.Builder
		_ = resp.Write(&b)
		_, body, _ := strings.Cut(b.String(), "\r\n\r\n")
		return resp.StatusCode, body
	}
	code, body := ask("GET", "/things/a%2Fb?full=true")
	assert.Equal(t, 200, code)
	var v any
	require.NoError(t, json.Unmarshal([]byte(body), &v), body)
	o, _ := cat.Find("get")
	s, err := schema.Compile(o.Output)
	require.NoError(t, err)
	assert.Empty(t, s.Check(v), body)
	code, body = ask("GET", "/things/1")
	assert.Equal(t, 400, code)
	assert.Contains(t, body, "full is missing")
	code, body = ask("GET", "/things/all")
	assert.Equal(t, 200, code, "what is plain goes before what stands for any")
	assert.Contains(t, body, `["one"]`)
	code, _ = ask("DELETE", "/things/all")
	assert.Equal(t, 204, code)
	code, body = ask("POST", "/things/all")
	assert.Equal(t, 404, code)
	assert.Contains(t, body, "the document describes no POST /things/all")
}

// TestEveryAnswerFitsItsSchema: patterns, lengths, circles and alternatives too.
func TestEveryAnswerFitsItsSchema(t *testing.T) {
	cat, err := openapi.Read([]byte(`{"openapi":"3.1.0","info":{},"components":{"schemas":{"Berth":{"type":"object","required":["code","next","tags"],"properties":{"code":{"type":"string","pattern":"^[A-F][0-9]{1,2}$"},
		"next":{"oneOf":[{"$ref":"#/components/schemas/Berth"},{"type":"null"}]},"tags":{"type":"array","minItems":2,"uniqueItems":true,"items":{"type":"string","minLength":6}}}}}},
		"paths":{"/a":{"get":{"operationId":"a","responses":{"200":{"content":{"application/json":{"schema":{"$ref":"#/components/schemas/Berth"}}}}}}},
		"/b":{"get":{"operationId":"b","responses":{"200":{"content":{"application/json":{"schema":{}}}}}}},
		"/c":{"get":{"operationId":"c","responses":{"200":{"content":{"application/json":{"schema":{"type":"array","minItems":3,"items":{"$ref":"#/components/schemas/Berth"}}}}}}}}}}`))
	require.NoError(t, err)
	srv := httptest.NewServer(standin.Handler(cat))
	defer srv.Close()
	for _, o := range cat.Tools {
		s, err := schema.Compile(o.Output)
		require.NoError(t, err)
		resp, err := http.Get(srv.URL + o.Operation.Path)
		require.NoError(t, err)
		var v any
		require.NoError(t, json.NewDecoder(resp.Body).Decode(&v), o.Name)
		resp.Body.Close()
		assert.Empty(t, s.Check(v), "%s: %v", o.Name, v)
		assert.NotNil(t, v, "%s: something", o.Name)
	}
}
