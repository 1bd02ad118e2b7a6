// Package outside dials what an address from outside leads to, and nothing in the private network.
package outside

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"syscall"
	"time"
)

// ErrPrivate tells that an address is not one that packages are fetched from.
var ErrPrivate = errors.New("the address is private, loopback or reserved")

// reserved are ranges that lead, or may lead, into a private network (RFC 6890,
// RFC 6598, RFC 6052, RFC 3056, RFC 4380).
var reserved = []netip.Prefix{
	netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("192.0.0.0/24"),
	netip.MustParsePrefix("192.0.2.0/24"),
	netip.MustParsePrefix("198.18.0.0/15"), netip.MustParsePrefix("198.51.100.0/24"),
	netip.MustParsePrefix("203.0.113.0/24"), netip.MustParsePrefix("240.0.0.0/4"),
	netip.MustParsePrefix("64:ff9b::/96"), netip.MustParsePrefix("64:ff9b:1::/48"), netip.MustParsePrefix("2001::/23"),
	netip.MustParsePrefix("2001:db8::/32"), netip.MustParsePrefix("2002::/16"),
	netip.MustParsePrefix("fec0::/10"), netip.MustParsePrefix("::/96"), // RFC 3879, RFC 4291 2.5.5.1
}

// Public tells whether an address belongs to the public network.
func Public(ip netip.Addr) bool {
	ip = ip.Unmap()
	if !ip.IsGlobalUnicast() || ip.IsPrivate() || ip.IsLoopback() || ip.IsLinkLocalUnicast() {
		return false
	}
	return !slices.ContainsFunc(reserved, func(p netip.Prefix) bool { return p.Contains(ip) })
}

// Dialer dials public addresses only, whatever a name leads to; hosts that are named, alone or
// with a port, are let through. The address is checked when it is dialled, so that no second
// look-up can differ. Its error is ErrPrivate where the address is not public.
func Dialer(allowed []string) func(ctx context.Context, network, address string) (net.Conn, error) {
	guarded := &net.Dialer{Timeout: 15 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil || !Public(at.Addr()) {
			return fmt.Errorf("%s: %w", address, ErrPrivate)
		}
		return nil
	}}
	free := &net.Dialer{Timeout: 15 * time.Second}
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		host, _, _ := net.SplitHostPort(address)
		if slices.Contains(allowed, strings.ToLower(host)) || slices.Contains(allowed, strings.ToLower(address)) {
			return free.DialContext(ctx, network, address)
		}
		return guarded.DialContext(ctx, network, address)
	}
}
