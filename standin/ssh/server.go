// Package ssh is a simulated jump host for the demo, and for tests of faults that a real one cannot show. Accounts
// log in by key, by password or by questions. It forwards connections to addresses that it knows by name, and has
// scripted faults. It runs no command and has no shell. It listens on loopback only.
package ssh

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"gentleharbor/core/defect"
	"gentleharbor/standin/serve"
)

// Fault is something that a server does wrong.
type Fault string

// The faults.
const (
	NoFault  Fault = ""
	Silent   Fault = "silent"    // accepts and says nothing
	Close    Fault = "close"     // accepts and closes
	Garbage  Fault = "garbage"   // bytes of no protocol
	Endless  Fault = "endless"   // lines without end before its greeting
	Escape   Fault = "escape"    // control sequences in what it says
	Forbid   Fault = "forbid"    // no forwarding
	HangOpen Fault = "hang-open" // does not answer the wish for a connection
	Drop     Fault = "drop"      // ends the connection when one is asked for
	Mute     Fault = "mute"      // goes silent after the first login
)

// Account is one that may log in.
type Account struct {
	Keys      []ssh.PublicKey
	Password  string
	Questions []string // asked one by one; the answers are those of Answers
	Answers   []string
}

// Config is what a server has and does.
type Config struct {
	Address  string             // "" for 127.0.0.1 and a free port
	Accounts map[string]Account // by user
	// "name:port" as asked for to the address that is dialled; one that is not here is not known
	Hosts    map[string]string
	Refusals map[string]string // "name:port" to the message for one that can't be reached
	HostKey  ssh.Signer        // nil for one made at start
	Banner   string
	Fault    Fault
}

// Server is a running simulated jump host.
type Server struct {
	Config
	serve.Listeners

	logins atomic.Int32

	mu    sync.Mutex
	asked []string // the addresses asked for
}

// Start starts a server; Close ends it.
func Start(c Config) (*Server, error) {
	if c.Address == "" {
		c.Address = "127.0.0.1:0"
	}
	if c.HostKey == nil {
		_, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		if c.HostKey, err = ssh.NewSignerFromKey(private); err != nil {
			return nil, err
		}
	}
	s := &Server{Config: c}
	if err := s.Listen("tcp", c.Address); err != nil {
		return nil, err
	}
	s.Serve(func(conn net.Conn, _ int) { s.serve(conn) })
	return s, nil
}

// NewKey makes a private key file of OpenSSH's format, and returns its public part.
func NewKey(path string) (ssh.PublicKey, error) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "keeper")
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o600); err != nil {
		return nil, err
	}
	return ssh.NewPublicKey(public)
}

// Targets lists the addresses that were asked for, in order.
func (s *Server) Targets() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]string(nil), s.asked...)
}

// serve holds one connection.
func (s *Server) serve(conn net.Conn) {
	if s.misbehave(conn) {
		return
	}
	conn.SetDeadline(time.Time{}) // a tunnel stays
	whole, channels, requests, err := ssh.NewServerConn(conn, s.config())
	if err != nil {
		return
	}
	gone := make(chan struct{})
	defect.Go(func() {
		whole.Wait()
		close(gone)
	})
	if s.Fault == Mute && s.logins.Add(1) == 1 {
		<-gone
		return
	}
	defect.Go(func() { s.requests(requests) })
	var group defect.Group
	for c := range channels {
		if s.Fault == Drop {
			return
		}
		group.Go(func() { s.channel(c, gone) })
	}
	group.Wait()
}

// misbehave does a fault of the greeting; done is whether that was all.
func (s *Server) misbehave(conn net.Conn) (done bool) {
	switch s.Fault {
	case Silent:
		io.Copy(io.Discard, conn)
	case Close:
	case Garbage:
		conn.Write([]byte("\x16\x03\x01\x00\x02\x01\x00 no greeting\r\n"))
		io.Copy(io.Discard, conn)
	case Endless:
		line := append(bytes.Repeat([]byte("ebb "), 60), '\n')
		for {
			if _, err := conn.Write(line); err != nil {
				return true
			}
		}
	default:
		return false
	}
	return true
}

