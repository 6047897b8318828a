// Package mongodb is a simulated MongoDB server for the demo and for tests. It has logins by SCRAM, PLAIN and
// certificates, is a primary, a secondary or without a replica set, finds and adds documents, answers what a test
// asks, and has scripted faults. It listens on loopback or a Unix socket only, and keeps its data until it is closed.
package mongodb

import (
	"crypto/md5"
	"crypto/rand"
	"crypto/tls"
	"encoding/binary"
	"encoding/hex"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/xdg-go/scram"
	"go.mongodb.org/mongo-driver/v2/bson"

	"gentleharbor/standin/serve"
)

// Fault is an error of a server, or a state that is hard to produce in a real one.
type Fault string

// The faults.
const (
	NoFault       Fault = ""
	Silent        Fault = "silent"
	CloseAtOnce   Fault = "close-at-once"
	Garbage       Fault = "garbage"
	Half          Fault = "half"         // closes in the middle of its first answer
	HugeLength    Fault = "huge-length"  // a message that says it has 2 GiB
	WrongLength   Fault = "wrong-length" // a document that does not end where it says
	Deep          Fault = "deep"         // a document in a document, 100,000 times
	OtherAnswer   Fault = "other-answer" // an answer to something that was not asked
	OldWire       Fault = "old-wire"     // speaks a version of the protocol that is too old
	OldHello      Fault = "old-hello"    // of version 3.6: it knows isMaster, and SCRAM-SHA-1 alone
	OldMessages   Fault = "old-messages" // knows only the older message
	Starting      Fault = "starting"     // recovers
	Stopping      Fault = "stopping"     // shuts down
	Limited       Fault = "limited"      // takes no more requests
	CloseAtLogin  Fault = "close-at-login"
	HangAtLogin   Fault = "hang-at-login"
	FewRounds     Fault = "few-rounds"     // asks for 5 rounds of SCRAM
	ManyRounds    Fault = "many-rounds"    // asks for two thousand million
	NotProved     Fault = "not-proved"     // accepts, and does not prove that it knows the password
	OddMethod     Fault = "odd-method"     // offers a method that nobody knows
	NoMethod      Fault = "no-method"      // refuses the method that it offered
	NoPrimary     Fault = "no-primary"     // a set without one
	LoseSession   Fault = "lose-session"   // closes at buildInfo
	HangSession   Fault = "hang-session"   // does not answer buildInfo
	NoRights      Fault = "no-rights"      // accounts have rights in other databases
	EndlessCursor Fault = "endless-cursor" // batches without documents, and without end
	Elsewhere     Fault = "elsewhere"      // a primary that tells of members which nobody wrote
	Escape        Fault = "escape"         // control sequences in an error's text
)

// Account is a user.
type Account struct {
	User     string
	Password string
	Source   string // the database that it was made in; "" for admin
	Method   string // "SCRAM-SHA-256", "SCRAM-SHA-1", "PLAIN", "MONGODB-X509"; "" for the first
	Role     string // on the databases; "" for readWrite
}

// Config is what a server has and does.
type Config struct {
	Version  string // "7.0.14"
	Name     string // what it calls itself, "" for nothing
	Open     bool   // it wants no login
	Accounts []Account
	Set      string // the name of its replica set, "" for none
	Role     string // "primary", "secondary" or "router"
	Members  []string
	Fault    Fault
	TLS      *tls.Config
	Socket   string
}

// Server is a running simulated server.
type Server struct {
	Config
	serve.Listeners
	mu        sync.Mutex
	databases map[string]map[string][]bson.D // documents, by database and collection
	process   bson.ObjectID
	cursors   map[int64]*cursor
	lastID    int64
	killed    chan struct{} // ends a command that waits
}

// cursor is what is left of an answer.
type cursor struct {
	ns   string
	rest []bson.D
}

// Start starts a server; Close ends it.
func Start(c Config) (*Server, error) {
	if c.Version == "" {
		c.Version = "7.0.14"
	}
	s := &Server{
		Config: c, databases: make(map[string]map[string][]bson.D), process: bson.ObjectID{0x6b, 0x0a, 0x5e, 0xa5, 0x17},
		cursors: make(map[int64]*cursor), killed: make(chan struct{}, 1),
	}
	if err := s.ListenAt(c.Socket); err != nil {
		return nil, err
	}
	s.Serve(s.serve)
	return s, nil
}

// Add adds documents to a collection.
func (s *Server) Add(database, collection string, documents ...bson.D) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.add(database, collection, documents...)
}

func (s *Server) add(database, collection string, documents ...bson.D) {
	if s.databases[database] == nil {
		s.databases[database] = make(map[string][]bson.D)
	}
	for _, d := range documents {
		if !hasKey(d, "_id") {
			d = append(bson.D{{Key: "_id", Value: bson.NewObjectID()}}, d...)
		}
		s.databases[database][collection] = append(s.databases[database][collection], d)
	}
}

func hasKey(d bson.D, name string) bool {
	for _, e := range d {
		if e.Key == name {
			return true
		}
	}
	return false
}

