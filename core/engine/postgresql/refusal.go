package postgresql

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
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

// serverText is the server's own message and code, cleaned, for a finding.
func serverText(e *pgconn.PgError) string {
	text := fmt.Sprintf("the server says %s (SQLSTATE %s)", clean.Quote(e.Message), clean.Line(e.Code, 5))
	if e.Detail != "" {
		text += ", " + clean.Quote(e.Detail)
	}
	return text
}

// notReady is for a server that starts, stops or recovers; nil for another meaning.
func (c *conversation) notReady(e *pgconn.PgError) *finding.Finding {
	name := c.to.Profile
	untilReady := func(code finding.Code, cause string) *finding.Finding {
		return finding.New(code, "%s", cause).Saw("%s", serverText(e)).
			Suggest("gharbor wait %s   # until it is ready", name)
	}
	switch (refusal{PgError: e}).means() {
	case meansStarting:
		return untilReady(finding.SpeakStarting, "the server is still starting")
	case meansStopping:
		return untilReady(finding.SpeakStopping, "the server is shutting down").
			Suggest("gharbor nearby   # says how a stopped server of this machine is started")
	case meansRecovering:
		return untilReady(finding.SpeakRecovering, "the server is still in recovery")
	case meansNotReady:
		return untilReady(finding.SpeakStarting, "the server is starting, stopping or in recovery")
	case meansNoStandby:
		return finding.New(finding.SpeakStandbyClosed, "the server is a standby that takes no connections "+
			"(hot_standby is off)").
			Saw("%s", serverText(e)).
			Advise("on the server: set hot_standby = on in postgresql.conf, and restart it").
			Advise("or name the primary: gharbor set %s host=HOST", name)
	}
	return nil
}

// serverRefused returns the finding for a server's error during the login.
func (a *attempt) serverRefused(ctx context.Context, e *pgconn.PgError) *finding.Finding {
	if found := a.notReady(e); found != nil {
		return found
	}
	switch meaning := a.means(e); meaning {
	case meansPassword:
		return a.wrongPassword(e)
	case meansFull, meansRoleFull, meansDatabaseFull, meansPoolFull:
		return a.serverFull(e, meaning)
	case meansPoolerLogin, meansPoolerMissing, meansPoolerCut:
		return a.behindPooler(e, meaning)
	case meansNoRole, meansNoLogin, meansRole:
		return a.role(e, meaning)
	case meansCertificate:
		return a.to.CertificateRefused(&a.facts, serverText(e))
	case meansOtherCertificate:
		return a.otherCertificate(e)
	case meansPeer, meansOtherMethod:
		return a.otherIdentity(e, meaning)
	case meansRules, meansRejected:
		return a.accessRules(ctx, e, meaning)
	case meansNoTLS:
		return a.wantsTLS(e)
	case meansTimeLimit:
		return a.conversation.timeLimit(e)
	case meansNoDatabase:
		return a.poolerDatabase(e)
	}
	return finding.New(finding.LoginRefused, "the server refused the login").Saw("%s", serverText(e)).
		Suggest("gharbor show %s", a.to.Profile)
}

// means returns the finding for a refusal of the login.
func (a *attempt) means(e *pgconn.PgError) meaning {
	return refusal{e, a.to.User, a.method != methodNone, a.watch != nil && a.watch.authOK}.means()
}

func (a *attempt) wrongPassword(e *pgconn.PgError) *finding.Finding {
	if a.empty {
		return finding.New(finding.LoginEmptyPassword, "the server refused the empty password").
			Saw("%s", serverText(e)).Saw("the source: %s", a.facts.SecretSource).
			Suggest("gharbor show %s   # says where gharbor looks for the password", a.to.Profile)
	}
	found := finding.New(finding.LoginPassword,
		"the login was refused. The server does not say why: wrong password, no such role, or a role whose "+
			"password is missing, expired or stored for another method").
		Saw("%s", serverText(e)).Saw("the password's source: %s", a.facts.SecretSource)
	if a.to.User != strings.ToLower(a.to.User) {
		found.Saw("the user's name has capital letters; roles made without quotes have none")
	}
	if a.blank {
		found.Saw("the password begins or ends with a blank")
	}
	if byPooler(e) {
		found.Cause = "the login was refused by a pooler in front of the server: wrong password, or no such user " +
			"in its list"
		found.Advise("on the pooler: is %s in its list of users, with this password?", clean.Quote(a.to.User))
	}
	return a.to.LookUpAs(a.to.PasswordAgain(found))
}

