package sqlite

import (
	"database/sql"
	"errors"
	"strings"
	"sync"
	"sync/atomic"

	"modernc.org/libc"
	driver "modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"
)

// Access is how far the statements go that a connection runs for somebody else. SQLite itself
// asks for each thing that a statement would do, while it prepares it
// (https://sqlite.org/c3ref/set_authorizer.html); what is not allowed is denied.
type Access int

const (
	Reads   Access = iota // rows of tables, and functions that read nothing else
	Changes               // also changes of rows
	Makes                 // also tables, views, indices and triggers
)

// Guard keeps a connection to an access until it is taken away.
type Guard struct {
	access Access
	tables func(name string) bool
	ours   atomic.Bool

	mu     sync.Mutex
	denied string
}

// limits bound what one statement may be (https://sqlite.org/limits.html). Time is bounded by
// the context of a call.
var limits = map[int]int{
	lib.SQLITE_LIMIT_ATTACHED:            0,
	lib.SQLITE_LIMIT_SQL_LENGTH:          1 << 20,
	lib.SQLITE_LIMIT_EXPR_DEPTH:          200,
	lib.SQLITE_LIMIT_COMPOUND_SELECT:     100,
	lib.SQLITE_LIMIT_VDBE_OP:             1 << 20,
	lib.SQLITE_LIMIT_COLUMN:              1000,
	lib.SQLITE_LIMIT_FUNCTION_ARG:        50,
	lib.SQLITE_LIMIT_LIKE_PATTERN_LENGTH: 1000,
	lib.SQLITE_LIMIT_TRIGGER_DEPTH:       20,
	lib.SQLITE_LIMIT_WORKER_THREADS:      0,
}

// NewGuard keeps what a connection runs from now on to an access, to the tables for which tables
// is true, and to values of so many bytes at most.
func NewGuard(c *sql.Conn, a Access, bytes int, tables func(name string) bool) (*Guard, error) {
	g := &Guard{access: a, tables: tables}
	for id, n := range limits {
		if _, err := driver.Limit(c, id, n); err != nil {
			return nil, err
		}
	}
	if _, err := driver.Limit(c, lib.SQLITE_LIMIT_LENGTH, bytes); err != nil {
		return nil, err
	}
	return g, register(c, g.allow)
}

// Release takes the guard of a connection away.
func (g *Guard) Release(c *sql.Conn) error { return register(c, nil) }

func register(c *sql.Conn, fn driver.AuthorizerFn) error {
	return c.Raw(func(raw any) error {
		r, ok := raw.(driver.AuthorizerRegisterer)
		if !ok {
			return errors.New("this connection to SQLite cannot be guarded")
		}
		return r.RegisterAuthorizer(fn)
	})
}

// Ours says whether the statements that follow are the program's own, which may do anything.
func (g *Guard) Ours(yes bool) { g.ours.Store(yes) }

// Denied says why a statement was denied last; "" where none was.
func (g *Guard) Denied() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.denied
}

