package app

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/internal/tools"
)

// Changes gives all that a run has changed in files of the project and nobody has undone, as
// one difference: from how each file was before the run to how it is now.
func (a *App) Changes(ctx context.Context, run string) (list []tools.Change, diff string, err error) {
	if list, err = a.Store.ChangesOf(ctx, run); err != nil {
		return nil, "", err
	}
	before := map[string][]byte{}
	for _, c := range list { // the newest first, so that the oldest counts
		files, err := c.Files()
		if err != nil {
			return nil, "", err
		}
		maps.Copy(before, files)
	}
	root, err := os.OpenRoot(a.Projects.Dir())
	if err != nil {
		return nil, "", err
	}
	defer root.Close()
	var b strings.Builder
	for _, p := range slices.Sorted(maps.Keys(before)) {
		now, err := root.ReadFile(p)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, "", err
		}
		if err != nil {
			now = nil
		}
		b.WriteString(tools.Diff(p, before[p], now))
	}
	return list, a.Secrets.Text(b.String()), nil
}

// Undo undoes one change, and tells the run that made it.
func (a *App) Undo(ctx context.Context, key, by string) (tools.Change, error) {
	ch, err := a.Workshop.Set.Undo(ctx, key)
	if err != nil || ch.Run == "" {
		return ch, err
	}
	return ch, a.Engine.Undone(ctx, ch.Run, ledger.StepID(ch.Step), ch.Path, by)
}
