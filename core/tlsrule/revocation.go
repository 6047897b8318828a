package tlsrule

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"os"
	"path/filepath"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
)

// loadLists reads certificate revocation lists (RFC 5280, section 5): a PEM file of them, or a folder of such files.
func (s Settings) loadLists() ([]*x509.RevocationList, *finding.Finding) {
	paths := []string{s.CRL}
	if info, err := os.Stat(s.CRL); err == nil && info.IsDir() {
		if paths, err = filepath.Glob(filepath.Join(s.CRL, "*")); err != nil {
			return nil, fileFinding(s, "tls-crl", s.CRL, err)
		}
	}
	var lists []*x509.RevocationList
	for _, path := range paths {
		data, err := s.readPEM(path)
		if err != nil {
			return nil, fileFinding(s, "tls-crl", path, err)
		}
		for block, rest := pem.Decode(data); block != nil; block, rest = pem.Decode(rest) {
			if block.Type != "X509 CRL" {
				continue
			}
			list, err := x509.ParseRevocationList(block.Bytes)
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

// revoked judges a chain by the lists, as OpenSSL does when it checks all of a chain: each certificate but the last
// needs a current list of its issuer, and must not be on it. nil where nothing is wrong.
func (p *Plan) revoked(chain []*x509.Certificate) *finding.Finding {
	if p.lists == nil {
		return nil
	}
	for i, c := range chain[:max(len(chain)-1, 0)] {
		list := p.listOf(chain[i+1])
		switch {
		case list == nil:
			return finding.New(finding.TLSNoRevocationList, "%s has no revocation list of the authority %s", p.CRL,
				clean.Quoted(c.Issuer.String())).
				Advise("put its list into %s, or take the key away: gharbor set %s tls-crl=", p.CRL, p.Profile)
		case !list.NextUpdate.IsZero() && p.Now().After(list.NextUpdate):
			return finding.New(finding.TLSNoRevocationList, "the revocation list of %s was due to be replaced on %s",
				clean.Quoted(c.Issuer.String()), list.NextUpdate.UTC().Format(time.DateOnly)).
				Advise("fetch the authority's new list into %s", p.CRL)
		}
		for _, entry := range list.RevokedCertificateEntries {
			if entry.SerialNumber.Cmp(c.SerialNumber) == 0 {
				return finding.New(finding.TLSRevoked, "the certificate of %s was revoked on %s",
					clean.Quoted(c.Subject.String()), entry.RevocationTime.UTC().Format(time.DateOnly)).
					Saw("the list is in %s", p.CRL)
			}
		}
	}
	return nil
}

// listOf is the list that an authority has signed; nil for none.
func (p *Plan) listOf(authority *x509.Certificate) *x509.RevocationList {
	for _, list := range p.lists {
		if bytes.Equal(list.RawIssuer, authority.RawSubject) && list.CheckSignatureFrom(authority) == nil {
			return list
		}
	}
	return nil
}

// partial reports whether no chain ends at a self-signed authority. This program takes any certificate of tls-ca as
// an end; programs built on OpenSSL go on to the root (its X509_V_FLAG_PARTIAL_CHAIN is off by default).
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
