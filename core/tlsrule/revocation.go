package tlsrule

import (
	"bytes"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"os"
	"path/filepath"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
)

// revocationList is one list, of version 2 or 1. OpenSSL writes version 1 unless its configuration asks for
// extensions; only an older function of the standard library reads that.
type revocationList struct {
	*x509.RevocationList
	first *pkix.CertificateList // where it is of version 1
}

func parseList(der []byte) (*revocationList, error) {
	list, err := x509.ParseRevocationList(der)
	if err == nil {
		return &revocationList{RevocationList: list}, nil
	}
	//lint:ignore SA1019 it alone reads version 1
	first, oldErr := x509.ParseDERCRL(der)
	if oldErr != nil || first.TBSCertList.Version != 0 {
		return nil, err
	}
	list = &x509.RevocationList{NextUpdate: first.TBSCertList.NextUpdate}
	for _, one := range first.TBSCertList.RevokedCertificates {
		list.RevokedCertificateEntries = append(list.RevokedCertificateEntries, x509.RevocationListEntry{
			SerialNumber:   one.SerialNumber,
			RevocationTime: one.RevocationTime,
		})
	}
	return &revocationList{list, first}, nil
}

// signedBy reports whether an authority has signed the list.
func (l *revocationList) signedBy(authority *x509.Certificate) bool {
	if l.first == nil {
		return bytes.Equal(l.RawIssuer, authority.RawSubject) && l.CheckSignatureFrom(authority) == nil
	}
	// That function does not check this: RFC 5280, section 4.2.1.3.
	if authority.KeyUsage != 0 && authority.KeyUsage&x509.KeyUsageCRLSign == 0 {
		return false
	}
	//lint:ignore SA1019 it alone takes version 1
	return authority.CheckCRLSignature(l.first) == nil
}

// loadLists reads certificate revocation lists (RFC 5280, section 5): a PEM file of them, or a folder of such files.
func (s Settings) loadLists() ([]*revocationList, *finding.Finding) {
	paths := []string{s.CRL}
	if info, err := os.Stat(s.CRL); err == nil && info.IsDir() {
		if paths, err = filepath.Glob(filepath.Join(s.CRL, "*")); err != nil {
			return nil, fileFinding(s, "tls-crl", s.CRL, err)
		}
	}
	var lists []*revocationList
	for _, path := range paths {
		data, err := s.readPEM(path)
		if err != nil {
			return nil, fileFinding(s, "tls-crl", path, err)
		}
		for block, rest := pem.Decode(data); block != nil; block, rest = pem.Decode(rest) {
			if block.Type != "X509 CRL" {
				continue
			}
			list, err := parseList(block.Bytes)
			if err != nil {
				return nil, fileFinding(s, "tls-crl", path, err)
			}
			lists = append(lists, list)
		}
	}
	if len(lists) == 0 {
		return nil, fileFinding(s, "tls-crl", s.CRL, errors.New("there is no revocation list in it"))
	}
	return lists, nil
}

// checkRevocation judges a chain by the lists, as OpenSSL does when it checks a whole chain: each certificate except
// the last needs a current list of its issuer, and must not be on it. It is nil where nothing is wrong.
func (p *Plan) checkRevocation(chain []*x509.Certificate) *finding.Finding {
	if p.lists == nil {
		return nil
	}
	for i, c := range chain[:max(len(chain)-1, 0)] {
		list := p.listOf(chain[i+1])
		switch {
		case list == nil:
			return finding.New(finding.TLSNoRevocationList, "%s has no revocation list of the authority %s", p.CRL,
				clean.Quote(c.Issuer.String())).
				Advise("put its list into %s, or remove the key: gharbor set %s tls-crl=", p.CRL, p.Profile)
		case !list.NextUpdate.IsZero() && p.Now().After(list.NextUpdate):
			return finding.New(finding.TLSNoRevocationList, "the revocation list of %s was due to be replaced on %s",
				clean.Quote(c.Issuer.String()), list.NextUpdate.UTC().Format(time.DateOnly)).
				Advise("fetch the authority's new list into %s", p.CRL)
		}
		for _, entry := range list.RevokedCertificateEntries {
			if entry.SerialNumber.Cmp(c.SerialNumber) == 0 {
				return finding.New(finding.TLSRevoked, "the certificate of %s was revoked on %s",
					clean.Quote(c.Subject.String()), entry.RevocationTime.UTC().Format(time.DateOnly)).
					Saw("the list is in %s", p.CRL)
			}
		}
	}
	return nil
}

// listOf is the list that an authority has signed; nil for none.
func (p *Plan) listOf(authority *x509.Certificate) *revocationList {
	for _, list := range p.lists {
		if list.signedBy(authority) {
			return list
		}
	}
	return nil
}

// partial reports whether no chain ends at a self-signed authority. gharbor accepts each certificate of tls-ca as the
// end of a chain; programs with OpenSSL need the root (X509_V_FLAG_PARTIAL_CHAIN is off by default).
func partial(chains [][]*x509.Certificate) bool {
	for _, chain := range chains {
		if SelfSigned(chain[len(chain)-1]) {
			return false
		}
	}
	return len(chains) > 0
}

// SelfSigned reports whether a certificate names itself as its issuer, as the root of a chain does (RFC 5280,
// section 3.2).
func SelfSigned(c *x509.Certificate) bool { return bytes.Equal(c.RawSubject, c.RawIssuer) }
