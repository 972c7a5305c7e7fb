package understudy

import (
	"encoding/json"
	"math"
	"regexp"
	"slices"
	"sort"
	"strings"

	"stonebaton.example/core/project"
	"stonebaton.example/core/reading"
)

// card is what can be known of a tool from its description.
type card struct {
	project.Contract
	verbs   map[string]bool // the roots of the verbs that its name and its summary begin with
	verb    string          // the root of the first word of its name, or of its summary
	handoff string          // whom it hands over to, or asks; "" for a tool
	consult bool            // it asks
	pass    string          // of a consult: the handoff to the same agent; "" where there is none
	fields  []*param        // of a consult: what it takes beside the question
	writes  bool            // by its verb it changes something
	params  []*param
	roots   map[string]float64 // root → how much it speaks for the tool
	spread  map[int]string     // group of meaning → the root of the tool that is in it
	values  map[string]bool    // the values that its parameters allow, in lower case
	marks   map[string]mark    // root → where it stands
	known   bool               // what its result holds is known
}

// role says what sort of text a parameter takes.
type role string

const (
	aNoun   role = "thing"
	aCode   role = "code"
	aPerson role = "person"
	aPlace  role = "place"
	aText   role = "text" // words of the person, such as a message
	aDay    role = "day"
	aMoment role = "moment"
	aClock  role = "time of day"
	aMail   role = "mail address"
	aLink   role = "link"
)

// mark says where a root stands in a description.
type mark uint8

const (
	ofName mark = 1 << iota
	ofSummary
	ofParam      // the name of a parameter
	ofValue      // a value that a parameter allows
	ofResult     // a field of the result
	ofResultText // what is said of such a field
)

func (c *card) mark(text string, m mark) {
	for _, r := range reading.Roots(text) {
		c.marks[r] |= m
	}
}

// has says whether a root stands at one of some places of the description.
func (c *card) has(root string, at mark) bool { return c.marks[root]&at != 0 }

// param is one parameter of a tool.
type param struct {
	name      string
	kind      string // its JSON type
	desc      string
	required  bool
	only      any // the one value that is allowed; nil for none
	format    string
	low, high float64 // its bounds; infinite for none
	enum      []any
	items     *param          // of an array
	listed    bool            // it is the item of one
	label     map[string]bool // roots of its name
	about     map[string]bool // and of its description
	unit      string
	role      role
	side      reading.Side
	pattern   *regexp.Regexp
	letters   string // that the example code begins with
	shape     string // of the example code that its description gives: KX-12 is AA-9
	plain     bool   // its example is digits alone
}

// Weights of a word by where it stands in a description.
const (
	inName    = 3.0
	inSummary = 2.0
	inParam   = 1.0
	inValue   = 1.2
)

var (
	firstNames = reading.Set("from start starts begin begins arrives arrival arriving since after earliest min minimum first check_in checkin origin source low lower old pickup")
	lastNames  = reading.Set("departure departs departing to end ends until till leaves leaving before latest max maximum last check_out checkout destination target into high upper new due return_date up")
	textNames  = reading.Set("message text body note comment reason subject title description content contents question because remark feedback details detail problem summary query_text words_said instructions saying what_happened")
	codeNames  = reading.Set("id code reference ref sku key mark serial barcode isbn plate iban")
	dayNamed   = reading.Set("day date night when")
)

var (
	personRoots = roots("person customer member patient guest name user borrower author writer owner recipient employee assignee driver teacher student client contact passenger attendee host guide friend player colleague doctor sender reader keeper tenant composer singer director speaker leader artist painter manager coach trainer editor buyer seller visitor mechanic chef conductor pupil manufacturer supplier founder volunteer worker")
	placeRoots  = roots("place city town station location address origin destination country street port village airport stop region area site")
)

func roots(words string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(words) {
		m[reading.Root(w)] = true
	}
	return m
}

func rootSet(text string) map[string]bool {
	m := map[string]bool{}
	for _, r := range reading.Roots(text) {
		m[r] = true
	}
	return m
}

