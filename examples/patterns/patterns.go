// Package patterns holds ways of sharing work among agents, one file each, for the program to
// carry along.
package patterns

import "embed"

// Files are the files of the project that all of them make together.
//
//go:embed *.yaml
var Files embed.FS
