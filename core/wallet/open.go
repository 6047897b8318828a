package wallet

import (
	"bytes"
	"context"
	"crypto/ecdh"
	"crypto/ed25519"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/binding"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearest"
	"gentleharbor/core/secret"
)

// Entry is one secret and where it may be sent.
type Entry struct {
	Name     string
	User     string // whose password it is; "" for whoever a profile names
	Secret   secret.Value
	Bindings []binding.Binding
	Note     string
	Created  time.Time
	Changed  time.Time
	// Pending is a new password that waits beside the present one, until the server has accepted it. Not Present: none.
	Pending secret.Value

	folded json.RawMessage // the details, where they were not read yet
}

// storedEntry is an Entry in the sealed content; its details are the only place where a secret's text is written.
// They are decoded only when they are needed: of 1,000 entries a job needs one.
type storedEntry struct {
	Name   string          `json:"name"`
	User   string          `json:"user,omitempty"`
	Secret string          `json:"secret"`
	More   json.RawMessage `json:"more"` // an entryDetails
}

type entryDetails struct {
	Bindings []binding.Binding `json:"bindings,omitempty"`
	Note     string            `json:"note,omitempty"`
	Created  time.Time         `json:"created"`
	Changed  time.Time         `json:"changed"`
	Pending  *string           `json:"pending,omitempty"`
}

type content struct {
	Entries []storedEntry `json:"entries"`
}

// Wallet is an opened wallet.
type Wallet struct {
	File    *File
	Entries []Entry // sorted by name; their details are read where Store.Open opened it
	Through string  // what opened it: "its passphrase", "the reader nightly", "an unlock until 15:04"

	owner *ownerKeys // nil where it was opened for reading alone
}

// ownerKeys are the keys that the passphrase opens: enough to write the next generation.
type ownerKeys struct {
	passphraseKey []byte // what Argon2id made of the passphrase
	contentKey    []byte
	signing       ed25519.PrivateKey
}

// Opener returns a file's content, after it checked that the wallet's own key signed the file.
type Opener interface {
	open(ctx context.Context, f *File) (*Wallet, error)
}

// Passphrase opens a wallet for reading and writing.
type Passphrase struct {
	Value secret.Value

	derived map[string][]byte // by salt and cost: one answer, one derivation
}

// key derives the wallet's key from the passphrase. It ends with its context.
func (p *Passphrase) key(ctx context.Context, h *header) ([]byte, error) {
	of := string(h.Salt) + string(label("", mustJSON(h.Cost)))
	if key, ok := p.derived[of]; ok {
		return key, nil
	}
	key, err := h.Cost.deriveWithin(ctx, p.Value, h.Salt)
	if err != nil {
		return nil, err
	}
	if p.derived == nil {
		p.derived = make(map[string][]byte)
	}
	p.derived[of] = key
	return key, nil
}

func (p *Passphrase) open(ctx context.Context, f *File) (*Wallet, error) {
	key, err := p.key(ctx, &f.header)
	if err != nil {
		return nil, err
	}
	keys, err := unseal(key, f.keys.Owner, label("owner", f.headerBytes))
	if err != nil || len(keys) != keySize+ed25519.SeedSize {
		return nil, refuse(finding.New(finding.WalletPassphrase, "wrong passphrase for the wallet %s", f.Path).
			Saw("the file is not damaged (its checksum is right)").
			Suggest("gharbor wallet verify"))
	}
	owner := &ownerKeys{passphraseKey: key, contentKey: keys[:keySize], signing: ed25519.NewKeyFromSeed(keys[keySize:])}
	if !owner.signing.Public().(ed25519.PublicKey).Equal(ed25519.PublicKey(f.header.SigningKey)) {
		return nil, forgedError(f)
	}
	w, err := f.read(owner.contentKey, "its passphrase")
	if err != nil {
		return nil, err
	}
	w.owner = owner
	return w, w.unfoldAll()
}

func forgedError(f *File) error {
	return refuse(finding.New(finding.WalletForged,
		"the wallet %s was signed with a different key than before; nothing was read from it", f.Path).
		Saw("its generation says %d", f.header.Generation).
		Advise("restore a backup: gharbor wallet restore BACKUP (a copy that gharbor wallet backup made)"))
}

