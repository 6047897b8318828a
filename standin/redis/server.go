// Package redis is a simulated Redis server for the demo, and for tests of faults that a real one cannot show. It has
// users with passwords, some commands on texts, hashes and lists, the facts that a test asks for, and scripted
// faults. It listens on loopback or a Unix socket only, and keeps its data until it is closed.
package redis

import (
	"bufio"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"gentleharbor/standin/serve"
)

// Fault is an error of a server, or a state that is hard to produce in a real one.
type Fault string

// The faults.
const (
	NoFault      Fault = ""
	Silent       Fault = "silent"        // accepts and says nothing
	CloseAtOnce  Fault = "close-at-once" // accepts and closes
	Garbage      Fault = "garbage"       // bytes of no protocol
	Half         Fault = "half"          // closes in the middle of its first answer
	HugeText     Fault = "huge-text"     // a text that says it has 2 GiB
	HugeList     Fault = "huge-list"     // a list that says it has 2^60 items
	Deep         Fault = "deep"          // a list in a list, 100,000 times
	EndlessLine  Fault = "endless-line"  // a line that never ends
	Protected    Fault = "protected"     // protected mode
	Loading      Fault = "loading"       // still reads its data
	Full         Fault = "full"          // has as many clients as it takes
	Busy         Fault = "busy"          // runs a script
	Sentinel     Fault = "sentinel"      // watches others
	Unsaved      Fault = "unsaved"       // could not save, and takes no writes
	MemoryFull   Fault = "memory-full"   // and refuses to write
	LinkDown     Fault = "link-down"     // a replica without its primary
	Moved        Fault = "moved"         // a cluster whose keys are elsewhere
	CloseAtLogin Fault = "close-at-login"
	HangAtLogin  Fault = "hang-at-login"
	LoseSession  Fault = "lose-session" // closes at INFO
	HangSession  Fault = "hang-session" // does not answer INFO
	FewRights    Fault = "few-rights"   // users may not read facts, or choose a database
	Escape       Fault = "escape"       // control sequences in an error's text
	Old          Fault = "old"          // before version 6: no users, no HELLO
)

// Config is what a server has and does.
type Config struct {
	Version  string // "7.2.4"
	Name     string // what it calls itself, "" for redis
	Password string // of the user default, "" for none
	Users    map[string]string
	Off      []string // users that are switched off
	Fault    Fault
	MovedTo  string // where the keys of a Moved server are
	TLS      *tls.Config
	Socket   string
	Saves    bool // snapshots on disk
	Keys     map[string]string
}

// Server is a running simulated server.
type Server struct {
	Config
	serve.Listeners
	mu      sync.Mutex
	texts   map[string]string
	hashes  map[string]map[string]string
	lists   map[string][]string
	expires map[string]time.Time
	waiting chan struct{} // a client that waits; nil for none
}

// Start starts a server; Close ends it.
func Start(c Config) (*Server, error) {
	if c.Version == "" {
		c.Version = "7.2.4"
	}
	if c.Users == nil {
		c.Users = make(map[string]string)
	}
	s := &Server{
		Config: c, texts: make(map[string]string), hashes: make(map[string]map[string]string),
		lists: make(map[string][]string), expires: make(map[string]time.Time),
	}
	for name, text := range c.Keys {
		s.texts[name] = text
	}
	if err := s.ListenAt(c.Socket); err != nil {
		return nil, err
	}
	s.Serve(s.serve)
	return s, nil
}

// client is one connection.
type client struct {
	*Server
	in       *bufio.Reader
	out      *bufio.Writer
	id       int
	user     string
	in3      bool // it speaks version 3 of the protocol
	loggedIn bool
	queue    [][]string // between MULTI and EXEC; nil outside
}

func (s *Server) serve(conn net.Conn, number int) {
	switch s.Fault {
	case CloseAtOnce:
		return
	case Silent:
		io.Copy(io.Discard, conn)
		return
	}
	if s.TLS != nil {
		conn = tls.Server(conn, s.TLS)
	}
	c := &client{
		Server: s, in: bufio.NewReader(conn), out: bufio.NewWriter(conn), id: number, user: "default",
		loggedIn: s.Password == "",
	}
	for {
		words, err := c.read()
		if err != nil {
			return
		}
		goesOn := len(words) == 0 || c.answer(words) // an empty line is no command
		if c.in.Buffered() == 0 || !goesOn {
			c.out.Flush()
		}
		if !goesOn {
			return
		}
	}
}

