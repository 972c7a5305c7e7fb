// Package sql carries tools out that read tables: SQLite files, and CSV, TSV and
// JSON files that are read into memory; and tools that change the small databases of a
// project. Values are bound, never written into the query; nothing else can be changed,
// and no other file can be opened.
package sql

import (
	"bufio"
	"bytes"
	"context"
	"database/sql"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"github.com/jmoiron/sqlx"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/near"
	"stonebaton.example/core/project"
	"stonebaton.example/core/schema"
	"stonebaton.example/core/value"
	"stonebaton.example/internal/sqlite"
	"stonebaton.example/internal/tools"
)

// maxTable bounds one file of a table.
const maxTable = 64 << 20

// maxValue bounds one value that a query makes.
const maxValue = 64 << 20

// Handler reads the tables of a project, and keeps its databases.
type Handler struct {
	dir, data string

	mu     sync.Mutex
	dbs    map[string]*opened
	smalls map[string]*small // by name
	copies []copied          // the newest at the end
}

// opened is a database and the files it was made from, as they then were.
type opened struct {
	db    *sqlx.DB
	stamp string
	path  string // with which a call connects to it
	flags []string
}

// New gives a handler for the project in dir. Its databases are files in data; "" has them in
// memory, each made anew for a run.
func New(dir, data string) *Handler {
	return &Handler{dir: dir, data: data, dbs: map[string]*opened{}, smalls: map[string]*small{}}
}

// Close lets go of the databases.
func (h *Handler) Close() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	var err error
	for _, o := range h.dbs {
		err = errors.Join(err, o.db.Close())
	}
	for _, s := range h.smalls {
		err = errors.Join(err, s.close())
	}
	for _, c := range h.copies {
		err = errors.Join(err, c.small.close())
	}
	h.dbs, h.smalls, h.copies = map[string]*opened{}, map[string]*small{}, nil
	return err
}

// Call runs the query of a call.
func (h *Handler) Call(ctx context.Context, i deed.Invocation) (deed.Result, *deed.Failure) {
	q := i.Tool.Work.Spec.(*Query)
	if q.In != nil {
		return h.callSmall(ctx, i, q)
	}
	sent := &ledger.Sent{Method: "SQL", URL: strings.TrimSpace(q.Query)}
	o, err := h.open(q)
	if err != nil {
		return deed.Result{}, &deed.Failure{Outcome: ledger.NotDone, Class: "config", Say: err.Error(), Sent: sent}
	}
	own, err := connect(1, o.path, append(o.flags, readOnly...)...)
	if err != nil {
		return deed.Result{}, &deed.Failure{Outcome: ledger.NotDone, Class: "config", Say: err.Error(), Sent: sent}
	}
	defer own.Close()
	return run(ctx, o.db, own, i, q, sent)
}

// run reads the rows of a query, from a database in which nothing else is done meanwhile. An
// error is explained by the tables of db.
func run(ctx context.Context, db, from *sqlx.DB, i deed.Invocation, q *Query, sent *ledger.Sent) (deed.Result, *deed.Failure) {
	fail := func(class deed.Class, format string, args ...any) (deed.Result, *deed.Failure) {
		return deed.Result{}, &deed.Failure{Outcome: ledger.NotDone, Class: class, Say: fmt.Sprintf(format, args...), Sent: sent}
	}
	var params []any
	bytes := maxValue
	if q.Ask {
		args, _ := i.Args.(map[string]any)
		copied := *q
		q = &copied
		q.Query, _ = args["query"].(string)
		sent.URL = strings.TrimSpace(q.Query)
		if err := asked(q.Query); err != nil {
			return fail("query", "%v", err)
		}
		bytes = askedBytes
	} else {
		var err error
		if params, err = bind(i, q.Query); err != nil {
			return fail("config", "%v", err)
		}
	}
	conn, err := guard(ctx, from, sqlite.Reads, bytes, q.readable)
	if err != nil {
		return fail("config", "%v", err)
	}
	if raw, err := json.Marshal(params); err == nil && len(params) > 0 {
		sent.Body = string(raw)
	}
	var media tools.Media
	rows, more, err := read(ctx, conn, q, params, &media)
	err = conn.explain(err)
	err = errors.Join(err, conn.Close()) // before it is explained further, which asks the tables
	if err != nil {
		if ctx.Err() != nil {
			return fail("timeout", "the query had not ended after %s", i.Tool.Timeout)
		}
		if q.Ask && strings.HasPrefix(err.Error(), "missing ") { // an argument
			return fail("query", "the query was refused: write the values into it, in quotes where they are texts")
		}
		return fail("query", "%s", explain(db, err))
	}
	sent.Bytes = int64(len(rows))
	if q.One {
		if len(rows) == 0 {
			return deed.Result{Sent: sent}, nil
		}
		return deed.Result{Value: rows[0], Sent: sent, Files: media.Files}, nil
	}
	out := make([]any, len(rows))
	for n := range rows {
		out[n] = rows[n]
	}
	return deed.Result{Value: out, More: more, Sent: sent, Files: media.Files}, nil
}

