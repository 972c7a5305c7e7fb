package reading

import (
	"slices"
	"strconv"
	"strings"
	"time"
)

// Kind is what a mention is.
type Kind string

// The kinds of mention.
const (
	Figure Kind = "figure" // a number, with a unit where one is said
	Moment Kind = "moment" // a day, a time of day, or both
	Code   Kind = "code"   // such as KX-12
	Name   Kind = "name"   // capitalised words
	Quote  Kind = "quote"  // what stands in quotation marks
	Mail   Kind = "mail"
	Link   Kind = "link"
	Chunk  Kind = "chunk" // words that belong together, such as green umbrella
)

// Side says which end of a range a mention is, from the words about it.
type Side string

// The sides. Alone is neither.
const (
	Alone Side = ""
	First Side = "first" // from, after, at least
	Last  Side = "last"  // to, until, before, at most
)

// Mention is one thing that a text speaks of.
type Mention struct {
	Kind    Kind
	Text    string // as it stands, without quotation marks, titles or a possessive ending
	At, End int
	Number  float64   // of a figure
	Unit    string    // of a figure, one name for all the ways to write it; "" for none
	Time    time.Time // of a moment
	Day     bool      // a moment names a day
	Clock   bool      // a moment names a time of day
	Lead    string    // the preposition before it, such as from; "" for none
	Left    string    // the root of the word before it, where that carries meaning
	Right   string    // and of the word after it
	Title   string    // of a name: dr, mr
	Owner   bool      // a name in the possessive: Wren's
	Side    Side
}

var leads = Set(`from to by for at with without on in of about until till since before after between into as via than under over above below around near through toward towards within per against than called named saying`)

var skipped = Set("a an the my our your his her their its this that these those some any number no nr exactly about roughly approximately just only mr mrs ms dr miss dear another all both each every new next same")

// Mentions finds what a text speaks of, in order; none overlaps another. Days
// without a year are the next there are, counted from now; with now zero, days
// that need it are left out.
func Mentions(text string, now time.Time) []Mention {
	s := scanner{text: text, toks: tokens(text), now: now}
	s.scan()
	s.join()
	for i := range s.out {
		s.about(&s.out[i])
	}
	s.ranges()
	return s.out
}

type scanner struct {
	text string
	toks []token
	now  time.Time
	out  []Mention
}

func (s *scanner) tok(i int) token {
	if i >= 0 && i < len(s.toks) {
		return s.toks[i]
	}
	return token{}
}

func (s *scanner) add(m Mention, from, to int) {
	m.At, m.End = s.toks[from].at, s.toks[to-1].end
	if m.Text == "" {
		m.Text = s.text[m.At:m.End]
	}
	s.out = append(s.out, m)
}

func (s *scanner) scan() {
	for i := 0; i < len(s.toks); {
		n := 0
		switch t := s.toks[i]; t.kind {
		case "quote":
			s.add(Mention{Kind: Quote, Text: strings.Trim(t.text, "\"“”«»")}, i, i+1)
			n = 1
		case "mail":
			s.add(Mention{Kind: Mail, Text: strings.TrimRight(t.text, ".")}, i, i+1)
			n = 1
		case "link":
			s.add(Mention{Kind: Link, Text: strings.TrimRight(t.text, ".,;:!?)")}, i, i+1)
			n = 1
		case "code":
			if letters := strings.TrimLeft(t.low, "0123456789"); letters != t.low && unitOf(letters) != "" {
				v, _ := number(t.text[:len(t.text)-len(letters)])
				s.add(Mention{Kind: Figure, Number: v, Unit: unitOf(letters)}, i, i+1)
				n = 1
				break
			}
			s.add(Mention{Kind: Code, Text: strings.TrimPrefix(t.text, "#")}, i, i+1)
			n = 1
		case "years":
			n = s.years(i)
		case "money":
			v, _ := number(strings.TrimLeft(t.text, "€$£ "))
			s.add(Mention{Kind: Figure, Number: v, Unit: money[[]rune(t.text)[0]]}, i, i+1)
			n = 1
		default:
			if n = s.moment(i); n == 0 {
				if n = s.figure(i); n == 0 {
					n = s.name(i)
				}
			}
		}
		i += max(n, 1)
	}
}

