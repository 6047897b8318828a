package postgresql

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine/probe"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearest"
	"gentleharbor/core/tlsrule"
)

// SQLSTATE codes (PostgreSQL documentation, "PostgreSQL Error Codes") with
// which a server refuses a login.
const (
	invalidAuthorization = "28000"
	invalidPassword      = "28P01"
	invalidCatalogName   = "3D000"
	insufficientRight    = "42501"
	tooManyConnections   = "53300"
	notInRequiredState   = "55000"
	adminShutdown        = "57P01"
	crashShutdown        = "57P02"
	cannotConnectNow     = "57P03"
)

// parseError reads an ErrorResponse among the bytes that answer a startup.
func (c *conversation) parseError(p []byte) *pgconn.PgError {
	if len(p) < 5 || p[0] != 'E' {
		return nil
	}
	size := int(binary.BigEndian.Uint32(p[1:])) + 1
	if size < 5 || size > len(p) {
		return nil
	}
	var m pgproto3.ErrorResponse
	if m.Decode(p[5:size]) != nil {
		return nil
	}
	return pgconn.ErrorResponseToPgError(&m)
}

// said is the server's own message and code, cleaned, for a finding.
func said(e *pgconn.PgError) string {
	text := fmt.Sprintf("the server says %s (SQLSTATE %s)", clean.Quoted(e.Message), clean.Line(e.Code, 5))
	if e.Detail != "" {
		text += ", " + clean.Quoted(e.Detail)
	}
	return text
}

// notReady is for 57P03. The code is one for starting, stopping and
// recovering; the text tells them apart where it is English.
func (c *conversation) notReady(e *pgconn.PgError) *finding.Finding {
	text := strings.ToLower(e.Message)
	switch {
	case strings.Contains(text, "starting up"):
		return finding.New(finding.SpeakStarting, "the server is still starting").Saw("%s", said(e)).
			Suggest("gharbor wait %s   # until it is ready", c.to.Profile)
	case strings.Contains(text, "shutting down"):
		return finding.New(finding.SpeakStopping, "the server is shutting down").
			Saw("%s", said(e)).
			Suggest("gharbor wait %s   # until it is ready", c.to.Profile).
			Suggest("gharbor nearby   # says how a stopped server of this machine is started")
	case strings.Contains(text, "recover"), strings.Contains(text, "not yet accepting"),
		strings.Contains(text, "not accepting"):
		return finding.New(finding.SpeakRecovering, "the server is still in recovery").Saw("%s", said(e)).
			Suggest("gharbor wait %s   # until it is ready", c.to.Profile)
	}
	return finding.New(finding.SpeakStarting,
		"the server is starting, stopping or in recovery").Saw("%s", said(e)).
		Suggest("gharbor wait %s   # until it is ready", c.to.Profile)
}

// serverRefused maps what the server said during the login.
func (a *attempt) serverRefused(ctx context.Context, e *pgconn.PgError) *finding.Finding {
	switch e.Code {
	case invalidPassword:
		return a.wrongPassword(e)
	case cannotConnectNow:
		return a.notReady(e)
	case adminShutdown, crashShutdown:
		return finding.New(finding.SpeakStopping, "the server is shutting down").Saw("%s", said(e)).
			Suggest("gharbor wait %s   # until it is ready", a.to.Profile)
	case tooManyConnections:
		return a.full(e)
	case invalidAuthorization:
		return a.notAllowed(ctx, e)
	}
	return finding.New(finding.LoginRefused, "the server refused the login").Saw("%s", said(e)).
		Suggest("gharbor show %s", a.to.Profile)
}

