package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/pmezard/go-difflib/difflib"

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
		from, to := p, p
		if before[p] == nil {
			from = "/dev/null"
		}
		if err != nil {
			to = "/dev/null"
		}
		if !utf8.Valid(now) || !utf8.Valid(before[p]) {
			fmt.Fprintf(&b, "--- %s\n+++ %s\n(%d bytes, then %d)\n", from, to, len(before[p]), len(now))
			continue
		}
		d, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: linesOf(before[p]), B: linesOf(now), FromFile: from, ToFile: to, Context: 2})
		if err != nil {
			return nil, "", err
		}
		b.WriteString(d)
	}
	return list, a.Secrets.Text(b.String()), nil
}

func linesOf(b []byte) []string {
	if len(b) == 0 {
		return nil
	}
	return difflib.SplitLines(strings.TrimSuffix(string(b), "\n"))
}

// Undo undoes one change, and tells the run that made it.
func (a *App) Undo(ctx context.Context, key, by string) (tools.Change, error) {
	ch, err := a.Workshop.Set.Undo(ctx, key)
	if err != nil || ch.Run == "" {
		return ch, err
	}
	return ch, a.Engine.Undone(ctx, ch.Run, ledger.StepID(ch.Step), ch.Path, by)
}
