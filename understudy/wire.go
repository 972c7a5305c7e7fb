package understudy

import (
	"context"
	"path"
	"sort"
	"strings"
	"sync"

	"stonebaton/core/ledger"
	"stonebaton/core/loop"
	"stonebaton/core/project"
	"stonebaton/core/prompt"
)

// Wire is the understudy in process, as the project's wire of that name. It
// plays every model of a project when Always is set, as drills need it.
type Wire struct {
	Always bool
	read   sync.Map // version and glob → []Line
}

// LinesOf reads the lines of a model from the files of its project. Always, or
// for a model of another wire, it is the lines of all understudies.
func LinesOf(p *project.Project, glob string) ([]Line, []project.Problem) {
	var globs []string
	if glob != "" {
		globs = []string{glob}
	} else {
		for _, m := range p.Models {
			if m.Lines != "" {
				globs = append(globs, m.Lines)
			}
		}
	}
	var files []string
	for f := range p.Files {
		for _, g := range globs {
			if ok, err := path.Match(g, f); err == nil && ok {
				files = append(files, f)
				break
			}
		}
	}
	sort.Strings(files)
	var out []Line
	var probs []project.Problem
	for _, f := range files {
		lines, bad := ReadLines(f, []byte(p.Files[f]))
		if bad != nil {
			probs = append(probs, project.Problem{Grade: project.Error, Place: project.Place{File: bad.File, Line: bad.Line, Col: 1}, Say: bad.Say})
			continue
		}
		out = append(out, lines...)
	}
	return out, probs
}

func (w *Wire) lines(p *project.Project, glob string) []Line {
	key := string(p.Version) + " " + glob
	if l, ok := w.read.Load(key); ok {
		return l.([]Line)
	}
	lines, _ := LinesOf(p, glob) // the project was checked
	w.read.Store(key, lines)
	return lines
}

// Ask answers a request at once, its words passed on one by one.
func (w *Wire) Ask(_ context.Context, p *project.Project, m *project.Model, r prompt.Request, delta func(string)) (prompt.Reply, *loop.ModelFailure) {
	glob := m.Lines
	if w.Always {
		glob = ""
	}
	var lines []Line
	if w.Always || glob != "" {
		lines = w.lines(p, glob)
	}
	out := Answer(lines, r)
	for _, piece := range pieces(out.Text) {
		delta(piece)
	}
	if out.Text == "" && len(out.Calls) == 0 {
		out.Usage = ledger.Usage{}
	}
	return out, nil
}

// pieces cuts a text as models stream it: word by word.
func pieces(text string) []string { return strings.SplitAfter(text, " ") }
