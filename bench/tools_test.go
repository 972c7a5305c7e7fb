package bench

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/metrics"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/dop251/goja"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/openapi"
	"stonebaton.example/core/project"
	"stonebaton.example/core/schema"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/rows"
	"stonebaton.example/internal/service"
	"stonebaton.example/internal/store"
	"stonebaton.example/internal/tools/command"
	"stonebaton.example/internal/tools/script"
	"stonebaton.example/internal/tools/tooltest"
	"stonebaton.example/internal/tools/web"
	console "stonebaton.example/web"

	"log/slog"
)

// best gives the shortest of several timings of n rounds, for one round.
func best(n int, f func()) time.Duration {
	low := time.Duration(1 << 62)
	for range 7 {
		began := time.Now()
		for range n {
			f()
		}
		low = min(low, time.Since(began)/time.Duration(n))
	}
	return low
}

// sideBySide is best of two things by turns, so that what else the machine does
// falls on both.
func sideBySide(n int, a, b func()) (lowA, lowB time.Duration) {
	lowA, lowB = 1<<62, 1<<62
	for range 9 {
		began := time.Now()
		for range n {
			a()
		}
		half := time.Now()
		for range n {
			b()
		}
		lowA, lowB = min(lowA, half.Sub(began)/time.Duration(n)), min(lowB, time.Since(half)/time.Duration(n))
	}
	return lowA, lowB
}

const typical = `{"type":"object","required":["berth","vessel","arrives","leaves"],"additionalProperties":false,"properties":{
 "berth":{"type":"string","pattern":"^[A-F][0-9]{1,2}$"},"vessel":{"type":"string","minLength":2},"arrives":{"type":"string","format":"date-time"},"leaves":{"type":"string","format":"date-time"},
 "length_m":{"type":"number","exclusiveMinimum":0},"nights":{"type":"integer","minimum":1},"season":{"enum":["summer","winter"]},"extras":{"type":"array","items":{"type":"object","required":["name"],"properties":{"name":{"type":"string"},"n":{"type":"integer"}}}}}}`

// BenchmarkRepair holds validation and repair of a typical call against the bare
// validator: arguments that need nothing, and arguments of which three are repaired.
func BenchmarkRepair(b *testing.B) {
	var doc map[string]any
	require.NoError(b, json.Unmarshal([]byte(typical), &doc))
	ours, err := schema.Compile(doc)
	require.NoError(b, err)
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	require.NoError(b, c.AddResource("s.json", doc))
	bare, err := c.Compile("s.json")
	require.NoError(b, err)
	args := func(text string) (v any) {
		require.NoError(b, json.Unmarshal([]byte(text), &v))
		return v
	}
	const right = `{"berth":"C4","vessel":"Marrow Light","arrives":"2026-05-06T14:00:00+01:00","leaves":"2026-05-08T09:00:00+01:00","length_m":46.5,"nights":2,"season":"summer","extras":[{"name":"power","n":1},{"name":"water","n":2}]}`
	fine, wrong := args(right), args(strings.NewReplacer("46.5", `"46.5"`, `"nights":2`, `"nights":"2"`, `"summer"`, `"Summer"`).Replace(right))
	for range b.N {
		base := best(2000, func() {
			if bare.Validate(fine) != nil {
				b.Fatal("it fits")
			}
		})
		plain := best(2000, func() { ours.Repair(fine) })
		repaired := best(2000, func() { ours.Repair(wrong) })
		b.ReportMetric(float64(plain)/float64(base), "ratio-fine")
		b.ReportMetric(float64(repaired)/float64(base), "ratio-repaired")
		b.ReportMetric(float64(plain.Nanoseconds())/1000, "µs")
	}
}

