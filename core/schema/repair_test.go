package schema_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"stonebaton.example/core/schema"
	"stonebaton.example/core/value"
)

func compiled(t testing.TB, doc string) *schema.Schema {
	m, err := value.ReadObject([]byte(doc))
	require.NoError(t, err)
	s, err := schema.Compile(m)
	require.NoError(t, err)
	return s
}

const stay = `{"type":"object","required":["nights","berth"],"additionalProperties":false,
 "$defs":{"n":{"type":"integer","default":2}},
 "properties":{"nights":{"type":"integer","minimum":1},"length_m":{"type":"number"},"berth":{"type":"string","pattern":"^[A-F][0-9]$","examples":["C4"]},
  "season":{"enum":["summer","winter"],"default":"summer"},"light":{"type":"boolean"},"names":{"type":"array","items":{"type":"string"}},"crew":{"$ref":"#/$defs/n"},
  "where":{"oneOf":[{"type":"object","required":["at"],"properties":{"at":{"type":"number"}}},{"type":"null"}]}}}`

func TestWhatIsOnlyWrittenWronglyIsRepairedAndSaid(t *testing.T) {
	s := compiled(t, stay)
	for _, c := range []struct{ in, out, say string }{
		{`{"nights":"3","berth":"C4","season":"winter","crew":1}`, `{"nights":3,"berth":"C4","season":"winter","crew":1}`, `nights was the text "3"; the number 3 was taken`},
		{`{"nights":3,"berth":"C4","crew":1}`, `{"nights":3,"berth":"C4","season":"summer","crew":1}`, `season was missing; its default summer was taken`},
		{`{"nights":3,"berth":"C4","season":"summer"}`, `{"nights":3,"berth":"C4","season":"summer","crew":2}`, `crew was missing; its default 2 was taken`},
		{`{"nights":3,"berth":"C4","crew":1,"season":" Winter"}`, `{"nights":3,"berth":"C4","crew":1,"season":"winter"}`, `season was " Winter"; "winter" was taken`},
		{`{"nights":3,"berth":"C4","crew":1,"season":"winter","names":"Petrel"}`, `{"nights":3,"berth":"C4","crew":1,"season":"winter","names":["Petrel"]}`, `names was one value; a list with it was taken`},
		{`{"nights":3,"berth":"C4","crew":1,"season":"winter","names":[7]}`, `{"nights":3,"berth":"C4","crew":1,"season":"winter","names":["7"]}`, `names.0 was the number 7; the text "7" was taken`},
		{`{"nights":3,"berth":"C4","crew":1,"season":"winter","light":"TRUE"}`, `{"nights":3,"berth":"C4","crew":1,"season":"winter","light":true}`, `light was the text "TRUE"; true was taken`},
		{`{"nights":3,"berth":"C4","crew":1,"season":"winter","where":{"at":"4.5"}}`, `{"nights":3,"berth":"C4","crew":1,"season":"winter","where":{"at":4.5}}`, `where.at was the text "4.5"; the number 4.5 was taken`},
		{`{"nights":3,"berth":"C4","crew":1,"season":"winter","names":"[\"a\"]"}`, `{"nights":3,"berth":"C4","crew":1,"season":"winter","names":["a"]}`, `names was JSON within a text; what it holds was taken`},
		{`{"nights":3,"berth":"C4","crew":1,"season":"winter"}`, `{"nights":3,"berth":"C4","crew":1,"season":"winter"}`, ``},
	} {
		out, done, faults := s.RepairJSON([]byte(c.in))
		assert.Empty(t, faults, c.in)
		got, _ := json.Marshal(out)
		assert.JSONEq(t, c.out, string(got))
		assert.Equal(t, c.say, strings.Join(schema.SayRepairs(done), "; "))
	}
}

