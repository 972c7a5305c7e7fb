package sql_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/deed"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
	"stonebaton.example/internal/tools/sql"
	"stonebaton.example/internal/tools/tooltest"
)

const head = "tool: q\nsummary: Ask a table when something is asked.\neffect: read\ninput: {type: object, properties: {name: {type: string, description: A name.}, least: {type: number, description: Metres.}, codes: {type: array, description: Codes.}}}\n"

const berths = "berth,basin,length_m,depth_m,code\nA1,Abbey,12.5,3.1,007\nA2,Abbey,14,3.2,008\nC4,Customs,52,6.1,009\n"

func folder(t *testing.T) string {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "data"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "data/berths.csv"), []byte(berths), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "data/tariff.tsv"), []byte("basin\trate\nAbbey\t1.6\nCustoms\t2.1\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "data/notes.json"), []byte(`[{"berth":"A1","note":"dries","tags":["shallow"]},{"berth":"C4","open":true}]`), 0o600))
	db, err := sqlx.Open("sqlite", filepath.Join(dir, "data/log.db"))
	require.NoError(t, err)
	db.MustExec("CREATE TABLE entry (at TEXT, what TEXT); INSERT INTO entry VALUES ('2026-05-04', 'fog'), ('2026-05-05', 'clear')")
	require.NoError(t, db.Close())
	return dir
}

func ask(t *testing.T, dir, spec string, args map[string]any) (deed.Result, *deed.Failure) {
	t.Helper()
	h := sql.New(dir, "")
	defer h.Close()
	return tooltest.Call(t, h, tooltest.Project(t, head+spec, nil), "q", args)
}

func TestFilesAreTables(t *testing.T) {
	dir := folder(t)
	r, bad := ask(t, dir, "sql: {tables: {berths: data/berths.csv, tariff: data/tariff.tsv, notes: data/notes.json}, query: \"SELECT b.berth, length_m, rate, note, code FROM berths b JOIN tariff USING (basin) LEFT JOIN notes n ON n.berth = b.berth WHERE length_m >= :least ORDER BY length_m\"}", map[string]any{"least": 14.0})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, []any{map[string]any{"berth": "A2", "length_m": 14.0, "rate": 1.6, "note": nil, "code": "008"}, map[string]any{"berth": "C4", "length_m": 52.0, "rate": 2.1, "note": nil, "code": "009"}}, r.Value, "a code keeps its zeros")
	r, bad = ask(t, dir, "sql: {database: data/log.db, query: \"SELECT what FROM entry WHERE at = '2026-05-04'\", one: true}", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, map[string]any{"what": "fog"}, r.Value)
	r, bad = ask(t, dir, "sql: {tables: {berths: data/berths.csv}, query: \"SELECT count(*) AS n FROM berths WHERE berth IN (SELECT value FROM json_each(:codes))\", one: true}", map[string]any{"codes": []any{"A1", "C4", "Z9"}})
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, map[string]any{"n": 2.0}, r.Value, "lists go in as JSON")
}

func TestCellsThatAreNumbersAndThoseThatAreNot(t *testing.T) {
	dir := folder(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "data/odd.csv"), []byte("id,big,code,gap,far,neg,hex\n9007199254740993,99999999999999999999,007,1.5,inf,-2,0x1p4\n2,1,8,NaN,1,,3\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "data/odd.json"), []byte(`[{"id":9007199254740993,"x":0.5}]`), 0o600))
	r, bad := ask(t, dir, "sql: {tables: {odd: data/odd.csv}, query: \"SELECT * FROM odd\"}", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, []any{
		map[string]any{"id": int64(9007199254740993), "big": "99999999999999999999", "code": "007", "gap": 1.5, "far": "inf", "neg": -2.0, "hex": "0x1p4"},
		map[string]any{"id": 2.0, "big": "1", "code": "8", "gap": nil, "far": "1", "neg": nil, "hex": "3"},
	}, r.Value)
	r, bad = ask(t, dir, "sql: {tables: {odd: data/odd.json}, query: \"SELECT * FROM odd\"}", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, []any{map[string]any{"id": int64(9007199254740993), "x": 0.5}}, r.Value)
	_, bad = ask(t, dir, "sql: {tables: {odd: data/odd.csv}, query: \"SELECT a.id, b.id FROM odd a JOIN odd b\"}", nil)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "two columns are called id; name one of them with AS")
	require.NoError(t, unix.Mkfifo(filepath.Join(dir, "data/pipe.csv"), 0o600))
	_, bad = ask(t, dir, "sql: {tables: {odd: data/pipe.csv}, query: \"SELECT * FROM odd\"}", nil)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "data/pipe.csv cannot be read as a table: it is not a plain file")
}

