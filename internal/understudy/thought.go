package understudy

import (
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/reading"
	"stonebaton.example/core/value"
)

// thought is one look at a request.
type thought struct {
	r       deed.Request
	cards   []*card
	by      map[string]*card
	letters map[string]bool // that codes begin with, by the examples of the tools
	now     time.Time
	person  string            // who speaks, where the instructions say so
	facts   map[string]string // that the instructions state

	said     string // what the person said last
	from     int    // where that is
	manners  reading.Manners
	resolved map[int]request // what each message of the person wants, as far as it was looked at
	request  request
	goals    []*goal
	calls    []*asked        // made since it was said, in order
	earlier  []*asked        // and before it
	passed   map[string]bool // handoffs made since
	asks     bool            // a question can be put to the person
	given    map[string]any  // fields that stand below the question, where an agent asks
	results  map[string]map[string]any
	notes    []string // what is to be said beside the results
	reasons  []string // why, in words
}

// request is what the person wants: the text that has the goals, and the texts
// that arguments come from, the newest first.
type request struct {
	goals     string
	texts     []string
	kind      relation
	adds      bool // the change is one more thing: and BK-78
	confirmed bool // a yes to our question whether to go on
}

// relation is how a message stands to the one before it.
type relation string

const (
	fresh     relation = "a new request"
	answering relation = "an answer to the question before"
	amending  relation = "the request before, with a change"
	referring relation = "a new request that points back"
)

func newThought(r deed.Request, m *memory) *thought {
	if m == nil {
		m = newMemory(nil)
	}
	r.Messages, r.Tools = spoken(r.Messages), handing(r)
	th := &thought{r: r, asks: slices.ContainsFunc(r.Tools, func(c project.Contract) bool { return c.Name == project.AskPerson }), cards: m.of(r.Tools), by: map[string]*card{}, letters: map[string]bool{}, resolved: map[int]request{}, now: reading.Now(r.System), facts: factsOf(r.System), results: m.results, passed: map[string]bool{}}
	if m := speaksRE.FindStringSubmatch(r.System); m != nil && m[1] != "local" {
		th.person = m[1]
	}
	for _, c := range th.cards {
		th.by[c.Name] = c
		for _, p := range c.params {
			if p.letters != "" {
				th.letters[strings.ToLower(p.letters)] = true
			}
		}
	}
	th.from = -1
	for i, m := range r.Messages {
		if m.Role == ledger.User {
			th.from = i
		}
	}
	if th.from >= 0 {
		said := ""
		if said, th.given = th.fields(r.Messages[th.from].Text); th.given != nil {
			r.Messages = slices.Clone(r.Messages)
			r.Messages[th.from].Text = said
			th.r.Messages = r.Messages
		}
		th.said = said
	}
	th.earlier = th.made(0, max(th.from, 0))
	th.calls = th.made(max(th.from, 0), len(r.Messages))
	for _, a := range th.earlier {
		if a.result != nil {
			a.result.old = true
		}
	}
	for _, m := range r.Messages[max(th.from, 0):] {
		for _, c := range m.Calls {
			if strings.HasPrefix(c.Tool, project.PassPrefix) {
				th.passed[c.Tool] = true
			}
		}
	}
	if len(th.said) <= longestMessage {
		th.manners = reading.ReadManners(th.said)
	}
	th.request = th.resolve(th.from)
	return th
}

var speaksRE = regexp.MustCompile(`(?i)\byou (?:speak|talk) (?:with|to) ([\p{Lu}][\p{L}'’-]*(?: [\p{Lu}][\p{L}'’-]*)*)`)

// made lists the calls of a stretch of the conversation with their results.
func (th *thought) made(from, to int) []*asked {
	var out []*asked
	by := map[string]*asked{}
	for _, m := range th.r.Messages[from:to] {
		for _, c := range m.Calls {
			if strings.HasPrefix(c.Tool, project.PassPrefix) {
				continue
			}
			a := &asked{tool: c.Tool, args: map[string]any{}, own: th.by[c.Tool] != nil}
			if args, err := value.ReadObject([]byte(c.Args)); err == nil { // arguments that cannot be read are none
				a.args = args
			}
			delete(a.args, project.Because)
			by[c.ID] = a
			out = append(out, a)
		}
		if a := by[m.Call]; m.Role == ledger.FromTool && a != nil && !strings.HasPrefix(m.Tool, project.PassPrefix) {
			a.result = &found{tool: m.Tool, args: a.args, value: readValue(m.Text), raw: m.Text, words: m.Text, bad: m.Ended != "" || badRE.MatchString(m.Text)}
		}
	}
	return out
}

// badRE knows by their words the results of calls that did not return: over the wire of chat
// completions nothing else tells of it.
var badRE = regexp.MustCompile(`^(Not (done|handed|taken|known)|[a-z_A-Z0-9]+ (failed|was not called|was not done)|Unknown tool|It is not known whether|[a-z_0-9]+ (could not answer:|was not (asked|begun|set to work):|cannot ask)|"[^"]*" cannot take a step)`)

