package project

import (
	"cmp"
	"fmt"
	"path"
	"time"

	"stonebaton.example/core/near"
)

// Code is what a source of functions says of their files.
type Code struct {
	Files   []string `json:"files"`   // of the project, or its folders
	Runtime string   `json:"runtime"` // what runs them: a name or a path; "" is found
	Keeps   bool     `json:"keeps"`   // what they keep in memory outlasts a call
	AtOnce  int      `json:"at_once"` // calls of one file
}

var languages = map[string]string{".py": "python", ".js": "javascript", ".mjs": "javascript", ".cjs": "javascript", ".ts": "javascript", ".mts": "javascript"}

// Language tells by its name what runs a file of functions: python or javascript; "" is nothing.
func Language(name string) string { return languages[path.Ext(name)] }

// Languages lists the endings of files of functions.
func Languages() []string { return keysOf(languages) }

// rawCode is what a source document says under code:.
type rawCode struct {
	File       any
	Runtime    string
	KeepsState bool `json:"keeps_state"`
	AtOnce     int  `json:"at_once"`
	Timeout    string
	rawProgram
}

// Bounds of files of functions, where their source sets none.
const (
	codeAtOnce  = 4
	codeTimeout = 20 * time.Second // to be loaded
)

func (c *compiler) codeOf(d *document, r *rawCode, s *SourceDoc) {
	s.Code = &Code{Runtime: c.vars(d, "/code/runtime", r.Runtime), Keeps: r.KeepsState, AtOnce: cmp.Or(r.AtOnce, codeAtOnce)}
	if s.Code.Keeps {
		if s.Code.AtOnce = 1; r.AtOnce > 1 {
			c.report(Error, d.at("/code/at_once"), "Omit it, or keeps_state.", "what is kept in memory is in one process, which takes one call at a time")
		}
	}
	for i, name := range texts(r.File) {
		at := "/code/file"
		if _, list := r.File.([]any); list {
			at = fmt.Sprintf("%s/%d", at, i)
		}
		name = c.inside(d, at, name)
		if path.Ext(name) != "" && Language(name) == "" {
			c.report(Error, d.at(at), "Files of functions end in "+near.List(Languages())+".", "%s is not a file of functions", name)
		}
		if name == "." {
			c.report(Error, d.at(at), "Put them into a folder of their own.", "the functions would be granted the whole project")
		}
		s.Code.Files = append(s.Code.Files, name)
	}
	c.program(d, "/code", &r.rawProgram, s)
	if s.Timeout = codeTimeout; r.Timeout != "" {
		s.Timeout = span(r.Timeout)
	}
}

// OneFile gives a source of the functions of one file, with the bounds that such have.
func OneFile(file string) *SourceDoc {
	c := &compiler{p: &Project{}}
	s := &SourceDoc{Name: file, Env: map[string]string{}}
	c.codeOf(&document{}, &rawCode{File: file}, s)
	return s
}

// texts gives one text, or a list of some, as a list.
func texts(v any) (out []string) {
	list, ok := v.([]any)
	if !ok {
		list = []any{v}
	}
	for _, e := range list {
		if s, ok := e.(string); ok {
			out = append(out, s)
		}
	}
	return out
}

// Inward says that what the source runs reaches nothing outside itself: functions in the sandbox
// that have no network, no folder to write to, and no environment of their own.
func (s *SourceDoc) Inward() bool {
	return s.Code != nil && !s.Bounds.Bare && !s.Bounds.Network.Any() && len(s.Bounds.Writes) == 0 && len(s.Env) == 0
}

// codeFiles lists the files and folders of functions that the documents of some files name,
// sound or not.
func codeFiles(files map[string]string) (out []string) {
	for _, f := range keysOf(files) {
		if path.Ext(f) != ".yaml" {
			continue
		}
		docs, _ := parse(f, files[f])
		for _, d := range docs {
			if d.kind == "source" {
				out = append(out, d.codeFiles()...)
			}
		}
	}
	return out
}

func (d *document) codeFiles() (out []string) {
	part, _ := d.value["code"].(map[string]any)
	for _, name := range texts(part["file"]) {
		out = append(out, path.Clean(name))
	}
	return out
}

// receivers holds the agents to which sources give their tools against those that there are.
func (c *compiler) receivers() {
	for _, d := range c.docs {
		if d.kind != "source" {
			continue
		}
		for i, name := range texts(d.value["agents"]) {
			if _, ok := c.names["agent "+name]; !ok {
				var have []string
				for _, x := range c.docs {
					if n, ok := x.value["agent"].(string); ok && x.kind == "agent" {
						have = append(have, n)
					}
				}
				c.missing(d.at(fmt.Sprintf("/agents/%d", i)), "agent", name, have)
			}
		}
	}
}
