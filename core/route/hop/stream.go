package hop

import (
	"io"
	"net"
	"os"
	"sync"
	"time"

	"gentleharbor/core/defect"
)

// stream gives a channel of an SSH connection the deadlines that drivers want and
// the library does not have. One goroutine reads ahead, at most one buffer.
type stream struct {
	net.Conn // the channel

	chunks chan []byte
	failed error // of the reader; valid once chunks is closed
	rest   []byte
	ended  chan struct{}
	once   sync.Once

	read, write deadline
}

// chunkSize is what one read takes: a packet of a channel.
const chunkSize = 32 << 10

func newStream(conn net.Conn) net.Conn {
	s := &stream{Conn: conn, chunks: make(chan []byte), ended: make(chan struct{})}
	s.read.init()
	s.write.init()
	defect.Go(s.pump)
	return s
}

func (s *stream) pump() {
	defer close(s.chunks)
	for {
		p := make([]byte, chunkSize)
		n, err := s.Conn.Read(p)
		if n > 0 {
			select {
			case s.chunks <- p[:n]:
			case <-s.ended:
				return
			}
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
			s.rest = chunk
		case <-over:
			return 0, os.ErrDeadlineExceeded
		case <-s.ended:
			return 0, net.ErrClosed
		}
	}
	n := copy(p, s.rest)
	s.rest = s.rest[n:]
	return n, nil
}

// Write writes as the channel does. A write that its deadline cuts off has ended
// the stream: how much of it went out is not known.
func (s *stream) Write(p []byte) (int, error) {
	over := s.write.over()
	select {
	case <-over:
		return 0, os.ErrDeadlineExceeded
	default:
	}
	done := make(chan struct{})
	defer close(done)
	defect.Go(func() {
		select {
		case <-over:
			s.Close()
		case <-done:
		}
	})
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

// CloseWrite tells the other side that nothing more comes.
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

// deadline is a channel that is closed when a time has come, and can be set again.
type deadline struct {
	mu    sync.Mutex
	timer *time.Timer
	gone  chan struct{}
}

func (d *deadline) init() { d.gone = make(chan struct{}) }

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
	select {
	case <-d.gone:
		d.gone = make(chan struct{})
	default:
	}
	if t.IsZero() {
		return
	}
	if wait := time.Until(t); wait <= 0 {
		close(d.gone)
		return
	}
	gone := d.gone
	d.timer = time.AfterFunc(time.Until(t), func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.gone == gone {
			select {
			case <-gone:
			default:
				close(gone)
			}
		}
	})
}