var named = regexp.MustCompile(`:([A-Za-z_][A-Za-z0-9_]*)`)

// bind gives the values of the names in a query.
func bind(i deed.Invocation, query string) ([]any, error) {
	values, _ := i.Args.(map[string]any)
	if p := i.Tool.Work.Spec.(*Query).Params; p != nil {
		v, err := p.Fill(i.Vars)
		if err != nil {
			return nil, err
		}
		values, _ = v.(map[string]any)
	}
	have := i.Tool.Input.Doc()["properties"]
	known, _ := have.(map[string]any)
	var out []any
	var seen []string
	for _, m := range named.FindAllStringSubmatch(unquoted(query), -1) {
		if slices.Contains(seen, m[1]) {
			continue
		}
		seen = append(seen, m[1])
		v, ok := values[m[1]]
		if _, is := known[m[1]]; !ok && !is {
			names := make([]string, 0, len(values))
			for k := range values {
				names = append(names, k)
			}
			return nil, fmt.Errorf("the query names :%s, which is no argument.%s", m[1], near.Hint(m[1], names))
		}
		if _, deep := v.(map[string]any); deep {
			return nil, fmt.Errorf(":%s is an object; a query takes texts, numbers and truth values", m[1])
		}
		if list, many := v.([]any); many {
			raw, err := json.Marshal(list) // for json_each(:name)
			if err != nil {
				return nil, err
			}
			v = string(raw)
		}
		out = append(out, sql.Named(m[1], v))
	}
	return out, nil
}

var quoted = regexp.MustCompile(`'(?:[^']|'')*'|"(?:[^"]|"")*"|--[^\n]*`)

// unquoted takes out of a query what is no part of its grammar.
func unquoted(q string) string { return quoted.ReplaceAllString(q, "''") }

func read(ctx context.Context, db sqlx.QueryerContext, q *Query, params []any, media *tools.Media) (out []map[string]any, more bool, err error) {
	if err := sqlite.One(q.Query); err != nil {
		return nil, false, err
	}
	rows, err := db.QueryxContext(ctx, q.Query, params...)
	if err != nil {
		return nil, false, err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return nil, false, err
	}
	for n, c := range names {
		if slices.Contains(names[:n], c) {
			return nil, false, fmt.Errorf("two columns are called %s; name one of them with AS", c)
		}
	}
	for rows.Next() {
		if len(out) == q.Rows {
			return out, true, nil
		}
		m := map[string]any{}
		if err := rows.MapScan(m); err != nil {
			return nil, false, err
		}
		for k, v := range m {
			if raw, ok := v.([]byte); ok && !utf8.Valid(raw) { // a BLOB, such as a picture
				m[k] = media.Add("file", "", k+"-"+strconv.Itoa(len(media.Files)+1)+tools.EndingOf(raw), raw)
				continue
			}
			m[k] = plain(v)
		}
		out = append(out, m)
	}
	return out, false, rows.Err()
}

// guarded is a connection on which a statement of somebody else's runs.
type guarded struct {
	*sqlx.Conn
	*sqlite.Guard
}

// guard takes a connection, and keeps it to an access until it is closed.
func guard(ctx context.Context, db *sqlx.DB, a sqlite.Access, bytes int, tables func(string) bool) (*guarded, error) {
	c, err := db.Connx(ctx)
	if err != nil {
		return nil, err
	}
	g, err := sqlite.NewGuard(c.Conn, a, bytes, tables)
	if err != nil {
		return nil, errors.Join(err, c.Close())
	}
	return &guarded{c, g}, nil
}

// Close lets go of the connection.
func (g *guarded) Close() error { return errors.Join(g.Release(g.Conn.Conn), g.Conn.Close()) }

// explain says what was denied, where an error is that.
func (g *guarded) explain(err error) error {
	if why := g.Denied(); why != "" && (sqlite.Code(err) == sqlite.Auth || sqlite.Code(err) == sqlite.Error) { // a function that is denied is an error like others
		return &refusedError{why}
	}
	return err
}

// refusedError says that a statement would do what is not allowed.
type refusedError struct{ why string }

func (e *refusedError) Error() string { return "the query was refused: " + e.why }

