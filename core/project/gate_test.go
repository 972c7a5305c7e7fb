package project_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/project"
)

// gateOf compiles a project in which a write has a gate.
func gateOf(gate string) (*project.Project, []project.Problem) {
	return coretest.Reader.Compile(project.Source{Files: map[string]string{project.Main: `project: p
start: desk
model: m
models: {m: {speaks: understudy}}
approvers: [ann, ben]
state: {type: object, properties: {owner: {type: string}, length_m: {type: number}}}
---
tool: look
summary: Look a thing up when asked.
effect: read
input: {type: object, required: [name], properties: {name: {type: string, description: Its name.}}}
output: {type: object, required: [size], properties: {size: {type: integer}}}
stubs: [{returns: {size: 1}}]
---
tool: put
summary: Put a thing away when asked.
input: {type: object, required: [name], properties: {name: {type: string, description: Its name.}}}
gate: ` + gate + `
stubs: [{returns: null}]
---
agent: desk
summary: Puts.
prompt: You put.
tools: [put]
`}, Env: map[string]string{}})
}

func TestFaultsOfGatesAreToldWithTheirPlaceAndRemedy(t *testing.T) {
	for want, gate := range map[string]string{
		`unknown approver "anne". Did you mean "ann"?`:                      `{by: [anne]}`,
		`2 people have to agree, but by: names 1`:                           `{by: [ann], need: 2}`,
		`2 people have to agree, but by: names nobody`:                      `{need: 2}`,
		`3 people have to agree, but by: names 2`:                           `{by: [ann, ann, ben], need: 3}`,
		`who may settle it must be a text or a list, but this gives number`: `{by: ["=state.?length_m.orValue(1.0)"]}`,
		`there is no field "ownr" here`:                                     `{by: ["=state.ownr"]}`,
		`unknown tool "lok". Did you mean "look"?`:                          `{looks_up: {a: {tool: lok}}}`,
		`"put" is a write`:                                                  `{looks_up: {a: {tool: put}}}`,
		`there is no field "b" here`:                                        `{looks_up: {a: {tool: look, args: {name: "=args.name"}}}, ask: "{{ found.b }}"}`,
		`there is no field "sise" here`:                                     `{looks_up: {a: {tool: look, args: {name: "=args.name"}}}, ask: "{{ found.a.sise }}"}`,
		`anybody may settle this gate, so it cannot be escalated`:           `{escalate: {after: 1h, to: [ann]}}`,
		`the gate lapses after 30m, before it is escalated`:                 `{by: [ann], within: 30m, escalate: {after: 1h, to: [ben]}}`,
		`lapse: needs within:, since this gate never lapses`:                `{lapse: fail}`,
		`gate.lapse must be one of refuse, allow, fail, not faill`:          `{within: 1h, lapse: faill}`,
		`gate.first must be at least 1`:                                     `{first: 0}`,
		`gate.escalate.after is missing`:                                    `{by: [ann], escalate: {to: [ben]}}`,
		`gate.needs is not known here; did you mean "need"?`:                `{needs: 2}`,
	} {
		_, probs := gateOf(gate)
		all := says(probs)
		assert.Contains(t, all, want, gate)
	}
}

func TestWhatAGateSays(t *testing.T) {
	p, probs := gateOf(`{when: "args.name == 'x'", by: [ann, asker, "=state.owner"], need: 2, self: false, looks_up: {b: {tool: look, args: {name: x}}, a: {tool: look, args: {name: "=args.name"}}}, ask: "{{ found.a.size }} of {{ gate.by }}?", within: 2h, lapse: allow, escalate: {after: 1h, to: [ben]}, first: 3}`)
	require.NotNil(t, p, "%v", says(probs))
	g := p.Tools["put"].Gate
	assert.Equal(t, []string{"ann", "asker", "=state.owner"}, g.Approvers())
	assert.Equal(t, 2, g.Need)
	assert.True(t, g.NotAsker)
	assert.Equal(t, 3, g.First)
	assert.Equal(t, []string{"a", "b"}, []string{g.LooksUp[0].Name, g.LooksUp[1].Name})
	assert.Equal(t, []string{"put"}, p.Users()["look"].Gates, "a tool that a gate looks things up with is used")
	assert.NotContains(t, says(probs), "no agent and no relay uses")
	assert.Equal(t, "2h0m0s", g.Within.String())
	assert.Contains(t, strings.Join(g.Approvers(), " "), "asker")
}

func TestACircleThatAGateCountsIsNone(t *testing.T) {
	_, probs := course("  a: {agent: dues, keep: letter}\n  b: {gate: {show: '{{ kept.letter }}'}, back: a}\n", "")
	assert.NotContains(t, says(probs), "circle")
	_, probs = course("  a: {agent: dues, keep: letter}\n  b: {gate: {show: '{{ kept.letter }}'}, go: a}\n", "")
	assert.Contains(t, says(probs), "circle")
}
