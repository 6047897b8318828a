//go:build !linux

package cloud

import "net"

// newGate makes a gate on a free loopback port, shut. Here a shut one closes each connection: a program without rights
// of its own can't have packets dropped.
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
