package openapi_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/openapi"
	"stonebaton.example/core/project"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/value"
)

const document = `
openapi: 3.0.3
info: {title: Chandlery, version: "2"}
servers: [{url: "https://{where}.example/v1", variables: {where: {default: kelmere}}}]
components:
  parameters:
    Id: {name: id, in: path, required: true, description: The item's number., schema: {type: integer, format: int64, minimum: 0, exclusiveMinimum: true}}
  schemas:
    Named: {type: object, required: [name], properties: {name: {type: string, example: rope}, note: {type: string, nullable: true}}}
    Item:
      allOf:
        - {$ref: "#/components/schemas/Named"}
        - {type: object, required: [metres], properties: {metres: {type: number}, id: {type: integer, readOnly: true}, parts: {type: array, items: {$ref: "#/components/schemas/Item"}}}}
    Odd: {type: object, properties: {x: {$ref: "#/components/schemas/Gone"}}}
paths:
  /items/{id}:
    parameters: [{$ref: "#/components/parameters/Id"}]
    get:
      operationId: getItemByID
      summary: Get an item
      description: |
        Get an item of the store by its number;
        gives its length.

        A long story follows.
      parameters: [{name: Accept, in: header, schema: {type: string}}, {name: full, in: query, schema: {type: boolean, default: false}}]
      responses: {"200": {description: ok, content: {application/json: {schema: {$ref: "#/components/schemas/Item"}}}}}
    put:
      requestBody: {required: true, content: {"application/json; charset=utf-8": {schema: {$ref: "#/components/schemas/Item"}}}}
      responses: {"200": {description: ok}}
  /odd/{id}:
    get: {operationId: lost, responses: {}}
    post: {operationId: odd, parameters: [{$ref: "#/components/parameters/Id"}], requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/Odd"}}}}, responses: {}}
    patch: {operationId: picture, parameters: [{$ref: "#/components/parameters/Id"}], requestBody: {content: {model/odd: {schema: {type: string, format: binary}}}}, responses: {}}
    delete: broken
  /login:
    post: {operationId: login, requestBody: {required: true, content: {application/x-www-form-urlencoded: {schema: {type: object, required: [user], properties: {user: {type: string}}}}}}, responses: {}}
`

func read(t *testing.T, doc string) project.Catalogue {
	t.Helper()
	c, err := openapi.Read([]byte(doc))
	require.NoError(t, err)
	return c
}

func offer(t *testing.T, c project.Catalogue, name string) project.Offer {
	t.Helper()
	o, ok := c.Find(name)
	require.True(t, ok, name)
	return o
}

func compiled(t *testing.T, doc map[string]any) *schema.Schema {
	t.Helper()
	s, err := schema.Compile(doc)
	require.NoError(t, err)
	return s
}

func TestOperationsAreTools(t *testing.T) {
	c := read(t, document)
	assert.Equal(t, "Chandlery 2 (OpenAPI 3.0.3)", c.From)
	get := offer(t, c, "get_item_by_id")
	assert.Equal(t, "getItemByID", get.Name)
	assert.Equal(t, "Get an item of the store by its number; gives its length.", get.Summary)
	assert.Equal(t, "read", get.Says)
	assert.Equal(t, &project.Operation{Method: "GET", Server: "https://kelmere.example/v1", Path: "/items/{id}", Params: []project.Param{{Name: "id", In: "path", Arg: "id"}, {Name: "full", In: "query", Arg: "full", Explode: true}}}, get.Operation, "the standard leaves Accept to others")
	in := compiled(t, get.Input)
	assert.Empty(t, in.Check(map[string]any{"id": 7.0}))
	assert.NotEmpty(t, in.Check(map[string]any{"id": 0.0}), "exclusiveMinimum of 3.0 is one of 2020-12")
	assert.NotEmpty(t, in.Check(map[string]any{}))

	out := compiled(t, get.Output)
	rope := map[string]any{"name": "rope", "metres": 30.0, "note": nil, "parts": []any{map[string]any{"name": "eye", "metres": 1.0}}}
	assert.Empty(t, out.Check(rope), "nullable, and an item within an item")
	assert.NotEmpty(t, out.Check(map[string]any{"name": "rope", "metres": 30.0, "parts": []any{map[string]any{"name": 1.0, "metres": 1.0}}}), "a circle is followed all the way round")

	put := offer(t, c, "put_items_by_id")
	assert.Equal(t, "application/json; charset=utf-8", put.Operation.Body)
	assert.Equal(t, []any{"id", "name", "metres"}, put.Input["required"], "allOf of objects lies flat beside the parameters")
	props := put.Input["properties"].(map[string]any)
	assert.NotContains(t, props["metres"], "readOnly")
	assert.Equal(t, []any{"rope"}, props["name"].(map[string]any)["examples"])
	login := offer(t, c, "login")
	assert.Equal(t, "application/x-www-form-urlencoded", login.Operation.Body)
	assert.Empty(t, login.Says, "a method that is not safe says nothing of what it does")
}

