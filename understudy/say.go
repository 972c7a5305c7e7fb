package understudy

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"stonebaton/core/expr"
	"stonebaton/core/reading"
)

func list(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}

func either(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + " or " + names[len(names)-1]
}

func lowerFirst(s string) string {
	if len(s) > 1 && s[1] >= 'a' && s[1] <= 'z' || len(s) == 1 || len(s) > 1 && s[1] == ' ' {
		return strings.ToLower(s[:1]) + s[1:]
	}
	return s
}

func upperFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

var (
	asideRE = regexp.MustCompile(`\s*(?:[;:(]|\s[-–—]\s|, so that |, for whoever |, such as ).*$`)
	orRE    = regexp.MustCompile(`^(?:or|and) \w+`)
	thirdRE = regexp.MustCompile(`^([A-Za-z]{3,}?)(s|es)$`)
)

// doing says what a tool does, as one would after "I can".
func (c *card) doing() string {
	s := strings.TrimRight(strings.TrimSpace(asideRE.ReplaceAllString(firstSentence(c.Summary), "")), ".")
	if s == "" {
		return "use " + spaced(c.Name)
	}
	first, rest, _ := strings.Cut(s, " ")
	if m := thirdRE.FindStringSubmatch(first); m != nil && !reading.Verb(strings.ToLower(first)) { // Returns the price
		low := strings.ToLower(first)
		switch {
		case reading.Verb(strings.TrimSuffix(low, "s")):
			first = strings.TrimSuffix(low, "s")
		case reading.Verb(strings.TrimSuffix(low, "es")):
			first = strings.TrimSuffix(low, "es")
		}
	}
	if !reading.Verb(strings.ToLower(first)) {
		return "tell you " + lowerFirst(s)
	}
	rest = orRE.ReplaceAllStringFunc(rest, func(w string) string { // locks or unlocks
		if cut := strings.TrimSuffix(w, "s"); cut != w && reading.Verb(strings.TrimPrefix(strings.TrimPrefix(cut, "or "), "and ")) {
			return cut
		}
		return w
	})
	if rest == "" {
		return lowerFirst(first)
	}
	return lowerFirst(first) + " " + rest
}

func firstSentence(s string) string {
	if i := strings.Index(s, ". "); i > 0 {
		return s[:i]
	}
	return s
}

// question asks for what a tool still needs, in a sentence.
func (th *thought) question(c *card, missing []*param, half map[string]string) string {
	th.because("%s lacks %s; it asks and does not guess.", c.Name, list(names(missing)))
	if len(missing) == 1 {
		return missing[0].question(half[missing[0].name])
	}
	var parts []string
	for _, p := range missing {
		words := p.clause()
		if half[p.name] != "" {
			words += ", with the time of day"
		}
		parts = append(parts, words)
	}
	return "I can " + c.doing() + ". Can you tell me " + list(parts) + "?"
}

func names(ps []*param) []string {
	out := make([]string, len(ps))
	for i, p := range ps {
		out[i] = p.name
	}
	return out
}

// brief gives the description of a parameter without examples and asides.
func (p *param) brief() string {
	d := strings.TrimRight(strings.TrimSpace(p.desc), ".")
	d = regexp.MustCompile(`(?i)\s*(?:[;:(]|,? such as |,? for example|,? e\.g\.|, by default|, if |\. ).*$`).ReplaceAllString(d, "")
	return lowerFirst(strings.TrimSpace(d))
}

var asksRE = regexp.MustCompile(`^(?:for |to |at |on |from |until |by |in |with )?(?:how|which|what|who|whom|when|where|whether|why)\b`)

var nounRE = regexp.MustCompile(`^(?:the|a|an|its|their|his|her|this)\s`)

// clause gives a parameter as the object of "tell me".
func (p *param) clause() string {
	b := p.brief()
	switch {
	case p.enum != nil:
		what := spaced(p.name)
		return "which " + what + " (" + either(values(p.enum)) + ")"
	case b == "":
		return "the " + spaced(p.name)
	case asksRE.MatchString(b):
		return b
	case nounRE.MatchString(b):
		return b
	}
	return "the " + b
}

func values(list []any) []string {
	out := make([]string, len(list))
	for i, v := range list {
		out[i] = expr.Show(v)
	}
	return out
}

