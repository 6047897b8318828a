package mysql

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"

	"gentleharbor/core/clean"
)

// Capability bits (MySQL documentation, "Capabilities Flags"; MariaDB
// documentation, "Connecting").
const (
	capLongPassword     = 1 << 0 // MariaDB from 10.2 on leaves it out, and then has bits of its own
	capLongFlag         = 1 << 2
	capLocalFiles       = 1 << 7
	capProtocol41       = 1 << 9
	capTLS              = 1 << 11
	capTransactions     = 1 << 13
	capSecureConnection = 1 << 15
	capMultiResults     = 1 << 17
	capPluginAuth       = 1 << 19
	capAttributes       = 1 << 20
	capLengthEncoded    = 1 << 21
	capDeprecateEOF     = 1 << 24
)

// driverCaps are the capabilities that the driver asks for, where the server has them.
const driverCaps = capLongPassword | capLongFlag | capProtocol41 | capSecureConnection | capTransactions |
	capLengthEncoded |
	capLocalFiles | capPluginAuth | capMultiResults | capAttributes | capDeprecateEOF

// maxGreeting bounds a greeting and every other packet of a login, in bytes;
// real ones have about a hundred, a public key under a thousand.
const maxGreeting = 16 << 10

// hello is a server's greeting.
type hello struct {
	packet    []byte // with its head
	version   string // as sent
	mariadb   bool
	id        uint32 // the connection's number on the server
	caps      uint32
	plugin    string          // the method that it asks for first
	salt      []byte          // 20 bytes
	collation byte            // the server's own
	program   *programRequest // that the session is for; nil for none
	extended  int             // where MariaDB's own capabilities stand in packet, 0 for nowhere
}

// refusal is an error that the server sent.
type refusal struct {
	Number  uint16
	State   string // SQLSTATE, where it was sent
	Message string
}

func (r *refusal) Error() string { return fmt.Sprintf("error %d: %s", r.Number, r.Message) }

// text is the server's own message and number, cleaned, for a finding.
func (r *refusal) text() string {
	state := ""
	if r.State != "" {
		state = ", SQLSTATE " + clean.Line(r.State, 5)
	}
	return fmt.Sprintf("the server says %s (error %d%s)", clean.Quote(r.Message), r.Number, state)
}

var (
	errNotMySQL   = errors.New("not a greeting of a MySQL or MariaDB server")
	errTooOld     = errors.New("a greeting from before MySQL 4.1")
	errIncomplete = errors.New("a packet that is cut off")
)

// packetSize is the length of the packet at the start of p, with its header of four bytes: three of length, least
// first, and a number.
func packetSize(p []byte) int { return 4 + int(p[0]) + int(p[1])<<8 + int(p[2])<<16 }

// parseFirst reads the first packet of a connection: a greeting of version 10
// (MySQL documentation, "Protocol::HandshakeV10"), or in its place an error.
func parseFirst(p []byte) (*hello, *refusal, error) {
	if len(p) < 5 || p[3] != 0 || packetSize(p) != len(p) || len(p) > maxGreeting {
		return nil, nil, errNotMySQL
	}
	switch p[4] {
	case 0xff:
		r, err := parseError(p[4:])
		return nil, r, err
	case 10:
		h, err := parseHello(p)
		return h, nil, err
	case 9:
		return nil, nil, errTooOld
	}
	return nil, nil, errNotMySQL
}

func parseError(body []byte) (*refusal, error) {
	if len(body) < 3 || body[0] != 0xff {
		return nil, errNotMySQL
	}
	r := &refusal{Number: binary.LittleEndian.Uint16(body[1:])}
	rest := body[3:]
	if len(rest) >= 6 && rest[0] == '#' {
		r.State, rest = string(rest[1:6]), rest[6:]
	}
	r.Message = string(rest)
	return r, nil
}

func parseHello(p []byte) (*hello, error) {
	version, rest, ok := bytes.Cut(p[5:], []byte{0})
	if !ok || len(version) == 0 || version[0] < '0' || version[0] > '9' {
		return nil, errNotMySQL
	}
	const fixed = 4 + 8 + 1 + 2 // id, first part of the salt, a zero, lower half of the capabilities
	if len(rest) < fixed {
		return nil, errIncomplete
	}
	h := &hello{packet: p, version: strings.TrimPrefix(string(version), "5.5.5-"), id: binary.LittleEndian.Uint32(rest)}
	h.mariadb = strings.Contains(strings.ToLower(h.version), "mariadb")
	h.caps = uint32(binary.LittleEndian.Uint16(rest[13:]))
	if h.caps&capProtocol41 == 0 {
		return nil, errTooOld
	}
	salt8 := rest[4:12]
	rest = rest[fixed:]
	const more = 1 + 2 + 2 + 1 + 6 + 4 // charset, status, upper half, length of the salt, filler, MariaDB's capabilities
	if len(rest) < more+13 {
		return nil, errIncomplete
	}
	h.collation = rest[0]
	h.caps |= uint32(binary.LittleEndian.Uint16(rest[3:])) << 16
	if h.caps&capLongPassword == 0 {
		h.mariadb = true
		h.extended = len(p) - len(rest) + more - 4
	}
	salt := max(13, int(rest[5])-8)
	rest = rest[more:]
	if len(rest) < salt {
		return nil, errIncomplete
	}
	h.salt = append(bytes.Clone(salt8), rest[:12]...)
	plugin, _, _ := bytes.Cut(rest[salt:], []byte{0})
	h.plugin = string(plugin)
	return h, nil
}

// flavour is the engine word of the server that sent the greeting.
func (h *hello) flavour() string {
	if h.mariadb {
		return "mariadb"
	}
	return "mysql"
}

// brand is how the server's makers write its name.
func (h *hello) brand() string {
	if h.mariadb {
		return "MariaDB"
	}
	return "MySQL"
}

// number is the version without what packages add to it: "10.11.6".
func (h *hello) number() string {
	end := 0
	for end < len(h.version) && (h.version[end] == '.' || h.version[end] >= '0' && h.version[end] <= '9') {
		end++
	}
	return clean.Line(h.version[:end], 40)
}

// forDriver is the greeting for the driver: without the capabilities that would differ between the request for TLS
// and the login.
func (h *hello) forDriver() []byte {
	p := bytes.Clone(h.packet)
	if h.extended > 0 {
		clear(p[h.extended : h.extended+4])
	}
	return p
}

// tlsRequest is the packet that asks for TLS (MySQL documentation,
// "Protocol::SSLRequest"). The server takes the capabilities from here, so
// they are those of the login that follows.
func (h *hello) tlsRequest() []byte {
	p := make([]byte, 36)
	p[0], p[3] = 32, 1
	binary.LittleEndian.PutUint32(p[4:], h.loginCaps(true))
	p[12] = h.sessionCollation()
	return p
}

// utf8mb4 is the number of utf8mb4_general_ci, which the driver asks for.
const utf8mb4 = 45

// loginCaps are the capabilities that a login announces: local files only where a program may be asked for them.
func (h *hello) loginCaps(secure bool) uint32 {
	caps := h.caps & driverCaps &^ capLocalFiles
	if h.program != nil {
		caps = caps&^sessionCaps | h.caps&h.program.caps
	}
	if secure {
		caps |= capTLS
	}
	return caps
}

// sessionCollation is the number of the collation that a login asks for.
func (h *hello) sessionCollation() byte {
	if h.program != nil && h.program.collation != 0 {
		return h.program.collation
	}
	return utf8mb4
}
