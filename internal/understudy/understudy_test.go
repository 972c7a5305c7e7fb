package understudy_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/understudy"
)

const system = "You are the front desk. It is 2026-05-04T09:00:00+01:00."

func tool(name, summary, params string) project.Contract {
	return project.Contract{Name: name, Summary: summary, Parameters: json.RawMessage(params)}
}

var tools = []project.Contract{
	tool("find_vessel", "Look a vessel up by its name; gives its length and draught.", `{"type":"object","required":["name"],"properties":{"name":{"type":"string","description":"Name of the vessel."}}}`),
	tool("tide_windows", "Tell when the tide lets a draught come in over the bar on a day.", `{"type":"object","required":["day","draught_m"],"properties":{"day":{"type":"string","format":"date","description":"The day."},"draught_m":{"type":"number","description":"Draught in metres: what it draws."}}}`),
	tool("reckon_dues", "Work out the dues: what a stay costs.", `{"type":"object","required":["length_m","nights"],"properties":{"length_m":{"type":"number","description":"Length in metres."},"nights":{"type":"integer","description":"How many nights."},"season":{"type":"string","enum":["summer","winter"]}}}`),
	tool("find_berth", "List free berths that fit, with their codes.", `{"type":"object","required":["length_m","arrives","leaves"],"properties":{"length_m":{"type":"number","description":"Length."},"arrives":{"type":"string","format":"date-time","description":"Arrival."},"leaves":{"type":"string","format":"date-time","description":"Departure."}}}`),
	tool("assign_berth", "Reserve a berth.", `{"type":"object","required":["berth"],"properties":{"berth":{"type":"string","pattern":"^[A-F][0-9]{1,2}$","description":"Berth code."}}}`),
	tool("pass_to_bylaws", "Hand the conversation over to bylaws: Quotes the bylaws on painting, fishing and anchors.", `{"type":"object","properties":{"because":{"type":"string"}}}`),
}

func user(text string) ledger.Message { return ledger.Message{Role: ledger.User, Text: text} }

func ask(msgs ...ledger.Message) deed.Reply {
	return understudy.Part{}.Answer(deed.Request{System: system, Tools: tools, Messages: msgs})
}

func calls(r deed.Reply) []string {
	out := []string{}
	for _, c := range r.Calls {
		out = append(out, c.Tool+" "+c.Args)
	}
	return out
}

func TestItChoosesByDescriptionsAndFillsBySchemas(t *testing.T) {
	for said, want := range map[string]string{
		"Look up the vessel Marrow Light, please.":                   `find_vessel {"name":"Marrow Light"}`,
		"When can I come in over the bar on Friday, drawing 5.2 m?":  `tide_windows {"day":"2026-05-08","draught_m":5.2}`,
		"When does the tide let me in tomorrow with 3 m draught?":    `tide_windows {"day":"2026-05-05","draught_m":3}`,
		"What are the dues for 3 nights in winter at 12.4 m length?": `reckon_dues {"length_m":12.4,"nights":3,"season":"winter"}`,
		"What are the dues for two nights, 38 m?":                    `reckon_dues {"length_m":38,"nights":2}`,
		"Reserve C4": `assign_berth {"berth":"C4"}`,
		"Find free berths for 20 m from 6 May 14:00 to 8 May 09:00":                  `find_berth {"arrives":"2026-05-06T14:00:00+01:00","leaves":"2026-05-08T09:00:00+01:00","length_m":20}`,
		"Find free berths for 20 m from Friday noon, two nights":                     `find_berth {"arrives":"2026-05-08T12:00:00+01:00","leaves":"2026-05-10T12:00:00+01:00","length_m":20}`,
		"List free berths, length 9 m, from 2026-06-01T10:00 until 2 June 2026 6 pm": `find_berth {"arrives":"2026-06-01T10:00:00+01:00","leaves":"2026-06-02T18:00:00+01:00","length_m":9}`,
		"Am I allowed fishing from the pier?":                                        `pass_to_bylaws {"because":"The request was: Am I allowed fishing from the pier?"}`,
	} {
		assert.Equal(t, []string{want}, calls(ask(user(said))), said)
		assert.Equal(t, calls(ask(user(said))), calls(ask(user(said))), "the same every time")
	}
}

func TestItAsksForWhatIsMissingAndGoesOnWithTheAnswer(t *testing.T) {
	q := ask(user("When can I come in over the bar on Friday?"))
	assert.Empty(t, q.Calls)
	assert.Equal(t, "What is the draught in metres?", q.Text)
	r := ask(user("When can I come in over the bar on Friday?"), ledger.Message{Role: ledger.Assistant, Text: q.Text}, user("It draws 5.2 m."))
	assert.Equal(t, []string{`tide_windows {"day":"2026-05-08","draught_m":5.2}`}, calls(r))
}

