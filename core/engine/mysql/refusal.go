package mysql

import (
	"context"
	"errors"
	"io"
	"regexp"
	"strings"
	"sync"
	"time"

	driver "github.com/go-sql-driver/mysql"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine/probe"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearest"
)

// Error numbers with which a server refuses (MySQL documentation, "Server
// Error Message Reference"; MariaDB documentation, "MariaDB Error Codes").
// Where the two use different numbers, both stand.
const (
	tooManyConnections  = 1040
	noRightToDatabase   = 1044
	accessDenied        = 1045
	unknownDatabase     = 1049
	nameTooLong         = 1059
	wrongDatabaseName   = 1102
	shutdownInProgress  = 1053
	initFailed          = 1184 // ER_NEW_ABORTING_CONNECTION
	notGrantedByStart   = 1290 // ER_OPTION_PREVENTS_STATEMENT: "--skip-grant-tables"
	oldPassword         = 1275 // ER_SERVER_IS_IN_SECURE_AUTH_MODE
	hostBlocked         = 1129
	hostNotAllowed      = 1130
	tooManyOfUser       = 1203
	resourceUsedUp      = 1226
	methodNotSupported  = 1251
	accessDeniedNoWord  = 1698
	mustChangePassword  = 1820
	mustChangeAtLogin   = 1862
	accountLocked       = 3118 // MySQL
	tlsRequired         = 3159
	lockedByFailures    = 3955 // MySQL
	userBlocked         = 4150 // MariaDB
	accountLockedMaria  = 4151
	connectionWasKilled = 1927
)

// refusalOf is the server's error in err, nil where there is none.
func refusalOf(err error) *refusal {
	var own *refusal
	if errors.As(err, &own) {
		return own
	}
	var server *driver.MySQLError
	if !errors.As(err, &server) {
		return nil
	}
	r := &refusal{Number: server.Number, Message: server.Message}
	if server.SQLState != [5]byte{} {
		r.State = string(server.SQLState[:])
	}
	return r
}

// ends reports whether the server ends the session with this error, or takes no more statements.
func (r *refusal) ends() bool {
	switch r.Number {
	case shutdownInProgress, connectionWasKilled, resourceUsedUp, mustChangePassword, initFailed:
		return true
	}
	return false
}

// plain is an error's text without the driver's wrapping.
func plain(err error) string {
	if errors.Is(err, io.EOF) || errors.Is(err, driver.ErrInvalidConn) {
		return "end of the stream"
	}
	return probe.LastError(err)
}

// refusedFirst is for an error that came in place of the greeting.
func (c *conversation) refusedFirst(r *refusal) *finding.Finding {
	if strings.Contains(strings.ToLower(r.Message), "proxy header") {
		return proxyHeader(r)
	}
	switch r.Number {
	case tooManyConnections, tooManyOfUser, resourceUsedUp:
		return c.serverFull(r)
	case hostBlocked:
		return finding.New(finding.SpeakHostBlocked,
			"the server has blocked this machine's address after too many broken connections (max_connect_errors)").
			Saw("%s", r.text()).
			AsAdmin(c.to.Admin, "FLUSH HOSTS").
			Suggest("gharbor nearby   # what else of this machine may be connecting?")
	case hostNotAllowed:
		host, from := quotedWord(r.Message), ""
		if host == "" {
			host = "%"
		} else {
			c.facts.SeenAs = clean.Line(c.to.User, 100) + "@" + host
			from = ", '" + host + "'"
		}
		return finding.New(finding.LoginHostNotAllowed,
			"the server has no account for this machine%s, and so none for %s", from,
			clean.Quote(c.to.User)).
			Saw("%s", r.text()).
			Suggest("gharbor show %s   # is it the right server?", c.to.Profile).
			ByAdmin(c.to.Helping(), "provision make "+c.to.Profile, "CREATE USER %s", c.accountName(c.to.User, host))
	case shutdownInProgress:
		return c.stopping(r)
	}
	return finding.New(finding.LoginRefused, "the server refused the connection").Saw("%s", r.text()).
		Suggest("gharbor show %s", c.to.Profile)
}

func (c *conversation) stopping(r *refusal) *finding.Finding {
	return finding.New(finding.SpeakStopping, "the server is shutting down").
		Saw("%s", r.text()).
		Suggest("gharbor wait %s   # until it is ready", c.to.Profile).
		Suggest("gharbor nearby   # says how a stopped server of this machine is started")
}

// limits are those of an account (MySQL documentation, "Setting Account Resource Limits"), by the word that the
// server's message has for them between its quotes in every language, and how long they last.
var limits = map[string]struct{ what, until string }{
	"max_user_connections": {"the account has too many connections (max_user_connections)", "until one is closed"},
	"max_connections_per_hour": {
		"the account has made as many connections as it may in an hour (max_connections_per_hour)",
		"up to an hour; each try counts"},
	"max_queries_per_hour": {
		"the account has run as many statements as it may in an hour (max_queries_per_hour)", "up to an hour"},
	"max_updates_per_hour": {
		"the account has made as many changes as it may in an hour (max_updates_per_hour)", "up to an hour"},
}