// client is one connection.
type client struct {
	*Server
	conn   net.Conn
	number int
	user   *Account
	talk   *scram.ServerConversation
	as     *Account // of the talk
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
	c := &client{Server: s, conn: conn, number: number}
	for {
		code, id, command, err := c.read()
		if err != nil {
			return
		}
		if code != opMsg && s.Fault != OldMessages || code == opMsg && s.Fault == OldMessages {
			return
		}
		answer, goesOn := c.answer(command)
		if answer == nil {
			return
		}
		if err := c.write(code, id, answer); err != nil || !goesOn {
			return
		}
	}
}

const (
	opQuery = 2004
	opReply = 1
	opMsg   = 2013
)

// read reads a message.
func (c *client) read() (code uint32, id int32, command bson.D, err error) {
	head := make([]byte, 16)
	if _, err := io.ReadFull(c.conn, head); err != nil {
		return 0, 0, nil, err
	}
	size := binary.LittleEndian.Uint32(head)
	code = binary.LittleEndian.Uint32(head[12:])
	if size < 21 || size > 48<<20 {
		return 0, 0, nil, io.ErrUnexpectedEOF
	}
	body := make([]byte, size-16)
	if _, err := io.ReadFull(c.conn, body); err != nil {
		return 0, 0, nil, err
	}
	switch code {
	case opMsg:
		body = body[5:]
	case opQuery:
		_, rest, _ := strings.Cut(string(body[4:]), "\x00")
		body = []byte(rest)[8:]
	}
	err = bson.Unmarshal(body, &command)
	return code, int32(binary.LittleEndian.Uint32(head[4:])), command, err
}

// write writes an answer, or does the fault that is due.
func (c *client) write(code uint32, id int32, answer bson.D) error {
	document, err := bson.Marshal(answer)
	if err != nil {
		return err
	}
	switch c.Fault {
	case Deep:
		document = deep(100_000)
	case WrongLength:
		document[0]++
	case OtherAnswer:
		id += 7
	}
	body := append([]byte{0, 0, 0, 0, 0}, document...)
	kind := uint32(opMsg)
	if code == opQuery {
		body, kind = append(make([]byte, 16), append([]byte{1, 0, 0, 0}, document...)...), opReply
	}
	message := make([]byte, 16, 16+len(body))
	binary.LittleEndian.PutUint32(message, uint32(16+len(body)))
	binary.LittleEndian.PutUint32(message[8:], uint32(id))
	binary.LittleEndian.PutUint32(message[12:], kind)
	message = append(message, body...)
	switch c.Fault {
	case HugeLength:
		binary.LittleEndian.PutUint32(message, 1<<31-1)
	case Garbage:
		message = []byte("kiwit kiwit kiwit\n")
	case Half:
		message = message[:len(message)/2]
		c.conn.Write(message)
		return io.EOF
	}
	_, err = c.conn.Write(message)
	return err
}

// deep is a document in a document, and so on: each has 8 bytes around the next.
func deep(levels int) []byte {
	var document []byte
	for left := levels; left > 0; left-- {
		document = binary.LittleEndian.AppendUint32(document, uint32(5+8*left))
		document = append(document, 3, 'a', 0)
	}
	document = append(document, 5, 0, 0, 0, 0)
	return append(document, make([]byte, levels)...)
}

// ok is a successful answer, with more values in front.
func ok(more ...bson.E) bson.D { return append(bson.D(more), bson.E{Key: "ok", Value: 1.0}) }

// refuse returns an error's answer.
func refuse(code int, name, message string) bson.D {
	return bson.D{
		{Key: "ok", Value: 0.0},
		{Key: "errmsg", Value: message},
		{Key: "code", Value: code},
		{Key: "codeName", Value: name},
	}
}

// account is that of a name in a database.
func (s *Server) account(user, source string) *Account {
	for i := range s.Accounts {
		a := &s.Accounts[i]
		own := a.Source
		if own == "" {
			own = "admin"
		}
		if a.User == user && own == source {
			return a
		}
	}
	return nil
}

// method is the one that an account logs in by.
func (a *Account) method() string {
	if a.Method == "" {
		return "SCRAM-SHA-256"
	}
	return a.Method
}