// asks are question words that say something about a tool when they stand in its summary.
var asks = []string{"who", "whom", "when", "where", "how many", "how much", "how long", "how far", "how old"}

// useRE finds where a summary says when its tool is of use: that is not what the tool tells.
var useRE = regexp.MustCompile(` when (?:asked|(?:somebody|someone|anybody|anyone|people|a person|they|you|it is) (?:asks?|asked|wants?|wishes|needs?)) `)

// undoes are verbs of tools that take something away: nobody means them who
// does not say so.
var undoes = roots("cancel refund delete remove release revoke drop erase discard withdraw close stop end clear reset undo reject decline terminate uninstall unsubscribe void")

// cards reads the descriptions of an agent's tools. Results holds what is known
// of their results, by tool.
func cards(contracts []project.Contract, results map[string]map[string]any) []*card {
	var out []*card
	seen := map[string]int{}
	for _, c := range contracts {
		if c.Name == project.AskPerson {
			continue // it is how a question is put, not what one does
		}
		out = append(out, newCard(c, results[c.Name]))
	}
	out = oneWay(out)
	for _, cd := range out {
		for r := range cd.roots {
			seen[r]++
		}
	}
	// a word that every tool has speaks for none
	n := float64(len(out))
	for _, cd := range out {
		for r, w := range cd.roots {
			if len(out) > 1 {
				w *= math.Max(0.2, math.Log(1+n/float64(seen[r]))/math.Log(1+n))
			}
			cd.roots[r] = w
			for _, g := range reading.Near(r) {
				if old, ok := cd.spread[g]; !ok || cd.roots[old] < w || cd.roots[old] == w && r < old {
					cd.spread[g] = r
				}
			}
		}
	}
	return out
}

func newCard(c project.Contract, result map[string]any) *card {
	cd := &card{Contract: c, roots: map[string]float64{}, spread: map[int]string{}, marks: map[string]mark{}, values: map[string]bool{}, known: len(result) > 0}
	if h, ok := strings.CutPrefix(c.Name, project.PassPrefix); ok {
		cd.handoff = h
	}
	if h, ok := strings.CutPrefix(c.Name, project.ConsultPrefix); ok {
		cd.handoff, cd.consult = h, true
		var doc map[string]any
		_ = json.Unmarshal(c.Parameters, &doc) // a schema that cannot be read has no parameters
		cd.fields = slices.DeleteFunc(params(doc), func(p *param) bool { return p.name == project.Question })
	}
	add := func(text string, w float64) {
		for _, r := range reading.Roots(text) {
			cd.roots[r] = math.Max(cd.roots[r], w)
		}
	}
	summary := c.Summary
	name := spaced(c.Name)
	if cd.handoff != "" {
		name = spaced(cd.handoff)
		if i := strings.Index(summary, ": "); i >= 0 && (strings.HasPrefix(summary, "Hand ") || strings.HasPrefix(summary, "Ask ")) {
			summary = summary[i+2:]
		}
	}
	add(name, inName)
	add(summary, inSummary)
	low := " " + strings.Join(strings.FieldsFunc(strings.ToLower(summary), func(r rune) bool { return strings.ContainsRune(" .,;:()?!", r) }), " ") + " "
	low = useRE.ReplaceAllString(low, " ")
	for _, q := range asks {
		if strings.Contains(low, " "+q+" ") {
			cd.roots[strings.ReplaceAll(strings.Replace(q, "whom", "who", 1), " ", "_")] = inSummary
		}
	}
	for _, p := range reading.Phrases(reading.Words(summary)) {
		cd.roots[p] = math.Max(cd.roots[p], inSummary)
	}
	cd.mark(name, ofName)
	cd.mark(exampleRE.ReplaceAllString(summary, ""), ofSummary)
	cd.verbs = map[string]bool{}
	for _, t := range []string{name, summary} {
		if w := strings.Fields(strings.ToLower(t)); len(w) > 0 {
			for i, v := range w { // locks or unlocks
				if v = strings.Trim(v, ".,;"); i == 0 || i == 2 && (w[1] == "or" || w[1] == "and") {
					if reading.Verb(v) || reading.Verb(strings.TrimSuffix(v, "s")) || reading.Verb(strings.TrimSuffix(v, "es")) {
						cd.verbs[reading.Root(v)] = true
					}
				}
			}
		}
	}
	if w := strings.Fields(strings.ToLower(name) + " " + strings.ToLower(summary)); len(w) > 0 {
		if cd.verb = reading.Root(w[0]); !reading.Verb(w[0]) {
			cd.verb = reading.Root(strings.Trim(strings.Fields(strings.ToLower(summary) + " .")[0], ".,"))
		}
	}
	cd.writes = cd.handoff == "" && writes(c.Name, summary)
	for k, d := range schemaKeys(result) {
		for _, r := range reading.Roots(spaced(k)) {
			cd.marks[r] |= ofResult
			cd.roots[r] = math.Max(cd.roots[r], inParam)
		}
		desc, _ := d["description"].(string)
		for _, r := range reading.Roots(exampleRE.ReplaceAllString(desc, "")) {
			cd.marks[r] |= ofResultText
			cd.roots[r] = math.Max(cd.roots[r], inParam)
		}
	}
	if cd.handoff != "" {
		return cd
	}
	var doc map[string]any
	_ = json.Unmarshal(c.Parameters, &doc) // a schema that cannot be read has no parameters
	cd.params = params(doc)
	for _, p := range cd.params {
		add(spaced(p.name)+" "+exampleRE.ReplaceAllString(p.desc, ""), inParam)
		for _, v := range append(append([]any{}, p.enum...), p.itemEnum()...) {
			if s, ok := v.(string); ok {
				add(s, inValue)
				cd.values[strings.ToLower(s)] = true
				for r := range rootSet(s) {
					cd.marks[r] |= ofValue
				}
			}
		}
		for r := range p.label {
			cd.marks[r] |= ofParam
		}
	}
	return cd
}

