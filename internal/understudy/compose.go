package understudy

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/reading"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/value"
)

// What an agent with no tools does with a text: it puts together what it was told, judges it
// by what its instructions say it must have, and gives it a label. It adds nothing of its
// own, as everywhere.

// shapeIn takes the schema that the answer has to fit out of instructions; nil is none.
func shapeIn(system string) (rest string, shape *schema.Schema) {
	rest, raw, ok := strings.Cut(system, prompt.ShapeMark)
	if !ok {
		return system, nil
	}
	doc, err := value.ReadObject([]byte(strings.TrimSpace(raw)))
	if err != nil {
		return system, nil
	}
	shape, err = schema.Compile(doc)
	if err != nil {
		return system, nil
	}
	return rest, shape
}

// told is a message as a person would set a task: what is to be done, and what with.
type told struct{ task, matter string }

func taskOf(said string) told {
	said = strings.TrimSpace(said)
	for _, cut := range []string{"\n\n", ":\n", "\n", ": "} {
		if head, rest, ok := strings.Cut(said, cut); ok && len(head) < 300 && (cut != ": " || bids(head)) {
			return told{head, strings.TrimSpace(rest)}
		}
	}
	return told{said, ""}
}

// bids says whether a text begins by asking for something.
func bids(text string) bool {
	c := reading.Clauses(text)
	return len(c) > 0 && c[0].Mood == reading.Bidding
}

var forWhom = regexp.MustCompile(`\b(?:for|to) (?:the )?([\p{Lu}][\p{L}'’-]*(?: [\p{Lu}][\p{L}'’-]*)*)`)

// forOne is a person who is not named: to the customer.
var forOne = regexp.MustCompile(`\b(?:for|to) the ([a-z]+)\b`)

// cameBackRE is the remarks with which a person sent a text back, and sayThatRE what they want
// it to say.
var (
	cameBackRE = regexp.MustCompile(`(?ism)^it came back with remarks of [^:\n]+: (.*)\z`)
	sayThatRE  = regexp.MustCompile(`(?i)\b(?:say|mention|add|write|tell them) that ([^.;\n]+)`)
)

// remarksRE is a line of remarks on what was written before: they say what to change, and are
// no part of the text.
var remarksRE = regexp.MustCompile(`(?im)^remarks:.*$`)

// rewrites says whether the instructions are to put questions into better ones.
func (th *thought) rewrites() bool {
	roots := reading.Roots(th.r.System)
	return th.said != "" && slices.Contains(roots, reading.Root("question")) && slices.Contains(roots, reading.Root("rewrite"))
}

// rewrite puts a rough question into one that stands alone: without what is said around
// it, and with what it points back to.
func (th *thought) rewrite(said string) string {
	th.because("It rewrites the question: nothing is answered here.")
	text := said
	if rest := strings.TrimSpace(th.manners.Rest); rest != "" {
		text = rest
	}
	text = fillerRE.ReplaceAllString(text, " ")
	text = strings.TrimSpace(text)
	if _, before := th.before(th.from); pointsBack.MatchString(text) && before != "" {
		text = th.again(before, strings.TrimSpace(pointsBack.ReplaceAllString(text, "")))
	}
	text = strings.Join(strings.Fields(text), " ")
	return capital(strings.TrimRight(text, "?!. ")) + "?"
}

// again gives a question once more with what is new in it: in place of what is of the same
// kind, or behind it.
func (th *thought) again(before, text string) string {
	was := reading.Mentions(before, th.now)
	out := strings.TrimRight(before, "?. ")
	more := false
	for _, m := range reading.Mentions(text, th.now) {
		i := slices.IndexFunc(was, func(w reading.Mention) bool { return w.Kind == m.Kind })
		if i < 0 {
			more = true
			continue
		}
		out = strings.Replace(out, was[i].Text, m.Text, 1)
		was = slices.Delete(was, i, i+1)
	}
	if more || out == strings.TrimRight(before, "?. ") {
		out += ", " + text
	}
	return out
}

