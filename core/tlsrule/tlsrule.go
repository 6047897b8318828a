// Package tlsrule applies a profile's TLS rule to a connection: it makes the configuration, does the handshake,
// judges the certificate chain itself, and reports faults in findings. It knows no database protocol; an engine calls
// it after the server has agreed to speak TLS.
package tlsrule

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/deadline"
	"gentleharbor/core/finding"
)

// Rule is what a profile requires of the encryption.
type Rule string

// The rules, weakest first.
const (
	Off      Rule = "off"      // never encrypt
	Offered  Rule = "offered"  // encrypt where the server offers it; for addresses of this machine
	Required Rule = "required" // encrypt or fail; whoever answers is believed
	Verified Rule = "verified" // encrypt, and the chain and the name must be right
)

// ExpiresSoon is the remaining time of a certificate from which there is a warning.
const ExpiresSoon = 21 * 24 * time.Hour

// maxPEM bounds a PEM file; the system's own bundle of authorities is 220 KiB.
const maxPEM = 4 << 20

// Settings are a profile's TLS keys.
type Settings struct {
	Profile   string
	Rule      Rule
	Name      string // that the certificate must carry: tls-name, else the host as written
	NameKey   string // "tls-name" or "host"
	CA        string // path, "" for the system's authorities
	Cert, Key string // paths of the client's own, or ""
	CRL       string // path of revocation lists, or of a folder of them, "" for none

	// KeyPassphrase takes the passphrase of Key; nil where the profile names no source for it.
	KeyPassphrase func(context.Context) ([]byte, *finding.Finding)

	Pinned map[string][]byte // bytes to take in place of a file's, by path
}

// Plan is Settings with their files read.
type Plan struct {
	Settings
	roots  *x509.CertPool // nil for the system's
	told   bool           // roots are what Trust was given
	client []tls.Certificate
	lists  []*revocationList // nil where none are asked for
	Now    func() time.Time

	// MaxVersion bounds the version (tls.VersionTLS12), 0 for none. Up to
	// TLS 1.2 a server judges the client's certificate within the handshake.
	MaxVersion uint16

	// Protocols are offered in the handshake (ALPN, RFC 7301); nil for none.
	Protocols []string
}

// Load reads the files that the settings name.
func Load(ctx context.Context, s Settings) (*Plan, *finding.Finding) {
	p := &Plan{Settings: s, Now: time.Now}
	if s.CRL != "" {
		var found *finding.Finding
		if p.lists, found = s.loadLists(); found != nil {
			return nil, found
		}
	}
	if s.CA != "" {
		data, err := s.readPEM(s.CA)
		if err != nil {
			return nil, fileFinding(s, "tls-ca", s.CA, err)
		}
		p.roots = x509.NewCertPool()
		if !p.roots.AppendCertsFromPEM(data) {
			return nil, fileFinding(s, "tls-ca", s.CA, errors.New("there is no PEM certificate in it"))
		}
	}
	if s.Cert == "" && s.Key == "" {
		return p, nil
	}
	if s.Cert == "" || s.Key == "" {
		have, lack := "tls-cert", "tls-key"
		if s.Cert == "" {
			have, lack = lack, have
		}
		return nil, finding.New(finding.ProfileIncomplete, "%s is set, but %s is not; a client certificate needs "+
			"both", have,
			lack).
			Advise("name the file: gharbor set %s %s=PATH", s.Profile, lack)
	}
	if found := p.loadClient(ctx); found != nil {
		return nil, found
	}
	return p, nil
}

// Trust replaces the profile's authorities by those, in PEM, that came with the server's address. Where the PEM has
// none, no certificate is trusted.
func (p *Plan) Trust(pem []byte) {
	p.roots, p.told = x509.NewCertPool(), true
	p.roots.AppendCertsFromPEM(pem)
}

// Present replaces the profile's client certificate.
func (p *Plan) Present(cert *tls.Certificate) { p.client = []tls.Certificate{*cert} }

func (s Settings) readPEM(path string) ([]byte, error) {
	if data, ok := s.Pinned[path]; ok {
		return data, nil
	}
	file, err := atomicfile.Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	data, err := io.ReadAll(io.LimitReader(file, maxPEM+1))
	if err == nil && len(data) > maxPEM {
		err = errors.New("it is larger than 4 MiB")
	}
	return data, err
}

func fileFinding(s Settings, key, path string, err error) *finding.Finding {
	why := err.Error()
	var pathError *os.PathError
	if errors.As(err, &pathError) {
		why = pathError.Err.Error()
	}
	return finding.New(finding.ProfileTLSFile, "%s: %s cannot be used", key, path).
		Saw("%s", clean.Line(strings.TrimPrefix(why, "tls: "), 0)).
		Suggest("ls -l %s", clean.Shell(path)).
		Advise("name the file: gharbor set %s %s=PATH", s.Profile, key)
}

