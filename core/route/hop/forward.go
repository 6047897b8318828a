package hop

import (
	"context"
	"net"
)

// Dial opens a connection from the hop to an address: "tcp" and host:port, whose name the hop looks up, or "unix" and
// the path of a socket of the hop's machine. ReasonOf has the reason of a failure.
func (l *Link) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	conn, err := l.DialRaw(ctx, network, address)
	if err != nil || l.proxy != nil { // a proxy's connection has deadlines of its own
		return conn, err
	}
	return newStream(conn), nil
}

// DialRaw is Dial for a connection without deadlines, which needs no goroutine of its own.
func (l *Link) DialRaw(ctx context.Context, network, address string) (net.Conn, error) {
	if l.proxy != nil {
		return l.proxy(ctx, address)
	}
	return l.client.DialContext(ctx, network, address)
}