// question asks for one parameter.
func (p *param) question(half string) string {
	if half != "" {
		return upperFirst(half) + "?"
	}
	b := p.brief()
	if p.kind == "boolean" {
		if m := pairRE.FindStringSubmatch(p.desc); m != nil {
			return "Shall it be " + m[1] + " or " + m[2] + "?"
		}
		if !strings.HasPrefix(b, "whether") {
			b = "whether it is " + spaced(p.name)
		}
		return "Can you tell me " + b + "?"
	}
	switch {
	case p.enum != nil && len(p.enum) <= 12:
		if asksRE.MatchString(b) && len(strings.Fields(b)) <= 3 && !strings.HasPrefix(b, "whe") {
			return upperFirst(b) + ": " + either(values(p.enum)) + "?"
		}
		return "Which " + spaced(p.name) + ": " + either(values(p.enum)) + "?"
	case b == "" && (p.role == aMoment || p.role == aDay) && len(p.label) == 0:
		if p.role == aDay {
			return "On which day?"
		}
		return "At what time, and on which day?"
	case b == "" && len(p.label) == 0:
		return "What shall I take for “" + p.name + "”?"
	case b == "":
		return "What is the " + spaced(p.name) + "?"
	case asksRE.MatchString(b) && len(strings.Fields(b)) <= 3:
		return upperFirst(b) + "?"
	case strings.HasPrefix(b, "who "):
		return upperFirst(b) + "?"
	case asksRE.MatchString(b):
		return "Can you tell me " + b + "?"
	case nounRE.MatchString(b):
		return "What is " + b + "?"
	}
	verb := "is"
	if p.kind == "array" {
		verb = "are"
	}
	return "What " + verb + " the " + b + "?"
}

// abilities says what the agent can do, from the summaries and allowed values of
// its tools and the summaries of the agents it passes to.
func (th *thought) abilities(greets bool) string {
	var can, others []string
	for _, c := range th.cards {
		if c.handoff != "" {
			s := c.Summary
			if i := strings.Index(s, ": "); i >= 0 {
				s = s[i+2:]
			}
			others = append(others, fmt.Sprintf("- pass you on to %s: %s", spaced(c.handoff), strings.TrimRight(lowerFirst(s), ".")))
			continue
		}
		line := "- " + c.doing()
		for _, p := range c.params {
			if p.required && len(p.enum) > 0 && len(p.enum) <= 8 {
				line += fmt.Sprintf(" (%s: %s)", spaced(p.name), either(values(p.enum)))
				break
			}
		}
		can = append(can, line)
	}
	hello := ""
	if greets {
		hello = "Good day. "
	}
	all := append(can, others...)
	if len(all) == 0 {
		return hello + "I have no tools here, and I only know what tools tell me."
	}
	const most = 20
	if len(all) > most {
		all = append(all[:most], fmt.Sprintf("- and %d more things", len(all)-most))
	}
	return hello + "I can:\n\n" + strings.Join(all, "\n")
}

// greeting answers a hello with what can be done here, in one sentence.
func (th *thought) greeting() string {
	var can []string
	for _, c := range th.cards {
		if c.handoff == "" {
			can = append(can, c.doing())
		}
	}
	for _, c := range th.cards {
		if c.handoff != "" && len(can) < 3 {
			can = append(can, "pass you on to "+spaced(c.handoff))
		}
	}
	switch {
	case len(can) == 0:
		return "Good day. I have no tools here, and I only know what tools tell me."
	case len(can) > 3:
		return "Good day. I can " + strings.Join(can[:3], ", ") + ", and more. What do you need?"
	}
	return "Good day. I can " + list(can) + ". What do you need?"
}

// alreadyDone asks whether a write is to be made once more, with a change.
func (th *thought) alreadyDone(c *card, old *asked, args map[string]any) string {
	var diff []string
	for _, k := range sortedKeys(args) {
		if show(args[k]) != show(old.args[k]) {
			diff = append(diff, plainValue(args[k]))
		}
	}
	with := ""
	if len(diff) > 0 {
		with = ", now with " + list(diff)
	}
	return fmt.Sprintf("That is already done, with %s. Shall I %s once more%s?", list(argWords(old.args)), c.doing(), with)
}

func argWords(args map[string]any) []string {
	var out []string
	for _, k := range sortedKeys(args) {
		out = append(out, spaced(k)+" "+plainValue(args[k]))
	}
	return out
}

