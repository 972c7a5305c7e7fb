package project

import (
	"encoding/json"

	"stonebaton.example/core/ledger"
)

// builtinKind is what a builtin brings of its own.
type builtinKind struct {
	needs  string // "in", "facts", "from" or nothing
	effect ledger.Effect
	resend string
	in     string
	output string
}

func (b builtinKind) input() map[string]any { return fromJSON(b.in) }

// fromJSON reads one of the literals below.
func fromJSON(s string) map[string]any {
	var m map[string]any
	if err := json.Unmarshal([]byte(s), &m); err != nil {
		panic("builtin.go: " + err.Error())
	}
	return m
}

const pathParameter = `{"type":"string","minLength":1,"maxLength":500,"description":"Path of the file, as files are listed, such as notes/plan.md."}`

var builtins = map[string]builtinKind{
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
