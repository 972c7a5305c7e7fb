package project

import (
	"bytes"
	"encoding/json"
	"maps"

	"stonebaton.example/core/ledger"
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

// passParameters is the input of every handoff.
var passParameters = json.RawMessage(`{"additionalProperties":false,"properties":{"because":{"description":"Why they should take over, in one sentence.","type":"string"}},"type":"object"}`)

// Contract gives the tool as a model sees it.
func (t *Tool) Contract() Contract {
	params, err := json.Marshal(t.Input.Doc())
	if err != nil {
		panic("a compiled schema is JSON: " + err.Error())
	}
	if t.ReasonFirst {
		params = reasonFirst(t.Input.Doc())
	}
	return Contract{Name: t.Name, Summary: t.Summary, Parameters: params}
}

// reasonFirst puts the reason before every other parameter: what is written
// first is thought first.
func reasonFirst(doc map[string]any) []byte {
	var own, rest bytes.Buffer
	own.WriteString(`{"` + Because + `":{"description":"Why this call, now, with these values: one sentence. Write it first.","minLength":1,"type":"string"}`)
	if props, ok := doc["properties"].(map[string]any); ok {
		for _, k := range keysOf(props) {
			name, _ := json.Marshal(k) // a string can always be written
			value, err := json.Marshal(props[k])
			if err != nil {
				panic("a compiled schema is JSON: " + err.Error())
			}
			own.WriteByte(',')
			own.Write(name)
			own.WriteByte(':')
			own.Write(value)
		}
	}
	own.WriteByte('}')
	required := []any{Because}
	if list, ok := doc["required"].([]any); ok {
		required = append(required, list...)
	}
	with := maps.Clone(doc)
	with["properties"], with["required"] = json.RawMessage(own.Bytes()), required
	enc := json.NewEncoder(&rest)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(with); err != nil {
		panic("a compiled schema is JSON: " + err.Error())
	}
	return bytes.TrimSpace(rest.Bytes())
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
		for _, h := range a.PassesTo {
			contracts = append(contracts, Contract{Name: PassPrefix + h, Summary: "Hand the conversation over to " + h + ": " + p.Agents[h].Summary, Parameters: passParameters})
		}
		a.Box = box(contracts)
	}
}