// plainValue shows a value as one would say it.
func plainValue(v any) string {
	switch x := v.(type) {
	case []any:
		return list(values(x))
	case bool:
		if x {
			return "yes"
		}
		return "no"
	case string:
		return saidTime(x)
	}
	return expr.Show(v)
}

var wholeTimeRE = regexp.MustCompile(`^\d{4}-\d{2}-\d{2}(T\d{2}:\d{2}(:\d{2}(\.\d+)?)?(Z|[+-]\d{2}:\d{2}))?$`)

// saidTime gives a date or time as one would say it; other texts as they are.
func saidTime(s string) string {
	if !wholeTimeRE.MatchString(s) {
		return s
	}
	if t, err := time.Parse("2006-01-02", s); err == nil {
		return t.Format("Monday, 2 January 2006")
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04Z07:00"} {
		if t, err := time.Parse(layout, s); err == nil {
			return t.Format("Monday, 2 January 2006, 15:04")
		}
	}
	return s
}

// tell answers from what the tools brought since the person spoke: from what
// speaks to a goal, where anything does, and from failures.
func (th *thought) tell() string { return th.told(false) }

// told answers from what the tools brought; strictly, from nothing but what was asked for.
func (th *thought) told(strict bool) string {
	wanted := map[string]*goal{}
	for _, g := range th.goals {
		if b := g.best(); b != nil && b.c.handoff == "" {
			if wanted[b.Tool] == nil {
				wanted[b.Tool] = g
			}
		}
	}
	relevant := func(a *asked) bool {
		switch {
		case a.result.bad:
			return !th.repaired(a)
		case wanted[a.tool] != nil:
			return true
		case a.own:
			return false
		}
		return th.speaks(a)
	}
	some := slices.ContainsFunc(th.calls, func(a *asked) bool { return a.result != nil && relevant(a) })
	order := slices.Clone(th.calls) // as it was asked for, not as it came
	place := func(a *asked) int {
		for i, g := range th.goals {
			if wanted[a.tool] == g || wanted[a.tool] == nil && !a.own && th.speaksTo(a, g) {
				return i
			}
		}
		return len(th.goals)
	}
	slices.SortStableFunc(order, func(a, b *asked) int { return place(a) - place(b) })
	var parts []string
	for _, a := range order {
		if a.result == nil || (some || strict) && !relevant(a) {
			continue
		}
		if text := th.answer(a, wanted[a.tool]); text != "" && !slices.Contains(parts, text) {
			parts = append(parts, text)
		}
	}
	parts = append(parts, th.notes...)
	return strings.Join(parts, "\n\n")
}

// speaks says whether what another agent's tool brought is for any part of the request.
func (th *thought) speaks(a *asked) bool {
	return slices.ContainsFunc(th.goals, func(g *goal) bool { return th.speaksTo(a, g) })
}

// answer words one result.
func (th *thought) answer(a *asked, g *goal) string {
	r := a.result
	if r.value == nil || r.bad {
		return strings.TrimSpace(r.words)
	}
	docs := schemaKeys(th.results[a.tool])
	w := wording{docs: docs, args: a.args, raw: r.raw, first: mustHave(th.results[a.tool]), many: len(th.callsOf(a.tool)) > 1}
	if g != nil {
		w.goal = g
		w.writes = g.best().c.writes
	} else {
		w.writes = writes(a.tool, "")
	}
	switch v := r.value.(type) {
	case []any:
		return w.rows(thingOf(a.tool, th.by[a.tool]), v)
	case map[string]any:
		return w.record(a.tool, v)
	}
	return ""
}

// wording puts one result into words.
type wording struct {
	goal   *goal
	docs   map[string]map[string]any
	args   map[string]any
	raw    string
	writes bool
	first  []string // the fields that a result must have, as its schema lists them
	many   bool     // others of the tool stand beside it, so it says what it is about
}

// mustHave lists the required fields of a schema, and of what is in it.
func mustHave(doc map[string]any) []string {
	var out []string
	need, _ := doc["required"].([]any)
	for _, r := range need {
		if s, ok := r.(string); ok {
			out = append(out, s)
		}
	}
	props, _ := doc["properties"].(map[string]any)
	for _, k := range sortedKeys(props) {
		if d, ok := props[k].(map[string]any); ok {
			out = append(out, mustHave(d)...)
		}
	}
	if items, ok := doc["items"].(map[string]any); ok {
		out = append(out, mustHave(items)...)
	}
	return out
}

