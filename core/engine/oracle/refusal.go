package oracle

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/sijms/go-ora/v2/network"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/oracle/tns"
	"gentleharbor/core/engine/probe"
	"gentleharbor/core/finding"
)

// Numbers with which a listener or a server refuses (Oracle documentation, "Database
// Error Messages").
const (
	maxSessions        = 18
	maxProcesses       = 20
	nullPassword       = 1005
	invalidLogin       = 1017
	insufficientRights = 1031
	startingOrStopping = 1033
	notAvailable       = 1034
	restrictedOnly     = 1035
	noCreateSession    = 1045
	noHandler          = 12516
	notHandedOver      = 12518
	noServiceHandler   = 12519
	noServerHandler    = 12520
	allRestricted      = 12526
	someRestricted     = 12527
	allBlocked         = 12528
	accountLocked      = 28000
	passwordExpired    = 28001
	sysNeedsRight      = 28009
	noCommonProtocol   = 28040
)

// listenerRefused is the finding for a listener's refusal.
func (c *conversation) listenerRefused(r tns.Refusal) *finding.Finding {
	var found *finding.Finding
	switch r.Code {
	case tns.UnknownService, tns.UnknownSID, tns.UnknownInstance:
		found = finding.New(finding.SpeakServiceUnknown,
			"the listener at %s is up, but does not know %s: the name is wrong, or the database is down or not "+
				"registered yet", c.to.Address, c.describeTarget())
		if c.to.Alias != "" {
			found.Saw("it is named in %s", c.to.AliasAt).
				Suggest("gharbor alias show %s   # where the name stands", c.to.Alias).
				Advise("name it: gharbor alias set %s %s=NAME (what the listener knows)", c.to.Alias, c.key())
		} else {
			found.Advise("name it: gharbor set %s %s=NAME (what the listener knows)", c.to.Profile, c.key())
		}
		found.AsAdmin(c.to.Admin, "SELECT name FROM v$active_services")
	case noHandler, noServiceHandler, noServerHandler, notHandedOver:
		found = finding.New(finding.SpeakNoHandler,
			"the listener at %s knows %s, but it takes no more connections of this kind", c.to.Address, c.describeTarget()).
			Suggest("gharbor wait %s   # until there is room", c.to.Profile).
			AsAdmin(c.to.Admin, "SELECT resource_name, current_utilization, limit_value FROM v$resource_limit "+
				"WHERE resource_name IN ('processes', 'sessions')")
	case allRestricted, someRestricted, allBlocked:
		found = finding.New(finding.SpeakServiceBlocked,
			"the listener at %s knows %s, but its instances are starting, not open, or restricted",
			c.to.Address, c.describeTarget()).
			Suggest("gharbor wait %s   # until it is ready", c.to.Profile).
			AsAdmin(c.to.Admin, "SELECT instance_name, status, logins FROM v$instance")
	case notAvailable:
		found = c.instanceDown()
	default:
		found = finding.New(finding.LoginRefused, "the listener at %s refused %s", c.to.Address, c.describeTarget()).
			Suggest("gharbor show %s", c.to.Profile).AsAdmin(c.to.Admin,
			"SELECT instance_name, status, logins FROM v$instance")
	}
	said := r.Number()
	if !r.Numbers {
		said = "no number"
	}
	found.Saw("the listener said %s: %s", said, clean.Quote(r.Text))
	if r.Listen != "" {
		found.Saw("the listener's version is %s", r.Listen)
	}
	if c.facts.TLS != "none" {
		found.Saw("it was asked within %s, %s", c.facts.TLS, engine.Either(c.facts.TLSVerified, "verified", "not verified"))
	}
	return found
}

// key is the profile's key for what the listener was asked for.
func (c *conversation) key() string {
	if c.to.Service == "" {
		return "instance"
	}
	return "service"
}

func (c *conversation) instanceDown() *finding.Finding {
	return finding.New(finding.SpeakInstanceDown, "the listener knows %s, but its instance is down",
		c.describeTarget()).
		Suggest("gharbor wait %s   # until it is up", c.to.Profile).
		Advise("on the server: start the instance (STARTUP), as its owner")
}

