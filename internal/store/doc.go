// Package store keeps ledgers and what goes with them in SQLite, through sqlx.
//
// The table event is the record; the rows of runs, sessions and tickets are
// made of it in the same transaction, for lists. One connection writes: batches
// that come while a commit is under way are committed together, each in a
// savepoint of its own. Values over 4 KiB are files named by their content,
// written and synced before the row that names them.
//
// A data directory belongs to one process at a time; a lock file sees to it.
package store