// order lists the keys of a record: those it must have first, then as they came.
func (w wording) order(m map[string]any) []string {
	keys := sortedKeys(m)
	at := func(k string) int {
		if i := slices.Index(w.first, k); i >= 0 {
			return i - len(w.first)
		}
		i := strings.Index(w.raw, show(k)+":")
		if i < 0 {
			return len(w.raw)
		}
		return i
	}
	slices.SortStableFunc(keys, func(a, b string) int { return at(a) - at(b) })
	return keys
}

// label gives the words for a field, and its unit.
func (w wording) label(k string) (string, string) {
	words := strings.Fields(strings.ToLower(spaced(k)))
	unit := ""
	if n := len(words); n > 1 && reading.Unit(words[n-1]) != "" {
		unit, words = words[n-1], words[:n-1]
	}
	if unit == "" {
		desc, _ := w.docs[k]["description"].(string)
		if m := inUnitRE.FindStringSubmatch(desc); m != nil && reading.Unit(m[1]) != "" {
			unit = m[1]
		}
	}
	return strings.Join(words, " "), unitWord(unit)
}

var inUnitRE = regexp.MustCompile(`(?i)\bin ([a-z]+)\.?$`)

func unitWord(u string) string {
	switch u {
	case "c":
		return "°C"
	case "eur", "usd", "gbp", "gb", "mb", "kw":
		return strings.ToUpper(u)
	case "percent":
		return "%"
	case "min":
		return "minutes"
	}
	return u
}

func (w wording) value(k string, v any) string {
	_, unit := w.label(k)
	s := plainValue(v)
	switch v.(type) {
	case float64:
		if unit == "%" || unit == "°C" {
			return s + " " + unit
		}
		if unit != "" {
			return s + " " + unit
		}
	}
	return s
}

// echoes says whether a value is one that was asked with.
func (w wording) echoes(v any) bool {
	for _, a := range w.args {
		if s, ok := a.(string); ok && strings.EqualFold(s, plainValue(v)) || show(a) == show(v) {
			return true
		}
	}
	return false
}

// chosen lists the fields that a question asks for; nil for all.
func (w wording) chosen(m map[string]any) []string {
	if w.goal == nil || w.goal.clause.Mood != reading.Asking {
		return nil
	}
	q := w.goal.clause.Question
	words := content(w.goal)
	top := 0.0
	points := map[string]float64{}
	for _, k := range w.order(m) {
		if w.echoes(m[k]) {
			continue
		}
		label := rootSet(spaced(k))
		desc, _ := w.docs[k]["description"].(string)
		about := rootSet(desc)
		low := " " + strings.ToLower(desc) + " "
		p := 0.0
		for _, wd := range words {
			switch {
			case label[wd.Root]:
				p += 3
			case about[wd.Root]:
				p += 1.5
			default:
				for l := range label {
					if reading.Akin(l, wd.Root) {
						p += 1.5
						break
					}
				}
			}
		}
		first, _, _ := strings.Cut(q, " ")
		if q != "" && strings.Contains(low, " "+q+" ") {
			p++
		}
		_, isText := m[k].(string)
		_, isNumber := m[k].(float64)
		clock := isText && (clockTextRE.MatchString(m[k].(string)) || wholeTimeRE.MatchString(m[k].(string)))
		switch first {
		case "who", "whose", "whom":
			if some(label, personRoots) || label["borrower"] || strings.Contains(low, " who ") {
				p += 2
			} else if isText && !clock && nameTextRE.MatchString(m[k].(string)) && !some(label, placeRoots) {
				p += 2
			}
			if isNumber || clock {
				p -= 2
			}
		case "when":
			if clock {
				p += 2
			} else {
				p -= 1
			}
		case "where":
			if some(label, placeRoots) || strings.Contains(low, " where ") {
				p += 2
			}
		case "how":
			if isNumber && (q == "how many" || q == "how much" || q == "how long" || q == "how far" || q == "how likely") {
				p++
			}
		}
		for _, mk := range marksOf(w.goal) {
			for l := range label {
				if reading.Akin(mk, l) {
					p += 1
					break
				}
			}
		}
		points[k] = p
		top = max(top, p)
	}
	if top <= 0.5 {
		return nil
	}
	var out []string
	for _, k := range w.order(m) {
		if points[k] >= top-0.6 || points[k] >= 2.5 {
			out = append(out, k)
		}
	}
	return out
}

