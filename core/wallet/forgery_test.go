package wallet

import (
	"bytes"
	"context"
	"crypto/ecdh"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/binary"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentleharbor/core/secret"
)

// TestDamage: every byte flipped in turn, and every length.
func TestDamage(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	whole := w.bytes()
	for i := range whole {
		broken := slices.Clone(whole)
		broken[i] ^= 1 << (i % 8)
		if _, err := parseFile(w.Path, broken); err == nil {
			t.Fatalf("byte %d flipped, and it was read", i)
		}
		if _, err := parseFile(w.Path, whole[:i]); err == nil {
			t.Fatalf("cut at %d, and it was read", i)
		}
	}
	w.write(append(slices.Clone(whole), 'x'))
	w.fails("a byte more", w.pin, "wallet.damaged")
	w.write([]byte("gentle-harbor wallet 2\nand then something else"))
	w.fails("a newer format", w.pin, "wallet.format")
	w.write(nil)
	w.fails("nothing", w.pin, "wallet.damaged")
	huge := append([]byte(magic), 0xff, 0xff, 0xff, 0xff)
	w.write(huge)
	w.fails("a huge length", w.pin, "wallet.damaged")
	os.Remove(w.Path)
	w.fails("no file", w.pin, "wallet.missing")
	os.Mkdir(w.Path, 0o700)
	w.fails("a folder", w.pin, "wallet.unreadable")
	os.Remove(w.Path)
	w.write(whole)
	os.Chmod(w.Path, 0o666)
	w.fails("writable by others", w.pin, "wallet.permissions")
	os.Chmod(w.Path, 0o644)
	w.has(w.pin, "sightings", "tides")
}

// parts takes a file apart without judging it.
func parts(data []byte) (header, keys, content, tail []byte) {
	rest := data[len(magic):]
	next := func() []byte {
		n := binary.BigEndian.Uint32(rest)
		part := rest[4 : 4+n]
		rest = rest[4+n:]
		return part
	}
	header, keys, content = next(), next(), next()
	return header, keys, content, rest
}

// TestForgery: what a reader has (its pin file and the wallet) is not enough to
// make a wallet that anybody believes, whatever of it is changed.
func TestForgery(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	second := w.reader("weekly")
	whole := w.bytes()
	f, err := parseFile(w.Path, whole)
	if err != nil {
		t.Fatal(err)
	}
	// The reader can have the content key, and an Ed25519 key of its own.
	private, _ := ecdh.X25519().NewPrivateKey(w.pin.PrivateKey)
	contentKey, err := unsealAs(private, f.keys.Readers[0], f.headerBytes)
	if err != nil {
		t.Fatal(err)
	}
	mine := ed25519.NewKeyFromSeed(random(ed25519.SeedSize))
	opened, _ := w.Open(context.Background(), w.pin)
	opened.Put(Entry{Name: "sightings", Secret: secret.NewValue("forged")})

	forge := func(name string, h header, sign ed25519.PrivateKey) {
		headerBytes := mustJSON(h)
		keys := f.keys
		keys.Readers = nil
		for _, r := range h.Readers {
			box, err := sealTo(r, contentKey, headerBytes)
			if err != nil {
				t.Fatal(err)
			}
			keys.Readers = append(keys.Readers, box)
		}
		w.write(assemble(headerBytes, mustJSON(keys), seal(contentKey, opened.encode(), label("content", headerBytes)), sign))
		w.fails(name+", to its maker", w.pin, "wallet.forged")
		w.fails(name+", to another reader", second, "wallet.forged")
		w.fails(name+", to the owner", w.pass, "wallet.forged", "wallet.passphrase")
		fresh := w.Store
		fresh.Seen = filepath.Join(t.TempDir(), "seen.json") // a machine that has not seen the wallet yet
		for _, opener := range []Opener{w.pass, w.pin, second} {
			if opened, err := fresh.Open(context.Background(), opener); err == nil {
				t.Fatalf("%s: a fresh machine believes it: %v", name, opened.Names())
			}
		}
	}
	h := f.header
	h.Generation++
	forge("signed by another key", h, mine)
	h.SigningKey = mine.Public().(ed25519.PublicKey)
	forge("signed by the key that it names", h, mine)
	h.Generation = f.header.Generation
	forge("of the same generation", h, mine)

	// Parts of the file, changed and summed up again, but not signed again.
	for i, name := range []string{"header", "keys", "content"} {
		data := slices.Clone(whole)
		header, keys, content, tail := parts(data)
		part := [][]byte{header, keys, content}[i]
		part[len(part)/2] ^= 1
		sum := sha256.Sum256(data[:len(data)-len(tail)])
		copy(tail, sum[:])
		w.write(data)
		w.fails("a changed "+name, w.pin, "wallet.forged", "wallet.damaged")
	}
	w.write(whole)
	w.has(w.pin, "sightings", "tides")
}