// read reads a command: a list of texts, or a line.
func (c *client) read() ([]string, error) {
	line, err := c.in.ReadString('\n')
	if err != nil {
		return nil, err
	}
	line = strings.TrimRight(line, "\r\n")
	if !strings.HasPrefix(line, "*") {
		return strings.Fields(line), nil
	}
	n, err := strconv.Atoi(line[1:])
	if err != nil || n < 0 || n > 1000 {
		return nil, io.ErrUnexpectedEOF
	}
	words := make([]string, n)
	for i := range words {
		if line, err = c.in.ReadString('\n'); err != nil {
			return nil, err
		}
		size, err := strconv.Atoi(strings.Trim(line, "$\r\n"))
		if err != nil || size < 0 || size > 1<<20 {
			return nil, io.ErrUnexpectedEOF
		}
		text := make([]byte, size+2)
		if _, err := io.ReadFull(c.in, text); err != nil {
			return nil, err
		}
		words[i] = string(text[:size])
	}
	return words, nil
}

// status, and those after it, write an answer of one kind.
func (c *client) status(text string) { fmt.Fprintf(c.out, "+%s\r\n", text) }
func (c *client) refuse(text string) { fmt.Fprintf(c.out, "-%s\r\n", text) }
func (c *client) number(n int)       { fmt.Fprintf(c.out, ":%d\r\n", n) }
func (c *client) text(text string)   { fmt.Fprintf(c.out, "$%d\r\n%s\r\n", len(text), text) }

func (c *client) nothing() {
	if c.in3 {
		c.out.WriteString("_\r\n")
		return
	}
	c.out.WriteString("$-1\r\n")
}

func (c *client) list(all []string) {
	fmt.Fprintf(c.out, "*%d\r\n", len(all))
	for _, text := range all {
		c.text(text)
	}
}

// pairs are names and values.
func (c *client) pairs(all ...string) {
	if c.in3 {
		fmt.Fprintf(c.out, "%%%d\r\n", len(all)/2)
	} else {
		fmt.Fprintf(c.out, "*%d\r\n", len(all))
	}
	for _, text := range all {
		c.text(text)
	}
}

// answer answers a command. It reports whether the connection goes on.
func (c *client) answer(words []string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	command := strings.ToUpper(words[0])
	if done, goesOn := c.misbehave(command); done {
		return goesOn
	}
	switch command {
	case "QUIT":
		c.status("OK")
		return false
	case "AUTH":
		return c.authenticate(words[1:])
	case "HELLO":
		return c.hello(words)
	}
	if !c.loggedIn {
		c.refuse("NOAUTH Authentication required.")
		return true
	}
	switch {
	case command == "BLPOP":
		c.wait()
	case command == "MULTI":
		c.queue = [][]string{}
		c.status("OK")
	case command == "DISCARD" && c.queue != nil:
		c.queue = nil
		c.status("OK")
	case command == "EXEC" && c.queue != nil:
		all := c.queue
		c.queue = nil
		fmt.Fprintf(c.out, "*%d\r\n", len(all))
		for _, one := range all {
			c.carryOut(one)
		}
	case c.queue != nil:
		c.queue = append(c.queue, words)
		c.status("QUEUED")
	default:
		c.carryOut(words)
	}
	return true
}