// serverFull is for too many connections, and for an account that has reached a limit.
func (c *conversation) serverFull(r *refusal) *finding.Finding {
	whose := "the server is full (max_connections)"
	if r.Number == tooManyOfUser {
		whose = limits["max_user_connections"].what
	}
	found := finding.New(finding.SessionServerFull, "%s", whose).Saw("%s", r.text())
	for _, word := range quotedWords(r.Message) {
		if limit, ok := limits[word]; ok && r.Number == resourceUsedUp {
			found.Cause = limit.what
			if word != "max_user_connections" {
				return found.Saw("it lasts %s", limit.until).
					AsAdmin(c.to.Admin, "FLUSH USER_RESOURCES").
					AsAdmin(c.to.Admin, "ALTER USER %s WITH %s 0", c.someAccount(), strings.ToUpper(word))
			}
		}
	}
	return found.Suggest("gharbor wait %s   # until there is room", c.to.Profile).
		AsAdmin(c.to.Admin, "SELECT user, host, db, command, count(*) FROM information_schema.processlist GROUP BY "+
			"1, 2, 3, 4")
}

// quotedWords are all words between quotes in a message.
func quotedWords(s string) (words []string) {
	for i, part := range strings.Split(s, "'") {
		if i%2 == 1 {
			words = append(words, part)
		}
	}
	return words
}

// serverRefused maps what the server said during the login.
func (a *attempt) serverRefused(r *refusal) *finding.Finding {
	switch r.Number {
	case accessDenied:
		return a.explainDenial(r)
	case accessDeniedNoWord:
		return a.otherIdentity(r)
	case accountLocked, accountLockedMaria:
		return a.to.LookUpAs(finding.New(finding.LoginLocked, "the account is locked").Saw("%s", r.text()).
			Advise("as an administrator, run: ALTER USER %s ACCOUNT UNLOCK", a.someAccount()))
	case lockedByFailures, userBlocked:
		found := finding.New(finding.LoginLocked, "the account is locked after too many wrong passwords").Saw("%s", r.text())
		if a.hello.mariadb {
			return found.ByAdmin(a.to.Helping(), "provision unlock "+a.to.Profile, "FLUSH PRIVILEGES")
		}
		return a.to.LookUpAs(found.Advise("as an administrator, run: ALTER USER %s ACCOUNT UNLOCK", a.someAccount()))
	case mustChangeAtLogin, mustChangePassword:
		return a.explainExpiry(r, "it lets nobody in with an expired password (disconnect_on_expired_password)")
	case tooManyConnections, tooManyOfUser, resourceUsedUp:
		return a.serverFull(r)
	case shutdownInProgress, connectionWasKilled:
		return a.stopping(r)
	case tlsRequired:
		return a.wantsTLS(r.text())
	case hostBlocked, hostNotAllowed:
		return a.refusedFirst(r)
	case oldPassword:
		a.method = "mysql_old_password"
		return a.explainMethod().Saw("%s", r.text())
	case methodNotSupported:
		return a.explainMethod().Saw("%s", r.text())
	}
	if strings.Contains(strings.ToLower(r.Message), "insecure transport") {
		return a.wantsTLS(r.text())
	}
	return finding.New(finding.LoginRefused, "the server refused the login").Saw("%s", r.text()).
		Suggest("gharbor show %s", a.to.Profile)
}

func (c *conversation) wantsTLS(seen string) *finding.Finding {
	return finding.New(finding.TLSRequiredByServer,
		"the server wants TLS, and the connection was not encrypted").
		Saw("%s", seen).
		Suggest("gharbor set %s tls=verified", c.to.Profile).
		Suggest("gharbor set %s tls=required   # encrypted, without checking the server", c.to.Profile)
}

func (c *conversation) explainExpiry(r *refusal, how string) *finding.Finding {
	found := finding.New(finding.LoginExpired, "the password is right, but has expired").Saw("%s", r.text()).Saw("%s", how)
	return suggestRenewal(found, c.to.Helping(), c.to.Profile, c.to.Rotates, c.someAccount())
}

