package understudy

import (
	"encoding/json"
	"math"
	"regexp"
	"sort"
	"strings"

	"stonebaton/core/project"
)

var wordRE = regexp.MustCompile(`[\p{L}][\p{L}\p{N}'’]*|[0-9]+(?:[.,][0-9]+)*`)

var stop = set(`a an and any are as at be been being but by can could did do does for from give get got had has have he her his how i if in
into is it its just let like me may might my no not of off on one or our out over please put shall she should so some such tell than thank thanks that the their them then
there these they this those to too under up us use used very want was we were what when where which while who whose will with would you your yours need needs also about`)

func set(words string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(words) {
		m[w] = true
	}
	return m
}

// stem cuts the endings off that English adds, so that words of one root meet.
func stem(w string) string {
	w = strings.TrimSuffix(strings.TrimSuffix(strings.ToLower(w), "'s"), "’s")
	for _, end := range []string{"ations", "ation", "ings", "ing", "edly", "ies", "ied", "ments", "ment", "ers", "ed", "es", "er", "ly", "s", "e"} {
		if n := len(w) - len(end); n >= 3 && strings.HasSuffix(w, end) {
			w = w[:n]
			if end == "ies" || end == "ied" {
				w += "y"
			}
			break
		}
	}
	if n := len(w); n > 3 && w[n-1] == w[n-2] && w[n-1] != 's' && w[n-1] != 'l' {
		w = w[:n-1]
	}
	return w
}

// stems gives the roots of the words that carry meaning.
func stems(text string) []string {
	var out []string
	for _, w := range wordRE.FindAllString(strings.ReplaceAll(text, "_", " "), -1) {
		if lw := strings.ToLower(w); !stop[lw] && len(lw) > 1 {
			out = append(out, stem(lw))
		}
	}
	return out
}

// param is one parameter of a tool.
type param struct {
	name     string
	doc      map[string]any
	required bool
}

func (p param) text(key string) string { s, _ := p.doc[key].(string); return s }

// card is what can be known of a tool from its description.
type card struct {
	project.Contract
	handoff string // whom it hands over to; "" for a tool
	params  []param
	weights map[string]float64 // root → how much it speaks for the tool
}

// Weights of a word by where it stands.
const (
	inName    = 3.0
	inSummary = 2.0
	inParam   = 1.0
	inValue   = 2.0
	aName     = 1.5 // a name was said, and the tool looks things up by name
	enough    = 2.0 // the least score of a tool that is called
)

func cards(contracts []project.Contract) []*card {
	var out []*card
	seen := map[string]int{}
	for _, c := range contracts {
		cd := &card{Contract: c, weights: map[string]float64{}}
		cd.handoff, _ = strings.CutPrefix(c.Name, project.PassPrefix)
		if cd.handoff == c.Name {
			cd.handoff = ""
		}
		add := func(text string, w float64) {
			for _, s := range stems(text) {
				cd.weights[s] = math.Max(cd.weights[s], w)
			}
		}
		summary := c.Summary
		if cd.handoff != "" {
			add(cd.handoff, inName)
			if i := strings.Index(summary, ": "); i >= 0 && strings.HasPrefix(summary, "Hand ") {
				summary = summary[i+2:]
			}
		} else {
			add(c.Name, inName)
		}
		add(summary, inSummary)
		var doc struct {
			Properties map[string]map[string]any
			Required   []string
		}
		_ = json.Unmarshal(c.Parameters, &doc) // a schema that cannot be read has no parameters
		for name, d := range doc.Properties {
			p := param{name: name, doc: d}
			for _, r := range doc.Required {
				p.required = p.required || r == name
			}
			cd.params = append(cd.params, p)
			if cd.handoff != "" {
				continue
			}
			add(name+" "+p.text("description"), inParam)
			if values, ok := d["enum"].([]any); ok {
				for _, v := range values {
					if s, ok := v.(string); ok {
						add(s, inValue)
					}
				}
			}
		}
		sort.Slice(cd.params, func(i, j int) bool {
			return order(c.Parameters, cd.params[i].name) < order(c.Parameters, cd.params[j].name)
		})
		for s := range cd.weights {
			seen[s]++
		}
		out = append(out, cd)
	}
	// a word that every tool has speaks for none
	for _, cd := range out {
		for s := range cd.weights {
			if n := seen[s]; n > 1 {
				cd.weights[s] *= math.Max(0.25, 1-float64(n-1)/float64(len(out)))
			}
		}
	}
	return out
}

// order gives where a parameter comes: required ones as they are listed, then
// the rest by name.
func order(schema json.RawMessage, name string) string {
	var doc struct{ Required []string }
	_ = json.Unmarshal(schema, &doc) // see cards
	for i, r := range doc.Required {
		if r == name {
			return string(rune('0'+i)) + name
		}
	}
	return "~" + name
}

// score says how much a clause speaks for a tool. A word beside a figure says
// what the figure is rather than what is wanted, so it counts for less.
func (c *card) score(words []string, beside map[string]bool) float64 {
	total := 0.0
	used := map[string]bool{}
	for _, w := range words {
		if used[w] {
			continue
		}
		used[w] = true
		part := 1.0
		if beside[w] {
			part = 0.4
		}
		if v, ok := c.weights[w]; ok {
			total += v * part
			continue
		}
		for s, v := range c.weights { // a long common beginning is a weak sign
			if len(w) > 4 && len(s) > 4 && (strings.HasPrefix(s, w[:5]) || strings.HasPrefix(w, s[:5])) {
				total += v / 2 * part
				break
			}
		}
	}
	return total
}

// clauses splits a request into what it asks for, one after another.
func clauses(text string) []string {
	var out []string
	for _, s := range splitRE.Split(text, -1) {
		if s = strings.TrimSpace(s); s != "" {
			out = append(out, s)
		}
	}
	return out
}

var splitRE = regexp.MustCompile(`(?i)(?:[.;!?]\s+|[.;!?]$|,?\s+(?:and )?then\s+|,?\s+and\s+(?:please\s+|also\s+)?(?:tell|say|give|show|find|look|work|reserve|book|send|write|list|check|what|when|how|calculate|assign|reckon|hand|cancel|ask)\b\s*)`)

// besides gives the roots of the words that say what a figure is: the one
// before it, and the one after it where some parameter is named by it.
func (th *thought) besides(text string) map[string]bool {
	named := map[string]bool{}
	for _, c := range th.cards {
		for _, p := range c.params {
			for _, w := range stems(p.name) {
				named[w] = true
			}
		}
	}
	out := map[string]bool{}
	for _, n := range numbers(text) {
		if n.next != "" {
			out[n.next] = true
		}
		for _, w := range headOf(n.after, 2) {
			if named[w] {
				out[w] = true
			}
		}
	}
	return out
}
