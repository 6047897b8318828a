package tunnel

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"

	"gentleharbor/core/clean"
	"gentleharbor/core/defect"
	"gentleharbor/core/finding"
	"gentleharbor/core/route/hop"
)

// The sizes of a copy: a packet of a channel, and many packets for a stream that fills one. Large copies take a fifth
// less of the processor for a bulk stream; an idle connection needs no large buffer.
const (
	smallBuffer = 32 << 10
	largeBuffer = 256 << 10
)

var (
	smallBuffers = sync.Pool{New: func() any { p := make([]byte, smallBuffer); return &p }}
	largeBuffers = sync.Pool{New: func() any { p := make([]byte, largeBuffer); return &p }}
)

// serve leads one connection to the server.
func (t *Tunnel) serve(ctx context.Context, local net.Conn) {
	defer func() {
		local.Close()
		t.open.Add(-1)
		t.noteUse()
	}()
	t.noteUse()
	remote, end, err := t.remote(ctx, local)
	if err != nil {
		t.refused.Add(1)
		if ctx.Err() == nil {
			t.noteFailure(err)
		}
		return
	}
	if remote == nil {
		return // it wanted no session
	}
	defer end()
	pair := connPair{local, remote}
	t.conns.Store(pair, nil)
	defer t.conns.Delete(pair)
	if ctx.Err() != nil {
		return // the tunnel ended meanwhile, and did not see this one
	}
	done := make(chan struct{})
	defect.Go(func() {
		pass(remote, local, &t.sent)
		close(done)
	})
	if pass(local, remote, &t.received) != nil {
		local.Close() // the connection broke: who writes is not left waiting
	}
	<-done
}

// connPair are both ends of a connection.
type connPair struct{ local, remote net.Conn }

func (c connPair) Close() error {
	c.local.Close()
	return c.remote.Close()
}

// pass copies from one end to the other. At the end of the input it closes only this direction, so that the other can
// go on.
func pass(to, from net.Conn, count *atomic.Int64) error {
	pool := &smallBuffers
	buffer := pool.Get().(*[]byte)
	defer func() { pool.Put(buffer) }()
	for {
		n, err := from.Read(*buffer)
		for err == nil && len(*buffer)-n >= tlsRecord && another(from) {
			var more int
			more, err = from.Read((*buffer)[n:])
			n += more
		}
		if n > 0 {
			count.Add(int64(n))
			if _, err := to.Write((*buffer)[:n]); err != nil {
				closeRead(from)
				return err
			}
			if next := bufferFor(pool, n); next != pool {
				pool.Put(buffer)
				pool, buffer = next, next.Get().(*[]byte)
			}
		}
		if err != nil {
			if half, ok := to.(interface{ CloseWrite() error }); ok {
				half.CloseWrite()
			} else {
				to.Close()
			}
			if err == io.EOF {
				return nil
			}
			return err
		}
	}
}

// tlsRecord is the largest content of a TLS record, and tlsWhole the largest whole record (RFC 8446, section 5.2).
const (
	tlsRecord = 16 << 10
	tlsWhole  = tlsRecord + 256 + 5
)

// another reports whether another whole record has come already: one write for many records costs less.
func another(from net.Conn) bool {
	secure, ok := from.(interface{ NetConn() net.Conn })
	if !ok {
		return false
	}
	under, ok := secure.NetConn().(interface{ Buffered() int })
	return ok && under.Buffered() >= 2*tlsWhole // the first may be one of TLS's own, which gives nothing
}

// bufferFor chooses the buffer after a read of n bytes: a large one after a small one was full, and a small one after
// a large one was nearly empty.
func bufferFor(pool *sync.Pool, n int) *sync.Pool {
	switch {
	case n > smallBuffer-tlsRecord && pool == &smallBuffers:
		return &largeBuffers
	case n < smallBuffer/4:
		return &smallBuffers
	}
	return pool
}

// closeRead tells the sender that nobody reads any more.
func closeRead(conn net.Conn) {
	if half, ok := conn.(interface{ CloseRead() error }); ok {
		half.CloseRead()
		return
	}
	conn.Close()
}

// remote is the other end for a connection, and a function to call at its end. It is nil for a program whose request
// is done, such as a cancel.
func (t *Tunnel) remote(ctx context.Context, local net.Conn) (remote net.Conn, end func(), err error) {
	if t.o.Login != nil {
		return t.logIn(ctx, local)
	}
	if remote, err = t.dial(ctx); err != nil {
		return nil, nil, err
	}
	return remote, func() { remote.Close() }, nil
}

// dial opens a connection from the last hop to the first of the servers that accepts it. Where the way is down, it
// waits for it.
func (t *Tunnel) dial(ctx context.Context) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, t.o.Patience)
	defer cancel()
	for {
		link, changed, err := t.waitForWay(ctx)
		if err != nil {
			return nil, err
		}
		stop := t.askIfSlow()
		conn, why, err := t.dialServers(ctx, link)
		stop()
		if why != hop.Dropped || !link.Lasts() {
			return conn, err
		}
		select { // the way ended under it: the next one may do
		case <-changed:
		case <-link.Done():
			<-changed
		case <-ctx.Done():
			return nil, err
		}
	}
}

// waitForWay waits for the way to the last hop. changed is closed when the way changes. The error is a *refusal.
func (t *Tunnel) waitForWay(ctx context.Context) (link *hop.Link, changed <-chan struct{}, err error) {
	for {
		if link, changed = t.current(); link != nil {
			return link, changed, nil
		}
		if found := t.lastingFailure(); found != nil {
			return nil, nil, &refusal{found}
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return nil, nil, &refusal{finding.New(finding.HopDropped,
				"a connection waited %s for the hops, and was closed", t.o.Patience).
				Suggest("gharbor tunnel show %s", t.o.Profile)}
		}
	}
}

func (t *Tunnel) dialServers(ctx context.Context, link *hop.Link) (conn net.Conn, why hop.Reason, err error) {
	for _, c := range t.o.Servers {
		network, address := "tcp", c.String()
		if c.Socket != "" {
			network = "unix"
		}
		conn, err = link.DialRaw(ctx, network, address)
		if err == nil {
			return conn, 0, nil
		}
		var text string
		if why, text = hop.ReasonOf(err); why == hop.Dropped {
			return nil, why, err
		}
		err = fmt.Errorf("from %s, %s %s: %s", link.Hop, c, reasons[why], clean.Quote(text))
		if errors.Is(ctx.Err(), context.Canceled) {
			break
		}
	}
	return nil, why, err
}

var reasons = map[hop.Reason]string{
	hop.Prohibited:  "is forbidden",
	hop.Refused:     "refuses connections",
	hop.Silent:      "does not answer",
	hop.Unreachable: "can't be reached",
	hop.NameUnknown: "is a name that is not known there",
	hop.Other:       "could not be reached",
}
