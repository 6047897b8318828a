package engine

import (
	"gentleharbor/core/finding"
	"gentleharbor/core/tlsrule"
)

// NotOffered has an engine's words about a server without TLS.
type NotOffered struct {
	Seen   string // how one knows
	Server string // how it is switched on, on the server
	Port   bool   // it is a port's: one speaks TLS from the first byte, or never
}

// WithoutTLS is the result of the tls stage where there is no handshake; ok is false where there is one.
func (t *Target) WithoutTLS(offered bool, words NotOffered) (result finding.Result, ok bool) {
	rule := t.TLS.Rule
	strict := rule == tlsrule.Required || rule == tlsrule.Verified
	switch {
	case t.Network == "unix" && strict:
		return finding.FailWith(finding.New(finding.TLSNotOffered, "a Unix socket has no TLS, but the rule is %s", rule).
			Suggest("gharbor set %s tls=offered   # a socket does not leave this machine", t.Profile)), true
	case t.Network == "unix":
		return finding.Good("not on a Unix socket"), true
	case rule == tlsrule.Off:
		return finding.Good("not encrypted, by the rule (tls = %q)", rule), true
	case !offered && strict:
		return finding.FailWith(finding.New(finding.TLSNotOffered,
			"the server does not offer TLS, but the rule is %s", rule).
			Saw("%s (an answer before TLS can come from anybody)", words.Seen).
			Advise("on the server: %s", words.Server).
			Suggest("gharbor set %s tls=offered   # only where nobody else is on the way", t.Profile)), true
	case !offered && words.Port:
		return finding.Good("not encrypted: this port speaks without TLS"), true
	case !offered:
		return finding.Good("not encrypted: the server does not offer it"), true
	}
	return finding.Result{}, false
}

// SetTLS notes the result of a handshake.
func (f *Facts) SetTLS(by *tlsrule.Facts) {
	f.TLS, f.TLSCipher = by.Version, by.Cipher
	f.TLSVerified, f.Certificate, f.ClientAuthorities = &by.Verified, by.Peer, by.ClientAuthorities
}
