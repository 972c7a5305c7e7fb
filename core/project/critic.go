package project

import (
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
)

// Remark is what a careful colleague would say of a contract. Code names it, so
// that it can be accepted in place.
type Remark struct {
	Code   string `json:"code"`
	Grade  Grade  `json:"grade"`
	Path   string `json:"path"` // within the tool, such as /input/properties/day
	Say    string `json:"say"`
	Remedy string `json:"remedy"`
}

// Codes lists what can be accepted in place, with what each is about.
var Codes = map[string]string{
	"description": "a tool, parameter or list of values with no description",
	"unit":        "a number with no unit",
	"format":      "a date or time with no format",
	"alike":       "two tools, or agents, whose words overlap so much that they will be confused",
	"names":       "names that differ by a letter",
	"shape":       "an input that is deep, wide or long",
	"when":        "a summary that says what the tool is, but not when to use it",
	"gate":        "a write with neither gate: nor resend:",
	"output":      "something reads a field of a result that has no schema",
	"key":         "what looks like a key or password",
	"secret":      "a secret with no value",
	"stub":        "a tool on a rung of stubs that has none",
	"text":        "a text that looks like an expression",
	"unused":      "a tool that no agent and no relay uses",
	"answer":      "a field of an answer that nothing describes",
	"kept":        "a value that a leg keeps and nothing reads",
	"circle":      "legs, or relays, that go round with no end of their own",
	"bound":       "a leg that asks a model for each item of a list with no bound",
}

// Bounds beyond which a contract is hard for models.
const (
	deepInput  = 3  // objects within objects
	wideInput  = 12 // parameters
	longValues = 60 // listed values
	longBytes  = 8 << 10
	mostAlike  = 50  // pairs of tools that are told one by one
	fewPairs   = 5   // of names that differ by a letter, told one by one
	alikeShare = 0.6 // of the words of two summaries
)

var (
	wordsOf  = regexp.MustCompile(`[a-z0-9]+`)
	unitWord = regexp.MustCompile(`(?i)\b(m|cm|mm|km|s|ms|h|kg|g|t|l|kb|mb|gb|kn|kw|kwh|v|a|w|hz|hpa|eur|usd|gbp|met(re|er)s?|kilomet(re|er)s?|miles?|feet|foot|inch(es)?|knots?|(milli)?seconds?|minutes?|hours?|days?|nights?|weeks?|months?|years?|per ?cent|degrees?|celsius|euros?|dollars?|pounds?|cents?|(kilo)?grams?|tonnes?|lit(re|er)s?|(kilo|mega)?bytes?|pixels?|watts?|volts?|pascals?|hertz|currency|unit|tokens?|pages?|rows?|lines?|entries|characters?|items?|people|persons?|times|pieces?|count|number of|how many|ordinal|position|index|ratio|share|score|rating|level|version|identifier|id)\b|%|°|€|\$`)
	unitTail = regexp.MustCompile(`_(m|cm|mm|km|s|ms|min|h|kg|g|t|l|kb|mb|gb|kn|kw|kwh|v|a|w|hz|hpa|eur|usd|pct|c|days|hours|minutes|seconds|id|count|total)$`)
	dateName = regexp.MustCompile(`(^|_)(date|time|datetime|timestamp|day|deadline)s?($|_)|_at$`)
	dateSay  = regexp.MustCompile(`(?i)\b(dates?|timestamp|iso 8601|date and time|time of day)\b`)
	cue      = regexp.MustCompile(`(?i)\b(when|whenever|use|used|before|after|if|for|once|instead|by|to|that|which|so|of)\b`)
	what     = regexp.MustCompile(`(?i)^(the|a|an|this|that|tool|function|api|endpoint|data|information|info|returns?|gets?|provides?|represents?|contains?)\b`)
)

// Judge says what is doubtful about one contract, read alone.
func Judge(name, summary string, input map[string]any) []Remark {
	var out []Remark
	say := func(code string, g Grade, path, remedy, format string, args ...any) {
		out = append(out, Remark{code, g, path, fmt.Sprintf(format, args...), remedy})
	}
	if s := strings.TrimSpace(summary); s == "" {
		say("description", Warning, "/summary", "Say in a sentence what it does and when to use it: models choose by it.", "the tool %q has no description", name)
	} else if n := len(strings.Fields(s)); n < 4 || (what.MatchString(s) && !cue.MatchString(s)) {
		say("when", Hint, "/summary", "Say when to use it, and what comes back: models choose by it.", "the summary of %q says what it is, but not when to use it", name)
	}
	judgeInput(name, input, say)
	return out
}

