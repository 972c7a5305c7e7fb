package chat

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
)

// A model that makes no calls of its own writes them: a block that begins with a line of three
// backticks and the word call, and holds one JSON object with "tool" and "args". What it says beside
// the blocks are its words. Results are told to it as what a person says.

const (
	opens  = "```call"
	closes = "```"
)

// written gives a request for a model that writes its calls.
func written(r deed.Request) deed.Request {
	if len(r.Tools) > 0 {
		var b strings.Builder
		b.WriteString(r.System + "\n\nYou have tools. To call one, write a block like this, and nothing after it:\n\n" + opens + "\n{\"tool\": \"NAME\", \"args\": {…}}\n" + closes +
			"\n\nWrite several blocks for several calls. You are then told their results. Never invent a result. The tools, each with the JSON Schema of its args:\n")
		for _, t := range r.Tools {
			fmt.Fprintf(&b, "\n%s: %s\n%s\n", t.Name, t.Summary, t.Parameters)
		}
		switch r.Choice {
		case "":
		case "some":
			b.WriteString("\nCall at least one tool now.\n")
		default:
			b.WriteString("\nCall " + r.Choice + " now.\n")
		}
		r.System = b.String()
	}
	r.Tools, r.Choice = nil, ""
	messages := make([]ledger.Message, 0, len(r.Messages))
	for _, m := range r.Messages {
		for _, c := range m.Calls {
			m.Text = strings.TrimLeft(m.Text+"\n\n", "\n") + block(c)
		}
		if m.Role == ledger.FromTool {
			m.Role, m.Text = ledger.User, "The result of "+m.Tool+":\n"+m.Text
		}
		m.Calls, m.Call, m.Tool = nil, "", ""
		messages = append(messages, m)
	}
	r.Messages = messages
	return r
}

func block(c ledger.Ask) string {
	args := json.RawMessage(c.Args)
	if !json.Valid(args) {
		args, _ = json.Marshal(c.Args) // a text can be marshalled
	}
	raw, _ := json.Marshal(map[string]any{"tool": c.Tool, "args": args}) // so can these
	return opens + "\n" + string(raw) + "\n" + closes
}

var aBlock = regexp.MustCompile("(?ms)^[ \t]*" + opens + "[ \t]*\r?\n(.*?)(?:^[ \t]*" + closes + "[ \t]*\r?$|\\z)")

// readWritten takes the calls out of what a model wrote. A block that cannot be read is a call all the
// same, so that the model is told what is wrong with it.
func readWritten(text string) (words string, calls []ledger.Ask) {
	for _, m := range aBlock.FindAllStringSubmatch(text, -1) {
		var c struct {
			Tool string          `json:"tool"`
			Args json.RawMessage `json:"args"`
		}
		raw := strings.TrimSpace(m[1])
		if err := json.Unmarshal([]byte(raw), &c); err != nil || c.Tool == "" {
			calls = append(calls, ledger.Ask{Tool: named(raw), Args: raw})
			continue
		}
		calls = append(calls, ledger.Ask{Tool: c.Tool, Args: string(c.Args)})
	}
	for i := range calls {
		calls[i].ID = fmt.Sprintf("w%d", i+1)
	}
	return strings.TrimSpace(aBlock.ReplaceAllString(text, "")), calls
}

var aTool = regexp.MustCompile(`"tool"\s*:\s*"([^"]{1,100})"`)

func named(raw string) string {
	if m := aTool.FindStringSubmatch(raw); m != nil {
		return m[1]
	}
	return "call"
}

// veil passes on what a model writes, without the blocks of its calls.
type veil struct {
	to     func(string)
	line   string // what has come of a line that may be the beginning of a block, or is within one
	inside bool
	midway bool // of a line that is passed on
}

func (v *veil) write(text string) {
	for text != "" {
		piece, whole := text, false
		if i := strings.IndexByte(text, '\n'); i >= 0 {
			piece, whole = text[:i+1], true
		}
		text = text[len(piece):]
		if v.midway {
			v.to(piece)
			v.midway = !whole
			continue
		}
		v.line += piece
		head := strings.TrimLeft(v.line, " \t")
		switch {
		case v.inside && whole:
			v.inside, v.line = strings.TrimSpace(v.line) != closes, ""
		case v.inside:
		case strings.HasPrefix(head, opens):
			if whole {
				v.inside, v.line = true, ""
			}
		case !whole && strings.HasPrefix(opens, head):
			// it may become the beginning of a block
		default:
			v.to(v.line)
			v.line, v.midway = "", !whole
		}
	}
}

// end passes on what was held back and is no block.
func (v *veil) end() {
	if v.line != "" && !v.inside && !strings.HasPrefix(strings.TrimLeft(v.line, " \t"), opens) {
		v.to(v.line)
	}
	v.line = ""
}
