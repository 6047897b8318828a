// Package mysql is the engine for MySQL and MariaDB. Its own code finds out what speaks on the port, and encrypts the
// raw connection. The login and all that follows are the driver's, over that same connection: a server counts each
// greeting that a client does not answer, and blocks the client after some.
package mysql

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"net"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/probe"
	"gentleharbor/core/finding"
	"gentleharbor/core/tlsrule"
)

type conversation struct {
	to    engine.Target
	word  string // the engine in the profile
	raw   net.Conn
	conn  net.Conn // raw, or a *tls.Conn
	facts engine.Facts
	probe *probe.Probe

	hello  *hello
	replay *replayConn
	db     driver.Conn
	trips  []time.Duration // of short statements there and back

	wire   *wire // for statements; nil before the first
	status uint16
	took   time.Duration // of the last statement at the server
}

// The engines' words in a profile.
const (
	Word    = "mysql"
	MariaDB = "mariadb"
)

// Begin returns the engine.Begin of the engine word, "mysql" or "mariadb". Either connects to both kinds of server,
// and warns of the other kind.
func Begin(word string) engine.Begin {
	return func(conn net.Conn, target engine.Target) engine.Conversation { return begin(word)(conn, target) }
}

func begin(word string) func(net.Conn, engine.Target) *conversation {
	return func(conn net.Conn, target engine.Target) *conversation {
		return &conversation{
			to:    target,
			word:  word,
			raw:   conn,
			conn:  conn,
			facts: engine.Facts{Engine: word, TLS: "none"},
			probe: &probe.Probe{
				To: target, Conn: conn, Word: word, Name: brandOf(word), Ours: []string{Word, MariaDB},
				Protocol: brandOf(word) + "'s",
				Starting: ", is starting, or looks up this machine's name first",
			},
		}
	}
}

func brandOf(word string) string {
	if word == MariaDB {
		return "MariaDB"
	}
	return "MySQL"
}

func (c *conversation) Facts() *engine.Facts { return &c.facts }

func (c *conversation) Close() {
	if c.db != nil {
		c.conn.SetDeadline(time.Now().Add(time.Second))
		c.guardCall(c.db.Close)
	}
	c.raw.Close()
}

// Speak reads the greeting, which the server sends first, or the error in its place.
func (c *conversation) Speak(ctx context.Context) finding.Result {
	defer probe.Guard(ctx, c.raw)()
	var extra []byte
	reply, other, err := c.probe.Listen(ctx, func() (first []byte, err error) {
		first, extra, err = c.readFirst()
		return first, err
	})
	if other != nil {
		return c.probe.OtherService(*other, reply)
	}
	if len(reply) == 0 {
		return c.probe.Nothing(ctx, err)
	}
	greets, refused, parseErr := parseFirst(reply)
	switch {
	case refused != nil:
		return finding.FailWith(c.refusedFirst(refused))
	case errors.Is(parseErr, errTooOld):
		return finding.FailWith(finding.New(finding.SpeakTooOld,
			"the server speaks the protocol from before MySQL 4.1, whose logins are broken").
			Saw("its first bytes: %s", clean.Bytes(reply, 40)).
			Suggest("gharbor nearby   # is it the right server?"))
	case parseErr != nil && err != nil && (len(reply) < 4 || reply[3] == 0 && packetSize(reply) <= maxGreeting):
		// It may have begun as one of ours and ended in the middle.
		result := c.probe.Nothing(ctx, err)
		result.Finding.Saw("before that, it sent %s", clean.Bytes(reply, 32))
		return result
	case parseErr != nil:
		return c.probe.ExplainAnswer(ctx, c.probe.ReadRest(reply))
	case len(extra) > 0 && c.refusedBehind(extra) != nil:
		return finding.FailWith(c.refusedBehind(extra))
	case len(extra) > 0:
		return finding.FailWith(finding.New(finding.TLSExtraBytes,
			"there were extra bytes after the server's greeting; somebody in between may have added them, so the "+
				"connection was closed").
			Saw("after the greeting: %s", clean.Bytes(extra, 32)).
			Suggest("gharbor test %s   # again; if it repeats, test from another network", c.to.Profile))
	}
	c.hello = greets
	c.facts.Engine, c.facts.Version, c.facts.ConnectionID = greets.flavour(), clean.Line(greets.version, 80), greets.id
	return c.judgeGreeting()
}

