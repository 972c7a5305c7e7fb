// Package prompt makes the exact request of a turn from the state of a run, and
// the values that expressions see. The request of any turn can be built again
// from the events before it; it is proven by its hashes to be what was sent.
package prompt
