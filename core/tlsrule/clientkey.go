package tlsrule

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"os"
	"runtime"

	"github.com/youmark/pkcs8"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
)

// loadClient reads the client's own certificate and its key: PEM, or DER as some tools write it.
func (p *Plan) loadClient(ctx context.Context) *finding.Finding {
	cert, err := p.readPEM(p.Cert)
	if err != nil {
		return fileFinding(p.Settings, "tls-cert", p.Cert, err)
	}
	if parsed, err := x509.ParseCertificates(cert); err == nil {
		cert = nil
		for _, one := range parsed {
			cert = append(cert, PEM(one)...)
		}
	}
	if info, err := os.Stat(p.Key); err == nil && runtime.GOOS != "windows" && info.Mode().Perm()&0o077 != 0 {
		return finding.New(finding.ProfileTLSFile, "tls-key: other users can access %s, so it is not used", p.Key).
			Saw("its permissions are %04o; group and others must have none", info.Mode().Perm()).
			Suggest("chmod 600 %s", clean.Shell(p.Key))
	}
	key, err := p.readPEM(p.Key)
	if err != nil {
		return fileFinding(p.Settings, "tls-key", p.Key, err)
	}
	if key, found := p.openKey(ctx, key); found != nil {
		return found
	} else if p.client, err = pairOf(cert, key); err != nil {
		return fileFinding(p.Settings, "tls-key", p.Key, err)
	}
	return nil
}

func pairOf(cert, key []byte) ([]tls.Certificate, error) {
	pair, err := tls.X509KeyPair(cert, key)
	if err != nil {
		return nil, err
	}
	return []tls.Certificate{pair}, nil
}

// openKey returns a key file as unencrypted PEM; an encrypted one needs the passphrase.
func (p *Plan) openKey(ctx context.Context, data []byte) ([]byte, *finding.Finding) {
	block, _ := pem.Decode(data)
	for block != nil && !bytes.Contains([]byte(block.Type), []byte("PRIVATE KEY")) { // parameters stand before it
		block, data = pem.Decode(data)
	}
	if block == nil {
		return keyOfDER(data), nil
	}
	legacy := block.Headers["DEK-Info"] != "" // RFC 1423
	if block.Type != "ENCRYPTED PRIVATE KEY" && !legacy {
		return pem.EncodeToMemory(block), nil
	}
	if p.KeyPassphrase == nil {
		return nil, finding.New(finding.ProfileTLSFile, "tls-key: %s has a passphrase, and the profile does not "+
			"say where it is", p.Key).
			Suggest("gharbor set %s tls-key-secret=ask   # asks each time", p.Profile).
			Advise("or name where it is: gharbor set %s tls-key-secret=file:PATH (or env:NAME, wallet:ENTRY)",
				p.Profile)
	}
	passphrase, found := p.KeyPassphrase(ctx)
	if found != nil {
		return nil, found
	}
	der, err := decryptKey(block, legacy, passphrase)
	if err != nil {
		return nil, finding.New(finding.ProfileTLSFile, "tls-key: %s does not open with this passphrase", p.Key).
			Saw("%s", clean.Line(err.Error(), 0)).
			Suggest("gharbor show %s   # where tls-key-secret is from", p.Profile)
	}
	return keyOfDER(der), nil
}

// decryptKey opens an encrypted key: PKCS #8 (RFC 5958), or the form of RFC 1423.
func decryptKey(block *pem.Block, legacy bool, passphrase []byte) ([]byte, error) {
	if legacy {
		der, err := x509.DecryptPEMBlock(block, passphrase) //lint:ignore SA1019 old keys are opened, none is written
		return der, err
	}
	key, err := pkcs8.ParsePKCS8PrivateKey(block.Bytes, passphrase)
	if err != nil {
		return nil, errors.New("the passphrase is wrong, or the file is damaged")
	}
	return x509.MarshalPKCS8PrivateKey(key)
}

// keyOfDER writes a key's bytes as PEM. Bytes that are no key stay as they are; the reader of the PEM refuses them.
func keyOfDER(der []byte) []byte {
	if _, err := x509.ParsePKCS8PrivateKey(der); err == nil {
		return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
	}
	if _, err := x509.ParsePKCS1PrivateKey(der); err == nil {
		return pem.EncodeToMemory(&pem.Block{Type: "RSA PRIVATE KEY", Bytes: der})
	}
	if _, err := x509.ParseECPrivateKey(der); err == nil {
		return pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: der})
	}
	return der
}