func TestValuesAreBoundAndNeverWritten(t *testing.T) {
	r, bad := ask(t, folder(t), "sql: {tables: {berths: data/berths.csv}, query: \"SELECT * FROM berths WHERE berth = :name\"}", map[string]any{"name": "x' OR '1'='1"})
	require.Nil(t, bad)
	assert.Equal(t, []any{}, r.Value)
	r, bad = ask(t, folder(t), "sql: {tables: {berths: data/berths.csv}, query: \"SELECT berth FROM berths WHERE berth = :who\", params: {who: \"{{ args.name }}1\"}}", map[string]any{"name": "A"})
	require.Nil(t, bad, "%+v", bad)
	assert.Len(t, r.Value, 1)
}

func TestRowsAreBounded(t *testing.T) {
	r, bad := ask(t, folder(t), "sql: {tables: {berths: data/berths.csv}, query: SELECT * FROM berths, rows: 2}", nil)
	require.Nil(t, bad)
	assert.Len(t, r.Value, 2)
	assert.True(t, r.More)
}

func TestAChangedFileIsReadAgain(t *testing.T) {
	dir := folder(t)
	h := sql.New(dir, "")
	defer h.Close()
	p := tooltest.Project(t, head+"sql: {tables: {berths: data/berths.csv}, query: SELECT count(*) AS n FROM berths, one: true}", nil)
	r, bad := tooltest.Call(t, h, p, "q", nil)
	require.Nil(t, bad)
	assert.Equal(t, map[string]any{"n": 3.0}, r.Value)
	file := filepath.Join(dir, "data/berths.csv")
	require.NoError(t, os.WriteFile(file, []byte(berths+"D1,Dolphin,55,5.5,010\n"), 0o600))
	require.NoError(t, os.Chtimes(file, time.Now(), time.Now().Add(time.Second)))
	r, bad = tooltest.Call(t, h, p, "q", nil)
	require.Nil(t, bad)
	assert.Equal(t, map[string]any{"n": 4.0}, r.Value)
}

func TestNothingCanBeWrittenAndNoOtherFileOpened(t *testing.T) {
	dir := folder(t)
	outside := filepath.Join(t.TempDir(), "other.db")
	for query, say := range map[string]string{
		"WITH x AS (SELECT 1) DELETE FROM entry":                   "tables are only read here",
		"WITH x AS (SELECT 1) INSERT INTO entry VALUES ('a', 'b')": "tables are only read here",
		"SELECT 1; DROP TABLE entry":                               "one query at a time",
		"SELECT 1; ATTACH '" + outside + "' AS o":                  "one query at a time",
		"SELECT * FROM nowhere":                                    "no table is called nowhere. There is: entry (at, what)",
		"SELECT * FROM entry WHERE at = :naem":                     ":naem, which is no argument",
		"SELECT wat FROM entry":                                    `no column is called wat. Did you mean "at"`,
	} {
		_, bad := ask(t, dir, "sql: {database: data/log.db, query: \""+query+"\"}", map[string]any{"name": "x"})
		if assert.NotNil(t, bad, query) {
			assert.Contains(t, bad.Say, say, query)
		}
	}
	assert.NoFileExists(t, outside)
	require.NoError(t, os.Mkdir(filepath.Join(dir, ".stonebaton"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".stonebaton", "records.db"), nil, 0o600))
	require.NoError(t, os.Symlink("../.stonebaton/records.db", filepath.Join(dir, "data", "linked.db")))
	_, bad := ask(t, dir, "sql: {database: data/linked.db, query: SELECT 1}", nil)
	require.NotNil(t, bad)
	assert.Contains(t, bad.Say, "which no program reads: the records, or secrets")
	r, bad := ask(t, dir, "sql: {database: data/log.db, query: SELECT count(*) AS n FROM entry, one: true}", nil)
	require.Nil(t, bad)
	assert.Equal(t, map[string]any{"n": 2.0}, r.Value)
}

