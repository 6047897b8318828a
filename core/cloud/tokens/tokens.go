// Package tokens keeps the tokens of cloud accounts: each account has a file of its own, sealed under a key that the
// wallet or the system's keyring holds, or its token is in the memory of the process that keeps the wallet unlocked.
// A token is no entry of a wallet, and is never sent to a database. Package cloud refreshes what is kept here, under
// the lock. Start with Store.
package tokens

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/crypto/chacha20poly1305"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/secret"
)

// maxFile bounds a token's file: two tokens of 16 KiB each, sealed and in base64.
const maxFile = 128 << 10

// format is the number at the head of a file.
const format = 1

// Owner is the account that a token belongs to.
type Owner struct {
	Name     string
	File     string // the project's file that the account stands in, "" for the user's own
	Identity string // all that says where the token may go: a token of another identity is none
}

// Token is the result of a sign-in.
type Token struct {
	Access  secret.Value
	Refresh secret.Value // none where there is none
	Until   time.Time    // of Access; zero where that is not known
	Scopes  []string
	Since   time.Time // of the sign-in
}

// plainToken is a token as it is before sealing.
type plainToken struct {
	Access  string    `json:"access"`
	Refresh string    `json:"refresh,omitempty"`
	Until   time.Time `json:"until,omitzero"`
	Scopes  []string  `json:"scopes,omitempty"`
	Since   time.Time `json:"since"`
}

// KeyPlace says where the key that seals a file is: an entry of the wallet or of the system's keyring.
type KeyPlace struct {
	Source string `json:"source"` // "wallet" or "keyring"
	Entry  string `json:"entry"`
}

// file is a token's file.
type file struct {
	Format   int      `json:"format"`
	Account  string   `json:"account"`
	Identity string   `json:"identity"`
	Key      KeyPlace `json:"key"`
	Nonce    []byte   `json:"nonce"`
	Sealed   []byte   `json:"sealed"`
}

// Memory is the process that keeps the wallet unlocked, as a place for tokens that are forgotten with it.
type Memory interface {
	Put(ctx context.Context, name string, data []byte) error
	Get(ctx context.Context, name string) (data []byte, err error) // fs.ErrNotExist for none
	Drop(ctx context.Context, name string) error
}

// Store keeps tokens.
type Store struct {
	Folder string // of the files, made when it is needed
	// Key finds the key that seals an owner's file.
	Key func(ctx context.Context, of Owner, at KeyPlace) (secret.Value, error)
	// Memory is where tokens of -forget are, nil where no wallet is unlocked.
	Memory func(ctx context.Context) Memory
}

// ErrNone says that no token of the account is kept.
var ErrNone = errors.New("no token is kept")

// Place is where a token is kept. The zero value is no place.
type Place struct {
	Key    KeyPlace
	Forget bool // in the memory of the process that keeps the wallet unlocked
}

// NewKey makes a key that seals a file, as an entry of a wallet or keyring keeps it.
func NewKey() secret.Value {
	key := make([]byte, chacha20poly1305.KeySize)
	rand.Read(key)
	return secret.NewValue(base64.StdEncoding.EncodeToString(key))
}

// Path is the file of an owner's token.
func (s Store) Path(of Owner) string { return filepath.Join(s.Folder, nameOf(of)+".token") }

// nameOf is a file name that no other account has.
func nameOf(of Owner) string {
	if of.File == "" {
		return of.Name
	}
	sum := sha256.Sum256([]byte(of.File))
	return of.Name + "@" + hex.EncodeToString(sum[:6])
}

// Lock keeps other processes from changing an owner's token: of two that find it ended, only one refreshes it.
func (s Store) Lock(ctx context.Context, of Owner) (unlock func(), err error) {
	if err := os.MkdirAll(s.Folder, 0o700); err != nil {
		return nil, fmt.Errorf("%s: %w", s.Folder, atomicfile.Plain(err))
	}
	unlock, err = atomicfile.Lock(ctx, s.Path(of))
	if err != nil {
		return nil, fmt.Errorf("%s: cannot be locked: %w", s.Path(of), atomicfile.Plain(err))
	}
	return unlock, nil
}

// Load returns the token of an owner, and where it is kept. The error is ErrNone where there is none, or one of another
// identity; one of the wallet or the keyring where the key can't be had; else the file is damaged.
func (s Store) Load(ctx context.Context, of Owner) (*Token, Place, error) {
	f, err := s.read(of)
	if errors.Is(err, fs.ErrNotExist) {
		return s.readRemembered(ctx, of)
	}
	if err != nil {
		return nil, Place{}, err
	}
	if f.Identity != of.Identity {
		return nil, Place{}, ErrNone
	}
	key, err := s.Key(ctx, of, f.Key)
	if err != nil {
		return nil, Place{}, err
	}
	data, err := f.open(key)
	if err != nil {
		return nil, Place{}, damagedError(s.Path(of))
	}
	token, err := parse(data)
	if err != nil {
		return nil, Place{}, damagedError(s.Path(of))
	}
	return token, Place{Key: f.Key}, nil
}