func TestLongNumbersStayExact(t *testing.T) {
	s := compiled(t, `{"type":"object","properties":{"id":{"type":"integer","default":9007199254740993},"name":{"type":"string"},"x":{"type":"number"},"some":{"type":"array","items":{"type":"integer"}},"either":{"oneOf":[{"type":"integer"},{"type":"null"}]}}}`)
	for _, c := range []struct{ in, out, say, fault string }{
		{`{"id":9007199254740993}`, `{"id":9007199254740993}`, "", ""},
		{`{"id":"9007199254740993"}`, `{"id":9007199254740993}`, `id was the text "9007199254740993"; the number 9007199254740993 was taken`, ""},
		{`{}`, `{"id":9007199254740993}`, `id was missing; its default 9007199254740993 was taken`, ""},
		{`{"id":1,"name":9007199254740993}`, `{"id":1,"name":"9007199254740993"}`, `name was the number 9007199254740993; the text "9007199254740993" was taken`, ""},
		{`{"id":1,"x":9007199254740993}`, `{"id":1,"x":9007199254740993}`, "", ""},
		{`{"id":1,"x":1e300}`, `{"id":1,"x":1e+300}`, "", ""},
		{`{"id":1,"some":9007199254740993}`, `{"id":1,"some":[9007199254740993]}`, "some was one value; a list with it was taken", ""},
		{`{"id":1e300}`, `{"id":1e+300}`, "", ""},
		{`{"id":99999999999999999999}`, `{"id":99999999999999999999}`, "", ""},
		{`{"id":-99999999999999999999,"some":[1,123456789012345678901]}`, `{"id":-99999999999999999999,"some":[1,123456789012345678901]}`, "", ""},
		{`{"id":"99999999999999999999"}`, `{"id":99999999999999999999}`, `id was the text "99999999999999999999"; the number 99999999999999999999 was taken`, ""},
		{`{"id":1,"either":1e20}`, `{"either":100000000000000000000,"id":1}`, "", ""},
		{`{"id":1,"name":99999999999999999999}`, `{"id":1,"name":"99999999999999999999"}`, `name was the number 99999999999999999999; the text "99999999999999999999" was taken`, ""},
		{`{"id":1.5}`, "", "", "id must be an integer, not a number, such as 9007199254740993"},
	} {
		out, done, faults := s.RepairJSON([]byte(c.in))
		if c.fault != "" {
			assert.Equal(t, c.fault, schema.Say(faults), c.in)
			continue
		}
		assert.Empty(t, faults, c.in)
		got, _ := json.Marshal(out)
		assert.Equal(t, c.out, string(got))
		assert.Equal(t, c.say, strings.Join(schema.SayRepairs(done), "; "))
	}
}

func TestWhatWouldBeGuessedIsRefusedWithAnExample(t *testing.T) {
	s := compiled(t, stay)
	for in, say := range map[string]string{
		`{"nights":"three","berth":"C4","crew":1}`:            "nights must be an integer, not a string, such as 3",
		`{"nights":"3.5","berth":"C4","crew":1}`:              "nights must be an integer, not a string, such as 3",
		`{"nights":2,"berth":"Z9","crew":1}`:                  `berth must match ^[A-F][0-9]$; "Z9" does not; C4 would`,
		`{"berth":"C4","crew":1}`:                             "nights is missing (an integer), such as 3",
		`{"nights":2,"berth":"C4","crew":1,"season":"sumer"}`: "season must be one of summer, winter, not sumer; \"summer\" is nearest",
		`{"nights":2,"berth":"C4","crew":1,"lenght_m":4}`:     "lenght_m is not known here; did you mean \"length_m\"?",
	} {
		_, _, faults := s.RepairJSON([]byte(in))
		assert.Equal(t, say, schema.Say(faults), in)
	}
	_, _, faults := s.RepairJSON([]byte(`{"nights":`))
	assert.Contains(t, schema.Say(faults), "is not JSON")
}

func TestARecursiveSchemaIsRepairedToo(t *testing.T) {
	s := compiled(t, `{"$ref":"#/$defs/node","$defs":{"node":{"type":"object","properties":{"n":{"type":"integer"},"in":{"$ref":"#/$defs/node"}}}}}`)
	v := any(map[string]any{"n": "1"})
	for range 500 {
		v = map[string]any{"in": v}
	}
	_, _, faults := s.Repair(v)
	assert.NotEmpty(t, faults, "too deep to repair, but nothing breaks")
	_, done, faults := s.Repair(map[string]any{"in": map[string]any{"in": map[string]any{"n": "7"}}})
	assert.Empty(t, faults)
	assert.Equal(t, `in.in.n was the text "7"; the number 7 was taken`, strings.Join(schema.SayRepairs(done), "; "))
}

