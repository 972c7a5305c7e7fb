package sql_test

import (
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	tsql "stonebaton.example/internal/tools/sql"
	"stonebaton.example/internal/tools/tooltest"
)

// asking is a project whose model writes queries.
func asking(t *testing.T, spec string) (*tsql.Handler, *project.Project) {
	t.Helper()
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("data/berths.csv", "berth,basin,length_m\nA1,Abbey,12.5\nC4,Customs,52\nC5,Customs,50\nD1,Dock,9\n")
	write("data/boats.json", `[{"boat": "Petrel", "length_m": 12.4}, {"boat": "Heron", "length_m": 30}]`)
	write("data/river.sql", riverSchema)
	write("data/river.csv", "mooring,vessel,length_m\nM1,,9\n")
	write(project.Main, strings.Replace(coretest.Main, "start: desk", "start: desk\ndatabases: {river: {schema: data/river.sql, rows: {moorings: data/river.csv}}}", 1)+"---\ntool: ask\nsummary: Answer questions about berths that no other tool answers.\nsql: "+spec+"\n")
	src, _ := app.Reader.Load(os.DirFS(dir), func(string) (string, bool) { return "", false })
	p, probs := app.Reader.Compile(src)
	require.NotNil(t, p, "%+v", probs)
	h := tsql.New(dir, "")
	t.Cleanup(func() { assert.NoError(t, h.Close()) })
	return h, p
}

func TestAModelWritesTheQuery(t *testing.T) {
	h, p := asking(t, "{ask: true, tables: {berths: data/berths.csv, boats: data/boats.json}, rows: 3}")
	said := p.Tools["ask"].Input.Doc()["properties"].(map[string]any)["query"].(map[string]any)["description"]
	assert.Equal(t, "One SELECT in the SQL of SQLite, over these tables alone:\nberths(berth text, basin text, length_m number)\n  such as A1, Abbey, 12.5\n  such as C4, Customs, 52\n  such as C5, Customs, 50\nboats(boat text, length_m number)\n  such as Petrel, 12.4\n  such as Heron, 30", said)
	require.NoError(t, h.Check(t.Context(), p.Tools["ask"]))
	r, bad := tooltest.Call(t, h, p, "ask", map[string]any{"query": "SELECT basin, count(*) AS n FROM berths GROUP BY basin ORDER BY n DESC LIMIT 1"})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, []any{map[string]any{"basin": "Customs", "n": 2.0}}, r.Value)
	assert.Equal(t, "SELECT basin, count(*) AS n FROM berths GROUP BY basin ORDER BY n DESC LIMIT 1", r.Sent.URL, "the step shows what was asked")
	r, bad = tooltest.Call(t, h, p, "ask", map[string]any{"query": "SELECT * FROM berths"})
	require.Nil(t, bad)
	assert.Len(t, r.Value, 3)
	assert.True(t, r.More)

	for query, say := range map[string]string{
		"DELETE FROM berths":                        "it has to begin with SELECT, WITH or VALUES",
		"WITH x AS (SELECT 1) DELETE FROM berths":   "tables are only read here",
		"SELECT 1; DROP TABLE berths":               "one query at a time",
		"SELECT * FROM sqlite_master":               "sqlite_master cannot be asked here",
		"SELECT * FROM pragma_database_list":        "pragma_database_list cannot be asked here",
		"SELECT load_extension('x')":                "load_extension cannot be asked here",
		"SELECT lenght_m FROM berths":               `no column is called lenght_m. Did you mean "length_m"?`,
		"SELECT * FROM berth":                       `no table is called berth. Did you mean "berths"?`,
		"SELECT * FROM berths WHERE berth = :berth": "write the values into it",
		"SELECT length(randomblob(1000000000))":     "the query cannot be run",
		"SELECT length(hex(zeroblob(900000000)))":   "the query cannot be run",
	} {
		_, bad := tooltest.Call(t, h, p, "ask", map[string]any{"query": query})
		require.NotNil(t, bad, query)
		assert.Contains(t, bad.Say, say, query)
	}
}

func TestAModelAsksADatabaseOfTheProject(t *testing.T) {
	h, p := asking(t, "{ask: true, in: river}")
	said := p.Tools["ask"].Input.Doc()["properties"].(map[string]any)["query"].(map[string]any)["description"]
	assert.Contains(t, said, "CREATE TABLE moorings")
	assert.Contains(t, said, "moorings(mooring text, vessel number, length_m number)\n  such as M1, , 9")
	r, bad := tooltest.Call(t, h, p, "ask", map[string]any{"query": "SELECT mooring FROM moorings"})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, []any{map[string]any{"mooring": "M1"}}, r.Value)
	_, bad = tooltest.Call(t, h, p, "ask", map[string]any{"query": "SELECT * FROM _done"})
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "_done cannot be asked here")
}

func TestAnEndlessQueryOfAModelEnds(t *testing.T) {
	h, p := asking(t, "{ask: true, tables: {berths: data/berths.csv}}\ntimeout: 500ms")
	_, bad := tooltest.Call(t, h, p, "ask", map[string]any{"query": "WITH RECURSIVE x(n) AS (SELECT 1 UNION ALL SELECT n+1 FROM x) SELECT max(n) FROM x"})
	require.NotNil(t, bad)
	assert.Equal(t, "the query had not ended after 500ms", bad.Say)
	r, bad := tooltest.Call(t, h, p, "ask", map[string]any{"query": "SELECT count(*) AS n FROM berths"})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, []any{map[string]any{"n": 4.0}}, r.Value, "and the tables are there")
}

