// Package postgresql is the engine for PostgreSQL. Its own code finds out what speaks on the port, and encrypts the
// raw connection: so it can report what a driver's error text hides. The login and all that follows are pgconn's,
// over that same connection.
package postgresql

import (
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"net"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/engine/probe"
	"gentleharbor/core/finding"
	"gentleharbor/core/tlsrule"
)

// maxMessage bounds a message from the server, in bytes. The largest that a test reads is a list of database names; a
// hostile server's flood ends here.
const maxMessage = 1 << 20

// Word is the engine's word in a profile.
const Word = "postgresql"

type conversation struct {
	to    engine.Target
	raw   net.Conn // as dialled
	conn  net.Conn // what the driver gets: raw, a *tls.Conn, or a resumed one
	facts engine.Facts

	offered byte   // the answer to SSLRequest: 'S', 'N', or 0 where it was not sent
	early   []byte // what the server answered to our startup message

	probe *probe.Probe

	pg      *pgconn.PgConn
	watch   *observer       // of the login
	refusal *pgconn.PgError // what the server said of the database after the login
	used    *pgconn.Config  // what that login was made with

	results engine.Results // of the statement that runs; nil for none
	took    time.Duration  // of the last statement at the server
}

// Begin starts a conversation; it is this engine's engine.Begin.
func Begin(conn net.Conn, target engine.Target) engine.Conversation {
	return &conversation{
		to:    target,
		raw:   conn,
		conn:  conn,
		facts: engine.Facts{Engine: Word, TLS: "none"},
		probe: &probe.Probe{
			To:       target,
			Conn:     conn,
			Word:     Word,
			Name:     "PostgreSQL",
			Ours:     []string{Word},
			Protocol: "PostgreSQL's",
			Direct:   true,
		},
	}
}

func (c *conversation) Facts() *engine.Facts { return &c.facts }

func (c *conversation) Close() {
	if c.pg != nil && !c.pg.IsClosed() {
		c.raw.SetDeadline(time.Now().Add(time.Second))
		c.pg.Conn().Write(goodbye)
	}
	c.raw.Close()
}

// goodbye ends a session (PostgreSQL documentation, "Termination"). The driver's own way also waits for the end of
// the server's process, which takes as long as a login.
var goodbye = []byte{'X', 0, 0, 0, 4}

// encryptable reports whether to send SSLRequest.
func (c *conversation) encryptable() bool {
	return c.to.TLS.Rule != tlsrule.Off && c.to.Network != "unix"
}

// isDirectTLS reports whether TLS begins with the first byte (PostgreSQL 17 documentation, "SSL Session Encryption").
func (c *conversation) isDirectTLS() bool { return c.to.TLSDirect && c.encryptable() }

// alpn is the protocol that a direct handshake has to offer; servers refuse one without it.
const alpn = "postgresql"

// Speak asks for TLS where the rule wants it, else sends the startup message with which a login begins. The answer to
// either shows whether it is PostgreSQL that answers.
func (c *conversation) Speak(ctx context.Context) finding.Result {
	if c.isDirectTLS() {
		c.offered = 'S'
		return finding.Good("not asked: TLS begins with the first byte (tls-start = \"direct\")")
	}
	defer probe.Guard(ctx, c.raw)()
	message := sslRequest()
	if !c.encryptable() {
		message = c.startup()
	}
	reply, other, err := c.listen(ctx, message)
	if other != nil {
		return c.probe.OtherService(*other, reply)
	}
	if err != nil || len(reply) == 0 {
		return c.probe.Nothing(ctx, err)
	}
	if c.encryptable() && (reply[0] == 'S' || reply[0] == 'N') {
		if len(reply) > 1 {
			return c.unexpectedBytes(ctx, reply)
		}
		c.offered = reply[0]
		return finding.Good("PostgreSQL answers, TLS %s", map[byte]string{'S': "offered", 'N': "not offered"}[reply[0]])
	}
	if _, ok := recognise(reply); !ok || len(reply) == 1 {
		return c.unexpectedBytes(ctx, reply)
	}
	c.early = reply
	if refused := c.parseError(reply); refused != nil {
		if found := c.notReady(refused); found != nil {
			return finding.FailWith(found)
		}
	}
	return finding.Good("PostgreSQL answers")
}

// startup is the message that opens a session (PostgreSQL documentation,
// "StartupMessage"), with the parameters that the driver will send too.
func (c *conversation) startup() []byte {
	m := pgproto3.StartupMessage{ProtocolVersion: pgproto3.ProtocolVersion30, Parameters: c.parameters()}
	m.Parameters["user"] = c.to.User
	m.Parameters["database"] = c.to.Database
	p, _ := m.Encode(nil) // fails only above the size of a message, which a profile can't reach
	return p
}

// parameters are the session's settings besides user and database.
func (c *conversation) parameters() map[string]string {
	if c.to.Parameters != nil {
		return c.forProgram(maps.Clone(c.to.Parameters))
	}
	return map[string]string{"application_name": "gharbor", "client_encoding": "UTF8"}
}

// listen sends the probe and reads the first bytes of the answer.
func (c *conversation) listen(ctx context.Context, message []byte) (reply []byte, other *greeting.Service, err error) {
	if _, err := c.raw.Write(message); err != nil {
		// What speaks first and closes may have left its reason to be read.
		reply, readErr := c.readSome()
		if readErr == nil {
			return reply, nil, nil
		}
		return nil, nil, err
	}
	return c.probe.Listen(ctx, c.readSome)
}

