package project_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
)

// course compiles a small project with a relay whose legs are given, and more documents.
func course(legs, more string) (*project.Project, []project.Problem) {
	return coretest.Reader.Compile(project.Source{Files: map[string]string{project.Main: "project: p\nstart: desk\nmodels: {m: {speaks: understudy}}\n" +
		"---\nagent: desk\nsummary: Reads requests.\nprompt: You are the desk.\ntools: [look, r]\nconsults: [dues]\n" +
		"---\nagent: dues\nsummary: Works out what a stay costs.\nprompt: You know dues.\n" +
		"---\ntool: look\nsummary: Look a thing up when asked.\neffect: read\ninput: {type: object, required: [name], properties: {name: {type: string, description: Its name.}}}\noutput: {type: object, required: [size], properties: {size: {type: integer}}}\nstubs: [{returns: {size: 1}}]\n" +
		"---\nrelay: r\nsummary: Go through when asked.\ninput: {type: object, required: [text], properties: {text: {type: string, description: What.}, list: {type: array, items: {type: string}, description: Some.}}}\nlegs:\n" + legs + more}, Env: map[string]string{}})
}

func TestFaultsOfRelaysAreToldWithTheirPlaceAndRemedy(t *testing.T) {
	for want, text := range map[string][2]string{
		`the leg "a" does 2 things; a leg does one`:                                     {"  a: {agent: dues, tool: look}\n", ""},
		`the branch "x" does 2 things; a branch does one`:                               {"  a: {together: {x: {agent: dues, tool: look}}}\n", ""},
		`unknown agent "duse". Did you mean "dues" or "desk"?`:                          {"  a: {agent: duse}\n", ""},
		`the relay r has no leg "c". Did you mean "a" or "b"?`:                          {"  a: {agent: dues, go: c}\n  b: {finish: x}\n", ""},
		`the leg a of r does not give look its argument "name"`:                         {"  a: {tool: look, args: {nam: x}}\n", ""},
		`the leg a of r gives look an argument "nam" that it does not take.`:            {"  a: {tool: look, args: {nam: x}}\n", ""},
		`no course of r comes to the leg "b"`:                                           {"  a: {finish: x}\n  b: {finish: y}\n", ""},
		`the relay r cannot come to an end: its legs go round in a circle`:              {"  a: {agent: dues, go: a}\n", ""},
		`relays go through themselves: r → r`:                                           {"  a: {relay: r, input: {text: x}}\n", ""},
		`a way with no when: always holds`:                                              {"  a: {choose: [{go: b}, {when: 'true', go: b}]}\n  b: {finish: x}\n", ""},
		`fails: collect is for a leg that does several things`:                          {"  a: {agent: dues, fails: collect}\n", ""},
		`what is done several times side by side is done afresh`:                        {"  a: {agent: dues, each: '=input.list', thread: same}\n", ""},
		`rounds: is not for a leg that is a tool`:                                       {"  a: {tool: look, args: {name: x}, rounds: 2}\n", ""},
		`the plan "a" has nobody to carry it out`:                                       {"  a: {plan: dues}\n", ""},
		`the plan "a" of r would give its steps to the agent that plans`:                {"  a: {plan: dues, among: [look, dues]}\n", ""},
		`unknown agent, tool or relay "lok". Did you mean "look"?`:                      {"  a: {plan: dues, among: [lok]}\n", ""},
		`in the leg "a" dues would talk to itself`:                                      {"  a: {exchange: [dues, dues]}\n", ""},
		`there is no field "nothing" here`:                                              {"  a: {agent: dues, keep: one}\n  b: {finish: '=kept.nothing'}\n", ""},
		`unknown model "big"`:                                                           {"  a: {prompt: Say it., model: big}\n", ""},
		`nothing reads "one", which the leg a of r keeps`:                               {"  a: {agent: dues, keep: one}\n", ""},
		`the legs of r go round in a circle that nothing counts (a → b → a)`:            {"  a: {agent: dues}\n  b: {choose: [{when: \"input.text == 'x'\", go: a}]}\n", ""},
		`the leg a of r asks a model for each item of "list", which may have 10000`:     {"  a: {agent: dues, each: '=input.list'}\n", ""},
		`the relay r can begin itself again: its leg a sets desk to work`:               {"  a: {agent: desk}\n", ""},
		`the agents "bills" and "dues", which desk2 chooses between, will be confused`:  {"  a: {agent: desk2}\n", "---\nagent: bills\nsummary: Works out what a stay costs, too.\nprompt: x\n---\nagent: desk2\nsummary: Passes.\nprompt: x\npasses_to: [dues, bills]\n"},
		`nothing says what "verdict" of the answer of judge is, so nobody will fill it`: {"  a: {agent: judge}\n", "---\nagent: judge\nsummary: Judges.\nprompt: You judge.\nanswer: {type: object, properties: {verdict: {type: string}}}\n"},
		`next_step is how the agent of a plan takes its next step`:                      {"  a: {agent: dues}\n", "---\ntool: next_step\nsummary: Go.\nstubs: [{returns: 1}]\n"},
		`a leg that is a choose keeps nothing under a name of its own`:                  {"  a: {choose: [{go: b}], keep: x}\n  b: {finish: x}\n", ""},
		`the input of a relay must be an object`:                                        {"  a: {relay: r2, input: {}}\n", "---\nrelay: r2\ninput: {type: string}\nlegs: [dues]\n"},
		`"dues" is the name of a relay, and of an agent in`:                             {"  a: {relay: dues, input: {}}\n", "---\nrelay: dues\nlegs: [dues]\n"},
		`"look" is the name of a relay, and of a tool in`:                               {"  a: {agent: dues}\n", "---\nrelay: look\nlegs: [dues]\n"},
		`the plan "a" of r chooses from "look", which is the name of an agent and of a`: {"  a: {plan: dues, among: [look]}\n", "---\nagent: look\nsummary: Looks about.\nprompt: x\n"},
		`names that begin with pass_to_ are for handoffs`:                               {"  a: {agent: dues}\n", "---\nrelay: pass_to_dues\nlegs: [dues]\n"},
		`names that begin with consult_ are for consults`:                               {"  a: {agent: dues}\n", "---\nrelay: consult_dues\nlegs: [dues]\n"},
		`ask_person is how an agent asks`:                                               {"  a: {agent: dues}\n", "---\nrelay: ask_person\nlegs: [dues]\n"},

		`tries: says how often the text may be sent back, but the leg "b" sends it nowhere`:     {"  a: {agent: dues}\n  b: {gate: {show: x}, tries: 2}\n", ""},
		`lapsed: needs within:, since this gate never lapses`:                                   {"  a: {agent: dues}\n  b: {gate: {show: x}, lapsed: a}\n", ""},
		`the gate of the leg b changes "leter", which no leg of r keeps. Did you mean "letter"`: {"  a: {agent: dues, keep: letter}\n  b: {gate: {show: '{{ kept.letter }}', amend: leter}}\n", ""},
		`back: is not for a leg that is a agent`:                                                {"  a: {agent: dues, back: a}\n", ""},
		`2 people have to agree, but by: names 1`:                                               {"  a: {agent: dues}\n  b: {gate: {show: x, by: [asker], need: 2}}\n", ""},
		`legs.a.agnet is not known here; did you mean "agent"?`:                                 {"  a: {agnet: dues}\n", ""},
	} {
		_, probs := course(text[0], text[1])
		assert.Contains(t, says(probs), want, "%s%s", text[0], text[1])
		for _, p := range probs {
			if strings.Contains(p.Say, want) {
				assert.NotZero(t, p.Line)
				assert.True(t, p.Remedy != "" || strings.Contains(p.Say, "did you mean") || strings.Contains(p.Say, "no field"), p.Say)
			}
		}
	}
}

