package cli

import (
	"context"
	"embed"
	"errors"
	"flag"
	"fmt"
	iofs "io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"stonebaton.example/core/project"
	"stonebaton.example/internal/tools"
)

//go:embed starter
var starter embed.FS

var newCommand = command{
	name: "new", args: "DIR", most: 1, does: "make a small project that runs at once", example: "stonebaton new workshop\nstonebaton new -list\nstonebaton new -like in_line letters\nstonebaton new workshop -endpoint http://127.0.0.1:8080/v1 -model the-model",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		like := fs.String("like", "", "begin from this `pattern`")
		list := fs.Bool("list", false, "show the patterns, a line each")
		var at endpoint
		fs.StringVar(&at.url, "endpoint", "", "its agents ask the model at this `URL`, which speaks chat completions; its key is asked for, and kept in .env")
		fs.StringVar(&at.model, "model", "", "the `name` of the model at the endpoint; where it has one alone, that one")
		return func(ctx context.Context, args []string) error {
			if *list {
				return k.patternsShown()
			}
			if len(args) == 0 {
				return use("where? Name a folder that is not there yet")
			}
			if err := at.sound(); err != nil {
				return err
			}
			dir := args[0]
			if list, err := os.ReadDir(dir); err == nil && len(list) > 0 {
				return fmt.Errorf("%s is not empty; nothing was written. Name a folder that is not there yet", dir)
			}
			if *like != "" {
				if err := k.begun(*like, dir); err != nil {
					return err
				}
				return k.joined(ctx, dir, at)
			}
			files, err := iofs.Sub(starter, "starter")
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
			return k.joined(ctx, dir, at)
		}
	},
}

// patternsShown lists the patterns.
func (k *call) patternsShown() error {
	list, err := patternList()
	if err != nil {
		return err
	}
	var rows [][]any
	for _, p := range list {
		rows = append(rows, []any{p.name, p.says})
	}
	return k.table("pattern what_it_is", rows)
}

// begun makes a project from a pattern.
func (k *call) begun(like, dir string) error {
	files, err := beginning(like)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(files[name]), 0o644); err != nil {
			return err
		}
	}
	if err := os.WriteFile(filepath.Join(dir, ".gitignore"), []byte(".env\n"+project.Records+"/\n"), 0o644); err != nil {
		return err
	}
	k.print("Made %s like %s.\n\n  cd %s\n  stonebaton drill     test it, offline\n  stonebaton map %s\n  stonebaton serve     run it, with the console\n", dir, like, tools.Quote(dir), like)
	return nil
}

// copyOut writes files into a folder; those that are there stay as they are.
func copyOut(files iofs.FS, dir string) error {
	return iofs.WalkDir(files, ".", func(p string, e iofs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(dir, filepath.FromSlash(p))
		if e.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		raw, err := iofs.ReadFile(files, p)
		if err != nil {
			return err
		}
		f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
		if errors.Is(err, iofs.ErrExist) {
			return nil
		}
		if err != nil {
			return err
		}
		_, err = f.Write(raw)
		return errors.Join(err, f.Close())
	})
}