func judgeInput(name string, input map[string]any, say func(string, Grade, string, string, string, ...any)) {
	deepest := 0
	var walk func(d map[string]any, path, label string, depth int)
	walk = func(d map[string]any, path, label string, depth int) {
		props, _ := d["properties"].(map[string]any)
		if len(props) > 0 {
			deepest = max(deepest, depth)
		}
		for _, k := range keysOf(props) {
			sub, ok := props[k].(map[string]any)
			if !ok || depth > 20 {
				continue
			}
			at, full := path+"/properties/"+k, strings.TrimPrefix(label+"."+k, ".")
			judgeParameter(k, full, at, sub, say)
			walk(sub, at, full, depth+1)
			if items, ok := sub["items"].(map[string]any); ok {
				walk(items, at+"/items", full, depth+1)
			}
		}
		pairs := slices.DeleteFunc(near.Pairs(keysOf(props)), func(p [2]string) bool { return len(p[0]) <= 3 })
		for _, p := range pairs[:min(len(pairs), fewPairs)] {
			say("names", Warning, path+"/properties/"+p[1], "Give them names that cannot be mistaken.", "the parameters %q and %q differ by a letter", p[0], p[1])
		}
		if more := len(pairs) - fewPairs; more > 0 {
			say("names", Warning, path, "Give them names that cannot be mistaken.", "at least %d more pairs of parameters differ by a letter", more)
		}
	}
	walk(input, "/input", "", 0)
	if deepest > deepInput {
		say("shape", Warning, "/input", "Flatten it: models fill in few levels well.", "the input of %q is %d objects deep", name, deepest+1)
	}
	if props, _ := input["properties"].(map[string]any); len(props) > wideInput {
		say("shape", Hint, "/input", "Leave out what has a good default, or make two tools of it.", "the input of %q has %d parameters", name, len(props))
	}
	if n := size(input); n > longBytes {
		say("shape", Warning, "/input", "Shorten it: it is sent with every turn.", "the contract of %q takes about %d tokens", name, n/4)
	}
}

// size estimates the bytes of a value as JSON.
func size(v any) int {
	n := 2
	switch x := v.(type) {
	case string:
		return n + len(x)
	case []any:
		for _, e := range x {
			n += 1 + size(e)
		}
	case map[string]any:
		for k, e := range x {
			n += len(k) + 4 + size(e)
		}
	}
	return n + 2
}

func judgeParameter(k, full, at string, sub map[string]any, say func(string, Grade, string, string, string, ...any)) {
	desc, _ := sub["description"].(string)
	enum, _ := sub["enum"].([]any)
	kind, _ := sub["type"].(string)
	_, formatted := sub["format"]
	_, patterned := sub["pattern"]
	_, ref := sub["$ref"]
	if strings.TrimSpace(desc) == "" {
		if !ref {
			what := "the parameter"
			if enum != nil {
				what = "the list of values"
			}
			say("description", Warning, at, "Say what it is, with its unit and an example: models fill it in by this.", "%s %q has no description", what, full)
		}
	} else if (kind == "number" || kind == "integer") && enum == nil && !unitWord.MatchString(desc) && !unitTail.MatchString(k) {
		say("unit", Warning, at, `Name it in the description, such as "Length in metres."`, "the number %q has no unit", full)
	}
	if kind == "string" && !formatted && !patterned && enum == nil && (dateName.MatchString(strings.ToLower(k)) || dateSay.MatchString(desc)) {
		say("format", Warning, at, "Add format: date, date-time or time, or a pattern.", "%q looks like a date or time, but has no format", full)
	}
	if len(enum) > longValues {
		say("shape", Warning, at, "Take a text, and refuse in words what is not known.", "%q lists %d values; models read them with every turn", full, len(enum))
	}
}

// judged is a tool with the document it came from.
type judged struct {
	doc     *document
	tool    *Tool
	raw     rawTool
	shipped bool // its input ships with the program
}

