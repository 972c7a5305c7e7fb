package app_test

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/expr"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
)

func texts(probs []project.Problem) string {
	var out []string
	for _, p := range inUse(probs) {
		out = append(out, string(p.Grade)+" "+p.File+" "+p.Say)
	}
	return strings.Join(out, "\n")
}

// inUse leaves out that no agent has a tool: most tests have tools alone.
func inUse(probs []project.Problem) []project.Problem {
	return slices.DeleteFunc(slices.Clone(probs), func(p project.Problem) bool { return p.Code == "unused" })
}

func TestSecretsWithNoValueAreTold(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, project.Main, coretest.Main)
	write(t, dir, "t.yaml", "# tool: old, with ${secret:UNUSED}\ntool: get\nsummary: Get a thing when it is asked for.\neffect: read\nhttp:\n  url: http://127.0.0.1:1/\n  bearer: ${secret:GONE}\n  headers: {X: \"${secret:HERE}\"}\n  query: {q: \"${secret:MEANT}\"} # accept secret: set where it runs\n")
	w := shopIn(t, dir)
	p, _, probs := w.Read(ctx, func(name string) (string, bool) { return "value-of-it", name == "HERE" }, nil)
	require.NotNil(t, p)
	assert.Equal(t, "warning t.yaml the secret GONE has no value; what needs it will fail when it is used", texts(probs))
	probs = inUse(probs)
	assert.Equal(t, 7, probs[0].Line)
	assert.Equal(t, "bearer: ${secret:GONE}", probs[0].Text)
}

const office = `source: things
openapi: {document: "%s", server: "http://127.0.0.1:1"}
take: [getThing]
effects: {getThing: read}
`

func TestASourceThatIsAwayLeavesItsToolsAsTheyWere(t *testing.T) {
	var down atomic.Bool
	doc := `{"openapi":"3.1.0","info":{"title":"T","version":"1"},"paths":{"/things":{"get":{"operationId":"getThing","summary":"Get the things when they are asked for"}},"/more":{"get":{"operationId":"getMore"}}}}`
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if down.Load() {
			w.WriteHeader(500)
			return
		}
		_, _ = w.Write([]byte(doc))
	}))
	defer srv.Close()
	dir := t.TempDir()
	write(t, dir, project.Main, coretest.Main)
	write(t, dir, "s.yaml", strings.Replace(office, "%s", srv.URL, 1))
	a, err := app.Open(ctx, app.Config{Dir: dir})
	require.NoError(t, err)
	p, err := a.Projects.Current()
	require.NoError(t, err)
	require.NotNil(t, p.Tools["get_thing"])
	version := p.Version
	doc = strings.Replace(doc, `"operationId":"getMore"`, `"operationId":"getMuchMore"`, 1)
	changed, err := a.Projects.Reload(ctx)
	require.NoError(t, err)
	assert.False(t, changed, "what nobody takes changes nothing")
	require.NoError(t, a.Close())

	down.Store(true)
	a, err = app.Open(ctx, app.Config{Dir: dir})
	require.NoError(t, err)
	defer a.Close()
	p, err = a.Projects.Current()
	require.NoError(t, err, "the project starts all the same")
	assert.NotNil(t, p.Tools["get_thing"])
	probs, _, _ := a.Projects.Problems()
	assert.Contains(t, texts(probs), "warning s.yaml what things offers cannot be read: "+srv.URL+" answered 500; its tools are as they were the last time.")
	old, err := a.Projects.Version(ctx, version)
	require.NoError(t, err, "a run under way finds the contract that it began with")
	assert.NotNil(t, old.Tools["get_thing"])

	_, _, probs = shopIn(t, dir).Read(ctx, none, nil)
	assert.Contains(t, texts(probs), "error s.yaml what things offers cannot be read", "what was never reached is an error")
}

