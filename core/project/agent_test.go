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

// consults compiles a project whose desk consults as it is told.
func consults(desk, dues string) (*project.Project, []project.Problem) {
	return coretest.Reader.Compile(project.Source{Files: map[string]string{project.Main: "project: p\nstart: desk\nmodels: {m: {speaks: understudy}}\n" +
		"---\nagent: desk\nsummary: Reads requests.\nprompt: You are the desk.\n" + desk +
		"---\nagent: dues\nsummary: Works out dues.\nprompt: You know dues.\n" + dues +
		"---\nagent: tides\nsummary: Knows the tides.\nprompt: You know tides.\n"}, Env: map[string]string{}})
}

func says(probs []project.Problem) string {
	var out []string
	for _, p := range probs {
		out = append(out, p.Place.String()+": "+string(p.Grade)+": "+p.Say)
	}
	return strings.Join(out, "\n")
}

func TestAConsultIsAToolWithAQuestionAndTheFieldsOfTheOther(t *testing.T) {
	p, probs := consults("consults: [dues, {agent: tides, memory: kept, asks: person}]\npasses_to: [tides]\n",
		"input: {type: object, required: [nights], properties: {nights: {type: integer, description: Nights.}}}\n")
	require.NotNil(t, p, "%v", probs)
	assert.Empty(t, says(probs), "who is consulted is reached")
	desk := p.Agents["desk"]
	var names []string
	for _, c := range desk.Box.Contracts {
		names = append(names, c.Name)
	}
	assert.Equal(t, []string{"consult_dues", "consult_tides", "pass_to_tides"}, names)
	assert.Equal(t, "Ask dues, and get its answer: Works out dues.", desk.Box.Contracts[0].Summary)
	assert.JSONEq(t, `{"type":"object","additionalProperties":false,"required":["question","nights"],"properties":{
		"nights":{"type":"integer","description":"Nights."},
		"question":{"type":"string","minLength":1,"description":"What to ask, in full: dues sees nothing of this conversation."}}}`, string(desk.Box.Contracts[0].Parameters))
	assert.Equal(t, []bool{false, true, true}, []bool{desk.Consulted("dues").Kept, desk.Consulted("tides").Kept, desk.Consulted("tides").Asks})
	assert.Nil(t, desk.Consulted("desk"))
	assert.Equal(t, project.AskPerson, p.Agents["dues"].Asking.Contracts[0].Name)
	assert.Empty(t, p.Agents["dues"].Box.Contracts)
}

func TestConsultsThatCannotBe(t *testing.T) {
	for want, c := range map[string][2]string{
		`stonebaton.yaml:8:12: error: "desk" cannot consult itself`:              {"consults: [desk]\n", ""},
		`stonebaton.yaml:8:19: error: unknown agent "due". Did you mean "dues"?`: {"consults: [tides, due]\n", ""},
		`stonebaton.yaml:8:18: error: "dues" is listed twice`:                    {"consults: [dues, {agent: dues, memory: kept}]\n", ""},
		`memory must be one of`:                 {"consults: [{agent: dues, memory: long}]\n", ""},
		`"question" is what every consult asks`: {"consults: [dues]\n", "input: {type: object, properties: {question: {type: string}}}\n"},
		`the input of an agent is an object`:    {"consults: [dues]\n", "input: {type: string}\n"},
		`warning: consults can go round in a circle: desk → dues → desk; they end 8 deep`: {"consults: [dues]\n", "consults: [desk]\n"},
		`warning: nobody hands over to "dues", and nobody consults it`:                    {"consults: [tides]\n", ""},
		`names that begin with consult_ are for consults`:                                 {"---\ntool: consult_x\nsummary: Ask X.\nstubs: [{returns: 1}]\n", ""},
		`ask_person is how an agent asks the person`:                                      {"---\ntool: ask_person\nsummary: Ask.\nstubs: [{returns: 1}]\n", ""},
		`12:12: error: unknown agent "due". Did you mean "dues"?`:                         {"consults: [dues]\n---\ndrill: d\nsay: x\nconsults: {due: x}\nexpect: {status: done}\n", ""},
		`ask_person cannot be settled by allow`:                                           {"consults: [dues]\n---\ndrill: d\nsay: x\ngates: {ask_person: allow}\nexpect: {status: done}\n", ""},
		`error: unknown agent "tide". Did you mean "tides"?`:                              {"consults: [dues]\n---\ndrill: d\nsay: x\nexpect: {consults: [{agent: tide}]}\n", ""},
	} {
		_, probs := consults(c[0], c[1])
		assert.Contains(t, says(probs), want, "%s", c[0])
	}
}

func TestWhatADrillSaysOfConsults(t *testing.T) {
	p, probs := consults("consults: [dues, tides]\n---\ndrill: d\nsay: x\nconsults: {dues: 57 EUR, tides: {fails: the gauge is lost}}\ngates: {ask_person: {answer: 3 m}}\nexpect: {consults: [{agent: dues, by: desk, asked: what, answer: 57 EUR, outcome: done}]}\n", "")
	require.NotNil(t, p, "%v", probs)
	d := p.Drills[0]
	assert.Equal(t, map[string]ledger.Canned{"dues": {Answer: "57 EUR"}, "tides": {Fails: "the gauge is lost"}}, d.Consults)
	assert.Equal(t, []project.DrillGate{{Verb: ledger.Answer, Answer: "3 m"}}, d.Gates["ask_person"])
}
