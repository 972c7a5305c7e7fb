package reading

import (
	_ "embed"
	"regexp"
	"strings"
	"sync"
	"unicode/utf8"
)

// Word is one word of a text.
type Word struct {
	Text    string // as it stands
	Low     string // in lower case, without a possessive ending
	Root    string // without the endings that English adds
	At, End int
}

// tokenRE cuts a text up. Its groups are the kinds of token.
var tokenRE = regexp.MustCompile(`(?i)^(?:` +
	`(?P<quote>"[^"\n]+"|“[^”\n]+”|«[^»\n]+»)` +
	`|(?P<mail>[\w.+-]+@[\w-]+(?:\.[\w-]+)+)` +
	`|(?P<link>https?://[^\s"<>]+)` +
	`|(?P<date>\b\d{4}-\d{2}-\d{2}(?:[T ]\d{2}:\d{2}(?::\d{2})?(?:Z|[+-]\d{2}:\d{2})?)?)` +
	`|(?P<clock>\b\d{1,2}:\d{2}(?:\s?[ap]\.?m\b\.?)?|\b\d{1,2}(?:\.\d{2})?\s?[ap]\.?m\b\.?|\b\d{1,2}\s?o['’]clock)` +
	`|(?P<ordinal>\b\d{1,2}(?:st|nd|rd|th)\b)` +
	`|(?P<years>\b[12]\d{3}\s?[-–]\s?[12]\d{3}\b|\b[12]\d{2}0s\b)` +
	`|(?P<money>[€$£]\s?\d+(?:,\d{3})*(?:\.\d+)?)` +
	`|(?P<code>#\d+|\b[a-z]+[-_/.]?\d\w*(?:[-/_.]\w+)*\b|\b\d+[a-z]+\d\w*(?:[-/_.]\w+)*\b|\b\d+(?:[-/]\w+)+\b|\b[a-z]+(?:[-/]\d\w*)+(?:[-/]\w+)*\b|\b(?-i:[A-Z]{2,}[-_/][A-Z]{1,4})\b|\b(?-i:\d+[A-Z]{1,3})\b)` +
	`|(?P<number>\d+(?:,\d{3})+(?:\.\d+)?|\d+(?:[.,]\d+)?)` +
	`|(?P<word>\p{L}[\p{L}\p{N}]*(?:['’]\p{L}+)*(?:-\p{L}+)*)` +
	`|(?P<mark>[,;:.!?()&+\n%°–—-]))`)

type token struct {
	kind    string
	text    string
	low     string
	at, end int
}

var tokenKinds = tokenRE.SubexpNames()

// recent keeps the tokens of the texts that were read last: one text is read
// many times over, for its words, its clauses and what stands about each mention.
var recent struct {
	sync.Mutex
	texts  [8]string
	tokens [8][]token
	next   int
}

// tokens cuts a text up. What it gives is not to be changed.
func tokens(text string) []token {
	recent.Lock()
	for i, t := range recent.texts {
		if t == text {
			defer recent.Unlock()
			return recent.tokens[i]
		}
	}
	recent.Unlock()
	out := cut(text)
	recent.Lock()
	defer recent.Unlock()
	recent.texts[recent.next], recent.tokens[recent.next] = text, out
	recent.next = (recent.next + 1) % len(recent.texts)
	return out
}

func cut(text string) []token {
	out := make([]token, 0, len(text)/5)
	add := func(kind string, at, end int) {
		out = append(out, token{kind, text[at:end], low(text[at:end]), at, end})
	}
	for at := 0; at < len(text); {
		if text[at] == ' ' || text[at] == '\t' {
			at++
			continue
		}
		if end := plainWord(text, at); end > at { // most of a text, and quicker than the expression
			add("word", at, end)
			at = end
			continue
		}
		m := tokenRE.FindStringSubmatchIndex(text[at:])
		if m == nil {
			_, n := utf8.DecodeRuneInString(text[at:])
			at += n
			continue
		}
		for g := 1; g < len(tokenKinds); g++ {
			if m[2*g] >= 0 {
				add(tokenKinds[g], at, at+m[1])
				break
			}
		}
		at += m[1]
	}
	return out
}

// plainWord gives the end of a word of the letters a to z that nothing joins to
// what follows; at where there is none.
func plainWord(text string, at int) int {
	letter := func(i int) bool { return i < len(text) && (text[i]|0x20) >= 'a' && (text[i]|0x20) <= 'z' }
	end := at
	for letter(end) {
		end++
	}
	if end == len(text) || end > at && strings.IndexByte(" \n,;:!?()", text[end]) >= 0 && !(text[end] == ':' && end+1 < len(text) && text[end+1] == '/') {
		return end
	}
	if end > at && text[end] == '.' && (end+1 == len(text) || text[end+1] == ' ' || text[end+1] == '\n') {
		return end
	}
	return at
}