// after is a request whose call has been answered.
func after(said, tool, args, result string) []ledger.Message {
	return []ledger.Message{user(said), {Role: ledger.Assistant, Calls: []ledger.Ask{{ID: "1", Tool: tool, Args: args}}}, {Role: ledger.FromTool, Tool: tool, Call: "1", Text: result}}
}

func TestItUsesWhatToolsBroughtForWhatIsStillToDo(t *testing.T) {
	said := "Reserve a berth for 20 m from Friday noon, two nights"
	first := ask(user(said))
	assert.Equal(t, "find_berth", first.Calls[0].Tool, "a berth's code is missing, and this tool says that it brings codes")
	second := ask(after(said, "find_berth", first.Calls[0].Args, `[{"berth":"B2","length_m":24},{"berth":"C1","length_m":52}]`)...)
	assert.Equal(t, []string{`assign_berth {"berth":"B2"}`}, calls(second))
}

func TestItAnswersFromResults(t *testing.T) {
	r := ask(after("Look up the vessel Petrel", "find_vessel", `{"name":"Petrel"}`, `{"vessel":"Petrel","length_m":12.4}`)...)
	assert.Equal(t, "Petrel: the length is 12.4 m.", r.Text)
	r = ask(after("List free berths that fit 9 m", "find_berth", `{}`, `[{"berth":"A3","length_m":15},{"berth":"A7","length_m":18}]`)...)
	assert.Equal(t, "2 berths: A3, length 15 m; A7, length 18 m.", r.Text)
	r = ask(after("Reserve C4", "assign_berth", `{"berth":"C4"}`, "Not done: master refused assign_berth and said: no.")...)
	assert.Equal(t, "Not done: master refused assign_berth and said: no.", r.Text, "it passes a refusal on, and does not try again")
}

func TestItMendsOnceWhatAFailureNamed(t *testing.T) {
	said := "Look up the vessel Marow Light"
	msgs := after(said, "find_vessel", `{"name":"Marow Light"}`, `find_vessel failed: no vessel "Marow Light"; "Marrow Light" is nearest`)
	r := ask(msgs...)
	require.Equal(t, []string{`find_vessel {"name":"Marrow Light"}`}, calls(r))
	msgs = append(msgs, ledger.Message{Role: ledger.Assistant, Calls: []ledger.Ask{{ID: "2", Tool: "find_vessel", Args: r.Calls[0].Args}}}, ledger.Message{Role: ledger.FromTool, Tool: "find_vessel", Call: "2", Text: `find_vessel failed: "Marrow Light" is nearest`})
	assert.Empty(t, ask(msgs...).Calls, "once")
}

func TestSeveralClausesAreWorkedOffInTurn(t *testing.T) {
	said := "Look up the vessel Petrel and then tell me the dues for 2 nights."
	r := ask(user(said))
	assert.Equal(t, []string{`find_vessel {"name":"Petrel"}`}, calls(r))
	r = ask(after(said, "find_vessel", `{}`, `{"vessel":"Petrel","length_m":12.4}`)...)
	assert.Equal(t, []string{`reckon_dues {"length_m":12.4,"nights":2}`}, calls(r), "the length comes from the result")
}

func TestANewToolIsChosenByItsDescriptionAndAPoorOneIsWorse(t *testing.T) {
	good := tool("order_fuel", "Order fuel to be brought to a berth.", `{"type":"object","required":["litres"],"properties":{"litres":{"type":"number","description":"How many litres."}}}`)
	poor := tool("svc_17", "Service call.", `{"type":"object","required":["q"],"properties":{"q":{"type":"number"}}}`)
	with := func(c project.Contract) deed.Reply {
		return understudy.Part{}.Answer(deed.Request{System: system, Tools: append(append([]project.Contract{}, tools...), c), Messages: []ledger.Message{user("Please order 200 litres of fuel.")}})
	}
	assert.Equal(t, []string{`order_fuel {"litres":200}`}, calls(with(good)))
	for _, c := range with(poor).Calls {
		assert.NotEqual(t, "svc_17", c.Tool)
	}
}