var money = map[rune]string{'€': "eur", '$': "usd", '£': "gbp"}

func number(s string) (float64, bool) {
	if i := strings.LastIndexByte(s, ','); i >= 0 && len(s)-i-1 != 3 && !strings.Contains(s[i:], ".") {
		s = s[:i] + "." + s[i+1:] // 5,2 as many write it
	}
	v, err := strconv.ParseFloat(strings.ReplaceAll(s, ",", ""), 64)
	return v, err == nil
}

// years reads 1850-1859 and 1860s.
func (s *scanner) years(i int) int {
	t := s.toks[i].text
	first, _ := number(t[:4])
	last := first + 9
	if !strings.HasSuffix(t, "s") {
		last, _ = number(t[len(t)-4:])
	}
	s.add(Mention{Kind: Figure, Number: first, Side: First}, i, i+1)
	s.add(Mention{Kind: Figure, Number: last, Side: Last}, i, i+1)
	n := len(s.out) // each end has a stretch of its own
	s.out[n-2].End = s.out[n-2].At + 2
	s.out[n-1].At = s.out[n-2].End
	return 1
}

var smallNumbers = map[string]float64{"two": 2, "three": 3, "four": 4, "five": 5, "six": 6, "seven": 7, "eight": 8, "nine": 9, "ten": 10, "eleven": 11, "twelve": 12, "thirteen": 13,
	"fourteen": 14, "fifteen": 15, "sixteen": 16, "seventeen": 17, "eighteen": 18, "nineteen": 19, "twenty": 20, "thirty": 30, "forty": 40, "fifty": 50, "sixty": 60, "seventy": 70, "eighty": 80, "ninety": 90}

// figure reads a number in figures or words with its unit, and gives how many
// tokens it is.
func (s *scanner) figure(i int) int {
	j, v := i, 0.0
	t := s.toks[i]
	attached := false
	switch {
	case t.kind == "number":
		n, ok := number(t.text)
		if !ok {
			return 0
		}
		v, j = n, i+1
		attached = s.tok(j).at == t.end
	case t.low == "half" && s.tok(i+1).low == "a" && s.tok(i+2).low == "dozen":
		v, j = 6, i+3
	case (t.low == "a" || t.low == "one") && s.tok(i+1).low == "dozen":
		v, j = 12, i+2
	case t.low == "dozen":
		v, j = 12, i+1
	case t.low == "half" && s.tok(i+1).low != "past" && s.tok(i+1).low != "a" && s.tok(i+1).low != "an" && unitOf(s.tok(i+1).low) == "", (t.low == "third" || t.low == "quarter") && s.tok(i-1).low == "a" && s.tok(i+1).low == "of":
		s.add(Mention{Kind: Figure, Number: map[string]float64{"half": 50, "third": 100.0 / 3, "quarter": 25}[t.low], Unit: "percent"}, i, i+1)
		return 1
	case t.low == "half" && unitOf(s.tok(i+1).low) != "":
		v, j = 0.5, i+1
	case t.low == "a" && (s.tok(i+1).low == "couple" || s.tok(i+1).low == "pair"):
		v, j = 2, i+2
		if s.tok(j).low == "of" {
			j++
		}
	case t.low == "half" && (s.tok(i+1).low == "a" || s.tok(i+1).low == "an") && unitOf(s.tok(i+2).low) != "":
		v, j = 0.5, i+2
	case (t.low == "a" || t.low == "three") && strings.HasPrefix(s.tok(i+1).low, "quarter") && (s.tok(i+2).low == "of"):
		v, j = 0.25, i+3
		if t.low == "three" {
			v = 0.75
		}
		if s.tok(j).low == "a" || s.tok(j).low == "an" {
			j++
		}
	case (t.low == "an" || t.low == "a" || t.low == "one") && unitOf(s.tok(i+1).low) != "" && len(s.tok(i+1).low) > 2:
		if before := s.tok(i - 1); t.low != "one" && before.text != "" && before.text != "," && !slices.Contains([]string{"for", "in", "within", "another", "after", "by", "take", "takes", "lasting"}, s.tok(i-1).low) {
			return 0 // a day is no figure in "once a day"
		}
		v, j = 1, i+1
	case t.low == "one" && s.tok(i+1).kind == "word" && !stop[s.tok(i+1).low]:
		v, j = 1, i+1
	default:
		n, ok := smallNumbers[t.low]
		if !ok {
			parts := strings.Split(t.low, "-")
			if len(parts) != 2 || smallNumbers[parts[0]] < 20 {
				return 0
			}
			n = smallNumbers[parts[0]] + smallNumbers[parts[1]]
			if parts[1] == "one" {
				n++
			}
		}
		v, j = n, i+1
		switch next := s.tok(j).low; {
		case next == "hundred":
			v, j = v*100, j+1
		case next == "thousand":
			v, j = v*1000, j+1
		case v >= 20 && smallNumbers[next] > 0 && smallNumbers[next] < 10:
			v, j = v+smallNumbers[next], j+1
		}
	}
	if s.tok(j).low == "and" && s.tok(j+1).low == "a" && s.tok(j+2).low == "half" {
		v, j = v+0.5, j+3
	}
	m := Mention{Kind: Figure, Number: v}
	switch u := s.tok(j); {
	case u.low == "%":
		m.Unit, j = "percent", j+1
	case u.low == "°":
		j++
		if s.tok(j).low == "c" {
			j++
		}
		m.Unit = "c"
	case u.kind == "word" && unitOf(u.low) != "" && (len(u.text) > 1 || attached || u.text == u.low):
		m.Unit, j = unitOf(u.low), j+1
		if s.tok(j).low == "and" && s.tok(j+1).low == "a" && s.tok(j+2).low == "half" {
			m.Number, j = m.Number+0.5, j+3
		}
	case attached && u.kind == "word" && u.low != "x" && u.text != "":
		return 0 // part of something else
	}
	s.add(m, i, j)
	return j - i
}