// low gives a word in lower case, without what was added by an apostrophe.
func low(w string) string {
	w = strings.ReplaceAll(strings.ToLower(w), "’", "'")
	switch w {
	case "what's", "whats":
		return "what"
	case "who's", "whos":
		return "who"
	case "where's", "wheres":
		return "where"
	case "when's", "whens":
		return "when"
	case "how's", "hows":
		return "how"
	case "don't", "dont", "doesn't", "doesnt":
		return "don't"
	}
	return strings.TrimSuffix(w, "'s")
}

// Words gives the words of a text, with codes and quoted texts among them.
func Words(text string) []Word {
	var out []Word
	for _, t := range tokens(strings.ReplaceAll(text, "_", " ")) {
		if t.kind == "word" || t.kind == "code" {
			out = append(out, Word{t.text, t.low, Root(t.low), t.at, t.end})
		}
	}
	return out
}

// Set makes a set of the words of a text.
func Set(words string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(words) {
		m[w] = true
	}
	return m
}

var stop = Set(`a an and any some all are as at be been being am but by can could did do does don't didn't for from get gets got gotten had has have having he her hers him his how i i'm i'd i'll i've if in
into is isn't it its it's just let let's like me may might my mine no not of off on one ones or our ours out over please pls plz put shall she should so such tell than thank thanks that that's the their theirs them then
there there's these they this those to too under up us use used very want wants wanted was we we're were what when where which while who whom whose will with would you you're your yours need needs also about now
ok okay still yet really actually maybe perhaps only even ever well oh hey hi hello much many how's right again via per upon between during until till since before after because whether within without
i'm won't can't cannot couldn't wouldn't wasn't aren't want wanna gonna would'nt id im ive give gives show shows see know say says says go goes going coming come comes make makes made take takes took anybody anyone somebody someone nobody everybody everyone thing things something anything everything nothing
kind sort bit lot lots way`)

// Stop says whether a word carries no meaning on its own.
func Stop(low string) bool { return stop[low] }

var endings = []string{"ations", "ation", "ings", "ing", "edly", "iest", "ier", "ies", "ied", "ments", "ment", "ers", "or", "ors", "ed", "es", "er", "ly", "s", "e", "y"}

var irregular = map[string]string{"feet": "foot", "loaves": "loaf", "shelves": "shelf", "knives": "knife", "people": "person", "persons": "person", "children": "child", "men": "man", "women": "woman",
	"mice": "mouse", "geese": "goose", "leaves": "leave", "left": "left", "lent": "lend", "sent": "send", "bought": "buy", "sold": "sell", "wrote": "write", "written": "write", "grown": "grow", "grew": "grow",
	"sown": "sow", "sowed": "sow", "lost": "lose", "found": "find", "held": "hold", "kept": "keep", "paid": "pay", "drew": "draw", "drawn": "draw", "drove": "drive", "driven": "drive", "flew": "fly", "flown": "fly",
	"ran": "run", "running": "run", "sitting": "sit", "wettest": "wet", "hotter": "hot", "taught": "teach", "broke": "break", "broken": "break", "spoke": "speak", "spoken": "speak", "stolen": "steal", "met": "meet", "meeting": "meet",
	"coming": "come", "taken": "take", "began": "begin", "begun": "begin", "opening": "open", "opens": "open", "number": "number", "numbers": "number", "letter": "letter", "letters": "letter", "weather": "weather",
	"water": "water", "waters": "water", "watering": "water", "order": "order", "orders": "order", "paper": "paper", "papers": "paper", "summer": "summer", "winter": "winter", "corner": "corner",
	"member": "member", "members": "member", "dinner": "dinner", "river": "river", "timber": "timber", "server": "server", "servers": "server", "tower": "tower", "flower": "flower", "flowers": "flower",
	"printer": "printer", "counter": "counter", "doctor": "doctor", "doctors": "doctor", "water's": "water", "whether": "whether", "copies": "copy", "day": "day", "days": "day", "say": "say", "key": "key", "keys": "key",
	"monday": "monday", "news": "news", "does": "do", "bus": "bus", "buses": "bus", "gas": "gas", "species": "species", "series": "series", "address": "address", "ring": "ring", "rings": "ring", "king": "king",
	"spring": "spring", "string": "string", "thing": "thing", "evening": "evening", "morning": "morning", "building": "building", "buildings": "building", "ceiling": "ceiling", "bed": "bed", "beds": "bed", "seed": "seed", "seeds": "seed",
	"feed": "feed", "weed": "weed", "speed": "speed", "red": "red", "shed": "shed", "sheds": "shed", "reed": "reed", "need": "need", "user": "user", "users": "user", "cost": "cost", "price": "price", "prices": "price", "prize": "prize",
	"fly": "fly", "flies": "fly", "flight": "flight", "flights": "flight", "colour": "colour", "color": "colour", "colours": "colour", "station": "station", "stations": "station", "vacation": "vacation", "ration": "ration", "nation": "nation",
	"location": "location", "locations": "location", "reservation": "reserve", "reservations": "reserve", "department": "department", "document": "document", "documents": "document", "cement": "cement", "apartment": "apartment",
	"moment": "moment", "city": "city", "cities": "city", "party": "party", "study": "study", "army": "army", "family": "family", "only": "only", "early": "early", "july": "july", "supply": "supply", "reply": "reply", "apply": "apply"}

