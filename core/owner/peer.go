package owner

import "net"

// PeerProcess is the number of the process at the other end of a Unix socket.
func PeerProcess(conn *net.UnixConn) (pid int, ok bool) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0, false
	}
	err = raw.Control(func(fd uintptr) { pid, ok = processOf(int(fd)) })
	return pid, ok && err == nil && pid > 0
}

// OfPeer is the user id of the process at the other end of a Unix socket.
func OfPeer(conn *net.UnixConn) (uid int, ok bool) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0, false
	}
	err = raw.Control(func(fd uintptr) { uid, ok = peerOf(int(fd)) })
	return uid, ok && err == nil
}
