package wallet

import (
	"crypto/ecdh"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"os"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/secret"
)

// Pin is what a reader has: a private key to read the wallet, and the public key that checks the wallet's signature.
// It can't make a wallet that a reader accepts.
type Pin struct {
	Path string // where it was read

	pinFile
}

// pinFile is a pin as its file has it.
type pinFile struct {
	Format     int    `json:"format"` // 1
	Wallet     string `json:"wallet"` // its id
	Name       string `json:"name"`
	PrivateKey []byte `json:"private_key"`          // X25519
	SigningKey []byte `json:"signing_key"`          // Ed25519, public
	Generation uint64 `json:"generation,omitempty"` // at which it was made: no older wallet is believed
}

// String hides the private key wherever a pin is printed.
func (Pin) String() string { return secret.Hidden }

// GoString hides it in %#v.
func (Pin) GoString() string { return secret.Hidden }

// maxPin bounds a pin file, which has some 300 bytes.
const maxPin = 16 << 10

// LoadPin reads a reader's pin file. Errors are *secret.Failure.
func LoadPin(path string) (*Pin, error) {
	if found := secret.JudgeFile(path, "the reader's pin file"); found != nil {
		return nil, refuse(found)
	}
	data, err := atomicfile.Read(path, maxPin)
	if err != nil {
		return nil, refuse(finding.New(finding.WalletPin, "the reader's pin file %s is damaged, or can't be read", path).
			Saw("%s", atomicfile.Plain(err)).
			Advise("make a reader: rm %s && gharbor wallet reader add NAME -out %s (as the wallet's owner)", clean.Shell(path),
				clean.Shell(path)))
	}
	p := &Pin{Path: path}
	if err := strictJSON(data,
		&p.pinFile); err != nil || p.Format != 1 || len(p.Wallet) != 32 || !syntax.ValidName(p.Name) ||
		len(p.PrivateKey) != keySize || len(p.SigningKey) != ed25519.PublicKeySize {
		return nil, refuse(finding.New(finding.WalletPin, "the reader's pin file %s is damaged", path).
			Advise("make a reader: rm %s && gharbor wallet reader add NAME -out %s (as the wallet's owner)", clean.Shell(path),
				clean.Shell(path)))
	}
	return p, nil
}

// newPin makes a reader's keys.
func newPin(h *header, name string) (*Pin, ReaderInfo, error) {
	private, err := ecdh.X25519().GenerateKey(rand.Reader)
	if err != nil {
		return nil, ReaderInfo{}, err
	}
	p := &Pin{pinFile: pinFile{
		Format:     1,
		Wallet:     h.ID,
		Name:       name,
		PrivateKey: private.Bytes(),
		SigningKey: h.SigningKey,
		Generation: h.Generation + 1,
	}}
	return p, ReaderInfo{Name: name, PublicKey: private.PublicKey().Bytes()}, nil
}

// WriteNew writes the pin file with mode 0600. It never replaces a file.
func (p *Pin) WriteNew(path string) error {
	data, err := json.MarshalIndent(p.pinFile, "", "  ")
	if err != nil {
		return err
	}
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return atomicfile.Plain(err)
	}
	_, err = file.Write(append(data, '\n'))
	if err == nil {
		err = file.Sync()
	}
	if closeErr := file.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		os.Remove(path)
	}
	return atomicfile.Plain(err)
}
