package hop

import (
	"net"
	"syscall"
)

// acknowledge makes the system acknowledge at once what was read. Otherwise a server that waits for the
// acknowledgement before it sends more waits for 40 ms (tcp(7), TCP_QUICKACK, which must be set again after each
// read).
func acknowledge(conn net.Conn) {
	socket, ok := conn.(*net.TCPConn)
	if !ok {
		return
	}
	raw, err := socket.SyscallConn()
	if err != nil {
		return
	}
	raw.Control(func(fd uintptr) {
		syscall.SetsockoptInt(int(fd), syscall.IPPROTO_TCP, syscall.TCP_QUICKACK, 1)
	})
}
