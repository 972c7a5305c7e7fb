package understudy

import (
	"math"
	"regexp"
	"slices"
	"sort"
	"strings"

	"stonebaton.example/core/reading"
	"stonebaton.example/core/view"
)

// Rating is how much a clause of a request speaks for a tool, and why.
type Rating struct {
	view.Candidate

	c      *card
	fill   filled
	open   int      // words of the clause that nothing explains
	strong int      // what was said first that could be nothing else
	sure   int      // of that, what fits an allowed value, a pattern or an example
	lacked int      // required parameters that nothing was said for
	names  []string // names that nothing takes
	left   []string // figures, days and codes that nothing takes
	whole  bool     // it takes all that is said, where a tool of more words does not
	met0   bool     // and none that anything explains
	asked  bool     // it changes something and the clause only asks, or the other way round
}

// enough is the least score of a tool that is called; enoughToAsk of one whose
// missing arguments are asked for; enoughToPass of an agent.
const (
	enough       = 1.6
	enoughToAsk  = 0.9
	enoughToPass = 1.0
	looked       = 8 // so many of the best by words are looked at closely
)

// goal is what one clause of a request wants.
type goal struct {
	clause    reading.Clause
	sources   []*source
	base      []*source // without what was said since
	condition bool      // it only says when something else is to be done
	newer     string    // what was said since
	text      string    // the whole text that the clause is in
	ratings   []Rating
}

// best gives the rating of what a goal would use; nil for none.
func (g *goal) best() *Rating {
	if len(g.ratings) == 0 || !g.ratings[0].Enough {
		return nil
	}
	return &g.ratings[0]
}

// content lists the words of a clause that say what is wanted.
func content(g *goal) []reading.Word {
	s := g.own()
	to := g.clause.End
	if _, at, ok := reading.After(s.text, g.clause.At, g.clause.End); ok {
		to = at
	}
	points := reading.Points(g.clause.Text)
	var out []reading.Word
	for _, w := range reading.Words(s.text) {
		if w.At < g.clause.At || w.End > to || reading.Stop(w.Low) || len(w.Low) < 2 || points && reading.Counts(w.Low) {
			continue
		}
		value := false
		for _, m := range s.mentions {
			if m.Kind != reading.Chunk && w.At >= m.At && w.End <= m.End && (m.Kind != reading.Figure || reading.Unit(w.Low) == "" || w.End < m.End) {
				value = true
			}
		}
		if !value {
			out = append(out, w)
		}
	}
	return out
}

// weigh rates all tools for a goal, the best first.
func (th *thought) weigh(g *goal) {
	words := content(g)
	marks := marksOf(g)
	if th.request.kind == answering && g.newer != "" && !th.request.confirmed { // "the second" of two that were offered is told by its words
		said := &goal{clause: reading.Clause{End: len(g.newer)}, text: g.newer, sources: []*source{{text: g.newer, mentions: reading.Mentions(g.newer, th.now), clause: &reading.Clause{}}}}
		words = append(words, content(said)...)
	}
	g.ratings = nil
	if len(th.cards) == 0 {
		return
	}
	for _, c := range th.cards {
		r := Rating{Candidate: view.Candidate{Tool: c.Name}, c: c}
		r.words(g, words, marks)
		g.ratings = append(g.ratings, r)
	}
	g.order()
	unsaid := !slices.ContainsFunc(words, func(w reading.Word) bool { return reading.Unit(w.Low) == "" })
	for i := range g.ratings {
		r := &g.ratings[i]
		switch {
		case r.c.handoff != "":
		case r.Score > 0.3 && i < looked, r.c.knows(g), unsaid && len(g.own().mentions) > 1 && i < 4*looked:
			th.look(g, r, words)
		default:
			r.Score *= 0.5
		}
	}
	g.order()
	g.yield()
	g.judge()
	g.ownFirst()
}

// order puts the best rating first; of two alike, the tool that comes first.
func (g *goal) order() {
	sort.SliceStable(g.ratings, func(i, j int) bool { return g.ratings[i].Score > g.ratings[j].Score+1e-9 })
}

