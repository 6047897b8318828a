package mysql

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"regexp"
	"strconv"
	"sync"
	"time"

	"gentleharbor/core/engine"
)

// maxAnswer bounds a packet of an answer: max_allowed_packet is 1 GiB at most.
const maxAnswer = 1 << 30

// pieceSize is the size of a packet that is continued in the next one (MySQL documentation, "MySQL Packets").
const pieceSize = 1<<24 - 1

// wire sends the protocol's commands after the login. The driver must not be waiting for an answer.
type wire struct {
	conn   net.Conn
	in     *bufio.Reader
	number byte   // of the next packet
	buffer []byte // the packet that was read last

	prepared  preparedStatement // the statement that was prepared last
	forgotten []uint32          // prepared statements to close before the next command; the server does not answer that
}

func newWire(conn net.Conn) *wire { return &wire{conn: conn, in: bufio.NewReaderSize(conn, 64<<10)} }

// command sends a command.
func (w *wire) command(kind byte, body []byte) error {
	for _, id := range w.forgotten {
		w.number = 0
		if err := w.send(binary.LittleEndian.AppendUint32([]byte{comClose}, id)); err != nil {
			return err
		}
	}
	w.forgotten, w.number = w.forgotten[:0], 0
	return w.send(append([]byte{kind}, body...))
}

// send sends a packet, in pieces where it is long.
func (w *wire) send(body []byte) error {
	for {
		n := min(len(body), pieceSize)
		head := []byte{byte(n), byte(n >> 8), byte(n >> 16), w.number}
		w.number++
		buffers := net.Buffers{head, body[:n]}
		if _, err := buffers.WriteTo(w.conn); err != nil {
			return err
		}
		if body = body[n:]; n < pieceSize {
			return nil
		}
	}
}

// packet reads a packet, which is valid until the next one.
func (w *wire) packet() ([]byte, error) {
	w.buffer = w.buffer[:0]
	for {
		var head [4]byte
		if _, err := io.ReadFull(w.in, head[:]); err != nil {
			return nil, err
		}
		w.number = head[3] + 1
		n := int(head[0]) | int(head[1])<<8 | int(head[2])<<16
		old := len(w.buffer)
		if old+n > maxAnswer {
			return nil, fmt.Errorf("an answer of more than %d bytes", maxAnswer)
		}
		if cap(w.buffer) < old+n {
			grown := make([]byte, old, max(old+n, 2*cap(w.buffer)))
			copy(grown, w.buffer)
			w.buffer = grown
		}
		w.buffer = w.buffer[:old+n]
		if _, err := io.ReadFull(w.in, w.buffer[old:]); err != nil {
			return nil, err
		}
		if n < pieceSize {
			if len(w.buffer) == 0 {
				return nil, errUnreadable
			}
			return w.buffer, nil
		}
	}
}

// The first bytes of answers (MySQL documentation, "Generic Response Packets").
const (
	isOK   = 0x00
	isFile = 0xfb // a request for a local file
	isEnd  = 0xfe // of rows, where the packet is short
	isErr  = 0xff
)

// The flags of a session's state (MySQL documentation, "SERVER_STATUS_flags_enum").
const (
	statusInTransaction = 1 << 0
	statusMoreResults   = 1 << 3
)

// endPacket is the packet at the end of a result.
type endPacket struct {
	changed  int64
	status   uint16
	warnings int
}

// readEnd reads an OK packet, or the EOF of older servers.
func readEnd(p []byte, deprecated bool) (e endPacket, err error) {
	r := packetReader{rest: p[1:]}
	if p[0] == isEnd && !deprecated {
		e.warnings, e.status = int(r.uint16()), r.uint16()
		return e, r.err
	}
	e.changed = int64(r.number())
	r.number() // the last id
	e.status, e.warnings = r.uint16(), int(r.uint16())
	return e, r.err
}

// readError reads an ERR packet.
func readError(p []byte) *engine.StatementError {
	r := packetReader{rest: p[1:]}
	number := r.uint16()
	e := &engine.StatementError{Code: fmt.Sprint(number)}
	if len(r.rest) > 5 && r.rest[0] == '#' {
		e.Code = fmt.Sprintf("%d, SQLSTATE %s", number, r.rest[1:6])
		r.rest = r.rest[6:]
	}
	e.Message = string(r.rest)
	if m := quotedName().FindStringSubmatch(e.Message); m != nil && naming[number] {
		e.Near = m[1]
	}
	if m := atRow().FindStringSubmatch(e.Message); m != nil {
		e.DataLine, _ = strconv.Atoi(m[1])
	}
	return e
}

// naming are the errors whose message quotes the wrong name (MySQL documentation, "Server Error Message Reference"):
// an unknown table, column, function.
var naming = map[uint16]bool{1051: true, 1054: true, 1109: true, 1146: true, 1305: true}

// quotedName is a name in a message, without those that it stands in.
var quotedName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`'(?:[^']*\.)?([^'.]+)'`) })

// atRow is which of the rows that a statement gives is wrong.
var atRow = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(` at row ([0-9]+)$`) })

// refusal is the error with which a server ended the connection while a command was being sent; nil where it gave
// none.
func (w *wire) refusal() *engine.StatementError {
	w.conn.SetReadDeadline(time.Now().Add(time.Second))
	defer w.conn.SetReadDeadline(time.Time{})
	if p, err := w.packet(); err == nil && p[0] == isErr {
		e := readError(p)
		e.Fatal = true
		return e
	}
	return nil
}

// packetReader reads the parts of a packet. It keeps its first error.
type packetReader struct {
	rest []byte
	err  error
}

func (r *packetReader) take(n uint64) []byte {
	if r.err != nil || n > uint64(len(r.rest)) {
		r.err = errUnreadable
		return nil
	}
	taken := r.rest[:n:n]
	r.rest = r.rest[n:]
	return taken
}

func (r *packetReader) uint16() uint16 {
	if b := r.take(2); b != nil {
		return binary.LittleEndian.Uint16(b)
	}
	return 0
}

func (r *packetReader) uint32() uint32 {
	if b := r.take(4); b != nil {
		return binary.LittleEndian.Uint32(b)
	}
	return 0
}

// number reads a length-encoded number.
func (r *packetReader) number() uint64 {
	first := r.take(1)
	if first == nil {
		return 0
	}
	size := map[byte]uint64{0xfc: 2, 0xfd: 3, 0xfe: 8}[first[0]]
	if size == 0 {
		return uint64(first[0])
	}
	var n uint64
	for i, b := range r.take(size) {
		n |= uint64(b) << (8 * i)
	}
	return n
}

// text reads a length-encoded text.
func (r *packetReader) text() []byte { return r.take(r.number()) }

// value reads a value of a row of texts: nil for NULL.
func (r *packetReader) value() []byte {
	if len(r.rest) == 0 {
		r.err = errUnreadable
		return nil
	}
	first := r.rest[0]
	if first < 0xfb { // nearly all are short
		if n := int(first) + 1; n <= len(r.rest) {
			v := r.rest[1:n:n]
			r.rest = r.rest[n:]
			return v
		}
		r.err = errUnreadable
		return nil
	}
	if first == isFile {
		r.rest = r.rest[1:]
		return nil
	}
	return r.text()
}

// errFileRefused says that a server asks for a file of this machine during a statement.
var errFileRefused = errors.New("the server asked for a file of this machine; nothing was sent")
