package wallet

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/binding"
	"gentleharbor/core/clean"
	"gentleharbor/core/secret"
)

// Store is a wallet's path, and the path of the file that remembers what was seen there.
type Store struct {
	Path   string           // of the wallet file
	Seen   string           // of the file that remembers generations
	Now    func() time.Time // nil for the clock
	Writer atomicfile.Writer
}

func (s *Store) now() time.Time {
	if s.Now != nil {
		return s.Now().UTC().Truncate(time.Second)
	}
	return time.Now().UTC().Truncate(time.Second)
}

func (s *Store) shellPath() string { return clean.Shell(s.Path) }

// Open opens the wallet and remembers its generation. It is no error where that can't be written, as a scheduled job
// may have no place to write to; it is one where the file is older than what was remembered.
func (s *Store) Open(ctx context.Context, opener Opener) (*Wallet, error) {
	f, err := Load(s.Path)
	if err != nil {
		return nil, err
	}
	w, err := s.openFile(ctx, f, opener)
	if err != nil {
		return nil, err
	}
	return w, w.unfoldAll()
}

func (s *Store) openFile(ctx context.Context, f *File, opener Opener) (*Wallet, error) {
	f, known, err := s.judgeNow(f)
	if err != nil {
		return nil, err
	}
	w, err := opener.open(ctx, f)
	if err != nil {
		return nil, err
	}
	if known.Generation > 0 && !bytes.Equal(known.SigningKey, f.header.SigningKey) && !w.rotatedFrom(known) {
		return nil, forgedError(f)
	}
	var failure *secret.Failure
	if err := s.remember(ctx, f, known); errors.As(err, &failure) {
		return nil, err
	}
	return w, nil
}

// rotatedFrom reports whether a wallet with another signing key than the one that was seen may be its successor. Only
// a passphrase can tell: only its owner can have sealed the new key under it.
func (w *Wallet) rotatedFrom(known memory) bool {
	return w.owner != nil && w.File.header.Generation > known.Generation
}

// Create makes a new wallet, where there is none yet.
func (s *Store) Create(ctx context.Context, passphrase *Passphrase, cost Cost) (*Wallet, error) {
	if err := os.MkdirAll(filepath.Dir(s.Path), 0o700); err != nil {
		return nil, fmt.Errorf("%s: cannot be made: %w", filepath.Dir(s.Path), atomicfile.Plain(err))
	}
	unlock, err := s.lock(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	if _, err := os.Lstat(s.Path); !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s exists already; for a second wallet give -wallet FILE", s.Path)
	}
	h := header{ID: hex.EncodeToString(random(16)), Cost: cost, Readers: []ReaderInfo{}}
	owner := &ownerKeys{}
	if err := newKeys(ctx, &h, owner, passphrase); err != nil {
		return nil, err
	}
	return s.write(ctx, &Wallet{File: &File{Path: s.Path, header: h}, owner: owner})
}

// newKeys makes new keys of all kinds.
func newKeys(ctx context.Context, h *header, owner *ownerKeys, passphrase *Passphrase) error {
	h.Salt = random(saltSize)
	key, err := passphrase.key(ctx, h)
	if err != nil {
		return err
	}
	owner.passphraseKey = key
	owner.contentKey = random(keySize)
	owner.signing = ed25519.NewKeyFromSeed(random(ed25519.SeedSize))
	h.SigningKey = owner.signing.Public().(ed25519.PublicKey)
	return nil
}

func (s *Store) lock(ctx context.Context) (func(), error) {
	unlock, err := atomicfile.Lock(ctx, s.Path)
	if err != nil {
		return nil, fmt.Errorf("%s.lock: %w", s.Path, atomicfile.Plain(err))
	}
	return unlock, nil
}