// yield puts a tool that takes all that is said, and lacks nothing, before the
// best one where that leaves something out.
func (g *goal) yield() {
	r := &g.ratings[0]
	unnamed := len(r.names) > 0 && r.lacked > 0
	if r.c.handoff != "" || len(r.left) == 0 && !unnamed && (r.open == 0 || r.lacked == 0) {
		return
	}
	least, most := 0.4, 0
	if unnamed {
		least, most = 0.25, 1
	}
	for i := range g.ratings[1:] {
		o := &g.ratings[i+1]
		if o.c.handoff == "" && !o.asked && o.c.writes == r.c.writes && o.Score >= least*r.Score && len(o.left) == 0 && len(o.names) == 0 && o.open <= most && o.lacked == 0 && len(o.fill.from) > 0 {
			o.whole = true
			r.cost("all that is said", r.Score-o.Score+0.1, "another tool takes it: "+o.Tool)
			g.order()
			return
		}
	}
}

// judge says of each rating whether it is enough to act on.
func (g *goal) judge() {
	reads := g.clause.Mood == reading.Asking || readVerbs[g.clause.Verb] // beside a read, a write is no rival then
	var all, own rivals
	for i := range g.ratings {
		if r := &g.ratings[i]; !r.asked && r.c.handoff == "" {
			all.add(r)
			if !r.c.writes {
				own.add(r)
			}
		}
	}
	for i := range g.ratings {
		r := &g.ratings[i]
		if reads && !r.c.writes {
			r.Enough = r.enough(own.beside(r))
		} else {
			r.Enough = r.enough(all.beside(r))
		}
	}
}

// ownFirst puts an own tool that has all it needs before handing over.
func (g *goal) ownFirst() {
	pass := g.ratings[0]
	if pass.c.handoff == "" {
		return
	}
	for i, r := range g.ratings {
		if r.Enough && r.c.handoff == "" && pass.Score < r.Score*1.25+0.2 && (r.lacked == 0 || pass.Score < r.Score+0.2) {
			g.ratings = slices.Insert(slices.Delete(g.ratings, i, i+1), 0, r)
			return
		}
	}
}

// rivals are the two best of some ratings.
type rivals struct{ first, second *Rating }

func (v *rivals) add(r *Rating) {
	switch {
	case v.first == nil || r.Score > v.first.Score:
		v.first, v.second = r, v.first
	case v.second == nil || r.Score > v.second.Score:
		v.second = r
	}
}

// beside gives the score of the best but for one.
func (v *rivals) beside(r *Rating) float64 {
	best := v.first
	if best == r {
		best = v.second
	}
	if best == nil {
		return 0
	}
	return math.Max(best.Score, 0)
}

// enough says whether a rating is enough to act on, when the next best has next.
func (r *Rating) enough(next float64) bool {
	switch {
	case r.c.handoff != "":
		return r.Score >= enoughToPass
	case r.open > 0 && r.met0, r.asked:
		return false // only the question word speaks for it, or a question would change something
	case r.Score >= enough, r.whole && r.Score >= enoughToAsk:
		return true
	case r.sure > 0 && r.open == 0 && r.lacked == 0 && !r.c.writes && next < r.Score*0.7:
		return r.Score >= 0.6 // a code that only this tool takes
	case r.strong > 1 && r.open == 0 && r.lacked == 0 && !r.c.writes && next < r.Score*0.7:
		return r.Score >= 0.6 // it takes all that is mentioned
	case r.sure > 1 && r.open <= 1 && r.lacked == 0 && !r.c.writes && next < r.Score*0.7:
		return r.Score >= 0.5 // all that it takes is said, in its own terms
	case r.lacked > 0:
		return r.Score >= enoughToAsk && r.open == 0
	case r.open == 0 && next < r.Score*0.7:
		return r.Score >= enoughToAsk && (!r.c.writes || r.Score >= 1.2)
	case next < r.Score*0.6:
		return r.Score >= 1.0 && !r.c.writes
	}
	return false
}

// knows says whether a code that is said looks like one that the tool takes.
func (c *card) knows(g *goal) bool {
	for _, m := range g.own().mentions {
		if !g.own().inside(m.At) {
			continue
		}
		if m.Kind == reading.Name && c.values[strings.ToLower(m.Text)] {
			return true
		}
		if m.Kind != reading.Code {
			continue
		}
		for _, p := range c.params {
			if p.shape != "" && shapeOf(m.Text) == p.shape || p.pattern != nil && p.role == aCode && p.pattern.MatchString(m.Text) {
				return true
			}
		}
	}
	return false
}

