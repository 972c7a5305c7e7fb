package reading

import (
	"slices"
	"strings"
)

// Mood says what a clause does.
type Mood string

// The moods of a clause.
const (
	Telling Mood = "telling" // says how things are: I lost my umbrella
	Asking  Mood = "asking"  // when does it open?
	Bidding Mood = "bidding" // order two; could you order two?
)

// Clause is one part of a request.
type Clause struct {
	At, End  int
	Text     string
	Mood     Mood
	Question string // the question word or set phrase: who, when, how many; "whether" for yes or no
	Verb     string // the root of the verb of a bidding clause
	Negated  bool   // says what is not to be done
	If       string // only if this holds; "" for always
	Unless   bool   // If says when it is not to be done
	IfAt     int    // where If stands
}

// Clauses cuts a text into what it asks for, one after another.
func Clauses(text string) []Clause {
	toks := tokens(text)
	var out []Clause
	from := 0
	cut := func(to int) {
		if c, ok := sentence(text, toks[from:to]); ok {
			out = append(out, c...)
		}
	}
	for i := 0; i < len(toks); i++ {
		t := toks[i]
		if t.kind == "mark" && (t.text == "." || t.text == "!" || t.text == "?" || t.text == ";" || t.text == "\n") && !abbreviation(toks, i) {
			cut(i + 1)
			from = i + 1
		}
	}
	cut(len(toks))
	return out
}

func abbreviation(toks []token, i int) bool {
	return toks[i].text == "." && i > 0 && slices.Contains([]string{"mr", "mrs", "ms", "dr", "st", "no", "nr", "approx", "e.g", "i.e"}, toks[i-1].low) && toks[i-1].end == toks[i].at
}

// sentence takes the condition out of a sentence, then cuts what is left.
func sentence(text string, toks []token) ([]Clause, bool) {
	for len(toks) > 0 && toks[0].kind == "mark" {
		toks = toks[1:]
	}
	if len(toks) == 0 {
		return nil, false
	}
	end := toks[len(toks)-1]
	asks := end.text == "?"
	for len(toks) > 0 && toks[len(toks)-1].kind == "mark" {
		toks = toks[:len(toks)-1]
	}
	if len(toks) == 0 {
		return nil, false
	}
	cond, unless := "", false
	condAt := 0
	for i := range toks {
		n := conditional(toks, i)
		if n == 0 {
			continue
		}
		unless = toks[i].low == "unless"
		if i == 0 { // if A, B
			for k := n; k < len(toks); k++ {
				if k > n && (toks[k].text == "," || toks[k].low == "then") {
					cond, condAt = text[toks[n].at:toks[k-1].end], toks[n].at
					toks = toks[k+1:]
					break
				}
				if k > n+1 && verbs[toks[k].low] && k+1 < len(toks) && !leads[toks[k-1].low] && toks[k-1].low != "to" && commanded(toks[k+1]) {
					cond, condAt = text[toks[n].at:toks[k-1].end], toks[n].at
					toks = toks[k:]
					break
				}
			}
		} else if i+n < len(toks) { // B if A
			cond, condAt = text[toks[i+n].at:toks[len(toks)-1].end], toks[i+n].at
			toks = toks[:i]
			for len(toks) > 0 && (toks[len(toks)-1].kind == "mark" || slices.Contains([]string{"but", "and", "only", "please"}, toks[len(toks)-1].low)) {
				toks = toks[:len(toks)-1]
			}
		}
		break
	}
	if len(toks) == 0 {
		return nil, false
	}
	var out []Clause
	from := 0
	for i := 1; i <= len(toks); i++ {
		skip := 0
		if i < len(toks) {
			if skip = joint(toks, i); skip == 0 {
				continue
			}
		}
		if c, ok := clause(text, toks[from:i], asks && i == len(toks)); ok {
			c.If, c.Unless, c.IfAt = cond, unless, condAt
			out = append(out, c)
		}
		from = i + skip
		i = from
	}
	if cond != "" && len(out) > 1 { // B if A belongs to what stands beside it; if A, B holds for all
		if condAt > out[len(out)-1].At {
			for i := range out[:len(out)-1] {
				out[i].If, out[i].Unless = "", false
			}
		}
	}
	return out, len(out) > 0
}

// conditional gives how many tokens an if is at i; 0 where there is none, or
// where it stands for whether.
func conditional(toks []token, i int) int {
	at := func(k int) string {
		if i+k >= 0 && i+k < len(toks) {
			return toks[i+k].low
		}
		return ""
	}
	switch at(0) {
	case "if":
		if slices.Contains([]string{"check", "see", "know", "tell", "me", "ask", "wonder", "sure", "out", "us", "as", "test", "verify", "remember"}, at(-1)) {
			return 0
		}
		return 1
	case "unless":
		return 1
	case "as":
		if at(1) == "long" && at(2) == "as" {
			return 3
		}
	case "provided":
		if at(1) == "that" {
			return 2
		}
		return 1
	}
	return 0
}

var questionWords = Set("what when where which who whom whose how why is are was were do does did can could will would has have should may am")

