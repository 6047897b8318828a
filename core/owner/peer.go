package owner

import "net"

// OfPeer is the user id of the process at the other end of a Unix socket.
func OfPeer(conn *net.UnixConn) (uid int, ok bool) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0, false
	}
	err = raw.Control(func(fd uintptr) { uid, ok = peerOf(int(fd)) })
	return uid, ok && err == nil
}
