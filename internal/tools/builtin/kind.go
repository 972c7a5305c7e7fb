package builtin

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
)

//go:embed kind.yaml
var shape string

// Kind is the kind of tools that ship with the program.
var Kind = project.Kind{Name: "builtin", Schema: shape, Brings: brings, Compile: compile,
	Reach: func(raw map[string]any) (writes, starts string) {
		if do, _ := raw["do"].(string); !changesFiles(do) {
			return "", ""
		}
		return "in", ""
	}}

// Builtin is what a tool does, such as "files.read", and how far it reaches.
type Builtin struct {
	Do    string
	In    []string // folders
	Facts []string
	From  []string // URLs
}

func changesFiles(do string) bool { return do == "files.write" || do == "files.replace" }

func brings(p *project.Part) project.Own {
	var b Builtin
	p.Into(&b)
	own := known[b.Do]
	out := project.Own{Name: b.Do, Input: fromJSON(own.in), Effect: own.effect, Resend: own.resend, Shipped: true}
	if own.output != "" {
		out.Output = fromJSON(own.output)
	}
	if b.Do == "state.set" {
		props := map[string]any{}
		all, _ := p.State()["properties"].(map[string]any)
		for _, f := range b.Facts {
			props[f] = all[f]
		}
		out.Input, out.Shipped = map[string]any{"type": "object", "properties": props, "minProperties": 1.0}, false
	}
	return out
}

func compile(p *project.Part) project.Work {
	b := &Builtin{}
	p.Into(b)
	own := known[b.Do]
	for i, folder := range b.In {
		at := fmt.Sprintf("/in/%d", i)
		b.In[i] = p.Inside(at, folder)
		if b.In[i] == "." && !changesFiles(b.Do) { // of those that write, the reader of the files says so
			p.Report(project.Error, at, "Grant a folder that holds no files of the project, such as notes.", "in: would open the project's own folder, which holds its files")
		}
	}
	for i, u := range b.From {
		b.From[i] = p.Prefix(fmt.Sprintf("/from/%d", i), u)
	}
	need := func(key string, n int) {
		if own.needs == key && n == 0 {
			p.Report(project.Error, "", "Add "+key+":, so that it is plain how far it reaches.", "%s needs %s:", b.Do, key)
		} else if own.needs != key && n > 0 {
			p.Report(project.Error, "/"+key, "Remove it.", "%s does not take %s:", b.Do, key)
		}
	}
	need("in", len(b.In))
	need("facts", len(b.Facts))
	need("from", len(b.From))
	p.Facts("/facts", b.Facts)
	return project.Work{Spec: b, Line: b.Do, Data: b.In, Inward: b.Do == "calc" || strings.HasPrefix(b.Do, "state."), Looks: changesFiles(b.Do), Sets: b.Do == "state.set"}
}

// made is what a builtin brings of its own.
type made struct {
	needs  string // "in", "facts", "from" or nothing
	effect ledger.Effect
	resend string
	in     string
	output string
}

// fromJSON reads one of the literals below.
func fromJSON(s string) map[string]any {
	var m map[string]any
	if err := json.Unmarshal([]byte(s), &m); err != nil {
		panic("kind.go: " + err.Error())
	}
	return m
}

const pathParameter = `{"type":"string","minLength":1,"maxLength":500,"description":"Path of the file, as files are listed, such as notes/plan.md."}`