// serverFull is for too many connections, and says whose limit was reached.
func (a *attempt) serverFull(e *pgconn.PgError, whose meaning) *finding.Finding {
	cause := "the server is full (max_connections, less those for administrators)"
	switch {
	case whose == meansRoleFull:
		cause = "the role has too many connections (its CONNECTION LIMIT)"
	case whose == meansDatabaseFull:
		cause = "the database has too many connections (its CONNECTION LIMIT)"
	case whose == meansPoolFull:
		cause = "the pooler had no connection to its server in time: its pool is used up, or its server is down"
	case byPooler(e):
		cause = "the pooler takes no more connections"
	}
	found := finding.New(finding.SessionServerFull, "%s", cause).Saw("%s", serverText(e)).
		Suggest("gharbor wait %s   # until there is room", a.to.Profile)
	if byPooler(e) && e.Code == poolerCode {
		return found.Advise("on the pooler: raise its limits (max_client_conn, pool_size), or look at SHOW POOLS")
	}
	return found.AsAdmin(a.to.Admin, "SELECT usename, datname, state, count(*) FROM pg_stat_activity GROUP BY 1, 2, 3")
}

// poolerCode is the SQLSTATE that poolers give most of their refusals: protocol_violation.
const poolerCode = "08P01"

// behindPooler is for a login that the pooler accepted, after which its own connection to the server failed.
func (a *attempt) behindPooler(e *pgconn.PgError, what meaning) *finding.Finding {
	found := finding.New(finding.SessionBehindPooler, "your login was accepted; the pooler's own login to its "+
		"server is refused")
	switch what {
	case meansPoolerMissing:
		found.Cause = "your login was accepted; the pooler leads to another database, which its server does not have"
	case meansPoolerCut:
		found.Cause = "the pooler can't connect to its server"
	}
	found.Saw("%s", serverText(e)).Saw("the answer is not from PostgreSQL itself but from a pooler")
	if what == meansPoolerCut {
		found.Suggest("gharbor wait %s   # if its server is only restarting", a.to.Profile)
	}
	return found.Advise("on the pooler: check the line of %s under [databases] (host, port, dbname, user, password)",
		clean.Quote(a.to.Database))
}

// poolerDatabase is for a database that is not in a pooler's settings.
func (a *attempt) poolerDatabase(e *pgconn.PgError) *finding.Finding {
	found := finding.New(finding.DatabaseMissing, "the pooler has no database %s",
		clean.Quote(a.to.Database)).Saw("%s", serverText(e))
	if !byPooler(e) {
		found.Cause = "there is no database " + clean.Quote(a.to.Database) + " on this server"
	}
	return found.SuggestValues(a.to.Profile, "database", nil).
		Advise("or on the pooler: add a line for %s under [databases]", clean.Quote(a.to.Database))
}

// role is for a role that does not exist, or may not log in. In a language that the table lacks it may be either.
func (a *attempt) role(e *pgconn.PgError, what meaning) *finding.Finding {
	user, role := clean.Quote(a.to.User), identifier(a.to.User)
	if what == meansNoLogin {
		return finding.New(finding.LoginNoLoginRight, "the role %s exists, but may not log in", user).
			Saw("%s", serverText(e)).
			ByAdmin(a.to.Helping(), "provision unlock "+a.to.Profile, "ALTER ROLE %s LOGIN", role)
	}
	found := finding.New(finding.LoginNoSuchRole, "there is no role %s on this server", user).Saw("%s", serverText(e))
	if what == meansRole {
		found.Cause += ", or it may not log in"
	}
	return found.SuggestValues(a.to.Profile, "user", nil).ByAdmin(a.to.Helping(), "provision make "+a.to.Profile,
		"CREATE ROLE %s LOGIN", role)
}