// Update opens the wallet under its lock, calls change, and writes the next generation. Where change fails, the file
// stays as it was.
func (s *Store) Update(ctx context.Context, passphrase *Passphrase, change func(*Wallet) error) (*Wallet, error) {
	target, err := atomicfile.Resolve(s.Path)
	if err != nil {
		return nil, refuse(unreadable(s.Path, err))
	}
	at := *s
	at.Path = target
	if f, err := Load(target); err != nil {
		return nil, err
	} else if f, _, err := at.judgeNow(f); err != nil {
		return nil, err
	} else if _, err := passphrase.key(ctx, &f.header); err != nil { // half a second that other writers need not wait for
		return nil, err
	}
	unlock, err := at.lock(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	w, err := at.Open(ctx, passphrase)
	if err != nil {
		return nil, err
	}
	if err := change(w); err != nil {
		return nil, err
	}
	return at.write(ctx, w)
}

// write seals a wallet as the next generation and replaces the file. The caller must hold the lock.
func (s *Store) write(ctx context.Context, w *Wallet) (*Wallet, error) {
	h := w.File.header
	h.Generation++
	h.Previous, h.Written = "", s.now()
	if w.File.data != nil {
		h.Previous = w.File.Hash()
	}
	headerBytes := mustJSON(h)
	keys := sealedKeys{
		Owner: seal(w.owner.passphraseKey, slices.Concat(w.owner.contentKey, w.owner.signing.Seed()),
			label("owner", headerBytes)),
		Readers: []readerBox{},
	}
	for _, reader := range h.Readers {
		box, err := sealTo(reader, w.owner.contentKey, headerBytes)
		if err != nil {
			return nil, err
		}
		keys.Readers = append(keys.Readers, box)
	}
	text := w.encode()
	if len(text) > maxContent-1024 || len(headerBytes) > maxHeader {
		return nil, fmt.Errorf("%s: the wallet would be larger than %d MiB, the maximum", s.Path, maxContent>>20)
	}
	data := assemble(headerBytes, mustJSON(keys), seal(w.owner.contentKey, text, label("content", headerBytes)),
		w.owner.signing)
	f, err := parseFile(s.Path, data) // what can't be read back is never put in place
	if err != nil {
		return nil, err
	}
	if err := s.Writer.WriteShared(s.Path, data); err != nil {
		return nil, fmt.Errorf("%s: cannot be written: %w", s.Path, atomicfile.Plain(err))
	}
	if err := s.remember(ctx, f, memory{}); err != nil {
		return nil, fmt.Errorf("the wallet was written, but its version could not be noted in %s: %w", s.Seen, err)
	}
	return &Wallet{File: f, Entries: w.Entries, Through: w.Through, owner: w.owner}, nil
}

// ChangePassphrase gives the next generation another passphrase and cost, and new keys as Rotate does: with an old
// copy of the file and the old passphrase nobody can read later generations, or sign one that a reader accepts. Call
// it inside Update.
func (w *Wallet) ChangePassphrase(ctx context.Context, passphrase *Passphrase, cost Cost) ([]ReaderInfo, error) {
	w.File.header.Cost = cost
	return w.Rotate(ctx, passphrase)
}

// Rotate makes all keys new, the signing key too. Every pin file ends, and the readers are
// returned: a new signing key that the old one vouched for could be forged by whoever has the
// old one. Inside Update.
func (w *Wallet) Rotate(ctx context.Context, passphrase *Passphrase) ([]ReaderInfo, error) {
	ended := w.File.header.Readers
	w.File.header.Readers = []ReaderInfo{}
	return ended, newKeys(ctx, &w.File.header, w.owner, passphrase)
}

// AddReader makes a reader's keys and adds it. Call it inside Update.
func (w *Wallet) AddReader(name string, at time.Time) (*Pin, error) {
	if slices.ContainsFunc(w.File.header.Readers, func(r ReaderInfo) bool { return r.Name == name }) {
		return nil, fmt.Errorf("the reader %s exists already; to remove it: gharbor wallet reader remove %s",
			name, name)
	}
	if len(w.File.header.Readers) >= maxReaders {
		return nil, fmt.Errorf("the wallet has %d readers, the maximum", maxReaders)
	}
	pin, info, err := newPin(&w.File.header, name)
	if err != nil {
		return nil, err
	}
	info.Added = at.UTC().Truncate(time.Second)
	w.File.header.Readers = append(slices.Clone(w.File.header.Readers), info)
	return pin, nil
}

// RemoveReader removes a reader and makes a new content key, so that it can read nothing that is written later. It
// returns what the reader could have read. Call it inside Update.
func (w *Wallet) RemoveReader(name string) ([]string, error) {
	readers := slices.DeleteFunc(slices.Clone(w.File.header.Readers), func(r ReaderInfo) bool { return r.Name == name })
	if len(readers) == len(w.File.header.Readers) {
		return nil, fmt.Errorf("no reader of that name; see gharbor wallet reader list")
	}
	w.File.header.Readers = readers
	w.owner.contentKey = random(keySize)
	return w.Names(), nil
}

// ErrOldPassphrase says that a file to restore has a passphrase, or a signing key, that is no longer the wallet's.
var ErrOldPassphrase = errors.New("the file is from before the passphrase or the keys were changed")

// Restore puts the entries of another file of this wallet's, an older one or a backup, into the
// newest generation. The keys, the passphrase and the readers stay those of the present file,
// which passphrase must open, while others opens the other file. Where the present file is gone
// or damaged, or the caller asks for it by old, the other file's passphrase becomes the
// wallet's, with all keys made new; not by itself where the passphrase was changed since
// (ErrOldPassphrase). gone are the names of readers that were left out.
func (s *Store) Restore(ctx context.Context, from *File, passphrase, others *Passphrase,
	old bool) (w *Wallet, gone []string, err error) {
	if err := os.MkdirAll(filepath.Dir(s.Path), 0o700); err != nil {
		return nil, nil, fmt.Errorf("%s: cannot be made: %w", filepath.Dir(s.Path), atomicfile.Plain(err))
	}
	target, err := atomicfile.Resolve(s.Path)
	if err != nil {
		return nil, nil, refuse(unreadable(s.Path, err))
	}
	at := *s
	at.Path = target
	unlock, err := at.lock(ctx)
	if err != nil {
		return nil, nil, err
	}
	defer unlock()
	w, err = others.open(ctx, from)
	if err != nil {
		return nil, nil, err
	}
	all, err := at.readSeen()
	if err != nil {
		return nil, nil, err
	}
	known := all.Wallets[from.header.ID]
	newest := max(from.header.Generation, known.Generation)
	present, err := Load(target)
	here := err == nil
	if here && present.header.ID != from.header.ID {
		return nil, nil, fmt.Errorf("%s is not a copy of %s; to restore it to another place: -wallet FILE", target,
			from.Path)
	}
	current := known.SigningKey
	if here {
		newest = max(newest, present.header.Generation)
		if current == nil {
			current = present.header.SigningKey
		}
	}
	changed := current != nil && !bytes.Equal(current, from.header.SigningKey)
	var staying []ReaderInfo
	switch {
	case here && !old && bytes.Equal(current, present.header.SigningKey):
		now, err := passphrase.open(ctx, present)
		if err != nil {
			return nil, nil, err
		}
		if _, err := at.judge(present); err != nil { // an older file may have readers that were removed since
			now.File.header.Readers = slices.DeleteFunc(slices.Clone(now.File.header.Readers),
				func(r ReaderInfo) bool { return !known.hadReader(r) })
		}
		now.Entries, now.Through = w.Entries, w.Through
		w, staying = now, now.File.header.Readers
		w.owner.contentKey = random(keySize)
	case changed && !old:
		return nil, nil, ErrOldPassphrase
	default:
		if _, err := w.Rotate(ctx, others); err != nil {
			return nil, nil, err
		}
	}
	for _, r := range from.header.Readers {
		if !slices.ContainsFunc(staying, func(o ReaderInfo) bool { return bytes.Equal(o.PublicKey, r.PublicKey) }) {
			gone = append(gone, r.Name)
		}
	}
	w.File.header.Generation = newest
	w, err = at.write(ctx, w)
	return w, gone, err
}

// mergeResult is what a merge did with the entries of the other file.
type mergeResult struct {
	Added     []string // they were not here
	Same      []string
	Conflicts []conflict
}

// conflict is an entry that differs between two files. Both versions are kept.
type conflict struct {
	Name    string // stays as it is here
	Other   string // the name under which the other file's was kept
	Differs []string
}

// merge adds the entries of another machine's file to this one. Nothing is lost: an entry that differs is kept beside
// ours under another name.
func (w *Wallet) merge(other *Wallet) mergeResult {
	var m mergeResult
	for _, theirs := range other.Entries {
		ours := w.Entry(theirs.Name)
		if ours == nil {
			w.Put(theirs)
			m.Added = append(m.Added, theirs.Name)
			continue
		}
		differs := ours.differs(theirs)
		if len(differs) == 0 {
			m.Same = append(m.Same, theirs.Name)
			continue
		}
		name := theirs.Name
		theirs.Name = w.freeName(theirs.Name)
		w.Put(theirs)
		m.Conflicts = append(m.Conflicts, conflict{Name: name, Other: theirs.Name, Differs: differs})
	}
	return m
}

// freeName is name with the first number at its end that no entry has.
func (w *Wallet) freeName(name string) string {
	for i := 2; ; i++ {
		ending := fmt.Sprintf(".%d", i)
		candidate := name[:min(len(name), 64-len(ending))] + ending
		if w.Entry(candidate) == nil {
			return candidate
		}
	}
}

// differs are the words for what another entry of the name has, and this one has not so.
func (e *Entry) differs(o Entry) []string {
	var words []string
	if e.Secret.Disclose() != o.Secret.Disclose() {
		words = append(words, "secret")
	}
	if e.User != o.User {
		words = append(words, "user")
	}
	if e.Note != o.Note {
		words = append(words, "note")
	}
	if !slices.EqualFunc(e.Bindings, o.Bindings, binding.Binding.Same) {
		words = append(words, "bindings")
	}
	if o.Pending.Present() && e.Pending.Disclose() != o.Pending.Disclose() {
		words = append(words, "new password of a rotation")
	}
	return words
}

// openForMerge opens the wallet, also where another file of its generation was seen, if that was the other copy.
func (s *Store) openForMerge(ctx context.Context, other *File, passphrase *Passphrase) (*Wallet, error) {
	f, err := Load(s.Path)
	if err != nil {
		return nil, err
	}
	known, judged := s.judge(f)
	if judged == nil {
		return s.openFile(ctx, f, passphrase)
	}
	if f.header.ID != other.header.ID || known.Hash != other.Hash() {
		return nil, judged
	}
	return passphrase.open(ctx, f)
}

// Merge opens the wallet and another copy, and writes the next generation with all entries of both.
func (s *Store) Merge(ctx context.Context, other *File, passphrase, others *Passphrase) (mergeResult, error) {
	target, err := atomicfile.Resolve(s.Path)
	if err != nil {
		return mergeResult{}, refuse(unreadable(s.Path, err))
	}
	at := *s
	at.Path = target
	unlock, err := at.lock(ctx)
	if err != nil {
		return mergeResult{}, err
	}
	defer unlock()
	w, err := at.openForMerge(ctx, other, passphrase)
	if err != nil {
		return mergeResult{}, err
	}
	theirs, err := others.open(ctx, other)
	if err != nil {
		return mergeResult{}, err
	}
	m := w.merge(theirs)
	if other.header.ID == w.File.header.ID {
		w.File.header.Generation = max(w.File.header.Generation, other.header.Generation)
	}
	_, err = at.write(ctx, w)
	return m, err
}

// Backup checks the structure and the signature of the wallet file, and copies it. It never replaces a file.
func (s *Store) Backup(to string) (*File, error) {
	f, err := Load(s.Path)
	if err != nil {
		return nil, err
	}
	if _, err := s.judge(f); err != nil {
		return nil, err
	}
	if _, err := os.Lstat(to); !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s exists already; a backup never overwrites", to)
	}
	if err := s.Writer.Write(to, f.data); err != nil {
		return nil, fmt.Errorf("%s: cannot be written: %w", to, atomicfile.Plain(err))
	}
	return f, nil
}

// Weakness says what is wrong with a new passphrase, "" for nothing. Argon2id makes each try expensive, but a short
// passphrase needs few tries.
func (p *Passphrase) Weakness() string {
	const least = 8
	switch text := p.Value.Disclose(); {
	case len([]rune(text)) < least:
		return fmt.Sprintf("a passphrase needs at least %d characters; a few words are easy to remember and hard "+
			"to guess", least)
	case strings.TrimSpace(text) != text:
		return "a passphrase must not start or end with a blank"
	}
	return ""
}
