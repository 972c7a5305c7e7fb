package secret_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"stonebaton.example/internal/secret"
)

// FuzzStream: whatever the secrets, the text and its pieces are, no secret is passed on whole,
// and a text that holds nothing of one is passed on as it is.
func FuzzStream(f *testing.F) {
	f.Add("harbour-key/7731", "harbour", "it is harbour-key/7731 and harbour", uint8(3))
	f.Add("p@ss \"w\"", "ss \"w", `p\u0040ss%20\"w\" and p@ss`, uint8(1))
	f.Add("aaaaa", "aaaaaa", "aaaaaaaaaaaaaaaaaaaaaaa", uint8(2))
	f.Fuzz(func(t *testing.T, one, two, text string, size uint8) {
		if size == 0 || len(text) > 2000 || len(one) > 200 || len(two) > 200 {
			t.Skip()
		}
		s := secret.New(func(n string) (string, bool) { v := map[string]string{"ONE": one, "TWO": two}[n]; return v, v != "" })
		s.Learn("${secret:ONE} ${secret:TWO}")
		var out strings.Builder
		write, flush := s.Stream(func(p string) { out.WriteString(p) })
		for i := 0; i < len(text); i += int(size) {
			write(text[i:min(len(text), i+int(size))])
		}
		flush()
		got := out.String()
		for _, v := range []string{one, two} {
			if len(v) >= 5 && !strings.Contains("‹secret ONE›‹secret TWO›", v) {
				require.NotContains(t, got, v)
			}
		}
		if s.Text(text) == text {
			require.Equal(t, text, got)
		}
	})
}
