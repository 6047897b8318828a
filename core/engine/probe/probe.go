// Package probe is what the speak stage of every engine has in common: it
// waits for the first bytes of a server, finds out on other connections what
// is there when they do not come or are another protocol's, and says so. It
// stands between engine and its sub-packages; which bytes are the engine's own
// is theirs to say.
package probe

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/defect"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/finding"
)

// Probe is one attempt to get a server to speak.
type Probe struct {
	To   engine.Target
	Conn net.Conn // as dialled
	Word string   // the engine in the profile
	Name string   // the engine in a sentence: "PostgreSQL"
	Ours []string // the engine words that are this engine's servers

	Protocol string // for a sentence about what was tried: "PostgreSQL's"

	// Starting is what a starting server of this engine looks like from here.
	Starting string

	// Direct: this engine's servers may speak TLS from the first byte, which the profile can say (tls-start).
	Direct bool

	// First: this engine's servers that take TLS take it from the first byte, and the rule says whether it is tried.
	First bool

	askedAll bool // whether every probe had its turn
}

// Guard makes ctx bound a connection's reads and writes until release.
func Guard(ctx context.Context, conn net.Conn) (release func()) {
	deadline, _ := ctx.Deadline()
	conn.SetDeadline(deadline)
	stop := context.AfterFunc(ctx, func() { conn.SetDeadline(time.Unix(1, 0)) })
	return func() {
		if stop() {
			conn.SetDeadline(time.Time{})
		}
	}
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

// Listen runs read, which waits for the server's first bytes. While none come,
// it asks what else could be there; other is what answered as something else.
func (o *Probe) Listen(ctx context.Context,
	read func() ([]byte, error)) (reply []byte, other *greeting.Service, err error) {
	type answer struct {
		reply []byte
		err   error
	}
	answers := make(chan answer, 1)
	defect.Go(func() {
		reply, err := read()
		answers <- answer{reply, err}
	})
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
	defect.Go(func() {
		if service, ok := o.Identify(probing); ok {
			others <- &service
			return
		}
		others <- nil
	})
	select {
	case a := <-answers: // only slow
		stop()
		<-others
		return a.reply, nil, a.err
	case other = <-others:
	}
	if other != nil {
		o.Conn.SetDeadline(time.Unix(1, 0))
	}
	a := <-answers
	return a.reply, other, a.err
}

// Identify asks what is there, on connections of its own. ok is false where
// nothing recognisable answers, and for a server of this engine.
func (o *Probe) Identify(ctx context.Context) (s greeting.Service, ok bool) {
	if o.To.Redial == nil {
		return greeting.Service{}, false
	}
	probes, _ := o.To.Greetings.OtherProbes(o.Word)
	service, asked, ok := o.To.Greetings.Identify(ctx, o.To.Redial, probes...)
	o.askedAll = asked == len(probes) && ctx.Err() == nil
	return service, ok && !o.isOurs(service)
}

func (o *Probe) isOurs(s greeting.Service) bool {
	for _, word := range o.Ours {
		if s.Engine == word {
			return true
		}
	}
	return false
}

// Recognise names the other service whose first bytes p are.
func (o *Probe) Recognise(p []byte) (s greeting.Service, ok bool) {
	s, ok = o.To.Greetings.Recognise(p)
	return s, ok && !o.isOurs(s)
}

// OtherService is the result for a server of another kind. reply is what it sent.
func (o *Probe) OtherService(s greeting.Service, reply []byte) finding.Result {
	if s.TLS && o.First {
		return finding.FailWith(finding.New(finding.SpeakTLSOnly,
			"the server at %s speaks TLS from the first byte, and the profile's rule is %s", o.To.Address, o.To.TLS.Rule).
			Suggest("gharbor test %s -override tls=verified", o.To.Profile).
			Suggest("gharbor nearby"))
	}
	if s.TLS {
		if o.Direct {
			return finding.FailWith(finding.New(finding.SpeakTLSOnly,
				"the server at %s speaks TLS from the first byte, and was asked first: it wants direct TLS, or is another kind "+
					"of server", o.To.Address).
				Suggest("gharbor test %s -override tls-start=direct -override tls=verified", o.To.Profile).
				Suggest("gharbor nearby"))
		}
		return finding.FailWith(finding.New(finding.SpeakTLSOnly,
			"the server at %s speaks TLS from the first byte, which %s does not: it is another kind of server, or "+
				"a TLS proxy", o.To.Address, o.Name).
			Suggest("gharbor nearby").
			Advise("give the right port: gharbor set %s port=PORT", o.To.Profile))
	}
	found := finding.New(finding.SpeakOtherEngine, "%s answers at %s, but the profile says %s", s.What, o.To.Address,
		o.Word)
	if len(reply) > 0 {
		found.Saw("its first bytes: %s", clean.Bytes(reply, 40))
	} else {
		found.Saw("it answered only in its own protocol, on another connection")
	}
	if s.Engine != "" {
		found.Suggest("gharbor set %s engine=%s   # if that is the right server", o.To.Profile, s.Engine)
	}
	return finding.FailWith(o.suggestPlace(found))
}

// suggestPlace says how to name another place.
func (o *Probe) suggestPlace(found *finding.Finding) *finding.Finding {
	key, what := "port=PORT", "port"
	if o.To.Network == "unix" {
		key, what = "socket=PATH", "socket"
	}
	return found.Suggest("gharbor nearby").Advise("if the %s is wrong: gharbor set %s %s", what, o.To.Profile, key)
}

// ReadRest reads on for a moment: a greeting may come in pieces.
func (o *Probe) ReadRest(reply []byte) []byte {
	const moment, enough = 400 * time.Millisecond, 256
	o.Conn.SetReadDeadline(time.Now().Add(moment))
	for len(reply) < enough {
		if _, ok := o.Recognise(reply); ok {
			break
		}
		piece := make([]byte, enough)
		n, err := o.Conn.Read(piece)
		reply = append(reply, piece[:n]...)
		if err != nil {
			break
		}
	}
	return reply
}

// ExplainAnswer returns the result for an answer that is not the engine's: another
// server where it can be recognised, else bytes of no known protocol.
func (o *Probe) ExplainAnswer(ctx context.Context, reply []byte) finding.Result {
	if service, ok := o.Recognise(reply); ok {
		return o.OtherService(service, reply)
	}
	if service, ok := o.Identify(ctx); ok {
		return o.OtherService(service, reply)
	}
	return finding.FailWith(o.suggestPlace(finding.New(finding.SpeakGarbage,
		"the server at %s does not speak %s's protocol, nor any other that gharbor knows", o.To.Address, o.Name).
		Saw("its first bytes: %s", clean.Bytes(reply, 32))))
}

// Nothing is the result for a server that closed, or stayed silent.
func (o *Probe) Nothing(ctx context.Context, err error) finding.Result {
	if errors.Is(err, os.ErrDeadlineExceeded) || ctx.Err() != nil {
		heard := "no answer to " + o.Name + "'s first message (no time was left to try other protocols)"
		if o.askedAll {
			_, others := o.To.Greetings.OtherProbes(o.Word)
			heard = "no answer to " + clean.Alternatives(append([]string{o.Protocol}, others...)) + " opening"
		}
		found := finding.New(finding.SpeakSilent,
			"%s accepts the connection and then says nothing: the server hangs or is overloaded%s, or a proxy has "+
				"no server behind it", o.To.Address, o.Starting).
			Saw("%s", heard)
		return finding.FailWith(found.Suggest("gharbor test %s -timeout 60s   # if it is only slow", o.To.Profile).
			Suggest("gharbor nearby"))
	}
	if service, ok := o.Identify(ctx); ok {
		return o.OtherService(service, nil)
	}
	what := "closed the connection without a message"
	if !errors.Is(err, io.EOF) {
		what = "reset the connection"
	}
	return finding.FailWith(finding.New(finding.SpeakClosed,
		"%s accepted the connection and %s: the server is starting or full, or a proxy has no server behind it or "+
			"waits for a PROXY header",
		o.To.Address, what).
		Saw("%s", clean.Line(plainError(err), 0)).
		Suggest("gharbor wait %s   # until it is ready", o.To.Profile).
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

// LastError is the innermost text of a chain of errors: a driver's wrapping
// repeats host and user.
func LastError(err error) string {
	for {
		switch next := err.(type) {
		case interface{ Unwrap() error }:
			if next.Unwrap() == nil {
				return err.Error()
			}
			if _, ok := err.(*net.OpError); ok {
				return err.Error()
			}
			err = next.Unwrap()
		case interface{ Unwrap() []error }:
			all := next.Unwrap()
			if len(all) == 0 {
				return err.Error()
			}
			err = all[len(all)-1]
		default:
			return err.Error()
		}
	}
}

// ClientCertificateAlert is the TLS alert with which a server refuses a client
// certificate, or its absence. TLS 1.3 tells it only after the handshake.
func ClientCertificateAlert(err error) string {
	if err == nil {
		return ""
	}
	text := LastError(err)
	if !strings.Contains(text, "remote error: tls:") {
		return ""
	}
	return text
}