var known = map[string]made{
	"files.list": {needs: "in", effect: ledger.Read, in: `{"type":"object","properties":{"match":{"type":"string","description":"Only files whose path fits this pattern, such as *.md; all, if omitted."}}}`,
		output: `{"type":"array","items":{"type":"object","required":["path","bytes","changed"],"properties":{"path":{"type":"string"},"bytes":{"type":"integer"},"changed":{"type":"string"}}}}`},
	"files.read": {needs: "in", effect: ledger.Read, in: `{"type":"object","required":["path"],"properties":{"path":` + pathParameter + `,"from":{"type":"integer","minimum":1,"description":"First line to read, from 1; a count without unit."},"lines":{"type":"integer","minimum":1,"description":"How many lines to read; all, if omitted."}}}`,
		output: `{"type":"object","required":["path","text"],"properties":{"path":{"type":"string"},"text":{"type":"string"},"lines":{"type":"integer"}}}`},
	"files.search": {needs: "in", effect: ledger.Read, in: `{"type":"object","required":["text"],"properties":{"text":{"type":"string","minLength":1,"description":"The words to look for, in any case of letters."}}}`,
		output: `{"type":"array","items":{"type":"object","required":["path","line","text"],"properties":{"path":{"type":"string"},"line":{"type":"integer"},"text":{"type":"string"}}}}`},
	"files.write": {needs: "in", effect: ledger.Write, resend: "key", in: `{"type":"object","required":["path","text"],"properties":{"path":` + pathParameter + `,"text":{"type":"string","description":"The whole new content of the file."}}}`,
		output: `{"type":"object","required":["path","bytes"],"properties":{"path":{"type":"string"},"bytes":{"type":"integer"},"created":{"type":"boolean"}}}`},
	"files.replace": {needs: "in", effect: ledger.Write, resend: "key", in: `{"type":"object","required":["path","old","new"],"properties":{"path":` + pathParameter + `,"old":{"type":"string","minLength":1,"description":"The passage to replace, exactly as it stands; it must stand there once."},"new":{"type":"string","description":"What to put in its place."}}}`,
		output: `{"type":"object","required":["path","bytes"],"properties":{"path":{"type":"string"},"bytes":{"type":"integer"},"line":{"type":"integer","description":"where the new passage begins"}}}`},
	"calc": {effect: ledger.Read, in: `{"type":"object","required":["expression"],"properties":{"expression":{"type":"string","minLength":1,"maxLength":2000,"description":"What to work out, such as round(12.4 * 2 * 1.6 + 18, 2). Has + - * / % ( ), round, floor, ceil, abs, min, max; days(\"2026-05-06\", \"2026-05-08\"), add_days(\"2026-05-06\", 3), weekday(\"2026-05-06\"); and over rows: count(), sum(\"column\"), mean(\"column\"), least(\"column\"), most(\"column\")."},"rows":{"type":"array","description":"A list of records, or the handle of a result, to reckon over."}}}`,
		output: `{"type":"object","required":["value"],"properties":{"value":{"type":"string"},"exact":{"type":"boolean"}}}`},
	"state.read":  {needs: "facts", effect: ledger.Read, in: `{"type":"object","properties":{}}`, output: `{"type":"object"}`},
	"state.set":   {needs: "facts", effect: ledger.Write, resend: "safe", in: `{"type":"object"}`, output: `{"type":"object"}`},
	"outbox.send": {effect: ledger.Write, resend: "key", in: `{"type":"object","required":["to","text"],"properties":{"to":{"type":"string","minLength":1,"description":"Who gets the message: a name or a mail address."},"subject":{"type":"string","description":"What it is about, in a few words."},"text":{"type":"string","minLength":1,"description":"The message."}}}`, output: `{"type":"object","required":["id","to"],"properties":{"id":{"type":"string"},"to":{"type":"string"}}}`},
	"outbox.list": {effect: ledger.Read, in: `{"type":"object","properties":{"to":{"type":"string","description":"Only messages to this name or address; all, if omitted."}}}`, output: `{"type":"array","items":{"type":"object"}}`},
	"page":        {needs: "from", effect: ledger.Read, in: `{"type":"object","required":["url"],"properties":{"url":{"type":"string","format":"uri","description":"Address of the page, such as https://kelmere.example/notices."}}}`, output: `{"type":"object","required":["text"],"properties":{"url":{"type":"string"},"title":{"type":"string"},"text":{"type":"string"}}}`},
}
