package understudy_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/internal/understudy"
)

// FuzzChoose: whatever a person says, something is answered or called.
func FuzzChoose(f *testing.F) {
	for _, text := range []string{"When is high water?", "Reserve C4 for the Marrow Light, 2 nights from 31 Feb 2026 25:99, and then… {{ x }}", "\x00\xff ½ ٣ 1e999 -0 ∞", "((((((((((", "one two three hundred thousand million and a half dozen past noon tomorrow next week's Friday"} {
		f.Add(text)
	}
	p := coretest.Project(f, coretest.Main)
	f.Fuzz(func(t *testing.T, text string) {
		c, err := understudy.Choose(p, "", "ann", text, time.Date(2026, 5, 8, 12, 0, 0, 0, time.UTC))
		require.NoError(t, err)
		require.True(t, c.Text != "" || len(c.Calls) > 0, "%q", text)
	})
}
