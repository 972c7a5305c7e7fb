package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"time"

	"github.com/google/renameio/v2"

	"stonebaton.example/core/project"
	"stonebaton.example/internal/store"
)

// recordsFlags say where the records are that a command works on without a service.
func recordsFlags(fs *flag.FlagSet) func() (string, error) {
	dir := fs.String("dir", ".", "the project's `folder`")
	data := fs.String("data", "", "the `folder` of the records; .stonebaton in the project by default")
	return func() (string, error) {
		if *data != "" {
			return *data, nil
		}
		if _, err := os.Stat(filepath.Join(*dir, project.Main)); err != nil {
			return "", fmt.Errorf("%s has no %s, so it is not a project. Name its folder with -dir, or that of the records with -data", *dir, project.Main)
		}
		return filepath.Join(*dir, ".stonebaton"), nil
	}
}

var backupCommand = command{
	name: "backup", args: "FILE", most: 1, does: "write the records into one file, while the service goes on", example: "stonebaton backup kelmere.tar.gz\nmkdir -p fresh && tar xzf kelmere.tar.gz -C fresh && stonebaton serve -data fresh",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		where := recordsFlags(fs)
		return func(ctx context.Context, args []string) error {
			if len(args) == 0 {
				return use("name the file to write")
			}
			dir, err := where()
			if err != nil {
				return err
			}
			f, err := renameio.NewPendingFile(args[0], renameio.WithStaticPermissions(0o600))
			if err != nil {
				return fmt.Errorf("the backup cannot be written: %w", err)
			}
			defer f.Cleanup() // gone after the rename
			scratch, err := os.MkdirTemp(filepath.Dir(args[0]), ".backup-")
			if err != nil {
				return fmt.Errorf("the backup cannot be written: %w", err)
			}
			defer os.RemoveAll(scratch)
			runs, err := store.Backup(ctx, dir, scratch, f)
			if err != nil {
				return err
			}
			info, err := f.Stat()
			if err == nil {
				err = f.CloseAtomicallyReplace()
			}
			if err != nil {
				return fmt.Errorf("the backup cannot be written: %w", err)
			}
			k.print("%s holds %s, in %.1f MB. It has what people and tools said, and who may use the service: keep it as safe as the records.\n", args[0], count(runs, "run"), float64(info.Size())/1e6)
			return nil
		}
	},
}

var age = regexp.MustCompile(`^([0-9]{1,5})([dh])$`)

var pruneCommand = command{
	name: "prune", most: 0, does: "take old sessions out of the records, while no service runs", example: "stonebaton prune -older 90d -dry\nstonebaton prune -older 90d",
	set: func(k *call, fs *flag.FlagSet) func(context.Context, []string) error {
		k.asJSON(fs)
		where := recordsFlags(fs)
		older := fs.String("older", "", "`AGE` of the newest run of a session from which it goes, such as 90d or 36h")
		dry := fs.Bool("dry", false, "say what would go, and keep it")
		return func(ctx context.Context, _ []string) error {
			m := age.FindStringSubmatch(*older)
			if m == nil {
				return use("say with -older from which age on sessions go, such as 90d or 36h")
			}
			n, err := strconv.Atoi(m[1])
			if err != nil {
				return err
			}
			unit := time.Hour
			if m[2] == "d" {
				unit *= 24
			}
			dir, err := where()
			if err != nil {
				return err
			}
			if _, err := os.Stat(filepath.Join(dir, "stonebaton.db")); err != nil {
				return fmt.Errorf("there are no records in %s", dir)
			}
			s, err := store.Open(dir)
			if err != nil {
				return err
			}
			defer s.Close()
			out, err := s.Prune(ctx, time.Now().Add(-time.Duration(n)*unit), *dry)
			if err != nil {
				return err
			}
			if !*dry {
				for _, id := range out.IDs {
					for _, what := range []string{"", ".json", ".libraries"} { // where its programs worked
						if err := os.RemoveAll(filepath.Join(dir, "programs", id+what)); err != nil {
							return err
						}
					}
				}
			}
			if k.json {
				return k.printJSON(out)
			}
			if *dry {
				k.print("%s with %s would go. Nothing was changed.\n", count(out.Sessions, "session"), count(out.Runs, "run"))
				return nil
			}
			k.print("%s with %s went, and %s of large values. The record of who did what stays.\n", count(out.Sessions, "session"), count(out.Runs, "run"), count(out.Files, "file"))
			return nil
		}
	},
}