func TestABrokenOperationDoesNotKeepTheOthersOut(t *testing.T) {
	c := read(t, document)
	for name, say := range map[string]string{
		"lost":             "its path has {id}, but there is no such parameter",
		"odd":              "its body: Odd: x: it refers to #/components/schemas/Gone, which is not there",
		"picture":          "its body is of a kind that is not sent here: model/odd",
		"delete_odd_by_id": "the operation is not an object",
	} {
		o := offer(t, c, name)
		assert.Equal(t, say, o.Fault)
		assert.Nil(t, o.Operation)
	}
	assert.Len(t, c.Tools, 7)
}

func TestWhatIsNoDocument(t *testing.T) {
	for doc, say := range map[string]string{
		"{":                              "line 1: this is not JSON",
		"{\n\n\"a\": x}":                 "line 3: this is not JSON",
		"a: [":                           "neither JSON nor YAML",
		"- 1":                            "it is not an object",
		`{"swagger":"2.0"}`:              "a document of version 2.0",
		`{"openapi":"4.0"}`:              "this is no OpenAPI document",
		`{"openapi":"3.1.0"}`:            "the document has no paths",
		`{"openapi":"3.1.0","paths":[]}`: "the document has no paths",
	} {
		_, err := openapi.Read([]byte(doc))
		assert.ErrorContains(t, err, say, doc)
	}
}

func TestNamesThatClashAreTold(t *testing.T) {
	c := read(t, `{"openapi":"3.1.0","info":{},"paths":{"/a":{"get":{"operationId":"get thing"}},"/b":{"get":{"operationId":"getThing"},"post":{"operationId":"7 Up!"}}}}`)
	var names []string
	for _, o := range c.Tools {
		names = append(names, o.Tool)
	}
	assert.Equal(t, []string{"get_thing", "get_thing_2", "t_7_up"}, names)
}

func TestADocumentWithEveryKindOfValue(t *testing.T) {
	deep := strings.Repeat(`{"type":"array","items":`, 100) + `{"type":"string"}` + strings.Repeat("}", 100)
	c := read(t, `{"openapi":"3.1.0","info":{},"paths":{"/deep":{"post":{"operationId":"deep","requestBody":{"content":{"application/json":{"schema":`+deep+`}}}}},
	 "/ref":{"$ref":"#/paths/~1deep"},"/self":{"$ref":"#/paths/~1self"},
	 "/type":{"get":{"operationId":"wrong","parameters":[{"name":"q","in":"query","schema":{"type":"strnig"}}]}},
	 "/one":{"get":{"operationId":"one","parameters":[{"name":"q","in":"query","schema":{"oneOf":[{"type":"string"},{"type":"integer"}]}},{"name":"q","in":"header","schema":{"type":"string","pattern":"(?=x)"}}]}}}}`)
	assert.Contains(t, offer(t, c, "deep").Fault, "more than 64 deep")
	assert.Contains(t, offer(t, c, "wrong").Fault, `there is no type "strnig"`)
	one := offer(t, c, "one")
	assert.Empty(t, compiled(t, one.Input).Check(map[string]any{"q": "a", "header_q": "xb"}), "the same name in two places is two arguments")
	assert.NotEmpty(t, compiled(t, one.Input).Check(map[string]any{"header_q": "b"}), "patterns that look around are obeyed")
}

