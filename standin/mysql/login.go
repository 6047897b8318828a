package mysql

import (
	"bytes"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
)

// The methods that the server does.
const (
	native  = "mysql_native_password"
	caching = "caching_sha2_password"
)

// Capability bits (MySQL documentation, "Capabilities Flags").
const (
	capLongPassword = 1 << 0
	capConnectDB    = 1 << 3
	capLocalFiles   = 1 << 7
	capTLS          = 1 << 11
	capDeprecateEOF = 1 << 24
	capsOffered     = 0x81ffa6df &^ capTLS // what a server of version 8 says, but for TLS
)

// salt is the same for each connection, as nothing here is secret.
var salt = []byte("ebbtide flood tide 20")[:20]

// session is one connection.
type session struct {
	*Server
	wire      *wire
	raw       net.Conn
	number    int
	caps      uint32
	encrypted bool
	user      string
	account   Account
	database  string
	begun     bool // a statement was answered
	readOnly  bool
}

func isMariaDB(version string) bool { return strings.Contains(version, "MariaDB") }

// greeting is the body of Protocol::HandshakeV10.
func (s *session) greeting() []byte {
	version := s.Version
	caps := uint32(capsOffered)
	if isMariaDB(version) {
		version = "5.5.5-" + version
		caps &^= capLongPassword
	}
	if s.TLS != nil {
		caps |= capTLS
	}
	method := s.Method
	b := append([]byte{10}, version...)
	b = append(b, 0)
	b = binary.LittleEndian.AppendUint32(b, uint32(s.number))
	b = append(b, salt[:8]...)
	b = append(b, 0)
	b = binary.LittleEndian.AppendUint16(b, uint16(caps))
	b = append(b, 45, 2, 0)
	b = binary.LittleEndian.AppendUint16(b, uint16(caps>>16))
	b = append(b, 21)
	b = append(b, make([]byte, 10)...)
	b = append(b, salt[8:]...)
	b = append(b, 0)
	b = append(b, method...)
	return append(b, 0)
}

// login goes from the greeting to the OK packet.
func (s *session) login() error {
	s.wait()
	greeting := s.greeting()
	if s.Fault == ExtraBytes {
		packet := append([]byte{byte(len(greeting)), byte(len(greeting) >> 8), 0, 0}, greeting...)
		s.raw.Write(append(packet, "\x07\x00\x00\x02\x00\x00\x00\x02\x00\x00\x00"...))
		io.Copy(io.Discard, io.LimitReader(s.raw, 64))
		return errEnded
	}
	if err := s.wire.write(greeting); err != nil {
		return err
	}
	body, err := s.wire.read()
	if err != nil || len(body) < 32 {
		return errEnded
	}
	s.caps = binary.LittleEndian.Uint32(body)
	if s.caps&capLocalFiles != 0 {
		s.refuse(1235, "42000", "the client offered local files")
		return errEnded
	}
	if s.caps&capTLS != 0 && len(body) == 32 {
		if err := s.encrypt(); err != nil {
			return err
		}
		if body, err = s.wire.read(); err != nil {
			return err
		}
	}
	s.wait()
	response, method, ok := s.parseResponse(body)
	if !ok {
		return s.refuse(1043, "08S01", "Bad handshake")
	}
	if err := s.faultAtLogin(); err != nil {
		return err
	}
	return s.authenticate(response, method)
}

func (s *session) encrypt() error {
	if s.Fault == HangTLS {
		io.Copy(io.Discard, s.raw)
		return errEnded
	}
	if s.TLS == nil {
		return errEnded
	}
	secure := tls.Server(s.raw, s.TLS)
	if err := secure.Handshake(); err != nil {
		return err
	}
	s.wire.conn, s.encrypted = secure, true
	return nil
}

// parseResponse reads Protocol::HandshakeResponse41.
func (s *session) parseResponse(body []byte) (response []byte, method string, ok bool) {
	if len(body) < 33 {
		return nil, "", false
	}
	user, rest, ok := bytes.Cut(body[32:], []byte{0})
	if !ok || len(rest) == 0 {
		return nil, "", false
	}
	s.user = string(user)
	size := int(rest[0])
	if len(rest) < 1+size {
		return nil, "", false
	}
	response, rest = rest[1:1+size], rest[1+size:]
	if s.caps&capConnectDB != 0 {
		database, after, _ := bytes.Cut(rest, []byte{0})
		s.database, rest = string(database), after
	}
	plugin, _, _ := bytes.Cut(rest, []byte{0})
	return response, string(plugin), true
}

func (s *session) faultAtLogin() error {
	switch s.Fault {
	case CloseAtLogin:
		return errEnded
	case HangAtLogin:
		io.Copy(io.Discard, s.wire.conn)
		return errEnded
	case HugeAtLogin:
		s.wire.conn.Write([]byte{0xff, 0xff, 0xff, s.wire.number, 0})
		return errEnded
	case FileAtLogin:
		s.wire.write(append([]byte{0xfb}, "/etc/passwd"...))
		s.takeFile()
		return errEnded
	case EscapeMessage:
		return s.refuse(1105, "HY000", "\x1b[2J\x1b]0;owned\x07go\u202eaway\nnow")
	case OddMethod:
		s.wire.write(append([]byte{0xfe}, "tide_table_1\x00saltsaltsaltsaltsalt\x00"...))
		s.wire.read()
		return errEnded
	case OldMethod:
		s.wire.write([]byte{0xfe})
		s.wire.read()
		return errEnded
	case OfferKey:
		s.wire.write(append([]byte{1}, s.publicKey()...))
		s.wire.read()
		return errEnded
	}
	return nil
}