// refusedBehind is the finding for an error that a server sends right after its greeting: it has read something that
// we did not send, such as a proxy's header. It is nil where the bytes are no complete error.
func (c *conversation) refusedBehind(extra []byte) *finding.Finding {
	if len(extra) < 7 || packetSize(extra) != len(extra) {
		return nil
	}
	r, err := parseError(extra[4:])
	if err != nil {
		return nil
	}
	return c.refusedFirst(r)
}

// proxyHeader is for a server that refuses the PROXY header of a proxy. It sends the refusal after its greeting or
// after the login, depending on when it reads the header.
func proxyHeader(r *refusal) *finding.Finding {
	return finding.New(finding.SpeakProxyHeader,
		"a proxy on the way opens the connection with a PROXY header, which the server does not take from it").
		Saw("%s", r.text()).
		Advise("on the server: name the proxy's address in proxy_protocol_networks").
		Advise("or on the proxy: switch the PROXY protocol off for this server (send-proxy)")
}

// readFirst reads the first packet and what came with it.
func (c *conversation) readFirst() (packet, extra []byte, err error) {
	buffer := make([]byte, maxGreeting+1)
	n, err := c.raw.Read(buffer)
	for err == nil && (n < 4 || buffer[3] == 0 && packetSize(buffer) <= maxGreeting && n < packetSize(buffer)) {
		var more int
		more, err = c.raw.Read(buffer[n:])
		n += more
	}
	if n < 4 || packetSize(buffer) > n {
		return buffer[:n], nil, err
	}
	size := packetSize(buffer)
	return buffer[:size], buffer[size:n], err
}

// judgeGreeting returns the result for a server of this engine's family.
func (c *conversation) judgeGreeting() finding.Result {
	h := c.hello
	offered := "not offered"
	if h.caps&capTLS != 0 {
		offered = "offered"
	}
	detail := fmt.Sprintf("%s %s answers, TLS %s, asks by %s, connection %d", h.brand(), h.number(), offered,
		clean.Line(h.plugin, 60), h.id)
	if h.flavour() != c.word {
		return finding.WarnWith(finding.New(finding.SpeakFlavour,
			"this is a %s server, but the profile says %s: similar, but not the same", h.brand(), c.word).
			Saw("its version is %s", clean.Quote(h.version)).
			Suggest("gharbor set %s engine=%s", c.to.Profile, h.flavour()), "%s", detail)
	}
	return finding.Good("%s", detail)
}

// Encrypt asks for TLS within the protocol and does the handshake.
func (c *conversation) Encrypt(ctx context.Context) (*tlsrule.Facts, finding.Result) {
	result, done := c.to.WithoutTLS(c.hello.caps&capTLS != 0, engine.NotOffered{
		Seen:   "its greeting does not offer TLS",
		Server: "set ssl_cert and ssl_key in the section [mysqld] of its option file, then restart it",
	})
	if done {
		return nil, result
	}
	secure, facts, result, err := c.handshake(ctx, c.raw, c.hello, c.to.TLS)
	if err != nil {
		return nil, finding.FailWith(tlsrule.Diagnose(err, c.to.Profile, c.to.Address,
			"set tls_version = TLSv1.2,TLSv1.3 in the section [mysqld] of its option file"))
	}
	c.conn = secure
	c.facts.SetTLS(facts)
	return facts, result
}

// handshake sends the request for TLS after the greeting.
func (c *conversation) handshake(ctx context.Context, conn net.Conn, h *hello,
	plan *tlsrule.Plan) (net.Conn, *tlsrule.Facts, finding.Result, error) {
	release := probe.Guard(ctx, conn)
	_, err := conn.Write(h.tlsRequest())
	release()
	if err != nil {
		return nil, nil, finding.Result{}, err
	}
	secure, facts, result, err := plan.Handshake(ctx, conn)
	if err != nil {
		return nil, nil, result, err
	}
	return secure, facts, result, nil
}

// LogInAs sets another user than the target's.
func (c *conversation) LogInAs(user string) { c.to.User = user }