var (
	clockTextRE = regexp.MustCompile(`^\d{1,2}:\d{2}$`)
	nameTextRE  = regexp.MustCompile(`^\p{Lu}[\p{L}'’-]+(?: \p{Lu}[\p{L}'’-]+)*$`)
)

// record puts a record into a sentence.
func (w wording) record(tool string, m map[string]any) string {
	pick := w.chosen(m)
	var facts, rest []string
	subject := ""
	units := map[string]string{}
	for _, k := range w.order(m) {
		if strings.EqualFold(k, "currency") || k == "unit" { // it is the unit of the figure beside it
			if s, ok := m[k].(string); ok {
				for n, v := range m {
					if _, isNumber := v.(float64); isNumber {
						units[n] = s
					}
				}
			}
		}
	}
	for _, k := range w.order(m) {
		v := m[k]
		echo := false
		if a, ok := w.args[k]; ok && plainValue(a) == plainValue(v) {
			echo = true
		}
		if s, ok := v.(string); ok && !echo && subject == "" && len(pick) == 0 && !wholeTimeRE.MatchString(s) {
			for _, a := range w.args { // the thing that was asked for, under another name
				if as, ok := a.(string); ok && strings.EqualFold(as, s) {
					echo = true
				}
			}
		}
		switch x := v.(type) {
		case nil:
			continue
		case []any:
			if pick == nil || slices.Contains(pick, k) {
				rest = append(rest, w.rows(spaced(k), x))
			}
			continue
		case map[string]any:
			rest = append(rest, w.record(k, x))
			continue
		}
		if echo {
			if subject == "" {
				subject = plainValue(v)
			}
			continue
		}
		if pick != nil && !slices.Contains(pick, k) {
			continue
		}
		if strings.EqualFold(k, "currency") && len(units) > 0 {
			continue
		}
		label, _ := w.label(k)
		switch x := v.(type) {
		case bool:
			facts = append(facts, w.flag(k, label, x))
		default:
			value := w.value(k, v)
			if u := units[k]; u != "" {
				value += " " + u
			}
			facts = append(facts, stated(label, value, v))
		}
	}
	if subject == "" && (w.many || len(rest) > 0) {
		var said []string
		for _, k := range sortedKeys(w.args) {
			said = append(said, plainValue(w.args[k]))
		}
		if len(said) > 0 && len(said) <= 2 {
			subject = list(said)
		}
	}
	out := ""
	if len(facts) > 0 {
		switch {
		case w.writes && len(facts) == 1 && nothingMore[strings.TrimPrefix(facts[0], "yes, ")]:
			out = "Done"
		case w.writes && len(facts) == 1 && strings.HasPrefix(facts[0], "yes, "):
			out = "Done: " + strings.TrimPrefix(facts[0], "yes, ")
		case w.writes:
			out = "Done: " + list(facts)
		default:
			out = list(facts)
		}
		if subject != "" && (pick == nil || w.many) && !w.writes {
			out = subject + ": " + out
		}
		out = ended(upperFirst(out))
	}
	if out == "" && len(rest) == 0 {
		if w.writes {
			return "Done."
		}
		if subject != "" {
			return ended(upperFirst(subject))
		}
	}
	if len(rest) > 0 {
		if out == "" && subject != "" && len(rest) == 1 && !strings.Contains(rest[0], "\n") {
			return upperFirst(subject) + ": " + lowerFirst(rest[0])
		}
		if out != "" {
			out += "\n\n"
		}
		out += strings.Join(rest, "\n\n")
	}
	return out
}

var nothingMore = reading.Set("ok saved success done successful")

var adjectives = reading.Set("ready due back left free open closed available valid paid sent done total")

// stated says what a field holds: the price is 3.8 EUR, ready tomorrow, 6 left.
func stated(label, value string, v any) string {
	if _, number := v.(float64); number && reading.Unit(label) != "" && !strings.Contains(value, " ") {
		return "it is " + value + " " + label
	}
	if adjectives[label] && label != "total" || label == "on hand" || label == "in stock" {
		if _, number := v.(float64); number {
			return value + " " + label
		}
		return label + " " + value
	}
	if strings.HasSuffix(label, "s") && !strings.HasSuffix(label, "ss") && !strings.HasSuffix(label, "us") {
		return "the " + label + " are " + value
	}
	return "the " + label + " is " + value
}