// otherCertificate is for a trusted certificate that belongs to another account.
func (a *attempt) otherCertificate(e *pgconn.PgError) *finding.Finding {
	found := finding.New(finding.LoginCertificate, "the certificate's name is not that of the role %s",
		clean.Quote(a.to.User)).Saw("%s", serverText(e))
	if leaf := a.to.TLS.ClientCertificate(); leaf != nil {
		name := leaf.Subject.CommonName
		found.Cause = fmt.Sprintf("the client certificate is for %s, not for the role %s", clean.Quote(name),
			clean.Quote(a.to.User))
		found.Saw("the profile's certificate is %s: %s", a.to.TLS.Cert, clean.Line(leaf.Subject.String(), 200))
		if clean.Word(name) == name && name != "" {
			found.Suggest("gharbor test %s -override user=%s   # the certificate's own role", a.to.Profile, name)
		}
	}
	return found.Advise("name the certificate of that role: gharbor set %s tls-cert=PATH tls-key=PATH", a.to.Profile).
		Advise("or on the server: map the name to the role in pg_ident.conf, with map= in the line of pg_hba.conf")
}

// otherIdentity is for methods that compare the account with something other
// than a password.
func (a *attempt) otherIdentity(e *pgconn.PgError, what meaning) *finding.Finding {
	silent := a.method == methodNone
	switch {
	case what == meansOtherMethod && a.to.TLS.Cert != "" && silent && a.facts.TLS != "none":
		return a.otherCertificate(e)
	case what == meansPeer || a.to.Network == "unix" && silent:
		return finding.New(finding.LoginPeer,
			"the server compares the system account with the role, and they differ").
			Saw("%s", serverText(e)).
			Suggest("gharbor set %s user=\"$(id -un)\"   # if a role of that name exists", a.to.Profile).
			Suggest("gharbor set %s socket= host=127.0.0.1   # by password, where the server's rules have a line "+
				"for that",
				a.to.Profile)
	}
	return finding.New(finding.LoginRefused,
		"the server does not accept this account with the login method of its rules").
		Saw("%s", serverText(e)).
		Suggest("gharbor show %s", a.to.Profile).
		AsAdmin(a.to.Admin, "SELECT line_number, type, database, user_name, address, auth_method FROM "+
			"pg_hba_file_rules")
}

// wantsTLS is for a server that refuses an unencrypted connection.
func (a *attempt) wantsTLS(e *pgconn.PgError) *finding.Finding {
	return finding.New(finding.TLSRequiredByServer,
		"the server wants TLS for this account, and the connection was not encrypted").
		Saw("%s", serverText(e)).
		Suggest("gharbor set %s tls=verified", a.to.Profile).
		Suggest("gharbor set %s tls=required   # encrypted, without checking the server", a.to.Profile)
}

// askOverTLS asks the server, on another connection and without a password, how it would let this account in over
// TLS: "" where it refuses that too, or offers no TLS. certificate is true where it wants a client certificate.
func (a *attempt) askOverTLS(ctx context.Context) (asks string, certificate bool) {
	plan := *a.to.TLS
	plan.Rule = tlsrule.Required
	secure, err := a.secureAgain(ctx, &plan)
	if err != nil {
		return "", false
	}
	defer secure.Close()
	defer probe.Guard(ctx, secure)()
	if _, err := secure.Write(a.startup()); err != nil {
		return "", false
	}
	reply := make([]byte, 4096)
	n, err := io.ReadAtLeast(secure, reply, 9)
	if err != nil {
		return "", false
	}
	if refused := a.parseError(reply[:n]); refused != nil {
		if a.means(refused) == meansCertificate {
			return "wants a client certificate", true
		}
		return "", false
	}
	if reply[0] != 'R' {
		return "", false
	}
	if binary.BigEndian.Uint32(reply[5:]) == pgproto3.AuthTypeOk {
		return "lets the account in", false
	}
	return "asks for the password", false
}