// readable says whether a query may read a table.
func (q *Query) readable(name string) bool {
	low := strings.ToLower(name)
	if strings.HasPrefix(low, "sqlite_") || strings.HasPrefix(low, "pragma_") || low == "dbstat" || low == "_made" || low == "_done" {
		return false
	}
	if q.In != nil || q.Database != "" {
		return true
	}
	for t := range q.Tables {
		if strings.EqualFold(t, name) {
			return true
		}
	}
	return false
}

// plain gives a value of the driver as JSON has it.
func plain(v any) any {
	switch x := v.(type) {
	case int64:
		return value.Whole(x)
	case []byte:
		return strings.ToValidUTF8(string(x), "�")
	case time.Time:
		return x.Format(time.RFC3339)
	}
	return v
}

// explain words an error of SQLite for whoever wrote the query. Where a name is unknown it
// lists those there are.
func explain(db *sqlx.DB, err error) string {
	var refused *refusedError
	if errors.As(err, &refused) {
		return refused.Error()
	}
	switch sqlite.Code(err) {
	case sqlite.ReadOnly:
		return "the query was refused: tables are only read here"
	case sqlite.CannotOpen:
		return "the query was refused: no other file can be opened here"
	}
	s := strings.TrimPrefix(err.Error(), "SQL logic error: ")
	if i := strings.LastIndex(s, " ("); i > 0 {
		s = s[:i]
	}
	m := unknown.FindStringSubmatch(s)
	if m == nil {
		return "the query cannot be run: " + s
	}
	tables := contents(db)
	var all, columns []string
	for _, t := range tables {
		all = append(all, t.name+" ("+strings.Join(t.columns, ", ")+")")
		for _, c := range t.columns {
			if !slices.Contains(columns, c) {
				columns = append(columns, c)
			}
		}
	}
	names := columns
	if m[1] == "table" {
		names = nil
		for _, t := range tables {
			names = append(names, t.name)
		}
	}
	name := m[2][strings.LastIndexByte(m[2], '.')+1:]
	return fmt.Sprintf("the query cannot be run: no %s is called %s.%s There is: %s", m[1], m[2], near.Hint(name, names), strings.Join(all, "; "))
}

var unknown = regexp.MustCompile(`^no such (column|table): (\S+)`)

type table struct {
	name    string
	columns []string
}

// contents lists the tables of a database with their columns.
func contents(db *sqlx.DB) []table {
	var rows []struct{ Name, Column string }
	// without it the error is told alone
	_ = db.Select(&rows, `SELECT m.name, c.name AS "column" FROM sqlite_master m, pragma_table_info(m.name) c WHERE m.type IN ('table', 'view') AND m.name NOT LIKE 'sqlite_%' AND m.name NOT IN ('_made', '_done') ORDER BY m.name, c.cid`)
	var out []table
	for _, r := range rows {
		if n := len(out); n == 0 || out[n-1].name != r.Name {
			out = append(out, table{name: r.Name})
		}
		out[len(out)-1].columns = append(out[len(out)-1].columns, r.Column)
	}
	return out
}

// Check says what keeps a tool's query from being run: a file that is not there or
// no table, a name that is no argument, a column that is not there.
func (h *Handler) Check(ctx context.Context, t *project.Tool) error {
	q := t.Work.Spec.(*Query)
	if q.Ask && q.In == nil {
		_, err := h.open(q)
		return err
	}
	if q.In != nil {
		s, err := h.inMemory(q.In) // checking makes no file
		if err != nil {
			return err
		}
		defer s.close()
		for _, x := range q.Change {
			if err := checked(ctx, s.main, t, q, x.Do, sqlite.Changes); err != nil {
				return fmt.Errorf("%s: %w", x.Name, err)
			}
		}
		if q.Query == "" {
			return nil
		}
		return checked(ctx, s.main, t, q, q.Query, sqlite.Reads)
	}
	o, err := h.open(q)
	if err != nil {
		return err
	}
	return checked(ctx, o.db, t, q, q.Query, sqlite.Reads)
}

// checked says why a query cannot be run.
func checked(ctx context.Context, db *sqlx.DB, t *project.Tool, q *Query, query string, a sqlite.Access) error {
	if err := sqlite.One(query); err != nil {
		return err
	}
	var params []any
	for _, m := range named.FindAllStringSubmatch(unquoted(query), -1) {
		if q.Params == nil && !slices.Contains(schema.Keys(t.Input.Doc()), m[1]) {
			return fmt.Errorf("the query names :%s, which is no argument.%s", m[1], near.Hint(m[1], schema.Keys(t.Input.Doc())))
		}
		params = append(params, sql.Named(m[1], nil))
	}
	conn, err := guard(ctx, db, a, maxValue, q.readable)
	if err != nil {
		return err
	}
	rows, err := conn.QueryxContext(ctx, "EXPLAIN "+query, params...)
	if err == nil {
		return errors.Join(rows.Close(), conn.Close())
	}
	err = errors.Join(conn.explain(err), conn.Close()) // before it is explained further
	return errors.New(explain(db, err))
}

