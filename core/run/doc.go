// Package run folds a ledger: Apply takes a state and an event to the next
// state, and State is all that a run's events add up to. Apply decides nothing
// and evaluates nothing; what was decided stands in the events.
//
// A run is a tree of threads. The main thread is always there; a call that opens a consult
// has a thread of its own under it until that is closed. State holds the open threads, of
// each its newest turn, and sums over the tree of what is in flight, what waits for people
// and for time, and what something can be done about. So every event costs the same,
// however long the run is.
//
//	state.go   what is known of a run as a whole
//	thread.go  a thread, its turn and its calls
//	count.go   the sums over the tree
//	apply.go   what each event changes
//	frame.go   a relay at work, its visits of legs, and what opens threads
//	line.go    what a session and consults that remember keep
package run