// TestKeywordsOfTheSchemaAreObeyed: what a document says of its values is not left out.
func TestKeywordsOfTheSchemaAreObeyed(t *testing.T) {
	for text, c := range map[string]struct{ good, bad string }{
		`{"const":null}`: {`null`, `1`},
		`{"type":"array","contains":{"const":7},"minContains":2,"maxContains":3}`:      {`[7,7,1]`, `[7,1]`},
		`{"type":"object","propertyNames":{"pattern":"^[a-z]+$"}}`:                     {`{"a":1}`, `{"A":1}`},
		`{"type":"object","patternProperties":{"^n_":{"type":"integer"}}}`:             {`{"n_a":1}`, `{"n_a":"x"}`},
		`{"type":"object","dependentRequired":{"a":["b"]}}`:                            {`{"a":1,"b":1}`, `{"a":1}`},
		`{"type":"object","dependentSchemas":{"a":{"required":["b"]}}}`:                {`{"a":1,"b":1}`, `{"a":1}`},
		`{"if":{"type":"integer"},"then":{"minimum":5},"else":{"const":"x"}}`:          {`7`, `3`},
		`{"type":"object","properties":{"a":{}},"unevaluatedProperties":false}`:        {`{"a":1}`, `{"b":1}`},
		`{"type":"array","prefixItems":[{"type":"integer"}],"unevaluatedItems":false}`: {`[1]`, `[1,2]`},
		`{"not":true}`: {``, `1`},
		`{"$ref":"#/components/schemas/Code","maxLength":3}`:               {`"C4"`, `"C444"`},
		`{"allOf":[{"$ref":"#/components/schemas/Code"},{"maxLength":3}]}`: {`"C4"`, `"D4"`},
	} {
		cat := read(t, `{"openapi":"3.1.0","info":{},"paths":{"/p":{"post":{"operationId":"p","requestBody":{"required":true,"content":{"application/json":{"schema":{"type":"object","properties":{"v":`+text+`}}}}}}}},"components":{"schemas":{"Code":{"type":"string","pattern":"^C"}}}}`)
		o := offer(t, cat, "p")
		require.Empty(t, o.Fault, text)
		s := compiled(t, o.Input)
		for v, fits := range map[string]bool{c.good: true, c.bad: false} {
			if v == "" {
				continue
			}
			args, err := value.Read([]byte(`{"v":` + v + `}`))
			require.NoError(t, err)
			got := s.Check(args)
			assert.Equal(t, fits, len(got) == 0, "%s: %s: %v", text, v, got)
		}
	}
}

// Large makes a document of about so many bytes.
func Large(bytes int) []byte {
	paths, schemas := map[string]any{}, map[string]any{}
	for i, size := 0, 0; size < bytes; i++ {
		name := fmt.Sprintf("Thing%d", i)
		schemas[name] = map[string]any{"type": "object", "description": strings.Repeat("A thing of the store. ", 12), "properties": map[string]any{"next": map[string]any{"$ref": fmt.Sprintf("#/components/schemas/Thing%d", max(0, i-1))}, "n": map[string]any{"type": "integer"}}}
		paths[fmt.Sprintf("/things%d/{id}", i)] = map[string]any{"get": map[string]any{"operationId": fmt.Sprintf("getThing%d", i), "summary": strings.Repeat("Get one. ", 20), "parameters": []any{map[string]any{"name": "id", "in": "path", "required": true, "schema": map[string]any{"type": "string"}}}}}
		size += 900
	}
	raw, _ := json.Marshal(map[string]any{"openapi": "3.1.0", "info": map[string]any{"title": "Large"}, "paths": paths, "components": map[string]any{"schemas": schemas}})
	return raw
}

func TestALargeDocument(t *testing.T) {
	c, err := openapi.Read(Large(2 << 20))
	require.NoError(t, err)
	assert.Greater(t, len(c.Tools), 2000)
	for _, o := range c.Tools {
		require.Empty(t, o.Fault)
	}
}