func TestRepairingTwiceChangesNothingMore(t *testing.T) {
	s := compiled(t, stay)
	value := rapid.OneOf(rapid.Just(any("3")), rapid.Just(any(3.0)), rapid.Just(any(true)), rapid.Just(any("Summer")), rapid.Just(any(nil)), rapid.Just(any([]any{"x", 1.0})), rapid.StringN(0, 4, 8).AsAny())
	rapid.Check(t, func(t *rapid.T) {
		in := rapid.MapOf(rapid.SampledFrom([]string{"nights", "length_m", "berth", "season", "light", "names", "crew", "where"}), value).Draw(t, "args")
		before, _ := json.Marshal(in)
		once, _, _ := s.Repair(any(in))
		after, _ := json.Marshal(in)
		assert.Equal(t, string(before), string(after), "the value given stays as it is")
		twice, more, _ := s.Repair(once)
		assert.Equal(t, once, twice)
		assert.Empty(t, more)
	})
}

func TestConflicts(t *testing.T) {
	for doc, say := range map[string]string{
		`{"type":"object","required":["a"],"additionalProperties":false,"properties":{"b":{}}}`: `"a" is required, but no property of that name is allowed`,
		`{"type":"object","properties":{"n":{"type":"integer","minimum":5,"maximum":1}}}`:       "its least value is above its greatest",
		`{"type":"object","properties":{"n":{"type":"string","minLength":5,"maxLength":1}}}`:    "it must have at least 5 and at most 1 characters",
		`{"type":"object","properties":{"n":{"type":"integer","enum":["a"]}}}`:                  "it lists a, which is not an integer",
		`{"type":"object","properties":{"n":{"type":"integer","default":"x"}}}`:                 "its default x does not fit it",
		`{"allOf":[{"type":"string"},{"type":"object"}]}`:                                       "two parts of its allOf are of types that no value has both of",
	} {
		got := compiled(t, doc).Conflicts()
		if assert.Len(t, got, 1, doc) {
			assert.Equal(t, say, got[0].Say)
		}
	}
	assert.Empty(t, compiled(t, stay).Conflicts())
}

func TestAnExampleFitsItsSchema(t *testing.T) {
	for _, doc := range []string{stay, `{"type":"array","items":{"type":"object","required":["at"],"properties":{"at":{"type":"string","format":"date-time"}}}}`,
		`{"allOf":[{"type":"object","required":["a"],"properties":{"a":{"type":"integer","minimum":9}}},{"type":"object","required":["b"],"properties":{"b":{"type":"boolean"}}}]}`,
		`{"$ref":"#/$defs/n","$defs":{"n":{"type":"object","properties":{"next":{"$ref":"#/$defs/n"}}}}}`} {
		s := compiled(t, doc)
		assert.Empty(t, s.Check(schema.Example(s.Doc())), doc)
	}
}

func TestWordsOfEndlessThingsEnd(t *testing.T) {
	props, args, enum := map[string]any{}, map[string]any{}, []any{}
	for i := range 3000 {
		props[fmt.Sprintf("p%04d", i)] = map[string]any{"type": "integer"}
		args[fmt.Sprintf("p%04d", i)] = "7"
		enum = append(enum, fmt.Sprintf("value %d", i))
	}
	compile := func(doc map[string]any) *schema.Schema {
		s, err := schema.Compile(doc)
		require.NoError(t, err)
		return s
	}
	s := compile(map[string]any{"type": "object", "additionalProperties": false, "properties": props})
	_, done, faults := s.Repair(args)
	assert.Empty(t, faults)
	assert.Len(t, done, 3000)
	assert.Len(t, schema.SayRepairs(done), 21)
	assert.Equal(t, "2980 more repairs were made", schema.SayRepairs(done)[20])

	unknown := map[string]any{strings.Repeat("x", 1<<20): 1.0}
	for i := range 3000 {
		unknown[fmt.Sprintf("q%04d", i)] = 1.0
	}
	said := schema.Say(s.Check(unknown))
	assert.Less(t, len(said), 8000)
	assert.Contains(t, said, "; and 2981 more like these")

	s = compile(map[string]any{"enum": enum})
	said = schema.Say(s.Check(strings.Repeat("long ", 1<<18)))
	assert.Contains(t, said, `must be one of "value 0", "value 1", `)
	assert.Contains(t, said, ` and 2980 more, not "long long`)
	assert.Less(t, len(said), 800)
	s = compile(map[string]any{"type": "array", "items": map[string]any{"type": "object", "properties": map[string]any{"n": map[string]any{"type": "integer"}, "m": map[string]any{"default": 1}}}})
	var many []any
	for range 20_000 {
		many = append(many, map[string]any{"n": "7"})
	}
	_, done, _ = s.Repair(many)
	assert.Equal(t, "/19999/n", done[len(done)-1].Path, "in the order of the list, and of the names in each")
	assert.Equal(t, "/19999/m", done[len(done)-2].Path)
}
