package value_test

import (
	"encoding/json"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/value"
)

func TestWholeNumbersStayExact(t *testing.T) {
	for raw, want := range map[string]any{
		`9007199254740991`:                      float64(value.Exact),
		`9007199254740992`:                      int64(1 << 53),
		`9007199254740993`:                      int64(1<<53 + 1),
		`-9007199254740993`:                     int64(-1<<53 - 1),
		`9223372036854775807`:                   int64(math.MaxInt64),
		`9223372036854775808`:                   json.Number("9223372036854775808"),
		`[-100000000000000000000000]`:           []any{json.Number("-100000000000000000000000")},
		`1000000000000000.5`:                    1000000000000000.5,
		`1e300`:                                 1e300,
		`"9007199254740993"`:                    "9007199254740993",
		`0.30000000000000000004`:                0.3,
		`null`:                                  nil,
		`true`:                                  true,
		`{"a":[{"id":9007199254740993,"n":1}]}`: map[string]any{"a": []any{map[string]any{"id": int64(1<<53 + 1), "n": 1.0}}},
	} {
		got, err := value.Read([]byte(raw))
		require.NoError(t, err, raw)
		assert.Equal(t, want, got, raw)
		back, err := json.Marshal(got)
		require.NoError(t, err)
		again, err := value.Read(back)
		require.NoError(t, err)
		assert.Equal(t, got, again, "there and back")
	}
}

func TestWhatIsNoJSONIsSaidAsEver(t *testing.T) {
	for _, raw := range []string{``, `{`, `{"a":1} 2`, `9007199254740993 9007199254740993`, `{"a":9007199254740993}]`, `[9007199254740993`} {
		_, err := value.Read([]byte(raw))
		var v any
		assert.Error(t, json.Unmarshal([]byte(raw), &v))
		assert.Error(t, err, raw)
	}
	for raw, say := range map[string]string{
		`{"a":` + "\n" + `1e999}`:                  "line 2, column 1: the number 1e999 is beyond what is reckoned with, which is 1.8e308",
		`[` + strings.Repeat("7", 1_000_000) + `]`: "line 1, column 2: the number 77777777777777777777… (1000000 letters) is beyond what is reckoned with, which is 1.8e308",
	} {
		_, err := value.Read([]byte(raw))
		assert.EqualError(t, err, say)
	}
	_, err := value.ReadObject([]byte(`[9007199254740993]`))
	assert.ErrorContains(t, err, "it is not an object")
	_, err = value.ReadObject([]byte(`[1]`))
	assert.ErrorContains(t, err, "it is not an object")
}

func TestObjectsAreReadAlike(t *testing.T) {
	var in struct{ Args value.Object }
	require.NoError(t, json.Unmarshal([]byte(`{"args":{"id":9007199254740993,"n":2}}`), &in))
	assert.Equal(t, value.Object{"id": int64(1<<53 + 1), "n": 2.0}, in.Args)
	require.NoError(t, json.Unmarshal([]byte(`{"args":null}`), &in))
	assert.Nil(t, in.Args)
}

func TestPlainIsWhatReadGives(t *testing.T) {
	assert.Equal(t, []any{1.0, int64(1<<53 + 1), map[string]any{"a": 2.5}}, value.Plain([]any{int64(1), int64(1<<53 + 1), map[string]any{"a": 2.5}}))
}

func FuzzRead(f *testing.F) {
	for _, s := range []string{`{"a":9007199254740993}`, `[1e999]`, `1234567890123456789012345`, `{"1234567890123456":-0}`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		var v any
		plain := json.Unmarshal(raw, &v)
		_, err := value.Read(raw)
		if plain == nil {
			assert.NoError(t, err, "what encoding/json reads is read")
		}
	})
}
