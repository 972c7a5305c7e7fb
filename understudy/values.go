package understudy

import (
	"encoding/json"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// scene is all that the understudy knows when it fills arguments in.
type scene struct {
	now     time.Time // the zero time where the instructions name no day
	texts   []string  // what the person said, the newest first
	results []found   // what tools brought, the newest first
	clause  string
}

// found is what a tool brought: a JSON value, or words.
type found struct {
	tool  string
	value any
	words string
	bad   bool
}

var nowRE = regexp.MustCompile(`\b(\d{4}-\d{2}-\d{2})(T\d{2}:\d{2}(?::\d{2})?(?:Z|[+-]\d{2}:\d{2}))?`)

// today finds the day, and with luck the hour and zone, in the instructions.
func today(system string) time.Time {
	for _, m := range nowRE.FindAllStringSubmatch(system, -1) {
		for _, layout := range []string{time.RFC3339, "2006-01-02T15:04Z07:00"} {
			if t, err := time.Parse(layout, m[0]); err == nil {
				return t
			}
		}
	}
	if m := nowRE.FindStringSubmatch(system); m != nil {
		if t, err := time.Parse("2006-01-02", m[1]); err == nil {
			return t
		}
	}
	return time.Time{}
}

// number is a number in a text, with the words about it.
type number struct {
	value  float64
	unit   string
	before []string // roots of up to three words before, the nearest last
	after  []string
	next   string // the root of the word right before it, where that carries meaning
	at     int
}

var numberRE = regexp.MustCompile(`(\d+(?:\.\d+)?)(?:\s*(%)|\s*(m|metres?|meters?|km|cm|kg|tonnes?|tons?|t|nights?|days?|hours?|h|minutes?|min|euros?|EUR|l|litres?)\b)?`)

var smallNumbers = map[string]string{"one": "1", "two": "2", "three": "3", "four": "4", "five": "5", "six": "6", "seven": "7", "eight": "8", "nine": "9", "ten": "10", "twelve": "12"}

var smallRE = regexp.MustCompile(`(?i)\b(one|two|three|four|five|six|seven|eight|nine|ten|twelve)\s+(nights?|days?|hours?|metres?|people|berths?|vessels?)\b`)

func numbers(text string) []number {
	text = smallRE.ReplaceAllStringFunc(text, func(s string) string {
		w := strings.Fields(s)
		return smallNumbers[strings.ToLower(w[0])] + " " + w[1]
	})
	var out []number
	taken := moments(text, time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC))
	for _, m := range numberRE.FindAllStringSubmatchIndex(text, -1) {
		if m[0] > 0 && (isLetter(text[m[0]-1]) || text[m[0]-1] == '-' || text[m[0]-1] == ':') {
			continue // part of a code, such as C4, or of a time
		}
		inside := false
		for _, t := range taken {
			inside = inside || (m[0] >= t.at && m[0] < t.end)
		}
		if inside {
			continue
		}
		v, err := strconv.ParseFloat(text[m[2]:m[3]], 64)
		if err != nil {
			continue
		}
		n := number{value: v, at: m[0]}
		switch {
		case m[4] >= 0:
			n.unit = "%"
		case m[6] >= 0:
			n.unit = unit(text[m[6]:m[7]])
		case m[3] < len(text) && isLetter(text[m[3]]):
			continue // 3rd, 20ft
		}
		n.before = tail(stems(text[:m[0]]), 3)
		n.after = headOf(stems(text[m[3]:]), 3)
		if words := strings.Fields(text[:m[0]]); len(words) > 0 {
			if s := stems(words[len(words)-1]); len(s) == 1 {
				n.next = s[0]
			}
		}
		out = append(out, n)
	}
	return out
}

func isLetter(b byte) bool { return b >= 'A' && b <= 'Z' || b >= 'a' && b <= 'z' }

func tail(s []string, n int) []string {
	if len(s) > n {
		return s[len(s)-n:]
	}
	return s
}

func headOf(s []string, n int) []string {
	if len(s) > n {
		return s[:n]
	}
	return s
}

// unit gives one name to the ways a unit is written.
func unit(u string) string {
	switch u = strings.ToLower(strings.TrimSuffix(u, "s")); u {
	case "metre", "meter":
		return "m"
	case "tonne", "ton":
		return "t"
	case "hour":
		return "h"
	case "minute":
		return "min"
	case "euro":
		return "eur"
	case "litre":
		return "l"
	}
	return u
}