// flag words a yes or no.
func (w wording) flag(k, label string, yes bool) string {
	desc, _ := w.docs[k]["description"].(string)
	if after, ok := strings.CutPrefix(strings.TrimRight(desc, "."), "Whether "); ok && !strings.Contains(after, ",") {
		if yes {
			return "yes, " + after
		}
		return "it is not so that " + after
	}
	if yes {
		return "yes, " + label
	}
	return "not " + label
}

const (
	mostRows  = 12
	fewRows   = 3 // so many are told in a sentence
	fewFields = 4
)

// thingOf gives what a list is of: trains, for find_trains.
func thingOf(tool string, c *card) string {
	words := strings.Fields(strings.ToLower(spaced(tool)))
	if len(words) > 1 && reading.Verb(words[0]) {
		words = words[1:]
	}
	if n := len(words); n > 1 && (words[n-1] == "of" || words[n-1] == "for" || words[n-1] == "by") {
		words = words[:n-1]
	}
	return strings.Join(words, " ")
}

// rows puts a list into a sentence or a table.
func (w wording) rows(thing string, rows []any) string {
	if len(rows) == 0 {
		return "No " + strings.TrimSuffix(thing, "s") + "s were found."
	}
	count := fmt.Sprintf("%d %s", len(rows), plural(thing, len(rows)))
	var cols []string
	seen := map[string]bool{}
	for _, r := range rows {
		m, ok := r.(map[string]any)
		if !ok {
			return ended(upperFirst(count + ": " + list(values(rows))))
		}
		for _, k := range w.order(m) {
			if !seen[k] {
				seen[k] = true
				cols = append(cols, k)
			}
		}
	}
	if len(rows) <= fewRows && len(cols) <= fewFields {
		var out []string
		for _, r := range rows {
			var parts []string
			for i, k := range cols {
				v := r.(map[string]any)[k]
				if v == nil {
					continue
				}
				label, _ := w.label(k)
				s := w.value(k, v)
				if i > 0 || !strings.Contains(thing, label) {
					s = label + " " + s
				}
				parts = append(parts, s)
			}
			out = append(out, strings.Join(parts, ", "))
		}
		return ended(upperFirst(count + ": " + strings.Join(out, "; ")))
	}
	var cells [][]string
	var head []string
	for _, c := range cols {
		label, unit := w.label(c)
		if unit != "" {
			label += " (" + unit + ")"
		}
		head = append(head, label)
	}
	cells = append(cells, head, make([]string, len(cols)))
	for _, r := range rows[:min(len(rows), mostRows)] {
		var row []string
		for _, c := range cols {
			v := r.(map[string]any)[c]
			if v == nil {
				v = ""
			}
			row = append(row, strings.ReplaceAll(plainValue(v), "|", "\\|"))
		}
		cells = append(cells, row)
	}
	out := upperFirst(count) + ":\n\n" + table(cells)
	if n := len(rows) - mostRows; n > 0 {
		out += fmt.Sprintf("\n\n… and %d more.", n)
	}
	return out
}

// table writes cells as a table of Markdown with columns of one width, so that
// it reads well as it stands too. The second row is the line below the heads.
func table(cells [][]string) string {
	wide := make([]int, len(cells[0]))
	for _, row := range cells {
		for i, c := range row {
			wide[i] = max(wide[i], utf8.RuneCountInString(c), 3)
		}
	}
	var b strings.Builder
	for n, row := range cells {
		b.WriteString("|")
		for i, c := range row {
			if n == 1 {
				b.WriteString(" " + strings.Repeat("-", wide[i]) + " |")
				continue
			}
			b.WriteString(" " + c + strings.Repeat(" ", wide[i]-utf8.RuneCountInString(c)) + " |")
		}
		if n < len(cells)-1 {
			b.WriteString("\n")
		}
	}
	return b.String()
}

func plural(thing string, n int) string {
	switch {
	case n == 1:
		if strings.HasSuffix(thing, "ies") {
			return strings.TrimSuffix(thing, "ies") + "y"
		}
		if strings.HasSuffix(thing, "ss") {
			return thing
		}
		return strings.TrimSuffix(thing, "s")
	case strings.HasSuffix(thing, "s") || strings.HasSuffix(thing, "data"):
		return thing
	case strings.HasSuffix(thing, "y") && len(thing) > 2 && !strings.ContainsRune("aeou", rune(thing[len(thing)-2])):
		return strings.TrimSuffix(thing, "y") + "ies"
	}
	return thing + "s"
}

