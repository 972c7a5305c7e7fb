package addr

import (
	"net/netip"
	"slices"
)

// special are ranges for special purposes (RFC 6890) that netip does not know.
var special = []netip.Prefix{
	netip.MustParsePrefix("0.0.0.0/8"),     // this network
	netip.MustParsePrefix("100.64.0.0/10"), // shared by the customers of a provider
	netip.MustParsePrefix("192.0.0.0/24"),  // of protocols of the IETF
	netip.MustParsePrefix("198.18.0.0/15"), // measurements of networks
	netip.MustParsePrefix("240.0.0.0/4"),   // reserved
	netip.MustParsePrefix("64:ff9b::/96"),  // an address of version 4, behind a translator
	netip.MustParsePrefix("64:ff9b:1::/48"),
	netip.MustParsePrefix("2002::/16"), // likewise, in a tunnel
}

// Public says whether everybody reaches an address.
func Public(a netip.Addr) bool {
	a = a.Unmap().WithZone("")
	return a.IsGlobalUnicast() && !a.IsPrivate() && !slices.ContainsFunc(special, func(p netip.Prefix) bool { return p.Contains(a) })
}