func TestALegMayNameAWording(t *testing.T) {
	p, probs := course("  a: {prompt: \"{{ wording.tone }} Say {{ input.text }}.\"}\n", "---\nwording: tone\ntext: Be brief.\n")
	require.NotNil(t, p, says(probs))
	text, err := p.Relays["r"].Legs[0].Say.Fill(map[string]any{"input": map[string]any{"text": "it"}})
	require.NoError(t, err)
	assert.Equal(t, "Be brief. Say it.", text)
	_, probs = course("  a: {prompt: \"{{ wording.tune }}\"}\n", "---\nwording: tone\ntext: Be brief.\n")
	assert.Contains(t, says(probs), `unknown wording "tune". Did you mean "tone"?`)
}

func TestWhatIsInOrderIsNotRemarkedOn(t *testing.T) {
	p, probs := course("  a: {agent: dues, keep: one}\n  b: {choose: [{when: \"visits.a < 3 && kept.one == 'x'\", go: a}]}\n  c: {finish: '=kept.one'}\n", "")
	require.NotNil(t, p)
	assert.Empty(t, says(probs))
	assert.Equal(t, ledger.Read, p.Relays["r"].Effect)
	assert.Equal(t, "", p.Relays["r"].Spoken()[:0])
}

func TestEveryDefaultOfALegIsSaid(t *testing.T) {
	p := coretest.Project(t, coretest.Letters)
	said := map[string]string{}
	for _, r := range []string{"line", "letter", "round", "talk", "trip", "asked"} {
		for _, l := range p.Relays[r].Explain() {
			said[r+"."+l.Leg] = strings.Join(l.Lines, "\n")
		}
	}
	assert.Contains(t, said["line.writer"], "it is told the input of the relay: its one text, or each field by its name")
	assert.Contains(t, said["line.reader"], "it is told the input of the relay, and the name and value of the leg before")
	assert.Contains(t, said["letter.write"], "it goes on with what it was told and said at earlier visits in the run")
	assert.Contains(t, said["letter.again"], "where no way holds, count comes next")
	assert.Contains(t, said["round.ships"], "an item that fails is kept as {problem}")
	assert.Contains(t, said["round.ships"], "for each item of the list, 2 at once")
	assert.Contains(t, said["talk.talk"], "where it fails, sorry comes next")
	assert.Contains(t, said["trip.plan"], "at most 3, each by one of reader, look, reserve, card")
	assert.Contains(t, said["asked.which"], "the person is told where it does not")
}

