package deed

// Class says in a word what went wrong: for conditions in files, and for programs. The
// reference of events lists them.
type Class string

// The classes that the loop itself gives.
const (
	Stopped   Class = "stopped"
	Consulted Class = "consult" // the agent that was asked brought no answer
)
