// Package oracle is the engine for Oracle's databases. Its own code asks the listener, and encrypts the raw
// connection. The login and all that follows are the driver's, over that same connection. The driver gets the
// listener's acceptance from memory: by itself it would follow redirects, dial again, and read files that no profile
// names.
package oracle

import (
	"bytes"
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"net"
	"os"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/engine/oracle/tns"
	"gentleharbor/core/engine/probe"
	"gentleharbor/core/finding"
	"gentleharbor/core/tlsrule"
)

// Word is the engine's word in a profile.
const Word = "oracle"

type conversation struct {
	to    engine.Target
	raw   net.Conn
	conn  net.Conn // raw, or a *tls.Conn
	facts engine.Facts
	probe *probe.Probe

	tlsFacts  *tlsrule.Facts  // of a handshake made before the listener spoke
	tlsResult *finding.Result // how that went, told at its own stage
	accepted  tns.AcceptPacket
	session   *session // the driver's, once logged in

	transaction driver.Tx     // of ours; nil for none
	took        time.Duration // of the last statement at the server
}

// Begin starts a conversation with a listener.
func Begin(conn net.Conn, target engine.Target) engine.Conversation {
	return &conversation{
		to:    target,
		raw:   conn,
		conn:  conn,
		facts: engine.Facts{Engine: Word, TLS: "none"},
		probe: &probe.Probe{
			To: target, Conn: conn, Word: Word, Name: "Oracle's listener", Ours: []string{Word},
			Protocol: "Oracle's",
			Starting: ", or waits for a service that is starting",
		},
	}
}

func (c *conversation) Facts() *engine.Facts { return &c.facts }

func (c *conversation) Close() {
	if c.session != nil {
		c.raw.SetDeadline(time.Now().Add(time.Second))
		c.session.close()
	}
	c.raw.Close()
}

// Speak asks the listener for the service. Where the rule wants TLS, the handshake comes first: these listeners have
// a separate port for TLS, and answer nothing there before it.
func (c *conversation) Speak(ctx context.Context) finding.Result {
	if rule := c.to.TLS.Rule; c.to.Network == "tcp" && (rule == tlsrule.Required || rule == tlsrule.Verified) {
		if !c.encryptFirst(ctx) {
			return finding.Good("%s answers (the rest is inside TLS)", c.to.Address)
		}
	}
	return c.ask(ctx, 0)
}

// encryptFirst makes the handshake, and reports whether to go on. A listener without TLS takes the first bytes of it
// for a long packet and waits for the rest.
func (c *conversation) encryptFirst(ctx context.Context) bool {
	plain := make(chan bool, 1)
	probing, stop := context.WithCancel(ctx)
	defer stop()
	timer := time.AfterFunc(patience(ctx), func() {
		is := c.plainListener(probing)
		plain <- is
		if is {
			c.raw.SetDeadline(time.Unix(1, 0))
		}
	})
	secure, facts, result, err := c.to.TLS.Handshake(ctx, c.raw)
	asked := !timer.Stop()
	if err != nil {
		found := tlsrule.Diagnose(err, c.to.Profile, c.to.Address, "set SSL_VERSION = 1.2 in the listener's sqlnet.ora")
		if asked && <-plain || !asked && probe.ClientCertificateAlert(err) == "" && c.plainListener(ctx) {
			found = finding.New(finding.TLSNotOffered,
				"the listener at %s speaks no TLS at this port, but the rule is %s: TLS has its own port, often 2484",
				c.to.Address, c.to.TLS.Rule).
				Saw("without TLS, on another connection, it answered as a listener").
				Advise("use the TLS port: gharbor set %s port=2484 (or addresses=HOST:2484 in its alias)",
					c.to.Profile).
				Suggest("gharbor set %s tls=off   # only where nobody else is on the way", c.to.Profile)
		}
		failed := finding.FailWith(found)
		c.tlsResult = &failed
		return false
	}
	c.tlsFacts, c.tlsResult = facts, &result
	if result.Outcome == finding.Fail {
		return false
	}
	c.conn = secure
	c.facts.SetTLS(facts)
	return true
}

// patience is how long to wait for a handshake before another connection tries whether the listener answers without
// TLS.
func patience(ctx context.Context) time.Duration {
	const usual = time.Second
	if deadline, ok := ctx.Deadline(); ok {
		return min(usual, time.Until(deadline)/3)
	}
	return usual
}

// plainListener reports whether a listener answers without TLS.
func (c *conversation) plainListener(ctx context.Context) bool {
	if c.to.Redial == nil || ctx.Err() != nil {
		return false
	}
	service, _, ok := greetings.Identify(ctx, c.to.Redial, greetings.Probes(Word, false)...)
	return ok && service.Engine == Word
}

