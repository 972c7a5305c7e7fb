package store

import (
	"archive/tar"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/jmoiron/sqlx"

	"stonebaton.example/internal/sqlite"
)

// Backup writes the records of a folder as a tar archive, compressed with gzip (RFC 1952), as they
// are at one moment. A service may be at work on them. Scratch is a folder for what is between;
// it says how many runs there are.
func Backup(ctx context.Context, dir, scratch string, to io.Writer) (runs int, err error) {
	file := filepath.Join(dir, "stonebaton.db")
	if _, err := os.Stat(file); err != nil {
		return 0, fmt.Errorf("there are no records in %s", dir)
	}
	db, err := sqlx.Open("sqlite", sqlite.DSN(file, "_pragma=busy_timeout(10000)"))
	if err != nil {
		return 0, err
	}
	defer db.Close()
	copied := filepath.Join(scratch, "stonebaton.db")
	if _, err := db.ExecContext(ctx, `VACUUM INTO ?`, copied); err != nil {
		return 0, fmt.Errorf("the records cannot be copied: %w", err)
	}
	if runs, err = whole(ctx, copied); err != nil {
		return 0, err
	}
	zip := gzip.NewWriter(to)
	out := tar.NewWriter(zip)
	if err := put(out, copied, "stonebaton.db"); err != nil {
		return 0, err
	}
	for _, name := range []string{"people.json", "link.key"} { // who may use it, and what signs links
		if err := put(out, filepath.Join(dir, name), name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return 0, err
		}
	}
	// Files of large values come before the rows that name them, and never change: all that the
	// copy names are here by now.
	err = filepath.WalkDir(filepath.Join(dir, "blobs"), func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || strings.HasPrefix(e.Name(), "new-") {
			return err
		}
		name, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		return put(out, path, filepath.ToSlash(name))
	})
	return runs, errors.Join(err, out.Close(), zip.Close())
}

// whole holds a copy against itself, and counts its runs.
func whole(ctx context.Context, file string) (runs int, err error) {
	db, err := sqlx.Open("sqlite", sqlite.DSN(file, "_pragma=query_only(1)"))
	if err != nil {
		return 0, err
	}
	defer db.Close()
	var say string
	if err := db.GetContext(ctx, &say, `PRAGMA integrity_check`); err != nil || say != "ok" {
		return 0, fmt.Errorf("the copy of the records is not whole: %s %w", say, err)
	}
	return runs, db.GetContext(ctx, &runs, `SELECT count(*) FROM run`)
}

func put(out *tar.Writer, path, name string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if err := out.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Size: info.Size(), Mode: 0o600, ModTime: info.ModTime()}); err != nil {
		return err
	}
	_, err = io.Copy(out, f)
	return err
}