var fillers = Set("please also just maybe kindly quickly then now and so but can could would will you to ok okay well only")

// joint gives how many tokens join two clauses at i: a comma, "and then" and
// the like before a verb or a question.
func joint(toks []token, i int) int {
	k := i
	strong := false
	for k < len(toks) {
		low := toks[k].low
		switch {
		case low == "then" || low == "afterwards" || low == "afterward" || low == "but":
			strong = true
		case low == "after" && k+1 < len(toks) && toks[k+1].low == "that":
			strong = true
			k++
		case low == "and" || low == "," || low == "plus" && k > i || low == "–" || low == "—":
		default:
			goto found
		}
		k++
	}
found:
	if k == i || k >= len(toks) {
		return 0
	}
	joined := k - i
	for k < len(toks) && fillers[toks[k].low] {
		k++
	}
	if k >= len(toks) {
		return 0
	}
	if strong {
		return joined
	}
	t := toks[k]
	next := token{}
	if k+1 < len(toks) {
		next = toks[k+1]
	}
	switch {
	case next.kind == "mail" && k+2 >= len(toks):
		return 0 // "mail ida@post.example" says where to
	case verbs[t.low] && commanded(next):
		return joined
	case questionWords[t.low] && slices.Contains([]string{"what", "when", "where", "which", "who", "how", "why", "whose", "is", "are", "do", "does", "will", "can", "did"}, t.low):
		return joined
	case t.low == "don't" || t.low == "do" && next.low == "not":
		return joined
	case (t.low == "i" || t.low == "i'd" || t.low == "i'll" || t.low == "let") && next.kind == "word":
		return joined
	case !verbs[t.low] || slices.Contains([]string{"is", "are", "was", "were"}, next.low):
		return 0
	case next.kind == "word" && next.text[0] >= 'A' && next.text[0] <= 'Z':
		return joined
	case next.kind == "word" && (verbs[toks[0].low] || fillers[toks[0].low]) && !leads[next.low] && next.low != "please" && next.low != "and" && next.low != "or":
		return joined
	}
	return 0
}

// commanded says whether a token can follow a verb that bids.
func commanded(t token) bool {
	switch t.kind {
	case "number", "code", "quote", "mail", "money":
		return true
	}
	return slices.Contains([]string{"the", "a", "an", "my", "our", "his", "her", "their", "it", "them", "me", "us", "him", "all", "any", "some", "that", "this", "these", "those", "one", "what", "when", "who", "how", "if", "whether", "up", "out", "back", "another", "each", "both", "everything", "two", "three", "four", "five", "six"}, t.low)
}

// openers are words that stand before what is wanted.
var openers = Set("please pls plz hi hello hey ok okay so well and but also then now sorry thanks great good right just kindly quickly oh maybe perhaps actually no yes oops wait cheers fine instead")

var wishes = [][]string{{"can", "you"}, {"could", "you"}, {"would", "you"}, {"will", "you"}, {"can", "i"}, {"could", "i"}, {"may", "i"}, {"can", "we"}, {"could", "we"}, {"i", "want", "to"}, {"i", "need", "to"}, {"i'd", "like", "to"}, {"i", "would", "like", "to"},
	{"i", "have", "to"}, {"we", "need", "to"}, {"we", "want", "to"}, {"we'd", "like", "to"}, {"i", "wanna"}, {"let", "me"}, {"let's"}, {"go", "ahead", "and"}, {"help", "me", "to"}, {"help", "me"}, {"you", "should"}, {"would", "you", "mind"}, {"i'd", "like", "you", "to"}, {"i", "want", "you", "to"},
	{"is", "it", "possible", "to"}, {"you", "can"}, {"do", "me", "a", "favour", "and"}, {"make", "sure", "to"}, {"i", "wish", "to"}, {"we", "have", "to"}, {"i", "must"}, {"want", "to"}, {"need", "to"}}

// starts says how many tokens some words are at the start of others, with
// words such as only between them; 0 where they do not stand there.
func starts(toks []token, words []string) int {
	at := 0
	for i, w := range words {
		for i > 0 && at < len(toks) && slices.Contains([]string{"only", "just", "also", "really", "please", "kindly"}, toks[at].low) {
			at++
		}
		if at >= len(toks) || toks[at].low != w {
			return 0
		}
		at++
	}
	return at
}