// judge reports what a careful colleague would say of the tools, each alone
// and side by side.
func (c *compiler) judge() {
	for _, j := range c.judged {
		t, d := j.tool, j.doc
		c.about = t.Name
		for _, r := range Judge(t.Name, t.Summary, j.raw.Input) {
			if j.shipped && strings.HasPrefix(r.Path, "/input") {
				continue // it is not theirs to fix
			}
			at := d.at(r.Path)
			if _, ok := d.value["summary"]; r.Path == "/summary" && !ok {
				at = t.Place
			}
			c.coded(r.Code, r.Grade, at, r.Remedy, "%s", r.Say)
		}
		switch {
		case t.Effect == ledger.Irreversible && t.Gate == nil:
			c.coded("gate", Warning, t.Place, "Add gate: so that a person agrees first.", "%q cannot be undone and has no gate", t.Name)
		case t.Effect == ledger.Write && t.Gate == nil && t.Resend == "" && !t.Work.Inward:
			c.coded("gate", Warning, t.Place, "Add gate: so that a person agrees first, or resend: key where the service knows a repeated request; if it only reads, say effect: read.", "%q writes, with neither gate: nor resend: nobody is asked before, and after a crash in the middle somebody has to say whether it happened", t.Name)
		}
		if j.raw.Output == nil {
			if strings.Contains(j.raw.Says.Done, "result.") {
				c.coded("output", Warning, d.at("/says/done"), "Describe the result under output:, so that a misspelt field is found here.", "says.done reads a field of the result of %q, which has no schema", t.Name)
			}
			for _, k := range keysOf(j.raw.Sets) {
				if s, ok := j.raw.Sets[k].(string); ok && strings.Contains(s, "result.") {
					c.coded("output", Warning, d.at("/sets/"+k), "Describe the result under output:, so that a misspelt field is found here.", "sets.%s reads a field of the result of %q, which has no schema", k, t.Name)
				}
			}
		}
	}
	c.judgeSideBySide()
	c.judgeUse()
	c.about = "" // what follows is of no tool
	c.judgeSystems()
}

// judgeUse tells of tools that nothing uses, where others are used.
func (c *compiler) judgeUse() {
	users := c.p.Users()
	for _, j := range c.judged {
		if _, used := users[j.tool.Name]; len(users) > 0 && !used {
			c.about = j.tool.Name
			c.coded("unused", Hint, j.tool.Place, "Put it into tools: of an agent, or into a leg of a relay.", "no agent and no relay uses the tool %q", j.tool.Name)
		}
	}
}

// judgeSideBySide looks at tools that one model sees together: those of an agent.
func (c *compiler) judgeSideBySide() {
	told := map[[2]string]bool{}
	read := map[string]vocabulary{}
	for n, t := range c.p.Tools {
		read[n] = wordsIn(t.Summary)
	}
	for _, a := range keysOf(c.p.Agents) {
		names := slices.Clone(c.p.Agents[a].Tools)
		sort.Strings(names)
		names = slices.DeleteFunc(slices.Compact(names), func(n string) bool { return c.p.Tools[n] == nil })
		alike := map[[2]string]bool{}
		for _, p := range near.Pairs(names) {
			alike[p] = len(p[0]) > 3
		}
		for i, n := range names {
			for _, m := range names[i+1:] {
				pair := [2]string{n, m}
				shared, share := overlap(read[n], read[m])
				if !alike[pair] && share < alikeShare || told[pair] {
					continue
				}
				told[pair] = true
				two := c.p.Tools[m]
				c.about = m
				if alike[pair] {
					c.coded("names", Warning, two.Place, "Give them names that cannot be mistaken.", "the tools %q and %q of %s differ by a letter", n, m, a)
				}
				if share >= alikeShare {
					for x := range shared {
						shared[x] = read[n].word[shared[x]]
					}
					c.coded("alike", Warning, two.Place, "Say in each when to use it and when the other.", "%q and %q of %s will be confused: both say %s", n, m, a, strings.Join(shared, ", "))
				}
			}
		}
	}
}

// small are words that tell nothing of what a tool does.
var small = map[string]bool{"a": true, "an": true, "and": true, "as": true, "at": true, "be": true, "by": true, "for": true, "from": true, "give": true, "gives": true, "in": true, "is": true, "it": true, "its": true,
	"of": true, "on": true, "one": true, "or": true, "that": true, "the": true, "their": true, "this": true, "to": true, "what": true, "when": true, "which": true, "with": true, "use": true}

// vocabulary is the words of a summary that tell something: their stems in order, and
// each as it stands.
type vocabulary struct {
	stems []string
	word  map[string]string
}