// Encrypt returns the result of the handshake, which Speak made.
func (c *conversation) Encrypt(context.Context) (*tlsrule.Facts, finding.Result) {
	if c.tlsResult != nil {
		return c.tlsFacts, *c.tlsResult
	}
	if c.to.TLS.Rule == tlsrule.Off || c.to.Network == "unix" {
		result, _ := c.to.WithoutTLS(false, engine.NotOffered{})
		return nil, result
	}
	return nil, finding.Good("not encrypted: the listener speaks without TLS at this port")
}

// ask sends the connect packet and judges the answer. redirected is how many redirects were followed before.
func (c *conversation) ask(ctx context.Context, redirected int) finding.Result {
	defer probe.Guard(ctx, c.raw)()
	packet := tns.ConnectPacket(c.target())
	for range tns.MaxResends {
		if _, err := c.conn.Write(packet); err != nil {
			return c.probe.Nothing(ctx, err)
		}
		answer, other, result := c.listen(ctx)
		switch {
		case result != nil:
			return *result
		case other != nil:
			return c.probe.OtherService(*other, answer.Raw)
		}
		switch answer.Type {
		case tns.Resend:
			if answer.Renegotiates() && c.conn != c.raw {
				if result := c.again(ctx); result != nil {
					return *result
				}
			}
			continue
		case tns.Accept:
			return c.accept(answer)
		case tns.Refuse:
			refusal, err := tns.ParseRefuse(answer)
			if err != nil {
				return c.probe.ExplainAnswer(ctx, answer.Raw)
			}
			return finding.FailWith(c.listenerRefused(refusal))
		case tns.Redirect:
			return c.redirect(ctx, answer, redirected)
		}
		return c.probe.ExplainAnswer(ctx, answer.Raw)
	}
	return finding.FailWith(finding.New(finding.SpeakGarbage,
		"the listener at %s asks for the connect packet again and again", c.to.Address).
		Saw("asked %d times", tns.MaxResends).
		Suggest("gharbor test %s   # again; if it repeats, the listener's log says why", c.to.Profile))
}

// target is what we ask the listener for.
func (c *conversation) target() tns.Target {
	host, port, _ := net.SplitHostPort(c.to.Address)
	number := 0
	fmt.Sscan(port, &number)
	return tns.Target{
		Host:     host,
		Port:     number,
		Service:  c.to.Service,
		Instance: c.to.Instance,
		Secure:   c.conn != c.raw,
		Program:  "gharbor",
	}
}

// listen reads the answer to the connect packet; result is set where there is none.
func (c *conversation) listen(ctx context.Context) (answer tns.Packet, other *greeting.Service,
	result *finding.Result) {
	reply, other, err := c.probe.Listen(ctx, func() ([]byte, error) {
		var err error
		answer, err = tns.Read(c.conn)
		return answer.Raw, err
	})
	var judged finding.Result
	switch {
	case other != nil && other.TLS && c.conn != c.raw: // as it does: it was asked within TLS
		judged = c.probe.Nothing(ctx, os.ErrDeadlineExceeded)
	case other != nil && other.TLS:
		judged = c.tlsOnly("it answered only to TLS, on another connection")
	case other != nil:
		return answer, other, nil
	case errors.Is(err, tns.ErrNotTNS):
		judged = c.notTNS(ctx, reply)
	case err != nil && len(reply) > 0 && !errors.Is(err, os.ErrDeadlineExceeded):
		judged = c.notTNS(ctx, reply)
	case err != nil:
		if alert := probe.ClientCertificateAlert(err); alert != "" {
			judged = finding.FailWith(c.to.CertificateRefused(&c.facts, alert))
			break
		}
		if c.conn == c.raw && !errors.Is(err, os.ErrDeadlineExceeded) && ctx.Err() == nil && c.wantsTLS(ctx) {
			judged = c.tlsOnly("it closed the connection; on another one it spoke TLS")
			break
		}
		judged = c.probe.Nothing(ctx, err)
	default:
		return answer, nil, nil
	}
	return answer, nil, &judged
}

// notTNS is the result for an answer that is not of this protocol.
func (c *conversation) notTNS(ctx context.Context, reply []byte) finding.Result {
	if service, ok := c.probe.Recognise(reply); ok && service.TLS {
		return c.tlsOnly("its first bytes: " + clean.Bytes(reply, 16))
	}
	if c.conn != c.raw {
		return finding.FailWith(finding.New(finding.SpeakGarbage,
			"the server at %s speaks TLS, but is no Oracle listener",
			c.to.Address).
			Saw("its first bytes: %s", clean.Bytes(reply, 32)).
			Suggest("gharbor show %s   # are host and port right?", c.to.Profile))
	}
	return c.probe.ExplainAnswer(ctx, c.probe.ReadRest(reply))
}

// wantsTLS reports whether the listener answers a handshake.
func (c *conversation) wantsTLS(ctx context.Context) bool {
	if c.to.Redial == nil {
		return false
	}
	service, _, ok := greetings.Identify(ctx, c.to.Redial, greeting.TLS)
	return ok && service.TLS
}