var (
	fillerRE   = regexp.MustCompile(`(?i)\b(?:um+|uh+|er+|hi|hello|hey|please|pls|thx|thanks|sorry|well|so)\b[,.!]?\s*`)
	pointsBack = regexp.MustCompile(`(?i)^(?:and|also|what about|how about)\b(?: what about| how about)?`)
)

// sentBack is what an answer is sent back with.
var sentBack = regexp.MustCompile(`^(?:It must have|It has to hold that|Your answer does not fit) `)

// taskBefore gives the task that an answer was sent back of; "" where the newest message is one
// of its own.
func (th *thought) taskBefore() string {
	if !sentBack.MatchString(th.said) {
		return ""
	}
	for i := th.from - 1; i >= 0; i-- {
		if m := th.r.Messages[i]; m.Role == ledger.User && !sentBack.MatchString(m.Text) {
			return m.Text
		}
	}
	return ""
}

// task says whether what was said is something to work on: no question, and no courtesy.
func (th *thought) task() bool {
	if _, ok := th.courtesy(); ok || strings.HasSuffix(th.said, "?") {
		return false
	}
	c := reading.Clauses(th.said)
	return len(c) > 0 && c[0].Mood != reading.Asking
}

// compose puts together what was told.
func (th *thought) compose(said string) string {
	came := cameBackRE.FindStringSubmatch(said)
	t := taskOf(cameBackRE.ReplaceAllString(said, ""))
	t.matter = remarksRE.ReplaceAllString(t.matter, "")
	if came != nil {
		for _, wanted := range sayThatRE.FindAllStringSubmatch(came[1], -1) {
			t.matter += "\n" + wanted[1]
		}
	}
	matter := t.matter
	if strings.TrimSpace(matter) == "" {
		matter = t.task
	}
	letter := slices.Contains(reading.Roots(t.task), reading.Root("letter"))
	if !letter {
		th.because("It has no tools: it gives what it was told, put together.")
		return sentences(matter)
	}
	th.because("It has no tools: it writes a letter of what it was told.")
	whom := "all"
	if m := forWhom.FindStringSubmatch(t.task); m != nil {
		whom = m[1]
	} else if m := forOne.FindStringSubmatch(t.task); m != nil {
		whom = m[1]
	}
	body := sentences(t.matter)
	if body == "" {
		body = sentences(forWhom.ReplaceAllString(t.task, ""))
	}
	return fmt.Sprintf("Dear %s,\n\n%s\n\nYours sincerely", whom, body)
}

// sentences puts lines into sentences.
func sentences(text string) string {
	var out []string
	for _, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if line == "" {
			continue
		}
		if !strings.ContainsAny(line[len(line)-1:], ".!?:") {
			line += "."
		}
		out = append(out, capital(line))
	}
	return strings.Join(out, " ")
}

func capital(s string) string {
	r := []rune(s)
	if len(r) == 0 {
		return s
	}
	return strings.ToUpper(string(r[:1])) + string(r[1:])
}

var demandedRE = regexp.MustCompile(`(?i)\b(?:must|has to|have to|needs to|need to|should) (?:always )?(?:name|mention|say|give|have|contain|include|tell|end with|begin with) ([^.;\n]+)`)

// dayRE is a day, also where no clock says which.
var dayRE = regexp.MustCompile(`(?i)\b(?:mon|tues|wednes|thurs|fri|satur|sun)day\b|\b(?:today|tomorrow)\b|\b\d{4}-\d\d-\d\d\b|\b\d{1,2} (?:jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)`)

