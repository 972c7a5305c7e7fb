// Package loop is the agent loop as a function: Next looks at what a run's
// events add up to and says what has to happen now. It does nothing itself. The
// engine records the intent of each deed, does it, records the result with
// the help of Returned, TurnFailed and their kin, and asks again.
//
// Every decision carries a short reason, which becomes "why this came next".
package loop
