package outside

import (
	"net"
	"net/netip"
)

// OwnAddress gives the address of this machine that others most likely reach it by, or nothing where it has none but
// those that are its own.
func OwnAddress() string {
	addresses, _ := net.InterfaceAddrs() // where they cannot be told there are none
	best := ""
	for _, a := range addresses {
		prefix, err := netip.ParsePrefix(a.String())
		if ip := prefix.Addr(); err == nil && ip.Is4() && !ip.IsLoopback() && !ip.IsLinkLocalUnicast() &&
			(best == "" || ip.IsPrivate()) {
			best = ip.String()
		}
	}
	return best
}
