package tlsrule

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"math/big"
	"os"
	"path/filepath"
	"testing"
	"time"

	"gentleharbor/core/finding"
)

// signer is a certificate with its key.
type signer struct {
	*x509.Certificate
	key *ecdsa.PrivateKey
}

// sign makes a certificate; by is nil for one that signs itself.
func sign(t *testing.T, template *x509.Certificate, by *signer) *signer {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template.SerialNumber = big.NewInt(time.Now().UnixNano())
	template.NotBefore, template.NotAfter = time.Now().Add(-time.Hour), time.Now().Add(1000*time.Hour)
	if by == nil {
		by = &signer{template, key}
	}
	der, err := x509.CreateCertificate(rand.Reader, template, by.Certificate, &key.PublicKey, by.key)
	if err != nil {
		t.Fatal(err)
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return &signer{cert, key}
}

func authorityNamed(name string, permitted ...string) *x509.Certificate {
	return &x509.Certificate{Subject: pkix.Name{CommonName: name}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign,
		PermittedDNSDomainsCritical: len(permitted) > 0, PermittedDNSDomains: permitted}
}

// TestNames: for which names a certificate is good, by what it and its authorities say.
func TestNames(t *testing.T) {
	root := sign(t, authorityNamed("Saltmarsh Root"), nil)
	bounded := sign(t, authorityNamed("Saltmarsh Bounded Root", "saltmarsh.example"), nil)
	within := sign(t, authorityNamed("Saltmarsh Constrained", "saltmarsh.example"), root)
	free := sign(t, authorityNamed("Saltmarsh Free"), root)
	registered, _ := asn1.Marshal([]asn1.RawValue{{Class: asn1.ClassContextSpecific, Tag: 8, Bytes: []byte{0x2a, 3, 4}}}) // registeredID (RFC 5280, 4.2.1.6)
	other := []pkix.Extension{{Id: subjectAltName, Value: registered}}
	ca := filepath.Join(t.TempDir(), "ca.pem")
	var all []byte
	for _, one := range []*signer{root, bounded} {
		all = append(all, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: one.Raw})...)
	}
	if err := os.WriteFile(ca, all, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		what   string
		common string
		names  []string
		more   []pkix.Extension
		by     *signer
		asked  string
		code   string // "" where it is good
	}{
		{"a common name, no alternative names", "db.example", nil, nil, free, "db.example", ""},
		{"another common name", "db.example", nil, nil, free, "dc.example", "tls.wrong-name"},
		{"an alternative name", "x", []string{"db.example"}, nil, free, "db.example", ""},
		{"a common name beside alternative names", "db.example", []string{"other.example"}, nil, free, "db.example", "tls.wrong-name"},
		{"a common name beside an alternative name of another kind", "db.example", nil, other, free, "db.example", "tls.wrong-name"},
		{"a common name under a constrained authority", "localhost", nil, nil, within, "localhost", "tls.wrong-name"},
		{"a common name that the constraint would permit", "db.saltmarsh.example", nil, nil, within, "db.saltmarsh.example", "tls.wrong-name"},
		{"an alternative name within the constraint", "x", []string{"db.saltmarsh.example"}, nil, within, "db.saltmarsh.example", ""},
		{"an alternative name outside of the constraint", "x", []string{"localhost"}, nil, within, "localhost", "tls.untrusted"},
		{"a common name under a constrained root", "localhost", nil, nil, bounded, "localhost", "tls.wrong-name"},
		{"an address as a common name", "127.0.0.1", nil, nil, free, "127.0.0.1", "tls.wrong-name"},
	} {
		leaf := sign(t, &x509.Certificate{Subject: pkix.Name{CommonName: c.common}, DNSNames: c.names, ExtraExtensions: c.more, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}, c.by)
		server := &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{leaf.Raw, c.by.Raw}, PrivateKey: leaf.key}}}
		plan, found := Load(t.Context(), Settings{Profile: "p", Rule: Verified, CA: ca})
		if found != nil {
			t.Fatal(found)
		}
		plan.Name, plan.NameKey = c.asked, "host"
		_, result, _ := handshake(t, plan, server)
		code := ""
		if result.Outcome != finding.OK && result.Finding != nil {
			code = string(result.Finding.Code)
		}
		if code != c.code {
			t.Errorf("%s: %q, want %q", c.what, code, c.code)
		}
	}
}