func (a *attempt) wrongPassword(e *pgconn.PgError) *finding.Finding {
	if a.empty {
		return finding.New(finding.LoginEmptyPassword, "the server refused the empty password").
			Saw("%s", said(e)).Saw("the source: %s", a.facts.SecretSource).
			Suggest("gharbor show %s   # says where the password is looked for", a.to.Profile)
	}
	found := finding.New(finding.LoginPassword,
		"the login was refused. The server does not say why: wrong password, no such role, or a role whose "+
			"password is missing, expired or stored for another method").
		Saw("%s", said(e)).Saw("the password's source: %s", a.facts.SecretSource)
	if a.to.User != strings.ToLower(a.to.User) {
		found.Saw("the user's name has capital letters; roles made without quotes have none")
	}
	if a.blank {
		found.Saw("the password begins or ends with a blank")
	}
	return a.to.LookUpAs(a.to.PasswordAgain(found))
}

func (a *attempt) full(e *pgconn.PgError) *finding.Finding {
	whose := "the server is full (max_connections, less those for administrators)"
	switch e.Routine {
	case "InitializeSessionUserId":
		whose = "the role has too many connections (its CONNECTION LIMIT)"
	case "CheckMyDatabase":
		whose = "the database has too many connections (its CONNECTION LIMIT)"
	}
	return finding.New(finding.SessionServerFull, "%s", whose).Saw("%s", said(e)).
		Suggest("gharbor wait %s   # until there is room", a.to.Profile).
		AsAdmin(a.to.Admin, "SELECT usename, datname, state, count(*) FROM pg_stat_activity GROUP BY 1, 2, 3")
}

// notAllowed is for 28000: the access rules, a system account or a
// certificate that does not fit, or the role itself. The routine that raised
// it is the same in every language of the server.
func (a *attempt) notAllowed(ctx context.Context, e *pgconn.PgError) *finding.Finding {
	text := strings.ToLower(e.Message)
	switch {
	case e.Routine == "InitializeSessionUserId" && strings.Contains(text, "does not exist"):
		return finding.New(finding.LoginNoSuchRole, "there is no role %s on this server", clean.Quoted(a.to.User)).
			Saw("%s", said(e)).
			Another(a.to.Profile, "user", nil).
			AsAdmin(a.to.Admin, "CREATE ROLE %s LOGIN", identifier(a.to.User))
	case e.Routine == "InitializeSessionUserId" && strings.Contains(text, "not permitted to log in"):
		return finding.New(finding.LoginNoLoginRight, "the role %s exists, but may not log in",
			clean.Quoted(a.to.User)).
			Saw("%s", said(e)).
			AsAdmin(a.to.Admin, "ALTER ROLE %s LOGIN", identifier(a.to.User))
	case e.Routine == "ClientAuthentication" && strings.Contains(text, "client certificate"):
		return a.to.CertificateRefused(said(e))
	case e.Routine == "ClientAuthentication":
		return a.accessRules(ctx, e)
	case e.Routine == "auth_failed":
		return a.otherIdentity(e)
	}
	return finding.New(finding.LoginRefused, "the server does not let this account in").Saw("%s", said(e)).
		Suggest("gharbor show %s", a.to.Profile)
}

// otherIdentity is for methods that compare the account with something other
// than a password.
func (a *attempt) otherIdentity(e *pgconn.PgError) *finding.Finding {
	text := strings.ToLower(e.Message)
	switch {
	case strings.Contains(text, "certificate") || a.to.TLS.Cert != "" && a.method == methodNone && a.facts.TLS != "none":
		return a.to.CertificateRefused(said(e))
	case strings.Contains(text, "peer") || a.to.Network == "unix" && a.method == methodNone:
		return finding.New(finding.LoginPeer,
			"the server compares the system account with the role, and they differ").
			Saw("%s", said(e)).
			Suggest("gharbor set %s user=\"$(id -un)\"   # if a role of that name exists", a.to.Profile).
			Suggest("gharbor set %s socket= host=127.0.0.1   # by password, where the server's rules have a line "+
				"for that",
				a.to.Profile)
	}
	return finding.New(finding.LoginRefused,
		"the server does not accept this account with the login method of its rules").
		Saw("%s", said(e)).Suggest("gharbor show %s", a.to.Profile)
}