// unitOf gives the unit that a parameter's name or description asks for.
func unitOf(p param) string {
	if i := strings.LastIndexByte(p.name, '_'); i >= 0 {
		if u := unit(p.name[i+1:]); knownUnits[u] {
			return u
		}
	}
	if u := unit(p.name); knownUnits[u] {
		return u
	}
	for _, w := range wordRE.FindAllString(p.text("description"), -1) {
		if u := unit(w); knownUnits[u] && len(w) > 1 {
			return u
		}
	}
	return ""
}

var knownUnits = set("m km cm kg t night day h min % eur l")

// moment is a date, or a date and time, in a text.
type moment struct {
	time    time.Time
	hasTime bool
	at, end int
}

const (
	months   = `jan(?:uary)?|feb(?:ruary)?|mar(?:ch)?|apr(?:il)?|may|june?|july?|aug(?:ust)?|sep(?:t(?:ember)?)?|oct(?:ober)?|nov(?:ember)?|dec(?:ember)?`
	weekdays = `mon(?:day)?|tue(?:s(?:day)?)?|wed(?:nesday)?|thu(?:rs(?:day)?)?|fri(?:day)?|sat(?:urday)?|sun(?:day)?`
	clock    = `(?:,?\s*(?:at\s+)?(\d{1,2}[:.]\d{2}|\d{1,2}\s?(?:am|pm)|noon|midday|midnight|morning|evening|afternoon))?`
)

var momentRE = regexp.MustCompile(`(?i)\b(?:` +
	`(\d{4}-\d{2}-\d{2})(?:[T ](\d{2}:\d{2})(?::\d{2})?(?:Z|[+-]\d{2}:\d{2})?)?` +
	`|(\d{1,2})(?:st|nd|rd|th)?\s+(?:of\s+)?(` + months + `)(?:\s+(\d{4}))?` + clock +
	`|(` + months + `)\s+(\d{1,2})(?:st|nd|rd|th)?(?:,?\s+(\d{4}))?` + clock +
	`|(?:next\s+|this\s+|on\s+)?(today|tonight|tomorrow|` + weekdays + `)` + clock + `)\b`)

// moments finds the dates of a text. Days without a year are the next there are.
func moments(text string, now time.Time) []moment {
	if now.IsZero() {
		return nil
	}
	var out []moment
	for _, m := range momentRE.FindAllStringSubmatchIndex(text, -1) {
		g := func(i int) string {
			if m[2*i] < 0 {
				return ""
			}
			return text[m[2*i]:m[2*i+1]]
		}
		midnight := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
		var day time.Time
		at := ""
		switch {
		case g(1) != "":
			d, err := time.ParseInLocation("2006-01-02", g(1), now.Location())
			if err != nil {
				continue
			}
			day, at = d, g(2)
		case g(3) != "":
			day, at = dayOf(g(3), g(4), g(5), midnight), g(6)
		case g(7) != "":
			day, at = dayOf(g(8), g(7), g(9), midnight), g(10)
		default:
			day, at = relative(g(11), midnight), g(12)
		}
		if day.IsZero() {
			continue
		}
		hour, minute, ok := timeOf(at)
		out = append(out, moment{time: time.Date(day.Year(), day.Month(), day.Day(), hour, minute, 0, 0, now.Location()), hasTime: ok, at: m[0], end: m[1]})
	}
	return out
}

func dayOf(d, m, y string, midnight time.Time) time.Time {
	n, _ := strconv.Atoi(d)
	month := time.Month(0)
	for i := time.January; i <= time.December; i++ {
		if strings.HasPrefix(strings.ToLower(i.String()), strings.ToLower(m[:3])) {
			month = i
		}
	}
	year := midnight.Year()
	if y != "" {
		year, _ = strconv.Atoi(y)
	}
	t := time.Date(year, month, n, 0, 0, 0, 0, midnight.Location())
	if t.Day() != n {
		return time.Time{}
	}
	if y == "" && t.Before(midnight) {
		t = t.AddDate(1, 0, 0)
	}
	return t
}

func relative(w string, midnight time.Time) time.Time {
	switch w = strings.ToLower(w); w {
	case "today", "tonight":
		return midnight
	case "tomorrow":
		return midnight.AddDate(0, 0, 1)
	}
	for i := 0; i < 7; i++ {
		d := midnight.AddDate(0, 0, i)
		if strings.HasPrefix(strings.ToLower(d.Weekday().String()), w[:3]) && (i > 0) {
			return d
		}
	}
	return midnight.AddDate(0, 0, 7) // this weekday: a week from now
}

