package deed

import (
	"time"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
)

// Request is what a model is asked, before a wire gives it its form.
type Request struct {
	Run         string             `json:"-"`
	Step        ledger.StepID      `json:"-"`
	Agent       string             `json:"agent"`
	Model       string             `json:"model"` // the project's name for it
	System      string             `json:"system"`
	Tools       []project.Contract `json:"tools"`
	Messages    []ledger.Message   `json:"messages"`
	Temperature *float64           `json:"temperature,omitempty"` // nil: the endpoint's own
	Seed        *int               `json:"seed,omitempty"`
	MaxTokens   int                `json:"max_tokens,omitempty"`
	Choice      string             `json:"choice,omitempty"`   // some, or the tool that has to be called; "" is free
	Offer       bool               `json:"offer,omitempty"`    // the endpoint takes Answer as a field of its own
	Pictures    bool               `json:"pictures,omitempty"` // the model takes those of the messages
	Answer      map[string]any     `json:"answer,omitempty"`   // JSON Schema that the answer has to fit; nil: any text
}

// Tokens estimates the tokens of a text: about four letters each.
func Tokens(text string) int { return (len(text) + 3) / 4 }

// picture is about what a picture costs, in tokens.
const picture = 1000

// Estimate counts a request's tokens.
func (r Request) Estimate() int {
	n := Tokens(r.System)
	for _, t := range r.Tools {
		n += Tokens(t.Name) + Tokens(t.Summary) + Tokens(string(t.Parameters))
	}
	for _, m := range r.Messages {
		n += 4 + Tokens(m.Text)
		if r.Pictures {
			n += picture * len(m.Pictures)
		}
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

// ModelFailure is what a wire says of a turn that brought no reply.
type ModelFailure struct {
	Class  Class
	Say    string
	Remedy string
	Status int
	Retry  bool
	After  time.Duration
}

func (f *ModelFailure) Error() string { return f.Say }