// accessRules is for an account that no line of pg_hba.conf lets in from here,
// or that one rejects. Without encryption it may be only that which is
// missing: one more connection finds out, without a password.
func (a *attempt) accessRules(ctx context.Context, e *pgconn.PgError) *finding.Finding {
	if a.to.Network == "tcp" && a.facts.TLS == "none" && a.offered != 'N' {
		if asked := a.letInWithTLS(ctx); asked != "" {
			return finding.New(finding.TLSRequiredByServer,
				"the server wants TLS for this account, and the connection was not encrypted").
				Saw("%s", said(e)).Saw("over TLS, on another connection, it %s", asked).
				Suggest("gharbor set %s tls=verified", a.to.Profile).
				Suggest("gharbor set %s tls=required   # encrypted, whoever answers", a.to.Profile)
		}
	}
	kind, from := "host", "this address"
	if a.facts.TLS != "none" {
		kind = "hostssl"
	}
	if host, _, err := net.SplitHostPort(a.raw.LocalAddr().String()); err == nil {
		bits := "/32"
		if strings.Contains(host, ":") {
			bits = "/128"
		}
		from = host + bits
	}
	line := fmt.Sprintf("%s %s %s %s scram-sha-256", kind, a.to.Database, a.to.User, from)
	if a.to.Network == "unix" {
		line = fmt.Sprintf("local %s %s scram-sha-256", a.to.Database, a.to.User)
	}
	return finding.New(finding.LoginHostNotAllowed,
		"the server's rules (pg_hba.conf) do not allow this user, database and client address").
		Saw("%s", said(e)).
		Suggest("gharbor show %s   # is it the right user and database?", a.to.Profile).
		Advise("on the server, in pg_hba.conf: %s (the address as the server sees it; then run SELECT "+
			"pg_reload_conf())",
			clean.Line(line, 200))
}

// letInWithTLS asks the server, on a connection of its own and without a
// password, what it would say to this account over TLS: "" where it refuses
// that as well or offers none.
func (a *attempt) letInWithTLS(ctx context.Context) string {
	plan := *a.to.TLS
	plan.Rule = tlsrule.Required
	secure, err := a.secureAgain(ctx, &plan)
	if err != nil {
		return ""
	}
	defer secure.Close()
	defer probe.Guard(ctx, secure)()
	if _, err := secure.Write(a.startup()); err != nil {
		return ""
	}
	head := make([]byte, 9)
	if n, err := secure.Read(head); err != nil || n < 9 || head[0] != 'R' {
		return ""
	}
	if binary.BigEndian.Uint32(head[5:]) == pgproto3.AuthTypeOk {
		return "lets the account in"
	}
	return "asks for the password"
}

// aboutDatabase is the server's error where it concerns the database and not
// the account.
func aboutDatabase(err error) *pgconn.PgError {
	var e *pgconn.PgError
	if errors.As(err, &e) &&
		(e.Code == invalidCatalogName || e.Code == insufficientRight || e.Code == notInRequiredState) {
		return e
	}
	return nil
}

// databaseRefused is for what the server says once the account is accepted.
func (c *conversation) databaseRefused(ctx context.Context) *finding.Finding {
	switch e := c.refusal; e.Code {
	case insufficientRight:
		return finding.New(finding.DatabaseNoAccess, "the role %s may not connect to the database %s",
			clean.Quoted(c.to.User), clean.Quoted(c.to.Database)).
			Saw("%s", said(e)).
			AsAdmin(c.to.Admin, "GRANT CONNECT ON DATABASE %s TO %s", identifier(c.to.Database), identifier(c.to.User))
	case notInRequiredState:
		return finding.New(finding.DatabaseNotAccepting, "the database %s does not accept connections",
			clean.Quoted(c.to.Database)).
			Saw("%s", said(e)).
			AsAdmin(c.to.Admin, "ALTER DATABASE %s ALLOW_CONNECTIONS true", identifier(c.to.Database))
	}
	return c.databaseMissing(ctx, c.refusal, c.used)
}

