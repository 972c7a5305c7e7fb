// Package addr tells addresses that everybody reaches from those of private networks, of
// this machine, and of a special kind, which no name that somebody else owns may lead to.
package addr