func (g *Guard) allow(action driver.AuthorizerActionCode, first, second, database, _ string) driver.AuthorizerReturnCode {
	if g.ours.Load() || g.may(action, first, second, database) {
		return driver.AuthorizerOK
	}
	why, known := actions[action]
	switch {
	case action == driver.AuthFunction:
		why = "the function " + second + " cannot be asked here"
	case g.access != Reads && why == onlyRead:
		why = first + " cannot be changed here"
	case !known:
		why = first + " cannot be asked here"
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.denied = why
	return driver.AuthorizerDeny
}

// actions say what is denied, where it is not the use of a name.
var actions = map[driver.AuthorizerActionCode]string{
	driver.AuthAttach: "no other file can be opened here", driver.AuthDetach: "no other file can be opened here",
	driver.AuthPragma:      "PRAGMA cannot be asked here",
	driver.AuthTransaction: "a statement is a transaction of its own here", driver.AuthSavepoint: "a statement is a transaction of its own here",
	driver.AuthInsert: onlyRead, driver.AuthUpdate: onlyRead, driver.AuthDelete: onlyRead, driver.AuthAlterTable: onlyRead, driver.AuthReindex: onlyRead, driver.AuthAnalyze: onlyRead,
	driver.AuthCreateTable: onlyRead, driver.AuthCreateIndex: onlyRead, driver.AuthCreateView: onlyRead, driver.AuthCreateTrigger: onlyRead, driver.AuthCreateVTable: onlyRead,
	driver.AuthCreateTempTable: onlyRead, driver.AuthCreateTempIndex: onlyRead, driver.AuthCreateTempView: onlyRead, driver.AuthCreateTempTrigger: onlyRead,
	driver.AuthDropTable: onlyRead, driver.AuthDropIndex: onlyRead, driver.AuthDropView: onlyRead, driver.AuthDropTrigger: onlyRead, driver.AuthDropVTable: onlyRead,
}

const onlyRead = "tables are only read here"

func (g *Guard) may(action driver.AuthorizerActionCode, first, second, database string) bool {
	main := database == "main" || database == ""
	switch action {
	case driver.AuthSelect, driver.AuthRecursive:
		return true
	case driver.AuthFunction:
		return functions[strings.ToLower(second)]
	case driver.AuthRead:
		return main && (first == "" || series[strings.ToLower(first)] || g.tables(first))
	}
	if action == driver.AuthPragma && first == "data_version" && second == "" { // which a full-text index asks for itself
		return true
	}
	if g.access == Reads {
		return false
	}
	switch action {
	case driver.AuthInsert, driver.AuthUpdate, driver.AuthDelete:
		return main && (g.access == Makes || g.tables(first))
	case driver.AuthTransaction, driver.AuthSavepoint:
		return true // in which they are done; a statement of its own is none of these: see One
	}
	if g.access == Changes {
		return false
	}
	switch action {
	case driver.AuthCreateTable, driver.AuthCreateIndex, driver.AuthCreateView, driver.AuthCreateTrigger, driver.AuthAlterTable, driver.AuthReindex, driver.AuthAnalyze:
		return true
	}
	return false
}

// series are the functions that give rows.
var series = set("json_each json_tree jsonb_each jsonb_tree")

// functions are those that read nothing but their arguments, and the clock.
var functions = set(`abs acos acosh asin asinh atan atan2 atanh avg ceil ceiling changes char coalesce concat concat_ws cos cosh count cume_dist current_date current_time current_timestamp
date datetime degrees dense_rank exp first_value floor format glob group_concat hex if ifnull iif instr
json json_array json_array_length json_error_position json_extract json_group_array json_group_object json_insert json_object json_patch json_pretty json_quote json_remove json_replace json_set json_type json_valid
jsonb jsonb_array jsonb_extract jsonb_group_array jsonb_group_object jsonb_insert jsonb_object jsonb_patch jsonb_remove jsonb_replace jsonb_set -> ->>
julianday lag last_insert_rowid last_value lead length like likelihood likely ln log log10 log2 lower ltrim match max median min mod nth_value ntile nullif octet_length percent_rank percentile percentile_cont percentile_disc pi pow power printf
quote radians random randomblob rank regexp replace round row_number rtrim sign sin sinh soundex sqrt strftime string_agg subtype substr substring sum tan tanh time timediff total total_changes trim trunc typeof unhex unicode unistr unistr_quote unixepoch unlikely upper zeroblob`)

func set(names string) map[string]bool {
	out := map[string]bool{}
	for _, n := range strings.Fields(names) {
		out[n] = true
	}
	return out
}

// One says why a text is not one statement, by SQLite's own reading of its quotes and comments
// (https://sqlite.org/c3ref/complete.html). Any number of spaces, comments and semicolons may
// follow the statement.
func One(query string) error {
	if strings.ContainsRune(query, 0) {
		return errors.New("a query has no character 0")
	}
	tls := libc.NewTLS()
	defer tls.Close()
	complete := func(text string) bool {
		p, err := libc.CString(text)
		if err != nil {
			return false
		}
		defer libc.Xfree(tls, p)
		return lib.Xsqlite3_complete(tls, p) == 1
	}
	for i := range len(query) {
		if query[i] != ';' || !complete(query[:i+1]) {
			continue
		}
		rest := query[i+1:] // of nothing but spaces and comments what is complete stays so
		for j := 0; j <= len(rest); j++ {
			if j < len(rest) && rest[j] != ';' {
				continue
			}
			if part := ";" + rest[:j]; !complete(part+"\n") && !complete(part+"*/") { // a comment may go on
				return errors.New("one query at a time: something follows the ; that ends it")
			}
		}
		return nil
	}
	return nil
}