// ended ends a sentence that may have its stop already.
func ended(s string) string { return strings.TrimRight(s, ".") + "." }

// judgeCondition says whether a result says that a condition holds, and
// whether that is sure.
func judgeCondition(cond string, r *found) (holds, sure bool) {
	low := strings.ToLower(cond)
	not := negRE.MatchString(low)
	words := reading.Words(cond)
	mentions := reading.Mentions(cond, time.Time{})
	if r.bad {
		return false, false
	}
	// a figure is compared
	for _, m := range mentions {
		if m.Kind != reading.Figure {
			continue
		}
		v, ok := numberFor(words, r.value)
		if !ok {
			return false, false
		}
		switch {
		case m.Side == reading.Last || overRE.FindString(low) == "" && underRE.MatchString(low):
			return (v <= m.Number) != not, true
		case m.Side == reading.First || overRE.MatchString(low):
			return (v >= m.Number) != not, true
		}
		return (v == m.Number) != not, true
	}
	switch x := r.value.(type) {
	case []any:
		if availableRE.MatchString(low) || strings.Contains(low, "there") {
			return (len(x) > 0) != not, true
		}
		return false, false
	case map[string]any:
		for _, k := range sortedKeys(x) {
			label := rootSet(spaced(k))
			met := false
			for _, w := range words {
				if reading.Stop(w.Low) {
					continue
				}
				met = met || label[w.Root]
				for l := range label {
					met = met || reading.Akin(l, w.Root)
				}
			}
			if !met {
				continue
			}
			switch v := x[k].(type) {
			case bool:
				return v != not, true
			case string:
				if yesRE.MatchString(v) || noRE.MatchString(v) {
					return yesRE.MatchString(v) != not, true
				}
			case float64:
				if likelyRE.MatchString(low) {
					return (v >= 50) != not, true
				}
				if availableRE.MatchString(low) {
					return (v > 0) != not, true
				}
			}
		}
		for _, k := range sortedKeys(x) { // a state in words: if it is ready
			if v, ok := x[k].(string); ok {
				for _, w := range words {
					if !reading.Stop(w.Low) && reading.Root(v) == w.Root {
						return !not, true
					}
				}
			}
		}
		return false, false
	}
	// words: the sentence that has the word of the condition
	said := strings.ToLower(r.words)
	last := ""
	for _, w := range words {
		if !reading.Stop(w.Low) {
			last = w.Low
		}
	}
	if at := strings.Index(said, last); last != "" && at >= 0 {
		return negRE.MatchString(said[max(0, at-12):at]) == not, true
	}
	return false, false
}

var (
	negRE       = regexp.MustCompile(`\b(?:not|no|isn't|aren't|never|without|n't)\b|n't\b`)
	overRE      = regexp.MustCompile(`\b(?:over|above|more than|at least|exceeds|hotter|colder|higher|longer)\b`)
	underRE     = regexp.MustCompile(`\b(?:under|below|less than|at most|cheaper|lower|shorter|up to|fewer)\b`)
	availableRE = regexp.MustCompile(`\b(?:free|available|left|in stock|any|some|there|enough)\b`)
	likelyRE    = regexp.MustCompile(`\b(?:likely|probable|expected)\b`)
	yesRE       = regexp.MustCompile(`(?i)^(?:yes|true|on|ok|open|available|free)$`)
	noRE        = regexp.MustCompile(`(?i)^(?:no|false|off|closed|none|taken)$`)
)

// numberFor finds the figure of a result that some words are about.
func numberFor(words []reading.Word, v any) (float64, bool) {
	m, ok := v.(map[string]any)
	if !ok {
		return 0, false
	}
	only, n := 0.0, 0
	for _, k := range sortedKeys(m) {
		f, isNumber := m[k].(float64)
		if !isNumber {
			continue
		}
		only, n = f, n+1
		for l := range rootSet(spaced(k)) {
			for _, w := range words {
				if !reading.Stop(w.Low) && (w.Root == l || reading.Akin(w.Root, l)) {
					return f, true
				}
			}
		}
	}
	return only, n == 1
}
