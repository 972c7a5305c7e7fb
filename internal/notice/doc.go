// Package notice tells people of the tickets that they may settle, each by a call of a tool
// that the project names, with a link of their own. What is due stands in the store, in the
// transaction that raised the ticket, so that no notice is lost; a call is made with the same
// key each time, so that a tool that knows its keys makes it once.
package notice
