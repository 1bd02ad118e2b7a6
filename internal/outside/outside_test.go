package outside

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestPrivateAddressesAreToldFromPublicOnes(t *testing.T) {
	for _, ip := range []string{"127.0.0.1", "10.1.2.3", "192.168.0.9", "169.254.169.254", "100.64.0.1", "0.0.0.0",
		"::1", "fe80::1", "fd00::1", "::ffff:10.0.0.1", "64:ff9b::a00:1", "2002:a00:1::", "224.0.0.1", "fec0::1",
		"::127.0.0.1",
		"255.255.255.255"} {
		require.False(t, Public(netip.MustParseAddr(ip)), ip)
	}
	for _, ip := range []string{"93.184.216.34", "2606:2800:220:1::1"} {
		require.True(t, Public(netip.MustParseAddr(ip)), ip)
	}
}
