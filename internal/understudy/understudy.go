package understudy

import (
	"encoding/json"
	"fmt"
	"strings"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/value"
)

// Part is what an understudy has to play.
type Part struct {
	Lines []Line
	Slips float64 // how often a call goes wrong on purpose: 0.1 is one in ten
	Seed  int     // other seeds slip at other places

	memory *memory // nil keeps nothing
}

// Answer gives the reply to a request. Its reasoning says why these words or
// calls, and which words of the request earned them.
func (p Part) Answer(r deed.Request) deed.Reply {
	text, calls, why := p.reply(r)
	if p.Slips > 0 {
		why += p.slip(r, calls)
	}
	out := deed.Reply{Text: text, Reasoning: strings.TrimSpace(why), Calls: calls, Finish: "stop", Model: "understudy"}
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

func (p Part) reply(r deed.Request) (text string, calls []ledger.Ask, why string) {
	if len(r.Messages) == 0 {
		return "Nothing has been said yet.", nil, ""
	}
	var shape *schema.Schema
	r.System, shape = shapeIn(r.System)
	own := r.Tools
	th := newThought(r, p.memory)
	if text, calls, ok := p.line(th, r); ok {
		return text, calls, byHeart
	}
	plan := planned(r)
	if plan != nil {
		r = *plan
		th = newThought(r, p.memory)
	}
	if task := th.taskBefore(); task != "" && len(th.cards) == 0 {
		th.because("The answer was sent back; it has nothing to add, and gives it once more.")
		th.said = task
	}
	switch {
	case len(th.cards) == 0 && shape != nil:
	case len(th.cards) == 0 && th.rewrites():
		text = th.rewrite(th.said)
	case len(th.cards) == 0 && th.task():
		text = th.compose(th.said)
	default:
		text, calls = th.think()
	}
	if plan != nil {
		calls = th.steps(calls, own)
	}
	if shape != nil && len(calls) == 0 {
		return inShape(th.shaped(shape.Doc(), th.said, text)), nil, th.why()
	}
	if len(calls) == 0 && th.asks && strings.HasSuffix(strings.TrimSpace(text), "?") {
		raw, err := json.Marshal(map[string]string{project.Question: strings.TrimSpace(text)})
		if err != nil {
			raw = []byte("{}")
		}
		th.because("What is missing only the person can say.")
		text, calls = "", []ledger.Ask{{Tool: project.AskPerson, Args: string(raw)}}
	}
	return text, calls, th.why()
}

const byHeart = "A line of its part fits."

// line gives the reply of the first line that fits.
func (p Part) line(th *thought, r deed.Request) (text string, calls []ledger.Ask, ok bool) {
	last := &r.Messages[len(r.Messages)-1]
	for i := range p.Lines {
		if put, ok := p.Lines[i].fits(r.System, th.said, th.tools(), last); ok {
			text, calls = p.Lines[i].play(put)
			return text, calls, true
		}
	}
	return "", nil, false
}

// asked is a call that was made, with its result once there is one.
type asked struct {
	tool   string
	args   map[string]any
	result *found
	own    bool // a tool of the agent that is asked now
	taken  bool // a goal has claimed it
}

// found is what a tool brought: a JSON value, or words.
type found struct {
	tool  string
	args  map[string]any
	value any
	raw   string // the value as it came, for the order of its fields
	words string
	bad   bool
	old   bool // it came before the request
}

// readValue gives a record or a list; other results are words.
func readValue(text string) any {
	v, err := value.Read([]byte(text))
	if err != nil {
		return nil
	}
	switch v.(type) {
	case map[string]any, []any:
		return v
	}
	return nil
}

func ask(c *card, args map[string]any, because string) ledger.Ask {
	for _, p := range c.params {
		if p.name == project.Because && p.required {
			args[p.name] = because
		}
	}
	raw, err := json.Marshal(args)
	if err != nil {
		raw = []byte("{}")
	}
	return ledger.Ask{Tool: c.Name, Args: string(raw)}
}

// show gives a value as JSON.
func show(v any) string {
	raw, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(raw)
}
