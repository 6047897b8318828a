package route

import (
	"net"
	"net/netip"
	"os"
)

// lastSystemAccount is the highest number of an account that a system's packages make (login.defs(5), SYS_UID_MAX).
const lastSystemAccount = 999

// LoopbackChecked reports whether a connection to a loopback address is served by a process of root, of this user or of
// a system's account: any user of the machine may open a loopback port. Linux tells (proc(5)); elsewhere, and for an
// address that is not loopback, it is false.
func LoopbackChecked(conn net.Conn) bool {
	here, err := netip.ParseAddrPort(conn.LocalAddr().String())
	if err != nil {
		return false
	}
	there, err := netip.ParseAddrPort(conn.RemoteAddr().String())
	if err != nil || !there.Addr().Unmap().IsLoopback() {
		return false
	}
	uid, err := askKernel(there, here)
	return err == nil && (uid == os.Getuid() || uid <= lastSystemAccount)
}
