package mysql

import (
	"bytes"
	"context"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"

	driver "github.com/go-sql-driver/mysql"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/probe"
	"gentleharbor/core/finding"
)

// The methods by which a server asks who one is: the names of its plugins.
const (
	methodNone    = "none asked"
	methodNative  = "mysql_native_password"
	methodCaching = "caching_sha2_password"
	methodSHA256  = "sha256_password"
	methodClear   = "mysql_clear_password"
	methodEd25519 = "client_ed25519"
	methodSocket  = "unix-socket identity" // the plugins unix_socket and auth_socket
)

// cachingFull is a server's request for the password itself, which is not in its
// cache (MySQL documentation, "Caching_sha2_password information").
const cachingFull = 4

// These end a login before the password is sent.
var (
	errCleartext = errors.New("a password would have been sent in clear text")
	errMethod    = errors.New("a method that is not supported")
)

// attempt is one login under way.
type attempt struct {
	*conversation
	method string
	whole  bool // the server wanted the whole password, by caching_sha2_password
	sent   bool // a password that is not empty was used
	empty  bool // the password is empty
	blank  bool // or has a blank at an end, as files and pasting leave it
	key    *rsa.PublicKey
}

// Login logs in through the driver, over the connection that earlier stages tested, and opens no database: the next
// stage does.
func (c *conversation) Login(ctx context.Context) finding.Result {
	a := &attempt{conversation: c, method: clean.Line(c.hello.plugin, 60)}
	err := a.connect(ctx)
	c.facts.LoginMethod = a.method
	if err == nil {
		return a.loginResult(ctx)
	}
	return finding.FailWith(a.explainLogin(ctx, err))
}

// connect takes the password and runs the driver's login.
func (a *attempt) connect(ctx context.Context) error {
	config, err := a.config()
	if err != nil {
		return err
	}
	if !a.to.NoSecret {
		value, err := a.to.TakeSecret(ctx)
		if err != nil {
			return &engine.SecretError{Err: err}
		}
		config.Passwd = value.Disclose()
		a.empty, a.sent = value.Empty(), config.Passwd != ""
		a.blank = strings.TrimSpace(config.Passwd) != config.Passwd
	}
	if a.key != nil {
		name := fmt.Sprintf("gharbor-%d", keyNumber.Add(1))
		driver.RegisterServerPubKey(name, a.key)
		defer driver.DeregisterServerPubKey(name)
		config.ServerPubKey = name
	}
	a.replay = &replayConn{
		Conn:   a.conn,
		ready:  a.hello.forDriver(),
		caps:   a.hello.loginCaps(a.facts.TLS != "none"),
		driver: a.hello.caps & driverCaps,

		collation: a.hello.sessionCollation(),
		answer:    a.checkPacket,
	}
	if a.facts.TLS != "none" {
		a.replay.shift = 1
	}
	config.DialFunc = func(context.Context, string, string) (net.Conn, error) { return a.replay, nil }
	connector, err := driver.NewConnector(config)
	if err != nil {
		return err
	}
	return a.guardCall(func() (err error) {
		a.db, err = connector.Connect(ctx)
		return err
	})
}

// keyNumber makes the name of a key, by which the driver knows it, different for each login.
var keyNumber atomic.Int64

// silentLog replaces the driver's logger, which writes to standard error.
type silentLog struct{}

func (silentLog) Print(...any) {}