// BenchmarkScript holds a call of a script against the function itself, compiled
// and in an engine that is there already.
func BenchmarkScript(b *testing.B) {
	const code = "const out = []\nfor (let i = 0; i < 20; i++) out.push(args.n * i)\nreturn {out, day: today}"
	p := tooltest.Project(b, "tool: s\nsummary: Do it when asked.\neffect: read\ninput: {type: object, properties: {n: {type: number, description: Metres.}}}\nscript: |\n  "+strings.ReplaceAll(code, "\n", "\n  ")+"\n", nil)
	h := script.New(web.New(&tooltest.Secrets{}))
	vm := goja.New()
	f, err := vm.RunString("(function(args, today) { 'use strict';" + code + "})")
	require.NoError(b, err)
	call, _ := goja.AssertFunction(f)
	arg, day := vm.ToValue(map[string]any{"n": 2.5}), vm.ToValue("2026-05-04")
	for range b.N {
		itself := best(500, func() { _, _ = call(goja.Undefined(), arg, day) })
		ours := best(500, func() { tooltest.Call(b, h, p, "s", map[string]any{"n": 2.5}) })
		b.ReportMetric(float64((ours-itself).Nanoseconds())/1000, "µs-more")
		b.ReportMetric(float64(itself.Nanoseconds())/1000, "µs-itself")
	}
}

// BenchmarkCommand holds a call of a program in its sandbox against the bare start
// of the same program with the same input.
func BenchmarkCommand(b *testing.B) {
	dir := b.TempDir()
	for name, run := range map[string][]string{"true": {"true"}, "sh": {"sh", "-c", "cat"}, "perl": {"perl", "-e", "print <STDIN>"}} {
		b.Run(name, func(b *testing.B) {
			quoted, err := json.Marshal(run)
			require.NoError(b, err)
			p := tooltest.Project(b, "tool: c\nsummary: Do it when asked.\neffect: read\ncommand: {run: "+string(quoted)+", output: text}\n", nil)
			h := command.New(dir, "", &tooltest.Secrets{})
			for range b.N {
				bare, ours := sideBySide(60, func() {
					c := exec.Command(run[0], run[1:]...)
					c.Stdin = strings.NewReader(`{"args":{},"key":"key-1","state":{}}`)
					if _, err := c.Output(); err != nil {
						b.Fatal(err)
					}
				}, func() {
					if _, bad := tooltest.Call(b, h, p, "c", nil); bad != nil {
						b.Fatal(bad.Say)
					}
				})
				b.ReportMetric(float64(ours)/float64(bare), "ratio")
				b.ReportMetric(float64(bare.Microseconds())/1000, "ms-bare")
			}
		})
	}
}

// BenchmarkForks holds a hundred processes that a program starts in its sandbox against the same
// without one.
func BenchmarkForks(b *testing.B) {
	const forks = 100
	line := "i=0; while [ $i -lt 100 ]; do i=$((i+1)); (:); done"
	p := tooltest.Project(b, "tool: c\nsummary: Do it when asked.\neffect: read\ncommand: {run: [sh, -c, '"+line+"'], output: text}\n", nil)
	h := command.New(b.TempDir(), "", &tooltest.Secrets{})
	for range b.N {
		bare, ours := sideBySide(20, func() {
			if err := exec.Command("sh", "-c", line).Run(); err != nil {
				b.Fatal(err)
			}
		}, func() {
			if _, bad := tooltest.Call(b, h, p, "c", nil); bad != nil {
				b.Fatal(bad.Say)
			}
		})
		b.ReportMetric(float64((ours-bare).Microseconds())/forks/1000, "ms-more-a-fork")
		b.ReportMetric(float64(bare.Microseconds())/forks/1000, "ms-bare-a-fork")
	}
}

