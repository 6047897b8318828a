//go:build !linux

package hop

import "net"

// acknowledge does nothing: other systems have no such option.
func acknowledge(net.Conn) {}
