package route

import (
	"io/fs"
	"net"
	"os"

	"gentleharbor/core/owner"
)

// peerUID is the user id of the process at the other end of a Unix socket.
func peerUID(conn *net.UnixConn) (uid int, ok bool) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0, false
	}
	err = raw.Control(func(fd uintptr) { uid, ok = peerOf(int(fd)) })
	return uid, ok && err == nil
}

// PeerChecked reports whether the process behind a Unix socket is one that the
// socket's place vouches for: root's, this user's, or that of the owner of the
// socket's folder, where nobody else could have put a socket there.
func PeerChecked(conn net.Conn, folder string) bool {
	socket, ok := conn.(*net.UnixConn)
	if !ok {
		return false
	}
	uid, ok := peerUID(socket)
	if !ok {
		return false
	}
	if uid == 0 || uid == os.Getuid() {
		return true
	}
	info, err := os.Stat(folder)
	if err != nil || info.Mode().Perm()&0o002 != 0 || info.Mode()&fs.ModeDir == 0 {
		return false
	}
	uidOfFolder, ok := owner.Of(info)
	return ok && uidOfFolder == uid
}
