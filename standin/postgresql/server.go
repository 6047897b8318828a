// Package postgresql is a simulated PostgreSQL server for the demo, and for tests of faults that a real one cannot
// show. It has SCRAM-SHA-256, MD5 and cleartext logins, TLS with a certificate made at start, the few catalogue
// queries of a test, and scripted faults. It listens on loopback only and stores nothing.
package postgresql

import (
	"crypto/tls"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"gentleharbor/standin/serve"
)

// Fault is something that a server does wrong.
type Fault string

// The faults.
const (
	NoFault       Fault = ""
	Starting      Fault = "starting"       // 57P03 to every login
	Stopping      Fault = "stopping"       // the same code, another text
	Recovering    Fault = "recovering"     // the same code, another text
	Full          Fault = "full"           // 53300 to every login
	FullReserved  Fault = "full-reserved"  // 53300 with the text of reserved slots
	Silent        Fault = "silent"         // accepts and says nothing
	Garbage       Fault = "garbage"        // bytes of no protocol
	Endless       Fault = "endless"        // garbage without end
	Trickle       Fault = "trickle"        // a byte a second
	HugeLength    Fault = "huge-length"    // a message that says it has a gigabyte
	Slow          Fault = "slow"           // every answer comes late, and right
	CloseAtOnce   Fault = "close-at-once"  // accepts and closes
	CloseAtLogin  Fault = "close-at-login" // closes when the password has come
	HangAtLogin   Fault = "hang-at-login"  // says nothing more when the password has come
	LoseSession   Fault = "lose-session"   // closes at the first statement
	HangSession   Fault = "hang-session"   // does not answer the first statement
	NoCatalogue   Fault = "no-catalogue"   // will not say which tables exist
	NoRight       Fault = "no-right"       // 42501 to every statement
	OutOfTime     Fault = "out-of-time"    // 57014 to every statement
	ExtraBytes    Fault = "extra-bytes"    // more than S to the request for TLS
	EscapeMessage Fault = "escape-message" // control sequences in an error's text
	EmptyMethods  Fault = "odd-method"     // a SASL mechanism nobody knows
	HangTLS       Fault = "hang-tls"       // agrees to TLS and stops
)

// Role is an account. Method is its login method: "scram-sha-256", "md5", "password" or "trust".
type Role struct {
	Password  string
	Verifier  string // in place of a password: what is kept of one for SCRAM
	Method    string
	NoLogin   bool
	Expired   bool
	Superuser bool
}

// Config is what a server has and does.
type Config struct {
	Version   string // "15.4"
	Roles     map[string]Role
	Databases []string
	Tables    []string
	Fault     Fault
	Delay     time.Duration // before each answer of a Slow server
	ReadOnly  bool
	Lineage   string      // the system identifier
	Started   time.Time   // zero for some hours ago
	TLS       *tls.Config // nil: TLS is not offered
	OnlyTLS   bool        // the access rules have only hostssl lines
	Address   string      // "" for 127.0.0.1 and a free port

	// Answer answers a statement with the values of its parameters, up to ReadyForQuery; where it is nil, or returns
	// false, the server answers only a test's statements.
	Answer  func(to *pgproto3.Backend, statement string, values [][]byte) bool
	cluster *cluster // shared by what answers statements and the server; nil for one made of Roles and Databases

	// PasswordCame is called after a client has sent its password, or the proof of it; it may be nil.
	PasswordCame func()

	// Cancelled gets a request to cancel a statement; nil for none.
	Cancelled func(key []byte)
}

// Server is a running simulated server.
type Server struct {
	Config
	serve.Listeners
}

// Start starts a server; Close ends it.
func Start(c Config) (*Server, error) {
	if c.Version == "" {
		c.Version = "15.4"
	}
	if c.cluster == nil {
		c.cluster = newCluster(&c)
	}
	if c.Lineage == "" {
		c.Lineage = "7300000000000000001"
	}
	if c.Started.IsZero() {
		c.Started = time.Now().Add(-26 * time.Hour)
	}
	address := c.Address
	if address == "" {
		address = "127.0.0.1:0"
	}
	s := &Server{Config: c}
	if err := s.Listen("tcp", address); err != nil {
		return nil, err
	}
	s.Serve(func(conn net.Conn, _ int) { s.serve(conn) })
	return s, nil
}

