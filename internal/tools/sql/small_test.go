package sql_test

import (
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	tsql "stonebaton.example/internal/tools/sql"
	"stonebaton.example/internal/tools/tooltest"
)

const register = `
tool: free
summary: List the free moorings when somebody asks for one.
effect: read
sql: {in: river, query: "SELECT mooring FROM moorings WHERE vessel IS NULL ORDER BY mooring"}
---
tool: take
summary: Take a mooring when somebody wants to have one.
input: {type: object, required: [vessel, mooring], properties: {vessel: {type: string, description: Its name.}, mooring: {type: string, description: Its code.}}}
sql:
  in: river
  change:
    - {name: took, do: "UPDATE moorings SET vessel = :vessel WHERE mooring = :mooring AND vessel IS NULL", rows: 1, else: "{{ args.mooring }} is not free."}
    - {name: noted, do: "INSERT INTO log (vessel) VALUES (:vessel)"}
  watch: SELECT mooring, vessel FROM moorings WHERE mooring = :mooring
`

const riverSchema = "CREATE TABLE moorings (mooring TEXT PRIMARY KEY, vessel TEXT UNIQUE, length_m REAL) STRICT;\nCREATE TABLE log (vessel TEXT NOT NULL CHECK (length(vessel) > 1));\n"

// river is a project with a small database.
type river struct {
	t         *testing.T
	dir, data string
	h         *tsql.Handler
	p         *project.Project
}

func newRiver(t *testing.T, schema string) *river {
	t.Helper()
	r := &river{t: t, dir: t.TempDir(), data: filepath.Join(t.TempDir(), "databases")}
	r.write("river.sql", schema)
	r.write("river.csv", "mooring,vessel,length_m\nM1,,9\nM2,Gannet,11.5\nM3,,\n")
	text := strings.Replace(coretest.Main, "start: desk", "start: desk\ndatabases: {river: {schema: river.sql, rows: {moorings: river.csv}}}", 1)
	p, probs := app.Reader.Compile(project.Source{Files: map[string]string{project.Main: text + "---" + register}})
	require.NotNil(t, p, "%v", probs)
	r.p = p
	r.h = tsql.New(r.dir, r.data)
	t.Cleanup(func() { assert.NoError(t, r.h.Close()) })
	return r
}

func (r *river) write(name, text string) {
	require.NoError(r.t, os.WriteFile(filepath.Join(r.dir, name), []byte(text), 0o644))
}

func (r *river) call(name string, args map[string]any, change ...func(*deed.Invocation)) (deed.Result, *deed.Failure) {
	r.t.Helper()
	return tooltest.Call(r.t, r.h, r.p, name, args, append([]func(*deed.Invocation){func(i *deed.Invocation) { i.Key = "" }}, change...)...)
}

func (r *river) free() string {
	r.t.Helper()
	out, bad := r.call("free", nil)
	require.Nil(r.t, bad, "%+v", bad)
	var names []string
	for _, row := range out.Value.([]any) {
		names = append(names, row.(map[string]any)["mooring"].(string))
	}
	return strings.Join(names, " ")
}

func take(vessel, mooring string) map[string]any {
	return map[string]any{"vessel": vessel, "mooring": mooring}
}

func TestADatabaseIsMadeAndChanged(t *testing.T) {
	r := newRiver(t, riverSchema)
	assert.NoFileExists(t, filepath.Join(r.data, "river.db"))
	require.NoError(t, r.h.Check(t.Context(), r.p.Tools["take"]))
	assert.NoFileExists(t, filepath.Join(r.data, "river.db"), "checking makes none")
	assert.Equal(t, "M1 M3", r.free(), "empty cells are NULL")
	tool := r.p.Tools["take"]
	assert.Equal(t, ledger.Write, tool.Effect)
	assert.NotNil(t, tool.Gate, "a change waits for a person where its file says nothing")

	diff, bad := r.h.Look(t.Context(), deed.Invocation{Tool: tool, Args: take("Petrel", "M3"), Key: "k"})
	require.Nil(t, bad)
	assert.Contains(t, diff, "-mooring: M3 · vessel: –\n+mooring: M3 · vessel: Petrel")
	assert.Equal(t, "M1 M3", r.free(), "a look changes nothing")

	out, bad := r.call("take", take("Petrel", "M3"))
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, map[string]any{"changed": map[string]any{"took": int64(1), "noted": int64(1)}, "before": []any{map[string]any{"mooring": "M3", "vessel": nil}}, "after": []any{map[string]any{"mooring": "M3", "vessel": "Petrel"}}}, out.Value)
	assert.Equal(t, diff, out.Sent.Diff)
	assert.Contains(t, out.Sent.URL, "INSERT INTO log")
	assert.Equal(t, "M1", r.free())

	_, bad = r.call("take", take("Heron", "M2"))
	require.NotNil(t, bad)
	assert.Equal(t, "M2 is not free; nothing was changed", bad.Say)
	assert.Equal(t, ledger.NotDone, bad.Outcome)
	assert.Equal(t, deed.Class("refused"), bad.Class)
	_, bad = r.call("take", take("Gannet", "M1"))
	assert.Equal(t, "UNIQUE constraint failed: moorings.vessel; nothing was changed", bad.Say)
	_, bad = r.call("take", take("X", "M1"))
	assert.Contains(t, bad.Say, "CHECK constraint failed")
	assert.Equal(t, "M1", r.free(), "the statements are done together or not at all")
}