// spaced gives a name in words: find_berth and findBerth are "find berth".
func spaced(name string) string {
	var b strings.Builder
	for i, r := range name {
		if i > 0 && r >= 'A' && r <= 'Z' && name[i-1] >= 'a' && name[i-1] <= 'z' {
			b.WriteByte(' ')
		}
		if r == '_' || r == '-' || r == '.' || r == '/' {
			r = ' '
		}
		b.WriteRune(r)
	}
	return b.String()
}

// nameWords gives the words of a name in lower case; at least one, which may be empty.
func nameWords(name string) []string {
	if w := strings.Fields(strings.ToLower(spaced(name))); len(w) > 0 {
		return w
	}
	return []string{""}
}

func schemaKeys(doc map[string]any) map[string]map[string]any {
	out := map[string]map[string]any{}
	if items, ok := doc["items"].(map[string]any); ok {
		for k, v := range schemaKeys(items) {
			out[k] = v
		}
	}
	props, _ := doc["properties"].(map[string]any)
	for k, v := range props {
		d, _ := v.(map[string]any)
		out[k] = d
		for k2, v2 := range schemaKeys(d) {
			if out[k2] == nil {
				out[k2] = v2
			}
		}
	}
	return out
}

// params lists the parameters of a schema: the required ones as they are
// listed, then the rest by name.
func params(doc map[string]any) []*param {
	props, _ := doc["properties"].(map[string]any)
	var need []string
	list, _ := doc["required"].([]any)
	for _, r := range list {
		if s, ok := r.(string); ok {
			need = append(need, s)
		}
	}
	var out []*param
	for name, v := range props {
		d, _ := v.(map[string]any)
		p := newParam(name, d)
		p.required = slices.Contains(need, name)
		out = append(out, p)
	}
	place := func(p *param) int {
		if i := slices.Index(need, p.name); i >= 0 {
			return i
		}
		return len(need)
	}
	sort.Slice(out, func(i, j int) bool {
		if a, b := place(out[i]), place(out[j]); a != b {
			return a < b
		}
		return out[i].name < out[j].name
	})
	return out
}