func wordsIn(summary string) vocabulary {
	v := vocabulary{word: map[string]string{}}
	for _, w := range wordsOf.FindAllString(strings.ToLower(summary), -1) {
		if !small[w] {
			v.word[strings.TrimSuffix(w, "s")] = w
		}
	}
	v.stems = keysOf(v.word)
	return v
}

// overlap gives the stems that two summaries share, and their share of all words.
func overlap(one, two vocabulary) (shared []string, share float64) {
	for i, j := 0, 0; i < len(one.stems) && j < len(two.stems); {
		switch strings.Compare(one.stems[i], two.stems[j]) {
		case -1:
			i++
		case 1:
			j++
		default:
			shared = append(shared, one.stems[i])
			i, j = i+1, j+1
		}
	}
	all := len(one.stems) + len(two.stems) - len(shared)
	if all == 0 {
		return nil, 0
	}
	return shared, float64(len(shared)) / float64(all)
}

// fewer tells of tools that will be confused up to a number of them: who has more is
// not helped by a list.
func (c *compiler) fewer() {
	n := 0
	c.problems = slices.DeleteFunc(c.problems, func(p Problem) bool {
		if p.Code == "alike" {
			n++
		}
		return p.Code == "alike" && n > mostAlike
	})
	if n > mostAlike {
		c.report(Warning, Place{Main, 1, 1}, "Fix those that are listed, or give the tools to several agents.", "%d more pairs of tools will be confused", n-mostAlike)
	}
}

var accepted = regexp.MustCompile(`#\s*accept\s+([a-z]+)\s*:?\s*(.*)$`)

// accept takes out the problems that their file accepts in place, with a
// comment "# accept CODE: reason" on their line or on the line above; in a document
// of OwnFiles it holds for all of it.
func (c *compiler) accept() {
	type place struct {
		file string
		line int
		code string
	}
	marks, used := map[place]bool{}, map[place]bool{}
	for _, f := range keysOf(c.src.Files) {
		if !strings.HasSuffix(f, ".yaml") {
			continue
		}
		for i, line := range strings.Split(c.src.Files[f], "\n") {
			m := accepted.FindStringSubmatchIndex(line)
			if m == nil {
				continue
			}
			code, why, at := line[m[2]:m[3]], strings.TrimSpace(line[m[4]:m[5]]), Place{f, i + 1, m[0] + 1}
			if _, ok := Codes[code]; !ok {
				c.report(Error, at, "There is: "+strings.Join(keysOf(Codes), ", ")+".", "there is nothing called %q to accept.%s", code, near.Hint(code, keysOf(Codes)))
			} else if why == "" {
				c.report(Error, at, "Write # accept "+code+": REASON.", "what is accepted needs a reason")
			} else {
				mark := place{f, i + 1, code}
				if strings.HasPrefix(f, OwnFiles) {
					mark.line = 0
				}
				marks[mark] = true
			}
		}
	}
	kept := c.problems[:0]
	for _, p := range c.problems {
		mark := place{p.File, p.Line, p.Code}
		if strings.HasPrefix(p.File, OwnFiles) {
			mark.line = 0
		} else if !marks[mark] {
			mark.line--
		}
		if used[mark] = true; !marks[mark] {
			kept = append(kept, p)
		}
	}
	c.problems = kept
	for m := range marks {
		if used[m] || m.code == "secret" {
			continue
		}
		if at := c.nearest(m.file, m.line, m.code); at > 0 {
			c.report(Warning, Place{m.file, m.line, 1}, fmt.Sprintf("Put it at the end of line %d, or on the line above.", at), "# accept %s is on the wrong line", m.code)
			continue
		}
		c.report(Hint, Place{m.file, m.line, 1}, "Remove the comment.", "there is no %q to accept here any more", m.code)
	}
}

// nearest gives the line of the problem with a code that is nearest to a line of a
// file; 0 where the file has none.
func (c *compiler) nearest(file string, line int, code string) (found int) {
	for _, p := range c.problems {
		if p.File == file && p.Code == code && (found == 0 || abs(p.Line-line) < abs(found-line)) {
			found = p.Line
		}
	}
	return found
}

func abs(n int) int { return max(n, -n) }

// Accepts says whether a line accepts a problem in place.
func Accepts(line, code string) bool {
	m := accepted.FindStringSubmatch(line)
	return m != nil && m[1] == code && strings.TrimSpace(m[2]) != ""
}
