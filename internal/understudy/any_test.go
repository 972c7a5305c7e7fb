package understudy_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/understudy"
)

// Whatever tools it is given and whatever is said and comes back, it answers,
// the same every time, and calls nothing that it does not have.
func TestItAnswersAnything(t *testing.T) {
	words := rapid.SampledFrom([]string{"find", "the", "berth", "C4", "KX-12", "on", "Friday", "at", "14:00", "for", "3", "5.2 m", "nights", "and", "then", "if", "it", "is", "free", "unless", "don't", "cancel", "sorry,", "I meant", "yes", "no", "thanks", "what", "can", "you", "do",
		"?", ".", ":", "Ida Holm", "\"quoted words\"", "a@b.example", "half", "of", "the second one", "tell me", "that", "because", "order", "list", "日本", "é", "under 50 euros", "1850-1859", "and", "or", "not", "small", "large"})
	sentence := rapid.Custom(func(t *rapid.T) string {
		return strings.Join(rapid.SliceOfN(words, 0, 12).Draw(t, "words"), " ")
	})
	schema := rapid.SampledFrom([]string{`{"type":"string"}`, `{"type":"string","description":"Code, such as KX-12."}`, `{"type":"string","pattern":"^[A-F][0-9]$"}`, `{"type":"string","pattern":"("}`, `{"type":"string","format":"date"}`, `{"type":"string","format":"date-time","description":"When it ends."}`,
		`{"type":"integer","minimum":1,"maximum":9}`, `{"type":"number","description":"In metres."}`, `{"type":"boolean","description":"True for on, false for off."}`, `{"enum":["small","large",3,null]}`, `{"type":"array","items":{"type":"string"}}`, `{"type":"array","items":{"enum":["small","large"]}}`,
		`{"type":"array"}`, `{"type":"object","properties":{"x":{"type":"string"}}}`, `{"type":["null","string"]}`, `{}`, `{"const":"it"}`, `true`, `{"type":"string","format":"time"}`, `{"type":"string","format":"email"}`, `5`})
	name := rapid.SampledFrom([]string{"a", "find_berth", "from", "to", "on", "x_m", "days", "year", "order_berths", "text", "reason", "is_free", "cancel_berth", "m", "_", "berth-code", "findBerth", "berth", "pass_to_desk", "pass_to_", "because"})
	summary := rapid.SampledFrom([]string{"", "Find berths.", "Cancels a berth", "Tell when the berth is free; gives its length.", "?", "Hand the conversation over to desk: Knows berths.", "The berth", "Berth", ":"})
	tool := rapid.Custom(func(t *rapid.T) project.Contract {
		if rapid.IntRange(0, 20).Draw(t, "odd") == 0 {
			return project.Contract{Name: name.Draw(t, "name"), Summary: summary.Draw(t, "summary"), Parameters: json.RawMessage(`not JSON`)}
		}
		var props, need []string
		for range rapid.IntRange(0, 4).Draw(t, "params") {
			n := name.Draw(t, "param")
			props = append(props, fmt.Sprintf("%q:%s", n, schema.Draw(t, "schema")))
			if rapid.Bool().Draw(t, "required") {
				need = append(need, fmt.Sprintf("%q", n))
			}
		}
		return project.Contract{Name: name.Draw(t, "name"), Summary: summary.Draw(t, "summary"), Parameters: json.RawMessage(fmt.Sprintf(`{"type":"object","properties":{%s},"required":[%s]}`, strings.Join(props, ","), strings.Join(need, ",")))}
	})
	result := rapid.SampledFrom([]string{"", "Done.", `{"berth":"C4","length_m":12,"free":true,"to":null}`, `[]`, `[{"berth":"C4"},{"berth":"D2"},7]`, `{"rows":[{"a":1},{"b":[{}]}]}`, `[1,2,3]`, `{"a":{"b":{"c":"d"}}}`, `find_berth failed: "C5" is nearest`, `{`, "12", `{"":""}`, `{"date":"2026-05-04"}`})
	rapid.Check(t, func(t *rapid.T) {
		r := deed.Request{System: rapid.SampledFrom([]string{"", system, "It is 2026-05-04. Find a berth before you cancel one. length_m: 12\nberth: C4"}).Draw(t, "system"), Tools: rapid.SliceOfN(tool, 0, 5).Draw(t, "tools")}
		part := understudy.Part{}
		for range rapid.IntRange(1, 5).Draw(t, "messages") {
			r.Messages = append(r.Messages, user(sentence.Draw(t, "said")))
			for range 4 { // a run
				out := part.Answer(r)
				if again := part.Answer(r); fmt.Sprint(again) != fmt.Sprint(out) {
					t.Fatalf("not the same: %v and %v", out, again)
				}
				if out.Text == "" && len(out.Calls) == 0 {
					t.Fatalf("it says nothing to %v", r.Messages)
				}
				r.Messages = append(r.Messages, ledger.Message{Role: ledger.Assistant, Text: out.Text, Calls: out.Calls})
				for _, c := range out.Calls {
					have := false
					for _, k := range r.Tools {
						have = have || k.Name == c.Tool
					}
					if !have || !json.Valid([]byte(c.Args)) {
						t.Fatalf("it calls %v", c)
					}
					r.Messages = append(r.Messages, ledger.Message{Role: ledger.FromTool, Tool: c.Tool, Call: c.ID, Text: result.Draw(t, "result")})
				}
				if len(out.Calls) == 0 {
					break
				}
			}
		}
	})
}

func TestALongMessageIsRefusedInWords(t *testing.T) {
	r := ask(user(strings.Repeat("reserve berth C4 for 3 nights and 4 ", 500)))
	assert.Empty(t, r.Calls)
	assert.Equal(t, "I read messages of up to 8 kB, and this one has 18. Please say it in fewer words.", r.Text)
	for _, word := range []string{"3 and ", "C4, ", "Ida Holm and ", "if ", "and then ", "berth ", "\"", "tomorrow ", "what "} { // up to the bound, in reasonable time
		ask(user("reserve " + strings.Repeat(word, 8000/len(word))))
	}
}
