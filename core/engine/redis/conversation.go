// Package redis is the engine for Redis and for servers that speak its protocol. Its own code finds out over one
// connection, step by step, what speaks there, how it is encrypted and who may log in: the protocol is small and open
// (sub-package resp). Start with Spec.
package redis

import (
	"context"
	"errors"
	"net"
	"os"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/probe"
	"gentleharbor/core/engine/redis/resp"
	"gentleharbor/core/finding"
	"gentleharbor/core/tlsrule"
)

// maxFacts bounds an answer of the stages, in bytes: the longest, INFO, has about 6 KiB.
const maxFacts = 1 << 20

type conversation struct {
	to    engine.Target
	raw   net.Conn
	conn  net.Conn // raw, or a *tls.Conn
	in    *resp.Reader
	facts engine.Facts
	probe *probe.Probe

	pong   *resp.Reply              // the answer to the first PING, nil before it
	hello  map[string]string        // what HELLO says
	info   map[string]string        // what INFO says
	empty  bool                     // the password is empty
	blank  bool                     // or has a blank at an end, as files and pasting leave it
	links  map[string]*conversation // to other members of a cluster, by address
	multi  bool                     // between MULTI and EXEC
	failed bool                     // the transaction can only be discarded
	took   time.Duration            // of the last statement at the server
}

// Begin starts a conversation.
func Begin(conn net.Conn, target engine.Target) engine.Conversation { return begin(conn, target) }

func begin(conn net.Conn, target engine.Target) *conversation {
	c := &conversation{
		to:    target,
		raw:   conn,
		conn:  conn,
		facts: engine.Facts{Engine: Word, TLS: "none"},
		probe: &probe.Probe{
			To:       target,
			Conn:     conn,
			Word:     Word,
			Name:     "Redis",
			Ours:     []string{Word},
			Protocol: "Redis'",
			First:    true,
		},
	}
	c.in = resp.NewReader(conn, maxFacts)
	return c
}

func (c *conversation) Facts() *engine.Facts { return &c.facts }

func (c *conversation) Close() {
	for _, link := range c.links {
		link.Close()
	}
	c.raw.Close()
}

// Speak sends PING. Each server answers it, with PONG or with the reason of a refusal.
func (c *conversation) Speak(ctx context.Context) finding.Result {
	if c.probe.Strict() {
		return finding.Good("not asked: TLS begins with the first byte")
	}
	return c.ping(ctx)
}

// ping sends PING, and reads the answer's first line.
func (c *conversation) ping(ctx context.Context) finding.Result {
	defer probe.Guard(ctx, c.raw)()
	seen := &probe.Head{Reader: c.conn}
	c.in = resp.NewReader(seen, maxFacts)
	if _, err := c.conn.Write(resp.Append(nil, "PING")); err != nil {
		return c.probe.ExplainWriteError(ctx, c.conn, &c.facts, err)
	}
	var reply *resp.Reply
	_, other, err := c.probe.Listen(ctx, func() (first []byte, err error) {
		reply, err = c.in.Read()
		return seen.Bytes, err
	})
	alert := probe.ClientCertificateAlert(err) // with TLS 1.3 it comes behind the handshake
	switch {
	case alert != "":
		return finding.FailWith(c.to.CertificateRefused(&c.facts, alert))
	case other != nil:
		return c.probe.OtherService(*other, seen.Bytes)
	case len(seen.Bytes) == 0:
		return c.probe.Nothing(ctx, err)
	case err != nil || !isRedis(seen.Bytes):
		if errors.Is(err, os.ErrDeadlineExceeded) && isRedis(seen.Bytes) {
			return c.probe.Nothing(ctx, err)
		}
		return c.probe.ExplainAnswer(ctx, c.probe.ReadRest(seen.Bytes))
	}
	seen.Done = true
	c.pong = reply
	if found := c.refusedFirst(reply); found != nil {
		return finding.FailWith(found)
	}
	return finding.Good("Redis answers%s", map[bool]string{true: ", a password is wanted"}[isRefusal(reply, "NOAUTH")])
}

// Encrypt does the handshake where the rule wants TLS.
func (c *conversation) Encrypt(ctx context.Context) (*tlsrule.Facts, finding.Result) {
	return c.probe.Encrypt(ctx, &c.facts, probe.FirstTLS{
		Plain: speaksPlainly,
		Behind: func(ctx context.Context, secure net.Conn) finding.Result {
			c.conn = secure
			return c.ping(ctx)
		},
		Question: "PING",
		Server:   "set tls-port, tls-cert-file and tls-key-file, and name that port in the profile",
		Versions: `set tls-protocols "TLSv1.2 TLSv1.3"`,
	})
}

// speaksPlainly reports whether a server answers without TLS.
func speaksPlainly(_ context.Context, conn net.Conn) bool {
	if _, err := conn.Write(resp.Append(nil, "PING")); err != nil {
		return false
	}
	seen := &probe.Head{Reader: conn}
	_, err := resp.NewReader(seen, maxFacts).Read()
	return err == nil && isRedis(seen.Bytes)
}

// ask sends a command, and reads its answer. The error is that of the connection; a server's refusal is a reply.
func (c *conversation) ask(ctx context.Context, words ...string) (*resp.Reply, error) {
	replies, err := c.askAll(ctx, words)
	if err != nil {
		return nil, err
	}
	return replies[0], nil
}

// askAll sends commands together, and reads their answers.
func (c *conversation) askAll(ctx context.Context, commands ...[]string) ([]*resp.Reply, error) {
	defer probe.Guard(ctx, c.raw)()
	var message []byte
	for _, words := range commands {
		message = resp.Append(message, words...)
	}
	if _, err := c.conn.Write(message); err != nil {
		return nil, err
	}
	replies := make([]*resp.Reply, len(commands))
	for i := range replies {
		var err error
		if replies[i], err = c.in.Read(); err != nil {
			return nil, err
		}
	}
	return replies, nil
}

// serverText is a server's refusal, for a report.
func serverText(r *resp.Reply) string { return clean.Quote(clean.Line(r.String(), 300)) }

// LogInAs sets another user than the target's.
func (c *conversation) LogInAs(user string) { c.to.User = user }
