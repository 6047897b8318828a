package owner

import "golang.org/x/sys/unix"

// KnowsPeers reports whether this system can tell which user's process is at the other end of a Unix socket.
const KnowsPeers = true

// peerOf is the user id of the process at the other end of a Unix socket
// (unix(4), LOCAL_PEERCRED).
func peerOf(fd int) (uid int, ok bool) {
	cred, err := unix.GetsockoptXucred(fd, unix.SOL_LOCAL, unix.LOCAL_PEERCRED)
	if err != nil {
		return 0, false
	}
	return int(cred.Uid), true
}

// processOf is the number of that process (unix(4), LOCAL_PEERPID).
func processOf(fd int) (pid int, ok bool) {
	pid, err := unix.GetsockoptInt(fd, unix.SOL_LOCAL, unix.LOCAL_PEERPID)
	return pid, err == nil
}