// PublicKey is the server's key for passwords without TLS, in PEM.
func (s *Server) PublicKey() []byte { return s.publicKey() }

func (s *Server) publicKey() []byte {
	der, err := x509.MarshalPKIXPublicKey(&s.key().PublicKey)
	if err != nil {
		return nil
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})
}

// clientHost is the host that the server sees this connection come from.
func (s *session) clientHost() string {
	if _, ok := s.raw.(*net.UnixConn); ok || !s.NoNames {
		return "localhost"
	}
	if s.Seen != "" {
		return s.Seen
	}
	return "127.0.0.1"
}

// find finds the account that fits, the more exact host first.
func (s *session) find() (Account, bool) {
	var best Account
	found, overTCP := false, s.raw.RemoteAddr().Network() == "tcp"
	for _, a := range s.accounts() {
		fits := a.Host == "%" || a.Host == s.clientHost() || overTCP && s.Seen == "" && a.Host == "127.0.0.1"
		if (a.User == s.user || a.User == "") && fits && (!found || best.Host == "%" && a.Host != "%") {
			best, found = a, true
		}
	}
	return best, found
}

// authenticate checks the password by the account's method. An unknown account is asked too, and gets the same error.
func (s *session) authenticate(response []byte, method string) error {
	a, known := s.find()
	if s.Fault == ClearMethod {
		s.wire.write(append([]byte{0xfe}, "mysql_clear_password\x00"...))
		answer, err := s.wire.read()
		if err != nil {
			return err
		}
		if !known || string(bytes.TrimRight(answer, "\x00")) != a.Password {
			return s.denyLogin(true)
		}
		s.account = a
		return s.acceptLogin()
	}
	want := a.Method
	if want == "" {
		want = s.Method
	}
	if method != want {
		if err := s.wire.write(slices.Concat([]byte{0xfe}, []byte(want), []byte{0}, salt, []byte{0})); err != nil {
			return err
		}
		var err error
		if response, err = s.wire.read(); err != nil {
			return err
		}
	}
	right, err := false, error(nil)
	switch {
	case len(response) == 0:
		right = a.Password+a.Stored == ""
	case want == native && a.Stored != "":
		right = nativeRight(response, a.Stored)
	case want == native:
		right = bytes.Equal(response, scrambleNative(a.Password))
	default:
		right, err = s.cachingLogin(a, known, response)
	}
	switch {
	case err != nil:
		return err
	case !known || !right || a.NeedsTLS && !s.encrypted:
		return s.denyLogin(len(response) > 0)
	case a.Locked && isMariaDB(s.Version):
		return s.refuse(4151, "HY000", "Access denied, this account is locked")
	case a.Locked:
		return s.refuse(3118, "HY000", fmt.Sprintf(
			"Access denied for user '%s'@'%s'. Account is locked.", s.user, s.clientHost()))
	case a.Expired && !isMariaDB(s.Version):
		return s.refuse(1862, "HY000",
			"Your password has expired. To log in you must change it using a client that supports expired passwords.")
	}
	s.account = a
	return s.acceptLogin()
}

// cachingLogin is the server's side of caching_sha2_password: by the hash in the cache, else by the password itself,
// which comes in the clear over TLS or a socket, and encrypted by the server's key otherwise.
func (s *session) cachingLogin(a Account, known bool, response []byte) (bool, error) {
	s.mu.Lock()
	cached := s.cached[a.User+"@"+a.Host]
	s.mu.Unlock()
	if cached && known {
		if bytes.Equal(response, scrambleCaching(a.Password)) {
			return true, s.wire.write([]byte{1, 3})
		}
		return false, nil
	}
	if err := s.wire.write([]byte{1, 4}); err != nil {
		return false, err
	}
	answer, err := s.wire.read()
	if err != nil {
		return false, err
	}
	_, socket := s.raw.(*net.UnixConn)
	if !s.encrypted && !socket {
		if bytes.Equal(answer, []byte{2}) {
			if err := s.wire.write(append([]byte{1}, s.publicKey()...)); err != nil {
				return false, err
			}
			if answer, err = s.wire.read(); err != nil {
				return false, err
			}
		}
		if answer, err = rsa.DecryptOAEP(sha1.New(), nil, s.key(), answer, nil); err != nil {
			return false, nil
		}
		for i := range answer {
			answer[i] ^= salt[i%len(salt)]
		}
	}
	right := known && string(bytes.TrimRight(answer, "\x00")) == a.Password
	if right {
		s.mu.Lock()
		s.cached[a.User+"@"+a.Host] = true
		s.mu.Unlock()
	}
	return right, nil
}

func scrambleNative(password string) []byte {
	first := sha1.Sum([]byte(password))
	second := sha1.Sum(first[:])
	mask := sha1.Sum(append(bytes.Clone(salt), second[:]...))
	for i := range mask {
		mask[i] ^= first[i]
	}
	return mask[:]
}

func scrambleCaching(password string) []byte {
	first := sha256.Sum256([]byte(password))
	second := sha256.Sum256(first[:])
	mask := sha256.Sum256(append(second[:], salt...))
	for i := range mask {
		mask[i] ^= first[i]
	}
	return mask[:]
}

func (s *session) denyLogin(used bool) error {
	return s.refuse(1045, "28000",
		fmt.Sprintf("Access denied for user '%s'@'%s' (using password: %s)", s.user, s.clientHost(),
			map[bool]string{true: "YES", false: "NO"}[used]))
}

func (s *session) acceptLogin() error { return s.wire.write([]byte{0, 0, 0, 2, 0, 0, 0}) }

// refuse sends an error that ends the connection.
func (s *session) refuse(code uint16, state, message string) error {
	s.wire.fail(code, state, message)
	return errEnded
}