// begin answers saslStart.
func (c *client) begin(command bson.D, source string) bson.D {
	method, payload := textOf(command, "mechanism"), bytesOf(command, "payload")
	if c.Fault == NoMethod {
		return refuse(334, "MechanismUnavailable", "Unsupported mechanism "+method)
	}
	if method == "PLAIN" {
		words := append(strings.Split(payload, "\x00"), "", "")
		a := c.account(words[1], source)
		if len(words) != 5 || a == nil || a.method() != method || a.Password != words[2] {
			return refuse(18, "AuthenticationFailed", "Authentication failed.")
		}
		c.user = a
		return ok(
			bson.E{Key: "conversationId", Value: 1},
			bson.E{Key: "done", Value: true},
			bson.E{Key: "payload", Value: bson.Binary{}},
		)
	}
	_, name, _ := strings.Cut(payload, "n=")
	name, _, _ = strings.Cut(name, ",")
	name = strings.NewReplacer("=2C", ",", "=3D", "=").Replace(name)
	a := c.account(name, source)
	if a == nil || a.method() != method {
		return refuse(18, "AuthenticationFailed", "Authentication failed.")
	}
	kind, password := scram.SHA256, a.Password
	if method == "SCRAM-SHA-1" {
		sum := md5.Sum([]byte(a.User + ":mongo:" + a.Password))
		kind, password = scram.SHA1, hex.EncodeToString(sum[:])
	}
	salt := make([]byte, 16)
	rand.Read(salt)
	rounds := 4096
	if c.Fault == FewRounds {
		rounds = 5
	}
	keeper, err := kind.NewClient(a.User, password, "") // a server prepares what it keeps (RFC 4013)
	if err != nil {
		return refuse(18, "AuthenticationFailed", "Authentication failed.")
	}
	stored, err := keeper.GetStoredCredentialsWithError(scram.KeyFactors{Salt: string(salt), Iters: rounds})
	if err != nil {
		return refuse(8, "UnknownError", err.Error())
	}
	server, err := kind.NewServer(func(string) (scram.StoredCredentials, error) { return stored, nil })
	if err != nil {
		return refuse(8, "UnknownError", err.Error())
	}
	c.talk, c.as = server.NewConversation(), a
	return c.step(payload)
}

// step answers a step of SCRAM.
func (c *client) step(payload string) bson.D {
	answer, err := c.talk.Step(payload)
	switch {
	case err != nil:
		return refuse(18, "AuthenticationFailed", "Authentication failed.")
	case c.Fault == ManyRounds:
		answer = strings.Replace(answer, "i=4096", "i=2000000000", 1)
	case c.Fault == NotProved && c.talk.Done():
		answer = "v=" + strings.Repeat("A", 43) + "="
	}
	if c.talk.Done() && c.talk.Valid() {
		c.user = c.as
	}
	return ok(bson.E{Key: "conversationId", Value: 1}, bson.E{Key: "done", Value: c.talk.Done()},
		bson.E{Key: "payload", Value: bson.Binary{Data: []byte(answer)}})
}

// textOf and bytesOf are values of a command.
func textOf(d bson.D, name string) string {
	for _, e := range d {
		if e.Key == name {
			s, _ := e.Value.(string)
			return s
		}
	}
	return ""
}

func bytesOf(d bson.D, name string) string {
	for _, e := range d {
		if b, is := e.Value.(bson.Binary); is && e.Key == name {
			return string(b.Data)
		}
	}
	return ""
}

func documentOf(d bson.D, name string) bson.D {
	for _, e := range d {
		if inner, is := e.Value.(bson.D); is && e.Key == name {
			return inner
		}
	}
	return nil
}

func listOf(d bson.D, name string) bson.A {
	for _, e := range d {
		if list, is := e.Value.(bson.A); is && e.Key == name {
			return list
		}
	}
	return nil
}

// hello answers hello.
func (c *client) hello(command bson.D) bson.D {
	answer := bson.D{
		{Key: "isWritablePrimary", Value: c.Role != "secondary" && c.Fault != NoPrimary},
		{Key: "topologyVersion", Value: bson.D{{Key: "processId", Value: c.process}, {Key: "counter", Value: int64(0)}}},
		{Key: "localTime", Value: bson.NewDateTimeFromTime(time.Now())},
		{Key: "connectionId", Value: c.number},
		{Key: "minWireVersion", Value: 0},
		{Key: "maxWireVersion", Value: map[bool]int{true: 5, false: 21}[c.Fault == OldWire]},
	}
	if c.Role == "router" {
		answer = append(answer, bson.E{Key: "msg", Value: "isdbgrid"})
	}
	if c.Set != "" {
		members := bson.A{}
		for _, m := range c.Members {
			members = append(members, m)
		}
		answer = append(answer, bson.E{Key: "setName", Value: c.Set}, bson.E{Key: "hosts", Value: members},
			bson.E{Key: "secondary", Value: c.Role == "secondary" || c.Fault == NoPrimary})
		if c.Fault != NoPrimary && len(c.Members) > 0 {
			answer = append(answer, bson.E{Key: "primary", Value: c.Members[0]})
		}
	}
	if c.Fault == OldHello {
		for i := range answer {
			switch answer[i].Key {
			case "isWritablePrimary":
				answer[i].Key = "ismaster"
			case "maxWireVersion":
				answer[i].Value = 6
			}
		}
		return ok(answer...)
	}
	if name := textOf(command, "saslSupportedMechs"); name != "" {
		source, user, _ := strings.Cut(name, ".")
		methods := bson.A{"SCRAM-SHA-256", "SCRAM-SHA-1"}
		if a := c.account(user, source); a != nil {
			methods = bson.A{a.method()}
		}
		if c.Fault == OddMethod {
			methods = bson.A{"MONGODB-TERN"}
		}
		answer = append(answer, bson.E{Key: "saslSupportedMechs", Value: methods})
	}
	return ok(answer...)
}
