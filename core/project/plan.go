package project

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"stonebaton.example/core/ledger"
)

// Step is what the agent of a plan says of its next step: the arguments of NextStep.
type Step struct {
	Aim   string          `json:"aim"`
	Who   string          `json:"who"`
	Ask   string          `json:"ask"`
	With  json.RawMessage `json:"with"`
	Ahead []Ahead         `json:"ahead"`
}

// Ahead is a step that will probably follow.
type Ahead struct {
	Who string `json:"who"`
	Ask string `json:"ask,omitempty"`
}

// StepOf reads the arguments of a call of NextStep, which were held against its schema.
func StepOf(args json.RawMessage) Step {
	var s Step
	_ = json.Unmarshal(args, &s) // they fit
	return s
}

// among looks at whom a plan may choose from, and makes the tool with which it does.
func (c *compiler) among(r *Relay, l *Leg) {
	var have []string
	for _, m := range [][]string{keysOf(c.p.Agents), keysOf(c.p.Tools), keysOf(c.p.Relays)} {
		have = append(have, m...)
	}
	for i, n := range l.Among {
		switch {
		case !slices.Contains(have, n):
			c.missing(l.Place, "agent, tool or relay", n, have)
			return
		case n == l.Does:
			c.report(Error, l.Place, "Remove it from among:.", "the plan %q of %s would give its steps to the agent that plans", l.Name, r.Name)
			return
		case c.p.Tools[n] != nil && c.p.Agents[n] != nil:
			c.report(Error, l.Place, oneName, "the plan %q of %s chooses from %q, which is the name of an agent and of a tool in %s:%d", l.Name, r.Name, n, c.p.Tools[n].Place.File, c.p.Tools[n].Place.Line)
			return
		case slices.Contains(l.Among[:i], n):
			c.report(Error, l.Place, "Keep one of them.", "%q is listed twice", n)
			return
		}
	}
	if len(l.Among) > 0 {
		l.NextStep = c.p.nextStep(l)
	}
}

// nextStep makes the tool with which the agent of a plan takes its next step. What each
// candidate takes stands under $defs, by its name.
func (p *Project) nextStep(l *Leg) *Tool {
	defs := map[string]any{}
	var lines []string
	for _, n := range l.Among {
		def := map[string]any{"type": "object", "properties": map[string]any{"ask": map[string]any{"type": "string", "description": "What it is to do, in full: it sees nothing of this conversation."}}, "required": []any{"ask"}}
		summary := ""
		switch {
		case p.Tools[n] != nil:
			summary = p.Tools[n].Summary
			def = maps.Clone(p.Tools[n].Input.Doc())
			def["title"] = "a tool"
		case p.Relays[n] != nil:
			summary = p.Relays[n].Summary
			def = maps.Clone(p.Relays[n].Input.Doc())
			def["title"] = "a relay"
		case p.Agents[n] != nil:
			summary = p.Agents[n].Summary
			def["title"] = StepOfAgent
		}
		def["description"] = summary
		defs[n] = def
		lines = append(lines, n+": "+summary)
	}
	who := map[string]any{"enum": l.Among, "description": "Who takes it."}
	ask := map[string]any{"type": "string", "description": "For an agent: what it is to do, in full. For the others: what the step is for."}
	doc := map[string]any{"type": "object", "additionalProperties": false, "required": []any{"who"}, "$defs": defs, "properties": map[string]any{
		"aim":  map[string]any{"type": "string", "description": "What the whole is to come to, in a sentence."},
		"who":  who,
		"ask":  ask,
		"with": map[string]any{"type": "object", "description": "For a tool or a relay: its input, as $defs describes it under its name."},
		"ahead": map[string]any{"type": "array", "description": "The steps that will probably follow, in order.",
			"items": map[string]any{"type": "object", "additionalProperties": false, "required": []any{"who"}, "properties": map[string]any{"who": who, "ask": ask}}},
	}}
	raw, err := json.Marshal(doc) // so that it holds what a schema that was read holds
	if err != nil {
		panic("compiled schemas are JSON: " + err.Error())
	}
	return &Tool{Name: NextStep, Input: mustCompile(raw), Effect: ledger.Read,
		Summary: "Take the next step, and read the result. Answer in words, with no call, when the aim is reached. Who can take a step: " + strings.Join(lines, " | ")}
}
