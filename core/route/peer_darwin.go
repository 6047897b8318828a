package route

import (
	"net"

	"golang.org/x/sys/unix"
)

// peerUID is the user id of the process at the other end of a Unix socket
// (unix(4), LOCAL_PEERCRED).
func peerUID(conn *net.UnixConn) (uid int, ok bool) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0, false
	}
	raw.Control(func(fd uintptr) {
		if cred, err := unix.GetsockoptXucred(int(fd), unix.SOL_LOCAL, unix.LOCAL_PEERCRED); err == nil {
			uid, ok = int(cred.Uid), true
		}
	})
	return uid, ok
}
