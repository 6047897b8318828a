// Package serve listens for simulated servers: on loopback or a Unix socket,
// for a bounded number of connections, until it is closed.
package serve

import (
	"net"
	"sync"
	"time"

	"gentleharbor/core/defect"
)

// maxOpen bounds the connections of a simulated server.
const maxOpen = 1000

// Listeners has the addresses on which a server listens, and its connections.
type Listeners struct {
	all   []net.Listener
	group defect.Group
	mu    sync.Mutex
	open  map[net.Conn]bool
	count int
}

// Listen adds an address: "tcp" and a loopback address, port 0 for a free one, or "unix" and a path.
func (l *Listeners) Listen(network, address string) error {
	listener, err := net.Listen(network, address)
	if err == nil {
		l.all = append(l.all, listener)
	}
	return err
}

// ListenAt adds a free port on 127.0.0.1, and a Unix socket where one is named. After an error nothing listens.
func (l *Listeners) ListenAt(socket string) error {
	err := l.Listen("tcp", "127.0.0.1:0")
	if err == nil && socket != "" {
		err = l.Listen("unix", socket)
	}
	if err != nil {
		l.Close()
	}
	return err
}

// Serve calls handle with each connection and its number, until Close. It does not wait.
func (l *Listeners) Serve(handle func(conn net.Conn, number int)) {
	l.open = make(map[net.Conn]bool)
	for _, listener := range l.all {
		l.group.Go(func() { l.accept(listener, handle) })
	}
}

func (l *Listeners) accept(listener net.Listener, handle func(net.Conn, int)) {
	for {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		number, full := l.add(conn)
		if full {
			conn.Close()
			continue
		}
		l.group.Go(func() {
			defer l.remove(conn)
			conn.SetDeadline(time.Now().Add(5 * time.Minute)) // nobody looks longer
			handle(conn, number)
		})
	}
}

func (l *Listeners) add(conn net.Conn) (number int, full bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.count++
	if full = len(l.open) >= maxOpen; !full {
		l.open[conn] = true
	}
	return l.count, full
}

func (l *Listeners) remove(conn net.Conn) {
	conn.Close()
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.open, conn)
}

// Port is the first port on 127.0.0.1.
func (l *Listeners) Port() int { return l.all[0].Addr().(*net.TCPAddr).Port }

// Connections is how many were made so far.
func (l *Listeners) Connections() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.count
}

// Close ends the listening and all connections.
func (l *Listeners) Close() {
	for _, listener := range l.all {
		listener.Close()
	}
	l.mu.Lock()
	for conn := range l.open {
		conn.Close()
	}
	l.mu.Unlock()
	l.group.Wait()
}

// ClosedPort finds a port of 127.0.0.1 on which nothing listens. It is the near end of a connection that stays open
// until release, so that no other program gets it.
func ClosedPort() (port int, release func(), err error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, nil, err
	}
	defer listener.Close()
	near, err := net.Dial("tcp", listener.Addr().String())
	if err != nil {
		return 0, nil, err
	}
	far, err := listener.Accept()
	if err != nil {
		near.Close()
		return 0, nil, err
	}
	return near.LocalAddr().(*net.TCPAddr).Port, func() { near.Close(); far.Close() }, nil
}