// open gives the database of a tool, read again where its files have changed.
func (h *Handler) open(q *Query) (*opened, error) {
	files := map[string]string{}
	for t, f := range q.Tables {
		files[t] = f
	}
	if q.Database != "" {
		files[""] = q.Database
	}
	stamp, key := "", ""
	for _, t := range slices.Sorted(maps.Keys(files)) {
		info, err := os.Stat(filepath.Join(h.dir, files[t]))
		if err != nil {
			return nil, fmt.Errorf("cannot find the file %s", files[t])
		}
		if !info.Mode().IsRegular() { // a pipe would be waited for
			return nil, fmt.Errorf("%s cannot be read as a table: it is not a plain file", files[t])
		}
		key += t + "\x00" + files[t] + "\x00"
		if t != "" {
			stamp += fmt.Sprint(info.Size(), info.ModTime().UnixNano(), " ")
		}
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if o := h.dbs[key]; o != nil {
		if o.stamp == stamp {
			return o, nil
		}
		delete(h.dbs, key)
		defer o.db.Close()
	}
	o, err := h.load(q)
	if err != nil {
		return nil, err
	}
	o.stamp, h.dbs[key] = stamp, o
	return o, nil
}

// readOnly are the parameters of a connection that changes nothing.
var readOnly = []string{"mode=ro", "_pragma=query_only(1)"}

// loaded counts the databases in memory, each of which has a name.
var loaded atomic.Int64

func (h *Handler) load(q *Query) (*opened, error) {
	if q.Database != "" {
		// a file that is opened through its folder cannot lead out of it
		root, err := os.OpenRoot(h.dir)
		if err != nil {
			return nil, err
		}
		defer root.Close()
		f, err := root.Open(q.Database)
		if err != nil {
			return nil, fmt.Errorf("%s cannot be opened: %w", q.Database, err)
		}
		f.Close()
		path, err := filepath.Abs(filepath.Join(h.dir, q.Database))
		if err != nil {
			return nil, err
		}
		if err := tools.Secluded(h.dir, "database", path); err != nil {
			return nil, err
		}
		db, err := connect(1, path, readOnly...)
		return &opened{db: db, path: path}, err
	}
	// a name that starts with / is one database for all who connect to it, as long as one does
	name := fmt.Sprintf("/stonebaton-%d", loaded.Add(1))
	db, err := connect(1, name, "vfs=memdb")
	if err != nil {
		return nil, err
	}
	for _, t := range slices.Sorted(maps.Keys(q.Tables)) {
		if err := h.table(db, t, q.Tables[t]); err != nil {
			db.Close()
			return nil, err
		}
	}
	_, err = db.Exec("PRAGMA query_only = 1")
	return &opened{db: db, path: name, flags: []string{"vfs=memdb"}}, err
}

func connect(many int, path string, params ...string) (*sqlx.DB, error) {
	db, err := sqlx.Open("sqlite", sqlite.DSN(path, append(params, "_pragma=busy_timeout(2000)", "_pragma=trusted_schema(0)")...))
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(many)
	if many == 1 {
		db.SetConnMaxIdleTime(0) // the tables live as long as the one connection
		db.SetMaxIdleConns(1)
	}
	return db, db.Ping()
}

// rowsOf reads the file of a table.
func (h *Handler) rowsOf(file string) (columns []string, rows [][]any, err error) {
	root, err := os.OpenRoot(h.dir)
	if err != nil {
		return nil, nil, err
	}
	defer root.Close()
	f, err := root.Open(file)
	if err != nil {
		return nil, nil, fmt.Errorf("%s cannot be opened: %w", file, err)
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil && info.Size() > maxTable {
		return nil, nil, fmt.Errorf("%s has %d MB; a table may have %d: make a SQLite file of it", file, info.Size()>>20, maxTable>>20)
	}
	if filepath.Ext(file) == ".json" {
		columns, rows, err = fromJSON(f)
	} else {
		columns, rows, err = fromCSV(f, filepath.Ext(file) == ".tsv")
	}
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", file, err)
	}
	return columns, rows, nil
}

func (h *Handler) table(db *sqlx.DB, name, file string) error {
	columns, rows, err := h.rowsOf(file)
	if err != nil {
		return err
	}
	quotedNames := make([]string, len(columns))
	for i, c := range columns {
		quotedNames[i] = inQuotes(c)
	}
	table := inQuotes(name)
	tx, err := db.Beginx()
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it says that there is nothing to do
	if _, err := tx.Exec("CREATE TABLE " + table + " (" + strings.Join(quotedNames, ", ") + ")"); err != nil {
		return fmt.Errorf("%s cannot be a table: %s", file, explain(db, err))
	}
	ins, err := tx.Preparex("INSERT INTO " + table + " VALUES (" + strings.TrimSuffix(strings.Repeat("?,", len(columns)), ",") + ")")
	if err != nil {
		return err
	}
	defer ins.Close()
	for _, r := range rows {
		if _, err := ins.Exec(r...); err != nil {
			return err
		}
	}
	return tx.Commit()
}

func fromCSV(f *os.File, tabs bool) ([]string, [][]any, error) {
	in := bufio.NewReader(f)
	r := csv.NewReader(in)
	if tabs {
		r.Comma, r.LazyQuotes = '\t', true
	} else if head, _ := in.Peek(4096); bytes.Count(firstLine(head), []byte(";")) > bytes.Count(firstLine(head), []byte(",")) {
		r.Comma = ';' // as programs write it where the comma is in the numbers
	}
	all, err := r.ReadAll()
	if err != nil {
		return nil, nil, err
	}
	if len(all) == 0 {
		return nil, nil, errors.New("it is empty; the first line names the columns")
	}
	head := all[0]
	head[0] = strings.TrimPrefix(head[0], "\ufeff")
	numeric := make([]bool, len(head))
	for c := range head {
		numeric[c] = len(all) > 1
		for _, row := range all[1:] {
			if !number(row[c]) {
				numeric[c] = false
				break
			}
		}
	}
	var rows [][]any
	for _, row := range all[1:] {
		out := make([]any, len(row))
		for c, cell := range row {
			switch {
			case numeric[c] && empty(cell):
			case numeric[c]:
				x, _ := strconv.ParseFloat(cell, 64) // looked at above
				out[c] = x
				if n, err := strconv.ParseInt(cell, 10, 64); err == nil {
					out[c] = n
				}
			default:
				out[c] = cell
			}
		}
		rows = append(rows, out)
	}
	return head, rows, nil
}

func firstLine(b []byte) []byte {
	line, _, _ := bytes.Cut(b, []byte("\n"))
	return line
}

// number says whether a cell may stand in a column of numbers: a decimal one, or none.
func number(cell string) bool {
	if empty(cell) {
		return true
	}
	digits := strings.TrimPrefix(cell, "-")
	if len(digits) > 1 && digits[0] == '0' && digits[1] != '.' {
		return false // a leading zero is a code, not a number
	}
	if strings.Trim(digits, "0123456789") == "" {
		_, err := strconv.ParseInt(cell, 10, 64)
		return err == nil // so is what no number holds exactly
	}
	x, err := strconv.ParseFloat(cell, 64)
	return err == nil && !math.IsInf(x, 0) && strings.Trim(digits, "0123456789.eE+-") == ""
}

// empty says whether a cell stands for no number.
func empty(cell string) bool { return cell == "" || strings.EqualFold(cell, "nan") }

func fromJSON(f *os.File) ([]string, [][]any, error) {
	raw, err := io.ReadAll(f)
	if err != nil {
		return nil, nil, err
	}
	var list []value.Object
	if err := json.Unmarshal(raw, &list); err != nil {
		return nil, nil, fmt.Errorf("a table is a list of objects: %w", err)
	}
	seen := map[string]bool{}
	var columns []string
	for _, o := range list {
		for k := range o {
			if !seen[k] {
				seen[k] = true
				columns = append(columns, k)
			}
		}
	}
	slices.Sort(columns)
	if len(columns) == 0 {
		return nil, nil, errors.New("it has no rows to take the columns from")
	}
	var rows [][]any
	for _, o := range list {
		row := make([]any, len(columns))
		for i, c := range columns {
			switch v := o[c].(type) {
			case map[string]any, []any:
				raw, err := json.Marshal(v)
				if err != nil {
					return nil, nil, err
				}
				row[i] = string(raw)
			case float64:
				row[i] = v
				if v == float64(int64(v)) {
					row[i] = int64(v)
				}
			default:
				row[i] = v
			}
		}
		rows = append(rows, row)
	}
	return columns, rows, nil
}

var _ tools.Handler = (*Handler)(nil)