func TestAQueryWithoutAnEndIsEnded(t *testing.T) {
	_, bad := ask(t, folder(t), "timeout: 300ms\nsql: {database: data/log.db, query: \"WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n) SELECT count(*) FROM n\"}", nil)
	require.NotNil(t, bad)
	assert.EqualValues(t, "timeout", bad.Class)
}

func TestFilesThatCannotBeTables(t *testing.T) {
	dir := folder(t)
	secret := filepath.Join(t.TempDir(), "secret.csv")
	require.NoError(t, os.WriteFile(secret, []byte("a\n1\n"), 0o600))
	require.NoError(t, os.Symlink(secret, filepath.Join(dir, "data/link.csv")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "data/bad.csv"), []byte("a,b\n1\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "data/empty.csv"), nil, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "data/bad.json"), []byte("{}"), 0o600))
	for file, say := range map[string]string{"data/link.csv": "cannot be opened", "data/bad.csv": "wrong number of fields", "data/empty.csv": "it is empty", "data/none.csv": "cannot find the file data/none.csv", "data/bad.json": "a table is a list of objects"} {
		_, bad := ask(t, dir, "sql: {tables: {t: "+file+"}, query: SELECT * FROM t}", nil)
		if assert.NotNil(t, bad, file) {
			assert.Contains(t, bad.Say, say)
		}
	}
	for spec, say := range map[string]string{
		"sql: {tables: {t: ../x.csv}, query: SELECT 1}":          "outside the project",
		"sql: {tables: {t: data/x.xls}, query: SELECT 1}":        "a table is a file .csv, .tsv or .json",
		"sql: {database: data/log.db, query: DELETE FROM entry}": "the query does not read",
	} {
		_, probs := app.Reader.Compile(project.Source{Files: map[string]string{project.Main: coretest.Main + "---\n" + head + spec}})
		if assert.NotEmpty(t, probs, spec) {
			assert.Contains(t, probs[len(probs)-1].Say, say)
		}
	}
}

func TestATableThatASpreadsheetWrote(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "data"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "data", "t.csv"), []byte("berth;length_m;note\nC4;52;\"deep, and sheltered\"\n"), 0o600))
	r, bad := ask(t, dir, "sql: {tables: {t: data/t.csv}, query: \"SELECT * FROM t WHERE length_m > 50\", one: true}", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, map[string]any{"berth": "C4", "length_m": 52.0, "note": "deep, and sheltered"}, r.Value)
}

func TestAFolderMayHaveAnyName(t *testing.T) {
	for _, name := range []string{"Hafen büro", "100% ?#x", "日誌"} {
		dir := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.CopyFS(dir, os.DirFS(folder(t))))
		r, bad := ask(t, dir, "sql: {database: data/log.db, query: SELECT count(*) AS n FROM entry, one: true}", nil)
		require.Nil(t, bad, "%s: %+v", name, bad)
		assert.NotNil(t, r.Value)
	}
}

func TestABlobIsAFileOfTheResult(t *testing.T) {
	dir := folder(t)
	db, err := sqlx.Open("sqlite", filepath.Join(dir, "data/log.db"))
	require.NoError(t, err)
	db.MustExec("CREATE TABLE photo (of TEXT, picture BLOB, note BLOB); INSERT INTO photo VALUES ('pier', X'89504E470D0A1A0A01', X'6869'), ('quay', X'FFFE00', NULL)")
	require.NoError(t, db.Close())
	r, bad := ask(t, dir, "sql: {database: data/log.db, query: \"SELECT * FROM photo ORDER BY of\"}", nil)
	require.Nil(t, bad, "%+v", bad)
	assert.Equal(t, []any{
		map[string]any{"of": "pier", "picture": map[string]any{"kind": "file", "type": "image/png", "bytes": 9.0, "file": "picture-1.png"}, "note": "hi"},
		map[string]any{"of": "quay", "picture": map[string]any{"kind": "file", "type": "application/octet-stream", "bytes": 3.0, "file": "picture-2.bin"}, "note": nil}}, r.Value)
	require.Len(t, r.Files, 2)
}
