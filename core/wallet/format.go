// Package wallet is the encrypted store of secrets: one file. Its passphrase opens it for reading and writing; a
// reader (a machine, a service account, a scheduled job) can read it with a pin file and not change it.
// docs/wallet-format.md describes the format. On the way from profile to report it stands behind core/secret: it
// gives an entry only for a server to which the entry is bound.
package wallet

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"runtime"
	"time"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/secret"
)

// magic starts every wallet file; the number is the format's.
const magic = "gentle-harbor wallet 1\n"

// Bounds of a file's parts, in bytes. A reader takes some 250 bytes of header
// and as many of keys, an entry some 400: 1,000 of either fit many times.
const (
	maxHeader  = 1 << 20
	maxContent = 16 << 20
	maxReaders = 1000
)

// maxGeneration is the highest number that every JSON reader keeps exactly (RFC 8259, 6).
const maxGeneration = 1<<53 - 1

const (
	checksumSize  = sha256.Size
	signatureSize = ed25519.SignatureSize
)

// header is the part of a wallet that is not encrypted. It is the associated data of every sealed part, so its bytes
// are kept as they were read.
type header struct {
	ID         string       `json:"id"` // 16 random bytes, hexadecimal
	Generation uint64       `json:"generation"`
	Previous   string       `json:"previous"` // SHA-256 of the file that this one replaced, "" for the first
	Written    time.Time    `json:"written"`
	SigningKey []byte       `json:"signing_key"` // Ed25519
	Cost       Cost         `json:"argon2id"`
	Salt       []byte       `json:"salt"` // of Argon2id, 16 bytes
	Readers    []ReaderInfo `json:"readers"`
}

// ReaderInfo is a reader in the header.
type ReaderInfo struct {
	Name      string    `json:"name"`
	PublicKey []byte    `json:"public_key"` // X25519
	Added     time.Time `json:"added"`
}

// sealedKeys are the keys, sealed to the passphrase and to each reader.
type sealedKeys struct {
	Owner   []byte      `json:"owner"` // nonce and box of the content key and the signing seed
	Readers []readerBox `json:"readers"`
}

// readerBox is the content key sealed to a reader.
type readerBox struct {
	Name      string `json:"name"`
	Ephemeral []byte `json:"ephemeral"` // X25519 public key made for this box alone
	Box       []byte `json:"box"`       // nonce and box
}

// File is a wallet file whose structure, checksum and signature are right. Opening it also checks whose signature it
// is.
type File struct {
	Path string

	data        []byte
	headerBytes []byte
	header      header
	keys        sealedKeys
	content     []byte // nonce and box
	hash        string
}

// ID is the wallet's own number, the same for all its generations.
func (f *File) ID() string { return f.header.ID }

// Generation grows by one with every write.
func (f *File) Generation() uint64 { return f.header.Generation }

// Readers are those who can read the wallet without its passphrase.
func (f *File) Readers() []ReaderInfo { return f.header.Readers }

// Hash is the SHA-256 of the whole file, hexadecimal.
func (f *File) Hash() string { return f.hash }

// refuse returns a finding as an error.
func refuse(found *finding.Finding) error { return &secret.Failure{Found: found} }

// Load reads a wallet file. Errors are *secret.Failure.
func Load(path string) (*File, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, refuse(finding.New(finding.WalletMissing, "there is no wallet %s", path).
			Suggest("gharbor wallet create"))
	case err != nil:
		return nil, refuse(unreadable(path, err))
	case runtime.GOOS != "windows" && info.Mode().Perm()&0o022 != 0:
		return nil, refuse(finding.New(finding.WalletPermissions,
			"other users can write the wallet %s, so it is not used", path).
			Saw("its permissions are %04o; only its owner may write it", info.Mode().Perm()).
			Suggest("chmod go-w %s", clean.Shell(path)))
	}
	data, err := atomicfile.Read(path, int64(len(magic)+3*4+2*maxHeader+maxContent+checksumSize+signatureSize))
	if err != nil {
		return nil, refuse(unreadable(path, err))
	}
	return parseFile(path, data)
}

func unreadable(path string, err error) *finding.Finding {
	return finding.New(finding.WalletUnreadable, "the wallet %s cannot be read", path).
		Saw("%s", clean.Line(atomicfile.Plain(err).Error(), 0)).
		Suggest("ls -l %s", clean.Shell(path))
}

// damagedError is for a file that was changed after gharbor wrote it.
func damagedError(path, why string, args ...any) error {
	return refuse(finding.New(finding.WalletDamaged, "the wallet %s is damaged; nothing was read from it", path).
		Saw(why, args...).
		Advise("restore a backup: gharbor wallet restore BACKUP (a copy that gharbor wallet backup made)"))
}

