package cloud

import (
	"net"
	"os"
	"syscall"
	"time"
)

// newGate makes a closed gate on a free loopback port. A closed gate really drops packets: its queue has room for one
// connection and is full, so the kernel drops the packets of all others (listen(2); tcp(7), tcp_abort_on_overflow).
func newGate() (*gate, error) {
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	file := os.NewFile(uintptr(fd), "gate")
	defer file.Close()
	if err := syscall.Bind(fd, &syscall.SockaddrInet4{Addr: [4]byte{127, 0, 0, 1}}); err != nil {
		return nil, err
	}
	if err := syscall.Listen(fd, 0); err != nil {
		return nil, err
	}
	listener, err := net.FileListener(file)
	if err != nil {
		return nil, err
	}
	g := &gate{listener: listener, address: listener.Addr().(*net.TCPAddr), conns: make(map[net.Conn]bool)}
	g.drop()
	return g, nil
}

// drop fills the queue until no more connections are taken. The earlier listener, whose goroutine could take one, has
// ended. The caller holds the lock, or nobody else has the gate yet.
func (g *gate) drop() {
	const most, moment = 8, 60 * time.Millisecond
	if g.listener == nil {
		return
	}
	if l, ok := g.listener.(*net.TCPListener); ok {
		l.SetDeadline(time.Unix(1, 0)) // ends carry
		setQueue(l, 0)
	}
	for range most {
		conn, err := net.DialTimeout("tcp", g.address.String(), moment)
		if err != nil {
			return
		}
		g.fillers = append(g.fillers, conn)
	}
}

// admit empties the queue and accepts connections. The caller holds the lock.
func (g *gate) admit() {
	for _, conn := range g.fillers {
		conn.Close()
	}
	g.fillers = nil
	if l, ok := g.listener.(*net.TCPListener); ok {
		setQueue(l, 128)
		l.SetDeadline(time.Time{})
	}
	g.group.Go(func() { g.carry(g.listener) })
}

// setQueue sets how many connections may wait to be accepted (listen(2)).
func setQueue(l *net.TCPListener, length int) {
	if raw, err := l.SyscallConn(); err == nil {
		raw.Control(func(fd uintptr) { syscall.Listen(int(fd), length) })
	}
}
