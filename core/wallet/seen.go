package wallet

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/finding"
)

// seenFile remembers the newest generation of each wallet that was opened here. It is apart from the wallet and from
// pin files: an attacker who puts an older wallet back must change this file too.
type seenFile struct {
	Format  int               `json:"format"` // 1
	Wallets map[string]memory `json:"wallets"`
}

// memory is what is remembered of a wallet, by its id.
type memory struct {
	Path       string   `json:"path"`
	Generation uint64   `json:"generation"`
	Hash       string   `json:"sha256"` // of that generation's file
	SigningKey []byte   `json:"signing_key"`
	Readers    [][]byte `json:"readers,omitempty"` // their public keys: one that is not here was removed
}

// maxSeen bounds the file: some 300 bytes a wallet.
const maxSeen = 1 << 20

func (s *Store) readSeen() (seenFile, error) {
	all := seenFile{Format: 1, Wallets: make(map[string]memory)}
	data, err := atomicfile.Read(s.Seen, maxSeen)
	if errors.Is(err, fs.ErrNotExist) {
		return all, nil
	}
	if err == nil {
		err = strictJSON(data, &all)
	}
	if err == nil && all.Wallets == nil {
		err = errors.New("it has no wallets")
	}
	if err != nil {
		return all, refuse(finding.New(finding.WalletMemory,
			"the record of the wallet versions seen so far can't be read, so an older wallet would not be noticed").
			Saw("%s: %s", s.Seen, atomicfile.Plain(err)).
			Suggest("gharbor wallet verify -forget   # after making sure that the wallet is the newest"))
	}
	return all, nil
}

// Judge compares a file with what was seen of its wallet here: an older generation, or another file of the same
// generation, is an error.
func (s *Store) Judge(f *File) error {
	_, err := s.judge(f)
	return err
}

// judge compares a file with what was seen of its wallet.
func (s *Store) judge(f *File) (memory, error) {
	all, err := s.readSeen()
	if err != nil {
		return memory{}, err
	}
	known, ok := all.Wallets[f.header.ID]
	if !ok {
		return memory{}, nil
	}
	switch {
	case !bytes.Equal(known.SigningKey, f.header.SigningKey) && f.header.Generation <= known.Generation:
		return known, forgedError(f)
	case f.header.Generation < known.Generation:
		return known, refuse(finding.New(finding.WalletRolledBack,
			"the wallet %s is older than before; nothing was read from it", f.Path).
			Saw("it is generation %d; generation %d was seen here", f.header.Generation, known.Generation).
			Suggest("gharbor wallet restore %s   # to use the older one again", s.shellPath()))
	case f.header.Generation == known.Generation && f.Hash() != known.Hash:
		return known, refuse(finding.New(finding.WalletForked,
			"the wallet %s has the generation %d, but a different content than before; nothing was read from it",
			f.Path, known.Generation).
			Saw("it was changed on two machines, or an older copy was put back and changed").
			Advise("merge the two copies: gharbor wallet merge OTHER-COPY"))
	}
	return known, nil
}

// judgeNow is judge for a wallet that another process may have written since the file was read: then it reads the
// file again and judges that. It returns the file that it judged.
func (s *Store) judgeNow(f *File) (*File, memory, error) {
	known, err := s.judge(f)
	for range 8 {
		if err == nil {
			break
		}
		now, loadErr := Load(f.Path)
		if loadErr != nil || now.Hash() == f.Hash() {
			break
		}
		f = now
		known, err = s.judge(f)
	}
	return f, known, err
}

// remember notes a file as the newest of its wallet, after the file was written or opened. A crash in between leaves
// an older note, which accepts the newer file.
func (s *Store) remember(ctx context.Context, f *File, known memory) error {
	if known.Generation == f.header.Generation && known.Path == f.Path {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(s.Seen), 0o700); err != nil {
		return atomicfile.Plain(err)
	}
	unlock, err := atomicfile.Lock(ctx, s.Seen)
	if err != nil {
		return err
	}
	defer unlock()
	all, err := s.readSeen()
	if err != nil {
		return err
	}
	if now := all.Wallets[f.header.ID]; now.Generation > f.header.Generation {
		return nil // another process was here with a newer one
	}
	all.Wallets[f.header.ID] = memory{
		Path:       f.Path,
		Generation: f.header.Generation,
		Hash:       f.Hash(),
		SigningKey: f.header.SigningKey,
		Readers:    f.readerKeys(),
	}
	data, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	return atomicfile.Plain(s.Writer.Write(s.Seen, append(data, '\n')))
}

// Forget drops what was seen of all wallets, for a file that can't be read.
func (s *Store) Forget() error {
	err := os.Remove(s.Seen)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return atomicfile.Plain(err)
}

// readerKeys are the public keys of the readers.
func (f *File) readerKeys() [][]byte {
	keys := make([][]byte, len(f.header.Readers))
	for i, r := range f.header.Readers {
		keys[i] = r.PublicKey
	}
	return keys
}

// hadReader reports whether a reader was in the wallet when it was last seen.
func (s memory) hadReader(r ReaderInfo) bool {
	return slices.ContainsFunc(s.Readers, func(key []byte) bool { return bytes.Equal(key, r.PublicKey) })
}
