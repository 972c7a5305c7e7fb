package bench

import (
	"encoding/json"
	"fmt"
	"runtime"
	"testing"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/understudy"
)

// manyTools makes up tools whose words differ, one in ten of them like another.
func manyTools(n int) []project.Contract {
	things := []string{"berth", "vessel", "ticket", "parcel", "meeting", "invoice", "seed", "letter", "booking", "machine", "loan", "tour", "ferry", "patient", "order", "room", "sensor", "garden", "train", "recipe"}
	verbs := []string{"find", "list", "cancel", "move", "book", "count", "open", "close", "send", "price"}
	var out []project.Contract
	for i := range n {
		thing, verb := things[i%len(things)], verbs[i/len(things)%len(verbs)]
		out = append(out, project.Contract{Name: fmt.Sprintf("%s_%s_%d", verb, thing, i), Summary: fmt.Sprintf("%s a %s of district %d by its code, for a day.", verb, thing, i),
			Parameters: json.RawMessage(fmt.Sprintf(`{"type":"object","required":["%s","day"],"properties":{"%s":{"type":"string","description":"Code of the %s, such as K%d-12."},"day":{"type":"string","format":"date","description":"The day."},"count":{"type":"integer","description":"How many."},"kind":{"type":"string","enum":["small","large","other"]}}}`, thing, thing, thing, i))})
	}
	return out
}

// BenchmarkUnderstudyAnswers is one answer to a request of two parts, over tools
// that it has seen before, as at every turn but the first. The bare baseline
// decodes the schemas of the tools, which is the least that a reader of them does.
func BenchmarkUnderstudyAnswers(b *testing.B) {
	for _, n := range []int{20, 500} {
		b.Run(fmt.Sprintf("%d_tools", n), func(b *testing.B) {
			r := ask(n)
			for b.Loop() {
				part := understudy.PartOf(&project.Project{}, nil)
				part.Answer(r)
				answer, bare := sideBySide(20, func() { part.Answer(r) }, func() {
					for _, c := range r.Tools {
						var doc map[string]any
						if err := json.Unmarshal(c.Parameters, &doc); err != nil {
							b.Fatal(err)
						}
					}
				})
				b.ReportMetric(float64(answer.Microseconds()), "us/answer")
				b.ReportMetric(float64(answer)/float64(bare), "x_decoding")
			}
			b.ReportMetric(0, "ns/op")
		})
	}
}

// BenchmarkUnderstudyMemory is what it keeps of the tools of a project.
func BenchmarkUnderstudyMemory(b *testing.B) {
	for _, n := range []int{20, 500} {
		b.Run(fmt.Sprintf("%d_tools", n), func(b *testing.B) {
			r := ask(n)
			understudy.Part{}.Answer(r) // what is read once for all projects
			for b.Loop() {
				var before, after runtime.MemStats
				part := understudy.PartOf(&project.Project{}, nil)
				runtime.GC()
				runtime.ReadMemStats(&before)
				part.Answer(r)
				runtime.GC()
				runtime.ReadMemStats(&after)
				b.ReportMetric((float64(after.HeapAlloc)-float64(before.HeapAlloc))/1e6, "MB/project")
				runtime.KeepAlive(part)
			}
			b.ReportMetric(0, "ns/op")
		})
	}
}

func ask(tools int) deed.Request {
	return deed.Request{System: "It is 2026-05-04T09:00:00+01:00.", Tools: manyTools(tools), Messages: []ledger.Message{{Role: ledger.User, Text: "Please cancel the ferry KX-12 on Friday and tell me how many large parcels there are."}}}
}
