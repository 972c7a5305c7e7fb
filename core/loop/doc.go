// Package loop is the agent loop as a function: Next looks at what a run's
// events add up to and says what has to happen now. It does nothing itself. The
// engine records the intent of each deed, does it, records the result with
// the help of Returned, TurnFailed and their kin, and asks again.
//
// Every decision carries a short reason, which becomes "why this came next".
//
//	next.go      one pass: what is to be recorded, thread by thread, else what begins
//	decide.go    the verdicts on the calls of a turn
//	carry.go     what the calls of a turn need: refusals, tickets, starts, handoffs
//	consult.go   asking another agent on a thread of its own, and the person through the asker
//	relay.go     a relay at work: the run's, its legs entered and opened, its end
//	leave.go     the ends of legs: that are done, choose, did several things, failed, or took too long
//	exchange.go  two agents in turn
//	plan.go      the steps of a plan
//	good.go      what has to hold of an answer
//	answers.go   answers that people let through before they are given
//	pause.go     the turns a person looks at before they are sent
//	text.go      legs that put a text before people
//	hooks.go     what agents do with no model
//	tickets.go   what people are asked, and what their answers mean
//	people.go    who may settle a ticket, at once and after a while
//	leads.go     what settling a ticket leads to, in sentences
//	settle.go    who may settle what, and how
//	notice.go    the call by which somebody is told of a ticket
//	aside.go     calls that wait for people beside the conversation
//	limits.go    what forbids another turn, and the timers
//	more.go      people asked for more than a limit
//	ending.go    how a run that was stopped, or has used up a limit, ends
//	results.go   the results of deeds, as events
//	cut.go       what a model reads of a long result
package loop
