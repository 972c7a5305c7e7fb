//go:build linux

package sandbox

import (
	"os"
	"strconv"
)

// Tests run with ABI=2 in their environment see a kernel whose Landlock is that old.
func init() {
	if n, err := strconv.Atoi(os.Getenv("ABI")); err == nil {
		abi = func() int { return n }
	}
}