// loginFailed turns the end of a login into a finding.
func (c *conversation) loginFailed(ctx context.Context, err error) *finding.Finding {
	var taking *engine.SecretError
	var server *network.OracleError
	switch {
	case errors.As(err, &taking):
		return c.to.ExplainSecretError(taking)
	case errors.Is(err, errNone):
		found := finding.New(finding.LoginPasswordWanted, "the server wants a password for %s; the profile sends none",
			clean.Quote(c.to.User))
		if len(c.to.NoSecretTried) > 0 {
			found = finding.New(finding.SecretMissing, "the server wants a password for %s, and none was found",
				clean.Quote(c.to.User))
		}
		return c.to.PasswordWanted(found)
	case errors.Is(err, errEmpty):
		return finding.New(finding.LoginEmptyPassword,
			"the password is empty, which this server never accepts; it was not sent").
			Suggest("gharbor test %s -override secret=ask   # type the password once", c.to.Profile)
	case errors.Is(err, errWeak):
		found := finding.New(finding.LoginCleartextRefused,
			"the server asks for the %s, from which a listener can find the password: gharbor answers only over "+
				"verified TLS", verifierName(verifier10))
		return c.to.NotInTheClear(found, &c.facts)
	case errors.Is(err, errTooLong), errors.Is(err, errDriverPanic):
		return finding.New(finding.LoginBrokenOff,
			"gharbor closed the connection during the login: the server sent something that no honest server sends").
			Saw("%s", clean.Line(plain(err), 200)).
			Suggest("gharbor show %s   # is it the right server?", c.to.Profile)
	case errors.As(err, &server):
		return c.serverRefused(server)
	}
	if alert := probe.ClientCertificateAlert(err); alert != "" {
		return c.to.CertificateRefused(&c.facts, alert)
	}
	method := c.facts.LoginMethod
	if method == "" {
		method = "none asked yet"
	}
	if ctx.Err() != nil || errors.Is(err, os.ErrDeadlineExceeded) {
		return c.to.LoginTimeout(method, false)
	}
	return c.to.LoginBrokenOff(plain(err))
}

// plain is an error's text without the driver's wrapping.
func plain(err error) string {
	var server *network.OracleError
	switch {
	case errors.As(err, &server):
		return serverText(server)
	case errors.Is(err, io.EOF):
		return "end of the stream"
	}
	return probe.LastError(err)
}

// serverText is the server's message, or its number where the message is missing.
func serverText(e *network.OracleError) string {
	if e.ErrMsg == "" {
		return fmt.Sprintf("ORA-%05d", e.ErrCode)
	}
	return clean.Quote(e.ErrMsg)
}

// serverRefused returns the finding for a server's error during the login.
func (c *conversation) serverRefused(e *network.OracleError) *finding.Finding {
	name, user := c.to.Profile, clean.Quote(c.to.User)
	var found *finding.Finding
	switch e.ErrCode {
	case invalidLogin:
		found = finding.New(finding.LoginPassword,
			"the login of %s was refused. The server does not say why: wrong password, no such account, or no "+
				"right for as", user).
			Suggest("gharbor show %s   # is the user right, and where the password is from?", name)
	case nullPassword:
		found = finding.New(finding.LoginEmptyPassword, "the server says that no password was given").
			Suggest("gharbor test %s -override secret=ask   # type the password once", name)
	case accountLocked:
		found = finding.New(finding.LoginLocked, "the account %s is locked", user).
			ByAdmin(c.to.Helping(), "provision unlock "+c.to.Profile, "ALTER USER %s ACCOUNT UNLOCK", identifier(c.to.User))
	case passwordExpired:
		found = finding.New(finding.LoginExpired, "the password of %s has expired; set a new one",
			user).
			AdviseUnseen("ALTER USER %s IDENTIFIED BY \"NEW-PASSWORD\"", identifier(c.to.User))
	case insufficientRights:
		found = finding.New(finding.LoginRightRefused, "the account %s may log in, but not as %s", user,
			firstOf(c.to.As, "an administrator")).
			Suggest("gharbor set %s as=   # as an ordinary user", name)
		if c.to.As != "" {
			found.AsAdmin(c.to.Admin, "GRANT %s TO %s", upper(c.to.As), identifier(c.to.User))
		}
	case sysNeedsRight:
		found = finding.New(finding.LoginRightNeeded, "the account %s may log in only with an administrator's "+
			"right (as)",
			user).
			Suggest("gharbor set %s as=sysdba   # or as=sysoper", name)
	case noCreateSession:
		found = finding.New(finding.LoginNoLoginRight,
			"the account %s exists, but may not log in (CREATE SESSION)", user).
			ByAdmin(c.to.Helping(), "provision unlock "+c.to.Profile, "GRANT CREATE SESSION TO %s", identifier(c.to.User))
	case startingOrStopping:
		found = finding.New(finding.SpeakStarting, "the instance is starting or stopping").
			Suggest("gharbor wait %s   # until it is ready", name)
	case notAvailable:
		found = c.instanceDown()
	case restrictedOnly:
		found = finding.New(finding.SpeakServiceBlocked, "the instance is in restricted mode: only administrators "+
			"may log in").
			Suggest("gharbor wait %s   # until it is ready", name)
	case maxSessions, maxProcesses:
		found = finding.New(finding.SessionServerFull, "the server is full (sessions or processes)").
			Suggest("gharbor wait %s   # until there is room", name).
			AsAdmin(c.to.Admin, "SELECT resource_name, current_utilization, limit_value FROM v$resource_limit "+
				"WHERE resource_name IN ('processes', 'sessions')")
	case noCommonProtocol:
		found = finding.New(finding.LoginUnsupportedMethod, "the server and gharbor have no login method in common").
			Advise("as an administrator, run: ALTER USER %s IDENTIFIED BY \"THE-PASSWORD\" (this makes the newer "+
				"verifiers)",
				identifier(c.to.User))
	default:
		found = finding.New(finding.LoginRefused, "the server refused the login of %s",
			user).Suggest("gharbor show %s", name)
	}
	return found.Saw("the server said %s", serverText(e))
}

func upper(s string) string { return foldName(s) }
