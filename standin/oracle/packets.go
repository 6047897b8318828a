package oracle

import (
	"encoding/binary"
	"errors"
	"io"
	"regexp"
	"strings"
)

// The types of a listener's packets.
const (
	typeConnect  = 1
	typeAccept   = 2
	typeRefuse   = 4
	typeRedirect = 5
	typeData     = 6
	typeResend   = 11
	typeMarker   = 12
)

// maxPacket bounds a packet from a client, in bytes.
const maxPacket = 1 << 16

var errOdd = errors.New("not what a client sends")

// read reads one packet; long is for lengths of 32 bits.
func read(r io.Reader, long bool) (packet []byte, err error) {
	head := make([]byte, 8)
	if _, err := io.ReadFull(r, head); err != nil {
		return nil, err
	}
	size := int(binary.BigEndian.Uint16(head))
	if long {
		size = int(binary.BigEndian.Uint32(head))
	}
	if size < 8 || size > maxPacket {
		return nil, errOdd
	}
	packet = append(head, make([]byte, size-8)...)
	_, err = io.ReadFull(r, packet[8:])
	return packet, err
}

// connect is a connect packet.
type connect struct {
	version    uint16
	descriptor string
}

func (c connect) ping() bool { return strings.Contains(c.descriptor, "(COMMAND=ping)") }

// value is the text after a word of the descriptor.
func (c connect) value(word string) (string, bool) {
	m := regexp.MustCompile(`(?i)\(` + word + `=([^()]*)\)`).FindStringSubmatch(c.descriptor)
	if m == nil {
		return "", false
	}
	return m[1], true
}

// readConnect reads a connect packet, and the data packet after it where the descriptor is long.
func readConnect(r io.Reader) (connect, error) {
	p, err := read(r, false)
	if err != nil {
		return connect{}, err
	}
	if p[4] != typeConnect || len(p) < 34 {
		return connect{}, errOdd
	}
	size, at := int(binary.BigEndian.Uint16(p[24:])), int(binary.BigEndian.Uint16(p[26:]))
	c := connect{version: binary.BigEndian.Uint16(p[8:])}
	if at+size <= len(p) {
		c.descriptor = string(p[at : at+size])
		return c, nil
	}
	more, err := read(r, false)
	if err != nil || more[4] != typeData || len(more) != 10+size {
		return connect{}, errOdd
	}
	c.descriptor = string(more[10:])
	return c, nil
}

func packet(kind byte, head []byte, text string) []byte {
	p := append(make([]byte, 8), head...)
	p = append(p, text...)
	binary.BigEndian.PutUint16(p, uint16(len(p)))
	p[4] = kind
	return p
}

func refuse(text string) []byte {
	return packet(typeRefuse, binary.BigEndian.AppendUint16([]byte{34, 0}, uint16(len(text))), text)
}

func redirect(text string) []byte {
	return packet(typeRedirect, binary.BigEndian.AppendUint16(nil, uint16(len(text))), text)
}

// lowVersion is the accepted version: one before lengths had 32 bits.
const lowVersion = 314

func accept(wanted connect) []byte {
	p := packet(typeAccept, make([]byte, 24), "")
	binary.BigEndian.PutUint16(p[8:], min(wanted.version, lowVersion))
	binary.BigEndian.PutUint16(p[12:], 8192)
	binary.BigEndian.PutUint16(p[14:], 0xffff)
	binary.BigEndian.PutUint16(p[16:], 1)
	binary.BigEndian.PutUint16(p[20:], uint16(len(p)))
	p[22], p[23] = 4, 8 // no negotiation of further services
	return p
}

// data wraps what is sent after the opening.
func data(body []byte) []byte { return packet(typeData, []byte{0, 0}, string(body)) }

// writer makes the body of a message.
type writer struct{ b []byte }

func (w *writer) bytes(p ...byte) *writer {
	w.b = append(w.b, p...)
	return w
}

// number is one with its own length before it.
func (w *writer) number(n int) *writer {
	var p []byte
	for ; n > 0; n >>= 8 {
		p = append([]byte{byte(n)}, p...)
	}
	return w.bytes(byte(len(p))).bytes(p...)
}

// text is bytes in pieces of up to 64 where there are many.
func (w *writer) text(s string) *writer {
	if len(s) <= 0xfc {
		return w.bytes(byte(len(s))).bytes([]byte(s)...)
	}
	w.bytes(0xfe)
	for len(s) > 0 {
		piece := s[:min(len(s), 64)]
		w.bytes(byte(len(piece))).bytes([]byte(piece)...)
		s = s[len(piece):]
	}
	return w.bytes(0)
}

// writeSized writes a text with its length before it, nothing behind a zero.
func (w *writer) writeSized(s string) *writer {
	if w.number(len(s)); s != "" {
		w.text(s)
	}
	return w
}

// pair is a key, its value and a number.
func (w *writer) pair(key, value string, n int) *writer {
	return w.writeSized(key).writeSized(value).number(n)
}

// summary ends an answer; code is ORA-…, 0 for none.
func (w *writer) summary(code int, message string) *writer {
	w.bytes(4).number(0).number(code).bytes(0, 0, 0, 0)     // rows, code, two counts of errors, cursor, position
	w.bytes(0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0) // kind of statement to the statements' count
	w.bytes(0, 0, 0, 0)                                     // four texts
	if code != 0 {
		w.text(message)
	}
	return w
}

// reader reads a message's body. After its first mistake all values are zero.
type reader struct {
	b   []byte
	bad bool
}

func (r *reader) take(n int) []byte {
	if r.bad || n < 0 || n > len(r.b) {
		r.bad = true
		return nil
	}
	p := r.b[:n]
	r.b = r.b[n:]
	return p
}

func (r *reader) byte() byte {
	if p := r.take(1); p != nil {
		return p[0]
	}
	return 0
}

func (r *reader) number() int {
	n := 0
	for _, b := range r.take(int(r.byte() & 0x7f)) {
		n = n<<8 | int(b)
	}
	return n
}

func (r *reader) text() string {
	size := int(r.byte())
	if size != 0xfe {
		return string(r.take(size))
	}
	var all []byte
	for {
		size := int(r.byte())
		if size == 0 || r.bad {
			return string(all)
		}
		all = append(all, r.take(size)...)
	}
}

func (r *reader) readSized() string {
	if r.number() == 0 {
		return ""
	}
	return r.text()
}

// writeChanged writes the end of a statement that changed rows.
func (w *writer) writeChanged(rows int) *writer {
	w.bytes(4).number(rows).number(0).bytes(0, 0, 0, 0)
	return w.bytes(0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0).bytes(0, 0, 0, 0)
}
