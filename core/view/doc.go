// Package view folds what people see of a ledger beside its steps: the head of a run, as
// lists show it, and the conversation. The engine, the store, the service, drills and
// commands take them from here, so that all of them show the same.
package view
