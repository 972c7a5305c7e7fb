package prompt

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/core/run"
	"stonebaton.example/core/scope"
)

// Request is what a model is asked, before a wire gives it its form.
type Request struct {
	Run         string             `json:"-"`
	Step        string             `json:"-"`
	Agent       string             `json:"agent"`
	Model       string             `json:"model"` // the project's name for it
	System      string             `json:"system"`
	Tools       []project.Contract `json:"tools"`
	Messages    []ledger.Message   `json:"messages"`
	Temperature *float64           `json:"temperature,omitempty"` // nil: the endpoint's own
	MaxTokens   int                `json:"max_tokens,omitempty"`
}

// Built is a request and the names of its parts.
type Built struct {
	Request
	SystemHash ledger.Hash
	ToolsHash  ledger.Hash
	Hashes     []ledger.Hash // of the messages
	ToolsJSON  []byte
}

// Parts gives the body of every part by its hash.
func (b Built) Parts() (map[ledger.Hash][]byte, error) {
	parts := map[ledger.Hash][]byte{b.SystemHash: []byte(b.System), b.ToolsHash: b.ToolsJSON}
	for i, m := range b.Messages {
		raw, err := json.Marshal(m)
		if err != nil {
			return nil, err
		}
		parts[b.Hashes[i]] = raw
	}
	return parts, nil
}

// Vars gives the values that expressions see at a moment of a run.
func Vars(p *project.Project, s *run.State, at time.Time) expr.Vars {
	return scope.Values{Project: p.Name, Person: s.Opened.Person, Run: s.Run, Session: s.Opened.Session, At: at, Zone: p.Zone, State: s.Facts, StateDoc: p.State.Doc()}.Vars()
}

// Build makes the request of the next turn of the agent that holds the baton.
func Build(p *project.Project, s *run.State, model string, at time.Time) (Built, error) {
	a := p.Agents[s.Agent]
	if a == nil {
		return Built{}, fmt.Errorf("the agent %q, which holds the baton, is not in this version of the project", s.Agent)
	}
	m := p.Models[model]
	if m == nil {
		return Built{}, fmt.Errorf("the model %q is not in this version of the project", model)
	}
	system, err := a.Prompt.Fill(Vars(p, s, at))
	if err != nil {
		return Built{}, fmt.Errorf("%s: the prompt of %s cannot be filled in: %w", a.Said, a.Name, err)
	}
	box := a.Box
	if s.Opened.Tools == ledger.ToolsOff {
		box = project.NoTools
	}
	from := window(s.Messages, a.Window)
	return Built{
		Request: Request{Run: s.Run, Agent: a.Name, Model: model, System: system, Tools: box.Contracts, Messages: s.Messages[from:],
			Temperature: m.Temperature, MaxTokens: m.MaxTokens},
		SystemHash: ledger.HashOf([]byte(system)), ToolsHash: box.Hash, ToolsJSON: box.JSON, Hashes: s.Hashes[from:],
	}, nil
}

// Opening makes the request of the first turn of a run that begins with what a
// person says to an agent; no agent is the one that conversations start at.
func Opening(p *project.Project, agent, person, text string, at time.Time) (Request, error) {
	if agent == "" {
		agent = p.Start
	}
	a := p.Agents[agent]
	if a == nil {
		return Request{}, &UnknownAgentError{Name: agent, Have: slices.Sorted(maps.Keys(p.Agents))}
	}
	s := run.New("opening")
	e := ledger.New("", &ledger.RunOpened{Session: "opening", Project: p.Name, Version: p.Version, Person: person, Text: text, Agent: agent, Tools: ledger.ToolsLive, Zone: p.Zone.String(), Why: "a message"})
	e.Run, e.Seq, e.At = s.Run, 1, at
	if err := s.Apply(e); err != nil {
		return Request{}, err
	}
	b, err := Build(p, s, a.Model, at)
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

// Delta names a list of messages by how many it keeps of the list before, and what it adds.
func Delta(before, now []ledger.Hash) (kept int, added []ledger.Hash) {
	for kept < len(before) && kept < len(now) && before[kept] == now[kept] {
		kept++
	}
	return kept, now[kept:]
}

// Tokens estimates the tokens of a text: about four letters each.
func Tokens(text string) int { return (len(text) + 3) / 4 }

// Estimate counts a request's tokens.
func (r Request) Estimate() int {
	n := Tokens(r.System)
	for _, t := range r.Tools {
		n += Tokens(t.Name) + Tokens(t.Summary) + Tokens(string(t.Parameters))
	}
	for _, m := range r.Messages {
		n += 4 + Tokens(m.Text)
		for _, c := range m.Calls {
			n += Tokens(c.Tool) + Tokens(c.Args)
		}
	}
	return n
}

// Reply is what a model answered.
type Reply struct {
	Text      string
	Reasoning string // that the endpoint sent apart from the answer
	Calls     []ledger.Ask
	Finish    string // "stop", "calls", "length", or what the endpoint said
	Model     string
	Usage     ledger.Usage
}