func timeOf(s string) (hour, minute int, ok bool) {
	switch s = strings.ToLower(strings.TrimSpace(s)); s {
	case "":
		return 0, 0, false
	case "noon", "midday":
		return 12, 0, true
	case "midnight":
		return 0, 0, true
	case "morning":
		return 9, 0, true
	case "afternoon":
		return 14, 0, true
	case "evening":
		return 18, 0, true
	}
	if n, found := strings.CutSuffix(s, "pm"); found {
		h, _ := strconv.Atoi(strings.TrimSpace(n))
		return h%12 + 12, 0, h > 0
	}
	if n, found := strings.CutSuffix(s, "am"); found {
		h, _ := strconv.Atoi(strings.TrimSpace(n))
		return h % 12, 0, h > 0
	}
	if i := strings.IndexAny(s, ":."); i > 0 {
		h, err1 := strconv.Atoi(s[:i])
		m, err2 := strconv.Atoi(s[i+1:])
		return h, m, err1 == nil && err2 == nil && h < 24 && m < 60
	}
	return 0, 0, false
}

var nameRE = regexp.MustCompile(`"([^"]+)"|“([^”]+)”|\b([A-Z][\p{L}'’-]+(?:\s+(?:of\s+)?(?:the\s+)?[A-Z][\p{L}'’-]+)*)`)

var notNames = set(`i please can could what when where which who how find reserve book tell give show look is are do does may the a an for from to hello hi good waive send write list check cancel on in at and my we no yes thanks
monday tuesday wednesday thursday friday saturday sunday january february march april may june july august september october november december`)

// properNames finds quoted texts and capitalised names.
func properNames(text string) []string {
	var out []string
	for _, m := range nameRE.FindAllStringSubmatch(text, -1) {
		if q := m[1] + m[2]; q != "" {
			out = append(out, q)
			continue
		}
		words := strings.Fields(m[3])
		for len(words) > 0 && notNames[strings.ToLower(words[0])] {
			words = words[1:]
		}
		for len(words) > 0 && notNames[strings.ToLower(words[len(words)-1])] {
			words = words[:len(words)-1]
		}
		if len(words) > 0 {
			out = append(out, strings.TrimSuffix(strings.Join(words, " "), "'s"))
		}
	}
	return out
}

// fill finds a value for a parameter; nil where there is none.
func (s *scene) fill(p param, used map[int]bool) any {
	if p.name == "because" && len(s.texts) > 0 { // a reason, not a fact
		return "The request was: " + s.texts[0]
	}
	if enum, ok := p.doc["enum"].([]any); ok {
		return s.choice(enum)
	}
	if v, ok := p.doc["const"]; ok {
		return v
	}
	kind, _ := p.doc["type"].(string)
	if kinds, ok := p.doc["type"].([]any); ok && len(kinds) > 0 {
		kind, _ = kinds[0].(string)
	}
	switch kind {
	case "number", "integer":
		return s.number(p, kind == "integer", used)
	case "boolean":
		for _, w := range stems(p.name) {
			for _, x := range stems(s.clause) {
				if x == w {
					return true
				}
			}
		}
		if v, ok := s.fromResults(p).(bool); ok {
			return v
		}
		if p.required {
			return false
		}
		return nil
	case "string", "":
		return s.text(p)
	}
	return s.fromResults(p)
}

func (s *scene) choice(enum []any) any {
	for _, text := range s.texts {
		have := map[string]bool{}
		for _, w := range stems(text) {
			have[w] = true
		}
		for _, v := range enum {
			name, ok := v.(string)
			if !ok {
				continue
			}
			all := len(stems(name)) > 0
			for _, w := range stems(name) {
				all = all && have[w]
			}
			if all {
				return name
			}
		}
	}
	return nil
}

func (s *scene) text(p param) any {
	format := p.text("format")
	if format == "date" || format == "date-time" {
		if v := s.moment(p, format == "date-time"); v != nil {
			return v
		}
		return s.fromResults(p)
	}
	if pattern := p.text("pattern"); pattern != "" {
		re, err := regexp.Compile(pattern)
		if err != nil {
			return nil
		}
		for _, text := range s.texts {
			for _, w := range strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(" ,.;:!?()\"“”", r) }) {
				if re.MatchString(w) {
					return w
				}
			}
		}
		v, ok := s.fromResults(p).(string)
		if ok && re.MatchString(v) {
			return v
		}
		return nil
	}
	d := strings.ToLower(p.name + " " + p.text("description"))
	if strings.Contains(d, "question") || strings.Contains(d, "query") || strings.Contains(d, "message") || strings.Contains(d, "in words") || strings.Contains(d, "reason") {
		if !p.required {
			return nil
		}
		return s.clause
	}
	if v, ok := s.fromResults(p).(string); ok && p.name != "name" {
		return v
	}
	for _, text := range s.texts {
		if names := properNames(text); len(names) > 0 {
			return names[0]
		}
	}
	if v, ok := s.fromResults(p).(string); ok {
		return v
	}
	return nil
}

