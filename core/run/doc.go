// Package run folds a ledger: Apply takes a state and an event to the next
// state, and State is all that a run's events add up to. Apply decides nothing
// and evaluates nothing; what was decided stands in the events.
package run