func TestASilentSourceDoesNotHoldUpAProjectThatKnowsIt(t *testing.T) {
	open, silent := make(chan struct{}), atomic.Bool{}
	asked := make(chan struct{}, 8)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if silent.Load() {
			asked <- struct{}{}
			select {
			case <-open:
			case <-r.Context().Done():
			}
		}
		_, _ = w.Write([]byte(`{"openapi":"3.1.0","info":{"title":"T","version":"1"},"paths":{"/things":{"get":{"operationId":"getThing","summary":"Get the things when they are asked for"}}}}`))
	}))
	defer srv.Close()
	dir := t.TempDir()
	write(t, dir, project.Main, coretest.Main)
	write(t, dir, "s.yaml", strings.Replace(office, "%s", srv.URL, 1))
	a, err := app.Open(ctx, app.Config{Dir: dir})
	require.NoError(t, err)
	require.NoError(t, a.Close())

	silent.Store(true)
	a, err = app.Open(ctx, app.Config{Dir: dir})
	require.NoError(t, err)
	defer a.Close()
	p, err := a.Projects.Current()
	require.NoError(t, err)
	assert.NotNil(t, p.Tools["get_thing"])
	problems := func() string { probs, _, _ := a.Projects.Problems(); return texts(probs) }
	assert.Contains(t, problems(), "what things offers cannot be read: it has not answered within 2s, and is still being asked; its tools are as they were the last time.")
	_, err = a.Projects.Reload(ctx)
	require.NoError(t, err)
	assert.Len(t, asked, 1, "it is asked once, however often the project is read")
	close(open)
	assert.Eventually(t, func() bool { return problems() == "" }, 10*time.Second, 5*time.Millisecond, "its answer is taken when it comes")
}

func TestDocumentsThatCannotBeRead(t *testing.T) {
	dir := t.TempDir()
	outside := filepath.Join(t.TempDir(), "o.json")
	require.NoError(t, os.WriteFile(outside, []byte(`{"openapi":"3.1.0"}`), 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "data"), 0o755))
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "data/link.json")))
	write(t, dir, "data/broken.json", "{\n\"openapi\": x")
	write(t, dir, project.Main, coretest.Main)
	for doc, say := range map[string]string{"data/none.json": "cannot find the file data/none.json", "data/link.json": "cannot find the file data/link.json", "data/broken.json": "line 2: this is not JSON", "../x.json": "outside the project"} {
		write(t, dir, "s.yaml", strings.Replace(office, "%s", doc, 1))
		_, _, probs := read(t, dir)
		assert.Contains(t, texts(probs), say, doc)
	}
}

func TestAnEnumOfTwoMegabytesIsTakenAndTold(t *testing.T) {
	values := []string{}
	for i := range 100_000 {
		values = append(values, strings.Repeat("x", 14)+string(rune('a'+i%26))+strings.Repeat("y", i%7)+string(rune('0'+i/10000))+itoa(i))
	}
	raw, err := json.Marshal(map[string]any{"openapi": "3.1.0", "info": map[string]any{}, "paths": map[string]any{"/t": map[string]any{"get": map[string]any{"operationId": "getThing", "summary": "Get the things when they are asked for",
		"parameters": []any{map[string]any{"name": "kind", "in": "query", "description": "What kind.", "schema": map[string]any{"type": "string", "enum": values}}}}}}})
	require.NoError(t, err)
	require.Greater(t, len(raw), 2<<20)
	dir := t.TempDir()
	write(t, dir, project.Main, coretest.Main)
	write(t, dir, "data/big.json", string(raw))
	write(t, dir, "s.yaml", strings.Replace(office, "%s", "data/big.json", 1))
	p, _, probs := read(t, dir)
	require.NotNil(t, p, "%s", texts(probs))
	assert.Contains(t, texts(probs), `"kind" lists 100000 values; models read them with every turn`)
	write(t, dir, "big.yaml", "tool: big\nsummary: Take one of many when asked.\ninput: {type: object, properties: {kind: {enum: ["+strings.Join(values, ", ")+"]}}}\nscript: return 1\n")
	_, _, probs = read(t, dir)
	assert.Contains(t, texts(probs), "a project file may have 1048576 at most")
}

func itoa(n int) string { b, _ := json.Marshal(n); return string(b) }

func TestARehearsalKeepsNothing(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, project.Main, strings.Replace(coretest.Main, "tools: [look, tide, reserve, pay, toot]", "tools: [look, tide, reserve, pay, toot, tell]", 1))
	write(t, dir, "t.yaml", "tool: tell\nsummary: Send a message to a skipper when they have to be told.\nbuiltin: {do: outbox.send}\n---\ndrill: a_message\nsay: Send the message \"Hello.\" to ann.\ntools: live\nexpect: {calls: [{tool: tell}]}\n")
	a, err := app.Open(ctx, app.Config{Dir: dir})
	require.NoError(t, err)
	defer a.Close()
	p, err := a.Projects.Current()
	require.NoError(t, err)
	_, err = app.RunDrills(ctx, p, a.Workshop, nil, nil)
	require.NoError(t, err)
	list, err := a.Store.Messages(ctx, "")
	require.NoError(t, err)
	assert.Empty(t, list, "a drill's messages go to an outbox of its own")
}

