package app

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestOfDataOnlyWhatIsNamedIsRead(t *testing.T) {
	dir := t.TempDir()
	ps := &Projects{dir: dir, data: map[string]bool{"data/t.csv": true, "log.db": true}}
	for file, want := range map[string]time.Duration{
		"data/t.csv": pace, "log.db": pace, "data/other.csv": 0, "tools/data/x": 0, "node_modules/a/b.js": 0, ".git/index": 0, "tools/.x.yaml.swp": 0,
		".env": settle, "data": settle, "stonebaton.yaml": settle, "tools/tides.js": settle,
	} {
		wait, matters := ps.delay(filepath.Join(dir, file))
		assert.Equal(t, want, wait, file)
		assert.Equal(t, want != 0, matters, file)
	}
}