// explainDenial returns the finding for error 1045, the one answer to many causes.
func (a *attempt) explainDenial(r *refusal) *finding.Finding {
	causes := "no such account, not allowed from this host or without TLS, an anonymous account in front"
	if a.facts.TLS != "none" {
		causes = "no such account, not allowed from this host, a client certificate that is missing or not the one " +
			"it wants, an anonymous account in front"
	}
	var found *finding.Finding
	switch {
	case a.to.NoSecret && len(a.to.NoSecretTried) == 0:
		found = finding.New(finding.LoginPasswordWanted,
			"the server wants a password, and the profile sends none (or: %s)", causes)
	case a.to.NoSecret:
		found = finding.New(finding.SecretMissing,
			"the server wants a password, and none was found (or: %s)", causes)
		return a.to.PasswordWanted(a.addAccountSeen(found, r))
	case a.empty:
		found = finding.New(finding.LoginEmptyPassword,
			"the server refused the empty password (or: %s)", causes)
	default:
		found = finding.New(finding.LoginPassword,
			"the login was refused. The server does not say why: wrong password, %s", causes)
	}
	a.addAccountSeen(found, r)
	if !a.to.NoSecret {
		found.Saw("the password's source: %s", a.facts.SecretSource)
	}
	if a.blank {
		found.Saw("the password begins or ends with a blank")
	}
	if a.empty || !a.to.NoSecret {
		a.to.PasswordAgain(found)
	} else {
		a.to.PasswordWanted(found)
	}
	if a.facts.TLS == "none" && a.hello.caps&capTLS != 0 && a.to.Network == "tcp" {
		found.Suggest("gharbor test %s -override tls=required   # if the account needs TLS", a.to.Profile)
	}
	return a.to.LookUpAs(found)
}

// addAccountSeen adds the server's message and the account that it looked for, and explains that on MySQL and MariaDB
// an account is a name and a host.
func (a *attempt) addAccountSeen(found *finding.Finding, r *refusal) *finding.Finding {
	found.Saw("%s", r.text())
	host := a.seenHost(r)
	if host != "" {
		a.facts.SeenAs = clean.Line(a.to.User, 100) + "@" + host
	}
	switch {
	case host == "":
		return found
	case a.to.Network == "unix":
		found.Saw("over the socket the server sees 'localhost': an account for 127.0.0.1 does not match")
	case host == "127.0.0.1" || host == "::1":
		found.Saw("over TCP the server sees '%s': an account for 'localhost' (the socket) does not match", host)
	}
	return found
}

// otherIdentity is for error 1698: the server checked the system account behind a socket and not a password. MariaDB
// also sends it for an unknown account, which it treats like some other account.
func (a *attempt) otherIdentity(r *refusal) *finding.Finding {
	found := finding.New(finding.LoginPeer,
		"the server wants a login by system account over a Unix socket, not with a password (or the account is "+
			"unknown)")
	if a.to.Network == "unix" {
		found.Cause = "the server compares the system account with the database account, and they differ (or the " +
			"account is unknown)"
	}
	a.addAccountSeen(found, r)
	if a.to.Network == "unix" {
		found.Suggest("gharbor set %s user=\"$(id -un)\"   # if an account of that name exists", a.to.Profile)
	} else {
		found.Saw("over TCP there is no system account").
			Advise("name the socket: gharbor set %s host= port= socket=PATH (as the system account of that name)",
				a.to.Profile)
	}
	return a.to.LookUpAs(found)
}

// accountPattern is 'user'@'host' within a message of any language. It is compiled at its first use: each run would
// wait for it at its start.
var accountPattern = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`'([^']*)'@'([^']*)'`) })

// seenHost is the host of the account that the server looked for, as its message has it.
func (c *conversation) seenHost(r *refusal) string {
	m := accountPattern().FindStringSubmatch(r.Message)
	if m == nil {
		return ""
	}
	return clean.Line(m[2], 100)
}

// someAccount is this login's account with a placeholder for its host: the server names the host that it saw, and not
// the one of the account.
func (c *conversation) someAccount() string { return literal(c.to.User) + "@'HOST'" }

// quotedWord is the first word between quotes in a message.
func quotedWord(s string) string {
	_, rest, _ := strings.Cut(s, "'")
	word, _, ok := strings.Cut(rest, "'")
	if !ok || strings.ContainsAny(word, "\\\"`") {
		return ""
	}
	return clean.Line(word, 100)
}

// accountName writes an account for SQL: this login's user or the anonymous one, and the host that a server named. A
// host that is not written like one is not put into a line to paste.
func (c *conversation) accountName(user, host string) string {
	const signs = ".:-_%/"
	odd := strings.ContainsFunc(host, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune(signs, r))
	})
	if odd || host == "" {
		host = "HOST"
	}
	return literal(user) + "@" + literal(host)
}

// literal writes a text for SQL, also where a backslash escapes.
func literal(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `''`).Replace(clean.Line(s, 0)) + "'"
}

// identifier quotes a name for SQL.
func identifier(s string) string {
	return "`" + strings.ReplaceAll(clean.Line(s, 0), "`", "``") + "`"
}

