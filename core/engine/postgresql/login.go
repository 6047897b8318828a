package postgresql

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/probe"
	"gentleharbor/core/finding"
)

// The ways in which a server asks who one is.
const (
	methodNone      = "none asked"
	methodCleartext = "cleartext password"
	methodMD5       = "MD5"
	methodSCRAM     = "SCRAM-SHA-256" // with -PLUS behind it where it is bound to the TLS connection (RFC 5929)
)

// observer reads what the server sends before the driver does. It sees which method the server asks for, fetches the
// password only then, and refuses methods that would give the password away.
type observer struct {
	io.Reader
	buffer  []byte // whole and partial messages not yet handed on
	ready   int    // bytes of buffer that are looked at
	done    bool   // the login is over: bytes pass through
	onAuth  func(code uint32, rest []byte) error
	authOK  bool
	problem error
}

func (o *observer) Read(p []byte) (int, error) {
	if o.done && o.ready == 0 && len(o.buffer) == 0 {
		return o.Reader.Read(p)
	}
	for o.ready == 0 {
		chunk := make([]byte, 4096)
		n, err := o.Reader.Read(chunk)
		o.buffer = append(o.buffer, chunk[:n]...)
		if lookErr := o.look(); lookErr != nil {
			o.problem = lookErr
			return 0, lookErr
		}
		if err != nil && o.ready == 0 {
			return 0, err
		}
	}
	n := copy(p, o.buffer[:o.ready])
	o.buffer = o.buffer[n:]
	o.ready -= n
	return n, nil
}

// look reads the complete messages in the buffer. It handles authentication messages; one that is too long ends the
// login.
func (o *observer) look() error {
	for !o.done {
		rest := o.buffer[o.ready:]
		if len(rest) < 5 {
			return nil
		}
		size := int(binary.BigEndian.Uint32(rest[1:])) + 1
		if size < 5 || size > maxMessage {
			return fmt.Errorf("a message of %d bytes during the login", size)
		}
		if rest[0] != 'R' && rest[0] != 'E' {
			o.done = rest[0] == 'Z'
		}
		if len(rest) < size {
			return nil
		}
		if rest[0] == 'R' && size >= 9 {
			if err := o.onAuth(binary.BigEndian.Uint32(rest[5:]), rest[9:size]); err != nil {
				return err
			}
		}
		o.ready += size
	}
	o.ready = len(o.buffer)
	return nil
}

// errNoSecret and the others end a login before the password is sent.
var (
	errNoSecret  = errors.New("no password to send")
	errCleartext = errors.New("a password would have been sent in clear text")
	errMethod    = errors.New("a method that is not supported")
)

// attempt is one login under way.
type attempt struct {
	*conversation
	config *pgconn.Config
	watch  *observer
	method string

	choosing bool // the driver is about to answer with a SASL mechanism

	empty bool // the password sent was empty
	blank bool // or has a blank at an end, as files and pasting leave it
}

// Login logs in through the driver, over the connection that earlier stages tested. Where the server accepts the
// account and refuses the database, Database reports it.
func (c *conversation) Login(ctx context.Context) finding.Result {
	a := &attempt{conversation: c, method: methodNone}
	pg, err := a.connect(ctx)
	c.facts.LoginMethod = a.method
	if err == nil {
		c.pg = pg
		return a.loginResult()
	}
	if refusal := aboutDatabase(err); refusal != nil && a.watch.authOK {
		c.refusal, c.used = refusal, a.config
		return a.loginResult()
	}
	return finding.FailWith(a.explainLogin(ctx, err))
}

// Database reports whether the login may use the database.
func (c *conversation) Database(ctx context.Context) finding.Result {
	if c.refusal != nil {
		return finding.FailWith(c.databaseRefused(ctx))
	}
	if name := c.to.Database; len(name) > maxName {
		cut := strings.ToValidUTF8(name[:maxName], "")
		return finding.WarnWith(finding.New(finding.DatabaseNameTooLong,
			"the database's name has %d bytes; the server uses the first %d", len(name), len(cut)).
			Saw("it opened %s", clean.Quote(cut)).
			Suggest("gharbor set %s database=%s", c.to.Profile, clean.Shell(cut)), "%s", clean.Quote(cut))
	}
	return finding.Good("%s", clean.Quote(c.to.Database))
}

// maxName is how many bytes of a name count (PostgreSQL documentation, "Identifiers and Key Words"; NAMEDATALEN - 1).
const maxName = 63

