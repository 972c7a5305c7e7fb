package script

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"stonebaton.example/core/project"
	"stonebaton.example/core/schema"
)

// Declarations gives what a script may use as TypeScript declarations, for
// editors: args and state as their schemas have them. Without a tool they are of
// any shape.
func Declarations(t *project.Tool, state map[string]any) string {
	args := "Record<string, any>"
	facts := "Record<string, any>"
	fetch := ""
	if state != nil {
		facts = typeOf(state, state, 0)
	}
	if t != nil {
		args = typeOf(t.Input.Doc(), t.Input.Doc(), 0)
	}
	var s *Script
	if t != nil {
		s, _ = t.Work.Spec.(*Script)
	}
	if t == nil || (s != nil && len(s.Fetch) > 0) {
		fetch = `
/** Sends a request and waits for the reply. Only where the tool allows it: script: {fetch: […]}. */
declare function fetch(url: string, options?: {method?: string, headers?: Record<string, string>, body?: string}): {status: number, ok: boolean, headers: Record<string, string>, text: string, json(): any};
/** The handle of a secret of .env or the environment, for headers and bodies of fetch: nothing else can open it. */
declare function secret(name: string): string;
`
	}
	return fmt.Sprintf(`// What a script of a tool may use. Its file is the body of a function: return the result.

/** The arguments of the call, checked against the tool's input. */
declare const args: %s;
/** The session's facts. */
declare const state: %s;
declare const person: {name: string};
/** The day in the project's time zone, such as 2026-05-08. */
declare const today: string;
/** The moment of the call, with its offset. */
declare const now: string;
/** Writes to the call's log, which the developer sees and the model does not. */
declare function log(...values: unknown[]): void;
/** Adds a file to the result, such as a picture: it is shown with the step, and to models that take pictures. What is given may stand for it in the result. */
declare function attach(name: string, body: string | Uint8Array | ArrayBuffer, type?: string): {kind: string, type: string, bytes: number, file: string};
%s`, args, facts, fetch)
}

func typeOf(root, d map[string]any, depth int) string {
	if depth > 12 {
		return "any"
	}
	pad := strings.Repeat("  ", depth)
	if e, ok := d["enum"].([]any); ok && len(e) > 0 {
		parts := make([]string, len(e))
		for i := range e {
			raw, err := json.Marshal(e[i])
			if err != nil {
				return "any"
			}
			parts[i] = string(raw)
		}
		return strings.Join(parts, " | ")
	}
	switch d["type"] {
	case "string":
		return "string"
	case "number", "integer":
		return "number"
	case "boolean":
		return "boolean"
	case "array":
		items, _ := d["items"].(map[string]any)
		return "Array<" + typeOf(root, items, depth+1) + ">"
	case "object":
		props, _ := d["properties"].(map[string]any)
		if len(props) == 0 {
			return "Record<string, any>"
		}
		need, _ := d["required"].([]any)
		var b strings.Builder
		b.WriteString("{\n")
		for _, k := range schema.Keys(d) {
			sub, _ := props[k].(map[string]any)
			if say, ok := sub["description"].(string); ok {
				fmt.Fprintf(&b, "%s  /** %s */\n", pad, strings.ReplaceAll(say, "*/", "* /"))
			}
			mark := "?"
			if slices.Contains(need, any(k)) {
				mark = ""
			}
			name, _ := json.Marshal(k) // a string can always be written
			fmt.Fprintf(&b, "%s  %s%s: %s;\n", pad, name, mark, typeOf(root, sub, depth+1))
		}
		b.WriteString(pad + "}")
		return b.String()
	}
	return "any"
}
