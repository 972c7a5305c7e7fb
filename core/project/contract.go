package project

import (
	"encoding/json"

	"stonebaton/core/ledger"
)

// Contract is a tool as a model sees it.
type Contract struct {
	Name       string          `json:"name"`
	Summary    string          `json:"summary"`
	Parameters json.RawMessage `json:"parameters"`
}

// Toolbox is what an agent's model may call, ready to be sent.
type Toolbox struct {
	Contracts []Contract
	JSON      []byte
	Hash      ledger.Hash
}

// handoffParameters is the input of every handoff.
var handoffParameters = json.RawMessage(`{"additionalProperties":false,"properties":{"because":{"description":"Why they should take over, in one sentence.","type":"string"}},"type":"object"}`)

// Contract gives the tool as a model sees it.
func (t *Tool) Contract() Contract {
	params, err := json.Marshal(t.Input.Doc())
	if err != nil {
		panic("a compiled schema is JSON: " + err.Error())
	}
	return Contract{Name: t.Name, Summary: t.Summary, Parameters: params}
}

func box(contracts []Contract) Toolbox {
	raw, err := json.Marshal(contracts)
	if err != nil {
		panic("contracts are JSON: " + err.Error())
	}
	return Toolbox{Contracts: contracts, JSON: raw, Hash: ledger.HashOf(raw)}
}

// NoTools is the toolbox of a run with its tools off.
var NoTools = box([]Contract{})

// pack fills every agent's toolbox: its tools, then its handoffs.
func (p *Project) pack() {
	for _, a := range p.Agents {
		contracts := []Contract{}
		for _, t := range a.Tools {
			contracts = append(contracts, p.Tools[t].Contract())
		}
		for _, h := range a.Handoffs {
			contracts = append(contracts, Contract{Name: HandoffPrefix + h, Summary: "Hand the conversation over to " + h + ": " + p.Agents[h].Summary, Parameters: handoffParameters})
		}
		a.Box = box(contracts)
	}
}
