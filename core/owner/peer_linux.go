package owner

import "golang.org/x/sys/unix"

// KnowsPeers reports whether this system can tell which user's process is at the other end of a Unix socket.
const KnowsPeers = true

// peerOf is the user id of the process at the other end of a Unix socket
// (unix(7), SO_PEERCRED).
func peerOf(fd int) (uid int, ok bool) {
	cred, err := unix.GetsockoptUcred(fd, unix.SOL_SOCKET, unix.SO_PEERCRED)
	if err != nil {
		return 0, false
	}
	return int(cred.Uid), true
}

// processOf is the number of that process, from the same record.
func processOf(fd int) (pid int, ok bool) {
	cred, err := unix.GetsockoptUcred(fd, unix.SOL_SOCKET, unix.SO_PEERCRED)
	if err != nil {
		return 0, false
	}
	return int(cred.Pid), true
}