// misbehave does the server's fault if it is due.
func (c *client) misbehave(command string) (done, goesOn bool) {
	refusals := map[Fault]string{
		Protected: "DENIED Redis is running in protected mode because protected mode is enabled and no password is set.",
		Loading:   "LOADING Redis is loading the dataset in memory",
		Full:      "ERR max number of clients reached",
		Busy:      "BUSY Redis is busy running a script. You can only call SCRIPT KILL or SHUTDOWN NOSAVE.",
		Escape:    "ERR \x1b[31mred\x1b[0m and \u202eturned",
	}
	if text := refusals[c.Fault]; text != "" && (command == "PING" || c.Fault != Escape) {
		if c.Fault == Busy && command == "HELLO" {
			return false, true
		}
		c.refuse(text)
		return true, c.Fault == Loading || c.Fault == Busy || c.Fault == Escape
	}
	switch c.Fault {
	case Garbage:
		c.out.WriteString("kiwit kiwit kiwit\n")
		return true, true
	case Half:
		c.out.WriteString("+PO")
		return true, false
	case HugeText:
		c.out.WriteString("$2147483647\r\nx")
	case HugeList:
		c.out.WriteString("*1152921504606846976\r\n")
	case Deep:
		c.out.WriteString(strings.Repeat("*1\r\n", 100_000))
	case EndlessLine:
		c.out.WriteString("+" + strings.Repeat("kiwit ", 100_000))
	case LoseSession:
		return command == "INFO", false
	case CloseAtLogin:
		return command == "AUTH", false
	case HangAtLogin, HangSession:
		if command == map[Fault]string{HangAtLogin: "AUTH", HangSession: "INFO"}[c.Fault] {
			c.out.Flush()
			io.Copy(io.Discard, c.in)
			return true, false
		}
		return false, true
	case Unsaved:
		if command == "PING" && c.loggedIn {
			c.refuse("MISCONF Redis is configured to save RDB snapshots, but it's currently unable to persist to disk.")
			return true, true
		}
		return false, true
	default:
		return false, true
	}
	return true, true
}

// authenticate answers AUTH.
func (c *client) authenticate(words []string) bool {
	user, password := "default", ""
	switch {
	case len(words) == 1:
		password = words[0]
	case len(words) == 2 && c.Fault != Old:
		user, password = words[0], words[1]
	default:
		c.refuse("ERR wrong number of arguments for 'auth' command")
		return true
	}
	if len(words) == 1 && c.Password == "" {
		c.refuse("ERR AUTH <password> called without any password configured for the default user. Are you sure your " +
			"configuration is correct?")
		return true
	}
	want, known := c.Users[user]
	if user == "default" {
		want, known = c.Password, true
	}
	if !known || want != password || slices.Contains(c.Off, user) {
		if c.Fault == Old {
			c.refuse("ERR invalid password")
		} else {
			c.refuse("WRONGPASS invalid username-password pair or user is disabled.")
		}
		return true
	}
	c.user, c.loggedIn = user, true
	c.status("OK")
	return true
}

// hello answers HELLO.
func (c *client) hello(words []string) bool {
	if c.Fault == Old {
		c.refuse("ERR unknown command 'HELLO', with args beginning with: '3'")
		return true
	}
	if !c.loggedIn {
		c.refuse("NOAUTH HELLO must be called with the client already authenticated, otherwise the HELLO <proto> AUTH " +
			"<user> <pass> option can be used to authenticate the client and select the RESP protocol version at the same time")
		return true
	}
	c.in3 = len(words) > 1 && words[1] == "3"
	name, mode := c.Name, "standalone"
	if name == "" {
		name = "redis"
	}
	switch c.Fault {
	case Sentinel:
		mode = "sentinel"
	case Moved:
		mode = "cluster"
	}
	c.pairs("server", name, "version", c.Version, "proto", "3", "id", strconv.Itoa(c.id), "mode", mode, "role", "master",
		"modules", "")
	return true
}

// hashOf is what a server keeps of a password.
func hashOf(password string) string {
	sum := sha256.Sum256([]byte(password))
	return hex.EncodeToString(sum[:])
}

// wait waits until another client ends that.
func (c *client) wait() {
	waiting := make(chan struct{})
	c.waiting = waiting
	c.mu.Unlock()
	select {
	case <-waiting:
	case <-time.After(10 * time.Second):
	}
	c.mu.Lock()
	c.refuse("UNBLOCKED client unblocked via CLIENT UNBLOCK")
}

// unblock ends the wait of a client, and returns how many it ended.
func (s *Server) unblock() int {
	if s.waiting == nil {
		return 0
	}
	close(s.waiting)
	s.waiting = nil
	return 1
}
