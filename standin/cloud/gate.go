package cloud

import (
	"io"
	"net"
	"sync"

	"gentleharbor/core/defect"
)

// gate is the network in front of an instance: an address that drops connections until it is opened, and then leads
// to the instance's server.
type gate struct {
	address *net.TCPAddr
	to      string // the server's own address, "" for none yet

	mu       sync.Mutex
	open     bool
	listener net.Listener
	fillers  []net.Conn // what fills the queue of a gate that drops
	group    defect.Group
	conns    map[net.Conn]bool
}

// set opens or closes the gate. Open connections stay.
func (g *gate) set(open bool, to string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.to = to
	if open == g.open {
		return
	}
	g.open = open
	if open {
		g.admit()
	} else {
		g.drop()
	}
}

// carry accepts connections and connects them to the server.
func (g *gate) carry(listener net.Listener) {
	for {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		g.mu.Lock()
		to, open := g.to, g.open
		g.conns[conn] = true
		g.mu.Unlock()
		g.group.Go(func() {
			defer conn.Close()
			if !open {
				return
			}
			server, err := net.Dial("tcp", to)
			if err != nil {
				return
			}
			defer server.Close()
			g.mu.Lock()
			g.conns[server] = true
			g.mu.Unlock()
			done := make(chan struct{}, 2)
			g.group.Go(func() { io.Copy(server, conn); server.Close(); done <- struct{}{} })
			io.Copy(conn, server)
			conn.Close()
			<-done
			g.mu.Lock()
			delete(g.conns, conn)
			delete(g.conns, server)
			g.mu.Unlock()
		})
	}
}

// close ends the gate and all that goes through it.
func (g *gate) close() {
	g.mu.Lock()
	g.listener.Close()
	for _, conn := range g.fillers {
		conn.Close()
	}
	for conn := range g.conns {
		conn.Close()
	}
	g.mu.Unlock()
	g.group.Wait()
}
