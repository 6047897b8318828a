// Package postgresql is the engine for PostgreSQL. What speaks on the port and
// how it is encrypted is found out by its own code on the raw connection, so
// that it can tell what a driver's error text hides; the login and everything
// after it are pgconn's, over that same connection.
package postgresql

import (
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/finding"
	"gentleharbor/core/tlsrule"
)

// maxMessage bounds a message from the server, in bytes. The largest that a
// test reads is a list of database names; a scripted flood ends here.
const maxMessage = 1 << 20

type conversation struct {
	to    engine.Target
	raw   net.Conn // as dialled
	conn  net.Conn // what the driver gets: raw, a *tls.Conn, or a resumed one
	facts engine.Facts

	offered byte   // the answer to SSLRequest: 'S', 'N', or 0 where it was not sent
	early   []byte // what the server answered to our startup message

	askedAll bool // whether it was asked all that other servers answer to

	pg      *pgconn.PgConn
	refusal *pgconn.PgError // what the server said of the database after the login
	used    *pgconn.Config  // what that login was made with
}

// Begin starts a conversation; it is this engine's engine.Begin.
func Begin(conn net.Conn, target engine.Target) engine.Conversation {
	return &conversation{to: target, raw: conn, conn: conn, facts: engine.Facts{Engine: "postgresql", TLS: "none"}}
}

func (c *conversation) Facts() *engine.Facts { return &c.facts }

func (c *conversation) Close() {
	if c.pg != nil {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		c.pg.Close(ctx)
	}
	c.raw.Close()
}

// guard makes ctx bound the raw connection's reads and writes.
func guard(ctx context.Context, conn net.Conn) (release func()) {
	deadline, _ := ctx.Deadline()
	conn.SetDeadline(deadline)
	stop := context.AfterFunc(ctx, func() { conn.SetDeadline(time.Unix(1, 0)) })
	return func() {
		if stop() {
			conn.SetDeadline(time.Time{})
		}
	}
}

// encryptable reports whether SSLRequest is worth sending.
func (c *conversation) encryptable() bool {
	return c.to.TLS.Rule != tlsrule.Off && c.to.Network != "unix"
}

