//go:build !linux

package route

import (
	"errors"
	"net/netip"
)

// KnowsOwners reports whether this system says whose the other end of a connection is.
const KnowsOwners = false

// askKernel can't ask: only Linux tells whose a connection is.
func askKernel(netip.AddrPort, netip.AddrPort) (int, error) { return 0, errors.ErrUnsupported }