// unitNames gives one name to the ways a unit is written.
var unitNames = func() map[string]string {
	m := map[string]string{}
	for name, ways := range map[string]string{"m": "m metre metres meter meters", "km": "km kilometre kilometres kilometer kilometers", "cm": "cm centimetre centimetres centimeter centimeters", "mm": "mm millimetre millimetres",
		"foot": "foot feet ft", "mile": "mile miles", "inch": "inch inches", "kg": "kg kilo kilos kilogram kilograms", "g": "g gram grams gramme grammes", "mg": "mg milligram milligrams", "t": "t tonne tonnes ton tons",
		"l": "l litre litres liter liters", "ml": "ml millilitre millilitres milliliter milliliters", "s": "s sec second seconds", "min": "min mins minute minutes", "h": "h hr hrs hour hours", "day": "day days",
		"night": "night nights", "week": "week weeks", "month": "month months", "year": "year years yr yrs", "eur": "eur euro euros", "usd": "usd dollar dollars", "gbp": "gbp pounds quid", "cent": "cent cents", "percent": "percent pct",
		"c": "c celsius degree degrees", "kn": "kn knot knots", "gb": "gb gigabyte gigabytes", "mb": "mb megabyte megabytes", "kw": "kw kilowatt kilowatts", "kwh": "kwh", "w": "w watt watts"} {
		for _, w := range strings.Fields(ways) {
			m[w] = name
		}
	}
	return m
}()

func unitOf(low string) string { return unitNames[low] }

// Unit gives the one name of a unit, as in "metres" → "m"; "" for what is none.
func Unit(word string) string { return unitNames[strings.ToLower(word)] }

