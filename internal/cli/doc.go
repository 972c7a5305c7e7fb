// Package cli is the command line: one flag set for each command. Results go to
// standard output, notes to standard error. It holds no computation; what it
// shows comes from the service, or from package app where a command works on a
// folder.
//
// It ends with 0 when all is well, 1 when the work failed, 2 for wrong use, 3
// when no service can be reached, 4 when the run is held.
package cli