// aboutDatabase is the server's error where it is about the database and not the account.
func aboutDatabase(err error) *pgconn.PgError {
	var e *pgconn.PgError
	if !errors.As(err, &e) {
		return nil
	}
	switch (refusal{PgError: e}).means() {
	case meansNoDatabase, meansNoConnect, meansNotAccepting:
		return e
	}
	return nil
}

// databaseRefused is for the server's error after it accepted the account.
func (c *conversation) databaseRefused(ctx context.Context) *finding.Finding {
	switch e := c.refusal; (refusal{PgError: e}).means() {
	case meansNoConnect:
		return finding.New(finding.DatabaseNoAccess, "the role %s may not connect to the database %s",
			clean.Quote(c.to.User), clean.Quote(c.to.Database)).
			Saw("%s", serverText(e)).
			ByAdmin(c.to.Helping(), "provision grant "+c.to.Profile+" -access read", "GRANT CONNECT ON DATABASE %s TO %s",
				identifier(c.to.Database), identifier(c.to.User))
	case meansNotAccepting:
		found := finding.New(finding.DatabaseNotAccepting, "the database %s does not accept connections",
			clean.Quote(c.to.Database)).
			Saw("%s", serverText(e))
		if c.to.Database == "template0" {
			return found.Saw("template0 is the template of new databases; it takes no connections").
				SuggestValues(c.to.Profile, "database", []string{"postgres"})
		}
		return found.ByAdmin(c.to.Helping(), "provision make "+c.to.Profile, "ALTER DATABASE %s ALLOW_CONNECTIONS true",
			identifier(c.to.Database))
	}
	if byPooler(c.refusal) && c.refusal.Code == poolerCode {
		return (&attempt{conversation: c}).poolerDatabase(c.refusal)
	}
	return c.databaseMissing(ctx, c.refusal, c.used)
}

func (c *conversation) databaseMissing(ctx context.Context, e *pgconn.PgError, config *pgconn.Config) *finding.Finding {
	found := finding.New(finding.DatabaseMissing, "there is no database %s on this server",
		clean.Quote(c.to.Database)).
		Saw("%s", serverText(e))
	names, asked := c.databases(ctx, config)
	near := nearest.Names(c.to.Database, names, 3)
	switch {
	case len(near) > 0:
		found.Saw("similar names that exist: %s", clean.Quote(strings.Join(near, ", ")))
	case asked != "":
		found.Saw("none of the %d databases has a similar name (asked in %s)", len(names), clean.Quote(asked))
	default:
		found.Saw("the names of the databases could not be read")
	}
	return found.SuggestValues(c.to.Profile, "database", near).
		ByAdmin(c.to.Helping(), "provision make "+c.to.Profile, "CREATE DATABASE %s OWNER %s",
			identifier(c.to.Database), identifier(c.to.User))
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
		rows := ask(ctx, pg, "SELECT datname FROM pg_database WHERE NOT datistemplate ORDER BY 1 LIMIT 10000")
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
	again := *plan
	if c.isDirectTLS() {
		again.Protocols = []string{alpn}
	} else if err = askForTLS(conn); err != nil {
		conn.Close()
		return nil, err
	}
	secure, _, result, err := again.Handshake(ctx, conn)
	if err == nil && result.Outcome == finding.Fail {
		err = errNoOther
	}
	if err != nil {
		conn.Close()
		return nil, err
	}
	return secure, nil
}

// askForTLS asks on a connection of its own, and reads the answer.
func askForTLS(conn net.Conn) error {
	answer := make([]byte, 1)
	if _, err := conn.Write(sslRequest()); err != nil {
		return err
	}
	if _, err := conn.Read(answer); err != nil {
		return err
	}
	if answer[0] != 'S' {
		return errNoOther
	}
	return nil
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
