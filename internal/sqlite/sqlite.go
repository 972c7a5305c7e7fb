// Package sqlite names SQLite files for the driver and tells its errors apart by
// their codes (https://sqlite.org/rescode.html). It holds no tables.
package sqlite

import (
	"errors"
	"net/url"
	"strings"

	driver "modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"
)

// Memory is the name of a database that lives as long as its connection.
const Memory = ":memory:"

// DSN gives the data source name of a file, with parameters of the driver such as
// "_pragma=busy_timeout(5000)". The path may hold any character.
func DSN(path string, params ...string) string {
	name := path
	if path != Memory {
		name = (&url.URL{Path: path}).EscapedPath()
	}
	return "file:" + name + "?" + strings.Join(params, "&")
}

// Taken says whether an error is that of a value that must be unique and is there
// already.
func Taken(err error) bool {
	var e *driver.Error
	return errors.As(err, &e) && (e.Code() == lib.SQLITE_CONSTRAINT_UNIQUE || e.Code() == lib.SQLITE_CONSTRAINT_PRIMARYKEY)
}

// Code gives the primary result code of an error; 0 where it is not SQLite's.
func Code(err error) int {
	var e *driver.Error
	if errors.As(err, &e) {
		return e.Code() & 0xff
	}
	return 0
}

// The primary result codes that callers tell apart.
const (
	ReadOnly   = lib.SQLITE_READONLY
	Auth       = lib.SQLITE_AUTH
	CannotOpen = lib.SQLITE_CANTOPEN
	Full       = lib.SQLITE_FULL
	Busy       = lib.SQLITE_BUSY
	Corrupt    = lib.SQLITE_CORRUPT
	NoDatabase = lib.SQLITE_NOTADB
	Constraint = lib.SQLITE_CONSTRAINT
	Error      = lib.SQLITE_ERROR
)
