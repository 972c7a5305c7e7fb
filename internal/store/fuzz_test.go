package store

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"stonebaton.example/core/ledger"
)

// FuzzTexts takes the large texts out of any JSON and puts them back.
func FuzzTexts(f *testing.F) {
	long := strings.Repeat("é<\\\"", 400)
	for _, v := range []any{map[string]any{"a": long, "b": []any{1.5, nil, long + "x"}}, map[string]any{"$file": "x", "b": long}, []any{long, map[string]any{long: "x"}}, long} {
		raw, err := json.Marshal(v)
		require.NoError(f, err)
		f.Add(raw)
	}
	f.Add([]byte(`{"a":{"$file":"0123456789abcdef0123456789abcdef"}}`))
	f.Add([]byte(`{"\u0024file":"0123456789abcdef0123456789abcdef","x":1}`))
	dir := f.TempDir()
	s := &Store{blobs: blobs{dir}, Logger: slog.New(slog.DiscardHandler)}
	f.Fuzz(func(t *testing.T, raw []byte) {
		var compact bytes.Buffer
		if json.Compact(&compact, raw) != nil {
			t.Skip("no JSON")
		}
		data := compact.Bytes()
		out, err := split(data, s.blobs.put)
		require.NoError(t, err)
		if out == nil {
			return // it is kept whole
		}
		require.LessOrEqual(t, len(out), inline+len(placed(ledger.HashOf(nil))))
		back, err := s.join(out, "aa-1", 1)
		require.NoError(t, err)
		require.Equal(t, decoded(t, data), decoded(t, back))
	})
}

func decoded(t *testing.T, raw []byte) string {
	t.Helper()
	d := json.NewDecoder(bytes.NewReader(raw))
	d.UseNumber()
	var v any
	require.NoError(t, d.Decode(&v))
	return fmt.Sprintf("%#v", v)
}