var endWords = set("to until till leaves leave leaving end ends departs departure before")

// moment picks a date for a parameter: the last one for an end, else the first.
// A stay in nights or days counts from the first.
func (s *scene) moment(p param, withTime bool) any {
	end := false
	for _, w := range wordRE.FindAllString(strings.ReplaceAll(p.name, "_", " "), -1) {
		end = end || endWords[strings.ToLower(w)]
	}
	show := func(t time.Time, hasTime bool) string {
		if !withTime {
			return t.Format("2006-01-02")
		}
		if !hasTime {
			t = t.Add(12 * time.Hour)
		}
		return t.Format(time.RFC3339)
	}
	for _, text := range s.texts {
		ms := moments(text, s.now)
		if len(ms) == 0 {
			continue
		}
		if !end {
			return show(ms[0].time, ms[0].hasTime)
		}
		if len(ms) > 1 {
			last := ms[len(ms)-1]
			return show(last.time, last.hasTime)
		}
		for _, n := range numbers(text) {
			if n.unit == "night" || n.unit == "day" {
				return show(ms[0].time.AddDate(0, 0, int(n.value)), ms[0].hasTime)
			}
		}
	}
	return nil
}

// number picks the number whose unit and neighbours speak for the parameter.
func (s *scene) number(p param, whole bool, used map[int]bool) any {
	want := unitOf(p)
	about := stems(p.name + " " + p.text("description"))
	best, bestAt := -1.0, -1
	var value float64
	for t, text := range s.texts {
		for _, n := range numbers(text) {
			key := t*100000 + n.at
			if used[key] {
				continue
			}
			points := 0.0
			switch {
			case want != "" && n.unit == want:
				points += 2
			case want != "" && n.unit != "" || want == "" && n.unit != "":
				continue
			}
			for _, w := range append(append([]string{}, n.before...), n.after...) {
				for _, a := range about {
					if w == a || (len(w) > 3 && len(a) > 3 && w[:4] == a[:4]) {
						points += 1.5
					}
				}
			}
			if want != "" && n.unit == "" && points == 0 {
				continue
			}
			if points > best {
				best, bestAt, value = points, key, n.value
			}
		}
		if best > 0 {
			break
		}
	}
	if bestAt < 0 || (best <= 0 && !p.required) {
		if v, ok := s.fromResults(p).(float64); ok {
			return v
		}
		return nil
	}
	if best < 2.5 { // a figure from a result with this very name is surer
		if v, ok := s.fromResults(p).(float64); ok {
			return v
		}
	}
	used[bestAt] = true
	if whole {
		return math.Round(value)
	}
	return value
}

// fromResults finds a field of the parameter's name in what tools brought, or
// in their words: "46 m long" for length_m.
func (s *scene) fromResults(p param) any {
	for _, r := range s.results {
		if r.bad {
			continue
		}
		if v, ok := field(r.value, p.name); ok {
			return v
		}
	}
	kind, _ := p.doc["type"].(string)
	for _, r := range s.results {
		if r.bad || r.value != nil {
			continue
		}
		sub := scene{texts: []string{r.words}}
		switch kind {
		case "number", "integer":
			if v := sub.number(p, kind == "integer", map[int]bool{}); v != nil {
				return v
			}
		case "string":
			if p.text("pattern") != "" {
				if v := sub.text(p); v != nil {
					return v
				}
			}
		}
	}
	return nil
}

// field finds a key in a JSON value, in the first row of a list too.
func field(v any, name string) (any, bool) {
	switch x := v.(type) {
	case map[string]any:
		if e, ok := x[name]; ok {
			return e, true
		}
		for _, k := range keys(x) {
			if e, ok := field(x[k], name); ok {
				return e, true
			}
		}
	case []any:
		if len(x) > 0 {
			return field(x[0], name)
		}
	}
	return nil, false
}

func read(text string) any {
	var v any
	if json.Unmarshal([]byte(text), &v) != nil {
		return nil
	}
	switch v.(type) {
	case map[string]any, []any:
		return v
	}
	return nil
}
