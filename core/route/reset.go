package route

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"syscall"
	"time"
)

// dialAccepted dials. It also returns a connection where the server accepted and reset it at once: by chance the
// system reports the reset from the dial or from the first read, and the finding must be the same.
func dialAccepted(dial func(ctx context.Context, network, address string) (net.Conn, error)) func(context.Context,
	string, string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := dial(ctx, network, address)
		if err != nil && errors.Is(err, syscall.ECONNRESET) {
			return resetConn{network, address}, nil
		}
		return conn, err
	}
}

// resetConn is a connection that the other side has reset.
type resetConn struct{ network, address string }

func (c resetConn) resetError(op string) error {
	return &net.OpError{Op: op, Net: c.network, Addr: c.RemoteAddr(), Err: syscall.ECONNRESET}
}

func (c resetConn) Read([]byte) (int, error)  { return 0, c.resetError("read") }
func (c resetConn) Write([]byte) (int, error) { return 0, c.resetError("write") }
func (resetConn) Close() error                { return nil }
func (resetConn) LocalAddr() net.Addr         { return &net.TCPAddr{} }

func (c resetConn) RemoteAddr() net.Addr {
	if at, err := netip.ParseAddrPort(c.address); err == nil {
		return net.TCPAddrFromAddrPort(at)
	}
	return &net.UnixAddr{Name: c.address, Net: c.network}
}

func (resetConn) SetDeadline(time.Time) error      { return nil }
func (resetConn) SetReadDeadline(time.Time) error  { return nil }
func (resetConn) SetWriteDeadline(time.Time) error { return nil }
