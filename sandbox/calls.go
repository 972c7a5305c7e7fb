//go:build linux && !amd64

package sandbox

// elder are the calls that newer processors do without.
var elder []rule
