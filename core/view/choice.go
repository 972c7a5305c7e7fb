package view

import (
	"fmt"
	"strings"

	"stonebaton.example/core/ledger"
)

// Choice is what a model that can say why would do first with a request.
type Choice struct {
	Agent string       `json:"agent"`
	Goals []Weighed    `json:"goals"` // what the request asks for, one after another
	Text  string       `json:"text,omitempty"`
	Calls []ledger.Ask `json:"calls"`
	Notes []string     `json:"notes"` // why it does not simply take the best of each
}

// Weighed is one clause of a request with every tool, the best first.
type Weighed struct {
	Clause     string      `json:"clause"`
	Mood       string      `json:"mood"` // telling, asking or bidding
	Candidates []Candidate `json:"candidates"`
}

// Candidate is what speaks for a tool.
type Candidate struct {
	Tool   string   `json:"tool"`
	Score  float64  `json:"score"`
	Words  []Weight `json:"words"`          // what earned it, the heaviest first
	Args   string   `json:"args,omitempty"` // what would be filled in
	Lacks  []string `json:"lacks,omitempty"`
	Enough bool     `json:"enough"` // it would be called, or asked about
}

// Weight is what a word is worth to a tool.
type Weight struct {
	Word   string  `json:"word"`
	Points float64 `json:"points"`
	By     string  `json:"by"` // "its name", "its summary: price", "missing: day"
}

// Because lists the words that earned a rating its score, and what cost it some.
func (r Candidate) Because() string {
	var words []string
	for i, w := range r.Words {
		if i == 9 {
			words = append(words, "…")
			break
		}
		s := fmt.Sprintf("%s %+.1f", w.Word, w.Points)
		if w.By != "" {
			s += " (" + w.By + ")"
		}
		words = append(words, s)
	}
	return strings.Join(words, ", ")
}