// Facts are what a handshake came to.
type Facts struct {
	Version  string // "TLS 1.3"
	Cipher   string
	Verified bool               // the chain leads to a trusted authority and the name is right
	Faults   []*finding.Finding // what verification objects to, gravest first
	Peer     *Certificate
	Chain    []*x509.Certificate

	ClientAuthorities []string // issuers of client certificates that the server named, where it asked for one

	partial bool // the chain ends at an authority of tls-ca that is not self-signed
}

// HandshakeError says why there was no handshake.
type HandshakeError struct{ Err error }

func (e *HandshakeError) Error() string { return e.Err.Error() }
func (e *HandshakeError) Unwrap() error { return e.Err }

// Handshake encrypts conn and judges the chain by the rule. It returns a bare *tls.Conn, from which SCRAM takes its
// channel binding. It judges the chain itself, not by crypto/tls, so that each fault has its own finding. Where the
// result fails, the caller must close the connection; err is a *HandshakeError where there was no handshake.
func (p *Plan) Handshake(ctx context.Context, conn net.Conn) (*tls.Conn, *Facts, finding.Result, error) {
	var authorities []string
	config := &tls.Config{
		MinVersion: tls.VersionTLS12, MaxVersion: p.MaxVersion, NextProtos: p.Protocols,
		InsecureSkipVerify: true, // judged below, before anything is sent
		// Send the certificate whatever authorities the server names: a server's error about a wrong one is clearer
		// than about none.
		GetClientCertificate: func(asked *tls.CertificateRequestInfo) (*tls.Certificate, error) {
			authorities = issuers(asked.AcceptableCAs)
			if len(p.client) == 0 {
				return new(tls.Certificate), nil
			}
			return &p.client[0], nil
		},
	}
	if _, err := netip.ParseAddr(p.Name); err != nil {
		config.ServerName = p.Name // an IP address is no server name (RFC 6066, section 3)
	}
	secure := tls.Client(conn, config)
	if err := secure.HandshakeContext(ctx); err != nil {
		return nil, nil, finding.Result{}, &HandshakeError{err}
	}
	state := secure.ConnectionState()
	facts := &Facts{
		Version: tls.VersionName(state.Version),
		Cipher:  tls.CipherSuiteName(state.CipherSuite),
		Chain:   state.PeerCertificates,

		ClientAuthorities: authorities,
	}
	if len(facts.Chain) > 0 {
		facts.Peer = Describe(facts.Chain[0], p.Now())
	}
	facts.Faults, facts.partial = p.faults(facts.Chain)
	facts.Verified = len(facts.Faults) == 0
	return secure, facts, p.judge(facts, facts.Faults), nil
}

// ClientCertificate is the client's own, nil for none.
func (p *Plan) ClientCertificate() *x509.Certificate {
	if len(p.client) == 0 {
		return nil
	}
	return p.client[0].Leaf
}

// issuers are the names of authorities that a server sends, each an RDN sequence in DER (RFC 5280, 4.1.2.4).
func issuers(sent [][]byte) (names []string) {
	const most = 20
	for _, der := range sent[:min(len(sent), most)] {
		var sequence pkix.RDNSequence
		var name pkix.Name
		if _, err := asn1.Unmarshal(der, &sequence); err == nil {
			name.FillFromRDNSequence(&sequence)
			names = append(names, clean.Line(name.String(), 200))
		}
	}
	return names
}

// faults lists the faults of a chain, the gravest first. incomplete is true where the chain has no root.
func (p *Plan) faults(chain []*x509.Certificate) (faults []*finding.Finding, incomplete bool) {
	if len(chain) == 0 {
		return []*finding.Finding{finding.New(finding.TLSUntrusted, "the server presented no certificate")}, false
	}
	leaf, now := chain[0], p.Now()
	faults = []*finding.Finding{}
	switch {
	case now.After(leaf.NotAfter):
		faults = append(faults,
			finding.New(finding.TLSExpired, "the server's certificate expired on %s",
				leaf.NotAfter.UTC().Format(time.DateOnly)).
				Saw("this machine's clock says %s", now.UTC().Format(time.DateTime+" MST")))
	case now.Before(leaf.NotBefore):
		faults = append(faults,
			finding.New(finding.TLSNotYetValid,
				"the server's certificate is valid only from %s: a clock is wrong, or the certificate is",
				leaf.NotBefore.UTC().Format(time.DateTime+" MST")).
				Saw("this machine's clock says %s", now.UTC().Format(time.DateTime+" MST")))
	}
	verified, fault := p.chainFault(chain)
	if fault != nil {
		faults = append(faults, fault)
	}
	if len(verified) > 0 {
		if fault := p.checkRevocation(verified[0]); fault != nil {
			faults = append(faults, fault)
		}
	}
	if !carriesName(slices.Concat(append(verified, chain)...), p.Name) {
		faults = append(faults, p.nameFault(leaf))
	}
	return faults, p.roots != nil && partial(verified)
}

