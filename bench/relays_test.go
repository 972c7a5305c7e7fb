package bench

import (
	"encoding/json"
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stonebaton.example/core/chart"
	"stonebaton.example/core/coretest"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/engine"
	"stonebaton.example/internal/store"
)

// list is a project whose relay calls a tool for each of a list.
const list = `project: list
start: a
model: m
models: {m: {speaks: understudy}}
limits: {calls: 99999, time: 1d}
` + look + `---
agent: a
summary: Looks.
prompt: You are a.
tools: [look]
---
relay: all
summary: Look all of them up.
input: {type: object, required: [names], properties: {names: {type: array, items: {type: string}, description: Their names.}}}
legs:
  each: {tool: look, each: "=input.names", at_once: 8, args: {name: "=item"}, keep: all}
  done: {finish: "=size(kept.all)"}
`

// through lets a relay go over lists of so many, one run after another, and gives how long that
// took and the highest heap.
func through(b *testing.B, runs, items int) (took time.Duration, heap uint64) {
	st, err := store.Open(b.TempDir())
	require.NoError(b, err)
	defer st.Close()
	over := &ended{wait: map[string]chan struct{}{}}
	e := newEngineOf(b, st, instant{}, over, list)
	defer e.Close()
	names := make([]string, items)
	for i := range names {
		names[i] = fmt.Sprintf("Vessel %d", i)
	}
	input, err := json.Marshal(map[string]any{"names": names})
	require.NoError(b, err)
	began := time.Now()
	for range runs {
		x, err := e.Begin(ctx, engine.Start{Relay: "all", Input: input})
		require.NoError(b, err)
		for waiting := true; waiting; {
			select {
			case <-over.of(x.Run):
				waiting = false
			case <-time.After(20 * time.Millisecond):
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				heap = max(heap, m.HeapAlloc)
			}
		}
	}
	return time.Since(began), heap
}

// BenchmarkEach: a leg over ten thousand items, against a hundred runs of a hundred; and what it
// keeps in memory.
func BenchmarkEach(b *testing.B) {
	for range b.N {
		parts, _ := through(b, 100, 100)
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		whole, heap := through(b, 1, 10_000)
		b.ReportMetric(whole.Seconds()/parts.Seconds(), "x_parts")
		b.ReportMetric(float64(whole.Microseconds())/10_000, "µs/item")
		b.ReportMetric(float64(heap-min(heap, m.HeapAlloc))/1e6, "MB")
	}
}

// BenchmarkCheckAndMap: a project of 500 tools, 100 agents and 20 relays is read, judged and
// drawn.
func BenchmarkCheckAndMap(b *testing.B) {
	var s strings.Builder
	s.WriteString("project: large\nstart: agent_0\nmodels: {m: {speaks: understudy}}\n")
	for i := range 500 {
		fmt.Fprintf(&s, "---\ntool: tool_%d\nsummary: Tell what is known of the %d-th thing of its kind, when asked for number %d.\neffect: read\ninput: {type: object, required: [name], properties: {name: {type: string, description: Its name.}, of_%d: {type: integer, description: How many pieces.}}}\noutput: {type: object, properties: {x_%d: {type: string}}}\nstubs: [{returns: {x_%d: one}}]\n", i, i, i, i, i, i)
	}
	for i := range 100 {
		fmt.Fprintf(&s, "---\nagent: agent_%d\nsummary: Knows what belongs to the part with the number %d.\nprompt: You are agent %d. It is {{ now }}.\ntools: [tool_%d, tool_%d, tool_%d, tool_%d, tool_%d]\npasses_to: [agent_%d]\nconsults: [agent_%d]\n", i, i, i, 5*i, 5*i+1, 5*i+2, 5*i+3, 5*i+4, (i+1)%100, (i+7)%100)
	}
	for i := range 20 {
		fmt.Fprintf(&s, "---\nrelay: relay_%d\nsummary: Go through part %d.\ninput: {type: object, required: [name], properties: {name: {type: string, description: Its name.}}}\nlegs:\n  look: {tool: tool_%d, args: {name: \"=input.name\"}, keep: found}\n  tell: {agent: agent_%d, say: \"{{ kept.found.?x_%d.orValue('nothing') }}\"}\n", i, i, i, i, i)
	}
	src := project.Source{Files: map[string]string{project.Main: s.String()}, Env: map[string]string{}}
	b.ResetTimer()
	for range b.N {
		began := time.Now()
		p, probs := app.Reader.Compile(src)
		require.NotNil(b, p, "%v", probs)
		read := time.Since(began)
		began = time.Now()
		require.NotEmpty(b, chart.Of(p).SVG())
		b.ReportMetric(float64(read.Microseconds())/1000, "check_ms")
		b.ReportMetric(float64(time.Since(began).Microseconds())/1000, "map_ms")
	}
}

// BenchmarkManyLegs: the run of a relay of a thousand legs in the console, against one of ten.
func BenchmarkManyLegs(b *testing.B) {
	course := func(n int) *coretest.World {
		var s strings.Builder
		s.WriteString("---\nrelay: long\ninput: {type: object, properties: {}}\nlegs:\n")
		for i := range n {
			fmt.Fprintf(&s, "  leg_%d: {set: {value_%d: %d}}\n", i, i, i)
		}
		text := strings.Replace(coretest.Main, "limits: {", "limits: {legs: 9999, ", 1) + s.String()
		w := coretest.Begin(coretest.Project(b, text), ledger.RunOpened{Relay: "long", Input: json.RawMessage(`{}`), Text: "Go on and on"})
		w.Step()
		return w
	}
	for range b.N {
		_, plain := inConsole(b, course(10), false)
		open, frame := inConsole(b, course(1000), false)
		b.ReportMetric(open, "open_ms")
		b.ReportMetric(frame/plain, "x_frame_of_ten")
	}
}