// large makes an OpenAPI document of about so many bytes, with schemas that refer
// to one another in circles.
func large(bytes int) []byte {
	paths, schemas := map[string]any{}, map[string]any{}
	for i, size := 0, 0; size < bytes; i++ {
		props := map[string]any{"next": map[string]any{"$ref": fmt.Sprintf("#/components/schemas/Thing%d", i/2)}, "self": map[string]any{"$ref": fmt.Sprintf("#/components/schemas/Thing%d", i)}}
		for n := range 12 {
			props[fmt.Sprintf("field_%d", n)] = map[string]any{"type": "string", "description": strings.Repeat("What it holds. ", 4)}
		}
		schemas[fmt.Sprintf("Thing%d", i)] = map[string]any{"type": "object", "properties": props}
		ref := map[string]any{"application/json": map[string]any{"schema": map[string]any{"$ref": fmt.Sprintf("#/components/schemas/Thing%d", i)}}}
		paths[fmt.Sprintf("/things%d/{id}", i)] = map[string]any{"put": map[string]any{"operationId": fmt.Sprintf("putThing%d", i), "summary": strings.Repeat("Put a thing where it belongs. ", 6),
			"parameters": []any{map[string]any{"name": "id", "in": "path", "required": true, "schema": map[string]any{"type": "string"}}}, "requestBody": map[string]any{"content": ref}, "responses": map[string]any{"200": map[string]any{"description": "ok", "content": ref}}}}
		size += 2100
	}
	raw, err := json.Marshal(map[string]any{"openapi": "3.1.0", "info": map[string]any{"title": "Large"}, "paths": paths, "components": map[string]any{"schemas": schemas}})
	if err != nil {
		panic(err)
	}
	return raw
}

// BenchmarkOpenAPI reads and lists a document of 10 MB, and tells the memory that
// is in use at its highest, the document itself counted.
func BenchmarkOpenAPI(b *testing.B) {
	raw := large(10 << 20)
	for range b.N {
		runtime.GC()
		high, stop := highest()
		began := time.Now()
		cat, err := openapi.Read(raw)
		require.NoError(b, err)
		for _, o := range cat.Tools {
			project.Judge(o.Tool, o.Summary, o.Input)
		}
		took := time.Since(began)
		close(stop)
		b.ReportMetric(took.Seconds(), "s")
		b.ReportMetric(float64(<-high)/(1<<20), "MB")
		b.ReportMetric(float64(len(raw))/(1<<20), "MB-document")
		b.ReportMetric(float64(len(cat.Tools)), "operations")
	}
}

// knotted makes an OpenAPI document whose operations each reach all of its schemas.
func knotted(operations, schemas int) []byte {
	paths, parts := map[string]any{}, map[string]any{}
	ref := func(i int) map[string]any {
		return map[string]any{"$ref": fmt.Sprintf("#/components/schemas/Part%d", i%schemas)}
	}
	for i := range schemas {
		props := map[string]any{"next": ref(i + 1), "other": ref(i * 7)}
		for n := range 12 {
			props[fmt.Sprintf("field_%d", n)] = map[string]any{"type": "string", "description": strings.Repeat("What it holds. ", 4)}
		}
		parts[fmt.Sprintf("Part%d", i)] = map[string]any{"type": "object", "properties": props}
	}
	for i := range operations {
		body := map[string]any{"application/json": map[string]any{"schema": ref(i)}}
		paths[fmt.Sprintf("/parts%d", i)] = map[string]any{"put": map[string]any{"operationId": fmt.Sprintf("putPart%d", i), "summary": "Put a part where it belongs when it is known where.", "requestBody": map[string]any{"content": body}, "responses": map[string]any{"200": map[string]any{"description": "ok", "content": body}}}}
	}
	raw, err := json.Marshal(map[string]any{"openapi": "3.1.0", "info": map[string]any{"title": "Knotted"}, "paths": paths, "components": map[string]any{"schemas": parts}})
	if err != nil {
		panic(err)
	}
	return raw
}

// BenchmarkKnottedAPI reads a project that takes 500 operations, each of which reaches 400
// schemas both ways.
func BenchmarkKnottedAPI(b *testing.B) {
	raw := knotted(500, 400)
	for range b.N {
		runtime.GC()
		high, stop := highest()
		began := time.Now()
		cat, err := openapi.Read(raw)
		require.NoError(b, err)
		var take []string
		for _, o := range cat.Tools {
			take = append(take, o.Name)
		}
		p := tooltest.Project(b, "source: parts\nopenapi: {document: data/parts.json}\ntake: ["+strings.Join(take, ", ")+"]\n", map[string]project.Catalogue{"parts": cat.Only(take)})
		took := time.Since(began)
		close(stop)
		require.Greater(b, len(p.Tools), 500)
		b.ReportMetric(took.Seconds(), "s")
		b.ReportMetric(float64(<-high)/(1<<20), "MB")
	}
}

