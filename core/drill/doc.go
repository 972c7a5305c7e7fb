// Package drill holds a run against what a drill expects of it, and says for
// each thing that differs what was expected and what happened.
package drill
