// Package harbour holds the demo project's files, for the program to carry along.
package harbour

import "embed"

// Files are the project's files.
//
//go:embed stonebaton.yaml .env.example agents tools drills relays understudy data
var Files embed.FS
