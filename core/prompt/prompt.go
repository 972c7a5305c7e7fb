package prompt

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/scope"
)

// Built is a request and the names of its parts.
type Built struct {
	deed.Request
	Parts      []Part
	SystemHash ledger.Hash
	ToolsHash  ledger.Hash
	Hashes     []ledger.Hash // of the messages
	ToolsJSON  []byte
}

// Part is a part of a request that is not of the conversation, and where it comes from.
type Part struct {
	Name   string        `json:"name"` // instructions, wording NAME, example N, answer, or tool NAME
	Place  project.Place `json:"place"`
	Tokens int           `json:"tokens"` // about
}

// Vars gives the values that expressions see on a thread at a moment of a run.
func Vars(p *project.Project, s *run.State, t *run.Thread, at time.Time) expr.Vars {
	return scope.Values{Project: p.Name, Person: s.Opened().Person, Run: s.Run(), Session: s.Opened().Session, At: at, Zone: p.Zone, State: t.Facts(), StateDoc: p.State.Doc()}.Vars()
}

// Asks says whether who acts on a thread may put questions to the person: an agent that has
// ask_person among its tools, or, where it is consulted, one that may ask through the one who
// asked.
func Asks(p *project.Project, t *run.Thread) bool {
	if o := t.Opened(); o != nil && o.Role == ledger.Consult {
		return o.Asks
	}
	a := p.Agent(t.Agent())
	return a != nil && a.Asks
}

// Build makes the request of the next turn of the agent that holds the baton on a thread.
func Build(p *project.Project, s *run.State, t *run.Thread, model string, at time.Time) (Built, error) {
	a := p.Agent(t.Agent())
	if a == nil {
		return Built{}, fmt.Errorf("the agent %q, which holds the baton, is not in this version of the project", t.Agent())
	}
	m := p.Models[model]
	if m == nil {
		return Built{}, fmt.Errorf("the model %q is not in this version of the project", model)
	}
	system, parts, err := instructions(a, Vars(p, s, t, at))
	if err != nil {
		return Built{}, err
	}
	box := a.Box
	switch {
	case s.Opened().Tools == ledger.ToolsOff:
		box = project.NoTools
	case Asks(p, t) && !t.Judges() && !s.Ended():
		box = a.Asking
	case t.Judges() || s.Ended():
		box = project.NoTools
	default:
		if l := Planned(p, t); l != nil {
			box = l.Box
		}
	}
	from := max(t.View(), window(t.Messages(), a.Window))
	shape := AnswerOf(p, t)
	if s.Ended() {
		shape = nil // it sums up, in words
	}
	if shape != nil {
		system += "\n\n" + ShapeOf(shape)
		parts = append(parts, Part{Name: "answer", Place: a.Place, Tokens: Tokens(ShapeOf(shape))})
	}
	choice := ""
	switch {
	case a.Settings.Calls == "none":
		box = project.NoTools
	case len(box.Contracts) > 0 && t.Messages()[len(t.Messages())-1].Role == ledger.User:
		choice = a.Settings.Calls
	}
	for _, c := range box.Contracts {
		part := Part{Name: "tool " + c.Name, Tokens: Tokens(c.Name) + Tokens(c.Summary) + Tokens(string(c.Parameters))}
		if tool := p.Tools[c.Name]; tool != nil {
			part.Place = tool.Place
		}
		parts = append(parts, part)
	}
	temperature, most := m.Temperature, m.MaxTokens
	if a.Settings.Temperature != nil {
		temperature = a.Settings.Temperature
	}
	if a.Settings.MaxTokens > 0 {
		most = a.Settings.MaxTokens
	}
	messages, hashes := t.Messages()[from:], t.Hashes()[from:]
	if s.Ended() { // by a limit: it sums up
		m := ledger.Message{Role: ledger.User, Text: p.LastWord(s.Limit().Problem.Say)}
		raw, err := json.Marshal(m)
		if err != nil {
			return Built{}, err
		}
		messages, hashes = append(slices.Clip(messages), m), append(slices.Clip(hashes), ledger.HashOf(raw))
	}
	return Built{
		Request: deed.Request{Run: s.Run(), Agent: a.Name, Model: model, System: system, Tools: box.Contracts, Messages: messages,
			Temperature: temperature, Seed: a.Settings.Seed, MaxTokens: most, Choice: choice, Answer: shape.Doc(), Offer: m.Schema, Pictures: m.Pictures},
		Parts:      parts,
		SystemHash: ledger.HashOf([]byte(system)), ToolsHash: box.Hash, ToolsJSON: box.JSON, Hashes: hashes,
	}, nil
}

// instructions fills in what is sent before the messages, part by part.
func instructions(a *project.Agent, v expr.Vars) (string, []Part, error) {
	var b strings.Builder
	var parts []Part
	for _, piece := range a.Prompt {
		text, err := piece.Text.Fill(v)
		if err != nil {
			return "", nil, fmt.Errorf("%s: the prompt of %s cannot be filled in: %w", piece.Place, a.Name, err)
		}
		b.WriteString(text)
		parts = append(parts, Part{Name: piece.Name, Place: piece.Place, Tokens: Tokens(text)})
	}
	return b.String(), parts, nil
}

