package wallet

import (
	"context"
	"crypto/cipher"
	"crypto/ecdh"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"runtime"
	"time"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/chacha20poly1305"
	"golang.org/x/text/unicode/norm"

	"gentleharbor/core/defect"
	"gentleharbor/core/secret"
)

const (
	keySize  = chacha20poly1305.KeySize // of all keys, in bytes
	saltSize = 16
)

// Cost is the cost of trying a passphrase: the parameters of Argon2id (RFC 9106).
type Cost struct {
	MemoryKiB uint32 `json:"memory_kib"`
	Passes    uint32 `json:"passes"`
	Threads   uint8  `json:"threads"`
}

// floor and ceiling bound what a header may ask for: below the floor it is cheap to try passphrases, above the
// ceiling a file from somebody else could stop the machine.
var (
	floor   = Cost{MemoryKiB: 64 << 10, Passes: 3, Threads: 1}
	ceiling = Cost{MemoryKiB: 1 << 20, Passes: 64, Threads: 16}
)

// mostWork bounds memory times passes, in KiB: both at their ceilings could still keep a machine busy for minutes. 4
// GiB take some 5 s on one core (measured: 64 MiB with 3 passes 0.25 s), and CostFor's half second is far below that
// on any number of cores.
const mostWork = 4 << 20

func (c Cost) problem() string {
	for _, p := range []struct {
		name          string
		is, low, high uint32
	}{
		{"memory_kib", c.MemoryKiB, floor.MemoryKiB, ceiling.MemoryKiB},
		{"passes", c.Passes, floor.Passes, ceiling.Passes},
		{"threads", uint32(c.Threads), uint32(floor.Threads), uint32(ceiling.Threads)},
	} {
		if p.is < p.low || p.is > p.high {
			return fmt.Sprintf("its header wants Argon2id with %s = %d; allowed: %d to %d", p.name, p.is, p.low, p.high)
		}
	}
	if work := uint64(c.MemoryKiB) * uint64(c.Passes); work > mostWork {
		return fmt.Sprintf("its header asks for Argon2id with %d passes over %d MiB; memory times passes may be %d MiB",
			c.Passes, c.MemoryKiB>>10, mostWork>>10)
	}
	return ""
}

// CostFor finds the cost with which opening takes about d on this machine, at least the floor. It prefers more memory
// to more passes, as memory makes tries on special hardware expensive.
func CostFor(d time.Duration) Cost {
	const least = 50 * time.Millisecond // no machine does the floor in less
	c := floor
	took := c.trial(d < least)
	if took >= d {
		return c
	}
	c.Threads = uint8(min(runtime.NumCPU(), 4))
	took = c.trial(false)
	for c.MemoryKiB < 256<<10 && 2*took <= d {
		c.MemoryKiB, took = 2*c.MemoryKiB, 2*took
	}
	onePass := took / time.Duration(c.Passes)
	c.Passes = min(max(uint32(d/onePass), floor.Passes), ceiling.Passes, mostWork/c.MemoryKiB)
	return c
}

// trial is how long a derivation takes, or a long time where none was made.
func (c Cost) trial(spare bool) time.Duration {
	if spare {
		return time.Hour
	}
	start := time.Now()
	c.derive(secret.NewValue("a trial"), make([]byte, saltSize))
	return max(time.Since(start), time.Millisecond)
}

// derive makes the key from the passphrase: Argon2id (RFC 9106) over its bytes in
// Unicode's normalization form C, as two keyboards may give one text in two forms.
func (c Cost) derive(passphrase secret.Value, salt []byte) []byte {
	return argon2.IDKey(norm.NFC.Bytes([]byte(passphrase.Disclose())), salt, c.Passes, c.MemoryKiB, c.Threads, keySize)
}

// deriveWithin is derive, and returns when its context ends. The library can't be interrupted, so its work goes on in
// a goroutine whose result nobody reads.
func (c Cost) deriveWithin(ctx context.Context, passphrase secret.Value, salt []byte) ([]byte, error) {
	done := make(chan []byte, 1)
	defect.Go(func() { done <- c.derive(passphrase, salt) })
	select {
	case key := <-done:
		return key, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func random(n int) []byte {
	b := make([]byte, n)
	rand.Read(b) // never fails (crypto/rand)
	return b
}

// label is the associated data of a sealed part: what the part is, and the
// whole header, so that no part can be put to another use or into another file.
func label(what string, headerBytes []byte) []byte {
	return append([]byte("gentle-harbor wallet "+what+"\n"), headerBytes...)
}

// seal encrypts text with XChaCha20-Poly1305 and a random nonce, which stands
// before the box.
func seal(key, text, ad []byte) []byte {
	aead := newAEAD(key)
	nonce := random(aead.NonceSize())
	return aead.Seal(nonce, nonce, text, ad)
}

var errSeal = errors.New("the seal has another key")

// unseal decrypts what seal made.
func unseal(key, sealed, ad []byte) ([]byte, error) {
	aead := newAEAD(key)
	if len(sealed) < aead.NonceSize() {
		return nil, errSeal
	}
	nonce, box := sealed[:aead.NonceSize()], sealed[aead.NonceSize():]
	text, err := aead.Open(nil, nonce, box, ad)
	if err != nil {
		return nil, errSeal
	}
	return text, nil
}

func newAEAD(key []byte) cipher.AEAD {
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		panic(err) // a key of another length, which is ours to get right
	}
	return aead
}

// sealTo seals the content key to a reader's public key: an X25519 exchange with
// a key made for this box alone (RFC 7748), its result and both public keys
// through HKDF-SHA256 (RFC 5869).
func sealTo(reader ReaderInfo, contentKey, headerBytes []byte) (readerBox, error) {
	public, err := ecdh.X25519().NewPublicKey(reader.PublicKey)
	if err != nil {
		return readerBox{}, err
	}
	ephemeral, err := ecdh.X25519().GenerateKey(rand.Reader)
	if err != nil {
		return readerBox{}, err
	}
	key, err := exchange(ephemeral, public, ephemeral.PublicKey().Bytes(), reader.PublicKey)
	if err != nil {
		return readerBox{}, err
	}
	return readerBox{
		Name:      reader.Name,
		Ephemeral: ephemeral.PublicKey().Bytes(),
		Box:       seal(key, contentKey, label("reader "+reader.Name, headerBytes)),
	}, nil
}

// unsealAs decrypts what sealTo made, with the reader's private key.
func unsealAs(private *ecdh.PrivateKey, box readerBox, headerBytes []byte) ([]byte, error) {
	ephemeral, err := ecdh.X25519().NewPublicKey(box.Ephemeral)
	if err != nil {
		return nil, errSeal
	}
	key, err := exchange(private, ephemeral, box.Ephemeral, private.PublicKey().Bytes())
	if err != nil {
		return nil, errSeal
	}
	return unseal(key, box.Box, label("reader "+box.Name, headerBytes))
}

func exchange(private *ecdh.PrivateKey, public *ecdh.PublicKey, ephemeral, reader []byte) ([]byte, error) {
	shared, err := private.ECDH(public)
	if err != nil {
		return nil, err
	}
	return hkdf.Key(sha256.New, shared, append(append([]byte{}, ephemeral...), reader...),
		"gentle-harbor wallet reader key", keySize)
}