// tools gives the tools that were called since the person spoke.
func (th *thought) tools() map[string]bool {
	out := map[string]bool{}
	for _, a := range th.calls {
		out[a.tool] = true
	}
	return out
}

// before finds the person's message before one, and what was said to them after it.
func (th *thought) before(i int) (user int, answer string) {
	for k := i - 1; k >= 0; k-- {
		m := th.r.Messages[k]
		if m.Role == ledger.User {
			return k, answer
		}
		if m.Role == ledger.Assistant && m.Text != "" && answer == "" {
			answer = m.Text
		}
	}
	return -1, ""
}

// resolve finds what the person wants with a message, from those before it
// where it answers, amends or points back.
func (th *thought) resolve(i int) request {
	if i < 0 {
		return request{kind: fresh}
	}
	q, ok := th.resolved[i]
	if !ok {
		q = th.relate(i)
		q.texts = q.texts[:min(len(q.texts), mostTexts)]
		th.resolved[i] = q
	}
	return q
}

func (th *thought) relate(i int) request {
	text := th.r.Messages[i].Text
	if len(text) > longestMessage {
		text = strings.ToValidUTF8(text[:longestMessage], "")
	}
	m := reading.ReadManners(text)
	if m.Rest != "" && (m.Greets || m.Thanks) {
		text = m.Rest
	}
	prev, answer := th.before(i)
	if prev < 0 {
		return request{goals: text, texts: []string{text}, kind: fresh}
	}
	more := func(kind relation) request {
		out := th.resolve(prev)
		out.kind, out.confirmed, out.adds = kind, false, false
		out.texts = append([]string{text}, out.texts...)
		return out
	}
	asked := strings.HasSuffix(strings.TrimSpace(answer), "?")
	own, strength := th.strongest(text)
	switch {
	case asked && (m.Yes || m.No):
		out := more(answering)
		out.confirmed = m.Yes
		return out
	case asked && !m.Amends && !m.Ables && (!standsAlone(text) && strength < 4 || own == nil && !questions(text)):
		return more(answering)
	case (own == nil || !standsAlone(text)) && th.changes(prev, text, m):
		out := more(amending)
		out.adds = m.Adds && !m.Amends
		return out
	case reading.RefersBack(text) || m.Adds:
		out := more(referring)
		out.goals = text
		return out
	}
	return request{goals: text, texts: []string{text}, kind: fresh}
}

// changes says whether a message is the request before it with a change: a
// correction, one thing more, or a few words that could stand in its place.
func (th *thought) changes(prev int, text string, m reading.Manners) bool {
	switch {
	case m.Ables || m.Rest == "" || len(reading.Words(text)) == 0 && len(reading.Mentions(text, th.now)) == 0:
		return false
	case th.resolve(prev).goals == "" || th.turns(prev, text):
		return false
	case m.Amends || m.Adds:
		return true
	}
	return len(strings.Fields(text)) <= 3 && th.alters(prev, text)
}

// turns says whether a short message speaks of something else than what the
// one before it was about: "and the dues?" after a reservation.
func (th *thought) turns(prev int, text string) bool {
	var before *card
	for _, g := range th.goalsOf(th.resolve(prev)) {
		th.weigh(g)
		if b := g.best(); b != nil {
			before = b.c
		}
	}
	if before == nil {
		return false
	}
	for _, r := range reading.Roots(text) {
		if before.has(r, ofName) || before.has(r, ofSummary) || before.has(r, ofName|ofParam) || before.has(r, ofValue) {
			continue
		}
		about, value := false, false
		for _, c := range th.cards {
			about = about || c.has(r, ofName) || c.has(r, ofSummary)
			value = value || c.has(r, ofValue)
		}
		if about && !value && reading.Unit(r) == "" {
			return true
		}
	}
	return false
}

// alters says whether a short message holds something that could stand in
// place of what was said before.
func (th *thought) alters(prev int, text string) bool {
	if len(reading.Mentions(text, th.now)) > 0 {
		return true
	}
	for _, g := range th.goalsOf(th.resolve(prev)) {
		th.weigh(g)
		if b := g.best(); b != nil && b.c.handoff == "" {
			s := &source{text: text, all: true, hungry: true}
			f := th.fill(b.c, []*source{s}, nil)
			for p := range f.picks { // a bare word is enough to look something up again, not to change something again
				if !b.c.writes || p.enum != nil || p.kind == "boolean" {
					return true
				}
			}
		}
	}
	return false
}

// questions says whether a text asks something of its own.
func questions(text string) bool {
	return slices.ContainsFunc(reading.Clauses(text), func(c reading.Clause) bool { return c.Question != "" && c.Question != "whether" })
}

// standsAlone says whether a text asks for something by a verb or a question of its own.
func standsAlone(text string) bool {
	for _, c := range reading.Clauses(text) {
		if c.Question != "" && c.Question != "whether" || c.Mood == reading.Bidding && !slices.Contains([]string{"mak", "make", "mean", "put", "chang", "change", "tak", "take", "try", "us", "use", "have", "need"}, c.Verb) {
			return true
		}
		if c.Question == "whether" && statesRE.MatchString(c.Text) && len(strings.Fields(c.Text)) > 3 {
			return true
		}
	}
	return false
}