// What uses what: legs, their judges, hooks and agents that share the name of a tool.
const users = `project: p
start: desk
model: m
models: {m: {speaks: understudy}}
---
tool: look
summary: Look a thing up when asked.
effect: read
input: {type: object, properties: {}}
stubs: [{returns: 1}]
---
tool: note
summary: Write down that somebody came.
input: {type: object, properties: {}}
resend: safe
stubs: [{returns: 1}]
---
tool: idle
summary: Count the days of the year.
effect: read
input: {type: object, properties: {}}
stubs: [{returns: 1}]
---
agent: desk
summary: Reads requests.
prompt: x
tools: [look]
good_when: {judge: look, that: It is kind.}
---
agent: look
summary: Judges kindness.
prompt: x
answer: {type: object, properties: {good: {type: boolean}, remarks: {type: string}}}
on: {taking: [{call: {tool: note}}]}
---
relay: round
summary: Goes through all.
legs:
  one: {together: {a: {agent: look}, b: {tool: look, args: {}}}}
---
relay: judged
summary: Has it judged.
legs:
  one: {prompt: Say it., good_when: {judge: look, that: It is kind.}}
`

func TestWhatUsesWhat(t *testing.T) {
	p, probs := coretest.Reader.Compile(project.Source{Files: map[string]string{project.Main: users}, Env: map[string]string{}})
	require.NotNil(t, p, says(probs))
	assert.Contains(t, says(probs), `no agent and no relay uses the tool "idle"`)
	assert.NotContains(t, says(probs), `uses the tool "note"`, "a hook does")
	for _, x := range probs {
		if strings.Contains(x.Say, "nothing says what") || strings.Contains(x.Say, "begin itself again") {
			assert.Empty(t, x.Tool, "it is about no tool: %s", x.Say)
		}
	}
	assert.Equal(t, map[string]project.Users{"look": {Agents: []string{"desk"}, Relays: []string{"round"}}, "note": {Hooks: []string{"look"}}}, p.Users())
	assert.Equal(t, project.Uses{Agents: []string{"look"}, Tools: []string{"look"}}, p.ByAgent(p.Agents["desk"]), "the judge and the tool have one name")
	assert.Equal(t, project.Uses{Tools: []string{"note"}}, p.ByAgent(p.Agents["look"]), "its hooks call it")
	assert.Equal(t, project.Uses{Agents: []string{"look"}, Tools: []string{"look"}}, p.ByLeg(p.Relays["round"].Legs[0]))
	assert.Equal(t, project.Uses{Agents: []string{"look"}}, p.ByLeg(p.Relays["judged"].Legs[0]))
	assert.Equal(t, ledger.Write, p.Relays["judged"].Effect, "a hook of the agent that judges writes")
}
