package mysql

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
)

// front speaks the server's side of the protocol before a session (MySQL documentation, "Connection Phase"). The
// server speaks first there and gives the number of the connection, so a program gets the real server's greeting.
var front = &engine.Front{Refuse: refuse, LocalFiles: true, Undo: "SET SESSION TRANSACTION READ WRITE"}

// More capability bits (MySQL documentation, "Capabilities Flags").
const (
	capFoundRows        = 1 << 1
	capWithDatabase     = 1 << 3
	capNoSchema         = 1 << 4
	capODBC             = 1 << 6
	capIgnoreSpace      = 1 << 8
	capInteractive      = 1 << 10
	capMultiStatements  = 1 << 16
	capPSMultiResults   = 1 << 18
	capSessionTrack     = 1 << 23
	capOptionalMetadata = 1 << 25
	capQueryAttributes  = 1 << 27
)

// sessionCaps are the capabilities that change the protocol after the login. They are those of the program that the
// server has too. That for files of this machine is among them only where the local address allows it.
const sessionCaps = capFoundRows | capLongFlag | capNoSchema | capODBC | capIgnoreSpace | capInteractive |
	capTransactions | capMultiStatements | capMultiResults | capPSMultiResults | capSessionTrack | capDeprecateEOF |
	capOptionalMetadata | capQueryAttributes

// openingCaps are the capabilities of the first packets, which our own code reads and writes. capLongPassword says
// that MariaDB's own capabilities are not used.
const openingCaps = capLongPassword | capWithDatabase | capProtocol41 | capSecureConnection | capPluginAuth |
	capAttributes | capLengthEncoded

// programRequest is what a program on this machine wants of its session.
type programRequest struct {
	caps      uint32 // of sessionCaps, and of local files
	collation byte
	sequence  byte // of the next packet to it
	salt      []byte
	method    string // by which it sends a password, "" where it does not say
	answer    []byte // in place of a password, or made of one
}

// Greet is an engine.Greeter's: it sends the real server's greeting, without capabilities that our code lacks, and
// reads the program's answer.
func (c *conversation) Greet(local net.Conn, files bool) (*engine.SessionRequest, error) {
	caps := c.hello.caps & sessionCaps
	if files {
		caps |= c.hello.caps & capLocalFiles
	}
	if _, err := local.Write(c.hello.forProgram(caps)); err != nil {
		return nil, err
	}
	packet, err := readPacket(local)
	if err != nil {
		return nil, err
	}
	p, o, err := parseLogin(packet)
	if err != nil {
		return nil, err
	}
	p.caps &= caps
	p.salt = c.hello.salt
	o.Prove = func(conn net.Conn, password string) error {
		defer func() { o.Sequence = p.sequence }()
		return p.prove(conn, password)
	}
	c.hello.program = p
	if o.Database != "" {
		c.to.Database = o.Database
	}
	return o, nil
}

// forProgram is the greeting for a program: the same version, number and salt, and a method by which a program
// without a password sends an empty answer. caps are the capabilities of its session.
func (h *hello) forProgram(caps uint32) []byte {
	caps |= openingCaps
	salt := h.salt
	body := append([]byte{10}, h.version...)
	body = append(body, 0)
	body = binary.LittleEndian.AppendUint32(body, h.id)
	body = append(append(body, salt[:8]...), 0)
	body = binary.LittleEndian.AppendUint16(body, uint16(caps&0xffff))
	body = append(body, h.collation)
	body = binary.LittleEndian.AppendUint16(body, statusAutocommit)
	body = binary.LittleEndian.AppendUint16(body, uint16(caps>>16))
	body = append(body, 21)
	body = append(body, make([]byte, 10)...)
	body = append(append(body, salt[8:20]...), 0)
	body = append(append(body, methodNative...), 0)
	return frame(0, body)
}

// statusAutocommit is the state of a new session.
const statusAutocommit = 2