// The extensions of RFC 5280 about names: 4.2.1.6 and 4.2.1.10.
var (
	subjectAltName  = asn1.ObjectIdentifier{2, 5, 29, 17}
	nameConstraints = asn1.ObjectIdentifier{2, 5, 29, 30}
)

// carriesName reports whether the first certificate of a chain is for a name. One without alternative names is for
// its common name, as some servers' own clients accept it: those servers' documentation makes such certificates (RFC
// 6125, section 6.4.4). There is no such fallback for an address, and none where a certificate of the chain
// constrains names: constraints are checked against alternative names only (RFC 5280, 4.2.1.10), so a common name
// would bypass them.
func carriesName(chain []*x509.Certificate, name string) bool {
	leaf := chain[0]
	if leaf.VerifyHostname(name) == nil {
		return true
	}
	if has(leaf, subjectAltName) ||
		slices.ContainsFunc(chain, func(c *x509.Certificate) bool { return has(c, nameConstraints) }) {
		return false
	}
	_, err := netip.ParseAddr(name)
	return err != nil && name != "" && strings.EqualFold(leaf.Subject.CommonName, name)
}

func has(c *x509.Certificate, extension asn1.ObjectIdentifier) bool {
	return slices.ContainsFunc(c.Extensions, func(e pkix.Extension) bool { return e.Id.Equal(extension) })
}

// chainFault verifies only the chain: at a time when the leaf is valid, and without a name, as these have faults of
// their own. It returns the chains to authorities.
func (p *Plan) chainFault(chain []*x509.Certificate) ([][]*x509.Certificate, *finding.Finding) {
	roots, where := p.roots, "the authorities in "+p.CA
	if p.told {
		where = "the authority that the service named for it"
	}
	if roots == nil {
		where = "this system's authorities"
		system, err := x509.SystemCertPool()
		if err != nil || system.Equal(x509.NewCertPool()) {
			return nil, finding.New(finding.TLSNoAuthorities,
				"this system has no certificate authorities, so it can't verify certificates").
				Suggest("apt-get install ca-certificates   # or your system's package").
				Suggest("gharbor certificate %s -save", p.Profile)
		}
		roots = system
	}
	at := p.Now()
	if at.After(chain[0].NotAfter) {
		at = chain[0].NotAfter
	} else if at.Before(chain[0].NotBefore) {
		at = chain[0].NotBefore
	}
	between := x509.NewCertPool()
	for _, c := range chain[1:] {
		between.AddCert(c)
	}
	verified, err := chain[0].Verify(x509.VerifyOptions{
		Roots:         roots,
		Intermediates: between,
		CurrentTime:   at,
		KeyUsages:     []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	})
	if err == nil {
		return verified, nil
	}
	top := chain[len(chain)-1]
	found := finding.New(finding.TLSUntrusted, "the certificate is not signed by a trusted authority (%s)",
		where)
	if len(chain) == 1 && bytes.Equal(top.RawSubject, top.RawIssuer) {
		found.Saw("it is self-signed: %s", clean.Quote(top.Subject.String()))
	} else {
		found.Saw("its issuer is %s", clean.Quote(top.Issuer.String()))
	}
	var unknown x509.UnknownAuthorityError
	if !errors.As(err, &unknown) {
		found.Saw("%s", clean.Line(strings.TrimPrefix(err.Error(), "x509: "), 0))
	}
	if p.told {
		return nil, found.Suggest("gharbor certificate %s   # what it presents", p.Profile)
	}
	return nil, found.Suggest("gharbor certificate %s -save", p.Profile)
}

func (p *Plan) nameFault(leaf *x509.Certificate) *finding.Finding {
	found := finding.New(finding.TLSWrongName, "the certificate is not for %s (the name is from %s)",
		clean.Quote(p.Name), p.NameKey)
	names := Describe(leaf, p.Now()).Names
	if len(names) == 0 {
		found.Saw("it has no alternative names, only the subject %s", clean.Quote(leaf.Subject.String()))
	} else {
		found.Saw("it is for %s", clean.Quote(strings.Join(names, ", ")))
	}
	// A name from the server is not put into a line to try.
	return found.Suggest("gharbor certificate %s", p.Profile).
		Advise("test with the name that you expect: gharbor test %s -override tls-name=NAME", p.Profile)
}

