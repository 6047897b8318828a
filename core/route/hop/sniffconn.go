package hop

import (
	"bytes"
	"net"
	"sync"

	"gentleharbor/core/engine/greeting"
)

// sniffConn is the connection under SSH. It keeps the first bytes of the other side, which show what it is, makes
// larger reads, and makes the system acknowledge at once.
type sniffConn struct {
	net.Conn

	mu    sync.Mutex
	first []byte
	done  bool // no more is kept

	buffer     []byte // read and not handed on
	start, end int

	greetings greeting.Set // of what may answer in place of an SSH server
}

// firstBytes bounds what is kept: an SSH server's greeting is 255 bytes at most (RFC 4253,
// section 4.2), and lines may stand before it.
const firstBytes = 512

// readSize is how much is read at a time: the library asks for 4 KiB, and a
// channel's packets have 32.
const readSize = 256 << 10

func (w *sniffConn) Read(p []byte) (int, error) {
	if w.start == w.end {
		if w.buffer == nil {
			w.buffer = make([]byte, readSize)
		}
		n, err := w.Conn.Read(w.buffer)
		if n < len(w.buffer) { // nothing more is there: the other side may be waiting
			acknowledge(w.Conn)
		}
		w.start, w.end = 0, n
		w.note(w.buffer[:n])
		if n == 0 {
			return 0, err
		}
	}
	n := copy(p, w.buffer[w.start:w.end])
	w.start += n
	return n, nil
}

func (w *sniffConn) note(p []byte) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if room := firstBytes - len(w.first); !w.done && room > 0 {
		w.first = append(w.first, p[:min(room, len(p))]...)
		if w.otherProtocol() {
			w.Conn.Close() // the library would wait for a greeting of SSH's, which may follow any lines
		}
	}
}

// otherProtocol reports whether the first bytes are those of another protocol, or of SSH's first version.
func (w *sniffConn) otherProtocol() bool {
	first := w.first
	const greets = "SSH-"
	if n := min(len(first), len(greets)); string(first[:n]) == greets[:n] {
		return oldVersion(first)
	}
	_, known := w.greetings.Recognise(first)
	return known
}

// oldVersion reports whether a greeting is that of SSH's first version: one that
// speaks both says 1.99 (RFC 4253, section 5.1).
func oldVersion(first []byte) bool {
	return bytes.HasPrefix(first, []byte("SSH-1.")) && bytes.Contains(first, []byte("\n")) &&
		!bytes.HasPrefix(first, []byte("SSH-1.99-"))
}

// firstBytes is what the other side sent first.
func (w *sniffConn) firstBytes() []byte {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.first
}

// stopRecording ends the recording of the first bytes.
func (w *sniffConn) stopRecording() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.done, w.first = true, nil
}