// frame returns a packet with its header.
func frame(sequence byte, body []byte) []byte {
	return append([]byte{byte(len(body)), byte(len(body) >> 8), byte(len(body) >> 16), sequence}, body...)
}

// readPacket reads one packet of a program before its session, and no byte after it.
func readPacket(conn net.Conn) ([]byte, error) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(conn, head); err != nil {
		return nil, err
	}
	size := packetSize(head)
	if size > maxGreeting {
		return nil, fmt.Errorf("its first packet has %d bytes", size)
	}
	packet := append(head, make([]byte, size-4)...)
	_, err := io.ReadFull(conn, packet[4:])
	return packet, err
}

var errCutLogin = errors.New("its first packet is cut off")

// parseLogin reads a program's first packet (MySQL documentation, "Protocol::HandshakeResponse41").
func parseLogin(packet []byte) (*programRequest, *engine.SessionRequest, error) {
	const fixed = 4 + 4 + 1 + 23
	body := packet[4:]
	if len(body) < fixed {
		return nil, nil, errCutLogin
	}
	caps := binary.LittleEndian.Uint32(body)
	switch {
	case caps&capProtocol41 == 0:
		return nil, nil, errors.New("it speaks the protocol from before MySQL 4.1")
	case caps&capTLS != 0:
		return nil, nil, errors.New("it wants TLS, which is not offered on this machine")
	}
	p := &programRequest{caps: caps & (sessionCaps | capLocalFiles), collation: body[8], sequence: packet[3] + 1}
	user, rest, ok := bytes.Cut(body[fixed:], []byte{0})
	if !ok {
		return nil, nil, errCutLogin
	}
	switch {
	case caps&(capLengthEncoded|capSecureConnection) != 0: // a short length has one byte in both forms
		if len(rest) < 1 || rest[0] > 250 || len(rest) < 1+int(rest[0]) {
			return nil, nil, errCutLogin
		}
		p.answer, rest = rest[1:1+int(rest[0])], rest[1+int(rest[0]):]
	default:
		if p.answer, rest, ok = bytes.Cut(rest, []byte{0}); !ok {
			return nil, nil, errCutLogin
		}
	}
	o := &engine.SessionRequest{User: string(user), Sequence: p.sequence}
	var name []byte
	if caps&capWithDatabase != 0 {
		name, rest, _ = bytes.Cut(rest, []byte{0})
		o.Database = string(name)
	}
	if caps&capPluginAuth != 0 {
		name, _, _ = bytes.Cut(rest, []byte{0})
		p.method = string(name)
	}
	return p, o, nil
}

// refuse sends a finding as a server's error at the login. Its number is that of an error without another one
// (ER_UNKNOWN_ERROR), its SQLSTATE that of a rejected connection.
func refuse(conn net.Conn, o *engine.SessionRequest, found *finding.Finding) error {
	const number, state = 1105, "#08004"
	var sequence byte
	if o != nil {
		sequence = o.Sequence
	}
	text := []string{fmt.Sprintf("%s (%s)", found.Cause, found.Code)}
	text = append(append(text, found.Seen...), found.Try...)
	body := binary.LittleEndian.AppendUint16([]byte{0xff}, number)
	body = append(append(body, state...), strings.Join(text, "; ")...)
	_, err := conn.Write(frame(sequence, body[:min(len(body), 500)])) // a client's buffer for it has 512 bytes
	return err
}

// HandOver is an engine.SessionGiver's.
func (c *conversation) HandOver(to net.Conn, _ engine.CancelKey) (net.Conn, error) {
	if c.hello.program == nil || c.replay == nil || c.replay.in != nil && c.replay.in.Buffered() > 0 {
		return nil, errors.New("the server has said more than was asked")
	}
	ok := binary.LittleEndian.AppendUint16([]byte{0, 0, 0}, statusAutocommit)
	_, err := to.Write(frame(c.hello.program.sequence, append(ok, 0, 0)))
	return c.conn, err
}
