// Package oracle is a simulated listener and server of Oracle's databases, for the demo and for tests, as none can be
// installed there. The listener accepts, refuses with its codes, redirects and asks for the connect packet again,
// with or without TLS. The server does the login by the 12c verifier as the open-source driver
// github.com/sijms/go-ora/v2 does it, and answers the few statements of a test in an old version of the protocol,
// whose forms are the shortest. It listens on loopback only and stores nothing. A test with it shows that gharbor and
// that driver work together, not how a real server behaves.
package oracle

import (
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"gentleharbor/standin/serve"
)

// Fault is something that a server does wrong.
type Fault string

// The faults.
const (
	NoFault      Fault = ""
	Silent       Fault = "silent"         // accepts and says nothing
	CloseAtOnce  Fault = "close-at-once"  // accepts and closes
	Garbage      Fault = "garbage"        // bytes of no protocol
	Endless      Fault = "endless"        // garbage without end
	Trickle      Fault = "trickle"        // a byte of the answer a second
	HalfAnswer   Fault = "half-answer"    // ends in the middle of its answer
	BadAccept    Fault = "bad-accept"     // accepts in a form that makes no sense
	ResendAlways Fault = "resend-always"  // asks for the connect packet again and again
	Escapes      Fault = "escapes"        // control sequences in what it says
	CloseAtLogin Fault = "close-at-login" // closes when the login has come
	HangAtLogin  Fault = "hang-at-login"  // says nothing more when the login has come
	HugeAtLogin  Fault = "huge-at-login"  // answers the login with a packet that says it has 1 GiB
	NoiseAtLogin Fault = "noise-at-login" // answers the login with bytes that make no sense
	NoMethod     Fault = "no-method"      // takes no method of login that the client has
	WeakVerifier Fault = "weak-verifier"  // asks by the verifier of before 11g
	LoseSession  Fault = "lose-session"   // closes at the first statement
	HangSession  Fault = "hang-session"   // does not answer the first statement
)

// State is that of a service.
type State string

// The states.
const (
	Up        State = ""
	Blocked   State = "blocked"    // ORA-12528
	NoHandler State = "no-handler" // ORA-12516
	Down      State = "down"       // the listener lets one in, and the instance is not there: ORA-01034
	Starting  State = "starting"   // ORA-01033
	Filtered  State = "filtered"   // ORA-12529
)

// Account is a database account.
type Account struct {
	User      string // in capital letters
	Password  string
	Locked    bool
	Expired   bool
	Grace     bool // a warning that it is about to expire
	NoSession bool // without the right to log in
	DBA       bool // may log in as sysdba, and read the catalogue
}

// Config is what a server has and does.
type Config struct {
	Services  map[string]State // by name, in capital letters
	Instances []string
	Accounts  []Account
	Tables    []string // OWNER.NAME in capital letters
	Fault     Fault
	Redirect  string      // "host:port" to send everybody to, "" for nowhere
	Resend    bool        // asks for the connect packet once more before it accepts, as real ones do
	TLS       *tls.Config // nil: in the clear
	Standby   bool        // a physical standby, open to read
	Version   uint32      // 0x13000000 is 19.0.0.0.0
	Delay     time.Duration
	Answer    func(Question) *Answer // to a statement; nil, or nil from it: what the server knows by itself
}

// Server is a running simulated server.
type Server struct {
	Config
	serve.Listeners
	mu     sync.Mutex
	logins int
	asked  []string
	given  map[string][]string // rights on tables: "ACCOUNT OWNER.TABLE"
}

// Start starts a server; Close ends it.
func Start(c Config) (*Server, error) {
	if c.Version == 0 {
		c.Version = 0x13000000
	}
	s := &Server{Config: c}
	if err := s.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, err
	}
	s.Serve(s.serve)
	return s, nil
}

// Logins is how many logins were begun.
func (s *Server) Logins() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.logins
}

// Descriptors lists the received connect descriptors, for tests.
func (s *Server) Descriptors() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]string(nil), s.asked...)
}

// serve holds one connection.
func (s *Server) serve(conn net.Conn, _ int) {
	if s.TLS != nil {
		secure := tls.Server(conn, s.TLS)
		if secure.Handshake() != nil {
			return
		}
		conn = secure
	}
	switch s.Fault {
	case Silent:
		io.Copy(io.Discard, conn)
		return
	case CloseAtOnce:
		return
	case Garbage:
		conn.Write([]byte("\x00\x01\x02\xfftide \x1b]0;gone\x07 table"))
		io.Copy(io.Discard, io.LimitReader(conn, 64))
		return
	case Endless:
		for {
			if _, err := conn.Write([]byte("ebb and flow, ebb and flow, ebb and flow, ")); err != nil {
				return
			}
		}
	}
	time.Sleep(s.Delay)
	if s.listen(conn) {
		(&session{Server: s, conn: conn}).answer()
	}
}

// listen answers connect packets, and reports whether one was accepted.
func (s *Server) listen(conn net.Conn) (accepted bool) {
	for resends := 0; ; resends++ {
		wanted, err := readConnect(conn)
		if err != nil {
			return false
		}
		s.mu.Lock()
		if len(s.asked) < 1000 {
			s.asked = append(s.asked, wanted.descriptor)
		}
		s.mu.Unlock()
		if s.Fault == ResendAlways || s.Resend && resends == 0 && !wanted.ping() {
			conn.Write([]byte{0, 8, 0, 0, typeResend, 0, 0, 0})
			continue
		}
		reply := s.reply(wanted)
		switch s.Fault {
		case HalfAnswer:
			conn.Write(reply[:len(reply)/2])
			return false
		case Trickle:
			for _, b := range reply {
				if _, err := conn.Write([]byte{b}); err != nil {
					return false
				}
				time.Sleep(time.Second)
			}
		default:
			conn.Write(reply)
		}
		return reply[4] == typeAccept
	}
}

// reply is the answer to a connect packet.
func (s *Server) reply(wanted connect) []byte {
	if wanted.ping() {
		return refuse(fmt.Sprintf("(DESCRIPTION=(TMP=)(VSNNUM=%d)(ERR=0)(ALIAS=LISTENER))", s.Version))
	}
	no := func(code int) []byte {
		text := fmt.Sprintf("(DESCRIPTION=(TMP=)(VSNNUM=%d)(ERR=%d)(ERROR_STACK=(ERROR=(CODE=%d)(EMFI=4))))", s.Version,
			code, code)
		if s.Fault == Escapes {
			text = "\x1b]0;gone\x07" + text + "\x1b[2J\u202e"
		}
		return refuse(text)
	}
	if s.Redirect != "" {
		host, port, _ := net.SplitHostPort(s.Redirect)
		return redirect(fmt.Sprintf("(DESCRIPTION=(ADDRESS=(PROTOCOL=tcp)(HOST=%s)(PORT=%s)))", host, port))
	}
	name, service := wanted.value("SERVICE_NAME")
	if !service {
		sid, _ := wanted.value("SID")
		for _, one := range s.Instances {
			if strings.EqualFold(one, sid) {
				return s.accept(wanted)
			}
		}
		return no(12505)
	}
	state, known := s.Services[strings.ToUpper(name)]
	switch {
	case !known:
		return no(12514)
	case state == Blocked:
		return no(12528)
	case state == Filtered:
		return no(12529)
	case state == NoHandler:
		return no(12516)
	}
	return s.accept(wanted)
}

func (s *Server) accept(wanted connect) []byte {
	reply := accept(wanted)
	if s.Fault == BadAccept {
		reply[20], reply[21] = 0xff, 0xff // data far behind the end
	}
	return reply
}