var (
	exampleRE = regexp.MustCompile(`(?i)(?:such as|e\.g\.,?|for example,?|like|example:)\s+"?([\w/#.-]*\w)"?(?:[ \w]*)`)
	isoDayRE  = regexp.MustCompile(`\d{4}-\d{2}-\d{2}|(?i:yyyy-mm-dd)`)
)

func newParam(name string, d map[string]any) *param {
	p := &param{name: name, only: d["const"], low: math.Inf(-1), high: math.Inf(1), label: rootSet(spaced(name)), about: map[string]bool{}}
	p.desc, _ = d["description"].(string)
	p.about = rootSet(p.desc)
	p.format, _ = d["format"].(string)
	if pat, _ := d["pattern"].(string); pat != "" {
		p.pattern, _ = regexp.Compile(pat)
	}
	for _, k := range []string{"minimum", "exclusiveMinimum"} {
		if v, ok := d[k].(float64); ok {
			p.low = v
		}
	}
	for _, k := range []string{"maximum", "exclusiveMaximum"} {
		if v, ok := d[k].(float64); ok {
			p.high = v
		}
	}
	p.kind, _ = d["type"].(string)
	if kinds, ok := d["type"].([]any); ok {
		for _, k := range kinds {
			if s, _ := k.(string); s != "null" && p.kind == "" {
				p.kind = s
			}
		}
	}
	p.enum, _ = d["enum"].([]any)
	if items, ok := d["items"].(map[string]any); ok {
		p.items = newParam(name, items)
		p.items.listed = true
		if p.items.desc == "" {
			p.items.desc, p.items.about = p.desc, p.about
			p.items.setRole()
		}
	}
	words := nameWords(name)
	for _, w := range words {
		switch {
		case firstNames[w] && p.side == reading.Alone:
			p.side = reading.First
		case lastNames[w]:
			p.side = reading.Last
		}
	}
	if p.unit = reading.Unit(words[len(words)-1]); len(words) == 1 && len(name) < 3 || slices.Contains([]string{"year", "month", "day", "night", "week", "degree"}, words[len(words)-1]) {
		p.unit = ""
	}
	if p.unit == "" && (p.kind == "number" || p.kind == "integer") {
		for _, w := range reading.Words(p.desc) {
			if u := reading.Unit(w.Low); u != "" && len(w.Low) > 2 && u != "year" && u != "month" {
				p.unit = u
				break
			}
		}
	}
	if p.unit != "" {
		for _, w := range words {
			if len(words) > 1 && reading.Unit(w) == p.unit {
				delete(p.label, reading.Root(w))
			}
		}
	}
	p.setRole()
	return p
}

// setRole finds what sort of text a parameter takes.
func (p *param) setRole() {
	if p.kind != "" && p.kind != "string" {
		return
	}
	words := nameWords(p.name)
	last := words[len(words)-1]
	if m := exampleRE.FindStringSubmatch(p.desc); m != nil && strings.ContainsAny(m[1], "0123456789") {
		p.shape = shapeOf(m[1])
		p.letters = lettersOf(m[1])
		p.plain = strings.Trim(m[1], "0123456789") == ""
	}
	format := p.format
	first := strings.ToLower(strings.SplitN(p.desc, " ", 2)[0])
	switch {
	case format == "date-time":
		p.role = aMoment
	case format == "date", p.pattern != nil && p.pattern.MatchString("2026-05-04") && !p.pattern.MatchString("x"):
		p.role = aDay
	case format == "time", p.pattern != nil && p.pattern.MatchString("08:30") && !p.pattern.MatchString("x"):
		p.role = aClock
	case format == "email", last == "email" || last == "mail":
		p.role = aMail
	case format == "uri" || format == "url", last == "url" || last == "link":
		p.role = aLink
	case p.pattern != nil && !p.pattern.MatchString("words of any kind"):
		p.role = aCode
	case isoDayRE.MatchString(p.desc), dayNamed[last] && p.shape == "":
		p.role = aDay
	case p.shape == "99:99":
		p.role = aClock
	case p.shape != "", codeNames[last], last == "number" || last == "no":
		p.role = aCode
	case textNames[last], strings.Contains(strings.ToLower(p.desc), "in words"), strings.Contains(strings.ToLower(p.desc), "what the message"):
		p.role = aText
	case first == "who", first == "whom":
		p.role = aPerson
	case first == "code" || first == "id" || first == "reference", strings.HasPrefix(strings.ToLower(p.desc), "number of the"):
		p.role = aCode
	case first == "where", first == "station", first == "town", first == "city", first == "place":
		p.role = aPlace
	case some(p.label, personRoots):
		p.role = aPerson
	case some(p.label, placeRoots), p.name == "from" || p.name == "to":
		p.role = aPlace
	case first == "name":
		p.role = aNoun
		for r := range p.about {
			if r != reading.Root("name") && personRoots[r] {
				p.role = aPerson
			}
		}
	default:
		p.role = aNoun
	}
}