// parseFile reads a wallet file's bytes. path is for messages. The file keeps data.
func parseFile(path string, data []byte) (*File, error) {
	f := &File{Path: path, data: data}
	if !bytes.HasPrefix(data, []byte(magic)) {
		if newer, _, ok := bytes.Cut(data, []byte("\n")); ok && bytes.HasPrefix(newer, []byte("gentle-harbor wallet ")) {
			return nil, refuse(finding.New(finding.WalletFormat, "the wallet %s has an unknown format",
				path).
				Saw("it starts with %s; known is %q",
					clean.Quote(clean.Line(string(newer), 60)), magic[:len(magic)-1]).
				Suggest("gharbor version   # a newer one reads it"))
		}
		return nil, damagedError(path, "its beginning is not a wallet's")
	}
	rest := data[len(magic):]
	var parts [3][]byte
	for i, most := range []int{maxHeader, maxHeader, maxContent} {
		if len(rest) < 4 {
			return nil, damagedError(path, "it is cut off after %d bytes", len(data))
		}
		size := int(binary.BigEndian.Uint32(rest))
		if size > most {
			return nil, damagedError(path, "part %d claims %d bytes; the maximum is %d", i+1, size, most)
		}
		if len(rest) < 4+size {
			return nil, damagedError(path, "it is cut off after %d bytes", len(data))
		}
		parts[i], rest = rest[4:4+size], rest[4+size:]
	}
	if len(rest) != checksumSize+signatureSize {
		return nil, damagedError(path, "it has %d bytes after its parts, in place of %d",
			len(rest), checksumSize+signatureSize)
	}
	signed := len(data) - len(rest)
	digest := sha256.New() // of the signed part, and then of the whole
	digest.Write(data[:signed])
	if !bytes.Equal(digest.Sum(nil), rest[:checksumSize]) {
		return nil, damagedError(path, "its checksum is wrong")
	}
	digest.Write(rest)
	f.hash = hex.EncodeToString(digest.Sum(nil))
	f.headerBytes, f.content = parts[0], parts[2]
	if err := strictJSON(parts[0], &f.header); err != nil {
		return nil, damagedError(path, "its header cannot be read")
	}
	if err := strictJSON(parts[1], &f.keys); err != nil {
		return nil, damagedError(path, "its keys cannot be read")
	}
	if why := f.header.problem(); why != "" {
		return nil, damagedError(path, "%s", why)
	}
	if !ed25519.Verify(f.header.SigningKey, signedText(rest[:checksumSize]), rest[checksumSize:]) {
		return nil, refuse(finding.New(finding.WalletForged,
			"the wallet %s was changed without a valid signature; nothing was read from it", path).
			Saw("its checksum is right, its signature is not").
			Advise("restore a backup: gharbor wallet restore BACKUP (a copy that gharbor wallet backup made)"))
	}
	return f, nil
}

// problem says what is wrong with a header, "" for nothing.
func (h *header) problem() string {
	names := make(map[string]bool)
	for _, r := range h.Readers {
		if !syntax.ValidName(r.Name) || len(r.PublicKey) != keySize || names[r.Name] {
			return "its header has an invalid reader"
		}
		names[r.Name] = true
	}
	switch {
	case h.Generation > maxGeneration:
		return "its generation is too high"
	case len(h.ID) != 32 || h.Generation == 0 || len(h.SigningKey) != ed25519.PublicKeySize || len(h.Salt) != saltSize:
		return "its header is incomplete"
	case len(h.Readers) > maxReaders:
		return fmt.Sprintf("its header has %d readers; the maximum is %d", len(h.Readers), maxReaders)
	}
	return h.Cost.problem()
}

func strictJSON(data []byte, into any) error {
	decoder := json.NewDecoder(bytes.NewReader(data))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(into); err != nil {
		return err
	}
	if decoder.More() {
		return errors.New("more than one value")
	}
	return nil
}

// signedText is the text that is signed: a label, and the checksum of all the rest.
func signedText(checksum []byte) []byte {
	return append([]byte("gentle-harbor wallet signature\n"), checksum...)
}

// assemble puts a file together and signs it.
func assemble(headerBytes, keys, content []byte, sign ed25519.PrivateKey) []byte {
	data := []byte(magic)
	for _, part := range [][]byte{headerBytes, keys, content} {
		data = binary.BigEndian.AppendUint32(data, uint32(len(part)))
		data = append(data, part...)
	}
	sum := sha256.Sum256(data)
	data = append(data, sum[:]...)
	return append(data, ed25519.Sign(sign, signedText(sum[:]))...)
}