// highest watches the memory that objects take.
func highest() (<-chan uint64, chan<- struct{}) {
	out, stop := make(chan uint64, 1), make(chan struct{})
	go func() {
		sample := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
		var top uint64
		for {
			metrics.Read(sample)
			top = max(top, sample[0].Value.Uint64())
			select {
			case <-stop:
				out <- top
				return
			case <-time.After(5 * time.Millisecond):
			}
		}
	}()
	return out, stop
}

// BenchmarkTries asks for pages of a history of 100 000 tries, the newest and the
// oldest, and scrolls it in the console.
func BenchmarkTries(b *testing.B) {
	const tries = 100_000
	for range b.N {
		dir := b.TempDir()
		require.NoError(b, os.WriteFile(filepath.Join(dir, project.Main), []byte(coretest.Main), 0o600))
		a, err := app.Open(ctx, app.Config{Dir: dir, Access: app.Access{Open: true}})
		require.NoError(b, err)
		fill(b, a.Store, tries)
		srv := httptest.NewServer(service.New(a, console.Files(), slog.New(slog.DiscardHandler), "bench").Handler())
		get := func(path string) time.Duration {
			return best(3, func() {
				resp, err := http.Get(srv.URL + path)
				require.NoError(b, err)
				require.Equal(b, 200, resp.StatusCode)
				resp.Body.Close()
			})
		}
		b.ReportMetric(float64(get("/api/tries?tool=look&limit=200").Microseconds())/1000, "ms-newest")
		b.ReportMetric(float64(get("/api/tries?tool=look&limit=200&cursor=300").Microseconds())/1000, "ms-oldest")
		frame := scrollTries(b, srv.URL)
		b.ReportMetric(frame, "ms-frame")
		srv.Close()
		require.NoError(b, a.Close())
	}
}

// fill puts tries into a store, side by side, so that commits are shared.
func fill(b *testing.B, s *store.Store, n int) {
	body := []byte(`{"id":"look","status":"returned","words":"{\"length_m\":46}"}`)
	each(n, 256, func(i int) {
		_, err := s.SaveTry(ctx, rows.Try{Tool: "look", At: rows.Moment{Time: time.Now()}, Status: "returned", Way: "live", MS: int64(i % 90), Bytes: 15, Tokens: 4, Args: rows.JSON(fmt.Sprintf(`{"name":"Vessel %d"}`, i)), Words: "46 m"}, body)
		if err != nil {
			b.Error(err)
		}
	})
}

// scrollTries gives the mean time of a frame while the history is scrolled for two
// seconds, pages being fetched as it goes.
func scrollTries(b *testing.B, url string) float64 {
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.Flag("disable-quic", true), chromedp.WindowSize(1280, 800))
	alloc, cancel := chromedp.NewExecAllocator(ctx, opts...)
	defer cancel()
	tab, cancel := chromedp.NewContext(alloc)
	defer cancel()
	require.NoError(b, chromedp.Do(tab, chromedp.Navigate(url+"/bench/look")))
	v, err := chromedp.Run(tab, chromedp.Evaluate[float64](`(async () => {
		const wait = async (f) => { for (let i = 0; i < 400; i++) { const v = f(); if (v) return v; await new Promise(r => setTimeout(r, 25)) } throw new Error("it did not come") }
		const tab = await wait(() => [...document.querySelectorAll("[role=tab]")].find(e => e.textContent === "Tries"))
		tab.dispatchEvent(new MouseEvent("mousedown", {bubbles: true, button: 0}))
		const list = await wait(() => document.querySelector("[role=list][aria-label=Tries]"))
		await wait(() => list.querySelector("[role=listitem]"))
		let frames = 0; const began = performance.now()
		while (performance.now() - began < 2000) { list.scrollTop += 400; await new Promise(requestAnimationFrame); frames++ }
		return (performance.now() - began) / frames
	})()`, chromedp.EvalAwaitPromise))
	require.NoError(b, err)
	return v
}