func (s *Server) config() *ssh.ServerConfig {
	c := &ssh.ServerConfig{ServerVersion: "SSH-2.0-Saltmarsh_1", MaxAuthTries: 6}
	c.AddHostKey(s.HostKey)
	text := s.Banner
	if s.Fault == Escape {
		text = "\x1b[2Jwelcome\x1b]0;gate\x07"
	}
	if text != "" {
		c.BannerCallback = func(ssh.ConnMetadata) string { return text }
	}
	c.PublicKeyCallback = func(meta ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		for _, known := range s.Accounts[meta.User()].Keys {
			if bytes.Equal(known.Marshal(), key.Marshal()) {
				return nil, nil
			}
		}
		return nil, errors.New("not one of its keys")
	}
	for _, a := range s.Accounts {
		if a.Password != "" {
			c.PasswordCallback = func(meta ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
				if want := s.Accounts[meta.User()].Password; want != "" && string(password) == want {
					return nil, nil
				}
				return nil, errors.New("not its password")
			}
		}
		if len(a.Questions) > 0 {
			c.KeyboardInteractiveCallback = s.question
		}
	}
	return c
}

// question asks an account's questions.
func (s *Server) question(meta ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
	a := s.Accounts[meta.User()]
	for i, question := range a.Questions {
		answers, err := ask("", "", []string{question}, []bool{false})
		if err != nil {
			return nil, err
		}
		if len(answers) != 1 || answers[0] != a.Answers[i] {
			return nil, errors.New("not the answer")
		}
	}
	if len(a.Questions) == 0 {
		return nil, errors.New("no account")
	}
	return nil, nil
}

// requests answers requests about the whole connection.
func (s *Server) requests(all <-chan *ssh.Request) {
	for r := range all {
		if r.WantReply {
			r.Reply(false, nil)
		}
	}
}

// channel opens one connection (RFC 4254, section 7.2).
func (s *Server) channel(c ssh.NewChannel, gone <-chan struct{}) {
	var want struct {
		Host  string
		Port  uint32
		From  string
		FromP uint32
	}
	if c.ChannelType() != "direct-tcpip" || ssh.Unmarshal(c.ExtraData(), &want) != nil {
		c.Reject(ssh.UnknownChannelType, "only connections are forwarded")
		return
	}
	name := net.JoinHostPort(want.Host, strconv.Itoa(int(want.Port)))
	s.mu.Lock()
	s.asked = append(s.asked, name)
	s.mu.Unlock()
	switch s.Fault {
	case Forbid:
		c.Reject(ssh.Prohibited, "open failed")
		return
	case Escape:
		c.Reject(ssh.ConnectionFailed, "\x1b[31mno\x1b[0m\u202e")
		return
	case HangOpen:
		<-gone
		return
	}
	if text := s.Refusals[name]; text != "" {
		c.Reject(ssh.ConnectionFailed, text)
		return
	}
	address, known := s.Hosts[name]
	if !known {
		c.Reject(ssh.ConnectionFailed, "Name or service not known")
		return
	}
	conn, err := net.DialTimeout("tcp", address, 10*time.Second)
	if err != nil {
		c.Reject(ssh.ConnectionFailed, "Connection refused")
		return
	}
	defer conn.Close()
	channel, requests, err := c.Accept()
	if err != nil {
		return
	}
	defer channel.Close()
	defect.Go(func() { ssh.DiscardRequests(requests) })
	done := make(chan struct{})
	defect.Go(func() {
		defer close(done)
		io.Copy(conn, channel)
		conn.(*net.TCPConn).CloseWrite()
	})
	io.Copy(channel, conn)
	channel.CloseWrite()
	<-done
}

// KnownLine is the server's line in a known-hosts file.
func (s *Server) KnownLine() string {
	return fmt.Sprintf("[127.0.0.1]:%d %s", s.Port(), bytes.TrimSpace(ssh.MarshalAuthorizedKey(s.HostKey.PublicKey())))
}
