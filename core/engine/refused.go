package engine

import (
	"errors"

	"gentleharbor/core/clean"
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

// Untaken is for a secret that could not be taken.
func (t *Target) Untaken(err *SecretError) *finding.Finding {
	var own *secret.Failure
	if errors.As(err, &own) {
		return own.Found
	}
	return finding.New(finding.SecretUnreadable, "the password could not be read when it was needed").
		Saw("%s", clean.Line(err.Error(), 0)).
		Suggest("gharbor show %s", t.Profile)
}

// LoginTimeout is for a login that the server did not answer in time.
func (t *Target) LoginTimeout(method string) *finding.Finding {
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

// CertificateRefused is for a client's certificate that is missing, or not the
// one that the server wants.
func (t *Target) CertificateRefused(seen string) *finding.Finding {
	found := finding.New(finding.TLSClientCertificate,
		"the server refused the TLS session because of the client's certificate")
	if t.TLS.Cert == "" {
		found.Cause = "the server wants a client certificate; the profile has none"
		found.Advise("name the certificate and its key: gharbor set %s tls-cert=PATH tls-key=PATH", t.Profile)
	} else {
		found.Saw("the profile's certificate is %s", t.TLS.Cert)
		found.Suggest("openssl x509 -noout -subject -issuer -enddate -in %s", clean.Shell(t.TLS.Cert))
	}
	return found.Saw("%s", clean.Line(seen, 0))
}

// SessionLost is for a session that ended, or refused a plain question.
func (t *Target) SessionLost(seen string) *finding.Finding {
	return finding.New(finding.SessionLost, "the login worked, then the session failed").
		Saw("%s", clean.Line(seen, 0)).
		Suggest("gharbor test %s   # again; if it repeats, the server's log says why", t.Profile)
}