// config is the driver's configuration: nothing in it comes from an option
// file or the environment, which this driver does not read.
func (a *attempt) config() (*driver.Config, error) {
	config := driver.NewConfig()
	config.User = a.to.User
	if a.to.Network == "tcp" {
		config.Addr = a.to.Address // only told to the server: the connection is there
	}
	// The driver's word for a way on which it may send a password as it is;
	// over our TLS it can't see for itself.
	config.Net = "tcp"
	if a.to.ClearAllowed(&a.facts) {
		config.Net = "unix"
	}
	config.Logger = silentLog{}
	config.AllowCleartextPasswords = a.to.ClearAllowed(&a.facts)
	config.AllowOldPasswords = false
	config.AllowNativePasswords = true
	config.AllowFallbackToPlaintext = false
	config.CheckConnLiveness = false
	config.InterpolateParams = true
	config.ConnectionAttributes = "program_name:gharbor"
	if a.to.ServerKey != "" {
		var err error
		if a.key, err = readKey(a.to.ServerKey, a.to.Pinned); err != nil {
			return nil, err
		}
	}
	return config, nil
}

// keyError is a pinned key that can't be used.
type keyError struct {
	path string
	err  error
}

func (e *keyError) Error() string { return e.err.Error() }

// readKey reads a server's RSA public key, as the server writes it in PEM.
func readKey(path string, pinned map[string][]byte) (*rsa.PublicKey, error) {
	const largest = 64 << 10
	data, ok := pinned[path]
	if !ok {
		var err error
		if data, err = atomicfile.Read(path, largest); err != nil {
			return nil, &keyError{path, err}
		}
	}
	block, _ := pem.Decode(data)
	if block == nil {
		return nil, &keyError{path, errors.New("there is no PEM in it")}
	}
	parsed, err := x509.ParsePKIXPublicKey(block.Bytes)
	key, ok := parsed.(*rsa.PublicKey)
	if err != nil || !ok {
		return nil, &keyError{path, errors.New("the PEM in it is no RSA public key")}
	}
	return key, nil
}

// checkPacket reads a packet of the login before the driver does (MySQL documentation, "Connection Phase Packets").
func (a *attempt) checkPacket(body []byte) error {
	if len(body) == 0 {
		return nil
	}
	switch body[0] {
	case 0xfb:
		return &fileRequest{name: string(body[1:])}
	case 0xfe:
		plugin, _, _ := bytes.Cut(body[1:], []byte{0})
		a.method = clean.Line(string(plugin), 60)
		if len(plugin) == 0 {
			a.method = "mysql_old_password"
		}
		return a.checkMethod()
	case 1:
		full := a.method == methodCaching && len(body) == 2 && body[1] == cachingFull
		if !full && !bytes.Contains(body, []byte("PUBLIC KEY")) {
			return nil
		}
		// The whole password is wanted, or a key is offered to put it under
		// that could be anybody's.
		a.whole = true
		if full && (a.to.ClearAllowed(&a.facts) || a.key != nil && a.facts.TLS == "none") {
			return nil
		}
		return errCleartext
	}
	return nil
}

// checkMethod refuses a method that is not safe on this connection, where a server switches to it.
func (a *attempt) checkMethod() error {
	switch a.method {
	case methodNative, methodCaching, methodEd25519:
		return nil
	case methodClear:
		if !a.to.ClearAllowed(&a.facts) {
			return errCleartext
		}
		return nil
	case methodSHA256:
		if a.facts.TLS == "none" && a.key != nil {
			return nil
		}
	}
	return errMethod
}

