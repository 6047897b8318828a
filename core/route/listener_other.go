//go:build !linux

package route

import (
	"errors"
	"net/netip"
)

// KnowsOwners reports whether this system can tell which user's process is at the other end of a connection.
const KnowsOwners = false

// askKernel can't ask: only Linux gives the owner of a connection's socket.
func askKernel(netip.AddrPort, netip.AddrPort) (int, error) { return 0, errors.ErrUnsupported }
