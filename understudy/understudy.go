package understudy

import (
	"encoding/json"
	"fmt"
	"regexp"
	"sort"
	"strings"

	"stonebaton/core/ledger"
	"stonebaton/core/project"
	"stonebaton/core/prompt"
)

// Answer gives the reply to a request.
func Answer(lines []Line, r prompt.Request) prompt.Reply {
	text, calls := reply(lines, r)
	out := prompt.Reply{Text: text, Calls: calls, Finish: "stop", Model: "understudy"}
	tokens := prompt.Tokens(text)
	for i := range out.Calls {
		out.Finish = "calls"
		out.Calls[i].ID = fmt.Sprintf("u%d_%d", len(r.Messages), i+1)
		tokens += prompt.Tokens(out.Calls[i].Tool) + prompt.Tokens(out.Calls[i].Args)
	}
	out.Usage = ledger.Usage{In: r.Estimate(), Out: tokens}
	if r.MaxTokens > 0 && tokens > r.MaxTokens && len(calls) == 0 {
		out.Text = strings.ToValidUTF8(text[:min(len(text), 4*r.MaxTokens)], "")
		out.Finish, out.Usage.Out = "length", r.MaxTokens
	}
	return out
}

func reply(lines []Line, r prompt.Request) (string, []ledger.Ask) {
	if len(r.Messages) == 0 {
		return "Nothing has been said yet.", nil
	}
	th := newThought(r)
	last := &r.Messages[len(r.Messages)-1]
	for i := range lines {
		if put, ok := lines[i].fits(r.System, th.said, th.made, last); ok {
			return lines[i].play(put)
		}
	}
	return th.think()
}

// thought is one look at a request.
type thought struct {
	scene
	said    string // what the person said last
	request string // what they want: with an answer to a question, the question's request too
	cards   []*card
	made    map[string]bool // calls made since they said it
	passes  map[string]int  // handoffs since
	done    []found         // what came back since, in order
	fixed   map[string]bool // calls that were tried again
	asked   map[string]bool // tools that a clause asked for
}

func newThought(r prompt.Request) *thought {
	th := &thought{cards: cards(r.Tools), made: map[string]bool{}, passes: map[string]int{}, fixed: map[string]bool{}, asked: map[string]bool{}}
	th.now = today(r.System)
	from := 0
	for i, m := range r.Messages {
		if m.Role == ledger.User {
			from = i
		}
	}
	th.said = r.Messages[from].Text
	th.request = th.said
	// the answer to a question of ours belongs to the request before it
	for i := from - 1; i > 0 && r.Messages[i].Role == ledger.Assistant && len(r.Messages[i].Calls) == 0 && strings.HasSuffix(strings.TrimSpace(r.Messages[i].Text), "?"); {
		j := i - 1
		for j >= 0 && r.Messages[j].Role != ledger.User {
			j--
		}
		if j < 0 {
			break
		}
		th.request = r.Messages[j].Text + ". " + th.request
		i = j - 1
	}
	for i := len(r.Messages) - 1; i >= 0; i-- {
		switch m := r.Messages[i]; m.Role {
		case ledger.User:
			th.texts = append(th.texts, m.Text)
		case ledger.FromTool:
			if strings.HasPrefix(m.Tool, project.PassPrefix) {
				break
			}
			f := found{tool: m.Tool, value: read(m.Text), words: m.Text, bad: bad(m)}
			th.results = append(th.results, f)
			if i > from {
				th.done = append([]found{f}, th.done...)
			}
		}
	}
	if th.request != th.said {
		th.texts = append([]string{th.request}, th.texts...)
	}
	own := map[string]bool{}
	for _, c := range th.cards {
		own[c.Name] = true
	}
	away := false // we handed over: what others bring then is part of our answer
	for _, m := range r.Messages[from:] {
		if m.Role == ledger.FromTool && away && !own[m.Tool] && !strings.HasPrefix(m.Tool, project.PassPrefix) {
			th.asked[m.Tool] = true
		}
		for _, c := range m.Calls {
			away = away || (own[c.Tool] && strings.HasPrefix(c.Tool, project.PassPrefix))
			if strings.HasPrefix(c.Tool, project.PassPrefix) {
				th.passes[c.Tool]++
			} else {
				if th.made[c.Tool] {
					th.fixed[c.Tool] = true
				}
				th.made[c.Tool] = true
			}
		}
	}
	return th
}

var badRE = regexp.MustCompile(`^(Not done|Not handed|[a-z_]+ (failed|was not called|was not done)|Unknown tool|It is not known whether)`)

func bad(m ledger.Message) bool { return badRE.MatchString(m.Text) }

var nearestRE = regexp.MustCompile(`"([^"]+)" is nearest|[Dd]id you mean "([^"]+)"`)