// Root cuts the endings off that English adds, so that words of one root meet.
func Root(w string) string {
	w = low(w)
	if r, ok := irregular[w]; ok {
		if r != w {
			return Root(r)
		}
		return r
	}
	for _, end := range endings {
		if n := len(w) - len(end); n >= 3 && strings.HasSuffix(w, end) {
			if end == "s" && (w[n-1] == 's' || w[n-1] == 'u') || end == "y" && strings.ContainsRune("aeo", rune(w[n-1])) {
				continue // glass, status; day, key
			}
			w = w[:n]
			if end == "ies" || end == "ied" || end == "ier" || end == "iest" {
				w += "y"
			}
			break
		}
	}
	if n := len(w); n > 3 && w[n-1] == 'y' {
		w = w[:n-1]
	}
	if n := len(w); n > 3 && w[n-1] == w[n-2] && w[n-1] != 's' && w[n-1] != 'l' && w[n-1] != 'e' && w[n-1] != 'o' {
		w = w[:n-1]
	}
	return w
}

// Roots gives the roots of the words of a text that carry meaning, in order.
func Roots(text string) []string {
	var out []string
	for _, w := range Words(text) {
		if !stop[w.Low] && (len(w.Low) > 1 || w.Low >= "0" && w.Low <= "9") {
			out = append(out, w.Root)
		}
	}
	return out
}

//go:embed senses.txt
var sensesText string

// senses is the small thesaurus: the root of each word → the groups it is in,
// and the phrases of several words, each read as one word.
var senses = sync.OnceValue(func() (s struct {
	groups  map[string][]int
	phrases []phrase
}) {
	s.groups = map[string][]int{}
	for i, line := range strings.Split(sensesText, "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		for _, w := range strings.Fields(line) {
			words := strings.Split(w, "_")
			if len(words) > 1 {
				s.phrases = append(s.phrases, phrase{words, w})
				s.groups[w] = append(s.groups[w], i)
				continue
			}
			r := Root(w)
			s.groups[r] = append(s.groups[r], i)
		}
	}
	return s
})

type phrase struct {
	words []string
	name  string
}

// Akin says whether two roots mean nearly the same by the thesaurus.
func Akin(a, b string) bool {
	if a == b {
		return true
	}
	g := senses().groups
	for _, x := range g[a] {
		for _, y := range g[b] {
			if x == y {
				return true
			}
		}
	}
	return false
}

// Near lists the groups of meaning that a root or phrase is in.
func Near(root string) []int { return senses().groups[root] }

// Phrases finds the set phrases of a text, such as how_much, which mean more
// than their words. "…" stands for up to two words between.
func Phrases(words []Word) []string {
	var out []string
	for _, p := range senses().phrases {
		for i := range words {
			if followed(words[i:], p.words) {
				out = append(out, p.name)
				break
			}
		}
	}
	return out
}

func followed(words []Word, want []string) bool {
	at := 0
	for i, w := range want {
		if w == "…" {
			continue
		}
		gap := 0
		if i > 0 && want[i-1] == "…" {
			gap = 3
		}
		found := false
		for ; at < len(words) && gap >= 0; gap-- {
			at++
			if words[at-1].Low == w || words[at-1].Root == w {
				found = true
				break
			}
		}
		if !found {
			return false
		}
	}
	return true
}
