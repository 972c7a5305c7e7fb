package sqlite_test

import (
	"strings"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/require"
	"modernc.org/libc"
	lib "modernc.org/sqlite/lib"

	"stonebaton.example/internal/sqlite"
)

// FuzzOne holds our reading of where a statement ends against SQLite's own: what One lets pass
// has nothing behind the first statement that SQLite would prepare.
func FuzzOne(f *testing.F) {
	for _, s := range []string{"SELECT 1", "SELECT 1;", "SELECT 1 /* ' */ ; DELETE FROM t -- '", "SELECT ';' AS [a;b] -- ;\n;", "SELECT \"x\"\"\" ; SELECT 2", "SELECT 1;/* ; */ -- ;", "SELECT `;`;;; ", "SELECT 1 /* ; DELETE FROM t", "WITH x AS (SELECT 1) SELECT * FROM x; DROP TABLE t", "EXPLAIN SELECT 1; SELECT 2", "CREATE TRIGGER a AFTER INSERT ON t BEGIN SELECT 1; END; SELECT 2", "SELECT x'00';SELECT 1", "SELECT 1;\x0c\xef\xbb\xbf", "SELECT 1;\ufeff"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if strings.ContainsRune(text, 0) {
			require.Error(t, sqlite.One(text))
			return
		}
		if sqlite.One(text) != nil {
			return
		}
		tls := libc.NewTLS()
		defer tls.Close()
		name, err := libc.CString(":memory:")
		require.NoError(t, err)
		defer libc.Xfree(tls, name)
		out := new([3]uintptr) // where it is does not change: it is used beyond this function
		at := func(n int) uintptr { return uintptr(unsafe.Pointer(&out[n])) }
		require.Zero(t, lib.Xsqlite3_open_v2(tls, name, at(0), lib.SQLITE_OPEN_READWRITE|lib.SQLITE_OPEN_CREATE|lib.SQLITE_OPEN_MEMORY, 0))
		db := out[0]
		defer lib.Xsqlite3_close_v2(tls, db)
		query, err := libc.CString(text)
		require.NoError(t, err)
		defer libc.Xfree(tls, query)
		prepare := func(from uintptr) (stmt bool, rest uintptr) {
			if lib.Xsqlite3_prepare_v2(tls, db, from, -1, at(1), at(2)) != lib.SQLITE_OK {
				return false, 0
			}
			stmt, rest = out[1] != 0, out[2]
			if stmt {
				lib.Xsqlite3_finalize(tls, out[1])
			}
			return stmt, rest
		}
		from, found := query, 0
		for from != 0 && from < query+uintptr(len(text)) {
			stmt, rest := prepare(from)
			if stmt {
				found++
			}
			from = rest
		}
		require.LessOrEqual(t, found, 1, "%q is more than one statement", text)
		kept = out
	})
}

var kept *[3]uintptr