// AnswerOf gives the schema that the answer on a thread has to fit: that of its leg, or of
// the agent that speaks; nil where there is none.
func AnswerOf(p *project.Project, t *run.Thread) *schema.Schema {
	if t.Judges() {
		return project.Judgement
	}
	if l := LegOf(p, t); l != nil && l.Answer != nil {
		return l.Answer
	}
	if a := p.Agent(t.Agent()); a != nil {
		return a.Answer
	}
	return nil
}

// GoodOf gives what has to hold of the answer on a thread: what its leg says, or the agent
// that speaks; nil where nothing has to.
func GoodOf(p *project.Project, t *run.Thread) *project.Good {
	if t.Judges() {
		return nil
	}
	if l := LegOf(p, t); l != nil && l.Good != nil {
		return l.Good
	}
	if a := p.Agent(t.Agent()); a != nil {
		return a.Good
	}
	return nil
}

// LegOf gives the leg, or the branch of one, that opened a thread; nil where none did.
func LegOf(p *project.Project, t *run.Thread) *project.Leg {
	v, item := t.Visit()
	if v == nil {
		return nil
	}
	r := p.Relays[t.Parent().Frame().Relay]
	if r == nil {
		return nil
	}
	l := r.Leg(v.Leg)
	if l != nil && l.Kind == project.LegTogether && item <= len(l.Branches) {
		return l.Branches[item-1]
	}
	return l
}

// Planned gives the leg whose plan the agent that speaks on a thread makes; nil where it makes
// none.
func Planned(p *project.Project, t *run.Thread) *project.Leg {
	if l := LegOf(p, t); l != nil && l.Kind == project.LegPlan && l.Does == t.Agent() {
		return l
	}
	return nil
}

// ShapeMark stands in instructions before the schema that the answer has to fit.
const ShapeMark = "Answer with one JSON value that fits this JSON Schema, and nothing else: "

// ShapeOf says to a model what its answer has to fit.
func ShapeOf(shape *schema.Schema) string {
	raw, err := json.Marshal(shape.Doc())
	if err != nil {
		panic("a compiled schema is JSON: " + err.Error())
	}
	return ShapeMark + string(raw)
}

// Opening makes the request of the first turn of a run that begins with what a
// person says to an agent; no agent is the one that conversations start at.
func Opening(p *project.Project, agent, person, text string, at time.Time) (deed.Request, error) {
	if agent == "" {
		agent = p.Start
	}
	a := p.Agents[agent]
	if a == nil {
		return deed.Request{}, &UnknownAgentError{Name: agent, Have: slices.Sorted(maps.Keys(p.Agents))}
	}
	s := run.New("opening")
	e := ledger.New("", &ledger.RunOpened{Session: "opening", Project: p.Name, Version: p.Version, Person: person, Text: text, Agent: agent, Tools: ledger.ToolsLive, Zone: p.Zone.String(), Why: "a message"})
	e.Run, e.Seq, e.At = s.Run(), 1, at
	if err := s.Apply(e); err != nil {
		return deed.Request{}, err
	}
	b, err := Build(p, s, s.Main(), a.Model, at)
	return b.Request, err
}

// UnknownAgentError names an agent that the project does not have.
type UnknownAgentError struct {
	Name string
	Have []string
}

func (e *UnknownAgentError) Error() string {
	if e.Name == "" {
		return "the project has no agent to begin with"
	}
	return fmt.Sprintf("unknown agent %q.%s", e.Name, near.Hint(e.Name, e.Have))
}

// Remedy says which agents there are.
func (e *UnknownAgentError) Remedy() string {
	if len(e.Have) == 0 {
		return "The project has no agents."
	}
	return "The agents are " + near.List(e.Have) + "."
}

// window gives where the last n messages begin, moved so that it is at what a
// person said: a result must not stand there without its call.
func window(msgs []ledger.Message, n int) int {
	if n == 0 || len(msgs) <= n {
		return 0
	}
	for i := len(msgs) - n; i < len(msgs); i++ {
		if msgs[i].Role == ledger.User {
			return i
		}
	}
	for i := len(msgs) - n; i > 0; i-- {
		if msgs[i].Role == ledger.User {
			return i
		}
	}
	return 0
}

// Delta names a list of messages by what it leaves out at the head of the list before, how
// many it keeps of the rest, and what it adds.
func Delta(before, now []ledger.Hash) (skip, kept int, added []ledger.Hash) {
	if len(now) > 0 {
		skip = max(0, slices.Index(before, now[0]))
	}
	for skip+kept < len(before) && kept < len(now) && before[skip+kept] == now[kept] {
		kept++
	}
	return skip, kept, now[kept:]
}

// Tokens estimates the tokens of a text.
func Tokens(text string) int { return deed.Tokens(text) }