func some(a, b map[string]bool) bool {
	for k := range a {
		if b[k] {
			return true
		}
	}
	return false
}

// shapeOf gives the shape of a code: letters are A, digits are 9.
func shapeOf(s string) string {
	var b strings.Builder
	last := rune(0)
	for _, r := range s {
		c := r
		switch {
		case r >= '0' && r <= '9':
			c = '9'
		case r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z':
			c = 'A'
		}
		if c != last || c != '9' && c != 'A' {
			b.WriteRune(c)
		}
		last = c
	}
	if s := b.String(); s == "9:9" {
		return "99:99"
	}
	return b.String()
}

func lettersOf(code string) string {
	i := strings.IndexFunc(code, func(r rune) bool { return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') })
	if i < 0 {
		return code
	}
	return code[:i]
}

func (p *param) itemEnum() []any {
	if p.items != nil {
		return p.items.enum
	}
	return nil
}

var readVerbs = roots("find get list look search tell show check count read fetch query describe report compute calculate work reckon convert translate estimate lookup status rotate compare say explain see view retrieve return provide display suggest recommend sum measure test rank know answer quote encode decode encrypt decrypt round format validate determine inspect track preview")

// nounFirstRE finds summaries that begin with a noun that is a verb elsewhere.
var nounFirstRE = regexp.MustCompile(`(?i)^\w+ (?:number|numbers|of|and|name|date|dates|status|level|levels|list|details|history|is|are|on|in|at|per)\b`)

// changes are the verbs that begin the names of tools that change something.
var changes = reading.Set("set add create delete remove update send cancel put start stop open close make write post upload register assign restart move change pay lock unlock turn reset submit approve reject grant revoke order book reserve lend rent")

var reportsRE = regexp.MustCompile(`(?i)^(report|record|log|register)\b`)

// writes says whether a tool changes something, by the verb of its summary or name.
func writes(name, summary string) bool {
	words := nameWords(name)
	first := strings.Fields(strings.ToLower(summary) + " .")[0]
	first = strings.Trim(first, ".,;:")
	root := reading.Root(first)
	switch {
	case first == "give" || first == "gives":
		return !regexp.MustCompile(`(?i)^gives? (?:the|a|an|all|one|back|its|details|information|whole)\b`).MatchString(summary) || reading.Verb(words[0]) && !readVerbs[reading.Root(words[0])] && words[0] != "get"
	case reportsRE.MatchString(summary) && !strings.HasPrefix(strings.ToLower(summary), "report the"):
		return true
	case readVerbs[root]:
		return reading.Verb(words[0]) && !readVerbs[reading.Root(words[0])] && slices.Contains([]string{"set", "add", "create", "delete", "remove", "update", "send", "cancel"}, words[0])
	case len(strings.Fields(summary)) > 1 && slices.Contains([]string{"a", "an", "the"}, strings.ToLower(strings.Fields(summary)[1])) && !reading.Stop(first):
		return true // hang a work
	case (reading.Verb(first) || reading.Verb(strings.TrimSuffix(first, "s"))) && !nounFirstRE.MatchString(summary) && (len(words) < 2 || words[1] != "of"):
		return true
	}
	return len(words) > 1 && changes[words[0]]
}
