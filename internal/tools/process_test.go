package tools_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/internal/tools"
)

// TestWhatIsPrivateIsNeverGranted: the project as a whole, the records wherever they are, and
// secrets, by their names, by links, and by what they are within.
func TestWhatIsPrivateIsNeverGranted(t *testing.T) {
	top := t.TempDir()
	dir, records := filepath.Join(top, "p"), filepath.Join(top, "elsewhere", "records")
	for _, d := range []string{filepath.Join(dir, "data"), filepath.Join(dir, ".stonebaton"), filepath.Join(dir, ".venv"), records} {
		require.NoError(t, os.MkdirAll(d, 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".env"), []byte("K=x"), 0o600))
	require.NoError(t, os.Symlink(records, filepath.Join(dir, "link")))
	reveal := tools.Private(records)
	for _, p := range []string{".", "..", dir, top, ".stonebaton", ".stonebaton/local.key", ".env", filepath.Join(dir, ".env"), records, filepath.Join(records, "local.key"), filepath.Dir(records), "link", "link/local.key"} {
		_, err := tools.Granted(dir, p)
		assert.ErrorContains(t, err, "would open", p)
	}
	for _, p := range []string{"link", ".stonebaton", ".stonebaton/work"} {
		_, _, err := tools.Grants(dir, nil, []string{p})
		assert.Error(t, err, p)
	}
	for _, p := range []string{"data", ".venv", "data/x.csv", "/usr/lib"} {
		_, err := tools.Granted(dir, p)
		assert.NoError(t, err, p)
	}
	reveal()
	_, err := tools.Granted(dir, records)
	assert.NoError(t, err, "it is nobody's any more")
}