// strongest gives the tool that a text speaks for most by its own words.
func (th *thought) strongest(text string) (*card, float64) {
	var top *card
	score := 0.0
	for _, g := range th.goalsOf(request{goals: text, texts: []string{text}, kind: fresh}) {
		words, marks := content(g), marksOf(g)
		for _, c := range th.cards {
			r := Rating{c: c}
			r.words(g, words, marks)
			if r.Score > score && (r.Score >= enough || c.handoff != "" && r.Score >= enoughToPass) {
				top, score = c, r.Score
			}
		}
	}
	return top, score
}

// What is read of one message: longer ones are refused in words.
const (
	longestMessage = 8 << 10
	mostMentions   = 100
	mostTexts      = 8 // of a request that is answered and amended over several messages
)

// goalsOf reads the clauses of a request, each with the texts that its
// arguments may come from.
func (th *thought) goalsOf(q request) []*goal {
	var out []*goal
	mentions := map[string][]reading.Mention{}
	read := func(text string) []reading.Mention {
		m, ok := mentions[text]
		if !ok {
			m = reading.Mentions(text, th.now)
			m = m[:min(len(m), mostMentions)]
			mentions[text] = m
		}
		return m
	}
	clauses := reading.Clauses(q.goals)
	for i := range clauses {
		c := clauses[i]
		if c.Negated {
			continue
		}
		g := &goal{clause: c, text: q.goals}
		own := &source{text: q.goals, spans: [][2]int{{c.At, c.End}}, mentions: read(q.goals), clause: &c, all: true}
		g.sources = []*source{own}
		newer := 0
		if q.kind == answering || q.kind == amending { // what was said since comes first
			for _, t := range q.texts {
				if t == q.goals {
					break
				}
				g.sources = append(g.sources, &source{text: t, mentions: read(t), all: true, hungry: q.kind == answering && newer == 0})
				newer++
			}
			g.sources = append(g.sources[1:], g.sources[0])
		}
		g.sources = append(g.sources, &source{text: q.goals, spans: others(clauses, i, len(q.goals)), mentions: read(q.goals)})
		n := len(g.sources)
		if g.sources[0] != own {
			g.newer = q.texts[0]
		}
		past := false
		for _, t := range q.texts {
			if past {
				g.sources = append(g.sources, &source{text: t, mentions: read(t), note: "from what was said before"})
			}
			past = past || t == q.goals
		}
		g.base = append([]*source{own}, g.sources[n-1:]...)
		out = append(out, g)
	}
	return out
}

// own gives the source of a goal's own clause.
func (g *goal) own() *source {
	for _, s := range g.sources {
		if s.clause != nil {
			return s
		}
	}
	return g.sources[0]
}

// others gives what a text holds beside one of its clauses.
func others(clauses []reading.Clause, i, end int) [][2]int {
	return [][2]int{{0, clauses[i].At}, {clauses[i].End, end}}
}

// usable lists the results that may be used for a goal, the newest first: those
// brought since the request, and older ones where the request points back or
// names what they are about.
func (th *thought) usable(g *goal) []found {
	var out, meant []found
	add := func(r found) {
		if rows, ok := r.value.([]any); ok {
			if k, ok := reading.Ordinal(th.said, len(rows)); ok {
				r.value = rows[k]
				meant = append(meant, r) // it goes before what has only been looked at
				return
			}
		}
		out = append(out, r)
	}
	for i := len(th.calls) - 1; i >= 0; i-- {
		if r := th.calls[i].result; r != nil {
			add(*r)
		}
	}
	low := strings.ToLower(strings.Join(th.request.texts, "\n"))
	names := 0
	for _, m := range g.own().mentions {
		if m.Kind == reading.Name || m.Kind == reading.Code {
			names++
		}
	}
	for i := len(th.earlier) - 1; i >= 0; i-- {
		r := th.earlier[i].result
		if r == nil || r.bad {
			continue
		}
		if th.request.kind != fresh || names == 0 && reading.RefersBack(th.said) || named(r.value, low) {
			add(*r)
		}
	}
	return append(meant, out...)
}

// spent lists the names by which another tool has looked something up since
// the request: they have done their work.
func (th *thought) spent(c *card) map[string]bool {
	out := map[string]bool{}
	for _, a := range th.calls {
		if a.tool == c.Name || a.result == nil || a.result.bad {
			continue
		}
		for _, v := range a.args {
			if s, ok := v.(string); ok {
				out[s] = true
			}
		}
	}
	return out
}

// named says whether a text names something that a result is about.
func named(v any, low string) bool {
	switch x := v.(type) {
	case map[string]any:
		for _, k := range slices.Sorted(maps.Keys(x)) {
			if named(x[k], low) {
				return true
			}
		}
	case string:
		return len(x) > 2 && strings.Contains(low, strings.ToLower(x))
	}
	return false
}
