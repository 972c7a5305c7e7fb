package openapi_test

import (
	"testing"

	"stonebaton.example/core/openapi"
	"stonebaton.example/core/schema"
)

// FuzzRead: a document of anybody's is read, or is an error; each operation has a schema that
// compiles, or says why it cannot be taken.
func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"openapi":"3.1.0","info":{"title":"t"},"paths":{"/a/{id}":{"parameters":[{"name":"id","in":"path","required":true,"schema":{"type":"string"}}],"post":{"operationId":"a","requestBody":{"content":{"application/json":{"schema":{"$ref":"#/components/schemas/T"}},"multipart/form-data":{"schema":{"type":"object","properties":{"f":{"type":"string","format":"binary"}}},"encoding":{"f":{"style":"form"}}}}},"responses":{"200":{"content":{"application/json":{"schema":{"type":"array","items":{"$ref":"#/components/schemas/T"}}}}}}}}},"components":{"schemas":{"T":{"type":"object","properties":{"next":{"$ref":"#/components/schemas/T"},"n":{"type":["integer","null"],"minimum":1,"not":true}}}}}}`))
	f.Add([]byte(`{"openapi":"3.0.3","info":{},"servers":[{"url":"{a}/x","variables":{"a":{"default":"http://h"}}}],"paths":{"/q":{"get":{"parameters":[{"name":"c","in":"query","style":"deepObject","explode":true,"schema":{"type":"object","nullable":true,"properties":{"a":{"exclusiveMinimum":true,"minimum":3}}}},{"$ref":"#/paths/~1q/get/parameters/1"}],"responses":{"default":{"content":{"a/b":{}}}}}}}}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if len(raw) > 20_000 {
			t.Skip("large ones have a test of their own")
		}
		cat, err := openapi.Read(raw)
		if err != nil {
			return
		}
		for _, o := range cat.Tools {
			if o.Fault == "" {
				_, _ = schema.Compile(o.Input) // it may be no schema, which is told later
				_ = schema.Example(o.Input)
			}
		}
	})
}