// TestSwappedParts: parts of two wallets of one owner, summed up and even signed
// by the owner's key, do not open: the header is sealed into each.
func TestSwappedParts(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	old := w.bytes()
	w.put("sightings", "newer")
	opened, err := w.Open(context.Background(), w.pass)
	if err != nil {
		t.Fatal(err)
	}
	oldHeader, oldKeys, oldContent, _ := parts(old)
	header, keys, content, _ := parts(w.bytes())
	stranger := newWorld(t) // another wallet of the same passphrase
	otherHeader, otherKeys, otherContent, _ := parts(stranger.bytes())
	for name, p := range map[string][3][]byte{
		"other content": {header, keys, otherContent}, "other keys": {header, otherKeys, content}, "other header": {otherHeader, keys, content},
		"other keys and content": {header, otherKeys, otherContent}, "other header and keys": {otherHeader, otherKeys, content},
		"content": {header, keys, oldContent}, "keys": {header, oldKeys, content}, "header": {oldHeader, keys, content},
		"keys and content": {header, oldKeys, oldContent},
	} {
		w.write(assemble(p[0], p[1], p[2], opened.owner.signing))
		w.fails("the old "+name+" (owner)", w.pass, "wallet.damaged", "wallet.passphrase", "wallet.rolled-back", "wallet.forked", "wallet.forged")
		w.fails("the old "+name+" (reader)", w.pin, "wallet.damaged", "wallet.reader-removed", "wallet.rolled-back", "wallet.forked", "wallet.forged", "wallet.other")
		fresh := w.Store
		fresh.Seen = filepath.Join(t.TempDir(), "seen.json")
		if _, err := fresh.Open(context.Background(), w.pin); err == nil {
			t.Errorf("%s: it opens where nothing was seen yet", name)
		}
	}
}

func TestHeaderBounds(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	f, _ := parseFile(w.Path, w.bytes())
	opened, err := w.Open(context.Background(), w.pass)
	if err != nil {
		t.Fatal(err)
	}
	for name, change := range map[string]func(*header){
		"little memory": func(h *header) { h.Cost.MemoryKiB = 1024 }, "much memory": func(h *header) { h.Cost.MemoryKiB = 4 << 20 },
		"few passes": func(h *header) { h.Cost.Passes = 1 }, "many passes": func(h *header) { h.Cost.Passes = 1 << 30 },
		"no threads": func(h *header) { h.Cost.Threads = 0 }, "many threads": func(h *header) { h.Cost.Threads = 200 },
		"no salt": func(h *header) { h.Salt = nil }, "no id": func(h *header) { h.ID = "" }, "generation 0": func(h *header) { h.Generation = 0 },
		"a reader's name": func(h *header) { h.Readers[0].Name = "\x1b[2J" }, "a reader's key": func(h *header) { h.Readers[0].PublicKey = []byte("x") },
	} {
		h := f.header
		h.Readers = slices.Clone(h.Readers)
		change(&h)
		data := assemble(mustJSON(h), mustJSON(f.keys), f.content, opened.owner.signing)
		if _, err := parseFile(w.Path, data); err == nil || !strings.Contains(err.Error(), "damaged") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	if data, err := os.ReadFile("../../docs/wallet-format.ghw"); err == nil {
		f.Add(data)
		f.Add(data[:len(data)/2])
	}
	f.Add([]byte(magic))
	f.Fuzz(func(t *testing.T, data []byte) {
		file, err := parseFile("fuzz", data)
		if err != nil {
			return
		}
		pin := &Pin{pinFile: pinFile{Wallet: file.header.ID, Name: "fuzz", PrivateKey: make([]byte, keySize), SigningKey: file.header.SigningKey}}
		if _, err := pin.open(t.Context(), file); err == nil {
			t.Error("a reader that was never let in reads it")
		}
	})
}

// FuzzSigned fuzzes what stands behind the checksum and the signature: an owner's
// own machine may have written nonsense.
func FuzzSigned(f *testing.F) {
	sign := ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))
	private, _ := ecdh.X25519().NewPrivateKey(bytes.Repeat([]byte{7}, keySize))
	h := header{ID: strings.Repeat("ab", 16), Generation: 1, SigningKey: sign.Public().(ed25519.PublicKey), Salt: make([]byte, saltSize), Cost: floor,
		Readers: []ReaderInfo{{Name: "nightly", PublicKey: private.PublicKey().Bytes()}}}
	f.Add(mustJSON(h), mustJSON(sealedKeys{Owner: []byte("x"), Readers: []readerBox{{Name: "nightly", Ephemeral: make([]byte, 32), Box: []byte("x")}}}), []byte("content"))
	f.Add([]byte("{}"), []byte("[]"), []byte{})
	f.Fuzz(func(t *testing.T, headerBytes, keys, content []byte) {
		file, err := parseFile("fuzz", assemble(headerBytes, keys, content, sign))
		if err != nil {
			return
		}
		pin := &Pin{pinFile: pinFile{Wallet: file.header.ID, Name: "nightly", PrivateKey: private.Bytes(), SigningKey: file.header.SigningKey}}
		if _, err := pin.open(t.Context(), file); err == nil {
			t.Error("a box that was never sealed to it opened")
		}
	})
}
