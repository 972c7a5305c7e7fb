package script_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/tools/script"
	"stonebaton.example/internal/tools/tooltest"
	"stonebaton.example/internal/tools/web"
)

func call(t *testing.T, code string, limit time.Duration) (deed.Result, *deed.Failure) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	var h script.Handler
	return h.Call(ctx, deed.Invocation{Tool: &project.Tool{Name: "t", Work: project.Work{Spec: &script.Script{Code: code}}}, Args: map[string]any{"n": 2.0},
		Vars: expr.Vars{"state": map[string]any{"x": 1.0}, "person": map[string]any{"name": "ann"}, "today": "2026-05-04", "now": "2026-05-04T09:00:00Z"}})
}

func TestAScriptReturnsItsResult(t *testing.T) {
	r, bad := call(t, "log('n is', args.n)\nargs.n = 9\nreturn {n: args.n * 2, x: state.x, who: person.name, today}", time.Minute)
	require.Nil(t, bad)
	assert.Equal(t, map[string]any{"n": 18.0, "x": 1.0, "who": "ann", "today": "2026-05-04"}, r.Value)
	assert.Equal(t, "n is 2\n", r.Sent.Log)
	r, bad = call(t, "const x = 1", time.Minute)
	require.Nil(t, bad)
	assert.Nil(t, r.Value, "no return is no result")
}

func TestAScriptThatFails(t *testing.T) {
	for name, c := range map[string]struct{ code, class, say string }{
		"throws":             {"throw new Error('no such berth')", "script", "no such berth"},
		"mistake":            {"return nothing.at.all", "script", "nothing is not defined"},
		"loops for ever":     {"while (true) {}", "timeout", "had not ended after"},
		"eats memory":        {"let s = 'x'; while (s.length < 1048576) s += s; const a = []; while (true) a.push(s + a.length)", "timeout", "more than 256 MB of memory"},
		"calls itself":       {"const f = () => f(); return f()", "script", "call stack"},
		"returns a function": {"return () => 1", "script", "the result is not JSON"},
		"reaches outside":    {"return require('fs')", "script", "require is not defined"},
		"a circle":           {"const a = {}; a.a = a; return a", "script", "circular"},
		"breaks JSON":        {"JSON = undefined; throw new Error('still here')", "script", "still here"},
		"throws in throwing": {"throw {get message() { throw 1 }}", "script", "threw something that cannot be shown"},
		"throws a proxy":     {"throw new Proxy({}, {get() { throw 2 }})", "script", "threw something that cannot be shown"},
		"loops in throwing":  {"throw {get message() { for (;;); }}", "timeout", "was interrupted"},
		"does not stop":      {`return /^(a+)+\1$/.test('a'.repeat(40) + 'b')`, "timeout", "it is in one step that does not end, and is left behind"},
		"a long text":        {"return 'x'.repeat(1e9)", "script", "what repeat makes would have more than"},
		"a wide text":        {"return 'x'.padEnd(1e9)", "script", "what padEnd makes"},
		"a long list":        {"return new Array(1e9).fill(0)", "script", "the Array would have more than 20000000 elements"},
		"a made list":        {"return Array.from({length: 1e9})", "script", "what from makes"},
		"a large buffer":     {"return new Uint8Array(1e11)", "script", "the Uint8Array would have more than"},
	} {
		t.Run(name, func(t *testing.T) {
			limit := 10 * time.Second
			if c.class == "timeout" && name != "eats memory" {
				limit = 50 * time.Millisecond
			}
			_, bad := call(t, c.code, limit)
			require.NotNil(t, bad)
			assert.EqualValues(t, c.class, bad.Class)
			assert.Contains(t, bad.Say, c.say)
			assert.Equal(t, ledger.NotDone, bad.Outcome, "a script reaches nothing, so nothing was done")
		})
	}
}

func TestWhatIsBoundWorksAsItDid(t *testing.T) {
	r, bad := call(t, "return [[1, 2].join('-'), 'ab'.repeat(2), 'x'.padStart(3, '0'), Array.from('abc').length, [0, 0].fill(7), Array.isArray([]), [] instanceof Array, new Array(2, 3), Array(2).length, new Uint8Array([1, 2]).length, [].constructor === Array]", time.Minute)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, []any{"1-2", "abab", "00x", 3.0, []any{7.0, 7.0}, true, true, []any{2.0, 3.0}, 2.0, 2.0, true}, r.Value)
}

