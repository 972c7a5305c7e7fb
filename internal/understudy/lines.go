package understudy

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"regexp/syntax"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
)

// Line is a rule: for who is asked, what was said and what came back, the
// words and calls that follow. What is omitted fits everything, but a line
// with no Came fits only when the newest message is a person's.
type Line struct {
	Who  string `yaml:"who"`  // a text that stands in the instructions, in any case
	Said string `yaml:"said"` // a regular expression over what the person said last
	Came *struct {
		From string `yaml:"from"` // the tool of the newest result
		With string `yaml:"with"` // a regular expression over its words
	} `yaml:"came"`
	Say   string `yaml:"say"` // {1} is the first group of said, {c1} of with
	Calls []struct {
		Tool string         `yaml:"tool"`
		Args map[string]any `yaml:"args"`
	} `yaml:"calls"`
	Again bool `yaml:"again"` // also when its first call has been made since

	said, with *regexp.Regexp
	at         int // the line in its file
}

// LineError is a line that cannot be read.
type LineError struct {
	File string
	Line int
	Say  string
}

func (e *LineError) Error() string { return fmt.Sprintf("%s:%d: %s", e.File, e.Line, e.Say) }

// ReadLines reads a file of lines: a document `lines:` with a list.
func ReadLines(file string, text []byte) ([]Line, *LineError) {
	var doc struct {
		Lines []yaml.Node `yaml:"lines"`
	}
	bad := func(line int, say string) *LineError { return &LineError{file, line, say} }
	dec := yaml.NewDecoder(bytes.NewReader(text))
	dec.KnownFields(true)
	if err := dec.Decode(&doc); err != nil {
		line := 1
		if m := lineNumber.FindStringSubmatch(err.Error()); m != nil {
			line, _ = strconv.Atoi(m[1])
		}
		return nil, bad(line, "lines: "+plain(err))
	}
	var out []Line
	for i := range doc.Lines {
		n := &doc.Lines[i]
		raw, err := yaml.Marshal(n)
		var l Line
		if err == nil {
			d := yaml.NewDecoder(bytes.NewReader(raw))
			d.KnownFields(true)
			err = d.Decode(&l)
		}
		if err != nil {
			return nil, bad(n.Line, plain(err))
		}
		if l.Say == "" && len(l.Calls) == 0 {
			return nil, bad(n.Line, "a line needs say: or calls:")
		}
		if l.said, err = regexp.Compile("(?is)" + l.Said); err != nil {
			return nil, bad(n.Line, "said is not a regular expression: "+pattern(err))
		}
		if l.Came != nil {
			if l.with, err = regexp.Compile("(?is)" + l.Came.With); err != nil {
				return nil, bad(n.Line, "came.with is not a regular expression: "+pattern(err))
			}
		}
		l.at = n.Line
		out = append(out, l)
	}
	return out, nil
}

var (
	unknownKey = regexp.MustCompile(`field (\S+) not found`)
	wrongKind  = regexp.MustCompile(`cannot construct !!(\w+)(?: .*?)? into (\S+)`)
	lineKeys   = []string{"who", "said", "came", "from", "with", "say", "calls", "tool", "args", "again"}
)

// plain gives an error of the library in our words.
func plain(err error) string {
	if m := unknownKey.FindStringSubmatch(err.Error()); m != nil {
		return fmt.Sprintf("%s is not a key of a line.%s It has %s", m[1], near.Hint(m[1], lineKeys), strings.Join(lineKeys, ", "))
	}
	if m := wrongKind.FindStringSubmatch(err.Error()); m != nil {
		due := "a record"
		switch {
		case m[2] == "string":
			due = "a text"
		case m[2] == "bool":
			due = "true or false"
		case strings.HasPrefix(m[2], "[]"):
			due = "a list"
		}
		return "there is " + map[string]string{"seq": "a list", "map": "a record", "str": "a text", "int": "a number", "float": "a number", "bool": "true or false", "null": "nothing"}[m[1]] + " where " + due + " belongs"
	}
	return "it cannot be read: " + strings.TrimPrefix(err.Error(), "yaml: ")
}

// pattern says what is wrong with a regular expression.
func pattern(err error) string {
	var e *syntax.Error
	if errors.As(err, &e) {
		return string(e.Code)
	}
	return err.Error()
}

var lineNumber = regexp.MustCompile(`line (\d+)`)

var group = regexp.MustCompile(`\{(c?)(\d)\}`)

// fits says whether the line is for this moment, and gives its groups.
func (l *Line) fits(system, said string, made map[string]bool, last *ledger.Message) (func(string) string, bool) {
	if l.Who != "" && !strings.Contains(strings.ToLower(system), strings.ToLower(l.Who)) {
		return nil, false
	}
	g := l.said.FindStringSubmatch(said)
	if g == nil {
		return nil, false
	}
	var c []string
	if l.Came == nil {
		if last.Role == ledger.FromTool && !strings.HasPrefix(last.Tool, "pass_to_") {
			return nil, false
		}
		if len(l.Calls) > 0 && made[l.Calls[0].Tool] && !l.Again {
			return nil, false
		}
	} else {
		if last.Role != ledger.FromTool || (l.Came.From != "" && l.Came.From != last.Tool) {
			return nil, false
		}
		if c = l.with.FindStringSubmatch(last.Text); c == nil {
			return nil, false
		}
	}
	return func(s string) string {
		return group.ReplaceAllStringFunc(s, func(m string) string {
			p := group.FindStringSubmatch(m)
			from := g
			if p[1] == "c" {
				from = c
			}
			if n := int(p[2][0] - '0'); n < len(from) {
				return strings.TrimSpace(from[n])
			}
			return ""
		})
	}, true
}

// play gives the reply of a line.
func (l *Line) play(put func(string) string) (string, []ledger.Ask) {
	var calls []ledger.Ask
	for _, c := range l.Calls {
		args := map[string]any{}
		for k, v := range c.Args {
			if s, ok := v.(string); ok {
				v = put(s)
			}
			args[k] = v
		}
		raw, err := json.Marshal(args)
		if err != nil {
			raw = []byte("{}")
		}
		calls = append(calls, ledger.Ask{Tool: c.Tool, Args: string(raw)})
	}
	return strings.TrimSpace(put(l.Say)), calls
}
