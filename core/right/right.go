// Package right names what people may do with a service.
package right

import (
	"slices"
	"strings"
)

// Right is one thing that a person may do. In by: of a gate it names everybody who has it.
type Right string

// The rights.
const (
	Talk    Right = "talk"    // begin runs, and read one's own
	View    Right = "view"    // look at the project: its agents, tools, models, map and drills
	Build   Right = "build"   // try tools, run drills, change files; includes View
	Approve Right = "approve" // settle tickets that name nobody; those that name one need no right
	Admin   Right = "admin"   // people, the record and the runs of everybody; includes the others
)

// All lists the rights, the least first.
func All() []Right { return []Right{Talk, View, Build, Approve, Admin} }

// Words names rights in a row, with between among them.
func Words(rights []Right, between string) string {
	words := make([]string, len(rights))
	for i, r := range rights {
		words[i] = string(r)
	}
	return strings.Join(words, between)
}

// Valid says whether there is such a right.
func (r Right) Valid() bool { return slices.Contains(All(), r) }

// Gives says whether a right includes another.
func (r Right) Gives(other Right) bool {
	return r == other || r == Admin || (r == Build && other == View)
}

// Reserved says whether a name cannot be that of a person or an approver, since it means
// something else where people are named.
func Reserved(name string) bool {
	return Right(name).Valid() || name == "asker" || name == "local" || name == "nobody"
}
