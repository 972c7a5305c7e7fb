//go:build linux

package sandbox

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"strconv"
)

// Tests run with ABI=2 in their environment see a kernel whose Landlock is that old.
func init() {
	if n, err := strconv.Atoi(os.Getenv("ABI")); err == nil {
		abi = func() int { return n }
	}
}

// Tests run with BOUNDS=guard in their environment see a machine without control groups.
func init() {
	if os.Getenv("BOUNDS") == "guard" {
		control = func() (*hierarchy, error) { return nil, errors.New("a test asks for the guard") }
	}
}

// Names are the addresses that names have in tests.
var Names = map[string]string{}

func init() {
	lookup = func(_ context.Context, name string) ([]netip.Addr, error) {
		if name == "localhost" {
			return []netip.Addr{netip.MustParseAddr("127.0.0.1")}, nil
		}
		a, ok := Names[name]
		if !ok {
			return nil, &net.DNSError{Err: "no such host", Name: name, IsNotFound: true}
		}
		return []netip.Addr{netip.MustParseAddr(a)}, nil
	}
}
