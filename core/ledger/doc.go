// Package ledger holds the events of a run: their kinds, their data and their
// codec. A run is the list of its events; everything else is computed from it.
//
// Only plain values live here. Nothing in this package reads a file, looks at
// a clock or decides anything; see package run for what events add up to and
// package loop for what happens next.
package ledger
