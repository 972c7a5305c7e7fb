package understudy

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/core/schema"
	"stonebaton.example/internal/model"
)

// Wire is the understudy in process, as the project's wire of that name. It
// plays every model of a project when Always is set, as drills need it.
type Wire struct {
	Always bool
	Slips  *float64 // in place of the models' own; nil leaves them
	Seed   int
	parts  sync.Map // version and model → Part
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

// Check gives what is doubtful about the lines of a project's understudies, beside what
// keeps them from being read: a glob that matches no file, a call of a tool that is not
// there, an argument that it does not have.
func Check(p *project.Project) []project.Problem {
	_, probs := LinesOf(p, "")
	for name, m := range p.Models {
		if m.Lines == "" || slices.ContainsFunc(slices.Collect(maps.Keys(p.Files)), func(f string) bool { ok, _ := path.Match(m.Lines, f); return ok }) {
			continue
		}
		probs = append(probs, project.Problem{Grade: project.Warning, Place: m.Place, Say: fmt.Sprintf("lines: %s of the model %q matches no file", m.Lines, name), Remedy: "The pattern counts from the project's folder, and * matches no /."})
	}
	for file, text := range p.Files {
		if !strings.HasSuffix(file, ".yaml") || !slices.ContainsFunc(slices.Collect(maps.Values(p.Models)), func(m *project.Model) bool { ok, _ := path.Match(m.Lines, file); return ok }) {
			continue
		}
		lines, bad := ReadLines(file, []byte(text))
		if bad != nil {
			continue // LinesOf has said so
		}
		for _, l := range lines {
			for _, c := range l.Calls {
				warn := func(format string, args ...any) {
					probs = append(probs, project.Problem{Grade: project.Warning, Place: project.Place{File: file, Line: l.at, Col: 1}, Say: fmt.Sprintf(format, args...)})
				}
				to, pass := strings.CutPrefix(c.Tool, project.PassPrefix)
				t := p.Tools[c.Tool]
				switch {
				case pass && p.Agents[to] == nil:
					warn("this line passes to %q, and there is no such agent.%s", to, near.Hint(to, slices.Sorted(maps.Keys(p.Agents))))
				case strings.HasPrefix(c.Tool, project.ConsultPrefix) || c.Tool == project.AskPerson:
				case !pass && t == nil:
					warn("this line calls %q, and there is no such tool.%s", c.Tool, near.Hint(c.Tool, slices.Sorted(maps.Keys(p.Tools))))
				case t != nil:
					known := schema.Keys(t.Input.Doc())
					for _, arg := range slices.Sorted(maps.Keys(c.Args)) {
						if !slices.Contains(known, arg) && !(t.ReasonFirst && arg == project.Because) {
							warn("this line gives %s to %q, which has no such argument.%s", arg, c.Tool, near.Hint(arg, known))
						}
					}
				}
			}
		}
	}
	return probs
}

// PartOf gives what a model of a project plays; no model is all the
// understudies of the project at once, as a drill needs it.
func PartOf(p *project.Project, m *project.Model) Part {
	results := map[string]map[string]any{} // what tools say of their results, for the wording of answers
	for name, t := range p.Tools {
		if doc := t.Output.Doc(); len(doc) > 0 {
			results[name] = doc
		}
	}
	out := Part{memory: newMemory(results)}
	glob := ""
	if m != nil {
		glob, out.Slips, out.Seed = m.Lines, m.Slips, m.Seed
	}
	if m == nil || glob != "" {
		out.Lines, _ = LinesOf(p, glob) // the project was checked
	}
	return out
}

func (w *Wire) part(p *project.Project, m *project.Model) Part {
	key := string(p.Version) + " "
	if w.Always {
		m = nil
	} else {
		key += m.Name
	}
	part, ok := w.parts.Load(key)
	if !ok {
		part, _ = w.parts.LoadOrStore(key, PartOf(p, m))
	}
	out := part.(Part)
	if w.Slips != nil {
		out.Slips, out.Seed = *w.Slips, w.Seed
	}
	return out
}

// Ask answers a request, its words passed on one by one, at the pace that the
// model sets. In a drill it takes no time.
func (w *Wire) Ask(ctx context.Context, p *project.Project, m *project.Model, r deed.Request, delta func(string)) (deed.Reply, *deed.ModelFailure) {
	out := w.part(p, m).Answer(r)
	slow := !w.Always && (m.Latency > 0 || m.Word > 0)
	heard := func() {}
	if slow {
		var stop func()
		ctx, heard, stop = model.Silence(ctx, m.Timeout)
		defer stop()
		rest(ctx, m.Latency)
	}
	for i, piece := range pieces(out.Text) {
		if slow && i > 0 {
			rest(ctx, m.Word)
		}
		heard()
		delta(piece)
	}
	switch err := context.Cause(ctx); {
	case errors.Is(err, model.ErrSilent):
		return deed.Reply{}, &deed.ModelFailure{Class: "timeout", Say: fmt.Sprintf("the model %q had said nothing for %s", m.Name, m.Timeout), Remedy: "Raise timeout: of the model, or lower its latency: and word:.", Retry: true}
	case errors.Is(err, context.DeadlineExceeded):
		return deed.Reply{}, &deed.ModelFailure{Class: "timeout", Say: fmt.Sprintf("the reply of the model %q had not ended after %s", m.Name, m.Longest), Remedy: "Raise longest: of the model, or ask for less.", Retry: true}
	case err != nil:
		return deed.Reply{}, &deed.ModelFailure{Class: "stopped", Say: fmt.Sprintf("the request to the model %q was cancelled", m.Name)}
	}
	if out.Text == "" && len(out.Calls) == 0 {
		out.Usage = ledger.Usage{}
	}
	return out, nil
}

func rest(ctx context.Context, d time.Duration) {
	if d <= 0 {
		return
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
	case <-ctx.Done():
	}
}

// pieces cuts a text as models stream it: word by word.
func pieces(text string) []string { return strings.SplitAfter(text, " ") }
