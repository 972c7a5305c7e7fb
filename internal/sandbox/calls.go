//go:build linux && !amd64

package sandbox

// older are the calls that newer processors do without.
var older, olderForks []rule
