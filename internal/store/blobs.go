package store

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"stonebaton.example/core/ledger"
)

// inline is the size up to which a value stands in its row.
const inline = 4 << 10

// blobs keeps large values as files named by their content.
type blobs struct{ dir string }

func (b blobs) path(h ledger.Hash) string { return filepath.Join(b.dir, string(h[:2]), string(h)) }

func (b blobs) put(body []byte) (ledger.Hash, error) {
	h := ledger.HashOf(body)
	return h, b.putAs(h, body)
}

// putAs writes the file under another name, syncs it, renames it and syncs the
// folder, so that a row never names a file that is not whole. What opens fails before the
// rename: a file that has its name is there for good.
func (b blobs) putAs(h ledger.Hash, body []byte) (err error) {
	name := b.path(h)
	if _, err := os.Stat(name); err == nil {
		return nil
	}
	dir, err := b.folder(filepath.Dir(name))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, dir.Close()) }()
	fresh, err := written(dir.Name(), body)
	if err != nil {
		return err
	}
	if err := os.Rename(fresh, name); err != nil {
		return errors.Join(err, os.Remove(fresh))
	}
	return dir.Sync()
}

// written writes a file that has no name of its own yet, and gives its path. Where it cannot be
// written nothing is left.
func written(dir string, body []byte) (string, error) {
	f, err := os.CreateTemp(dir, "new-*")
	if err != nil {
		return "", err
	}
	_, err = f.Write(body)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return "", errors.Join(fmt.Errorf("a value of %d bytes cannot be written: %w", len(body), err), os.Remove(f.Name()))
	}
	return f.Name(), nil
}

// folder opens the folder of some files, which is made where it is not there.
func (b blobs) folder(name string) (*os.File, error) {
	dir, err := os.Open(name)
	if !errors.Is(err, fs.ErrNotExist) {
		return dir, err
	}
	above, err := os.Open(b.dir)
	if err != nil {
		return nil, err
	}
	defer above.Close()
	if err := os.Mkdir(name, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, err
	}
	if err := above.Sync(); err != nil {
		return nil, err
	}
	return os.Open(name)
}

// writable says whether a file can be written.
func (b blobs) writable() error {
	name, err := written(b.dir, []byte("ready"))
	if err != nil {
		return err
	}
	return os.Remove(name)
}

// get gives a file, held against the hash of its content that it is named by.
func (b blobs) get(h ledger.Hash) ([]byte, error) {
	body, err := b.named(h)
	if err == nil && ledger.HashOf(body) != h {
		return nil, fmt.Errorf("the file %s of the data directory is damaged: it does not hold what its name says", b.path(h))
	}
	return body, err
}

func (b blobs) named(h ledger.Hash) ([]byte, error) {
	if len(h) < 2 {
		return nil, fmt.Errorf("%q names no file of the data directory", h)
	}
	body, err := os.ReadFile(b.path(h))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("the file %s of the data directory is missing", b.path(h))
	}
	return body, err
}