// clause reads one clause.
func clause(text string, toks []token, asks bool) (Clause, bool) {
	for len(toks) > 0 && (toks[0].kind == "mark" || toks[len(toks)-1].kind == "mark" && toks[len(toks)-1].text != "%") {
		if toks[0].kind == "mark" {
			toks = toks[1:]
		} else {
			toks = toks[:len(toks)-1]
		}
	}
	if len(toks) == 0 {
		return Clause{}, false
	}
	c := Clause{At: toks[0].at, End: toks[len(toks)-1].end, Mood: Telling}
	c.Text = text[c.At:c.End]
	rest := toks
	wish := false
	for again := true; again && len(rest) > 1; {
		again = false
		if rest[0].kind == "mark" || openers[rest[0].low] {
			rest, again = rest[1:], true
			continue
		}
		for _, w := range wishes {
			if n := starts(rest, w); n > 0 && len(rest) > n {
				rest, again, wish = rest[n:], true, true
				break
			}
		}
	}
	first := rest[0]
	second := ""
	if len(rest) > 1 {
		second = rest[1].low
	}
	switch {
	case first.low == "don't" || first.low == "never" || first.low == "do" && second == "not" || first.low == "not" && !asks && verbs[second]:
		c.Negated, c.Mood = true, Bidding
		for len(rest) > 1 && slices.Contains([]string{"don't", "never", "do", "not"}, rest[0].low) {
			rest = rest[1:]
		}
		c.Verb = Root(rest[0].low)
	case slices.Contains([]string{"what", "when", "where", "which", "who", "whom", "whose", "why", "how"}, first.low):
		c.Mood, c.Question = Asking, first.low
		if first.low == "how" && second != "" {
			c.Question = "how " + second
		}
		if first.low == "how" && second == "about" || first.low == "what" && second == "about" {
			c.Question = ""
		}
	case (verbs[first.low] || wish && first.kind == "word" || first.kind == "word" && determiners[second] && !stop[first.low] && !questionWords[first.low]) && !(asks && !wish && slices.Contains([]string{"have", "do"}, first.low)):
		c.Mood, c.Verb = Bidding, Root(first.low)
		if slices.Contains([]string{"tell", "show", "give", "let", "say", "see", "know", "check", "ask", "find", "get", "need", "look"}, first.low) { // tell me when …
			for k := 1; k < len(rest) && k <= 4; k++ {
				w := rest[k].low
				if slices.Contains([]string{"what", "when", "where", "which", "who", "how", "why", "whose"}, w) {
					c.Mood, c.Question = Asking, w
					if w == "how" && k+1 < len(rest) {
						c.Question = "how " + rest[k+1].low
					}
					break
				}
				if w == "if" || w == "whether" {
					c.Mood, c.Question = Asking, "whether"
					break
				}
			}
		}
	case questionWords[first.low]:
		c.Mood, c.Question = Asking, "whether"
	case asks:
		c.Mood, c.Question = Asking, "whether"
	}
	if c.Mood == Telling || c.Question == "whether" { // the letters, how many …; and till when is it open
		for k, t := range rest {
			if k > 0 && k < 4 && (t.low == "how" && k+1 < len(rest) && (rest[k+1].low == "many" || rest[k+1].low == "much" || rest[k+1].low == "long") || t.low == "when" || t.low == "which" || t.low == "who" || t.low == "where" || t.low == "what") && leads[rest[k-1].low] {
				c.Mood, c.Question = Asking, t.low
				if t.low == "how" {
					c.Question = "how " + rest[k+1].low
				}
				break
			}
		}
	}
	return c, true
}

// Chunks finds the words of a stretch of a text that belong together and are
// none of its mentions, nor of those to skip: green umbrella, beans, peas.
func Chunks(text string, from, to int, taken []Mention, skip func(Word) bool) []Mention {
	s := scanner{text: text, toks: tokens(text)}
	inside := func(t token) bool {
		for _, m := range taken {
			if t.at < m.End && m.At < t.end {
				return true
			}
		}
		return false
	}
	wordlike := func(t token) bool {
		return t.kind == "word" && t.at >= from && t.end <= to && !inside(t) && !stop[t.low] && !openers[t.low] && len(t.text) > 1
	}
	for i := 0; i < len(s.toks); i++ {
		if !wordlike(s.toks[i]) {
			continue
		}
		j := i
		for j < len(s.toks) && wordlike(s.toks[j]) {
			j++
		}
		last := j
		// what is skipped is cut off at both ends
		a, b := i, j
		for a < b && skip(word(s.toks[a])) {
			a++
		}
		for a < b && skip(word(s.toks[b-1])) {
			b--
		}
		if a < b {
			s.add(Mention{Kind: Chunk}, a, b)
			s.about(&s.out[len(s.out)-1])
		}
		i = last
	}
	return s.out
}

func word(t token) Word { return Word{t.text, t.low, Root(t.low), t.at, t.end} }

// After gives what follows a marker of a quoted text: a colon, that, saying.
// The words before the marker are held against about, when it is given.
func After(text string, from, to int) (string, int, bool) {
	toks := tokens(text)
	for i, t := range toks {
		if t.at < from || t.end > to || i+1 >= len(toks) || toks[i+1].end > to {
			continue
		}
		ok := t.text == ":" || t.low == "saying" || t.low == "says" || t.low == "reads" || t.low == "reading"
		ok = ok || t.low == "that" && i > 0 && (toks[i-1].kind == "mail" || toks[i-1].kind == "word") && !stop[toks[i-1].low] && i > 1 && i+2 < len(toks) || t.low == "that" && i > 1 && i+2 < len(toks) && slices.Contains([]string{"know", "say", "says", "him", "her", "them", "me", "us"}, toks[i-1].low)
		if ok {
			rest := strings.TrimSpace(text[toks[i+1].at:to])
			return strings.Trim(rest, "\"“” ."), toks[i+1].at, rest != ""
		}
	}
	return "", 0, false
}