// judge weighs the faults by the rule.
func (p *Plan) judge(facts *Facts, faults []*finding.Finding) finding.Result {
	detail := p.detail(facts)
	if p.Rule == Verified && len(faults) > 0 {
		found := faults[0]
		for _, other := range faults[1:] {
			found.Saw("also: %s (%s)", other.Cause, other.Code)
		}
		return finding.FailWith(found)
	}
	for _, fault := range faults {
		if slices.Contains([]finding.Code{finding.TLSExpired, finding.TLSNotYetValid}, fault.Code) {
			return finding.WarnWith(fault, "%s", detail)
		}
	}
	if facts.partial && p.Rule == Verified {
		return finding.WarnWith(PartialChain(p.Profile, p.CA), "%s", detail)
	}
	if facts.Peer != nil && facts.Peer.NotAfter.Sub(p.Now()) < ExpiresSoon {
		return finding.WarnWith(finding.New(finding.TLSExpiresSoon, "the server's certificate expires in %s, on %s",
			plainDays(facts.Peer.DaysLeft), facts.Peer.NotAfter.Format(time.DateOnly)).
			Saw("issued by %s", clean.Quote(facts.Peer.Issuer)).
			Suggest("gharbor certificate %s", p.Profile), "%s", detail)
	}
	return finding.Good("%s", detail)
}

// PartialChain is the warning for an authority that other programs do not accept as the end of a chain.
func PartialChain(profile, path string) *finding.Finding {
	return finding.New(finding.TLSPartialChain,
		"the authority in tls-ca is not self-signed: gharbor takes it, but programs built on OpenSSL refuse it").
		Saw("tls-ca is %s", path).
		Advise("put the root certificate that signed it into the file too: gharbor set %s tls-ca=PATH", profile)
}

// detail is the handshake in one line.
func (p *Plan) detail(facts *Facts) string {
	how := "verified"
	if p.Rule != Verified {
		how = fmt.Sprintf("not verified (tls = %q)", p.Rule)
	}
	detail := fmt.Sprintf("%s, %s, %s", facts.Version, how, facts.Cipher)
	if facts.Peer != nil {
		detail += fmt.Sprintf(", certificate of %s by %s, %s", clean.Quote(facts.Peer.Subject),
			clean.Quote(facts.Peer.Issuer), days(facts.Peer.DaysLeft))
	}
	return detail
}

func days(n int) string {
	if n < 0 {
		return fmt.Sprintf("expired %s ago", plainDays(-n))
	}
	return plainDays(n) + " left"
}

func plainDays(n int) string {
	if n == 1 {
		return "1 day"
	}
	return fmt.Sprintf("%d days", n)
}

// Diagnose returns the finding for a failed handshake. raise is the server's setting for TLS 1.2.
func Diagnose(err error, profile, address, raise string) *finding.Finding {
	var record tls.RecordHeaderError
	var alert tls.AlertError
	text := strings.ToLower(err.Error())
	switch {
	case errors.As(err, &record):
		return finding.New(finding.TLSHandshake, "the server at %s agreed to TLS and then did not speak TLS", address).
			Saw("its first bytes: %s", clean.Bytes(record.RecordHeader[:], 5)).
			Suggest("gharbor nearby")
	case strings.Contains(text, "protocol version"):
		return finding.New(finding.TLSTooOld, "the server speaks only TLS before version 1.2, which is broken").
			Saw("%s", clean.Line(err.Error(), 0)).
			Advise("on the server: %s, or update it", raise)
	case deadline.Passed(err):
		return finding.New(finding.TLSUnfinished, "the server agreed to TLS and then did not finish the handshake "+
			"in time").
			Suggest("gharbor test %s -timeout 60s", profile)
	case errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE):
		return finding.New(finding.TLSUnfinished,
			"the server agreed to TLS and then closed the connection, without a message").
			Saw("%s", clean.Line(err.Error(), 0)).
			Suggest("gharbor wait %s   # until it is ready; if it never is, the server's log says why", profile)
	}
	found := finding.New(finding.TLSHandshake, "the TLS handshake failed")
	if errors.As(err, &alert) || strings.Contains(text, "remote error") {
		found.Cause = "the server ended the TLS handshake"
	}
	if strings.Contains(text, "handshake failure") || strings.Contains(text, "unsupported certificate") {
		found.Cause = "the server has no certificate that gharbor's TLS can use (an RSA-PSS key is of that kind), or no " +
			"cipher in common"
		return found.Saw("%s", clean.Line(err.Error(), 0)).
			Advise("on the server: use a certificate with an RSA key (rsaEncryption), an ECDSA or an Ed25519 key")
	}
	return found.Saw("%s", clean.Line(err.Error(), 0)).
		Suggest("gharbor certificate %s", profile)
}
