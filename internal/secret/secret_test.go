package secret_test

import (
	"encoding/base64"
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