// open opens a wallet for reading, if it was signed by the key in the pin.
func (p *Pin) open(_ context.Context, f *File) (*Wallet, error) {
	if p.Wallet != f.header.ID {
		return nil, refuse(finding.New(finding.WalletOther, "the reader's pin file is not for the wallet %s", f.Path).
			Saw("the pin file %s is for the wallet %s, this is %s", p.Path, p.Wallet[:8], f.header.ID[:8]).
			Suggest("rm %s && gharbor wallet reader add %s -out %s   # as the wallet's owner",
				clean.Shell(p.Path), p.Name,
				clean.Shell(p.Path)))
	}
	if !bytes.Equal(p.SigningKey, f.header.SigningKey) {
		return nil, refuse(finding.New(finding.WalletForged,
			"the wallet %s is not signed with the key in the reader's pin file; nothing was read from it", f.Path).
			Saw("its owner made new keys (wallet passphrase, wallet rotate), or somebody forged it: ask the owner").
			Suggest("rm %s && gharbor wallet reader add %s -out %s   # as the wallet's owner",
				clean.Shell(p.Path), p.Name, clean.Shell(p.Path)))
	}
	if f.header.Generation < p.Generation {
		return nil, refuse(finding.New(finding.WalletRolledBack,
			"the wallet %s is older than the reader's pin file; nothing was read from it", f.Path).
			Saw("it is generation %d; the pin file %s was made at generation %d",
				f.header.Generation, p.Path, p.Generation).
			Suggest("gharbor wallet restore %s   # as the wallet's owner, to use the older one again",
				clean.Shell(f.Path)))
	}
	private, err := ecdh.X25519().NewPrivateKey(p.PrivateKey)
	if err != nil {
		return nil, refuse(finding.New(finding.WalletPin, "the reader's pin file %s is damaged", p.Path).
			Suggest("rm %s && gharbor wallet reader add %s -out %s   # as the wallet's owner",
				clean.Shell(p.Path), p.Name,
				clean.Shell(p.Path)))
	}
	for _, box := range f.keys.Readers {
		if key, err := unsealAs(private, box, f.headerBytes); err == nil {
			return f.read(key, "the reader "+box.Name)
		}
	}
	return nil, refuse(finding.New(finding.WalletReaderRemoved, "the wallet %s no longer lets this reader in",
		f.Path).
		Saw("the pin file %s is for the reader %s", p.Path, p.Name).
		Suggest("rm %s && gharbor wallet reader add %s -out %s   # as the wallet's owner", clean.Shell(p.Path), p.Name,
			clean.Shell(p.Path)))
}

// read opens the content.
func (f *File) read(contentKey []byte, through string) (*Wallet, error) {
	text, err := unseal(contentKey, f.content, label("content", f.headerBytes))
	if err != nil {
		return nil, damagedError(f.Path, "its content has the wrong key")
	}
	return f.decode(text, through)
}

func (f *File) decode(text []byte, through string) (*Wallet, error) {
	var c content
	if err := json.Unmarshal(text, &c); err != nil {
		return nil, damagedError(f.Path, "its content cannot be read")
	}
	w := &Wallet{File: f, Through: through, Entries: make([]Entry, len(c.Entries))}
	for i, e := range c.Entries {
		w.Entries[i] = Entry{Name: e.Name, User: e.User, Secret: secret.NewValue(e.Secret), folded: e.More}
	}
	return w, nil
}

// unfold reads an entry's details.
func (w *Wallet) unfold(e *Entry) error {
	if e.folded == nil {
		return nil
	}
	var d entryDetails
	if err := json.Unmarshal(e.folded, &d); err != nil {
		return damagedError(w.File.Path, "the details of an entry cannot be read")
	}
	e.Bindings, e.Note, e.Created, e.Changed, e.folded = d.Bindings, d.Note, d.Created, d.Changed, nil
	if d.Pending != nil {
		e.Pending = secret.NewValue(*d.Pending)
	}
	return nil
}

func (w *Wallet) unfoldAll() error {
	for i := range w.Entries {
		if err := w.unfold(&w.Entries[i]); err != nil {
			return err
		}
	}
	return nil
}

// mentions reports whether the details of an entry contain a text, without decoding them.
func (e *Entry) mentions(text []byte) bool { return e.folded == nil || bytes.Contains(e.folded, text) }

func (w *Wallet) encode() []byte {
	c := content{Entries: make([]storedEntry, len(w.Entries))}
	for i, e := range w.Entries {
		details := entryDetails{Bindings: e.Bindings, Note: e.Note, Created: e.Created, Changed: e.Changed}
		if e.Pending.Present() {
			text := e.Pending.Disclose()
			details.Pending = &text
		}
		c.Entries[i] = storedEntry{Name: e.Name, User: e.User, Secret: e.Secret.Disclose(), More: mustJSON(details)}
	}
	return mustJSON(c)
}

func mustJSON(v any) []byte {
	data, err := json.Marshal(v)
	if err != nil {
		panic(err) // plain values of ours
	}
	return data
}

// Entry returns the named entry, or nil.
func (w *Wallet) Entry(name string) *Entry {
	i, ok := slices.BinarySearchFunc(w.Entries, name,
		func(e Entry, name string) int { return strings.Compare(e.Name, name) })
	if !ok {
		return nil
	}
	return &w.Entries[i]
}

// Names returns the names of all entries, sorted.
func (w *Wallet) Names() []string {
	names := make([]string, len(w.Entries))
	for i, e := range w.Entries {
		names[i] = e.Name
	}
	return names
}

// Near returns the entry name nearest to a name that no entry has, or "".
func (w *Wallet) Near(name string) string { return nearest.Name(name, w.Names()) }

// Put adds an entry, or replaces the one of its name.
func (w *Wallet) Put(e Entry) {
	if old := w.Entry(e.Name); old != nil {
		*old = e
		return
	}
	w.Entries = append(w.Entries, e)
	slices.SortFunc(w.Entries, func(a, b Entry) int { return strings.Compare(a.Name, b.Name) })
}

// Remove takes an entry out.
func (w *Wallet) Remove(name string) {
	w.Entries = slices.DeleteFunc(w.Entries, func(e Entry) bool { return e.Name == name })
}