// loginResult is the result of a login that the server accepted: which account it chose, and whether it asked for a
// password.
func (a *attempt) loginResult(ctx context.Context) finding.Result {
	if a.hello.program != nil { // its session, whose answers may have a form that the driver does not read
		a.facts.User = clean.Line(a.to.User, 100)
		return finding.Good("%s by %s", clean.Quote(a.to.User), a.method)
	}
	row, err := a.timeRow(ctx, "SELECT CURRENT_USER() AS account, USER() AS seen")
	if err != nil {
		if r := refusalOf(err); r != nil && r.Number == mustChangePassword {
			return finding.FailWith(a.explainExpiry(r,
				"the account may only set a new password"))
		}
		return finding.FailWith(a.explainLoss(err))
	}
	a.facts.Account, a.facts.SeenAs = clean.Line(row["account"], 200), clean.Line(row["seen"], 200)
	user, _, _ := cutLast(row["account"], "@")
	a.facts.User = clean.Line(user, 100)
	if !a.sent || a.to.Network == "unix" {
		a.findIdentification(ctx)
	}
	a.facts.LoginMethod = a.method
	detail := fmt.Sprintf("%s by %s", clean.Quote(row["account"]), a.method)
	if a.method == methodNone {
		detail = clean.Quote(row["account"]) + ", no password asked"
	}
	switch {
	case strings.TrimSpace(row["account"]) == "@" || row["account"] == "": // an account has a host
		return finding.WarnWith(finding.New(finding.LoginUnchecked,
			"the server checks no accounts and no passwords at all (skip-grant-tables)").
			Saw("the account is %s", clean.Quote(row["account"])).
			Advise("on the server: start it without skip-grant-tables, or run FLUSH PRIVILEGES"), "%s",
			clean.Quote(a.to.User)+", not checked")
	case user == "" && a.to.User != "":
		return finding.WarnWith(finding.New(finding.LoginAnonymous,
			"the server let %s in as the anonymous account: there is no account of that name for this machine",
			clean.Quote(a.to.User)).
			Saw("the account is %s, and the server sees %s", clean.Quote(row["account"]), clean.Quote(row["seen"])).
			AsAdmin(a.to.Admin, "DROP USER %s", a.accountName("", hostOf(row["account"]))), "%s", detail)
	case a.method == methodNone && user == "root":
		return finding.WarnWith(finding.New(finding.LoginRootWithoutPassword,
			"the account root has no password: everybody who reaches this server is its administrator").
			Saw("the account is %s", clean.Quote(row["account"])).
			Advise("as root, run: ALTER USER %s IDENTIFIED BY 'NEW-PASSWORD' (in a session, not in a shell's history)",
				a.accountName(a.to.User, hostOf(row["account"]))), "%s", detail)
	case a.method == methodNone:
		return finding.WarnWith(finding.New(finding.LoginNoPasswordAsked, "the server let %s in without a password",
			clean.Quote(a.to.User)).
			Saw("the account %s has none", clean.Quote(row["account"])).
			AdviseUnseen("ALTER USER %s IDENTIFIED BY 'NEW-PASSWORD'",
				a.accountName(a.to.User, hostOf(row["account"]))), "%s", detail)
	}
	return finding.Good("%s", detail)
}

// findIdentification finds out how the server identified the account where it asked for no password: by the system
// account behind the socket, or not at all.
func (a *attempt) findIdentification(ctx context.Context) {
	text, err := a.value(ctx, "SHOW CREATE USER CURRENT_USER()")
	socket := err == nil && (strings.Contains(text, "unix_socket") || strings.Contains(text, "auth_socket"))
	switch {
	case socket && a.to.Network == "unix" && (!a.sent || !strings.Contains(text, methodNative)):
		a.method = methodSocket
	case !a.sent:
		a.method = methodNone
	}
}

// explainLogin turns the end of a login into a finding.
func (a *attempt) explainLogin(ctx context.Context, err error) *finding.Finding {
	var taking *engine.SecretError
	var key *keyError
	switch {
	case errors.Is(err, errCleartext):
		return a.cleartext()
	case errors.Is(err, errMethod):
		return a.explainMethod()
	case errors.Is(err, errLocalFile):
		return a.askedForFile(err)
	case errors.As(err, &key):
		return finding.New(finding.ProfileTLSFile, "server-key: %s cannot be used", key.path).
			Saw("%s", clean.Line(probe.LastError(key.err), 0)).
			Suggest("ls -l %s", clean.Shell(filepath.Dir(key.path))).
			Advise("name a file with the server's key: gharbor set %s server-key=PATH", a.to.Profile)
	case errors.As(err, &taking):
		return a.to.ExplainSecretError(taking)
	}
	if r := refusalOf(err); r != nil {
		return a.serverRefused(r)
	}
	return a.brokenOff(ctx, err)
}

