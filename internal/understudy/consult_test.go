package understudy

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
)

// harbourDesk is a front desk that asks and passes on.
func harbourDesk(t *testing.T) *project.Project {
	p, probs := coretest.Reader.Compile(project.Source{Files: map[string]string{project.Main: `project: harbour
start: desk
models: {m: {speaks: understudy}}
---
tool: find_vessel
summary: Look a vessel up by its name in the register.
effect: read
input: {type: object, required: [name], properties: {name: {type: string, description: "Its name, such as Petrel."}}}
stubs: [{returns: {length_m: 12.4}}]
---
tool: reckon_dues
summary: Work out what a stay costs in harbour dues.
effect: read
input: {type: object, required: [length_m, nights], properties: {length_m: {type: number, description: "Length of the vessel in metres."}, nights: {type: integer, description: "How many nights it stays."}}}
stubs: [{returns: 57}]
---
agent: desk
summary: Reads requests.
prompt: "You are the desk. It is 2026-05-04T09:00:00+01:00."
tools: [find_vessel]
consults: [dues, tides]
passes_to: [dues]
---
agent: dues
summary: Works out what a stay costs in harbour dues, by length and nights.
prompt: "You work out dues. It is 2026-05-04T09:00:00+01:00."
input: {type: object, properties: {length_m: {type: number, description: "Length of the vessel in metres."}, nights: {type: integer, description: "How many nights it stays."}}}
tools: [reckon_dues]
---
agent: tides
summary: Tells when on a day the tide lets a vessel come in over the bar.
prompt: "You know the tides. It is 2026-05-04T09:00:00+01:00."
`}, Env: map[string]string{}})
	require.NotNil(t, p, "%v", probs)
	return p
}

// first gives the first reply of an agent to a message.
func first(t *testing.T, p *project.Project, agent string, asks bool, messages ...ledger.Message) deed.Reply {
	a := p.Agents[agent]
	system, err := a.Prompt[0].Text.Fill(nil)
	require.NoError(t, err)
	box := a.Box
	if asks {
		box = a.Asking
	}
	return PartOf(p, nil).Answer(deed.Request{System: system, Tools: box.Contracts, Messages: messages})
}

func said(text string) ledger.Message { return ledger.Message{Role: ledger.User, Text: text} }

func called(r deed.Reply) (out []string) {
	for _, c := range r.Calls {
		out = append(out, c.Tool+" "+c.Args)
	}
	return out
}

func TestPartOfARequestIsAskedForAndTheWholeOfOneHandedOver(t *testing.T) {
	p := harbourDesk(t)
	assert.Equal(t, []string{`pass_to_dues {"because":"The request was: What does a stay of 2 nights cost for 12 m?"}`}, called(first(t, p, "desk", false, said("What does a stay of 2 nights cost for 12 m?"))))
	assert.Equal(t, []string{
		`consult_tides {"question":"When can a vessel come in tomorrow"}`,
		`consult_dues {"length_m":12,"nights":2,"question":"What does a stay of 2 nights cost for 12 m"}`,
	}, called(first(t, p, "desk", false, said("When can a vessel come in tomorrow, and what does a stay of 2 nights cost for 12 m?"))), "each with its own figures alone")
	assert.Equal(t, []string{`consult_tides {"question":"When can it come in over the bar tomorrow"}`}, called(first(t, p, "desk", false, said("When can it come in over the bar tomorrow?"))), "who cannot be passed to is asked")
}

func TestWhatIsNotInAFieldIsSaidWithTheQuestion(t *testing.T) {
	r := first(t, harbourDesk(t), "desk", false, said("What does a stay of 2 nights cost for 12 m? And when can it come in over the bar?"))
	var args struct{ Question string }
	require.Len(t, r.Calls, 2)
	require.NoError(t, json.Unmarshal([]byte(r.Calls[1].Args), &args))
	assert.Equal(t, "When can it come in over the bar (2 nights, 12 m)", args.Question)
}

func TestTheFieldsBelowAQuestionAreTaken(t *testing.T) {
	p := harbourDesk(t)
	assert.Equal(t, []string{`reckon_dues {"length_m":38,"nights":2}`}, called(first(t, p, "dues", false, said("Tell me what it costs\n\nlength_m: 38\nnights: 2"))))
	assert.Equal(t, []string{`reckon_dues {"length_m":38,"nights":2}`}, called(first(t, p, "dues", false, said("What does a stay cost for 38 m\n\nwhen: 2 nights"))), "what names no parameter is read as words")
}

func TestAnAnswerAndAFailureStandSideBySide(t *testing.T) {
	p := harbourDesk(t)
	q := said("When can a vessel come in tomorrow, and what does a stay of 2 nights cost for 12 m?")
	calls := first(t, p, "desk", false, q).Calls
	r := first(t, p, "desk", false, q, ledger.Message{Agent: "desk", Role: ledger.Assistant, Calls: calls},
		ledger.Message{Role: ledger.FromTool, Tool: calls[0].Tool, Call: calls[0].ID, Text: "At noon."},
		ledger.Message{Role: ledger.FromTool, Tool: calls[1].Tool, Call: calls[1].ID, Text: "dues could not answer: the tariff is lost.", Ended: ledger.EndedFailed})
	assert.Empty(t, r.Calls, "nobody is asked twice")
	assert.Equal(t, "At noon.\n\ndues could not answer: the tariff is lost.", r.Text)
}

func TestWhatOnlyThePersonKnowsIsAskedOfThem(t *testing.T) {
	p := harbourDesk(t)
	q := said("What does a stay of 2 nights cost?")
	assert.Equal(t, "What is the length of the vessel in metres?", first(t, p, "dues", false, q).Text, "in the answer, where they cannot be asked")
	r := first(t, p, "dues", true, q)
	require.Equal(t, []string{`ask_person {"question":"What is the length of the vessel in metres?"}`}, called(r))
	next := first(t, p, "dues", true, q, ledger.Message{Role: ledger.Assistant, Calls: r.Calls}, ledger.Message{Role: ledger.FromTool, Tool: "ask_person", Call: r.Calls[0].ID, Text: "Ann answers: it is 12.4 m"})
	assert.Equal(t, []string{`reckon_dues {"length_m":12.4,"nights":2}`}, called(next))
}

func TestWhatDidNotReturnIsKnownByItsWords(t *testing.T) {
	for words, bad := range map[string]bool{
		"tides was not asked: consults go at most 8 deep, and this one would be 9.":           true,
		"card was not begun: consults and relays go at most 8 deep, and this one would be 9.": true,
		"reader was not set to work: this plan may take 3 steps, and they are used up.":       true,
		`"nobody" cannot take a step. Candidates: reader and look.`:                           true,
		"Not taken: one step at a time. Look at the result of the first.":                     true,
		"Not known whether it was done: the run was stopped.":                                 true,
		"look was not called: name is missing.":                                               true,
		"tides could not answer: it failed.":                                                  true,
		"The bar was not begun until noon, said the pilot.":                                   false,
		"Reserved C4.": false,
	} {
		assert.Equal(t, bad, badRE.MatchString(words), words)
	}
}
