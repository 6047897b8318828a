package route

import (
	"encoding/binary"
	"errors"
	"net/netip"

	"golang.org/x/sys/unix"
)

// The layout of a question about one connection, and of its answer (sock_diag(7), inet_diag_req_v2 and inet_diag_msg).
const (
	diagHeader   = 16 // nlmsghdr
	diagQuestion = 56
	diagAnswer   = 72
	diagID       = 8 // in the question; 4 in the answer
	diagUID      = 64
	diagInode    = 68
	byFamily     = 20 // SOCK_DIAG_BY_FAMILY
)

// KnowsOwners reports whether this system can tell which user's process is at the other end of a connection.
const KnowsOwners = true

// askKernel asks the kernel for the owner of a connection's socket, by both addresses: to read the table of all
// connections in proc(5) takes milliseconds.
func askKernel(own, peer netip.AddrPort) (uid int, err error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, unix.NETLINK_INET_DIAG)
	if err != nil {
		return 0, err
	}
	defer unix.Close(fd)
	if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Sec: 1}); err != nil {
		return 0, err
	}
	if err := unix.Sendto(fd, question(own, peer), 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
		return 0, err
	}
	answer := make([]byte, 4096)
	n, _, err := unix.Recvfrom(fd, answer, 0)
	if err != nil {
		return 0, err
	}
	return readAnswer(answer[:n])
}

// question is the message that asks for one connection.
func question(own, peer netip.AddrPort) []byte {
	m := make([]byte, diagHeader+diagQuestion)
	order := binary.NativeEndian
	order.PutUint32(m, uint32(len(m)))
	order.PutUint16(m[4:], byFamily)
	order.PutUint16(m[6:], unix.NLM_F_REQUEST)
	q := m[diagHeader:]
	q[0], q[1] = unix.AF_INET6, unix.IPPROTO_TCP
	if own.Addr().Unmap().Is4() {
		q[0] = unix.AF_INET
	}
	order.PutUint32(q[4:], ^uint32(0)) // in any state
	id := q[diagID:]
	binary.BigEndian.PutUint16(id, own.Port())
	binary.BigEndian.PutUint16(id[2:], peer.Port())
	copy(id[4:20], own.Addr().Unmap().AsSlice())
	copy(id[20:36], peer.Addr().Unmap().AsSlice())
	order.PutUint64(id[40:], ^uint64(0)) // no cookie: any socket with these addresses
	return m
}

var errNoAnswer = errors.New("the kernel knows no such connection")

// readAnswer returns the account in the kernel's answer. A socket without an inode has not been accepted by a
// process.
func readAnswer(m []byte) (uid int, err error) {
	order := binary.NativeEndian
	if len(m) < diagHeader+diagAnswer || order.Uint16(m[4:]) != byFamily {
		return 0, errNoAnswer
	}
	body := m[diagHeader:]
	if order.Uint32(body[diagInode:]) == 0 {
		return 0, errNoAnswer
	}
	return int(order.Uint32(body[diagUID:])), nil
}
