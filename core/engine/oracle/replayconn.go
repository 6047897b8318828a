package oracle

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"regexp"
	"sync"
	"time"

	"gentleharbor/core/engine/oracle/tns"
)

// maxPacket bounds a packet after the opening, and maxTotal all of them, in bytes. A
// session data unit has at most 2 MiB (Oracle documentation, "Session Data Unit"), and
// the driver makes room for whatever length a packet names.
const (
	maxPacket = 2 << 20
	maxTotal  = 32 << 20
)

// replayConn gives the driver the acceptance that was already read, and drops what the driver sends to the listener,
// as it was already sent. It checks the length of each packet before the driver does, and reads what the driver does
// not pass on. Deadlines are the conversation's own.
type replayConn struct {
	net.Conn
	replay []byte // for the driver to read
	opened bool   // the driver has read the acceptance
	long   bool   // lengths have 32 bits
	total  int
	err    error // why the connection was ended here

	login   bool                    // what is read belongs to the login
	judge   func(body []byte) error // told of each data packet of the login
	warning string                  // what the server warned of, as the driver would print it
}

// errTooLong says that a packet is longer than any that an honest server sends.
var errTooLong = errors.New("the server sent a packet longer than any of this protocol")

func (s *replayConn) Write(p []byte) (int, error) {
	if !s.opened {
		return len(p), nil
	}
	return s.Conn.Write(p)
}

func (s *replayConn) Read(p []byte) (int, error) {
	if len(s.replay) == 0 {
		if s.err == nil {
			s.err = s.next()
		}
		if s.err != nil {
			return 0, s.err
		}
	}
	s.opened = true
	n := copy(p, s.replay)
	s.replay = s.replay[n:]
	return n, nil
}

// next reads a packet into replay.
func (s *replayConn) next() error {
	head := make([]byte, 8)
	if _, err := io.ReadFull(s.Conn, head); err != nil {
		return err
	}
	length := int(binary.BigEndian.Uint16(head))
	if s.long {
		length = int(binary.BigEndian.Uint32(head))
	}
	if s.total += length; length < len(head) || length > maxPacket || s.total > maxTotal {
		return errTooLong
	}
	packet := append(head, make([]byte, length-len(head))...)
	if _, err := io.ReadFull(s.Conn, packet[len(head):]); err != nil {
		return err
	}
	if s.login && tns.Type(packet[4]) == tns.Data && len(packet) > 10 {
		if m := warned().Find(packet[10:]); m != nil {
			s.warning = string(m)
		}
		if err := s.judge(packet[10:]); err != nil {
			return err
		}
	}
	s.replay = packet
	return nil
}

// warned finds a warning that a password expires soon: ORA-28002 and ORA-28011, in any language.
var warned = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`ORA-(28002|28011)[^\x00-\x1f]{0,160}`) })

func (s *replayConn) SetDeadline(time.Time) error      { return nil }
func (s *replayConn) SetReadDeadline(time.Time) error  { return nil }
func (s *replayConn) SetWriteDeadline(time.Time) error { return nil }

// DialContext gives the driver the present connection, once: the driver may not make another.
func (s *replayConn) DialContext(context.Context, string, string) (net.Conn, error) {
	if s.opened {
		return nil, errors.New("the driver asked for a second connection")
	}
	return s, nil
}

// The verifiers by which a server asks for a password (as the driver numbers them).
const (
	verifier10 = 2361  // DES, of the password in capital letters
	verifier11 = 6949  // SHA-1
	verifier12 = 18453 // PBKDF2 with SHA-512
)

// verifier reads the kind of verifier from the server's challenge: a key, its value
// and a number. ok is false where the body has none.
func verifier(body []byte) (kind int, ok bool) {
	_, rest, found := bytes.Cut(body, []byte("AUTH_VFR_DATA"))
	if !found {
		return 0, false
	}
	size, rest, ok := readCompressed(rest)
	if !ok {
		return 0, false
	}
	if size > 0 { // the value: a length again, and as many bytes
		if len(rest) < 1 || rest[0] > 0xfc || len(rest) < 1+int(rest[0]) {
			return 0, false
		}
		rest = rest[1+int(rest[0]):]
	}
	kind, _, ok = readCompressed(rest)
	return kind, ok
}

// readCompressed reads a number with its own length before it.
func readCompressed(p []byte) (n int, rest []byte, ok bool) {
	if len(p) < 1 || p[0] > 4 || len(p) < 1+int(p[0]) {
		return 0, nil, false
	}
	for _, b := range p[1 : 1+p[0]] {
		n = n<<8 | int(b)
	}
	return n, p[1+p[0]:], true
}

// verifierName is a verifier in words.
func verifierName(kind int) string {
	switch kind {
	case verifier10:
		return "10g verifier (DES)"
	case verifier11:
		return "11g verifier (SHA-1)"
	case verifier12:
		return "12c verifier (PBKDF2)"
	}
	return fmt.Sprintf("verifier %d", kind)
}
