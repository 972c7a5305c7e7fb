package cli

import (
	"fmt"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/examples/patterns"
)

// pattern is a way of sharing work that a new project can begin from.
type pattern struct {
	name, says string
}

// alone says of a file of the patterns that a project can begin from it: it needs no other
// project beside it.
func alone(text string) bool { return !strings.Contains(text, "\nsource: ") }

// patternList lists the patterns, by their names.
func patternList() ([]pattern, error) {
	names, err := fs.Glob(patterns.Files, "*.yaml")
	if err != nil {
		return nil, err
	}
	var out []pattern
	for _, n := range names {
		text, err := read(n)
		if err != nil {
			return nil, err
		}
		name := strings.TrimSuffix(n, path.Ext(n))
		if n == project.Main || !alone(text) || !strings.Contains(text, "\nrelay: "+name+"\n") {
			continue
		}
		out = append(out, pattern{name, opening(text)})
	}
	return out, nil
}

func read(name string) (string, error) {
	raw, err := fs.ReadFile(patterns.Files, name)
	return string(raw), err
}

// opening gives what a file says of itself in its first comment.
func opening(text string) string {
	var words []string
	for line := range strings.Lines(text) {
		said, ok := strings.CutPrefix(line, "#")
		if !ok {
			break
		}
		words = append(words, strings.Fields(said)...)
	}
	return strings.Join(words, " ")
}

// definition is what a document defines: its first key.
var definition = regexp.MustCompile(`^(?:#.*\n)*(agent|tool|relay): ([a-z0-9_]+)`)

// comment is what stands above a document.
var comment = regexp.MustCompile(`^(?:#.*\n)+`)

// prose is what of a document names nothing: texts for people and models.
var prose = regexp.MustCompile(`(?m)"(?:[^"\\]|\\.)*"|^(summary|prompt): .*$|^#.*$|required: \[[^\]]*\]`)

// beginning gives the files of a project that begins from a pattern: its own file, and of the
// others the documents that it leads to.
func beginning(name string) (map[string]string, error) {
	list, err := patternList()
	if err != nil {
		return nil, err
	}
	var names []string
	for _, p := range list {
		names = append(names, p.name)
	}
	if !slices.Contains(names, name) {
		return nil, use("there is no pattern %q.%s `stonebaton new -list` shows them", name, near.Hint(name, names))
	}
	own, err := read(name + ".yaml")
	if err != nil {
		return nil, err
	}
	files, err := fs.Glob(patterns.Files, "*.yaml")
	if err != nil {
		return nil, err
	}
	left := map[string]string{} // documents of other files, by what they define
	for _, f := range files {
		if f == project.Main || f == name+".yaml" {
			continue
		}
		text, err := read(f)
		if err != nil {
			return nil, err
		}
		for _, doc := range strings.Split(text, "\n---\n") {
			if m := definition.FindStringSubmatch(strings.TrimSpace(doc)); m != nil {
				left[m[2]] = strings.TrimSpace(comment.ReplaceAllString(strings.TrimSpace(doc), "")) + "\n"
			}
		}
	}
	var more []string
	for line := []string{own}; len(line) > 0; line = line[1:] {
		for _, n := range slices.Sorted(maps.Keys(left)) {
			if regexp.MustCompile(`(?m)\b` + n + `(?:\s*[,\]}]|$)`).MatchString(prose.ReplaceAllString(line[0], "")) {
				more, line = append(more, left[n]), append(line, left[n])
				delete(left, n)
			}
		}
	}
	out := map[string]string{name + ".yaml": own}
	if len(more) > 0 {
		out["others.yaml"] = "# What " + name + " leads to.\n" + strings.Join(more, "---\n")
	}
	start := ""
	for _, text := range append([]string{own}, more...) {
		if m := regexp.MustCompile(`(?m)^agent: ([a-z0-9_]+)`).FindStringSubmatch(text); m != nil {
			start = m[1]
			break
		}
	}
	out[project.Main] = fmt.Sprintf("project: %s\nsummary: %q\nstart: %s\nmodels: {house: {speaks: understudy}}\nlimits: {turns: 60, calls: 60, legs: 100}\n", name, opening(own), start)
	return out, nil
}