// leave are ways in which a model might try to get out of its query, each of which is refused
// or does nothing. FILE is a database elsewhere, NEW a file that is not there.
var leave = []string{
	`SELECT 1 /* ' */ ; ATTACH 'FILE' AS x -- '`,
	`SELECT 1 /* ' */ ; CREATE TABLE t(a) -- '`,
	`SELECT 1 /* ' */ ; DELETE FROM moorings -- '`,
	`SELECT 1 /* ' */ ; PRAGMA query_only = 0; DELETE FROM moorings -- '`,
	`SELECT 1 /* " */ ; DROP TABLE moorings -- "`,
	"SELECT 1 /* ` */ ; DROP TABLE moorings -- `",
	`SELECT 1 /* [ */ ; DROP TABLE moorings -- ]`,
	"SELECT 1 -- '\n; DELETE FROM moorings -- '",
	"SELECT '--' ; DELETE FROM moorings",
	"SELECT ';' ; DELETE FROM moorings",
	"SELECT 1 AS [x;y]; DELETE FROM moorings",
	"SELECT 1;\n\n;DELETE FROM moorings",
	"SELECT 1;/* */DELETE FROM moorings;",
	"SELECT 1;SELECT 2",
	"SELECT 1\x00; DELETE FROM moorings",
	"SELECT 1 /* unended ; DELETE FROM moorings",
	"WITH x AS (SELECT 1) DELETE FROM moorings",
	"WITH x AS (SELECT 1) INSERT INTO moorings VALUES ('Z', 'z', 1)",
	"WITH x AS (SELECT 1) UPDATE moorings SET vessel = 'stolen'",
	"WITH x AS (SELECT 1) REPLACE INTO moorings SELECT 'Z', 'z', 1",
	"VALUES (1); ATTACH 'NEW' AS y",
	"SELECT * FROM sqlite_master", "SELECT * FROM sqlite_schema", `SELECT * FROM "sqlite_master"`, "SELECT * FROM [sqlite_master]", "SELECT * FROM main.sqlite_master", "SELECT * FROM temp.sqlite_master", "SELECT (SELECT sql FROM sqlite_master LIMIT 1)",
	"SELECT * FROM _done", "SELECT * FROM [_made]", "SELECT * FROM pragma_database_list", "SELECT * FROM pragma_table_info('moorings')", "SELECT * FROM dbstat", "SELECT * FROM sqlite_stmt", "SELECT * FROM sqlite_dbpage", "SELECT * FROM bytecode('SELECT 1')",
	"SELECT load_extension('x')", "SELECT readfile('FILE')", "SELECT writefile('NEW', 'x')", "SELECT edit('x')", "SELECT fts3_tokenizer('simple')", "SELECT sqlite_compileoption_get(1)", "SELECT * FROM generate_series(1, 3)",
	"SELECT * FROM moorings, other.runs", "SELECT vec_version()",
}

func TestAModelCannotLeaveItsQuery(t *testing.T) {
	outside := t.TempDir()
	there := filepath.Join(outside, "records.db")
	db, err := sql.Open("sqlite", "file:"+there)
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE runs (said); INSERT INTO runs VALUES ('the secret')")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	before, err := os.ReadFile(there)
	require.NoError(t, err)
	for _, spec := range []string{"{ask: true, in: river}", "{ask: true, tables: {moorings: data/river.csv}}"} {
		h, p := asking(t, spec)
		data := t.TempDir()
		if strings.Contains(spec, "in:") {
			h = tsql.New(h.Dir(), data)
			t.Cleanup(func() { assert.NoError(t, h.Close()) })
		}
		want, bad := tooltest.Call(t, h, p, "ask", map[string]any{"query": "SELECT * FROM moorings"})
		require.Nil(t, bad)
		for _, query := range leave {
			query = strings.NewReplacer("FILE", there, "NEW", filepath.Join(outside, "new.db")).Replace(query)
			r, bad := tooltest.Call(t, h, p, "ask", map[string]any{"query": query})
			if bad == nil && strings.Contains(query, "unended") {
				continue // all that follows is a comment
			}
			if assert.NotNil(t, bad, "%s gave %v", query, r.Value) {
				assert.Equal(t, "query", string(bad.Class))
				assert.NotContains(t, bad.Say, "the secret")
			}
			now, bad := tooltest.Call(t, h, p, "ask", map[string]any{"query": "SELECT * FROM moorings"})
			require.Nil(t, bad, "after %s", query)
			require.Equal(t, want.Value, now.Value, "after %s", query)
		}
		for query, value := range map[string]any{
			"SELECT 1 AS [x;y]": 1.0, "SELECT 1 AS x -- ;": 1.0, "SELECT ';' AS x;": ";", "SELECT 1 AS x /* ; */ ;  /* ; */ -- ; ": 1.0, "SELECT ifnull(max(length_m), 1) > 0 AS x FROM moorings": 1.0,
			"WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c WHERE n < 9) SELECT max(n) AS x FROM c": 9.0, "SELECT sum(value) AS x FROM json_each('[1,2]')": 3.0,
			"SELECT x FROM (SELECT count(*) OVER () AS x, row_number() OVER () FROM moorings) LIMIT 1": 1.0,
		} {
			r, bad := tooltest.Call(t, h, p, "ask", map[string]any{"query": query})
			if assert.Nil(t, bad, "%s: %+v", query, bad) {
				for _, v := range r.Value.([]any)[0].(map[string]any) {
					assert.Equal(t, value, v, query)
				}
			}
		}
	}
	after, err := os.ReadFile(there)
	require.NoError(t, err)
	assert.Equal(t, before, after)
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Len(t, left, 1, "no file was made")
}
