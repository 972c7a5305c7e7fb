package project

import (
	"bytes"
	"encoding/json"
	"maps"
	"slices"

	"stonebaton.example/core/ledger"
	"stonebaton.example/core/schema"
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
	x := contractOf(t.Name, t.Summary, t.Input)
	if t.ReasonFirst {
		x.Parameters = reasonFirst(t.Input.Doc())
	}
	return x
}

func contractOf(name, summary string, input *schema.Schema) Contract {
	doc := input.Doc()
	if doc["$schema"] != nil { // which draft it is of is nothing to a model
		doc = maps.Clone(doc)
		delete(doc, "$schema")
	}
	params, err := json.Marshal(doc)
	if err != nil {
		panic("a compiled schema is JSON: " + err.Error())
	}
	return Contract{Name: name, Summary: summary, Parameters: params}
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
	delete(with, "$schema")
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

// GateOfLeg is the call by which a leg of a relay puts a text before people.
const GateOfLeg = "gate_of_leg"

// askPerson is the question that an agent puts to the person.
var askPerson = Contract{Name: AskPerson, Summary: "Ask the person something that nobody else can tell: a missing detail, a choice that is theirs. They answer in words; or by one of choices, or with fields, where you give these.",
	Parameters: json.RawMessage(`{"additionalProperties":false,"properties":{"question":{"description":"What to ask, as one question.","minLength":1,"type":"string"},` +
		`"choices":{"description":"Answers to choose one of.","items":{"maxLength":200,"minLength":1,"type":"string"},"maxItems":20,"minItems":2,"type":"array","uniqueItems":true},` +
		`"fields":{"additionalProperties":{"additionalProperties":false,"properties":{"description":{"maxLength":300,"type":"string"},"enum":{"items":{"maxLength":200,"type":"string"},"maxItems":20,"minItems":1,"type":"array"},"format":{"enum":["date","date-time","time","email"]},"type":{"enum":["string","number","integer","boolean"]}},"required":["type"],"type":"object"},"description":"A form in place of a text, by the names of its fields.","maxProperties":12,"minProperties":1,"propertyNames":{"pattern":"^[a-z][a-z0-9_]{0,47}$"},"type":"object"}},` +
		`"required":["question"],"type":"object"}`)}

// AskParams is the schema of a question to the person.
var AskParams = mustCompile(askPerson.Parameters)

// Wanted gives the JSON Schema that the answer to a question has to fit, whose arguments fit
// AskParams: one of its choices, or its fields; nil where any words do.
func Wanted(args map[string]any) map[string]any {
	if choices, ok := args["choices"]; ok {
		return map[string]any{"enum": choices}
	}
	if fields, ok := args["fields"].(map[string]any); ok {
		required := make([]any, 0, len(fields))
		for _, k := range keysOf(fields) {
			required = append(required, k)
		}
		return map[string]any{"type": "object", "additionalProperties": false, "required": required, "properties": fields}
	}
	return nil
}

func mustCompile(raw json.RawMessage) *schema.Schema {
	var doc map[string]any
	err := json.Unmarshal(raw, &doc)
	if err == nil {
		var s *schema.Schema
		if s, err = schema.Compile(doc); err == nil {
			return s
		}
	}
	panic("a schema of our own is one: " + err.Error())
}

// Params compiles what Takes gives.
func (a *Agent) Params() (*schema.Schema, error) { return schema.Compile(a.Takes()) }

// Takes gives the JSON Schema of what an agent is consulted with: a question, and the fields
// of its input.
func (a *Agent) Takes() map[string]any {
	doc := map[string]any{"type": "object", "additionalProperties": false}
	props, required := map[string]any{}, []any{Question}
	if a.Input != nil {
		maps.Copy(doc, a.Input.Doc())
		if own, ok := doc["properties"].(map[string]any); ok {
			maps.Copy(props, own)
		}
		if own, ok := doc["required"].([]any); ok {
			required = append(required, own...)
		}
	}
	props[Question] = map[string]any{"type": "string", "minLength": 1, "description": "What to ask, in full: " + a.Name + " sees nothing of this conversation."}
	doc["properties"], doc["required"] = props, required
	return doc
}

// pack fills every agent's toolbox: its tools, then its consults, then its handoffs.
func (p *Project) pack() {
	for _, a := range p.Agents {
		contracts := []Contract{}
		for _, t := range a.Tools {
			if r := p.Relays[t]; r != nil {
				contracts = append(contracts, r.Contract())
				continue
			}
			contracts = append(contracts, p.Tools[t].Contract())
		}
		for _, c := range a.Consults {
			params, err := json.Marshal(c.Params.Doc())
			if err != nil {
				panic("a compiled schema is JSON: " + err.Error())
			}
			contracts = append(contracts, Contract{Name: ConsultPrefix + c.Agent, Summary: p.explain("consult", c.Agent), Parameters: params})
		}
		for _, h := range a.PassesTo {
			contracts = append(contracts, Contract{Name: PassPrefix + h, Summary: p.explain("handoff", h), Parameters: passParameters})
		}
		a.Box, a.Asking = box(contracts), box(append(slices.Clip(contracts), askPerson))
	}
	for _, r := range p.Relays {
		for _, l := range r.Legs {
			if l.Kind == LegPlan {
				l.Box = box(append(slices.Clip(p.Agents[l.Does].Box.Contracts), l.NextStep.Contract()))
			}
			if l.Own != nil {
				l.Own.Box, l.Own.Asking = NoTools, NoTools
			}
		}
	}
}
