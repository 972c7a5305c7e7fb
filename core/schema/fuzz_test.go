package schema_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"stonebaton.example/core/schema"
	"stonebaton.example/core/value"
)

// FuzzRepair: whatever the schema and the value are, a value that fits is not made unfit, what
// is repaired needs no more repairs, and nothing breaks down.
func FuzzRepair(f *testing.F) {
	for _, s := range [][2]string{
		{`{"type":"object","properties":{"n":{"type":"integer","default":3},"e":{"enum":["Summer","winter"]},"l":{"type":"array","items":{"type":"number"}}},"required":["n"]}`, `{"n":"3","e":"summer","l":"1.5"}`},
		{`{"anyOf":[{"type":"string","pattern":"^(?!x)"},{"type":"object","properties":{"a":{"default":{}}}}]}`, `{"a":12345678901234567890123}`},
		{`{"$ref":"#/$defs/t","$defs":{"t":{"type":"array","items":{"$ref":"#/$defs/t"}}}}`, `[[[]]]`},
		{`{"type":"integer","minimum":0,"multipleOf":0.1}`, `"1e3"`},
		{`{"type":"string","format":"date","const":"2026-01-01","default":7}`, `null`},
	} {
		f.Add([]byte(s[0]), []byte(s[1]))
	}
	f.Fuzz(func(t *testing.T, doc, raw []byte) {
		d, err := value.ReadObject(doc)
		if err != nil || len(doc) > 4000 {
			t.Skip("no schema")
		}
		s, err := schema.Compile(d)
		if err != nil {
			t.Skip("no schema")
		}
		_ = schema.Example(d)
		v, err := value.Read(raw)
		if err != nil {
			t.Skip("no value")
		}
		fits := len(s.Check(v)) == 0
		out, _, faults := s.Repair(v)
		if fits {
			require.Empty(t, faults, "%s", out)
		}
		if len(faults) > 0 {
			require.NotEmpty(t, schema.Say(faults))
			return
		}
		require.Empty(t, s.Check(out))
		again, done, faults := s.Repair(out)
		require.Empty(t, faults)
		require.Empty(t, done, "%v", again)
	})
}
