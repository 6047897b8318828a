// Package mysql is a simulated MySQL or MariaDB server for the demo, and for tests of faults that a real one cannot
// show. It has logins by mysql_native_password and caching_sha2_password, TLS with a certificate made at start,
// accounts by name and host, the few answers that a test needs, and scripted faults. It listens on loopback or a Unix
// socket only and stores nothing.
package mysql

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"sync"
	"time"

	"gentleharbor/standin/serve"
)

// Fault is something that a server does wrong.
type Fault string

// The faults.
const (
	NoFault       Fault = ""
	Full          Fault = "full"           // error 1040 instead of a greeting
	Blocked       Fault = "blocked"        // error 1129 instead of a greeting
	NotAllowed    Fault = "not-allowed"    // error 1130 instead of a greeting
	Stopping      Fault = "stopping"       // error 1053 instead of a greeting
	Silent        Fault = "silent"         // accepts and says nothing
	Garbage       Fault = "garbage"        // bytes of no protocol
	Endless       Fault = "endless"        // garbage without end
	Trickle       Fault = "trickle"        // a byte of the greeting a second
	HugeLength    Fault = "huge-length"    // a greeting that says it has 16 MiB
	HalfGreeting  Fault = "half-greeting"  // closes in the middle of the greeting
	OldProtocol   Fault = "old-protocol"   // a greeting of before 4.1
	Slow          Fault = "slow"           // every answer comes late, and right
	CloseAtOnce   Fault = "close-at-once"  // accepts and closes
	CloseAtLogin  Fault = "close-at-login" // closes when the login has come
	HangAtLogin   Fault = "hang-at-login"  // says nothing more when the login has come
	HugeAtLogin   Fault = "huge-at-login"  // answers the login with a packet that says it has 16 MiB
	LoseSession   Fault = "lose-session"   // closes at the first statement
	HangSession   Fault = "hang-session"   // does not answer the first statement
	AsksForFile   Fault = "asks-for-file"  // answers the first statement with a wish for a local file
	FileAtLogin   Fault = "file-at-login"  // answers the login with one
	ExtraBytes    Fault = "extra-bytes"    // more than the greeting before TLS
	EscapeMessage Fault = "escape-message" // control sequences in an error's text
	OddMethod     Fault = "odd-method"     // a plugin that nobody knows
	OldMethod     Fault = "old-method"     // the passwords of before 4.1
	ClearMethod   Fault = "clear-method"   // wants the password as it is
	OfferKey      Fault = "offer-key"      // hands out a key to put the password under, unasked
	HangTLS       Fault = "hang-tls"       // agrees to TLS and stops
	NoCatalogue   Fault = "no-catalogue"   // will not say which tables exist
	OldVariables  Fault = "old-variables"  // does not know one of the variables asked for
	FloodRows     Fault = "flood-rows"     // answers a list of databases without end
)

// Account is an account: a name and the host that it may come from.
type Account struct {
	User      string
	Host      string // "%" for anywhere, "localhost", "127.0.0.1"
	Password  string
	Stored    string // in place of a password: what is kept of one for mysql_native_password
	Lifetime  string // how its password ends, in the words of a statement
	Method    string // "mysql_native_password" or "caching_sha2_password"; "" is the server's
	Locked    bool
	Expired   bool
	NeedsTLS  bool
	Admin     bool
	Databases []string // it has rights in; an Admin has them in all
}

// Config is what a server has and does.
type Config struct {
	Version   string // "8.0.36"; one with MariaDB in it makes it that
	UUID      string
	Accounts  []Account
	Databases []string
	Tables    []string // in each database
	Method    string   // the greeting's; "" for caching_sha2_password, on MariaDB mysql_native_password
	Fault     Fault
	Delay     time.Duration // before each answer of a Slow server
	ReadOnly  bool
	NoNames   bool        // sees 127.0.0.1 where others see localhost, over TCP
	Seen      string      // the address that it sees connections over TCP come from, with NoNames; "" for 127.0.0.1
	TLS       *tls.Config // nil: TLS is not offered
	Socket    string      // a path to listen on besides TCP
	Started   time.Time   // zero for some hours ago

	// Answer answers a command by packets; where it is nil, or returns false, the server answers only a test's
	// statements.
	Answer func(write func(packet []byte) error, command byte, body string) bool
}

