// Package hostname judges a host's name or address by its text. It looks nothing up.
package hostname

import (
	"net/netip"
	"strings"
)

// SplitPort splits an item of `hosts`; the port is "" where none is written.
func SplitPort(s string) (host, port string) {
	if _, err := netip.ParseAddr(s); err == nil {
		return s, ""
	}
	if rest, ok := strings.CutPrefix(s, "["); ok {
		host, after, _ := strings.Cut(rest, "]")
		if after == "" {
			return host, ""
		}
		return host, strings.TrimPrefix(after, ":")
	}
	if i := strings.LastIndexByte(s, ':'); i >= 0 {
		return s[:i], s[i+1:]
	}
	return s, ""
}

// Elsewhere reports whether a host is written neither as this machine nor as one of its network segment (RFC 1122,
// section 3.2.1.3; RFC 3927; RFC 4291, section 2.4). An address from somebody else must be such a host.
func Elsewhere(host string) bool {
	ip, err := netip.ParseAddr(host)
	if err != nil {
		return !Local(host)
	}
	ip = ip.Unmap()
	return !ip.IsLoopback() && !ip.IsLinkLocalUnicast() && !ip.IsUnspecified() && !ip.IsMulticast() &&
		!ip.IsLinkLocalMulticast() && !ip.IsInterfaceLocalMulticast()
}

// Local reports whether host is written as this machine's own: localhost
// (RFC 6761) or a loopback address.
func Local(host string) bool {
	host = strings.TrimSuffix(strings.ToLower(host), ".")
	if host == "localhost" || strings.HasSuffix(host, ".localhost") {
		return true
	}
	addr, err := netip.ParseAddr(host)
	return err == nil && addr.IsLoopback()
}