// per gives what a unit is in the smallest of its dimension.
var per = map[string]struct {
	of  string
	per float64
}{"mm": {"length", 1}, "cm": {"length", 10}, "m": {"length", 1000}, "km": {"length", 1e6}, "inch": {"length", 25.4}, "foot": {"length", 304.8}, "mile": {"length", 1609344},
	"mg": {"mass", 1}, "g": {"mass", 1000}, "kg": {"mass", 1e6}, "t": {"mass", 1e9}, "ml": {"volume", 1}, "l": {"volume", 1000},
	"s": {"time", 1}, "min": {"time", 60}, "h": {"time", 3600}, "day": {"time", 86400}, "night": {"time", 86400}, "week": {"time", 604800},
	"month": {"months", 1}, "year": {"months", 12}, "cent": {"euros", 1}, "eur": {"euros", 100}, "mb": {"bytes", 1}, "gb": {"bytes", 1024}, "w": {"power", 1}, "kw": {"power", 1000}}

// Convert gives a figure in another unit of the same dimension.
func Convert(v float64, from, to string) (float64, bool) {
	if from == to {
		return v, true
	}
	a, ok1 := per[from]
	b, ok2 := per[to]
	if !ok1 || !ok2 || a.of != b.of {
		return 0, false
	}
	x := v * a.per / b.per
	if r := float64(int64(x*1e6+0.5)) / 1e6; x > 0 && x < 1e12 {
		x = r
	}
	return x, true
}

var notNames = Set(`sorry yes no thanks thank hello hi hey good morning evening afternoon dear please ok okay oops wait right also and but so then now today tomorrow yesterday i oh well great perfect cheers
monday tuesday wednesday thursday friday saturday sunday mon tue tues wed thu thurs fri sat sun january february march april may june july august september october november december
mr mrs ms dr miss doctor prof professor sir madam captain what who when where which how why whose is are was were do does did can could will would should shall has have had am the a an my our any if only unless
anything something nothing everything anyone someone nobody everybody there here it its this that these those for from to of on in at by with about not never don't just let's i'm i'd i'll i've we you he she they me us him them`)

var titles = Set("mr mrs ms miss dr doctor prof professor captain")

// determiners stand after a verb that bids, never after a name; neither does an amount.
var determiners = Set("the a an my our his her their this that these those all some any it them me us")

// name reads capitalised words as a name. The first word of a sentence may be
// capitalised for that alone, so it is one only if it is no common word.
func (s *scanner) name(i int) int {
	titled := !s.opens(i) && (s.toks[i].low == "the" || s.toks[i].low == "a") && s.capital(i) && s.capital(i+1) // is The Long Tide on
	if !titled && (!s.capital(i) || notNames[s.toks[i].low] || s.opens(i) && (Common(s.toks[i].low) || determiners[s.tok(i+1).low] || (s.tok(i+1).kind == "number" && s.tok(i+2).kind == "word"))) {
		return 0
	}
	j := i + 1
	for {
		switch t := s.tok(j); {
		case s.capital(j) && !calendar[t.low] && !s.gapped(j):
			j++
			continue
		case t.low == "of" && s.capital(j+1) && !s.gapped(j):
			j += 2
			continue
		case (t.low == "of" || t.low == "and") && s.tok(j+1).low == "the" && s.capital(j+2) && t.low == "of":
			j += 3
			continue
		}
		break
	}
	last := s.toks[j-1]
	m := Mention{Kind: Name, Text: s.text[s.toks[i].at:last.end]}
	for k := i - 1; k >= 0 && k >= i-2; k-- { // Dr Aske, Dr. Aske
		if titles[s.toks[k].low] {
			m.Title = s.toks[k].low
		}
		if s.toks[k].text != "." {
			break
		}
	}
	for _, poss := range []string{"'s", "’s", "'", "’"} {
		if cut, ok := strings.CutSuffix(m.Text, poss); ok {
			m.Text, m.Owner = cut, true
			break
		}
	}
	s.add(m, i, j)
	return j - i
}

var calendar = Set("monday tuesday wednesday thursday friday saturday sunday january february march april may june july august september october november december")

func (s *scanner) capital(i int) bool {
	t := s.tok(i)
	return t.kind == "word" && t.text[0] < 0x80 && t.text[0] >= 'A' && t.text[0] <= 'Z' && len(t.text) > 1 || t.kind == "word" && strings.ToUpper(t.text[:1]) == t.text[:1] && t.text[0] >= 0x80
}

