package addr_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"stonebaton.example/internal/addr"
)

func TestPublic(t *testing.T) {
	for _, a := range []string{"9.1.2.3", "203.1.0.1", "2a00:1::1", "::ffff:9.1.2.3", "172.15.0.1", "172.32.0.1", "198.17.255.255", "198.20.0.1", "100.63.0.1", "100.128.0.1", "192.0.1.1"} {
		assert.True(t, addr.Public(netip.MustParseAddr(a)), a)
	}
	for _, a := range []string{"127.0.0.1", "127.9.9.9", "0.0.0.0", "0.1.2.3", "10.0.0.1", "172.16.0.1", "192.168.1.1", "169.254.169.254", "100.64.0.1", "198.18.0.1", "198.19.255.255", "192.0.0.8", "240.0.0.1", "255.255.255.255",
		"224.0.0.1", "::", "::1", "fe80::1", "fe80::1%lo", "fd00::1", "ff02::1", "::ffff:127.0.0.1", "::ffff:10.0.0.1", "64:ff9b::7f00:1", "64:ff9b:1::1", "2002:7f00:1::"} {
		assert.False(t, addr.Public(netip.MustParseAddr(a)), a)
	}
}
