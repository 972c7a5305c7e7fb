package store

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/ledger"
)

// TestWhereNoMoreFilesCanBeOpened has the limit of open files reached for a moment, which is of
// the process: nothing else of this package runs beside it.
func TestWhereNoMoreFilesCanBeOpened(t *testing.T) {
	s, err := Open(t.TempDir())
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Ready(t.Context()))
	none := open(t)
	_, putErr := s.blobs.put([]byte("a chart"))
	readyErr := s.Ready(t.Context())
	none()
	require.ErrorIs(t, putErr, syscall.EMFILE)
	require.ErrorIs(t, readyErr, syscall.EMFILE, "it does not say that it is ready")
	assert.NoFileExists(t, s.blobs.path(ledger.HashOf([]byte("a chart"))), "what was not synced is not there")

	h, err := s.blobs.put([]byte("a chart"))
	require.NoError(t, err)
	body, err := s.blobs.get(h)
	require.NoError(t, err)
	assert.Equal(t, "a chart", string(body))
	require.NoError(t, s.Ready(t.Context()))
	left, err := filepath.Glob(filepath.Join(s.blobs.dir, "new-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// open opens as many files as there may be; what it gives closes them again.
func open(t *testing.T) func() {
	t.Helper()
	var old syscall.Rlimit
	require.NoError(t, syscall.Getrlimit(syscall.RLIMIT_NOFILE, &old))
	low := old
	low.Cur = 256
	require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_NOFILE, &low))
	var files []*os.File
	for {
		f, err := os.Open(os.DevNull)
		if err != nil {
			break
		}
		files = append(files, f)
	}
	return func() {
		for _, f := range files {
			f.Close()
		}
		require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_NOFILE, &old))
	}
}
