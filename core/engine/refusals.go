package engine

import (
	"errors"
	"net"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/deadline"
	"gentleharbor/core/finding"
	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
)

// SecretError is a secret that could not be taken when it was to be sent.
type SecretError struct{ Err error }

func (e *SecretError) Error() string { return e.Err.Error() }
func (e *SecretError) Unwrap() error { return e.Err }

// The findings of a login that mean the same for every engine.

// ClearAllowed says where a password may go out as it is: over TLS that was
// verified, or to a socket whose peer was checked.
func (t *Target) ClearAllowed(f *Facts) bool {
	if t.Network == "unix" {
		return t.PeerChecked
	}
	return t.TLS.Rule == tlsrule.Verified && f.TLSVerified != nil && *f.TLSVerified
}

// NotInTheClear adds to found why a password may not go out as it is here, and
// what to do about that.
func (t *Target) NotInTheClear(found *finding.Finding, f *Facts) *finding.Finding {
	switch {
	case t.Network == "unix":
		found.Saw("the process behind the socket belongs neither to root, nor to you, nor to the owner of the folder")
		return found.Suggest("ls -ld %s", clean.Shell(t.Address))
	case f.TLS == "none":
		found.Saw("the connection is not encrypted")
	default:
		found.Saw("the connection is encrypted (%s), but the server was not verified", f.TLS)
	}
	return found.Suggest("gharbor set %s tls=verified", t.Profile)
}

// ExplainSecretError returns the finding for a secret that could not be taken.
func (t *Target) ExplainSecretError(err *SecretError) *finding.Finding {
	var own *secret.Failure
	if errors.As(err, &own) {
		return own.Found
	}
	return finding.New(finding.SecretUnreadable, "the password could not be read when it was needed").
		Saw("%s", clean.Line(err.Error(), 0)).
		Suggest("gharbor show %s", t.Profile)
}

// LoginTimeout is for a login that the server did not answer in time. let says that it had accepted the account before.
func (t *Target) LoginTimeout(method string, let bool) *finding.Finding {
	if let {
		return finding.New(finding.LoginTimeout,
			"the login was accepted, and then nothing came: a pooler or proxy may have no server behind it").
			Saw("method: %s", method).
			Suggest("gharbor wait %s   # if its server is only restarting", t.Profile).
			Advise("on the pooler: is its server up, and does it accept the pooler's own login?")
	}
	return finding.New(finding.LoginTimeout, "the server did not answer the login in time").
		Saw("method: %s", method).
		Suggest("gharbor test %s -timeout 60s", t.Profile)
}

// LoginBrokenOff is for a login that ended without a word from the server.
func (t *Target) LoginBrokenOff(seen string) *finding.Finding {
	return finding.New(finding.LoginBrokenOff, "the server closed the connection during the login, without a message").
		Saw("%s", clean.Line(seen, 0)).
		Suggest("gharbor test %s   # again; if it repeats, the server's log says why", t.Profile)
}

// alerts are what TLS alerts say of a client's certificate (RFC 8446, section 6.2).
var alerts = []struct{ words, cause string }{
	{"unknown certificate authority", "the server does not know the authority that issued the client certificate"},
	{"expired certificate", "the client certificate has expired"},
	{"revoked certificate", "the client certificate was revoked"},
	{"certificate required", "the server wants a client certificate, and got none"},
	{"bad certificate", "the server does not accept the client certificate"},
	{"unsupported certificate", "the server does not accept client certificates of this kind"},
}

// CertificateRefused is for a client's certificate that is missing, or not the
// one that the server wants.
func (t *Target) CertificateRefused(f *Facts, seen string) *finding.Finding {
	found := finding.New(finding.TLSClientCertificate, "the server does not accept the client certificate")
	for _, alert := range alerts {
		if strings.Contains(seen, alert.words) {
			found.Cause = alert.cause
			break
		}
	}
	if t.TLS.Cert == "" {
		found.Cause = "the server wants a client certificate; the profile has none"
		found.Advise("name the certificate and its key: gharbor set %s tls-cert=PATH tls-key=PATH", t.Profile)
		return found.Saw("%s", clean.Line(seen, 0))
	}
	found.Saw("%s", clean.Line(seen, 0)).Saw("the profile's certificate is %s", t.TLS.Cert)
	if leaf := t.TLS.ClientCertificate(); leaf != nil {
		found.Saw("it is for %s, issued by %s, valid until %s", clean.Quote(leaf.Subject.String()),
			clean.Quote(leaf.Issuer.String()), leaf.NotAfter.Format(time.DateOnly))
		if len(f.ClientAuthorities) > 0 && !slices.Contains(f.ClientAuthorities, leaf.Issuer.String()) {
			found.Saw("the server takes certificates issued by %s",
				clean.Quote(strings.Join(f.ClientAuthorities, "; ")))
			found.Advise("if %s stands between: put its certificate into %s, behind the first",
				clean.Quote(leaf.Issuer.String()),
				t.TLS.Cert)
		}
	}
	return found.Suggest("openssl x509 -noout -subject -issuer -enddate -in %s", clean.Shell(t.TLS.Cert))
}

// SessionLost is for a session that failed: err is that of the connection, nil where the server refused a plain
// question. A server that gave no answer in time has a finding of its own.
func (t *Target) SessionLost(err error, seen string) *finding.Finding {
	if deadline.Passed(err) || errors.Is(err, net.ErrClosed) { // this end closes it when the time is over
		return finding.New(finding.SessionTimeout, "the login worked, then the server gave no answer in time").
			Saw("nothing came back before the time for the test was over").
			Suggest("gharbor test %s -timeout 60s", t.Profile).
			Suggest("gharbor explain %s   # if it repeats: packets that are too large for the way", finding.SessionTimeout)
	}
	return finding.New(finding.SessionLost, "the login worked, then the session failed").
		Saw("%s", clean.Line(seen, 0)).
		Suggest("gharbor test %s   # again; if it repeats, the server's log says why", t.Profile)
}

// NoRight is for a session that may not even read who and where it is.
func (t *Target) NoRight(seen string) *finding.Finding {
	return finding.New(finding.SessionNoRight, "the login worked, but the account may not read what the test asks").
		Saw("%s", clean.Line(seen, 0)).
		Suggest("gharbor test %s -full", t.Profile)
}