func TestItSaysWhatItCanDoWhenNothingFits(t *testing.T) {
	r := ask(user("Who wins on Sunday?"))
	assert.Empty(t, r.Calls)
	assert.Contains(t, r.Text, "I cannot help with that. I can:")
	none := understudy.Part{}.Answer(deed.Request{System: system, Messages: []ledger.Message{user("Hi")}})
	assert.Contains(t, none.Text, "no tools")
}

const lines = `
lines:
  - {who: front desk, said: "for the ((?-i:[A-Z][a-z]+))", say: "The {1}.", calls: [{tool: find_vessel, args: {name: "{1}"}}]}
  - {who: front desk, said: ".", came: {from: find_vessel, with: "is (\\d+) m"}, say: "It has {c1} m."}
  - {who: tide office, said: ".", say: never}
`

func TestLinesComeFirst(t *testing.T) {
	ls, bad := understudy.ReadLines("l.yaml", []byte(lines))
	require.Nil(t, bad)
	q := deed.Request{System: system, Tools: tools, Messages: []ledger.Message{user("A berth for the Petrel now")}}
	r := understudy.Part{Lines: ls}.Answer(q)
	assert.Equal(t, "The Petrel.", r.Text)
	assert.Equal(t, []string{`find_vessel {"name":"Petrel"}`}, calls(r))
	q.Messages = after("A berth for the Petrel now", "find_vessel", "{}", "Petrel is 12 m long")
	assert.Equal(t, "It has 12 m.", understudy.Part{Lines: ls}.Answer(q).Text)
	for text, say := range map[string]string{"lines:\n  - {who: x}\n": "needs say: or calls:", "lines:\n  - {said: \"(\", say: x}\n": "said is not a regular expression: missing closing )",
		"lines:\n  - {sayd: x}\n": `sayd is not a key of a line. Did you mean "said"`, "lines:\n  - {who: [a], say: x}\n": "there is a list where a text belongs", "lines: 5\n": "lines: there is a number where a list belongs"} {
		_, bad := understudy.ReadLines("l.yaml", []byte(text))
		require.NotNil(t, bad, text)
		assert.Contains(t, bad.Error(), "l.yaml:")
		assert.Contains(t, bad.Say, say)
	}
}

func TestTheEndpointAndItsKnobs(t *testing.T) {
	s := &understudy.Server{Key: "k", Models: map[string]understudy.Part{"house": {}}}
	srv := httptest.NewServer(s.Handler())
	defer srv.Close()
	post := func(key, model string, stream bool) (int, string, http.Header) {
		body := fmt.Sprintf(`{"model":%q,"stream":%v,"messages":[{"role":"system","content":%q},{"role":"user","content":"Reserve C4"}],"tools":[{"type":"function","function":{"name":"assign_berth","description":"Reserve a berth.","parameters":%s}}]}`, model, stream, system, tools[4].Parameters)
		req, _ := http.NewRequest("POST", srv.URL+"/v1/chat/completions", strings.NewReader(body))
		req.Header.Set("Authorization", "Bearer "+key)
		req.Header.Set("Content-Type", "application/json")
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		var b bytes.Buffer
		_, _ = b.ReadFrom(resp.Body)
		return resp.StatusCode, b.String(), resp.Header
	}
	code, body, _ := post("k", "house", false)
	assert.Equal(t, 200, code)
	assert.Contains(t, body, `"arguments":"{\"berth\":\"C4\"}"`)
	assert.Contains(t, body, `"finish_reason":"tool_calls"`)
	code, body, _ = post("k", "house", true)
	assert.Equal(t, 200, code)
	assert.True(t, strings.HasSuffix(body, "data: [DONE]\n\n"))
	assert.Contains(t, body, `"prompt_tokens"`)
	code, _, _ = post("wrong", "house", false)
	assert.Equal(t, 401, code)
	code, _, _ = post("k", "other", false)
	assert.Equal(t, 404, code)
	s.Turn(understudy.Knob{Fail: 1, Status: 429, RetryAfter: 9, Cut: 2})
	code, _, head := post("k", "house", true)
	assert.Equal(t, 429, code)
	assert.Equal(t, "9", head.Get("Retry-After"))
	_, body, _ = post("k", "house", true)
	assert.NotContains(t, body, "[DONE]", "the stream is cut")
	s.Turn(understudy.Knob{Garble: 1})
	_, body, _ = post("k", "house", false)
	assert.Contains(t, body, `"arguments":"{\"berth\":\"C4\","`)
}