// config is the driver's configuration. It sets each value that the driver would else take from the environment or
// the home folder.
func (c *conversation) config(conn net.Conn, database string) (*pgconn.Config, error) {
	config, err := pgconn.ParseConfig("host=server port=5432 user=user dbname=database password=none sslmode=disable " +
		"passfile=none " +
		"connect_timeout=0 target_session_attrs=any channel_binding=prefer min_protocol_version=3.0 " +
		"max_protocol_version=3.0")
	if err != nil {
		return nil, err
	}
	config.User, config.Database, config.Password = c.to.User, database, ""
	config.RuntimeParams = c.parameters()
	config.TLSConfig, config.Fallbacks = nil, nil
	// never dialled
	config.LookupFunc = func(context.Context, string) ([]string, error) { return []string{"127.0.0.1"}, nil }
	config.DialFunc = func(context.Context, string, string) (net.Conn, error) { return conn, nil }
	config.MaxProtocolMessageBodyLen = maxMessage
	if c.to.ForStatements {
		config.MaxProtocolMessageBodyLen = 0 // a row is as long as the server makes it
	}
	config.OnNotice = c.handOnNotice
	config.RequireAuth = "password,md5,scram-sha-256,none"
	return config, nil
}

func (a *attempt) connect(ctx context.Context) (*pgconn.PgConn, error) {
	conn := a.conn
	if a.early != nil {
		conn = &resumedConn{Conn: a.conn, read: a.early}
	}
	config, err := a.conversation.config(conn, a.to.Database)
	if err != nil {
		return nil, err
	}
	a.config = config
	a.watch = &observer{onAuth: func(code uint32, rest []byte) error { return a.handleAuthentication(ctx, code, rest) }}
	a.conversation.watch = a.watch
	config.BuildFrontend = func(r io.Reader, w io.Writer) *pgproto3.Frontend {
		a.watch.Reader = r
		return pgproto3.NewFrontend(a.watch, &mechanismReader{w, a})
	}
	pg, err := pgconn.ConnectConfig(ctx, config)
	if err != nil && a.watch.problem != nil {
		err = a.watch.problem
	}
	return pg, err
}

// mechanismReader reads which SASL mechanism the driver answers with, of those offered.
type mechanismReader struct {
	io.Writer
	attempt *attempt
}

// Write looks for SASLInitialResponse (PostgreSQL documentation, "Message
// Formats"): 'p', a length, the mechanism's name and a zero.
func (c *mechanismReader) Write(p []byte) (int, error) {
	if c.attempt.choosing && len(p) > 5 && p[0] == 'p' {
		name, _, _ := bytes.Cut(p[5:], []byte{0})
		c.attempt.method, c.attempt.choosing = string(name), false
	}
	return c.Writer.Write(p)
}

// handleAuthentication handles an authentication message (PostgreSQL documentation, "Message
// Formats", AuthenticationOk and those after it).
func (a *attempt) handleAuthentication(ctx context.Context, code uint32, rest []byte) error {
	switch code {
	case pgproto3.AuthTypeOk:
		a.watch.authOK = true
		return nil
	case pgproto3.AuthTypeSASLContinue:
		return nil
	case pgproto3.AuthTypeSASLFinal: // the password was right
		a.watch.authOK = true
		return nil
	case pgproto3.AuthTypeMD5Password:
		a.method = methodMD5
	case pgproto3.AuthTypeSASL:
		a.method, a.choosing = methodSCRAM, true
		if !bytes.Contains(rest, []byte(methodSCRAM+"\x00")) {
			a.method = "SASL " + clean.Line(strings.ReplaceAll(string(rest), "\x00", " "), 60)
			return errMethod
		}
	case pgproto3.AuthTypeCleartextPassword:
		a.method = methodCleartext
	default:
		a.method = authName(code)
		return errMethod
	}
	if a.method == methodCleartext && !a.to.ClearAllowed(&a.facts) {
		return errCleartext
	}
	if a.to.NoSecret {
		return errNoSecret
	}
	value, err := a.to.TakeSecret(ctx)
	if err != nil {
		return &engine.SecretError{Err: err}
	}
	a.config.Password = value.Disclose()
	a.empty = value.Empty()
	a.blank = strings.TrimSpace(a.config.Password) != a.config.Password
	if a.choosing { // SCRAM
		a.config.Password = engine.SASLPrep(a.config.Password)
	}
	return nil
}

