//go:build !linux

package route

import (
	"errors"
	"net/netip"
)

// askKernel can't ask: only Linux tells whose a connection is.
func askKernel(netip.AddrPort, netip.AddrPort) (int, error) { return 0, errors.ErrUnsupported }
