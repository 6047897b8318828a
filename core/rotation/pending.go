package rotation

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/secret"
)

// Pending is a rotation that has begun and not ended, from its file. The new password is in the file, or in the
// wallet beside the old one, and then the file only says so.
type Pending struct {
	Profile string // as it is called
	Entry   string // of the wallet, "" for another source
	Begun   time.Time
	Secret  secret.Value // not Present where Entry has it
}

// pendingFile is a Pending in its file: the one place where its password is written.
type pendingFile struct {
	Format  int       `json:"format"`
	Profile string    `json:"profile"`
	Entry   string    `json:"wallet_entry,omitempty"`
	Begun   time.Time `json:"begun"`
	Secret  *string   `json:"secret,omitempty"`
}

// Folder has the files of pending rotations, one for each profile, with mode 0600 in a folder of 0700.
type Folder struct{ path string }

// FolderOf is the Folder below the tool's own folder.
func FolderOf(home string) Folder { return Folder{filepath.Join(home, "rotate")} }

// ending is that of a file.
const ending = ".pending"

// maxFile bounds a file, in bytes: a password of 64 KiB, written as JSON.
const maxFile = 512 << 10

// File is the path for a profile. A project's profile has an @ in its path, which no profile's name can have.
func (f Folder) File(profile string) string {
	if name, ok := strings.CutPrefix(profile, "project:"); ok {
		profile = name + "@project"
	}
	return filepath.Join(f.path, profile+ending)
}

// Has reports whether a profile's rotation has not ended.
func (f Folder) Has(profile string) bool {
	_, err := os.Lstat(f.File(profile))
	return err == nil
}

// Save writes the file of a rotation, and syncs it to the disk.
func (f Folder) Save(p Pending) error {
	if err := os.MkdirAll(f.path, 0o700); err != nil {
		return fmt.Errorf("%s: %w", f.path, atomicfile.Plain(err))
	}
	s := pendingFile{Format: 1, Profile: p.Profile, Entry: p.Entry, Begun: p.Begun}
	if p.Secret.Present() {
		text := p.Secret.Disclose()
		s.Secret = &text
	}
	data, err := json.Marshal(s)
	if err == nil {
		err = atomicfile.Writer{}.Write(f.File(p.Profile), append(data, '\n'))
	}
	if err != nil {
		return fmt.Errorf("%s: %w", f.File(p.Profile), atomicfile.Plain(err))
	}
	return nil
}

// Load reads the file of a profile's rotation; nil and no error where there is none.
func (f Folder) Load(profile string) (*Pending, error) {
	path := f.File(profile)
	if found := secret.JudgeFile(path, "the file of the rotation"); found != nil {
		if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
			return nil, nil
		}
		return nil, &secret.Failure{Found: found}
	}
	data, err := atomicfile.Read(path, maxFile)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, atomicfile.Plain(err))
	}
	var s pendingFile
	if err := json.Unmarshal(data, &s); err != nil || s.Format != 1 || s.Secret == nil && s.Entry == "" {
		return nil, fmt.Errorf("%s: it is not the file of a rotation", path)
	}
	p := &Pending{Profile: profile, Entry: s.Entry, Begun: s.Begun}
	if s.Secret != nil {
		p.Secret = secret.NewValue(*s.Secret)
	}
	return p, nil
}

// Remove removes the file of a profile's rotation.
func (f Folder) Remove(profile string) error {
	err := os.Remove(f.File(profile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Profiles are those whose rotation has not ended.
func (f Folder) Profiles() ([]string, error) {
	files, err := os.ReadDir(f.path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var all []string
	for _, file := range files {
		name, ok := strings.CutSuffix(file.Name(), ending)
		if !ok {
			continue
		}
		if own, project := strings.CutSuffix(name, "@project"); project {
			name = "project:" + own
		}
		all = append(all, name)
	}
	return all, err
}

// All are the pending rotations. Where a file can't be read, only the profile is known.
func (f Folder) All() ([]Pending, error) {
	profiles, err := f.Profiles()
	all := make([]Pending, len(profiles))
	for i, name := range profiles {
		all[i].Profile = name
		if p, err := f.Load(name); err == nil && p != nil {
			all[i] = *p
		}
	}
	return all, err
}

// Lock keeps another rotation of the same profile out.
func (f Folder) Lock(ctx context.Context, locks, profile string) (unlock func(), err error) {
	return atomicfile.LockIn(ctx, locks, f.File(profile))
}

// Move gives a rotation its profile's new name.
func (f Folder) Move(from, to string) (moved bool, err error) {
	p, err := f.Load(from)
	if err != nil || p == nil {
		return false, err
	}
	p.Profile = to
	if err := f.Save(*p); err != nil {
		return false, err
	}
	return true, f.Remove(from)
}
