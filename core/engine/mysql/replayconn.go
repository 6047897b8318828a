package mysql

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
)

// maxPacket bounds a packet once logged in, and maxTotal all of them, in
// bytes. The largest answer that a test reads is a list of database names.
const (
	maxPacket = 1 << 20
	maxTotal  = 16 << 20
)

// replayConn gives the driver the greeting that was already read, and renumbers the packets of the login, as the
// request for TLS was already sent. It reads each packet before the driver does, and ends the connection at a method
// that would give the password away and at a request for a local file. Deadlines and closing are the connection's
// own.
type replayConn struct {
	net.Conn
	in        *bufio.Reader           // of Conn: an answer has many packets, and comes in one piece
	ready     []byte                  // for the driver to read
	shift     byte                    // 1 over TLS: the request for it took a number
	caps      uint32                  // that the login must announce
	driver    uint32                  // that the driver announces
	collation byte                    // that the login must ask for
	answer    func(body []byte) error // told of each packet of the login
	wrote     bool                    // the login was sent
	done      bool                    // the login is over
	total     int
	err       error // why the connection was ended here
	writeErr  error // of the last write that failed: the driver does not pass it on
}

// errLocalFile says that a server asks for a file of this machine.
var errLocalFile = errors.New("the server asked for a file of this machine")

// fileRequest is errLocalFile with the name.
type fileRequest struct{ name string }

func (e *fileRequest) Error() string        { return errLocalFile.Error() }
func (e *fileRequest) Is(target error) bool { return target == errLocalFile }

func (s *replayConn) Read(p []byte) (int, error) {
	if len(s.ready) == 0 {
		if s.err == nil {
			s.err = s.next()
		}
		if s.err != nil {
			return 0, s.err
		}
	}
	n := copy(p, s.ready)
	s.ready = s.ready[n:]
	return n, nil
}

// next reads one packet and checks it.
func (s *replayConn) next() error {
	if s.in == nil {
		s.in = bufio.NewReaderSize(s.Conn, 4096)
	}
	head, err := s.in.Peek(4)
	if err != nil {
		return err
	}
	size, limit := packetSize(head), maxPacket
	if !s.done {
		limit = maxGreeting
	}
	if s.total += size; size > limit || s.total > maxTotal {
		return fmt.Errorf("a packet of %d bytes; at most %d are allowed", size, limit)
	}
	packet := make([]byte, size)
	if _, err := io.ReadFull(s.in, packet); err != nil {
		return err
	}
	body := packet[4:]
	switch {
	case s.done && packet[3] == 1 && len(body) > 0 && body[0] == 0xfb:
		return &fileRequest{name: string(body[1:])}
	case s.done && packet[3] == 1 && columns(body) > maxColumns:
		return fmt.Errorf("an answer of more than %d columns", maxColumns) // the driver would make room for all of them
	case !s.done:
		if err := s.answer(body); err != nil {
			return err
		}
		packet = wholeNonce(packet)
		packet[3] -= s.shift
	}
	s.ready = packet
	return nil
}

// statistics asks the server for its one line of statistics (MySQL documentation, "COM_STATISTICS"). The driver must
// not be waiting for an answer.
func (s *replayConn) statistics() (string, error) {
	const command = 9
	if _, err := s.Conn.Write([]byte{1, 0, 0, 0, command}); err != nil {
		return "", err
	}
	if s.err = s.next(); s.err != nil {
		return "", s.err
	}
	line := string(s.ready[4:])
	s.ready = nil
	return line, nil
}

// wholeNonce puts a zero behind the 32 bytes that a server sends to be signed by client_ed25519. The driver cuts off
// a zero at the end. One nonce in 256 ends with a zero of its own, and without another one the driver refuses the 31
// bytes that are left.
func wholeNonce(packet []byte) []byte {
	const question, nonce = "\xfe" + methodEd25519 + "\x00", 32
	body := packet[4:]
	if !bytes.HasPrefix(body, []byte(question)) || len(body) != len(question)+nonce {
		return packet
	}
	packet = append(packet, 0)
	packet[0]++ // the body is shorter than 255 bytes
	return packet
}

// maxColumns is the limit for a table (MySQL documentation, "Column Count Limits").
const maxColumns = 4096

// columns is the number of columns with which a result set begins, as far as it matters here; a small number for
// another packet.
func columns(body []byte) int {
	switch {
	case len(body) > 2 && body[0] == 0xfc:
		return int(body[1]) | int(body[2])<<8
	case len(body) > 0 && (body[0] == 0xfd || body[0] == 0xfe):
		return maxColumns + 1
	}
	return 0
}

// Write sends one of the driver's packets with each call.
func (s *replayConn) Write(p []byte) (int, error) {
	n, err := s.write(p)
	if err != nil {
		s.writeErr = err
	}
	return n, err
}

func (s *replayConn) write(p []byte) (int, error) {
	switch {
	case len(p) < 4:
		return 0, fmt.Errorf("a defect: the driver wrote %d bytes that are no packet", len(p))
	case s.done:
	case p[3] == 0 && s.wrote:
		s.done = true // a command: the numbers begin again
	default:
		renumbered := bytes.Clone(p)
		renumbered[3] += s.shift
		if !s.wrote {
			if err := s.announce(renumbered); err != nil {
				return 0, err
			}
		}
		if _, err := s.Conn.Write(renumbered); err != nil {
			return 0, err
		}
		return len(p), nil
	}
	return s.Conn.Write(p)
}

// cause is why a call of the driver failed, nil where the connection does not say.
func (s *replayConn) cause() error {
	if s.err != nil {
		return s.err
	}
	return s.writeErr
}

// announce puts the capabilities of the request for TLS into the login: no
// local files.
func (s *replayConn) announce(login []byte) error {
	s.wrote = true
	if len(login) < 36 {
		return fmt.Errorf("a defect: the driver opened with %d bytes that are no login", len(login))
	}
	caps := binary.LittleEndian.Uint32(login[4:])
	if (caps^s.driver)&^(capLocalFiles|capTLS) != 0 {
		return fmt.Errorf("a defect: the driver announced capabilities %#x where %#x were expected", caps, s.driver)
	}
	binary.LittleEndian.PutUint32(login[4:], s.caps)
	login[12] = s.collation
	return nil
}