// gapped says whether there is more than a space before a token.
func (s *scanner) gapped(i int) bool {
	return strings.TrimSpace(s.text[s.toks[i-1].end:s.toks[i].at]) != "" || strings.HasSuffix(s.toks[i-1].text, "'s") || strings.HasSuffix(s.toks[i-1].text, "’s")
}

// opens says whether a token begins a sentence.
func (s *scanner) opens(i int) bool {
	if i == 0 {
		return true
	}
	switch s.toks[i-1].text {
	case ".", "!", "?", ":", ";", "\n":
		return true
	}
	return i == 1 && s.toks[0].kind == "mark"
}

// about sets the words around a mention.
func (s *scanner) about(m *Mention) {
	before, after := -1, len(s.toks)
	for i, t := range s.toks {
		if t.end <= m.At {
			before = i
		}
		if t.at >= m.End && i < after {
			after = i
		}
	}
	i := before
	if low := s.tok(i).low; low == "is" || low == "was" || low == ":" || low == "=" || low == "are" { // the name is Ida Holm
		i--
	}
	for i >= 0 && skipped[s.toks[i].low] && s.toks[i].kind == "word" && s.toks[i].low != "about" {
		i--
	}
	if i >= 0 {
		t := s.toks[i]
		switch {
		case t.low == "than" || t.low == "least" || t.low == "most":
			m.Lead = s.tok(i-1).low + "_" + t.low
		case leads[t.low]:
			m.Lead = t.low
		case t.kind == "word" && !stop[t.low]:
			m.Left = Root(t.low)
			if prev := s.tok(i - 1); leads[prev.low] || skipped[prev.low] && leads[s.tok(i-2).low] {
				if leads[prev.low] {
					m.Lead = prev.low
				} else {
					m.Lead = s.tok(i - 2).low
				}
			}
		case t.low == "and" || t.low == "or" || t.low == "," || t.low == "&" || t.low == "-" || t.low == "–":
			m.Lead = t.low
		case t.kind == "word":
			m.Lead = ""
		}
	}
	for i := after; i < len(s.toks) && i <= after+1; i++ {
		if t := s.toks[i]; t.kind == "word" && !skipped[t.low] {
			if !stop[t.low] || t.low == "ago" {
				m.Right = Root(t.low)
			}
			break
		}
		if s.toks[i].kind == "mark" {
			break
		}
	}
}

var firstLeads = Set("from after since least at_least more_than over above between")
var lastLeads = Set("to until till before most at_most less_than fewer_than under below by within -")

// ranges marks the ends of ranges, such as from 1850 to 1859.
func (s *scanner) ranges() {
	for i := range s.out {
		m := &s.out[i]
		if m.Kind != Figure && m.Kind != Moment || m.Side != Alone {
			continue
		}
		pair := i > 0 && s.out[i-1].Kind == m.Kind && s.near(s.out[i-1].End, m.At)
		switch {
		case pair && (m.Lead == "to" || m.Lead == "until" || m.Lead == "till" || m.Lead == "-" || m.Lead == "–" || m.Lead == "and" && s.out[i-1].Lead == "between"):
			m.Side, s.out[i-1].Side = Last, First
		case pair && m.Lead == "and" && s.out[i-1].Left != "" && s.out[i-1].Lead == "between":
			m.Side, s.out[i-1].Side = Last, First
		case firstLeads[m.Lead] && m.Lead != "between":
			m.Side = First
		case lastLeads[m.Lead] && m.Lead != "by" && m.Lead != "to" && m.Lead != "-" && m.Lead != "within":
			m.Side = Last
		}
	}
}

func (s *scanner) near(from, to int) bool {
	return from <= to && len(strings.Fields(s.text[from:to])) <= 3 && !strings.ContainsAny(s.text[from:to], ".;!?\n")
}

// About sets the words around a stretch of a text: its Lead, Left and Right.
func About(text string, m *Mention) {
	s := scanner{text: text, toks: tokens(text)}
	s.about(m)
}