func TestWhatAScriptSentMayHaveBeenDone(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/no" {
			w.WriteHeader(http.StatusConflict)
		}
	}))
	defer srv.Close()
	gone := httptest.NewServer(nil)
	gone.Close()
	for sends, outcome := range map[string]ledger.Outcome{"fetch('HOST/yes', {method: 'POST'})": ledger.Unknown, "fetch('HOST/no', {method: 'POST'})": ledger.NotDone, "fetch('HOST/yes')": ledger.NotDone,
		"fetch('GONE/', {method: 'POST'})": ledger.NotDone, "fetch('HOST/yes', {method: 'PUT'}); fetch('HOST/no', {method: 'PUT'})": ledger.Unknown} {
		code := strings.NewReplacer("HOST", srv.URL, "GONE", gone.URL).Replace(sends)
		p := tooltest.Project(t, "tool: put_in\nsummary: Put it in when it is asked for.\nscript:\n  fetch: [\""+srv.URL+"/\", \""+gone.URL+"/\"]\n  code: \""+code+"; throw new Error('after it')\"\n", nil)
		_, bad := tooltest.Call(t, script.New(web.New(&tooltest.Secrets{})), p, "put_in", nil)
		if assert.NotNil(t, bad, sends) {
			assert.Equal(t, outcome, bad.Outcome, sends)
		}
	}
}

func TestErrorsNameTheLine(t *testing.T) {
	const tool = "tool: t\nsummary: Reckon a sum when one is asked for.\n"
	at := func(text string) (*project.Problem, string) {
		t.Helper()
		src := project.Source{Files: map[string]string{project.Main: coretest.Main, "t.yaml": tool + text, "t.js": "const a = 1\nreturn b\n", "w.js": "const a = 1\nreturn a +* 2\n", "e.js": "if (1) {\n"}}
		p, probs := app.Reader.Compile(src)
		if p == nil {
			i := slices.IndexFunc(probs, func(x project.Problem) bool { return x.Grade == project.Error })
			return &probs[i], probs[i].Place.String()
		}
		_, bad := tooltest.Call(t, script.New(nil), p, "t", nil)
		require.NotNil(t, bad)
		require.NotNil(t, bad.Sent)
		return nil, bad.Sent.URL + " " + bad.Say
	}
	for text, want := range map[string]string{
		"script: |\n  const a = 1\n  return a +* 2\n":                               "t.yaml:5:13",
		"script: return 1 +* 2\n":                                                   "t.yaml:3:19",
		"script:\n  fetch: [\"http://127.0.0.1/\"]\n  code: |\n    return 1 +* 2\n": "t.yaml:6:15",
		"script: {file: w.js}\n":                                                    "w.js:2:11",
		"script: {file: e.js}\n":                                                    "e.js:2:1",
		"script: |\n  const a = 1\n  return b\n":                                    "t.yaml:5:10 ReferenceError: b is not defined (t.yaml:5:10)",
		"script: {file: t.js}\n":                                                    "t.js:2:8 ReferenceError: b is not defined (t.js:2:8)",
		"script: throw new Error('no')\n":                                           "t.yaml:3:15 no",
	} {
		_, got := at(text)
		assert.Equal(t, want, got, text)
	}
	p, _ := at("script: |\n  const r = await fetch('http://127.0.0.1/')\n  return r\n")
	assert.Equal(t, "the script of t cannot be compiled: nothing here is asynchronous", p.Say)
	assert.Equal(t, "Omit await and async: fetch itself waits for its reply.", p.Remedy)
	_, bad := call(t, "const f = async () => 1; return f()", time.Minute)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "the script returned a promise, and nothing here is asynchronous")
}

