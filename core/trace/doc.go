// Package trace turns a ledger into what people look at: steps in order, who
// did each, how long it took, what it cost, what went in and out, and why it
// came next. A Trace grows event by event, so that a live view need not begin again.
package trace
