// Package docs holds the pages of the documentation that the program itself shows.
package docs

import _ "embed" // of Problems

// Problems explains the types of problems that the API tells of.
//
//go:embed reference/problems.md
var Problems string