func TestACallIsDoneOnceForItsKey(t *testing.T) {
	r := newRiver(t, riverSchema)
	keyed := func(i *deed.Invocation) { i.Key = "r-1.t1.c1" }
	first, bad := r.call("take", take("Petrel", "M3"), keyed)
	require.Nil(t, bad, "%+v", bad)
	again, bad := r.call("take", take("Petrel", "M3"), keyed)
	require.Nil(t, bad, "%+v", bad)
	assert.EqualValues(t, first.Value.(map[string]any)["after"], again.Value.(map[string]any)["after"])
	tables, err := r.h.Tables(t.Context(), r.p.Databases["river"], 10)
	require.NoError(t, err)
	assert.Equal(t, "log", tables[0].Name, "and its own tables are not shown")
	assert.Equal(t, 1, tables[0].Count)
}

func TestManyAtATime(t *testing.T) {
	r := newRiver(t, riverSchema)
	var wg sync.WaitGroup
	var mu sync.Mutex
	done := 0
	for _, name := range []string{"Heron", "Petrel", "Osprey", "Curlew", "Plover", "Dunlin", "Avocet", "Godwit"} {
		wg.Go(func() {
			if _, bad := r.call("take", take(name, "M1")); bad == nil {
				mu.Lock()
				done++
				mu.Unlock()
			} else {
				assert.Contains(t, bad.Say, "M1 is not free")
			}
		})
	}
	wg.Wait()
	assert.Equal(t, 1, done)
}

func TestAReadChangesNothing(t *testing.T) {
	r := newRiver(t, riverSchema)
	for _, data := range []string{r.data, ""} {
		h := tsql.New(r.dir, data)
		p := *r.p
		free := *p.Tools["free"]
		q := *free.Work.Spec.(*tsql.Query)
		q.Query = "WITH x AS (SELECT 1) DELETE FROM moorings RETURNING mooring"
		free.Work.Spec = &q
		p.Tools = map[string]*project.Tool{"free": &free}
		_, bad := tooltest.Call(t, h, &p, "free", nil)
		require.NotNil(t, bad)
		assert.Contains(t, bad.Say, "tables are only read here")
		require.NoError(t, h.Close())
	}
	assert.Equal(t, "M1 M3", r.free())
}

func TestCallsToStubsHaveACopyOfTheirOwn(t *testing.T) {
	r := newRiver(t, riverSchema)
	stub := func(run string) func(*deed.Invocation) {
		return func(i *deed.Invocation) { i.Stub, i.Run = true, run }
	}
	_, bad := r.call("take", take("Petrel", "M1"), stub("abc-1"))
	require.Nil(t, bad, "%+v", bad)
	_, bad = r.call("take", take("Heron", "M1"), stub("abc-2"))
	require.NotNil(t, bad, "the session goes on with it")
	_, bad = r.call("take", take("Heron", "M1"), stub("xyz-1"))
	require.Nil(t, bad, "another has its own")
	assert.Equal(t, "M1 M3", r.free())
	h := r.h.Rehearsal().(*tsql.Handler)
	defer h.Close()
	_, bad = tooltest.Call(t, h, r.p, "take", take("Petrel", "M1"))
	require.Nil(t, bad)
	assert.Equal(t, "M1 M3", r.free(), "nor does a drill touch it")
	for n := range 40 { // and copies are bounded
		_, bad = r.call("free", nil, stub(string(rune('a'+n%26))+string(rune('a'+n/26))+"-1"))
		require.Nil(t, bad)
	}
}

