package openapi_test

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/openapi"
	"stonebaton.example/core/project"
)

// TestStylesAsTheStandardsTables goes through the table of style examples of the standard, with
// fields in the order of their names, and what stands below it.
func TestStylesAsTheStandardsTables(t *testing.T) {
	list, object := []any{"blue", "black", "brown"}, map[string]any{"R": 100.0, "G": 200.0, "B": 150.0}
	for _, c := range []struct {
		in, style string
		explode   bool
		empty     string // for the empty text
		text      string
		list      string
		object    string
	}{
		{"path", "matrix", false, ";color", ";color=blue", ";color=blue,black,brown", ";color=B,150,G,200,R,100"},
		{"path", "matrix", true, ";color", ";color=blue", ";color=blue;color=black;color=brown", ";B=150;G=200;R=100"},
		{"path", "label", false, ".", ".blue", ".blue,black,brown", ".B,150,G,200,R,100"},
		{"path", "label", true, ".", ".blue", ".blue.black.brown", ".B=150.G=200.R=100"},
		{"path", "simple", false, "", "blue", "blue,black,brown", "B,150,G,200,R,100"},
		{"path", "simple", true, "", "blue", "blue,black,brown", "B=150,G=200,R=100"},
		{"path", "", false, "", "blue", "blue,black,brown", "B,150,G,200,R,100"},
		{"header", "simple", false, "", "blue", "blue,black,brown", "B,150,G,200,R,100"},
		{"header", "", true, "", "blue", "blue,black,brown", "B=150,G=200,R=100"},
		{"query", "form", false, "color=", "color=blue", "color=blue,black,brown", "color=B,150,G,200,R,100"},
		{"query", "form", true, "color=", "color=blue", "color=blue&color=black&color=brown", "B=150&G=200&R=100"},
		{"query", "", true, "color=", "color=blue", "color=blue&color=black&color=brown", "B=150&G=200&R=100"},
		{"cookie", "form", false, "color=", "color=blue", "color=blue,black,brown", "color=B,150,G,200,R,100"},
		{"cookie", "", true, "color=", "color=blue", "color=blue&color=black&color=brown", "B=150&G=200&R=100"},
		{"query", "spaceDelimited", false, "color=", "color=blue", "color=blue%20black%20brown", "color=B%20150%20G%20200%20R%20100"},
		{"query", "pipeDelimited", false, "color=", "color=blue", "color=blue%7Cblack%7Cbrown", "color=B%7C150%7CG%7C200%7CR%7C100"},
		{"query", "deepObject", true, "color=", "color=blue", "color=blue&color=black&color=brown", "color%5BB%5D=150&color%5BG%5D=200&color%5BR%5D=100"},
	} {
		p := project.Param{Name: "color", In: c.in, Style: c.style, Explode: c.explode}
		name := fmt.Sprintf("%s %s %v", c.in, c.style, c.explode)
		assert.Equal(t, c.empty, openapi.Encoded(p, ""), "%s, empty", name)
		assert.Equal(t, c.text, openapi.Encoded(p, "blue"), "%s, text", name)
		assert.Equal(t, c.list, openapi.Encoded(p, list), "%s, list", name)
		assert.Equal(t, c.object, openapi.Encoded(p, object), "%s, object", name)
		assert.Empty(t, openapi.Encoded(p, nil), "%s, nothing", name)
		assert.Empty(t, openapi.Encoded(p, []any{}), "%s, no list", name)
		assert.Empty(t, openapi.Encoded(p, map[string]any{"R": nil}), "%s, no field", name)
	}
}