// readSome reads one answer: at least the head of a message where it is one.
func (c *conversation) readSome() ([]byte, error) {
	buffer := make([]byte, 4096)
	n, err := c.raw.Read(buffer)
	if n == 0 {
		return nil, err
	}
	for isMessage(buffer[:n]) && n < messageSize(buffer[:n]) && n < len(buffer) {
		more, err := c.raw.Read(buffer[n:])
		n += more
		if err != nil {
			break
		}
	}
	return buffer[:n], nil
}

// isMessage reports whether p starts like a message that answers a startup.
func isMessage(p []byte) bool {
	return len(p) > 1 && (p[0] == 'R' || p[0] == 'E' || p[0] == 'v') && (len(p) < 3 || p[1] == 0 && p[2] == 0)
}

func messageSize(p []byte) int {
	if len(p) < 5 {
		return 9
	}
	return 1 + int(binary.BigEndian.Uint32(p[1:]))
}

// unexpectedBytes is for an answer that is not PostgreSQL's.
func (c *conversation) unexpectedBytes(ctx context.Context, reply []byte) finding.Result {
	yes := reply[0] == 'S' && c.encryptable()
	if !yes {
		reply = c.probe.ReadRest(reply)
	}
	if _, other := c.probe.Recognise(reply); yes && !other {
		return finding.FailWith(finding.New(finding.TLSExtraBytes,
			"bytes came after the server's yes to TLS and before the handshake; somebody on the way may have put "+
				"them there, "+
				"so the connection was ended").
			Saw("after the S: %s", clean.Bytes(reply[1:], 32)).
			Suggest("gharbor test %s   # again; if it repeats, test from another network", c.to.Profile))
	}
	return c.probe.ExplainAnswer(ctx, reply)
}

// Encrypt does the handshake where the server offered it.
func (c *conversation) Encrypt(ctx context.Context) (*tlsrule.Facts, finding.Result) {
	result, done := c.to.WithoutTLS(c.offered != 'N', engine.NotOffered{
		Seen:   "the server answered N to the request for TLS",
		Server: "set ssl = on with a certificate in postgresql.conf, then SELECT pg_reload_conf()",
	})
	if done {
		return nil, result
	}
	plan := *c.to.TLS
	if c.isDirectTLS() {
		plan.Protocols = []string{alpn}
	}
	secure, facts, result, err := plan.Handshake(ctx, c.raw)
	if err != nil && c.isDirectTLS() {
		return nil, finding.FailWith(c.notDirect(err))
	}
	var record tls.RecordHeaderError
	if errors.As(err, &record) {
		// An S that came alone may have been the start of another greeting.
		first := append([]byte{c.offered}, record.RecordHeader[:]...)
		if service, ok := c.probe.Recognise(first); ok {
			return nil, c.probe.OtherService(service, first)
		}
	}
	if err != nil {
		return nil, finding.FailWith(tlsrule.Diagnose(err, c.to.Profile, c.to.Address,
			"set ssl_min_protocol_version = 'TLSv1.2' in postgresql.conf"))
	}
	c.conn = secure
	c.facts.SetTLS(facts)
	return facts, result
}

// notDirect is for a server that does not speak TLS from the first byte: it is older than 17, or not PostgreSQL.
func (c *conversation) notDirect(err error) *finding.Finding {
	found := tlsrule.Diagnose(err, c.to.Profile, c.to.Address,
		"set ssl_min_protocol_version = 'TLSv1.2' in postgresql.conf")
	if !found.Is(finding.TLSHandshake, finding.TLSUnfinished) {
		return found
	}
	found = finding.New(finding.TLSHandshake, "the server does not take TLS from the first byte: PostgreSQL does "+
		"from version 17 on, "+
		"with ssl = on").
		Saw("%s", clean.Line(probe.LastError(err), 0))
	return found.Suggest("gharbor test %s -override tls-start=asked", c.to.Profile).
		Suggest("gharbor set %s tls-start=", c.to.Profile)
}

// resumedConn gives the driver a connection on which the startup message was sent and a part of the answer was read.
// It drops the driver's own startup message, and returns the bytes that were read first. Deadlines and closing are
// the connection's own.
type resumedConn struct {
	net.Conn
	sent bool
	read []byte
}

func (r *resumedConn) Read(p []byte) (int, error) {
	if len(r.read) > 0 {
		n := copy(p, r.read)
		r.read = r.read[n:]
		return n, nil
	}
	return r.Conn.Read(p)
}

func (r *resumedConn) Write(p []byte) (int, error) {
	if r.sent {
		return r.Conn.Write(p)
	}
	if len(p) < 8 || int(binary.BigEndian.Uint32(p)) != len(p) ||
		binary.BigEndian.Uint32(p[4:]) != pgproto3.ProtocolVersion30 {
		return 0, fmt.Errorf("a defect: the driver opened with %d bytes that are no startup message", len(p))
	}
	r.sent = true
	return len(p), nil
}

// LogInAs sets another user than the target's.
func (c *conversation) LogInAs(user string) { c.to.User = user }
