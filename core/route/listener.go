package route

import (
	"net"
	"net/netip"
	"os"

	"gentleharbor/core/owner"
)

// lastSystemAccount is the highest number of an account that a system's packages make (login.defs(5), SYS_UID_MAX).
const lastSystemAccount = 999

// Owner is the user whose process is at the other end of a connection.
type Owner int

const (
	OwnerUnknown Owner = iota // the system does not say: mostly, the process has closed the connection already
	OwnerSelf                 // this user
	OwnerOther                // another user
)

// OwnerOf finds out whose process has connected to a local address.
func OwnerOf(conn net.Conn) Owner {
	uid, ok := 0, false
	if socket, isSocket := conn.(*net.UnixConn); isSocket {
		uid, ok = owner.OfPeer(socket)
	} else {
		uid, ok = otherEnd(conn)
	}
	switch {
	case !ok:
		return OwnerUnknown
	case uid == os.Getuid():
		return OwnerSelf
	}
	return OwnerOther
}

// LoopbackChecked reports whether a connection to a loopback address is served by a process of root, of this user or
// of a system account: any user of the machine may open a loopback port. Only Linux tells this (proc(5)); elsewhere,
// and for an address that is not loopback, it is false.
func LoopbackChecked(conn net.Conn) bool {
	uid, ok := otherEnd(conn)
	return ok && (uid == os.Getuid() || uid <= lastSystemAccount)
}

// otherEnd is the account of the process at the other end of a connection to a loopback address. ok is false where
// the kernel does not give it.
func otherEnd(conn net.Conn) (uid int, ok bool) {
	here, err := netip.ParseAddrPort(conn.LocalAddr().String())
	if err != nil {
		return 0, false
	}
	there, err := netip.ParseAddrPort(conn.RemoteAddr().String())
	if err != nil || !there.Addr().Unmap().IsLoopback() {
		return 0, false
	}
	uid, err = askKernel(there, here)
	return uid, err == nil
}