// marksOf gives the question word and the set phrases of a clause.
func marksOf(g *goal) []string {
	var out []string
	switch q := g.clause.Question; q {
	case "", "whether", "what", "which", "how", "why":
	case "whom", "whose":
		out = append(out, "who")
	default:
		out = append(out, strings.ReplaceAll(q, " ", "_"))
	}
	var in []reading.Word
	for _, w := range reading.Words(g.text) {
		if w.At >= g.clause.At && w.End <= g.clause.End {
			in = append(in, w)
		}
	}
	for _, p := range reading.Phrases(in) {
		if !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	return out
}

// words earns a rating its points for words.
func (r *Rating) words(g *goal, words []reading.Word, marks []string) {
	best := map[string]view.Weight{} // by the root of the tool that is met
	solid := false
	meet := func(word, root string, w float64, by string) {
		if old, ok := best[root]; !ok || old.Points < w {
			best[root] = view.Weight{Word: word, Points: round(w), By: by}
		}
		if r.c.has(root, ofName|ofParam) && by != "a parameter" || r.c.has(root, ofSummary) || r.c.has(root, ofValue) || g.clause.Question != "" && (r.c.has(root, ofResult) || r.c.has(root, ofResultText)) || strings.Contains(root, "_") || root == "who" || root == "when" || root == "where" {
			solid = true
		}
	}
	akin := func(word, root string, part float64) bool {
		top, at, ok := r.like(root)
		if ok {
			meet(word, at, top*part, "like "+strings.ReplaceAll(at, "_", " "))
		}
		return ok
	}
	seen := map[string]bool{}
	for _, w := range words {
		if seen[w.Root] {
			continue
		}
		seen[w.Root] = true
		if v, ok := r.c.roots[w.Root]; ok {
			if w.Root == g.clause.Verb && r.c.has(w.Root, ofName|ofParam) {
				if v *= 1.3; r.c.verb != w.Root {
					v *= 0.4 // book is what is done, a booking is not
				}
			}
			if reading.Unit(w.Low) != "" {
				v *= 0.5
			}
			if _, at, like := r.like(w.Root); !like || v >= r.c.roots[at]*0.55 {
				meet(w.Text, w.Root, v, r.c.stands(w.Root))
				continue
			}
		}
		if akin(w.Text, w.Root, 0.55) || len(w.Root) < 5 {
			continue
		}
		for s, v := range r.c.roots { // a long common beginning is a weak sign
			if len(s) > 4 && (strings.HasPrefix(s, w.Root[:5]) || strings.HasPrefix(w.Root, s[:5])) {
				meet(w.Text, s, v*0.5, "like "+s)
			}
		}
	}
	if v := g.clause.Verb; v != "" && r.c.verbs[v] && !seen[v] && !(r.c.handoff != "" && readVerbs[v]) { // a verb that says little elsewhere
		meet(v, v, inSummary, "its verb")
		solid = true
	}
	for _, m := range marks {
		if v, ok := r.c.roots[m]; ok {
			meet(strings.ReplaceAll(m, "_", " "), m, v, "its summary")
			continue
		}
		part := 0.6
		if wishes[m] {
			part = 0.35 // whoever needs something may mean to buy it, or not
		}
		akin(strings.ReplaceAll(m, "_", " "), m, part)
	}
	for _, w := range best {
		r.Words = append(r.Words, w)
	}
	sort.Slice(r.Words, func(i, j int) bool {
		if a, b := r.Words[i], r.Words[j]; a.Points != b.Points {
			return a.Points > b.Points
		}
		return r.Words[i].Word+r.Words[i].By < r.Words[j].Word+r.Words[j].By
	})
	for _, w := range r.Words { // in one order: sums of fractions depend on it
		r.Score += w.Points
	}
	if !solid && r.Score > 1.2 && r.c.handoff == "" {
		r.cost("only parameters", r.Score-1.2, "")
	}
	if r.c.handoff != "" {
		return
	}
	cl := g.clause
	verb := cl.Verb
	r.asked = r.c.writes && cl.Mood == reading.Asking && cl.Question != "" && (cl.Question != "whether" || statesRE.MatchString(cl.Text))
	if r.c.writes && r.c.undoes() && !r.said(words) {
		r.asked = true
	}
	if !r.c.writes && cl.Mood == reading.Bidding && verb != "" && !readVerbs[verb] && !mild[verb] && !r.c.verbs[verb] && !reading.Akin(r.c.verb, verb) && !r.met(verb) && r.c.roots[verb] == 0 {
		r.asked = true // it only reads, and something is to be done
	}
	switch {
	case cl.Mood == reading.Asking && r.c.writes && r.Score > 0:
		r.cost("a question", r.Score*0.5, "it changes something")
	case cl.Mood == reading.Bidding && readVerbs[verb] && r.c.writes && !r.c.has(verb, ofName|ofParam) && r.Score > 0:
		r.cost(verb, r.Score*0.4, "it changes something")
	case cl.Mood == reading.Bidding && !readVerbs[verb] && !r.c.writes && r.c.verb != verb && !reading.Akin(r.c.verb, verb) && !mild[verb] && r.Score > 0:
		r.cost(verb, r.Score*0.4, "it only reads")
	}
}

// like gives the heaviest root of a tool that means nearly the same as another.
func (r *Rating) like(root string) (weight float64, at string, ok bool) {
	for _, grp := range reading.Near(root) {
		if s, has := r.c.spread[grp]; has && (r.c.roots[s] > weight || r.c.roots[s] == weight && s < at) {
			weight, at = r.c.roots[s], s
		}
	}
	return weight, at, at != ""
}

var wishes = reading.Set("i_need i_want i'd_like i'll_have get_me")

var statesRE = regexp.MustCompile(`(?i)^(?:so |and |but |ok(?:ay)?,? |hi,? |hello,? )?(?:is|are|was|were|has|have|does|do|did|isn't|aren't)\b`)

// undoes says whether a tool takes something away.
func (c *card) undoes() bool {
	for v := range c.verbs {
		if undoes[v] {
			return true
		}
	}
	return false
}

// said says whether a clause has the verb of the tool, or one like it.
func (r *Rating) said(words []reading.Word) bool {
	for _, w := range r.Words {
		if w.By == "its verb" {
			return true
		}
	}
	for v := range r.c.verbs {
		for _, w := range words {
			if w.Root == v || reading.Akin(w.Root, v) {
				return true
			}
		}
		for _, w := range r.Words {
			if strings.Contains(w.Word, " ") && reading.Akin(strings.ReplaceAll(w.Word, " ", "_"), v) {
				return true
			}
		}
	}
	return false
}

// mild are verbs that ask for something without saying what is done to it.
var mild = roots("need have get give take let try do make go want see be put set keep leave")

func (r *Rating) met(root string) bool {
	for _, g := range reading.Near(root) {
		if s, ok := r.c.spread[g]; ok && (r.c.has(s, ofName|ofParam) || r.c.has(s, ofSummary)) {
			return true
		}
	}
	return false
}

func (r *Rating) cost(word string, points float64, by string) {
	r.Score -= points
	r.Words = append(r.Words, view.Weight{Word: word, Points: -round(points), By: by})
}

func round(v float64) float64 { return math.Round(v*10) / 10 }

// stands says where a word of a tool stands in its description.
func (c *card) stands(root string) string {
	switch {
	case c.has(root, ofName):
		return "its name"
	case c.has(root, ofSummary):
		return "its summary"
	case c.has(root, ofResult):
		return "its result"
	}
	return "a parameter"
}

// look fills a tool's arguments and weighs what fits and what does not.
func (th *thought) look(g *goal, r *Rating, words []reading.Word) {
	// the choice is by the first words and what was known then, so that it stays
	// the same while results come in; the values are by all there is
	r.fill = th.fill(r.c, g.base, slices.DeleteFunc(th.usable(g), func(f found) bool { return !f.old }))
	if th.request.kind != fresh && reading.Points(th.said) && len(r.fill.missing) == 0 {
		for _, p := range r.c.params {
			if strings.HasPrefix(r.fill.from[p.name], "the result of ") {
				r.Score += 0.6
				r.Words = append(r.Words, view.Weight{Word: "the one that is meant", Points: 0.6, By: "gives " + p.name})
				break
			}
		}
	}
	if th.request.kind == referring && len(r.fill.missing) == 0 && th.known(r.c, r.fill.args) {
		r.cost("what was said before", 1, "it has just been looked up")
	}
	r.strong, r.sure, r.lacked = r.fill.strong, r.fill.sure, len(r.fill.missing)
	defer func() {
		if len(th.calls) > 0 || len(g.sources) > len(g.base) { // something has come since
			r.fill = th.fill(r.c, g.sources, th.usable(g))
		}
		r.Args, r.Lacks = show(r.fill.args), nil
		for _, p := range r.fill.missing {
			r.Lacks = append(r.Lacks, p.name)
		}
	}()
	for _, p := range r.fill.missing {
		r.Lacks = append(r.Lacks, p.name)
	}
	if fit := 0.35*float64(min(r.fill.strong, 3)) + 0.15*float64(min(r.fill.weak, 3)) + 0.3*float64(min(r.fill.sure, 2)); fit > 0 {
		r.Score += fit
		r.Words = append(r.Words, view.Weight{Word: "its arguments", Points: round(fit), By: "what is said fits them"})
	}
	for _, p := range r.c.params { // the words beside a value name its parameter
		if strings.HasPrefix(g.clause.Question, "who") && p.role == aPerson {
			continue // who owns it asks for the owner, and does not name one
		}
		if pick, ok := r.fill.picks[p]; ok && r.fill.first == g.own() {
			for _, w := range words {
				if (p.label[w.Root] || p.about[w.Root]) && (w.At < pick.at || w.At >= pick.end) {
					r.Score += 0.5
					r.Words = append(r.Words, view.Weight{Word: w.Text, Points: 0.5, By: "names " + p.name})
					break
				}
			}
		}
	}
	if g.clause.Verb != "" && readVerbs[g.clause.Verb] && !r.c.writes && !r.c.has(g.clause.Verb, ofName|ofParam) {
		r.Score += 0.4
		r.Words = append(r.Words, view.Weight{Word: g.clause.Verb, Points: 0.4, By: "it reads"})
	}
	if q := g.clause.Question; q != "" && q != "whether" {
		for _, w := range words {
			if r.c.has(w.Root, ofResult) || r.c.has(w.Root, ofResultText) {
				r.Score += 0.5
				r.Words = append(r.Words, view.Weight{Word: w.Text, Points: 0.5, By: "its result has it"})
				break
			}
		}
	}
	if n := len(r.fill.missing); n > 0 {
		r.cost("missing: "+strings.Join(r.Lacks, ", "), math.Min(1.2, 0.4*float64(n)), "")
	}
	s := g.own()
	free := func(at, end int) bool {
		for _, t := range r.fill.used[s.text] {
			if at < t[1] && t[0] < end {
				return false
			}
		}
		for _, t := range r.fill.seen {
			if t.text == s.text && at < t.end && t.at < end {
				return false
			}
		}
		return true
	}
	said := len(s.text) // what stands after it is passed on as it is
	if _, at, ok := reading.After(s.text, g.clause.At, g.clause.End); ok && slices.ContainsFunc(r.c.params, func(p *param) bool { return p.role == aText }) {
		said = at
	}
	for _, m := range s.mentions {
		if m.At >= g.clause.At && m.End <= g.clause.End && m.At < said && m.Kind != reading.Name && m.Kind != reading.Quote && free(m.At, m.End) && len(r.fill.half) == 0 {
			r.left = append(r.left, m.Text)
		}
		if m.At >= g.clause.At && m.End <= g.clause.End && m.At < said && m.Kind == reading.Name && free(m.At, m.End) {
			r.names = append(r.names, m.Text)
		}
		if m.At >= g.clause.At && m.End <= g.clause.End && free(m.At, m.End) && m.Kind != reading.Quote && !(m.Kind == reading.Figure && g.condition) && !(m.Kind == reading.Moment && len(r.fill.half) > 0) {
			r.cost(m.Text, 0.5, "nothing takes it")
		}
	}
	explained, open := 0, []string{}
	for _, w := range words {
		switch {
		case r.c.roots[w.Root] > 0 || !free(w.At, w.End) || r.met(w.Root) || r.earned(w.Text):
			explained++
		case vague[w.Low] || w.Root == g.clause.Verb && mild[w.Root] || reading.Unit(w.Low) != "":
		default:
			open = append(open, w.Text)
		}
	}
	for _, p := range r.fill.missing { // a word that is none of the allowed values: it is asked which
		if p.enum != nil && len(open) > 0 {
			open = open[1:]
			explained++
		}
	}
	for _, m := range marksOf(g) {
		if strings.Contains(m, "_") && r.earned(strings.ReplaceAll(m, "_", " ")) {
			explained++
		}
	}
	r.met0 = explained == 0
	if n := len(open); n > 0 && r.Score > 0 {
		part := 0.5 * float64(n) / float64(n+explained)
		r.cost(strings.Join(open, ", "), r.Score*part, "says nothing of it")
		r.open = n
	}
}

func (r *Rating) earned(word string) bool {
	for _, w := range r.Words {
		if w.Word == word && w.Points > 0 {
			return true
		}
	}
	return false
}
