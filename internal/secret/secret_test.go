package secret_test

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/internal/secret"
)

const value = `p@ss "word"/1`

func store() *secret.Store {
	s := secret.New(func(n string) (string, bool) {
		return map[string]string{"KEY": value, "TINY": "abc"}[n], n == "KEY" || n == "TINY"
	})
	s.Learn("uses ${secret:KEY} and ${secret:TINY}")
	return s
}

func TestSecretsAreBlankedInEveryForm(t *testing.T) {
	s := store()
	for _, form := range []string{value, `p@ss \"word\"/1`, "p%40ss+%22word%22%2F1", base64.StdEncoding.EncodeToString([]byte(value))} {
		assert.Equal(t, "a ‹secret KEY› b", s.Text("a "+form+" b"))
	}
	assert.Equal(t, "abc", s.Text("abc"), "what is too short would blank ordinary words")
	assert.Equal(t, map[string]any{"x": []any{"‹secret KEY›", 1.0}}, s.Value(map[string]any{"x": []any{value, 1.0}}))
}

func TestSecretsAreBlankedHoweverTheyAreEscaped(t *testing.T) {
	s := store()
	for what, form := range map[string]string{
		"unicode":             `p\u0040ss \u0022word\u0022\u002F1`,
		"one letter":          `p@s\u0073 \"word\"/1`,
		"the stroke":          `p@ss \"word\"\/1`,
		"of a URL, in part":   `p@ss%20%22word%22/1`,
		"hexadecimal":         hex.EncodeToString([]byte(value)),
		"in capitals":         strings.ToUpper(hex.EncodeToString([]byte(value))),
		"cut at the end":      value[:9],
		"cut for the records": value[:9] + "… (90000 bytes in all)",
	} {
		got := s.Text("it is " + form)
		assert.True(t, strings.HasPrefix(got, "it is ‹secret KEY›"), "%s: %s", what, got)
		assert.NotContains(t, got, "word", what)
	}
	for _, around := range []string{"", "a", "ab", "user:", "other:"} {
		for _, e := range []*base64.Encoding{base64.StdEncoding, base64.URLEncoding, base64.RawStdEncoding} {
			text := e.EncodeToString([]byte(around + value + around))
			got := s.Text("Basic " + text)
			assert.Contains(t, got, "‹secret KEY›", "%q", around)
			for n := 0; n+12 <= len(text); n++ { // no more than the letters at the seams are left
				if piece, err := base64.RawStdEncoding.DecodeString(text[n : n+12]); err == nil && strings.Contains(got, text[n:n+12]) {
					assert.NotContains(t, value, string(piece))
				}
			}
		}
	}
	assert.Equal(t, "p@ss word, and more", s.Text("p@ss word, and more"))
	assert.Equal(t, "it is p@ss", s.Text("it is p@ss"), "a few letters are no secret")
}

func TestNumbersThatAreSecretsAreBlanked(t *testing.T) {
	s := secret.New(func(string) (string, bool) { return "4821337", true })
	s.Learn("${secret:PIN}")
	got := s.Value(map[string]any{"a": 4821337.0, "b": []any{int64(4821337), json.Number("4821337"), 4821338.0, "x4821337x"}, "c": 7})
	assert.Equal(t, map[string]any{"a": "‹secret PIN›", "b": []any{"‹secret PIN›", "‹secret PIN›", 4821338.0, "x‹secret PIN›x"}, "c": 7}, got)
}

func TestRawJSONIsBlankedWhateverFieldItIsIn(t *testing.T) {
	s := store()
	quoted, err := json.Marshal(map[string]any{"id": value, "n": 12345678901234567, "args": `{"x":` + string(must(json.Marshal(value))) + `}`, value: "as a name", "plain": "<b>"})
	require.NoError(t, err)
	got, changed := s.Raw(quoted)
	assert.True(t, changed)
	assert.NotContains(t, string(got), "word")
	assert.Contains(t, string(got), "12345678901234567")
	same := []byte(`{"a":"<b>", "n": 1.0}`)
	got, changed = s.Raw(same)
	assert.False(t, changed)
	assert.Equal(t, same, got)
}

func must(b []byte, err error) []byte {
	if err != nil {
		panic(err)
	}
	return b
}

func TestExpand(t *testing.T) {
	s := store()
	got, err := s.Expand("Bearer ${secret:KEY}")
	require.NoError(t, err)
	assert.Equal(t, "Bearer "+value, got)
	_, err = s.Expand("${secret:NONE}")
	require.ErrorContains(t, err, "the secret NONE has no value; put NONE=… into the project's .env")
}

func TestAStreamNeverLeaksHalfASecret(t *testing.T) {
	s := store()
	text := "it is " + value + " and p@ss alone"
	for size := 1; size < 8; size++ {
		var got []string
		write, flush := s.Stream(func(p string) { got = append(got, p) })
		for i := 0; i < len(text); i += size {
			write(text[i:min(len(text), i+size)])
			assert.NotContains(t, strings.Join(got, ""), `p@ss "`)
		}
		flush()
		assert.Equal(t, "it is ‹secret KEY› and p@ss alone", strings.Join(got, ""))
	}
}

func TestAStreamNeverLeaksThePartOfALongerSecret(t *testing.T) {
	s := secret.New(func(n string) (string, bool) {
		return map[string]string{"SHORT": "harbour", "LONG": "harbour-key/7731", "MIDDLE": "key/77", "OVER": "7731 and more"}[n], true
	})
	s.Learn("${secret:SHORT} ${secret:LONG} ${secret:MIDDLE} ${secret:OVER}")
	for text, want := range map[string]string{
		"a harbour-key/7731 b":            "a ‹secret LONG› b",
		"a harbour-key":                   "a ‹secret LONG›",
		"the harbour is open":             "the ‹secret SHORT› is open",
		"the key/77 and":                  "the ‹secret MIDDLE› and",
		`a harbour\u002dkey\/7731 b`:      "a ‹secret LONG› b",
		"a harbour%2Dke%79/7731 b":        "a ‹secret LONG› b",
		"harbour-key/7731 and more of it": "‹secret LONG› and more of it",
	} {
		for size := 1; size < 9; size++ {
			var got strings.Builder
			write, flush := s.Stream(func(p string) { got.WriteString(p) })
			for i := 0; i < len(text); i += size {
				write(text[i:min(len(text), i+size)])
				assert.True(t, strings.HasPrefix(want, got.String()), "%q in pieces of %d", got.String(), size)
			}
			flush()
			assert.Equal(t, want, got.String(), "in pieces of %d", size)
		}
	}
}
