// Package mason brings a Go program's own functions to agents as tools, and gives
// the program every command of Stone Baton, with its service and console.
//
//	func main() {
//		mason.Main(
//			mason.Tool("count_buoys", "Count the buoys of a channel when somebody asks how many there are.", countBuoys, mason.Reads()),
//		)
//	}
//
// The contract of a tool is made from the types of its function: fields by their
// json names, required unless they are pointers or omitempty, with the tags desc,
// unit, format, enum and default, and min, max and pattern.
package mason