func (c *conversation) databaseMissing(ctx context.Context, e *pgconn.PgError, config *pgconn.Config) *finding.Finding {
	found := finding.New(finding.DatabaseMissing, "there is no database %s on this server",
		clean.Quoted(c.to.Database)).
		Saw("%s", said(e))
	names, asked := c.databases(ctx, config)
	near := nearest.Names(c.to.Database, names, 3)
	switch {
	case len(near) > 0:
		found.Saw("similar names that exist: %s", clean.Quoted(strings.Join(near, ", ")))
	case asked != "":
		found.Saw("none of the %d databases has a similar name (asked in %s)", len(names), clean.Quoted(asked))
	default:
		found.Saw("the names of the databases could not be read")
	}
	return found.Another(c.to.Profile, "database", near).
		AsAdmin(c.to.Admin, "CREATE DATABASE %s OWNER %s", identifier(c.to.Database), identifier(c.to.User))
}

// databases lists the server's databases, asked in one that usually exists,
// with the same account. asked is "" where none let it in.
func (c *conversation) databases(ctx context.Context, used *pgconn.Config) (names []string, asked string) {
	for _, database := range []string{"postgres", c.to.User, "template1"} {
		if database == c.to.Database || c.to.Redial == nil {
			continue
		}
		conn, err := c.redialSecure(ctx)
		if err != nil {
			return nil, ""
		}
		config, err := c.config(conn, database)
		if err != nil {
			conn.Close()
			return nil, ""
		}
		config.Password = used.Password
		config.RequireAuth = "md5,scram-sha-256,none" // a diagnosis sends nothing in the clear
		pg, err := pgconn.ConnectConfig(ctx, config)
		if err != nil {
			conn.Close()
			continue
		}
		rows := pg.ExecParams(ctx, "SELECT datname FROM pg_database WHERE NOT datistemplate ORDER BY 1 LIMIT 10000",
			nil,
			nil, nil, nil).Read()
		pg.Close(ctx)
		if rows.Err != nil {
			continue
		}
		return firstColumn(rows), database
	}
	return nil, ""
}

// redialSecure makes another connection, encrypted as the first one was.
func (c *conversation) redialSecure(ctx context.Context) (net.Conn, error) {
	if c.facts.TLS == "none" {
		return c.to.Redial(ctx)
	}
	return c.secureAgain(ctx, c.to.TLS)
}

// secureAgain makes another connection and encrypts it by a plan.
func (c *conversation) secureAgain(ctx context.Context, plan *tlsrule.Plan) (net.Conn, error) {
	if c.to.Redial == nil {
		return nil, errNoOther
	}
	conn, err := c.to.Redial(ctx)
	if err != nil {
		return nil, err
	}
	release := probe.Guard(ctx, conn)
	defer release()
	answer := make([]byte, 1)
	if _, err = conn.Write(sslRequest()); err == nil {
		_, err = conn.Read(answer)
	}
	if err == nil && answer[0] != 'S' {
		err = errNoOther
	}
	if err != nil {
		conn.Close()
		return nil, err
	}
	secure, _, result, err := plan.Handshake(ctx, conn)
	if err == nil && result.Outcome == finding.Fail {
		err = errNoOther
	}
	if err != nil {
		conn.Close()
		return nil, err
	}
	return secure, nil
}

var errNoOther = errors.New("no other connection of the kind could be made")

// identifier quotes a name for SQL where it needs it.
func identifier(name string) string {
	plain := name != ""
	for i, r := range name {
		if !(r >= 'a' && r <= 'z' || r == '_' || i > 0 && r >= '0' && r <= '9') {
			plain = false
		}
	}
	if plain {
		return name
	}
	return `"` + strings.ReplaceAll(clean.Line(name, 0), `"`, `""`) + `"`
}
