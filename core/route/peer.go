package route

import (
	"io/fs"
	"net"
	"os"

	"gentleharbor/core/owner"
)

// PeerChecked reports whether the process behind a Unix socket is root's, this user's, or that of the owner of the
// socket's folder, if nobody else can put a socket there.
func PeerChecked(conn net.Conn, folder string) bool {
	socket, ok := conn.(*net.UnixConn)
	if !ok {
		return false
	}
	uid, ok := owner.OfPeer(socket)
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
	uidOfFolder, ok := owner.UserID(info)
	return ok && uidOfFolder == uid
}
