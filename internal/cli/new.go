package cli

import (
	"context"
	"embed"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"stonebaton.example/internal/tools"
)

//go:embed starter
var starter embed.FS

var newCommand = command{
	name: "new", args: "DIR", most: 1, does: "make a small project that runs at once", example: "stonebaton new workshop",
	set: func(k *call, _ *flag.FlagSet) func(context.Context, []string) error {
		return func(_ context.Context, args []string) error {
			if len(args) == 0 {
				return use("where? Name a folder that is not there yet")
			}
			dir := args[0]
			if list, err := os.ReadDir(dir); err == nil && len(list) > 0 {
				return fmt.Errorf("%s is not empty; nothing was written. Name a folder that is not there yet", dir)
			}
			files, err := fs.Sub(starter, "starter")
			if err != nil {
				return err
			}
			if err := copyOut(files, dir); err != nil {
				return err
			}
			if err := os.Rename(filepath.Join(dir, "gitignore"), filepath.Join(dir, ".gitignore")); err != nil {
				return err
			}
			k.print("Made %s: two agents, one tool with a gate, one drill.\n\n  cd %s\n  stonebaton drill     test it, offline\n  stonebaton serve     run it, with the console; then in another terminal, in the same folder:\n  stonebaton say \"I want to borrow the lathe for 3 days, please.\"\n", dir, tools.Quote(dir))
			return nil
		}
	},
}

// copyOut writes files into a folder; those that are there stay as they are.
func copyOut(files fs.FS, dir string) error {
	return fs.WalkDir(files, ".", func(p string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(dir, filepath.FromSlash(p))
		if e.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		raw, err := fs.ReadFile(files, p)
		if err != nil {
			return err
		}
		f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
		if errors.Is(err, fs.ErrExist) {
			return nil
		}
		if err != nil {
			return err
		}
		_, err = f.Write(raw)
		return errors.Join(err, f.Close())
	})
}
