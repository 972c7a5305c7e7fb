// Package app puts the parts together for the commands and the tests: a project
// with what it needs to run, an engine on a store, drills in memory.
package app
