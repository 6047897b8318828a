package tlsrule

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
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

	"github.com/youmark/pkcs8"

	"gentleharbor/core/finding"
)

// issued is a certificate and its key.
type issued struct {
	*x509.Certificate
	key *ecdsa.PrivateKey
}

func issue(t *testing.T, serial int64, name string, by *issued) *issued {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(1000 * time.Hour),
		BasicConstraintsValid: true, IsCA: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign | x509.KeyUsageDigitalSignature,
	}
	signer := &issued{template, key}
	if by != nil {
		signer = by
	}
	der, err := x509.CreateCertificate(rand.Reader, template, signer.Certificate, key.Public(), signer.key)
	if err != nil {
		t.Fatal(err)
	}
	parsed, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return &issued{parsed, key}
}

func (i *issued) list(t *testing.T, next time.Time, revoked ...int64) []byte {
	t.Helper()
	list := &x509.RevocationList{Number: big.NewInt(1), ThisUpdate: time.Now().Add(-2 * time.Hour), NextUpdate: next}
	for _, serial := range revoked {
		list.RevokedCertificateEntries = append(list.RevokedCertificateEntries, x509.RevocationListEntry{SerialNumber: big.NewInt(serial), RevocationTime: time.Now()})
	}
	der, err := x509.CreateRevocationList(rand.Reader, list, i.Certificate, i.key)
	if err != nil {
		t.Fatal(err)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: der})
}

// oldList is list in version 1 of the form, as "openssl ca -gencrl" writes it by default.
func (i *issued) oldList(t *testing.T, next time.Time, revoked ...int64) []byte {
	t.Helper()
	algorithm := pkix.AlgorithmIdentifier{Algorithm: asn1.ObjectIdentifier{1, 2, 840, 10045, 4, 3, 2}} // ECDSA with SHA-256
	to := pkix.TBSCertificateList{                                                                     //lint:ignore SA1019 there is no other way to write one
		Signature: algorithm, Issuer: i.Subject.ToRDNSequence(), ThisUpdate: time.Now().Add(-2 * time.Hour).UTC(), NextUpdate: next.UTC(),
	}
	for _, serial := range revoked {
		to.RevokedCertificates = append(to.RevokedCertificates, pkix.RevokedCertificate{SerialNumber: big.NewInt(serial), RevocationTime: time.Now().UTC()})
	}
	signed, err := asn1.Marshal(to)
	if err != nil {
		t.Fatal(err)
	}
	sum := sha256.Sum256(signed)
	signature, err := ecdsa.SignASN1(rand.Reader, i.key, sum[:])
	if err != nil {
		t.Fatal(err)
	}
	der, err := asn1.Marshal(struct {
		TBS       asn1.RawValue
		Algorithm pkix.AlgorithmIdentifier
		Signature asn1.BitString
	}{asn1.RawValue{FullBytes: signed}, algorithm, asn1.BitString{Bytes: signature, BitLength: len(signature) * 8}})
	if err != nil {
		t.Fatal(err)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: der})
}

