// Package engine drives runs: it asks loop.Next what has to happen, writes the
// intent to the ledger, does the deed through a port, writes the result,
// and asks again. One driver serves one run; results, settlements, stops and
// timers reach it through its mailbox. A run that is held or closed has no driver.
//
// A call that waits aside is a run of its own, which aside.go begins and whose end it
// tells the conversation.
//
// What the engine needs of the world are the interfaces in ports.go.
package engine