func (a *attempt) explainMethod() *finding.Finding {
	found := finding.New(finding.LoginUnsupportedMethod,
		"the server wants a login by %s, which gharbor does not do here", clean.Quote(a.method))
	if a.method == methodSHA256 {
		found.Saw("gharbor does it only without TLS and with the server's public key (server-key)")
	}
	plugin := methodNative
	if !a.hello.mariadb {
		plugin = methodCaching
	}
	by := "WITH " + plugin + " BY 'THE-PASSWORD'"
	if a.hello.mariadb {
		by = "VIA " + plugin + " USING PASSWORD('THE-PASSWORD')"
	}
	return found.Advise("as an administrator, run: ALTER USER %s IDENTIFIED %s", a.someAccount(), by)
}

func (a *attempt) cleartext() *finding.Finding {
	found := finding.New(finding.LoginCleartextRefused,
		"the server wants the password in clear text (%s); gharbor sends it only over verified TLS, or to a "+
			"checked socket", a.method)
	if a.whole {
		found.Saw("this method needs the whole password at the first login after a server start or a password " +
			"change, and for accounts that do not exist")
	}
	a.to.NotInTheClear(found, &a.facts)
	if a.whole && a.facts.TLS == "none" && a.to.Network == "tcp" {
		found.Advise("name a file with the server's key: gharbor set %s server-key=PATH (a copy of the server's "+
			"public_key.pem, copied in a safe way)", a.to.Profile)
	}
	return found
}

// askedForFile is for a server that asks for a file of this machine. Nothing is sent to it.
func (c *conversation) askedForFile(err error) *finding.Finding {
	found := finding.New(finding.SessionAsksForFile,
		"the server asked for a file of this machine, which no honest server does; it got nothing, and the "+
			"connection was closed")
	var request *fileRequest
	if errors.As(err, &request) {
		found.Saw("it asked for %s", clean.Quote(request.name))
	}
	return found.Suggest("gharbor show %s   # is that the right server?", c.to.Profile).
		Suggest("gharbor certificate %s", c.to.Profile)
}

// brokenOff is for a login that ended without an answer.
func (a *attempt) brokenOff(ctx context.Context, err error) *finding.Finding {
	if alert := probe.ClientCertificateAlert(err); alert != "" {
		return a.to.CertificateRefused(&a.facts, alert)
	}
	sent := a.to.TLS.Cert != "" && a.facts.TLS != "none"
	if sent && ctx.Err() == nil {
		if alert := a.findCertificateFault(ctx); alert != "" {
			return a.to.CertificateRefused(&a.facts, alert+" (on another connection, by TLS 1.2)")
		}
	}
	if ctx.Err() != nil || errors.Is(err, os.ErrDeadlineExceeded) {
		return a.to.LoginTimeout(a.method, false)
	}
	found := a.to.LoginBrokenOff(plain(err))
	if sent {
		found.Saw("a client certificate was sent: a server that does not accept it may close the connection like this")
	}
	return found
}

// findCertificateFault finds out whether the client's certificate ended a login that got no answer: with TLS 1.3 the
// server's alert comes after the handshake, and is lost when the server closes. It is "" where the server accepts the
// certificate.
func (a *attempt) findCertificateFault(ctx context.Context) string {
	if a.to.Redial == nil {
		return ""
	}
	raw, err := a.to.Redial(ctx)
	if err != nil {
		return ""
	}
	defer raw.Close()
	other := &conversation{to: a.to, raw: raw}
	release := probe.Guard(ctx, raw)
	first, _, err := other.readFirst()
	release()
	if err != nil {
		return ""
	}
	greets, _, err := parseFirst(first)
	if err != nil || greets == nil {
		return ""
	}
	plan := *a.to.TLS
	plan.MaxVersion = tls.VersionTLS12
	_, _, _, err = other.handshake(ctx, raw, greets, &plan)
	return probe.ClientCertificateAlert(err)
}
