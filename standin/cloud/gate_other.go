//go:build !linux

package cloud

import "net"

// newGate makes a closed gate on a free loopback port. On these systems a closed gate closes each connection: a
// program without special rights can't make the system drop packets.
func newGate() (*gate, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	g := &gate{listener: listener, address: listener.Addr().(*net.TCPAddr), conns: make(map[net.Conn]bool)}
	g.group.Go(func() { g.carry(listener) })
	return g, nil
}

func (g *gate) drop()  {}
func (g *gate) admit() {}