func TestValuesAreWrittenForTheirPlace(t *testing.T) {
	q := project.Param{Name: "created", In: "query", Style: "deepObject", Explode: true}
	assert.Equal(t, "created%5Bgte%5D=5&created%5Bin%5D=a&created%5Bin%5D=b&created%5Bwhere%5D%5Bx%5D=true", openapi.Encoded(q, map[string]any{"gte": 5.0, "in": []any{"a", "b"}, "where": map[string]any{"x": true}}))
	q = project.Param{Name: "a b", In: "query"}
	assert.Equal(t, "a%20b=x%2Cy,z%26%3D%2B%20%C3%A9", openapi.Encoded(q, []any{"x,y", "z&=+ é"}), "a comma of a value is none between values")
	q.Name, q.Reserved = "path", true
	assert.Equal(t, "path=/a/b?c:d@%23%26%3D%2B%25", openapi.Encoded(q, "/a/b?c:d@#&=+%"), "but what would end the value")
	assert.Equal(t, "filter=%7B%22a%22%3A%5B1%5D%7D", openapi.Encoded(project.Param{Name: "filter", In: "query", Content: "application/json"}, map[string]any{"a": []any{1.0}}))
	assert.Equal(t, `{"a":1}`, openapi.Encoded(project.Param{Name: "X-Filter", In: "header", Content: "application/json"}, map[string]any{"a": 1.0}))
	assert.Equal(t, "%22x%22", openapi.Encoded(project.Param{Name: "id", In: "path", Content: "application/json"}, "x"))
	assert.Equal(t, "list=%5B1%2C2%5D,x", openapi.Encoded(project.Param{Name: "list", In: "query"}, []any{[]any{1.0, 2.0}, nil, "x"}), "what has parts itself is JSON")
	assert.Equal(t, "n=9007199254740993", openapi.Encoded(project.Param{Name: "n", In: "query"}, int64(9007199254740993)))
}

const styledDocument = `{"openapi": "3.1.0", "info": {"title": "T", "version": "1"}, "paths": {
  "/a/{id}": {"post": {"operationId": "a", "summary": "Do it when asked", "parameters": [
    {"name": "id", "in": "path", "required": true, "style": "label", "schema": {"type": "array", "items": {"type": "string"}}},
    {"name": "created", "in": "query", "style": "deepObject", "schema": {"type": "object"}},
    {"name": "q", "in": "query", "allowReserved": true, "schema": {"type": "string"}},
    {"name": "f", "in": "query", "content": {"application/json": {"schema": {"type": "object"}}}},
    {"name": "tags", "in": "query", "style": "pipeDelimited", "schema": {"type": "array"}}],
   "requestBody": {"content": {"application/x-www-form-urlencoded": {"schema": {"type": "object", "properties": {"ids": {"type": "array"}, "when": {"type": "object"}, "raw": {"type": "string"}, "more": {"type": "object"}}},
     "encoding": {"ids": {"explode": false}, "when": {"style": "deepObject"}, "raw": {"contentType": "application/json"}}}}}, "responses": {}}},
  "/b": {"patch": {"operationId": "b", "summary": "Change it when asked", "requestBody": {"content": {
     "application/json-patch+json": {"schema": {"type": "array"}}, "application/merge-patch+json": {"schema": {"type": "object", "properties": {"x": {"type": "string"}}}}}}, "responses": {}}},
  "/c": {"get": {"operationId": "c", "summary": "Get it when asked", "parameters": [{"name": "x", "in": "path", "style": "form", "schema": {}}], "responses": {}}}}}`

func TestStylesAreReadFromADocument(t *testing.T) {
	cat, err := openapi.Read([]byte(styledDocument))
	require.NoError(t, err)
	a, ok := cat.Find("a")
	require.True(t, ok)
	require.Empty(t, a.Fault)
	by := map[string]project.Param{}
	for _, p := range a.Operation.Params {
		by[p.Name] = p
	}
	assert.Equal(t, project.Param{Name: "id", In: "path", Arg: "id", Style: "label"}, by["id"])
	assert.Equal(t, project.Param{Name: "created", In: "query", Arg: "created", Style: "deepObject", Explode: true}, by["created"])
	assert.Equal(t, project.Param{Name: "q", In: "query", Arg: "q", Explode: true, Reserved: true}, by["q"])
	assert.Equal(t, "application/json", by["f"].Content)
	assert.Equal(t, project.Param{Name: "tags", In: "query", Arg: "tags", Style: "pipeDelimited"}, by["tags"])
	var fields map[string]any
	require.NoError(t, json.Unmarshal([]byte(`{"ids": [1, 2], "when": {"gte": 5}, "raw": "x y", "more": {"a": 1}, "plain": ["u", "v"], "none": null}`), &fields))
	assert.Equal(t, "ids=1,2&more=%7B%22a%22%3A1%7D&plain=u&plain=v&raw=%22x%20y%22&when%5Bgte%5D=5", openapi.Form(a.Operation, fields))
	b, _ := cat.Find("b")
	assert.Equal(t, "application/merge-patch+json", b.Operation.Body, "arguments are an object")
	assert.Contains(t, b.Input["properties"], "x")
	c, _ := cat.Find("c")
	assert.Equal(t, `its parameter "x": there is no style "form" in the path`, c.Fault)
}