func authName(code uint32) string {
	switch code {
	case pgproto3.AuthTypeGSS, pgproto3.AuthTypeGSSCont:
		return "GSSAPI"
	case 9:
		return "SSPI"
	case 2:
		return "Kerberos V5"
	}
	return fmt.Sprintf("authentication request %d", code)
}

// loginResult is the result of a login that the server let pass.
func (a *attempt) loginResult() finding.Result {
	detail := fmt.Sprintf("%s by %s", clean.Quote(a.to.User), a.method)
	switch a.method {
	case methodNone:
		detail = fmt.Sprintf("%s, no password asked", clean.Quote(a.to.User))
		found := finding.New(finding.LoginNoPasswordAsked, "the server let %s in without asking for a password",
			clean.Quote(a.to.User)).
			Saw("its access rules say trust, or it checked the system account (peer, ident) or a certificate: " +
				"these look " +
				"the same from here")
		if a.to.Network == "unix" {
			found.Saw("on a Unix socket it is mostly peer: the system account of that name is let in")
		}
		return finding.WarnWith(found.Advise("on the server: SELECT type, database, user_name, address, auth_method "+
			"FROM pg_hba_file_rules"), "%s", detail)
	case methodMD5:
		return finding.WarnWith(finding.New(finding.LoginWeakMethod,
			"the server asked for an MD5 login, which is broken: from the exchange or the stored hash the password "+
				"can be found").
			Advise("on the server: SET password_encryption = 'scram-sha-256', set the password of %s again, then "+
				"use scram-sha-256 in pg_hba.conf", identifier(a.to.User)), "%s", detail)
	}
	return finding.Good("%s", detail)
}

// explainLogin turns the end of a login into a finding.
func (a *attempt) explainLogin(ctx context.Context, err error) *finding.Finding {
	var taking *engine.SecretError
	var server *pgconn.PgError
	switch {
	case errors.Is(err, errNoSecret):
		return a.noSecret()
	case errors.Is(err, errCleartext):
		return a.cleartext()
	case errors.Is(err, errMethod):
		return finding.New(finding.LoginUnsupportedMethod,
			"the server wants a login by %s, which gharbor does not do", a.method).
			Advise("on the server: a line for this account with scram-sha-256 in pg_hba.conf")
	case errors.As(err, &taking):
		return a.to.ExplainSecretError(taking)
	case errors.As(err, &server):
		return a.serverRefused(ctx, server)
	}
	return a.brokenOff(ctx, err)
}

func (a *attempt) noSecret() *finding.Finding {
	found := finding.New(finding.SecretMissing, "the server wants a password, and none was found")
	if len(a.to.NoSecretTried) == 0 {
		found = finding.New(finding.LoginPasswordWanted, "the server wants a password; the profile sends none").
			Saw("it asked by %s", a.method)
	}
	return a.to.PasswordWanted(found)
}

func (a *attempt) cleartext() *finding.Finding {
	found := finding.New(finding.LoginCleartextRefused,
		"the server wants the password in clear text; gharbor sends it only over verified TLS, or to a checked socket")
	a.to.NotInTheClear(found, &a.facts)
	if a.to.Network == "tcp" {
		found.Advise("on the server: scram-sha-256 instead of password in pg_hba.conf")
	}
	return found
}

// brokenOff is for a login that ended without an answer.
func (a *attempt) brokenOff(ctx context.Context, err error) *finding.Finding {
	if alert := probe.ClientCertificateAlert(err); alert != "" {
		return a.to.CertificateRefused(&a.facts, alert)
	}
	if a.to.TLS.Cert != "" && a.facts.TLS != "none" && ctx.Err() == nil {
		if alert := a.findCertificateFault(ctx); alert != "" {
			return a.to.CertificateRefused(&a.facts, alert+" (on another connection, by TLS 1.2)")
		}
	}
	if ctx.Err() != nil || errors.Is(err, os.ErrDeadlineExceeded) {
		return a.to.LoginTimeout(a.method, a.watch != nil && a.watch.authOK)
	}
	return a.to.LoginBrokenOff(probe.LastError(err))
}

// findCertificateFault finds out whether the client's certificate ended a login that got no answer: with TLS 1.3 the
// server's alert comes after the handshake, and is lost when the server closes. It is "" where the server accepts the
// certificate.
func (a *attempt) findCertificateFault(ctx context.Context) string {
	plan := *a.to.TLS
	plan.MaxVersion = tls.VersionTLS12
	secure, err := a.secureAgain(ctx, &plan)
	if err == nil {
		secure.Close()
		return ""
	}
	return probe.ClientCertificateAlert(err)
}