func TestToolsThatCannotBeCarriedOutHereAreTold(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, project.Main, coretest.Main)
	write(t, dir, "data/t.csv", "berth,length_m\nC4,52\n")
	const q = "tool: q%d\nsummary: Ask the table when it is asked for.\neffect: read\ninput: {type: object, properties: {berth: {type: string, description: A code.}}}\n"
	write(t, dir, "a.yaml", strings.Join([]string{
		strings.Replace(q, "%d", "1", 1) + "sql: {tables: {t: data/none.csv}, query: SELECT * FROM t}\n",
		strings.Replace(q, "%d", "2", 1) + "sql: {tables: {t: data/t.csv}, query: \"SELECT lenght_m FROM t WHERE berth = :berth\"}\n",
		strings.Replace(q, "%d", "3", 1) + "sql: {tables: {t: data/t.csv}, query: \"SELECT * FROM t WHERE berth = :bert\"}\n",
		strings.Replace(q, "%d", "4", 1) + "sql: {tables: {t: data/t.csv}, query: \"SELECT * FROM t WHERE berth = :berth\"}\n",
		"tool: prog\nsummary: Run it when it is asked for.\nresend: safe\ncommand: {run: [./nope.sh]}\n",
		"tool: files\nsummary: List the files when they are asked for.\nbuiltin: {do: files.list, in: [nofolder]}\n"}, "---\n"))
	p, _, probs := read(t, dir)
	require.NotNil(t, p)
	assert.Equal(t, `warning a.yaml "files" cannot be called: the folder nofolder, which files may use, cannot be opened: no such file or directory
warning a.yaml "prog" cannot be called: there is no program ./nope.sh in the project; its path counts from the file that names it
warning a.yaml "q1" cannot be called: cannot find the file data/none.csv
warning a.yaml "q2" cannot be called: the query cannot be run: no column is called lenght_m. Did you mean "length_m"? There is: t (berth, length_m)
warning a.yaml "q3" cannot be called: the query names :bert, which is no argument. Did you mean "berth"?`, texts(probs))
}

func TestDataThatAProjectNamesIsWatched(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, project.Main, coretest.Main)
	write(t, dir, "a.yaml", "tool: q\nsummary: Ask the table when it is asked for.\neffect: read\nsql: {tables: {t: data/t.csv}, query: SELECT berth FROM t}\n---\ntool: files\nsummary: List the files when they are asked for.\neffect: read\nbuiltin: {do: files.list, in: [data/notes]}\n")
	a := open(t, dir)
	defer a.Close()
	said := func(want ...string) {
		t.Helper()
		require.Eventually(t, func() bool {
			probs, _, _ := a.Projects.Problems()
			return len(inUse(probs)) == len(want) && !slices.ContainsFunc(want, func(w string) bool { return !strings.Contains(texts(probs), w) })
		}, 20*time.Second, 5*time.Millisecond, "%q", want)
	}
	const noFolder = "the folder data/notes, which files may use, cannot be opened"
	said("cannot find the file data/t.csv", noFolder)
	write(t, dir, "data/t.csv", "place\nC4\n") // the folder is new, too
	said("no column is called berth. There is: t (place)", noFolder)
	write(t, dir, "data/t.csv", "berth\nC4\n")
	said(noFolder)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "data/notes"), 0o755))
	said()
	write(t, dir, "s.yaml", strings.Replace(office, "%s", "data/o.json", 1))
	said("cannot find the file data/o.json")
	write(t, dir, "data/o.json", "{")
	said("data/o.json: line 1: this is not JSON")
	require.NoError(t, os.Remove(filepath.Join(dir, "s.yaml")))
	said()
}

func TestAnEnvFileThatCannotBeReadIsSaid(t *testing.T) {
	for text, line := range map[string]int{"NOT A LINE\n": 1, "A=1\n\n# a comment\nno value here\n": 4, "A=1\n": 0} {
		dir := t.TempDir()
		write(t, dir, project.Main, coretest.Main)
		write(t, dir, ".env", text)
		_, _, probs := read(t, dir)
		if line == 0 {
			assert.Empty(t, probs)
			continue
		}
		require.Len(t, probs, 1, "%q", text)
		assert.Equal(t, project.Place{File: ".env", Line: line, Col: 1}, probs[0].Place)
		assert.Equal(t, "the line is not NAME=value; no value of the file is used", probs[0].Say)
	}
}