// Server is a running simulated server.
type Server struct {
	Config
	serve.Listeners
	key    func() *rsa.PrivateKey // for passwords without TLS; made at the first use, as that takes a tenth of a second
	mu     sync.Mutex
	cached map[string]bool // accounts whose hash is in the cache
	from   map[int]string  // by a connection's number: from where it comes
	files  []byte          // what came in answer to a wish for a file
}

// Start starts a server; Close ends it.
func Start(c Config) (*Server, error) {
	if c.Version == "" {
		c.Version = "8.0.36"
	}
	if c.Method == "" {
		c.Method = caching
		if isMariaDB(c.Version) {
			c.Method = native
		}
	}
	if c.Started.IsZero() {
		c.Started = time.Now().Add(-26 * time.Hour)
	}
	s := &Server{Config: c, cached: make(map[string]bool), from: make(map[int]string)}
	s.key = sync.OnceValue(func() *rsa.PrivateKey {
		key, err := rsa.GenerateKey(rand.Reader, 2048)
		if err != nil {
			panic(err) // without random numbers (crypto/rand)
		}
		return key
	})
	if err := s.ListenAt(c.Socket); err != nil {
		return nil, err
	}
	s.Serve(s.serve)
	return s, nil
}

// Files are the clients' answers to requests for a file.
func (s *Server) Files() []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.files
}

// serve holds one connection.
func (s *Server) serve(conn net.Conn, number int) {
	session := &session{Server: s, wire: &wire{conn: conn}, raw: conn, number: number}
	if session.misbehave() {
		return
	}
	s.mu.Lock()
	s.from[number] = session.clientHost()
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		delete(s.from, number)
		s.mu.Unlock()
	}()
	if session.login() == nil {
		session.answer()
	}
}

var errEnded = errors.New("ended")

// misbehave does the faults that come instead of a greeting.
func (s *session) misbehave() bool {
	refuse := func(code uint16, text string) {
		s.wire.write(append([]byte{0xff, byte(code), byte(code >> 8)}, text...))
	}
	switch s.Fault {
	case Full:
		refuse(1040, "Too many connections")
	case Blocked:
		refuse(1129, "Host '127.0.0.1' is blocked because of many connection errors; unblock with 'mysqladmin flush-hosts'")
	case NotAllowed:
		host := s.Seen
		if host == "" {
			host = "127.0.0.1"
		}
		refuse(1130, "Host '"+host+"' is not allowed to connect to this MySQL server")
	case Stopping:
		refuse(1053, "Server shutdown in progress")
	case Silent:
		io.Copy(io.Discard, s.raw)
	case CloseAtOnce:
	case Garbage:
		s.raw.Write([]byte("\x00\x01\x02\xfftide \x1b]0;gone\x07 table"))
		io.Copy(io.Discard, io.LimitReader(s.raw, 64))
	case OldProtocol:
		s.wire.write([]byte("\x093.23.58\x00\x01\x00\x00\x00saltsalt\x00\x0c\x00"))
		io.Copy(io.Discard, s.raw)
	case HugeLength:
		s.raw.Write(append([]byte{0xff, 0xff, 0xff, 0}, s.greeting()...))
		io.Copy(io.Discard, s.raw)
	case HalfGreeting:
		body := s.greeting()
		s.raw.Write(append([]byte{byte(len(body)), 0, 0, 0}, body[:20]...))
	case Trickle:
		for _, b := range append([]byte{byte(len(s.greeting())), 0, 0, 0}, s.greeting()...) {
			if _, err := s.raw.Write([]byte{b}); err != nil {
				return true
			}
			time.Sleep(time.Second)
		}
	case Endless:
		for {
			if _, err := s.raw.Write([]byte("ebb and flow, ebb and flow, ebb and flow, ")); err != nil {
				return true
			}
		}
	default:
		return false
	}
	return true
}

func (s *Server) wait() {
	if s.Fault == Slow {
		time.Sleep(s.Delay)
	}
}