// serve holds one connection.
func (s *Server) serve(conn net.Conn) {
	if s.misbehave(conn) {
		return
	}
	conn, encrypted, err := s.greet(conn)
	if err != nil {
		return
	}
	backend := pgproto3.NewBackend(conn, conn)
	session := &session{Server: s, backend: backend, encrypted: encrypted, conn: conn}
	if session.login() == nil {
		session.answer()
	}
}

// misbehave does the faults before any message.
func (s *Server) misbehave(conn net.Conn) bool {
	switch s.Fault {
	case Silent:
		io.Copy(io.Discard, conn)
	case CloseAtOnce:
	case Garbage:
		conn.Write([]byte("\x00\x01\x02\xfftide \x1b]0;gone\x07 table"))
		io.Copy(io.Discard, io.LimitReader(conn, 64))
	case Endless:
		for {
			if _, err := conn.Write([]byte("ebb and flow, ebb and flow, ebb and flow, ")); err != nil {
				return true
			}
		}
	case Trickle:
		for range 60 {
			if _, err := conn.Write([]byte{'.'}); err != nil {
				return true
			}
			time.Sleep(time.Second)
		}
	default:
		return false
	}
	return true
}

var errEnded = errors.New("ended")

// greet answers the requests before the startup message, which it leaves unread.
func (s *Server) greet(conn net.Conn) (net.Conn, bool, error) {
	head := make([]byte, 8)
	if _, err := io.ReadFull(conn, head); err != nil {
		return nil, false, err
	}
	s.wait()
	switch code := binary.BigEndian.Uint32(head[4:]); {
	case code == cancelRequest:
		return nil, false, s.cancel(conn)
	case code != sslRequest:
		return &pushedBack{Conn: conn, front: head}, false, nil
	}
	switch {
	case s.Fault == ExtraBytes:
		conn.Write([]byte("SR\x00\x00\x00\x08\x00\x00\x00\x00"))
		return nil, false, errEnded
	case s.Fault == HangTLS:
		conn.Write([]byte{'S'})
		io.Copy(io.Discard, conn)
		return nil, false, errEnded
	case s.TLS == nil:
		_, err := conn.Write([]byte{'N'})
		return conn, false, err
	}
	if _, err := conn.Write([]byte{'S'}); err != nil {
		return nil, false, err
	}
	secure := tls.Server(conn, s.TLS)
	if err := secure.Handshake(); err != nil {
		return nil, false, err
	}
	head = make([]byte, 8)
	if _, err := io.ReadFull(secure, head); err != nil {
		return nil, false, err
	}
	if binary.BigEndian.Uint32(head[4:]) == cancelRequest {
		return nil, false, s.cancel(secure)
	}
	return &pushedBack{Conn: secure, front: head}, true, nil
}

// The codes of requests that come instead of a startup message (PostgreSQL documentation, "Message Formats").
const (
	sslRequest    = 1234<<16 | 5679
	cancelRequest = 1234<<16 | 5678
)

// cancel takes a request to cancel a statement, whose head was read.
func (s *Server) cancel(conn net.Conn) error {
	key := make([]byte, 8)
	if _, err := io.ReadFull(conn, key); err == nil && s.Cancelled != nil {
		s.Cancelled(key)
	}
	return errEnded
}

func (s *Server) wait() {
	if s.Fault == Slow {
		time.Sleep(s.Delay)
	}
}

// pushedBack puts back bytes that were read to see what comes.
type pushedBack struct {
	net.Conn
	front []byte
}

func (p *pushedBack) Read(b []byte) (int, error) {
	if len(p.front) > 0 {
		n := copy(b, p.front)
		p.front = p.front[n:]
		return n, nil
	}
	return p.Conn.Read(b)
}
