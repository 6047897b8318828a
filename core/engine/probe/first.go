package probe

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/tlsrule"
)

// FirstTLS is how an engine's servers speak TLS whose ports either speak it from the first byte, or not at all.
type FirstTLS struct {
	// Plain reports whether the server at the other end of a new connection answers without TLS.
	Plain func(ctx context.Context, conn net.Conn) bool
	// Behind finds out whether the other side of an encrypted connection is the engine.
	Behind   func(ctx context.Context, secure net.Conn) finding.Result
	Question string // that it answers: "PING"
	Server   string // how TLS is switched on, on the server
	Versions string // how newer versions of TLS are allowed there
}

// Strict reports whether TLS begins with the first byte: the rule says so, as a port can't be asked.
func (o *Probe) Strict() bool {
	return o.To.Network != "unix" && (o.To.TLS.Rule == tlsrule.Required || o.To.TLS.Rule == tlsrule.Verified)
}

// Encrypt does the handshake of a strict rule, and notes it in f. What speaks behind it is asked there then.
func (o *Probe) Encrypt(ctx context.Context, f *engine.Facts, words FirstTLS) (*tlsrule.Facts, finding.Result) {
	if !o.Strict() {
		result, _ := o.To.WithoutTLS(false, engine.NotOffered{Port: true})
		return nil, result
	}
	secure, facts, result := o.handshake(ctx, words)
	if secure == nil {
		return nil, result
	}
	f.SetTLS(facts)
	if result.Outcome == finding.Fail { // nothing is sent to a server that is not trusted
		return facts, result
	}
	if spoken := words.Behind(ctx, secure); spoken.Outcome == finding.Fail {
		return facts, spoken
	}
	return facts, result
}

// handshake encrypts the connection. secure is nil where that failed.
func (o *Probe) handshake(ctx context.Context, words FirstTLS) (secure net.Conn, facts *tlsrule.Facts,
	result finding.Result) {
	// A port without TLS may take the handshake for a message that is not whole, and wait for its end.
	patient, stop := context.WithTimeout(ctx, handshakePatience(ctx))
	defer stop()
	conn, facts, result, err := o.To.TLS.Handshake(patient, o.Conn)
	if err == nil {
		o.To.Redial = nil // what speaks behind TLS is not found out by connections without it
		return conn, facts, result
	}
	if !o.speaksPlainly(ctx, words) {
		return nil, nil, finding.FailWith(tlsrule.Diagnose(err, o.To.Profile, o.To.Address, words.Versions))
	}
	return nil, nil, finding.FailWith(finding.New(finding.TLSNotOffered,
		"the server at %s speaks without TLS on this port, but the rule is %s", o.To.Address, o.To.TLS.Rule).
		Saw("it answers %s without TLS, and no TLS handshake", words.Question).
		Advise("on the server: %s", words.Server).
		Suggest("gharbor set %s tls=offered   # only where nobody else is on the way", o.To.Profile))
}

// handshakePatience is how long a server has for a handshake before another connection finds out whether it speaks
// without TLS.
func handshakePatience(ctx context.Context) time.Duration {
	const usual = 3 * time.Second
	if deadline, ok := ctx.Deadline(); ok {
		return min(usual, time.Until(deadline)*2/5)
	}
	return usual
}

// speaksPlainly asks by another connection whether the server speaks without TLS.
func (o *Probe) speaksPlainly(ctx context.Context, words FirstTLS) bool {
	if o.To.Redial == nil {
		return false
	}
	conn, err := o.To.Redial(ctx)
	if err != nil {
		return false
	}
	defer conn.Close()
	defer Guard(ctx, conn)()
	return words.Plain(ctx, conn)
}

// ExplainWriteError returns the result for a first message that could not be written. With TLS 1.3 a client's
// certificate is refused behind the handshake: what is left to be read says so.
func (o *Probe) ExplainWriteError(ctx context.Context, conn net.Conn, f *engine.Facts, err error) finding.Result {
	if _, readErr := conn.Read(make([]byte, 1)); ClientCertificateAlert(readErr) != "" {
		return finding.FailWith(o.To.CertificateRefused(f, ClientCertificateAlert(readErr)))
	}
	return o.Nothing(ctx, err)
}

// EndedAtLogin is for a connection that ended while a login by a method was answered.
func (o *Probe) EndedAtLogin(ctx context.Context, f *engine.Facts, method string, err error) *finding.Finding {
	if alert := ClientCertificateAlert(err); alert != "" {
		return o.To.CertificateRefused(f, alert)
	}
	if ctx.Err() != nil || errors.Is(err, os.ErrDeadlineExceeded) {
		return o.To.LoginTimeout(method, false)
	}
	return o.To.LoginBrokenOff(LastError(err))
}

// Head keeps the first bytes that are read, until Done.
type Head struct {
	io.Reader
	Bytes []byte
	Done  bool
}

func (h *Head) Read(p []byte) (int, error) {
	const most = 4096
	n, err := h.Reader.Read(p)
	if !h.Done && len(h.Bytes) < most {
		h.Bytes = append(h.Bytes, p[:n]...)
	}
	return n, err
}
