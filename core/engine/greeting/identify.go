package greeting

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"time"
)

// Dial makes a connection to the one address that is being asked about.
type Dial func(context.Context) (net.Conn, error)

// Bounds of one identification. A server on loopback answers within a
// millisecond; one across the world within half a second.
const (
	firstWait = 120 * time.Millisecond // for a server that speaks first
	nextWait  = 700 * time.Millisecond // for the answer to a probe
	maxReply  = 4096                   // greetings are about a hundred bytes
)

// Probe is one way to make a server speak.
type Probe func(context.Context, net.Conn) []byte

// TLS offers a handshake.
var TLS Probe = askTLS

// Identify finds out what answers by trying the probes in order, each on a
// connection of its own that ends after the greeting. It never logs in. ok is
// false where nothing recognisable answered; n is the number of connections.
func (set Set) Identify(ctx context.Context, dial Dial, probes ...Probe) (s Service, n int, ok bool) {
	for _, probe := range probes {
		conn, err := dial(ctx)
		if err != nil {
			return Service{}, n, false
		}
		n++
		stop := context.AfterFunc(ctx, func() { conn.SetDeadline(time.Unix(1, 0)) })
		reply := probe(ctx, conn)
		stop()
		conn.Close()
		if s, ok := set.Recognise(reply); ok {
			return s, n, true
		}
		if ctx.Err() != nil {
			break
		}
	}
	return Service{}, n, false
}

// listenThenAsk gives a server that speaks first the time to do so.
func listenThenAsk(conn net.Conn, probe []byte) []byte {
	if reply := read(conn, firstWait); len(reply) > 0 {
		return reply
	}
	return ask(conn, probe)
}

func ask(conn net.Conn, probe []byte) []byte {
	conn.SetWriteDeadline(time.Now().Add(nextWait))
	if _, err := conn.Write(probe); err != nil {
		return nil
	}
	return read(conn, nextWait)
}

func read(conn net.Conn, wait time.Duration) []byte {
	conn.SetReadDeadline(time.Now().Add(wait))
	buffer := make([]byte, maxReply)
	n, _ := io.ReadAtLeast(conn, buffer, 1)
	return buffer[:n]
}

// askTLS offers a handshake; a server that takes it up speaks TLS, whatever
// the rest of the handshake leads to.
func askTLS(ctx context.Context, conn net.Conn) []byte {
	ctx, cancel := context.WithTimeout(ctx, nextWait)
	defer cancel()
	// only whether there is TLS: nothing is sent over it
	err := tls.Client(conn, &tls.Config{InsecureSkipVerify: true}).HandshakeContext(ctx)
	var alert tls.AlertError
	var operation *net.OpError
	answered := err == nil || errors.As(err, &alert) || errors.As(err, &operation) && operation.Op == "remote error"
	if answered {
		return []byte{22, 3, 3, 0, 0} // the head of a handshake record
	}
	var record tls.RecordHeaderError
	if errors.As(err, &record) {
		return record.RecordHeader[:]
	}
	return nil
}
