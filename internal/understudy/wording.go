package understudy

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"stonebaton.example/core/reading"
)

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
	for _, k := range slices.Sorted(maps.Keys(props)) {
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
	keys := slices.Sorted(maps.Keys(m))
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
		for _, k := range slices.Sorted(maps.Keys(w.args)) {
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
		return "There are no " + plural(thing, 2) + "."
	}
	count := fmt.Sprintf("%d %s", len(rows), plural(thing, len(rows)))
	var cols []string
	seen := map[string]bool{}
	for _, r := range rows[:min(len(rows), 4*mostRows)] { // which show what fields there are
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