func TestAScriptFetchesOnlyWhatItsToolAllows(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/a/away" {
			http.Redirect(w, r, "/private", http.StatusFound)
			return
		}
		raw, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, `{"path":%q,"method":%q,"body":%q,"kind":%q}`, r.URL.Path, r.Method, raw, r.Header.Get("X-Kind"))
	}))
	defer srv.Close()
	p := tooltest.Project(t, "tool: look_out\nsummary: Look something up when it is asked for.\neffect: read\ninput: {type: object, properties: {path: {type: string, description: A path.}}}\nscript:\n  fetch: [\""+srv.URL+"/a/\"]\n  code: |\n    const r = fetch('"+srv.URL+"' + args.path, {method: 'post', body: 'b', headers: {'X-Kind': 'k'}})\n    return {ok: r.ok, status: r.status, got: r.json()}\n", nil)
	h := script.New(web.New(&tooltest.Secrets{}))
	r, bad := tooltest.Call(t, h, p, "look_out", map[string]any{"path": "/a/b"})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, map[string]any{"ok": true, "status": 200.0, "got": map[string]any{"path": "/a/b", "method": "POST", "body": "b", "kind": "k"}}, r.Value)
	assert.Contains(t, r.Sent.Body, "POST "+srv.URL+"/a/b → 200, ")
	for path, say := range map[string]string{"/private": "is not among the addresses that the tool allows", "/a/../private": "is not among", "/a/away": "not among the addresses"} {
		_, bad := tooltest.Call(t, h, p, "look_out", map[string]any{"path": path})
		if assert.NotNil(t, bad, path) {
			assert.Contains(t, bad.Say, say)
		}
	}
	assert.False(t, p.Tools["look_out"].Work.Inward, "it reaches out, so a stub stands in for it")
	q := tooltest.Project(t, "tool: alone\nsummary: Reckon when it is asked for.\nscript: return typeof fetch\n", nil)
	r, bad = tooltest.Call(t, h, q, "alone", nil)
	require.Nil(t, bad)
	assert.Equal(t, "undefined", r.Value, "without a grant there is no fetch")
}

func TestDeclarationsAreTyped(t *testing.T) {
	p := tooltest.Project(t, "tool: d\nsummary: Do it when it is asked for.\ninput: {type: object, required: [n], properties: {n: {type: integer, description: How many.}, at: {type: array, items: {enum: [a, b]}}}}\nscript: return 1\n", nil)
	d := script.Declarations(p.Tools["d"], p.State.Doc())
	assert.Contains(t, d, "declare const args: {\n  \"at\"?: Array<\"a\" | \"b\">;\n  /** How many. */\n  \"n\": number;\n};")
	assert.Contains(t, d, `"length_m"?: number;`)
	assert.NotContains(t, d, "function fetch")
	assert.Contains(t, script.Declarations(nil, nil), "function fetch")
}

func TestASecretIsOpenedByFetchAlone(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, `{"key":%q,"body":%q}`, r.Header.Get("Authorization"), raw)
	}))
	defer srv.Close()
	p := tooltest.Project(t, "tool: look_out\nsummary: Look something up when it is asked for.\neffect: read\nscript:\n  fetch: [\""+srv.URL+"/\"]\n  code: |\n"+
		"    const key = secret('K'); log(key)\n    const r = fetch('"+srv.URL+"/', {method: 'POST', body: 'k=' + key, headers: {Authorization: 'Bearer ' + key}})\n    return {sent: r.json(), seen: key, again: secret('K') === key}\n", nil)
	r, bad := tooltest.Call(t, script.New(web.New(&tooltest.Secrets{})), p, "look_out", nil)
	require.Nil(t, bad, "%+v", bad)
	got := r.Value.(map[string]any)
	assert.Equal(t, map[string]any{"key": "Bearer the-value", "body": "k=the-value"}, got["sent"])
	assert.NotContains(t, got["seen"], "the-value")
	assert.NotContains(t, r.Sent.Log, "the-value")
	assert.Equal(t, true, got["again"])
	_, bad = call(t, "return secret('K')", time.Minute)
	require.NotNil(t, bad, "without fetch there is nothing to open it with")
}

func TestAScriptAttachesFiles(t *testing.T) {
	r, bad := call(t, "const a = attach('chart.png', new Uint8Array([0x89,0x50,0x4e,0x47,13,10,26,10])); attach('notes.txt', 'a note', 'text/plain'); attach('notes.txt', 'another'); return {chart: a}", time.Minute)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, map[string]any{"chart": map[string]any{"kind": "file", "type": "image/png", "bytes": 8.0, "file": "chart.png"}}, r.Value)
	var names []string
	for _, f := range r.Files {
		names = append(names, f.Name+" "+f.Type)
	}
	assert.Equal(t, []string{"chart.png image/png", "notes.txt text/plain", "file-3.txt text/plain"}, names)
	_, bad = call(t, "attach('x', {})", time.Minute)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "attach takes a name")
	_, bad = call(t, "for (let i = 0; i < 30; i++) attach('x' + i, 'y')", time.Minute)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "a result may have 20 files")
}