// think works a reply out with no line to go by.
func (th *thought) think() (string, []ledger.Ask) {
	// a failure that names what would have been right is fixed once
	if n := len(th.done); n > 0 && th.done[n-1].bad && !th.fixed[th.done[n-1].tool] {
		if call, ok := th.fix(th.done[n-1]); ok {
			return "", []ledger.Ask{call}
		}
	}
	for _, d := range th.done {
		if d.bad {
			return th.tell(), nil
		}
	}
	var wait *ask
	var pass *card
	for _, clause := range clauses(th.request) {
		th.clause = clause
		best, points := th.best(clause)
		if best == nil || points < enough {
			continue
		}
		if best.handoff != "" {
			if pass == nil && th.passes[best.Name] == 0 {
				pass = best
			}
			continue
		}
		th.asked[best.Name] = true
		if th.made[best.Name] {
			continue
		}
		calls, missing := th.prepare(best, map[string]bool{})
		if len(calls) > 0 {
			return "", calls
		}
		if wait == nil && missing != nil {
			wait = missing
		}
	}
	switch {
	case wait != nil && pass == nil:
		return wait.question(), nil
	case pass != nil:
		return "", []ledger.Ask{handoff(pass, th.said)}
	case len(th.done) > 0:
		return th.tell(), nil
	}
	return th.lost()
}

// best gives the tool that a clause speaks for most.
func (th *thought) best(clause string) (*card, float64) {
	words, beside := stems(clause), th.besides(clause)
	named := len(properNames(clause)) > 0
	var best *card
	top := 0.0
	for _, c := range th.cards {
		p := c.score(words, beside)
		if named && p > 0 && c.wantsName() {
			p += aName
		}
		if p > top+1e-9 {
			best, top = c, p
		}
	}
	return best, top
}

// wantsName says whether the tool looks something up by its name.
func (c *card) wantsName() bool {
	for _, p := range c.params {
		if p.required && p.name == "name" {
			return true
		}
	}
	return false
}

// ask is what a tool still needs.
type ask struct {
	tool    *card
	missing []param
}

// prepare fills a tool's arguments; where one is missing that another read
// could bring, it prepares that one first.
func (th *thought) prepare(c *card, tried map[string]bool) ([]ledger.Ask, *ask) {
	tried[c.Name] = true
	args := map[string]any{}
	used := map[int]bool{}
	var missing []param
	for _, p := range c.params {
		v := th.fill(p, used)
		if v != nil {
			args[p.name] = v
		} else if p.required {
			missing = append(missing, p)
		}
	}
	if len(missing) == 0 {
		raw, err := json.Marshal(args)
		if err != nil {
			raw = []byte("{}")
		}
		return []ledger.Ask{{Tool: c.Name, Args: string(raw)}}, nil
	}
	for _, p := range missing {
		for _, other := range th.bringers(p) {
			if tried[other.Name] || th.made[other.Name] || other.handoff != "" {
				continue
			}
			if calls, _ := th.prepare(other, tried); len(calls) > 0 {
				return calls, nil
			}
		}
	}
	return nil, &ask{c, missing}
}

// bringers lists the tools whose summary speaks of what a parameter is, best first.
func (th *thought) bringers(p param) []*card {
	about := stems(strings.TrimSuffix(p.name, "_"+unitOf(p)))
	if len(about) == 0 {
		about = stems(p.text("description"))
	}
	type scored struct {
		c *card
		p int
	}
	var all []scored
	for _, c := range th.cards {
		have := map[string]bool{}
		for _, w := range stems(c.Summary) {
			have[w] = true
		}
		takes := false
		for _, q := range c.params {
			takes = takes || (q.name == p.name && q.required)
		}
		n := 0
		for _, w := range about {
			if have[w] {
				n++
			}
		}
		if n > 0 && !takes {
			all = append(all, scored{c, n})
		}
	}
	sort.SliceStable(all, func(i, j int) bool { return all[i].p > all[j].p })
	out := make([]*card, len(all))
	for i := range all {
		out[i] = all[i].c
	}
	return out
}

func handoff(c *card, said string) ledger.Ask {
	raw, err := json.Marshal(map[string]string{"because": "The request was: " + said})
	if err != nil {
		raw = []byte("{}")
	}
	return ledger.Ask{Tool: c.Name, Args: string(raw)}
}

// fix makes a call again with the value that its failure named.
func (th *thought) fix(f found) (ledger.Ask, bool) {
	m := nearestRE.FindStringSubmatch(f.words)
	if m == nil {
		return ledger.Ask{}, false
	}
	right := m[1] + m[2]
	for _, c := range th.cards {
		if c.Name == f.tool {
			th.texts = append([]string{`"` + right + `"`}, th.texts...)
			th.clause = th.request
			calls, _ := th.prepare(c, map[string]bool{})
			if len(calls) > 0 {
				return calls[0], true
			}
		}
	}
	return ledger.Ask{}, false
}

// lost is what to do when no tool of one's own fits: hand over to whom the
// words speak for at all, or say what one can do.
func (th *thought) lost() (string, []ledger.Ask) {
	words, beside := stems(th.request), th.besides(th.request)
	var best *card
	top := 0.0
	for _, c := range th.cards {
		if c.handoff == "" || th.passes[c.Name] > 0 {
			continue
		}
		if p := c.score(words, beside); p > top {
			best, top = c, p
		}
	}
	if best != nil {
		return "", []ledger.Ask{handoff(best, th.said)}
	}
	var can []string
	for _, c := range th.cards {
		if c.handoff == "" {
			can = append(can, "- "+c.Summary)
		}
	}
	if len(can) == 0 {
		return "I have no tools for that, and I only know what tools tell me.", nil
	}
	sort.Strings(can)
	return "I cannot help with that. What I can do:\n\n" + strings.Join(can, "\n"), nil
}