// readRemembered returns the token that the process of an unlocked wallet has.
func (s Store) readRemembered(ctx context.Context, of Owner) (*Token, Place, error) {
	memory := s.Memory(ctx)
	if memory == nil {
		return nil, Place{}, ErrNone
	}
	data, err := memory.Get(ctx, nameOf(of)+" "+of.Identity)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, Place{}, ErrNone
	}
	if err != nil {
		return nil, Place{}, err
	}
	token, err := parse(data)
	return token, Place{Forget: true}, err
}

func damagedError(path string) error {
	return fmt.Errorf("%s is damaged, or sealed by another key", path)
}

// PlaceOf is where an owner's token is kept now; ok is false where there is none. It unseals nothing.
func (s Store) PlaceOf(ctx context.Context, of Owner) (at Place, ok bool) {
	if f, err := s.read(of); err == nil {
		return Place{Key: f.Key}, f.Identity == of.Identity
	}
	_, at, err := s.readRemembered(ctx, of)
	return at, err == nil
}

func (s Store) read(of Owner) (*file, error) {
	path := s.Path(of)
	data, err := atomicfile.Read(path, maxFile)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, atomicfile.Plain(err))
	}
	if found := secret.JudgeFile(path, "the file of a token"); found != nil {
		return nil, &secret.Failure{Found: found}
	}
	var f file
	decoder := json.NewDecoder(bytes.NewReader(data))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&f); err != nil || f.Format != format {
		return nil, damagedError(path)
	}
	return &f, nil
}

// Save keeps a token at a place: in this one file, or in memory.
func (s Store) Save(ctx context.Context, of Owner, t *Token, at Place) error {
	data, err := json.Marshal(plainToken{t.Access.Disclose(), t.Refresh.Disclose(), t.Until, t.Scopes, t.Since})
	if err != nil {
		return err
	}
	if at.Forget {
		memory := s.Memory(ctx)
		if memory == nil {
			return errors.New("no wallet is unlocked, so no process can keep the token")
		}
		return memory.Put(ctx, nameOf(of)+" "+of.Identity, data)
	}
	key, err := s.Key(ctx, of, at.Key)
	if err != nil {
		return err
	}
	f := file{Format: format, Account: of.Name, Identity: of.Identity, Key: at.Key}
	if err := f.seal(key, data); err != nil {
		return err
	}
	text, err := json.MarshalIndent(f, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(s.Folder, 0o700); err != nil {
		return fmt.Errorf("%s: %w", s.Folder, atomicfile.Plain(err))
	}
	if err := (atomicfile.Writer{}).Write(s.Path(of), append(text, '\n')); err != nil {
		return fmt.Errorf("%s: %w", s.Path(of), atomicfile.Plain(err))
	}
	return nil
}

// Remove forgets an owner's token. It reports whether there was one.
func (s Store) Remove(ctx context.Context, of Owner) (bool, error) {
	err := os.Remove(s.Path(of))
	gone := err == nil
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, fmt.Errorf("%s: %w", s.Path(of), atomicfile.Plain(err))
	}
	if memory := s.Memory(ctx); memory != nil {
		if _, err := memory.Get(ctx, nameOf(of)+" "+of.Identity); err == nil {
			return true, memory.Drop(ctx, nameOf(of)+" "+of.Identity)
		}
	}
	return gone, nil
}

// about is the rest of a token's file: not secret, but authenticated with the sealed token.
func (f *file) about() ([]byte, error) {
	return json.Marshal([]any{"gentle-harbor token", f.Format, f.Account, f.Identity, f.Key})
}

func (f *file) seal(key secret.Value, data []byte) error {
	aead, err := sealer(key)
	if err != nil {
		return err
	}
	about, err := f.about()
	if err != nil {
		return err
	}
	f.Nonce = make([]byte, aead.NonceSize())
	rand.Read(f.Nonce)
	f.Sealed = aead.Seal(nil, f.Nonce, data, about)
	return nil
}

func (f *file) open(key secret.Value) ([]byte, error) {
	aead, err := sealer(key)
	if err != nil {
		return nil, err
	}
	about, err := f.about()
	if err != nil || len(f.Nonce) != aead.NonceSize() {
		return nil, errors.New("its nonce is not whole")
	}
	return aead.Open(nil, f.Nonce, f.Sealed, about)
}

// sealer is XChaCha20-Poly1305 under a key as NewKey makes it.
func sealer(key secret.Value) (interface {
	NonceSize() int
	Seal(dst, nonce, plaintext, additionalData []byte) []byte
	Open(dst, nonce, ciphertext, additionalData []byte) ([]byte, error)
}, error) {
	raw, err := base64.StdEncoding.DecodeString(key.Disclose())
	if err != nil || len(raw) != chacha20poly1305.KeySize {
		return nil, errors.New("the entry is no key of a token's file")
	}
	return chacha20poly1305.NewX(raw)
}

func parse(data []byte) (*Token, error) {
	var p plainToken
	if err := json.Unmarshal(data, &p); err != nil || p.Access == "" && p.Refresh == "" {
		return nil, errors.New("the token can't be read")
	}
	t := &Token{Access: secret.NewValue(p.Access), Until: p.Until, Scopes: p.Scopes, Since: p.Since}
	if p.Refresh != "" {
		t.Refresh = secret.NewValue(p.Refresh)
	}
	return t, nil
}