// tlsOnly is the result for a listener that wants TLS, where the profile uses none.
func (c *conversation) tlsOnly(seen string) finding.Result {
	return finding.FailWith(finding.New(finding.SpeakTLSOnly,
		"the listener at %s speaks TLS from the first byte, but the rule is %s", c.to.Address, c.to.TLS.Rule).
		Saw("%s", seen).
		Suggest("gharbor set %s tls=verified", c.to.Profile))
}

// again makes a new handshake, where the server to which the listener hands the connection wants its own.
func (c *conversation) again(ctx context.Context) *finding.Result {
	secure, facts, result, err := c.to.TLS.Handshake(ctx, c.raw)
	if err != nil {
		result = finding.FailWith(tlsrule.Diagnose(err, c.to.Profile, c.to.Address,
			"set SSL_VERSION = 1.2 in the server's sqlnet.ora"))
		return &result
	}
	if result.Outcome == finding.Fail {
		return &result
	}
	c.tlsFacts, c.tlsResult, c.conn = facts, &result, secure
	c.facts.SetTLS(facts)
	return nil
}

// accept is the result for a listener that accepts.
func (c *conversation) accept(answer tns.Packet) finding.Result {
	var err error
	if c.accepted, err = tns.ParseAccept(answer); err != nil {
		return finding.FailWith(finding.New(finding.SpeakGarbage,
			"the listener at %s gives an unknown answer", c.to.Address).
			Saw("its answer: %s", clean.Bytes(answer.Raw, 40)).Suggest("gharbor show %s", c.to.Profile))
	}
	return finding.Good("the listener knows %s, protocol %d", c.describeTarget(), c.accepted.Version)
}

// describeTarget names what the listener was asked for.
func (c *conversation) describeTarget() string {
	if c.to.Service == "" {
		return "the instance " + clean.Quote(c.to.Instance)
	}
	return "the service " + clean.Quote(c.to.Service)
}

// redirect follows a redirect: once, and only to an address that the profile or its alias lists.
func (c *conversation) redirect(ctx context.Context, answer tns.Packet, before int) finding.Result {
	place, err := c.place(answer)
	if err != nil {
		return finding.FailWith(finding.New(finding.SpeakRedirected,
			"the listener at %s redirects, without a usable address", c.to.Address).
			Saw("it says %s", clean.Quote(place.Text)).
			Suggest("gharbor show %s   # is it the right listener?", c.to.Profile))
	}
	to := fmt.Sprintf("%s:%d", place.Host, place.Port)
	found := finding.New(finding.SpeakRedirected,
		"the listener at %s redirects to an address that neither the profile nor its alias has; nothing was sent "+
			"there", c.to.Address).
		Saw("it says %s", clean.Quote(to)).
		Suggest("gharbor show %s   # add the address to its alias or hosts, if it is to be trusted", c.to.Profile)
	if before > 0 {
		found.Cause = fmt.Sprintf("the listener at %s redirects to a listener that redirects again", c.to.Address)
		return finding.FailWith(found)
	}
	if c.to.Follow == nil {
		return finding.FailWith(found)
	}
	conn, address, listed, err := c.to.Follow(ctx, place.Host, place.Port)
	switch {
	case !listed:
		return finding.FailWith(found)
	case err != nil:
		found.Cause = fmt.Sprintf("the listener at %s redirects to %s, which does not accept", c.to.Address, to)
		return finding.FailWith(found.Saw("%s", clean.Line(probe.LastError(err), 200)))
	}
	from := c.to.Address
	c.raw.Close()
	c.raw, c.conn, c.probe.Conn, c.to.Address = conn, conn, conn, address
	c.probe.To.Address, c.probe.To.Redial = address, nil
	c.facts.Route = address
	if c.tlsResult != nil && !c.encryptFirst(ctx) {
		return finding.Good("%s redirects to %s, which answers (the rest is inside TLS)", from, address)
	}
	result := c.ask(ctx, before+1)
	if result.Outcome == finding.OK {
		result.Detail += fmt.Sprintf("; %s redirects to %s, which is listed", from, address)
	} else if result.Finding != nil {
		result.Finding.Saw("%s redirected there", from)
	}
	return result
}

// place is the address of a redirect.
func (c *conversation) place(answer tns.Packet) (tns.Place, error) {
	place, more, err := tns.ParseRedirect(answer)
	if err != nil || more == 0 {
		return place, err
	}
	next, err := tns.Read(c.conn)
	if err != nil {
		return place, err
	}
	body, err := tns.DataBody(next)
	if err != nil {
		return place, err
	}
	return tns.ParsePlace(bytes.TrimSuffix(body[:min(len(body), more)], []byte{0}), answer.Flags&2 != 0)
}

// LogInAs sets another user than the target's.
func (c *conversation) LogInAs(user string) { c.to.User = user }
