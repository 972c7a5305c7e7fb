package understudy_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/understudy"
)

// alone is what an agent with no tools answers to a task.
func alone(system, said, shape string) string {
	if shape != "" {
		system += "\n\nAnswer with one JSON value that fits this JSON Schema, and nothing else: " + shape
	}
	return understudy.Part{}.Answer(deed.Request{System: system, Messages: []ledger.Message{user(said)}}).Text
}

func TestAnAgentWithNoToolsPutsTogetherWhatItIsTold(t *testing.T) {
	assert.Equal(t, "Dear Marrow Light,\n\nBerth C4 from Friday noon. The dues are 57 EUR.\n\nYours sincerely",
		alone("You write letters.", "Write a letter to the Marrow Light:\nberth C4 from Friday noon\nthe dues are 57 EUR", ""))
	assert.Equal(t, "Petrel: 12 m. Tern: 9 m.", alone("You sum up.", "Sum up:\nPetrel: 12 m\nTern: 9 m", ""))
}

func TestItJudgesByWhatItsInstructionsDemand(t *testing.T) {
	const judge = "You read letters. A letter must name the berth and the dues."
	const shape = `{"type":"object","required":["fine","remarks"],"properties":{"fine":{"type":"boolean"},"remarks":{"type":"string"}}}`
	assert.JSONEq(t, `{"fine":true,"remarks":""}`, alone(judge, "Dear all, berth C4, the dues are 57 EUR.", shape))
	assert.JSONEq(t, `{"fine":false,"remarks":"It must have the dues."}`, alone(judge, "Dear all, berth C4.", shape))
}

func TestAnAnswerThatIsSentBackIsGivenOnceMore(t *testing.T) {
	said := []ledger.Message{user("Write a letter to all:\nready on Friday"), {Role: ledger.Assistant, Text: "Dear all"}, user("It must have the price.")}
	r := understudy.Part{}.Answer(deed.Request{System: "You write letters.", Messages: said})
	assert.Equal(t, "Dear all,\n\nReady on Friday.\n\nYours sincerely", r.Text)
	assert.JSONEq(t, `{"good":true,"remarks":"","score":10}`, alone("You judge.", "A letter must name the day.\n\nDear all, ready on Friday.", `{"type":"object","required":["good","remarks"],"properties":{"good":{"type":"boolean"},"remarks":{"type":"string"},"score":{"type":"integer"}}}`), "a day of the week is a day")
}

func TestItRewritesAQuestion(t *testing.T) {
	const editor = "Rewrite what you are told into one clear question."
	assert.Equal(t, "When is job 12 ready?", alone(editor, "hi um when is job 12 ready pls", ""))
	again := func(said string) string {
		return understudy.Part{}.Answer(deed.Request{System: editor, Messages: []ledger.Message{user("hi um when is job 12 ready pls"), {Role: ledger.Assistant, Text: "When is job 12 ready?"}, user(said)}}).Text
	}
	assert.Equal(t, "When is job 14 ready?", again("and 14?"))
	assert.Equal(t, "When is job 12 ready, the kettle?", again("and the kettle"))
}

func TestItLabelsByTheWordsOfItsInstructions(t *testing.T) {
	const sorter = "You sort messages.\nberth: a place to lie, mooring, nights\nmoney: dues, fees, bills, paying\nother: everything else"
	const shape = `{"enum":["berth","money","other"]}`
	assert.Equal(t, `"money"`, alone(sorter, "My bill for the harbour fees looks wrong.", shape))
	assert.Equal(t, `"berth"`, alone(sorter, "Is there a mooring for two nights?", shape))
	assert.Equal(t, `["first thing","second thing"]`, alone("You list.", "List:\nfirst thing\nsecond thing", `{"type":"array","items":{"type":"string"}}`))
}

func TestAPlanIsTheStepsThatItsRequestNeeds(t *testing.T) {
	nextStep := project.Contract{Name: "next_step", Summary: "Take the next step.", Parameters: json.RawMessage(`{"type":"object","required":["who"],"properties":{"who":{"enum":["find_vessel","reckon_dues","letters"]}},"$defs":{
		"find_vessel":{"title":"a tool","description":"Look a vessel up by its name; gives its length and draught.","type":"object","required":["name"],"properties":{"name":{"type":"string","description":"Name of the vessel."}}},
		"reckon_dues":{"title":"a tool","description":"Work out the dues: what a stay costs.","type":"object","required":["length_m","nights"],"properties":{"length_m":{"type":"number","description":"Length in metres."},"nights":{"type":"integer","description":"How many nights."}}},
		"letters":{"title":"an agent","description":"Writes letters to vessels.","type":"object","required":["ask"],"properties":{"ask":{"type":"string"}}}}}`)}
	req := deed.Request{System: "You plan.", Tools: []project.Contract{nextStep}, Messages: []ledger.Message{user("Look up the vessel Marrow Light and work out the dues for 12 m and 2 nights.")}}
	r := understudy.Part{}.Answer(req)
	require.Len(t, r.Calls, 1)
	assert.Equal(t, "next_step", r.Calls[0].Tool)
	assert.JSONEq(t, `{"aim":"Look up the vessel Marrow Light and work out the dues for 12 m and 2 nights.","who":"find_vessel","with":{"name":"Marrow Light"},"ahead":[{"who":"reckon_dues"}]}`, r.Calls[0].Args)
	r.Calls[0].ID = "1"
	req.Messages = append(req.Messages, ledger.Message{Role: ledger.Assistant, Calls: r.Calls}, ledger.Message{Role: ledger.FromTool, Tool: "next_step", Call: "1", Text: `{"name":"Marrow Light","length_m":46}`})
	r = understudy.Part{}.Answer(req)
	require.Len(t, r.Calls, 1)
	assert.Contains(t, r.Calls[0].Args, `"who":"reckon_dues"`)
	r.Calls[0].ID = "2"
	req.Messages = append(req.Messages, ledger.Message{Role: ledger.Assistant, Calls: r.Calls}, ledger.Message{Role: ledger.FromTool, Tool: "next_step", Call: "2", Text: `{"dues":57}`})
	r = understudy.Part{}.Answer(req)
	assert.Empty(t, r.Calls)
	assert.Contains(t, r.Text, "57")
}
