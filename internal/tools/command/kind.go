package command

import (
	_ "embed"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/project"
)

//go:embed kind.yaml
var shape string

// Kind is the kind of tools that are programs.
var Kind = project.Kind{Name: "command", Schema: shape, Compile: compilePart,
	Reach: func(map[string]any) (writes, starts string) { return "writes", "run" }}

// Command is a program made of a call.
type Command struct {
	Run       []*expr.Template
	Base      string // the folder of the file that names it, from which its files count
	Env       map[string]string
	State     []string
	Text      bool // standard output is text, not JSON
	Refusals  map[int]string
	Reads     []string
	Writes    []string
	Files     []string // patterns of those that are part of the result
	Network   project.Network
	MemoryMB  int
	DiskMB    int
	Processes int
	Bare      bool // no sandbox
}

func compilePart(p *project.Part) project.Work {
	var r struct {
		Run, State, Reads, Writes, Files []string
		Env, Refusals                    map[string]string
		Output, Sandbox                  string
		Network                          project.Network
		MemoryMB                         int `json:"memory_mb"`
		DiskMB                           int `json:"disk_mb"`
		Processes                        int
	}
	p.Into(&r)
	m := &Command{Base: p.Folder(), Env: map[string]string{}, State: r.State, Text: r.Output == "text", Refusals: map[int]string{}, Network: p.Network(r.Network),
		MemoryMB: 512, DiskMB: 64, Processes: 32, Bare: r.Sandbox == "none" || (r.Sandbox == "" && p.Bare())}
	for i, f := range r.Files {
		if _, err := path.Match(f, ""); err != nil || !fs.ValidPath(f) {
			p.Report(project.Error, fmt.Sprintf("/files/%d", i), "Write a name or a pattern, such as chart.png or out/*.csv.", "files: %q is not a path in the folder that the program runs in", f)
			continue
		}
		m.Files = append(m.Files, f)
	}
	for i, a := range r.Run {
		at := fmt.Sprintf("/run/%d", i)
		p.NoSecret(at, a)
		m.Run = append(m.Run, p.Template(at, a))
	}
	if first := m.Run[0]; first != nil && !first.Plain() {
		p.Report(project.Error, "/run/0", "Write the program out, and give it the values as arguments or on standard input.", "the program itself must not depend on a value")
	}
	for k, v := range r.Env {
		m.Env[k] = p.Vars("/env/"+k, v)
	}
	for k, v := range r.Refusals {
		n, err := strconv.Atoi(k)
		if err != nil || n < 1 || n > 255 {
			p.ReportKey(project.Error, "/refusals/"+k, "", "%q is not an exit code from 1 to 255", k)
			continue
		}
		m.Refusals[n] = v
	}
	p.Facts("/state", r.State)
	m.Reads = p.Reads("reads", r.Reads)
	for i, name := range r.Writes {
		m.Writes = append(m.Writes, p.Inside(fmt.Sprintf("/writes/%d", i), name))
	}
	for to, v := range map[*int]int{&m.MemoryMB: r.MemoryMB, &m.DiskMB: r.DiskMB, &m.Processes: r.Processes} {
		if v > 0 {
			*to = v
		}
	}
	if m.Bare && len(m.Network.Hosts) > 0 {
		p.Report(project.Error, "/network", "Omit network, or run it in the sandbox.", "network: nothing keeps a program with sandbox: none from other hosts")
	}
	w := project.Work{Spec: m, Line: m.line()}
	if m.Bare {
		w.Bare = &project.Bare{Say: "runs " + m.line() + " with sandbox: none"}
		for _, a := range m.Run {
			w.Bare.Of = append(w.Bare.Of, a.String())
		}
		for _, f := range m.files() {
			text, _ := p.File(f)
			w.Bare.Of = append(w.Bare.Of, text)
		}
	}
	return w
}

// line gives the command line as the file has it.
func (c *Command) line() string {
	words := make([]string, len(c.Run))
	for i, a := range c.Run {
		words[i] = a.String()
	}
	return strings.Join(words, " ")
}

// files lists the files beside its document that the command line may name.
func (c *Command) files() []string {
	var out []string
	for _, a := range c.Run {
		if s := a.String(); s != "" && a.Plain() && !strings.HasPrefix(s, "-") && !path.IsAbs(s) {
			out = append(out, path.Join(c.Base, s))
		}
	}
	slices.Sort(out)
	return out
}
