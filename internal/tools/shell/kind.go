package shell

import (
	_ "embed"
	"path"
	"slices"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
)

//go:embed kind.yaml
var shape string

// Kind is the kind of tools that run a line of the shell.
var Kind = project.Kind{Name: "shell", Schema: shape, Brings: brings, Compile: compile,
	Reach: func(raw map[string]any) (writes, starts string) { return "in", "" }}

// Shell says where lines work, and which need nobody's agreement.
type Shell struct {
	In        string
	Harmless  []string
	Reads     []string
	Network   project.Network
	MemoryMB  int `json:"memory_mb"`
	DiskMB    int `json:"disk_mb"`
	Processes int
}

func brings(*project.Part) project.Own {
	return project.Own{Name: "shell", Effect: ledger.Write, Gated: true, Shipped: true,
		Input: map[string]any{"type": "object", "required": []any{"line"}, "properties": map[string]any{
			"line": map[string]any{"type": "string", "minLength": 1, "maxLength": 4000, "description": "The line, as sh reads it, such as grep -c berth notes.md."}}},
		Output: map[string]any{"type": "object", "required": []any{"exit"}, "properties": map[string]any{
			"exit": map[string]any{"type": "integer"}, "output": map[string]any{"type": "string"}, "errors": map[string]any{"type": "string"}, "ended": map[string]any{"type": "string"},
			"refused": map[string]any{"type": "array", "items": map[string]any{"type": "string"}}, "changed": map[string]any{"type": "array", "items": map[string]any{"type": "string"}}}}}
}

func compile(p *project.Part) project.Work {
	s := &Shell{MemoryMB: 256, DiskMB: 64, Processes: 32}
	p.Into(s)
	if s.In = p.Inside("/in", s.In); path.Clean(s.In) == "." {
		p.Report(project.Error, "/in", "Name a folder that holds no files of the project, such as notes.", "in: would open the project's own folder, with its files, its .env and its records")
	}
	s.Reads, s.Network = p.Reads("reads", s.Reads), p.Network(s.Network)
	return project.Work{Spec: s, Line: "lines of the shell in " + s.In, Data: []string{s.In}, Looks: true, Free: s.free}
}

// free says whether a call needs nobody's agreement: its line is one of the harmless ones.
func (s *Shell) free(args any) bool {
	m, _ := args.(map[string]any)
	line, _ := m["line"].(string)
	words, plain := split(line)
	return plain && slices.ContainsFunc(s.Harmless, func(p string) bool { return fits(strings.Fields(p), words) })
}

func fits(pattern, words []string) bool {
	for i, p := range pattern {
		switch {
		case p == "…" && i == len(pattern)-1:
			return true
		case i >= len(words) || (p != "*" && p != words[i]):
			return false
		}
	}
	return len(words) == len(pattern)
}

// split parts a line into its words as sh would, where it holds nothing that sh reads in any
// other way; plain is false where it does, and then nothing is known of it.
func split(line string) (words []string, plain bool) {
	var word strings.Builder
	in, quoted := false, rune(0)
	for _, r := range line {
		switch {
		case quoted != 0 && r == quoted:
			quoted = 0
		case r == '\'' || r == '"':
			if quoted != 0 { // the other mark, within quotes
				word.WriteRune(r)
				continue
			}
			quoted, in = r, true
		case quoted == '\'' && r != '\n':
			word.WriteRune(r)
		case r == ' ' || r == '\t':
			if quoted != 0 {
				word.WriteRune(r)
				continue
			}
			if in {
				words = append(words, word.String())
				word.Reset()
				in = false
			}
		case strings.ContainsRune("|&;<>()$`\\*?[]{}#~=%!\n\r", r) || r < ' ':
			return nil, false
		default:
			word.WriteRune(r)
			in = true
		}
	}
	if quoted != 0 {
		return nil, false
	}
	if in {
		words = append(words, word.String())
	}
	return words, len(words) > 0
}