func TestWhatIsNotReadIsSaidBeforeWhatFollowsFromIt(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, project.Main, strings.Replace(coretest.Main, "passes_to: [berths]", "passes_to: [berths, third]", 1))
	write(t, dir, "third.yml", "agent: third\nsummary: Not read.\nprompt: x\n")
	_, _, probs := read(t, dir)
	require.Len(t, probs, 2)
	assert.Equal(t, "third.yml", probs[0].File)
	assert.Equal(t, project.Error, probs[1].Grade)
}

func TestLinesThatFitNothingAreSaid(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, project.Main, strings.Replace(coretest.Main, "models: {m: {speaks: understudy", `models: {m: {speaks: understudy, lines: "l/*.yaml"`, 1))
	_, _, probs := read(t, dir)
	assert.Contains(t, texts(probs), `lines: l/*.yaml of the model "m" matches no file`)
	write(t, dir, "l/a.yaml", "lines:\n  - {who: desk, say: a, calls: [{tool: lok}]}\n  - {who: desk, say: b, calls: [{tool: look, args: {nme: x}}]}\n  - {who: desk, say: c, calls: [{tool: pass_to_berth}, {tool: look, args: {name: x}}]}\n")
	_, _, probs = read(t, dir)
	assert.Equal(t, `warning l/a.yaml this line calls "lok", and there is no such tool. Did you mean "look"?
warning l/a.yaml this line gives nme to "look", which has no such argument. Did you mean "name"?
warning l/a.yaml this line passes to "berth", and there is no such agent. Did you mean "berths"?`, texts(probs))
}

func TestWhatAppearsDoesNotStart(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, project.Main, coretest.Main)
	mark := filepath.Join(dir, "started")
	source := "source: late\nmcp: {command: [sh, -c, \"touch " + mark + "\"], sandbox: none, timeout: 1s}\ntake: [look_out]\n"
	a := open(t, dir)
	write(t, dir, "s.yaml", source)
	_, err := a.Projects.Reload(ctx)
	require.NoError(t, err)
	require.Len(t, a.Projects.Waiting(), 1)
	assert.NoFileExists(t, mark)
	require.NoError(t, a.Close())

	// a restart does not confirm it
	a = open(t, dir)
	require.Len(t, a.Projects.Waiting(), 1)
	assert.NoFileExists(t, mark)
	_, err = a.Projects.Confirm(ctx, "none", "ann")
	require.ErrorIs(t, err, app.ErrNotWaiting)
	_, err = a.Projects.Confirm(ctx, a.Projects.Waiting()[0].ID, "ann")
	require.NoError(t, err)
	assert.FileExists(t, mark, "now it starts")
	assert.Empty(t, a.Projects.Waiting())
	require.NoError(t, a.Close())

	// what the files name when a service starts for the first time starts with it, and with Trust all does
	for _, c := range []app.Config{{Dir: dir, Data: t.TempDir()}, {Dir: dir, Data: t.TempDir(), Trust: true}} {
		require.NoError(t, os.Remove(mark))
		a, err := app.Open(ctx, c)
		require.NoError(t, err)
		assert.FileExists(t, mark)
		require.NoError(t, a.Close())
	}
}

func TestAToolWithoutASandboxThatAppearsIsNotCalled(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, project.Main, coretest.Main)
	a := open(t, dir)
	defer a.Close()
	write(t, dir, "h.yaml", "tool: hail\nsummary: Hail a vessel when somebody asks for it.\ngate: {when: \"true\"}\ncommand: {run: [echo, ahoy], output: text, sandbox: none}\n")
	_, err := a.Projects.Reload(ctx)
	require.NoError(t, err)
	p, err := a.Projects.Current()
	require.NoError(t, err)
	call := func() (deed.Result, *deed.Failure) {
		return a.Tools.Call(ctx, deed.Invocation{Project: p, Tool: p.Tools["hail"], Args: map[string]any{}, Vars: expr.Vars{}})
	}
	_, bad := call()
	require.NotNil(t, bad)
	assert.EqualValues(t, "trust", bad.Class)
	assert.Contains(t, bad.Say, "the tool hail runs echo ahoy with sandbox: none; it appeared while the service runs, and waits until a person confirms it")
	_, err = a.Projects.Confirm(ctx, a.Projects.Waiting()[0].ID, "ann")
	require.NoError(t, err)
	r, bad := call()
	require.Nil(t, bad)
	assert.Equal(t, "ahoy", r.Value)
}