// lacks lists what the instructions say a text must have, and this one has not.
func (th *thought) lacks(text string) []string {
	have := reading.Roots(text)
	var out []string
	for _, m := range demandedRE.FindAllStringSubmatch(th.r.System+"\n"+taskOf(th.said).task, -1) {
		for _, part := range regexp.MustCompile(`,| and `).Split(m[1], -1) {
			want := reading.Roots(part)
			if (slices.Contains(want, reading.Root("day")) || slices.Contains(want, reading.Root("date"))) && dayRE.MatchString(text) {
				continue // it names one
			}
			if len(want) > 0 && !slices.ContainsFunc(want, func(w string) bool {
				return slices.ContainsFunc(have, func(h string) bool { return reading.Akin(h, w) })
			}) {
				out = append(out, strings.TrimSpace(part))
			}
		}
	}
	return out
}

// label gives the listed value that a text speaks to most: by its own words, and by what
// the instructions say beside it.
func (th *thought) label(text string, values []any) any {
	have := reading.Roots(text)
	best, most := values[0], -1.0
	for _, v := range values {
		name := fmt.Sprint(v)
		score := 0.0
		for _, r := range reading.Roots(name) {
			score += 2 * float64(count(have, r))
		}
		for _, line := range strings.FieldsFunc(th.r.System, func(r rune) bool { return r == '\n' || r == ';' }) {
			head, about, ok := strings.Cut(line, ":")
			if !ok || !slices.ContainsFunc(reading.Words(head), func(w reading.Word) bool { return w.Low == strings.ToLower(name) }) {
				continue
			}
			for _, r := range reading.Roots(about) {
				score += float64(count(have, r))
			}
		}
		if score > most {
			best, most = v, score
		}
	}
	th.because("“%v” is nearest to what was said.", best)
	return best
}

func count(have []string, root string) int {
	n := 0
	for _, h := range have {
		if reading.Akin(h, root) {
			n++
		}
	}
	return n
}

// shaped gives an answer as its schema has it. Said is what is answered; text is the answer
// in words, where there is one.
func (th *thought) shaped(doc map[string]any, said, text string) any {
	matter := taskOf(said)
	if matter.matter == "" {
		matter.matter = said
	}
	return th.fit("", doc, matter.matter, text)
}

var remarkName = regexp.MustCompile(`(?i)remark|reason|problem|fault|missing|why|comment|note`)

func (th *thought) fit(name string, doc map[string]any, matter, text string) any {
	if list, ok := doc["enum"].([]any); ok && len(list) > 0 {
		return th.label(matter+"\n"+text, list)
	}
	if v, ok := doc["const"]; ok {
		return v
	}
	lacks := th.lacks(matter)
	switch doc["type"] {
	case "boolean":
		return len(lacks) == 0
	case "number", "integer":
		if name == "score" {
			return float64(max(0, 10-3*len(lacks)))
		}
		for _, m := range reading.Mentions(text+" "+matter, th.now) {
			if m.Kind != reading.Figure {
				continue
			}
			if doc["type"] == "integer" {
				return float64(int64(m.Number))
			}
			return m.Number
		}
		return 0.0
	case "array":
		items, _ := doc["items"].(map[string]any)
		var out = []any{}
		for _, line := range strings.FieldsFunc(matter, func(r rune) bool { return r == '\n' || r == ';' }) {
			if line = strings.TrimSpace(strings.TrimLeft(line, "-*• ")); line != "" {
				out = append(out, th.fit(name, items, line, line))
			}
		}
		return out
	case "object":
		out := map[string]any{}
		props, _ := doc["properties"].(map[string]any)
		for _, k := range schema.Keys(doc) {
			sub, _ := props[k].(map[string]any)
			if remarkName.MatchString(k) && sub["type"] == "string" {
				out[k] = ""
				if len(lacks) > 0 {
					out[k] = "It must have " + list(lacks) + "."
				}
				continue
			}
			out[k] = th.fit(k, sub, matter, text)
		}
		return out
	}
	if text != "" {
		return text
	}
	return sentences(matter)
}

// inShape gives an answer as JSON.
func inShape(v any) string {
	raw, err := json.Marshal(v)
	if err != nil {
		panic("it is made of JSON: " + err.Error())
	}
	return string(raw)
}
