package tlsrule

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"strings"
	"time"

	"gentleharbor/core/clean"
)

// Certificate is a certificate's description for a person.
type Certificate struct {
	Subject     string    `json:"subject"`
	Names       []string  `json:"names"`
	Issuer      string    `json:"issuer"`
	NotBefore   time.Time `json:"not_before"`
	NotAfter    time.Time `json:"not_after"`
	DaysLeft    int       `json:"days_left"` // negative once expired
	Fingerprint string    `json:"fingerprint"`
}

// Describe describes a certificate, with its texts cleaned and its days counted.
func Describe(c *x509.Certificate, now time.Time) *Certificate {
	d := &Certificate{
		Subject: clean.Line(c.Subject.String(), 200), Issuer: clean.Line(c.Issuer.String(), 200),
		NotBefore: c.NotBefore.UTC(), NotAfter: c.NotAfter.UTC(), Names: []string{},
		DaysLeft: int(c.NotAfter.Sub(now).Hours() / 24), Fingerprint: Fingerprint(c),
	}
	for _, name := range c.DNSNames {
		d.Names = append(d.Names, clean.Line(name, 100))
	}
	for _, ip := range c.IPAddresses {
		d.Names = append(d.Names, ip.String())
	}
	const most = 40 // a certificate may carry thousands of names
	if len(d.Names) > most {
		d.Names = append(d.Names[:most], fmt.Sprintf("and %d more", len(d.Names)-most))
	}
	return d
}

// Fingerprint is the SHA-256 of the certificate's DER form, "SHA256:" and 64
// hexadecimal digits in pairs between colons.
func Fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	text := strings.ToUpper(hex.EncodeToString(sum[:]))
	var pairs []string
	for i := 0; i < len(text); i += 2 {
		pairs = append(pairs, text[i:i+2])
	}
	return "SHA256:" + strings.Join(pairs, ":")
}

// PEM writes a certificate in its text form.
func PEM(c *x509.Certificate) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
}
