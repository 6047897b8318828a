package hop

import (
	"io"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"gentleharbor/core/defect"
)

// stream gives a channel of an SSH connection the deadlines that drivers need and the library lacks. One goroutine
// reads ahead, at most two buffers.
type stream struct {
	net.Conn // the channel

	chunks chan []byte  // that were read
	free   chan []byte  // that may be read into
	failed error        // of the reader; valid once chunks is closed
	chunk  []byte       // the one that is being taken from, nil for none
	rest   []byte       // what is left of it
	ahead  atomic.Int64 // bytes that were read and not taken
	ended  chan struct{}
	once   sync.Once

	read, write deadline
	writing     atomic.Int32
}

// chunkSize is what one read takes: two packets of a channel.
const chunkSize = 64 << 10

func newStream(conn net.Conn) net.Conn {
	s := &stream{Conn: conn, chunks: make(chan []byte, 2), free: make(chan []byte, 2), ended: make(chan struct{})}
	s.free <- nil
	s.free <- nil
	s.read.init(nil)
	s.write.init(func() {
		if s.writing.Load() > 0 {
			s.Close()
		}
	})
	defect.Go(s.pump)
	return s
}

func (s *stream) pump() {
	defer close(s.chunks)
	for {
		var p []byte
		select {
		case p = <-s.free:
		case <-s.ended:
			return
		}
		if p == nil {
			p = make([]byte, chunkSize)
		}
		n, err := s.Conn.Read(p)
		if n > 0 {
			s.ahead.Add(int64(n))
			s.chunks <- p[:n] // there is room for all buffers
		}
		if err != nil {
			s.failed = err
			return
		}
	}
}

func (s *stream) Read(p []byte) (int, error) {
	if len(s.rest) == 0 {
		over := s.read.over()
		select {
		case <-over: // a deadline that has passed goes before what is there
			return 0, os.ErrDeadlineExceeded
		default:
		}
		select {
		case chunk, ok := <-s.chunks:
			if !ok {
				if s.failed == nil {
					return 0, net.ErrClosed
				}
				return 0, s.failed
			}
			s.chunk, s.rest = chunk, chunk
		case <-over:
			return 0, os.ErrDeadlineExceeded
		case <-s.ended:
			return 0, net.ErrClosed
		}
	}
	n := copy(p, s.rest)
	s.ahead.Add(int64(-n))
	if s.rest = s.rest[n:]; len(s.rest) == 0 {
		s.free <- s.chunk[:chunkSize]
		s.chunk = nil
	}
	return n, nil
}

// Buffered is how many bytes a read gives without waiting.
func (s *stream) Buffered() int { return int(s.ahead.Load()) }

// Write writes to the channel. A write that runs into its deadline ends the stream, as nobody knows how much of it
// was sent.
func (s *stream) Write(p []byte) (int, error) {
	s.writing.Add(1)
	defer s.writing.Add(-1)
	over := s.write.over()
	select {
	case <-over:
		return 0, os.ErrDeadlineExceeded
	default:
	}
	n, err := s.Conn.Write(p)
	if err != nil {
		select {
		case <-over:
			err = os.ErrDeadlineExceeded
		default:
			if err == io.EOF {
				err = net.ErrClosed
			}
		}
	}
	return n, err
}

// CloseWrite ends this side's part of the connection; the other side can still send.
func (s *stream) CloseWrite() error {
	return s.Conn.(interface{ CloseWrite() error }).CloseWrite()
}

func (s *stream) Close() error {
	s.once.Do(func() { close(s.ended) })
	return s.Conn.Close()
}

func (s *stream) SetDeadline(t time.Time) error {
	s.read.set(t)
	s.write.set(t)
	return nil
}

func (s *stream) SetReadDeadline(t time.Time) error {
	s.read.set(t)
	return nil
}

func (s *stream) SetWriteDeadline(t time.Time) error {
	s.write.set(t)
	return nil
}

// deadline has a channel that is closed at a set time. It can be set again.
type deadline struct {
	mu    sync.Mutex
	timer *time.Timer
	turn  int // of what was set last
	gone  chan struct{}
	then  func() // is called when the time has come; may be nil
}

func (d *deadline) init(then func()) { d.gone, d.then = make(chan struct{}), then }

func (d *deadline) over() <-chan struct{} {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.gone
}

func (d *deadline) set(t time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.timer != nil {
		d.timer.Stop()
	}
	d.timer = nil
	d.turn++
	select {
	case <-d.gone:
		d.gone = make(chan struct{})
	default:
	}
	if t.IsZero() {
		return
	}
	if time.Until(t) <= 0 {
		d.pass()
		return
	}
	turn := d.turn
	d.timer = time.AfterFunc(time.Until(t), func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.turn == turn { // else another was set while this one waited here
			d.pass()
		}
	})
}

// pass closes the channel: the time has come.
func (d *deadline) pass() {
	select {
	case <-d.gone:
		return
	default:
	}
	close(d.gone)
	if d.then != nil {
		d.then()
	}
}