func TestWhoCanOnlyPassOnPassesOn(t *testing.T) {
	router := []project.Contract{tool("pass_to_stores", "Hand the conversation over to stores: Lends tools of a workshop.", `{"type":"object","properties":{"because":{"type":"string"}}}`)}
	say := func(text string) deed.Reply {
		return understudy.Part{}.Answer(deed.Request{System: system, Tools: router, Messages: []ledger.Message{user(text)}})
	}
	assert.Equal(t, "pass_to_stores", say("give me the drill and the saw until Friday").Calls[0].Tool)
	assert.Empty(t, say("what can you do?").Calls)
	assert.Empty(t, say("thanks!").Calls)
}

func TestAConversationOfManyShortMessagesIsRead(t *testing.T) {
	msgs := []ledger.Message{user("When can I come in over the bar on Friday, drawing 3 m?")}
	for range 60 { // each is the one before it with a change
		msgs = append(msgs, ledger.Message{Role: ledger.Assistant, Text: "There are 2 windows."}, user("and on Sunday?"))
	}
	assert.Equal(t, []string{`tide_windows {"day":"2026-05-10","draught_m":3}`}, calls(ask(msgs...)))
}

func TestLongNumbersStayExact(t *testing.T) {
	crates := []project.Contract{
		tool("find_crate", "Find a crate by its label; gives its number.", `{"type":"object","required":["label"],"properties":{"label":{"type":"string","description":"Its label."}}}`),
		tool("open_crate", "Open a crate by its number.", `{"type":"object","required":["crate"],"properties":{"crate":{"type":"integer","description":"Number of the crate."}}}`),
	}
	say := func(msgs ...ledger.Message) []string {
		return calls(understudy.Part{}.Answer(deed.Request{System: system, Tools: crates, Messages: msgs}))
	}
	assert.Equal(t, []string{`open_crate {"crate":9007199254740993}`}, say(user("open crate 9007199254740993")))
	found := after(`find the crate "blue"`, "find_crate", `{"label":"blue"}`, `{"crate":9007199254740993}`)
	assert.Equal(t, []string{`open_crate {"crate":9007199254740993}`}, say(append(found, ledger.Message{Role: ledger.Assistant, Text: "The crate is 9007199254740993."}, user("open it"))...))
}

func TestWhatWasJustLookedUpIsNotLookedUpAgain(t *testing.T) {
	berths := append([]project.Contract{tool("berth_facts", "Tell what is known of one berth by its code; gives basin, length and depth.", `{"type":"object","required":["berth"],"properties":{"berth":{"type":"string","pattern":"^[A-F][0-9]{1,2}$","description":"Berth code."}}}`)}, tools...)
	args := `{"arrives":"2026-05-08T12:00:00+01:00","leaves":"2026-05-10T12:00:00+01:00","length_m":9}`
	msgs := append(after("Find free berths for 9 m from Friday noon, two nights", "find_berth", args, `[{"berth":"A3","depth_m":3.1},{"berth":"A2","depth_m":3}]`), ledger.Message{Role: ledger.Assistant, Text: "2 berths: A3, depth 3.1 m; A2, depth 3 m."}, user("how deep is the second one"))
	assert.Equal(t, []string{`berth_facts {"berth":"A2"}`}, calls(understudy.Part{}.Answer(deed.Request{System: system, Tools: berths, Messages: msgs})))
}

func TestItIsWhatWasSpokenOfLast(t *testing.T) {
	berths := append([]project.Contract{tool("berth_facts", "Tell what is known of one berth by its code; gives basin, length and depth.", `{"type":"object","required":["berth"],"properties":{"berth":{"type":"string","pattern":"^[A-F][0-9]{1,2}$","description":"Berth code."}}}`)}, tools...)
	args := `{"arrives":"2026-05-08T12:00:00+01:00","leaves":"2026-05-10T12:00:00+01:00","length_m":9}`
	for _, result := range []string{`{"berth":"A2","depth_m":3}`, "A2 is 3 m deep."} {
		msgs := append(after("Find free berths for 9 m from Friday noon, two nights", "find_berth", args, `[{"berth":"A3","depth_m":3.1},{"berth":"A2","depth_m":3}]`), ledger.Message{Role: ledger.Assistant, Text: "2 berths: A3, depth 3.1 m; A2, depth 3 m."})
		msgs = append(append(msgs, after("how deep is the second one", "berth_facts", `{"berth":"A2"}`, result)...), ledger.Message{Role: ledger.Assistant, Text: "The depth is 3 m."}, user("reserve it"))
		r := understudy.Part{}.Answer(deed.Request{System: system + " Find berths that fit before you reserve one.", Tools: berths, Messages: msgs})
		assert.Equal(t, []string{`assign_berth {"berth":"A2"}`}, calls(r), result)
	}
}