func TestADatabaseIsMadeAnew(t *testing.T) {
	r := newRiver(t, riverSchema)
	d := r.p.Databases["river"]
	_, bad := r.call("take", take("Petrel", "M1"))
	require.Nil(t, bad)
	require.NoError(t, r.h.Reset(d))
	assert.Equal(t, "M1 M3", r.free(), "what was open finds it anew")

	// another schema than it was made from
	r.write("river.sql", riverSchema+"CREATE TABLE more (x TEXT);\n")
	_, bad = r.call("free", nil)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "the database river was made from another schema than river.sql has now; `stonebaton database reset river` makes it anew")
	require.NoError(t, r.h.Reset(d))
	assert.Equal(t, "M1 M3", r.free())

	// a file that is none, and one that was taken away
	at := filepath.Join(r.data, "river.db")
	require.NoError(t, r.h.Close())
	require.NoError(t, os.WriteFile(at, []byte(strings.Repeat("not a database ", 500)), 0o600))
	_, bad = r.call("free", nil)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "the database river cannot be read (file is not a database")
	require.NoError(t, r.h.Reset(d))
	assert.Equal(t, "M1 M3", r.free())
	require.NoError(t, os.Remove(at))
	assert.Equal(t, "M1 M3", r.free(), "it is made where it is not there")
}

func TestALockedDatabase(t *testing.T) {
	r := newRiver(t, riverSchema)
	assert.Equal(t, "M1 M3", r.free())
	db, err := sql.Open("sqlite", filepath.Join(r.data, "river.db"))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("BEGIN IMMEDIATE")
	require.NoError(t, err)
	_, bad := r.call("take", take("Petrel", "M1"))
	require.NotNil(t, bad)
	assert.Equal(t, "the database river is locked by another program", bad.Say)
	assert.Equal(t, ledger.NotDone, bad.Outcome)
	assert.True(t, bad.Retry)
	assert.Equal(t, "M1 M3", r.free(), "it can be read")
}

func TestDatabasesThatCannotBeMade(t *testing.T) {
	for say, files := range map[string][2]string{
		`river.sql: near "TABEL": syntax error`:                                                {"CREATE TABEL x (y);", ""},
		"river.sql: no other file can be opened here":                                          {"ATTACH 'x.db' AS x;", ""},
		"river.csv: row 2 does not fit the table moorings: NOT NULL":                           {"CREATE TABLE moorings (mooring TEXT NOT NULL);", "mooring\nM1\n\"\"\n"},
		"river.csv: row 1 does not fit the table moorings: table moorings has no column named": {"CREATE TABLE moorings (x TEXT);", ""},
	} {
		r := newRiver(t, files[0])
		if files[1] != "" {
			r.write("river.csv", files[1])
		}
		_, bad := r.call("free", nil)
		require.NotNil(t, bad, say)
		assert.Contains(t, bad.Say, say)
		assert.NoFileExists(t, filepath.Join(r.data, "river.db"))
		assert.ErrorContains(t, r.h.Check(t.Context(), r.p.Tools["free"]), say)
	}
}

func TestWhatADatabaseToolMaySay(t *testing.T) {
	for say, text := range map[string]string{
		`unknown database "rivre"`:                        "effect: read\nsql: {in: rivre, query: SELECT 1}\n",
		"the statement changes no rows":                   "sql: {in: river, change: [{do: DROP TABLE moorings}]}\n",
		"else: is never said":                             "sql: {in: river, change: [{do: DELETE FROM log, else: No.}]}\n",
		"two statements are called a":                     "sql: {in: river, change: [{name: a, do: DELETE FROM log}, {name: a, do: DELETE FROM log}]}\n",
		"sql: change changes something; it is not a read": "effect: read\nsql: {in: river, change: [{do: DELETE FROM log}]}\n",
		"watch: is for tools that change something":       "effect: read\nsql: {in: river, query: SELECT 1, watch: SELECT 1}\n",
		"sql.query is missing":                            "effect: read\nsql: {database: x.db, change: [{do: DELETE FROM log}]}\n",
	} {
		main := strings.Replace(coretest.Main, "start: desk", "start: desk\ndatabases: {river: {schema: river.sql}}", 1)
		_, probs := app.Reader.Compile(project.Source{Files: map[string]string{project.Main: main + "---\ntool: x\nsummary: Do it when somebody asks for it.\n" + text}})
		var said []string
		for _, p := range probs {
			said = append(said, p.Say)
		}
		assert.Contains(t, strings.Join(said, "\n"), say)
	}
}