// TestRevocation: a certificate on the list is refused, and so is one without a current list; a folder is read too.
func TestRevocation(t *testing.T) {
	root := issue(t, 1, "Saltmarsh Root", nil)
	middle := issue(t, 2, "Saltmarsh Middle", root)
	server := issue(t, 3, "db.saltmarsh.example", middle)
	folder := t.TempDir()
	write := func(name string, data ...[]byte) string {
		path := filepath.Join(folder, name)
		var all []byte
		for _, one := range data {
			all = append(all, one...)
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, all, 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	later, before := time.Now().Add(time.Hour), time.Now().Add(-time.Hour)
	config := &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{server.Raw, middle.Raw}, PrivateKey: server.key}}}
	ca := write("ca.pem", PEM(root.Certificate))
	write("lists/root", root.list(t, later))
	write("lists/middle", middle.list(t, later, 77))
	for what, c := range map[string]struct {
		path string
		want finding.Code
	}{
		"none":                 {"", ""},
		"not on it":            {write("good", root.list(t, later), middle.list(t, later, 77)), ""},
		"a folder":             {filepath.Join(folder, "lists"), ""},
		"the server's":         {write("revoked", root.list(t, later), middle.list(t, later, 3)), finding.TLSRevoked},
		"the one between":      {write("between", root.list(t, later, 2), middle.list(t, later)), finding.TLSRevoked},
		"no list of the first": {write("one", root.list(t, later)), finding.TLSNoRevocationList},
		"of version 1":         {write("first", root.oldList(t, later), middle.oldList(t, later, 77)), ""},
		"of version 1, on it":  {write("first on it", root.oldList(t, later), middle.oldList(t, later, 3)), finding.TLSRevoked},
		"of version 1, old":    {write("first old", root.oldList(t, later), middle.oldList(t, before)), finding.TLSNoRevocationList},
		"of another authority": {write("other", root.oldList(t, later), root.oldList(t, later)), finding.TLSNoRevocationList},
		"an old one":           {write("old", root.list(t, later), middle.list(t, before)), finding.TLSNoRevocationList},
	} {
		p, found := Load(t.Context(), Settings{Profile: "p", Rule: Verified, CA: ca, Name: "db.saltmarsh.example", NameKey: "host", CRL: c.path})
		if found != nil {
			t.Fatalf("%s: %+v", what, found)
		}
		facts, result, err := handshake(t, p, config)
		if err != nil {
			t.Fatal(err)
		}
		if (result.Outcome == finding.Fail) != (c.want != "") || c.want != "" && result.Finding.Code != c.want || facts.Verified != (c.want == "") {
			t.Errorf("%s: %+v", what, result)
		}
	}
	for what, path := range map[string]string{"nothing": filepath.Join(folder, "none"), "no list": ca} {
		if _, found := Load(t.Context(), Settings{Profile: "p", CRL: path}); found == nil || found.Code != finding.ProfileTLSFile {
			t.Errorf("%s: %+v", what, found)
		}
	}
	partialChain := write("middle.pem", PEM(middle.Certificate))
	p, _ := Load(t.Context(), Settings{Profile: "p", Rule: Verified, CA: partialChain, Name: "db.saltmarsh.example"})
	if _, result, _ := handshake(t, p, config); result.Outcome != finding.Warn || result.Finding.Code != finding.TLSPartialChain {
		t.Errorf("a chain without a root: %+v", result)
	}
}

// TestClientKeys: a client's key is read in each form, and with its passphrase.
func TestClientKeys(t *testing.T) {
	client := issue(t, 9, "warden", nil)
	folder := t.TempDir()
	write := func(name string, data []byte) string {
		path := filepath.Join(folder, name)
		if err := os.WriteFile(path, data, 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	plain, _ := x509.MarshalPKCS8PrivateKey(client.key)
	sec1, _ := x509.MarshalECPrivateKey(client.key)
	sealed, err := pkcs8.MarshalPrivateKey(client.key, []byte("seven curlews"), nil)
	if err != nil {
		t.Fatal(err)
	}
	old, err := x509.EncryptPEMBlock(rand.Reader, "EC PRIVATE KEY", sec1, []byte("seven curlews"), x509.PEMCipherAES128) //lint:ignore SA1019 as old tools write it
	if err != nil {
		t.Fatal(err)
	}
	armoured := func(kind string, der []byte) []byte {
		return pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der})
	}
	pass := func(text string) func(context.Context) ([]byte, *finding.Finding) {
		return func(context.Context) ([]byte, *finding.Finding) { return []byte(text), nil }
	}
	for what, c := range map[string]struct {
		cert, key  []byte
		passphrase func(context.Context) ([]byte, *finding.Finding)
		fails      bool
	}{
		"PEM":                   {PEM(client.Certificate), armoured("PRIVATE KEY", plain), nil, false},
		"PEM, SEC 1":            {PEM(client.Certificate), armoured("EC PRIVATE KEY", sec1), nil, false},
		"DER":                   {client.Raw, plain, nil, false},
		"DER, SEC 1":            {client.Raw, sec1, nil, false},
		"PKCS #8, sealed":       {PEM(client.Certificate), armoured("ENCRYPTED PRIVATE KEY", sealed), pass("seven curlews"), false},
		"RFC 1423, sealed":      {PEM(client.Certificate), pem.EncodeToMemory(old), pass("seven curlews"), false},
		"sealed, no passphrase": {PEM(client.Certificate), armoured("ENCRYPTED PRIVATE KEY", sealed), nil, true},
		"sealed, a wrong one":   {PEM(client.Certificate), armoured("ENCRYPTED PRIVATE KEY", sealed), pass("avocet"), true},
		"another's":             {PEM(issue(t, 5, "x", nil).Certificate), armoured("PRIVATE KEY", plain), nil, true},
		"nothing":               {PEM(client.Certificate), []byte("avocet"), nil, true},
	} {
		p, found := Load(t.Context(), Settings{Profile: "p", Cert: write("c", c.cert), Key: write("k", c.key), KeyPassphrase: c.passphrase})
		if (found != nil) != c.fails {
			t.Errorf("%s: %+v", what, found)
		}
		if found == nil && p.ClientCertificate().Subject.CommonName != "warden" {
			t.Errorf("%s: it is %v", what, p.ClientCertificate())
		}
	}
}