func cutLast(s, sep string) (before, after string, found bool) {
	if i := strings.LastIndex(s, sep); i >= 0 {
		return s[:i], s[i+len(sep):], true
	}
	return s, "", false
}

func hostOf(account string) string {
	_, host, _ := cutLast(account, "@")
	return clean.Line(host, 100)
}

// Database opens the database in the session that is logged in.
func (c *conversation) Database(ctx context.Context) finding.Result {
	if c.to.ReadOnly {
		if err := c.exec(ctx, statements.ReadOnly); err != nil {
			return finding.FailWith(c.explainLoss(err))
		}
	}
	if c.to.Database == "" {
		return c.noDatabase(ctx)
	}
	before := time.Now()
	err := c.exec(ctx, "USE `"+strings.ReplaceAll(c.to.Database, "`", "``")+"`")
	c.trips = append(c.trips, time.Since(before))
	if err == nil {
		c.facts.Database = clean.Line(c.to.Database, 100)
		return finding.Good("%s", clean.Quote(c.to.Database))
	}
	r := refusalOf(err)
	if r == nil {
		return finding.FailWith(c.explainLoss(err))
	}
	switch r.Number {
	case unknownDatabase:
		return finding.FailWith(c.databaseMissing(ctx, r))
	case wrongDatabaseName, nameTooLong:
		return finding.FailWith(finding.New(finding.DatabaseMissing,
			"no database can have that name: it is too long, or has signs that the server does not take").
			Saw("%s", r.text()).SuggestValues(c.to.Profile, "database", nil))
	case noRightToDatabase:
		return finding.FailWith(c.databaseDenied(ctx, r))
	case mustChangePassword:
		return finding.FailWith(c.explainExpiry(r, "the session may only set a new password"))
	}
	return finding.FailWith(c.explainLoss(err))
}

// noDatabase is for a profile that names no database.
func (c *conversation) noDatabase(ctx context.Context) finding.Result {
	c.facts.Database = ""
	if c.hello.program != nil {
		return finding.Good("no database chosen")
	}
	names, err := c.databases(ctx)
	if err != nil {
		return finding.Good("no database chosen")
	}
	return finding.Good("no database chosen. Available: %s", listNames(names))
}

func (c *conversation) databaseMissing(ctx context.Context, r *refusal) *finding.Finding {
	found := finding.New(finding.DatabaseMissing, "there is no database %s on this server",
		clean.Quote(c.to.Database)).
		Saw("%s", r.text())
	names, err := c.databases(ctx)
	near := nearest.Names(c.to.Database, names, 3)
	switch {
	case err != nil:
		found.Saw("the names of the databases could not be read")
	case len(near) > 0:
		found.Saw("similar names that exist: %s", clean.Quote(strings.Join(near, ", ")))
	default:
		found.Saw("databases you can see: %s", listNames(names))
	}
	return found.SuggestValues(c.to.Profile, "database", near).
		ByAdmin(c.to.Helping(), "provision make "+c.to.Profile, "CREATE DATABASE %s", identifier(c.to.Database))
}

// databaseDenied is for error 1044, which a server also gives for a database that does not exist to a login without
// global rights.
func (c *conversation) databaseDenied(ctx context.Context, r *refusal) *finding.Finding {
	found := finding.New(finding.DatabaseNoAccess,
		"the account may not use the database %s, or it does not exist (the server gives one answer for both)",
		clean.Quote(c.to.Database)).
		Saw("%s", r.text())
	if names, err := c.databases(ctx); err == nil {
		found.Saw("databases you can see: %s", listNames(names))
		if near := nearest.Names(c.to.Database, names, 3); len(near) > 0 {
			found.Saw("similar names among them: %s", clean.Quote(strings.Join(near, ", ")))
			found.SuggestValues(c.to.Profile, "database", near)
		}
	}
	user := c.to.User
	if c.facts.User == "" {
		user = ""
	}
	host := hostOf(c.facts.Account)
	return c.to.LookUpAs(found.ByAdmin(c.to.Helping(), "provision grant "+c.to.Profile+" -access write",
		"GRANT SELECT, INSERT, UPDATE, DELETE ON %s.* TO %s", identifier(c.to.Database), c.accountName(user, host)))
}

// databases lists those that this login may see.
func (c *conversation) databases(ctx context.Context) ([]string, error) {
	return c.column(ctx, "SELECT schema_name FROM information_schema.schemata ORDER BY 1 LIMIT 10000")
}

// listNames shows a few names.
func listNames(names []string) string {
	const most = 8
	switch {
	case len(names) == 0:
		return "no database at all"
	case len(names) == 1 && strings.EqualFold(names[0], "information_schema"):
		return "only the information schema"
	case len(names) > most:
		return clean.Quote(strings.Join(names[:most], ", ")) + " and more"
	}
	return clean.Quote(strings.Join(names, ", "))
}