// Speak asks for TLS where the rule wants it, else opens with the startup
// message that a login begins with; either answer tells PostgreSQL from
// everything else.
func (c *conversation) Speak(ctx context.Context) finding.Result {
	defer guard(ctx, c.raw)()
	opening := greeting.SSLRequest()
	if !c.encryptable() {
		opening = c.startup()
	}
	reply, other, err := c.listen(ctx, opening)
	if other != nil {
		return c.notPostgreSQL(*other, reply)
	}
	if err != nil || len(reply) == 0 {
		return c.nothingHeard(ctx, err)
	}
	if c.encryptable() && (reply[0] == 'S' || reply[0] == 'N') {
		if len(reply) > 1 {
			return c.unexpectedBytes(ctx, reply)
		}
		c.offered = reply[0]
		return finding.Good("PostgreSQL answers, TLS %s", map[byte]string{'S': "offered", 'N': "not offered"}[reply[0]])
	}
	service, ok := greeting.Recognise(reply)
	if !ok || service.Engine != "postgresql" || len(reply) == 1 {
		return c.unexpectedBytes(ctx, reply)
	}
	c.early = reply
	if refused := c.parseError(reply); refused != nil && refused.Code == cannotConnectNow {
		return finding.Failed(c.notReady(refused))
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
	return map[string]string{"application_name": "gharbor", "client_encoding": "UTF8"}
}

// patience is how long a silent server is left alone before other connections
// find out whether it is something else that waits for us to speak.
func patience(ctx context.Context) time.Duration {
	const usual = 2 * time.Second
	if deadline, ok := ctx.Deadline(); ok {
		return min(usual, time.Until(deadline)*2/5)
	}
	return usual
}

// listen sends the opening and reads the first bytes of the answer. When none
// come, it keeps waiting and meanwhile asks what else could be there.
func (c *conversation) listen(ctx context.Context, opening []byte) (reply []byte, other *greeting.Service, err error) {
	if _, err := c.raw.Write(opening); err != nil {
		// What speaks first and closes may have left its reason to be read.
		reply, readErr := c.readSome()
		if readErr == nil {
			return reply, nil, nil
		}
		return nil, nil, err
	}
	type answer struct {
		reply []byte
		err   error
	}
	answers := make(chan answer, 1)
	go func() {
		reply, err := c.readSome()
		answers <- answer{reply, err}
	}()
	timer := time.NewTimer(patience(ctx))
	defer timer.Stop()
	select {
	case a := <-answers:
		return a.reply, nil, a.err
	case <-timer.C:
	}
	probing, stop := context.WithCancel(ctx)
	defer stop()
	others := make(chan *greeting.Service, 1)
	go func() {
		if service, ok := c.identify(probing); ok && service.Engine != "postgresql" {
			others <- &service
			return
		}
		others <- nil
	}()
	select {
	case a := <-answers: // only slow
		stop()
		<-others
		return a.reply, nil, a.err
	case other = <-others:
	}
	if other != nil {
		c.raw.SetDeadline(time.Unix(1, 0))
	}
	a := <-answers
	return a.reply, other, a.err
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

// identify asks what is there, on connections of its own.
func (c *conversation) identify(ctx context.Context) (greeting.Service, bool) {
	if c.to.Redial == nil {
		return greeting.Service{}, false
	}
	probes := []greeting.Probe{greeting.Text, greeting.TLS, greeting.Mongo}
	service, asked, ok := greeting.Identify(ctx, c.to.Redial, probes...)
	c.askedAll = asked == len(probes) && ctx.Err() == nil
	return service, ok
}

func (c *conversation) notPostgreSQL(s greeting.Service, reply []byte) finding.Result {
	if s.TLS {
		return finding.Failed(finding.New("speak.tls-only", "what listens at %s speaks TLS from the first byte, which PostgreSQL does not: it is another kind of server, or a TLS proxy in front of one", c.to.Address).
			Suggest("gharbor nearby").
			Suggest("gharbor set %s port=PORT", c.to.Profile))
	}
	found := finding.New("speak.other-engine", "%s answers at %s, where the profile says postgresql", s.What, c.to.Address)
	if len(reply) > 0 {
		found.Saw("its first bytes: %s", clean.Bytes(reply, 40))
	} else {
		found.Saw("it stayed silent until asked in its own protocol, on another connection")
	}
	if s.Engine != "" {
		found.Suggest("gharbor set %s engine=%s   # if that server is the one that is meant", c.to.Profile, s.Engine)
	}
	return finding.Failed(c.suggestPlace(found))
}

// suggestPlace says how to name another place.
func (c *conversation) suggestPlace(found *finding.Finding) *finding.Finding {
	key, what := "port=PORT", "port"
	if c.to.Network == "unix" {
		key, what = "socket=PATH", "socket"
	}
	return found.Suggest("gharbor set %s %s   # if the %s is wrong", c.to.Profile, key, what).Suggest("gharbor nearby")
}

// wholeGreeting reads on for a moment: a greeting may come in pieces.
func (c *conversation) wholeGreeting(reply []byte) []byte {
	const moment, enough = 400 * time.Millisecond, 256
	c.raw.SetReadDeadline(time.Now().Add(moment))
	for len(reply) < enough {
		if service, ok := greeting.Recognise(reply); ok && service.Engine != "postgresql" {
			break
		}
		piece := make([]byte, enough)
		n, err := c.raw.Read(piece)
		reply = append(reply, piece[:n]...)
		if err != nil {
			break
		}
	}
	return reply
}

// unexpectedBytes is for an answer that is not PostgreSQL's.
func (c *conversation) unexpectedBytes(ctx context.Context, reply []byte) finding.Result {
	if reply[0] != 'S' || !c.encryptable() {
		reply = c.wholeGreeting(reply)
	}
	if service, ok := greeting.Recognise(reply); ok && service.Engine != "postgresql" {
		return c.notPostgreSQL(service, reply)
	}
	if reply[0] == 'S' && c.encryptable() {
		return finding.Failed(finding.New("tls.extra-bytes", "bytes came after the server's yes to TLS and before the handshake; somebody on the way may have put them there, so the connection was ended").
			Saw("after the S: %s", clean.Bytes(reply[1:], 32)).
			Suggest("gharbor test %s   # again; if it repeats, test from another network", c.to.Profile))
	}
	if service, ok := c.identify(ctx); ok && service.Engine != "postgresql" {
		return c.notPostgreSQL(service, reply)
	}
	return finding.Failed(c.suggestPlace(finding.New("speak.garbage", "what answers at %s does not speak PostgreSQL's protocol, nor any that is known here", c.to.Address).
		Saw("its first bytes: %s", clean.Bytes(reply, 32))))
}

// nothingHeard is for a server that closed, or stayed silent.
func (c *conversation) nothingHeard(ctx context.Context, err error) finding.Result {
	if errors.Is(err, os.ErrDeadlineExceeded) || ctx.Err() != nil {
		heard := "no answer to PostgreSQL's opening; the time ran out before all others were tried"
		if c.askedAll {
			heard = "no answer to PostgreSQL's, Redis', HTTP's, TLS's or MongoDB's opening"
		}
		return finding.Failed(finding.New("speak.silent", "%s accepts the connection and then says nothing: the server hangs or is overloaded, or a proxy on the way has nothing behind it", c.to.Address).
			Saw("%s", heard).
			Suggest("gharbor test %s -timeout 60s   # if it is only slow", c.to.Profile).
			Suggest("gharbor nearby"))
	}
	if service, ok := c.identify(ctx); ok && service.Engine != "postgresql" {
		return c.notPostgreSQL(service, nil)
	}
	what := "closed the connection without a word"
	if !errors.Is(err, io.EOF) {
		what = "broke the connection off"
	}
	return finding.Failed(finding.New("speak.closed", "%s accepted the connection and %s: the server is only just starting, has no room left, or a proxy on the way has nothing behind it", c.to.Address, what).
		Saw("%s", clean.Line(plainError(err), 0)).
		Suggest("gharbor test %s   # again in a few seconds", c.to.Profile).
		Suggest("gharbor nearby"))
}

func plainError(err error) string {
	if errors.Is(err, io.EOF) {
		return "end of the stream before the first byte"
	}
	var operation *net.OpError
	if errors.As(err, &operation) && operation.Err != nil {
		return operation.Err.Error()
	}
	return err.Error()
}

// Encrypt does the handshake where the server offered it.
func (c *conversation) Encrypt(ctx context.Context) (*tlsrule.Facts, finding.Result) {
	rule := c.to.TLS.Rule
	strict := rule == tlsrule.Required || rule == tlsrule.Verified
	switch {
	case c.to.Network == "unix" && strict:
		return nil, finding.Failed(finding.New("tls.not-offered", "a Unix socket carries no TLS, and the rule is %s", rule).
			Suggest("gharbor set %s tls=offered   # a socket does not leave this machine", c.to.Profile))
	case c.to.Network == "unix":
		return nil, finding.Good("not on a Unix socket")
	case rule == tlsrule.Off:
		return nil, finding.Good("not encrypted, by the rule (tls = %q)", rule)
	case c.offered == 'N' && strict:
		return nil, finding.Failed(finding.New("tls.not-offered", "the server does not offer TLS, and the rule is %s", rule).
			Saw("the server answered N to the request for TLS; an answer before TLS is not proof of who gave it").
			Suggest("on the server: set ssl = on with a certificate in postgresql.conf, then SELECT pg_reload_conf()").
			Suggest("gharbor set %s tls=offered   # only where nobody else is on the way", c.to.Profile))
	case c.offered == 'N':
		return nil, finding.Good("not encrypted: the server does not offer it")
	}
	secure, facts, result, err := c.to.TLS.Handshake(ctx, c.raw)
	var record tls.RecordHeaderError
	if errors.As(err, &record) {
		// An S that came alone may have been the start of another greeting.
		first := append([]byte{c.offered}, record.RecordHeader[:]...)
		if service, ok := greeting.Recognise(first); ok && service.Engine != "postgresql" {
			return nil, c.notPostgreSQL(service, first)
		}
	}
	if err != nil {
		return nil, finding.Failed(tlsrule.Diagnose(err, c.to.Profile, c.to.Address))
	}
	c.conn = secure
	c.facts.TLS, c.facts.TLSCipher = facts.Version, facts.Cipher
	c.facts.TLSVerified, c.facts.Certificate = &facts.Verified, facts.Peer
	return facts, result
}

// resumed gives the driver a connection on which the startup message has been
// sent and its answer begun to be read: the driver's own startup message is
// taken off, and the bytes read come first. Deadlines and closing are the
// connection's own.
type resumed struct {
	net.Conn
	sent bool
	read []byte
}

func (r *resumed) Read(p []byte) (int, error) {
	if len(r.read) > 0 {
		n := copy(p, r.read)
		r.read = r.read[n:]
		return n, nil
	}
	return r.Conn.Read(p)
}

func (r *resumed) Write(p []byte) (int, error) {
	if r.sent {
		return r.Conn.Write(p)
	}
	if len(p) < 8 || int(binary.BigEndian.Uint32(p)) != len(p) || binary.BigEndian.Uint32(p[4:]) != pgproto3.ProtocolVersion30 {
		return 0, fmt.Errorf("a defect: the driver opened with %d bytes that are no startup message", len(p))
	}
	r.sent = true
	return len(p), nil
}
