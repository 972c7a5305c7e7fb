package view

import (
	"slices"
	"time"

	"stonebaton.example/core/ledger"
)

// Vote is one who has agreed to what a ticket asks, where several have to.
type Vote struct {
	By      string      `json:"by"`
	Verb    ledger.Verb `json:"verb"` // Amend where they changed values
	Because string      `json:"because,omitempty"`
	At      time.Time   `json:"at"`
}

// Voted puts a vote to those before it. One that changes values sets them aside: they were for
// other values.
func Voted(before []Vote, d *ledger.GateVoted, at time.Time) []Vote {
	if d.Verb == ledger.Amend {
		before = nil
	}
	return append(slices.Clip(before), Vote{By: d.By, Verb: d.Verb, Because: d.Because, At: at})
}
