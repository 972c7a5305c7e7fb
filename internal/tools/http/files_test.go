package http_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/openapi"
	"stonebaton.example/core/project"
	tool "stonebaton.example/internal/tools/http"
	"stonebaton.example/internal/tools/tooltest"
	"stonebaton.example/internal/tools/web"
)

const uploads = `
openapi: 3.0.3
info: {title: Pictures, version: "1"}
servers: [{url: "%s"}]
paths:
  /pictures:
    post:
      operationId: upload
      requestBody:
        required: true
        content:
          multipart/form-data:
            schema:
              type: object
              required: [picture]
              properties:
                picture: {type: string, format: binary, description: The picture itself}
                more: {type: array, items: {type: string, format: binary}}
                title: {type: string}
                tags: {type: array, items: {type: string}}
                place: {type: object, properties: {berth: {type: string}}}
            encoding: {place: {contentType: application/vnd.place+json}}
      responses: {"200": {description: ok}}
  /raw:
    put:
      operationId: put_raw
      requestBody: {required: true, content: {image/png: {schema: {type: string, format: binary}}}}
      responses: {"200": {description: ok}}
`

// sending is a handler of a project that takes operations of a document, with a file that came
// with an earlier result and one of the project.
func sending(t *testing.T, url string, document string) func(name string, args map[string]any) (deed.Result, *deed.Failure) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "photos"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "photos", "pier.txt"), []byte("the pier"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".env"), []byte("K=secret"), 0o600))
	require.NoError(t, os.Symlink(filepath.Join(dir, ".env"), filepath.Join(dir, "photos", "link.txt")))
	cat, err := openapi.Read([]byte(fmt.Sprintf(document, url)))
	require.NoError(t, err)
	var take []string
	for _, o := range cat.Tools {
		require.Empty(t, o.Fault, o.Name)
		take = append(take, o.Name)
	}
	p := tooltest.Project(t, "source: pictures\nopenapi: {document: data/x.yaml, reads: [photos]}\ntake: ["+strings.Join(take, ", ")+"]\n", map[string]project.Catalogue{"pictures": cat.Only(take)})
	h := tool.New(web.New(&tooltest.Secrets{}), dir)
	return func(name string, args map[string]any) (deed.Result, *deed.Failure) {
		return tooltest.Call(t, h, p, name, args, func(i *deed.Invocation) {
			i.Made = func(context.Context) ([]ledger.File, error) {
				return []ledger.File{{Path: "chart.png", Hash: "h1", Type: "image/png"}}, nil
			}
			i.File = func(h ledger.Hash) ([]byte, error) { return []byte("bytes of " + string(h) + " ${secret:K}"), nil }
		})
	}
}

func TestFilesAreSentInParts(t *testing.T) {
	var got []string
	var kind string
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got, kind = nil, r.Header.Get("Content-Type")
		w.Header().Set("Content-Type", "application/json")
		_, params, err := mime.ParseMediaType(kind)
		if err != nil || params["boundary"] == "" {
			raw, _ := io.ReadAll(r.Body)
			got = append(got, string(raw))
			fmt.Fprint(w, "{}")
			return
		}
		for mr := multipart.NewReader(r.Body, params["boundary"]); ; {
			p, err := mr.NextPart()
			if err != nil {
				break
			}
			raw, _ := io.ReadAll(p)
			got = append(got, fmt.Sprintf("%s|%s|%s|%s", p.FormName(), p.FileName(), p.Header.Get("Content-Type"), raw))
		}
		fmt.Fprint(w, "{}")
	}))
	defer srv.Close()
	call := sending(t, srv.URL, uploads)

	r, bad := call("upload", map[string]any{"picture": "chart.png", "more": []any{"photos/pier.txt", "chart.png"}, "title": `Pier "East"`, "tags": []any{"a", "b"}, "place": map[string]any{"berth": "E4"}})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, []string{
		"more|pier.txt|text/plain; charset=utf-8|the pier", "more|chart.png|image/png|bytes of h1 ${secret:K}",
		"picture|chart.png|image/png|bytes of h1 ${secret:K}",
		`place||application/vnd.place+json|{"berth":"E4"}`, "tags|||a", "tags|||b", `title|||Pier "East"`}, got)
	assert.Contains(t, r.Sent.Body, "(the file chart.png, image/png, 23 bytes)", "the proof names files, and does not hold them")
	assert.NotContains(t, r.Sent.Body, "bytes of h1")

	_, bad = call("put_raw", map[string]any{"body": "chart.png"})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, "image/png", kind)
	assert.Equal(t, []string{"bytes of h1 ${secret:K}"}, got)

	_, bad = call("put_raw", map[string]any{"body": "a long text\nof a whole result"})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, []string{"a long text\nof a whole result"}, got)

	for name, say := range map[string]string{
		"chart.pn":           `there is no file "chart.pn". Did you mean "chart.png"?`,
		"photos/link.txt":    `there is no file "photos/link.txt"`,
		".env":               `there is no file ".env"`,
		"photos/../.env":     `there is no file "photos/../.env"`,
		"stonebaton.yaml":    "there is no file",
		"photos/missing.png": "there is no file",
	} {
		got = nil
		_, bad = call("put_raw", map[string]any{"body": name})
		require.NotNil(t, bad, name)
		assert.Contains(t, bad.Say, say)
		assert.Equal(t, ledger.NotDone, bad.Outcome)
		assert.Empty(t, got, "nothing was sent")
	}
}

func TestWhatIsAFileInADocument(t *testing.T) {
	doc := `{"openapi":"3.1.0","info":{},"paths":{"/a":{"post":{"operationId":"a","requestBody":{"content":{"multipart/form-data":{"schema":{"$ref":"#/components/schemas/Form"}}}},"responses":{}}},
		"/b":{"post":{"operationId":"b","requestBody":{"content":{"application/octet-stream":{}}},"responses":{}}},
		"/c":{"post":{"operationId":"c","requestBody":{"content":{"multipart/form-data":{"schema":{"type":"object","properties":{"id":{"type":"string"},"f":{}}}}}},"parameters":[{"name":"id","in":"query","schema":{"type":"string"}}],"responses":{}}}},
		"components":{"schemas":{"Form":{"type":"object","properties":{"f":{"type":"string","contentMediaType":"image/png"},"text":{"type":"string","contentMediaType":"text/plain","contentEncoding":"base64"},"any":{},"note":{"type":"string"}}}}}}`
	cat, err := openapi.Read([]byte(doc))
	require.NoError(t, err)
	files := map[string][]string{}
	for _, o := range cat.Tools {
		require.Empty(t, o.Fault)
		files[o.Name] = append(o.Operation.Files, o.Operation.Arg)
	}
	assert.Equal(t, map[string][]string{"a": {"any", "f", ""}, "b": {"body", "body"}, "c": {"f", "body"}}, files)
	raw, err := json.Marshal(cat)
	require.NoError(t, err)
	assert.Contains(t, string(raw), "Name of a file that came with an earlier result")
}
