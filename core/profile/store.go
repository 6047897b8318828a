package profile

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/owner"
	"gentleharbor/core/profile/schema"
)

// Home is the folder of the tool's own files.
type Home struct {
	Dir    string
	Schema *schema.Schema // the keys by which files are read
	Notice func(string)   // gets a line for what was made safer; may be nil

	// AsFound leaves loose permissions as they are, for an audit that reports them.
	AsFound bool
}

// FindHome returns $GHARBOR_HOME, else gentle-harbor in the user's
// configuration folder. It creates nothing.
func FindHome(keys *schema.Schema, lookup func(string) (string, bool)) (Home, error) {
	if dir, ok := lookup("GHARBOR_HOME"); ok && dir != "" {
		whole, err := filepath.Abs(dir)
		return Home{Dir: whole, Schema: keys}, err
	}
	dir, err := os.UserConfigDir()
	if err == nil && !filepath.IsAbs(dir) {
		err = errors.New("HOME is not an absolute path")
	}
	if err != nil {
		return Home{}, fmt.Errorf("no place for the profiles: %w; set GHARBOR_HOME to a folder", err)
	}
	return Home{Dir: filepath.Join(dir, "gentle-harbor"), Schema: keys}, nil
}

// NoHome stands for the user's home folder where HOME is not set, as for many services, or is no absolute path. No
// file is under it: "~/.ssh" must never become ".ssh" of the working folder, which may be a hostile clone.
const NoHome = "/nonexistent/HOME-is-not-set"

// UserHome is the user's home folder by HOME, NoHome where that says none.
func UserHome(lookup func(string) (string, bool)) string {
	home, ok := lookup("HOME")
	if !ok && runtime.GOOS == "windows" {
		home, _ = os.UserHomeDir()
	}
	if !filepath.IsAbs(home) {
		return NoHome
	}
	return home
}

// ProfilesPath is the user's profile file.
func (h Home) ProfilesPath() string { return filepath.Join(h.Dir, "profiles.toml") }

// AliasesPath is the user's file of aliases.
func (h Home) AliasesPath() string { return filepath.Join(h.Dir, "aliases.toml") }

// LocksPath is the folder for the locks of files that are not the tool's own: no lock file is left beside those.
func (h Home) LocksPath() string { return filepath.Join(h.Dir, "locks") }

// KeepAuthority writes the certificates of an instance, as its cloud's service gave them in PEM, to a file for other
// programs. Their hash is in the file's name, so that two sets never share a file. They are no secret.
func (h Home) KeepAuthority(pem []byte) (path string, err error) {
	sum := sha256.Sum256(pem)
	path = filepath.Join(h.Dir, "cloud", "authority-"+hex.EncodeToString(sum[:8])+".pem")
	if data, err := atomicfile.Read(path, maxFile); err == nil && bytes.Equal(data, pem) {
		return path, nil
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return "", &FileError{filepath.Dir(path), 0, "cannot be made: " + reason(err)}
	}
	return path, WriteFile(path, pem)
}

// Load reads the user's profile file; one that is not there has no profiles. Loose permissions are tightened, and
// Notice gets a line about it.
func (h Home) Load() (*File, error) { return h.load(&File{Path: h.ProfilesPath()}) }

// LoadAliases reads the user's file of aliases in the same way.
func (h Home) LoadAliases() (*File, error) {
	return h.load(&File{Path: h.AliasesPath(), ForAlias: true})
}

// LoadOtherAliases reads a file of aliases outside the tool's folder. One that another user may change is an
// IgnoredFile.
func LoadOtherAliases(keys *schema.Schema, path string) (*File, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, &FileError{path, 0, "cannot be read: " + reason(err)}
	}
	if why := owner.Unsafe(info); why != "" {
		return nil, passedOver(path, why)
	}
	data, err := atomicfile.Read(path, maxFile)
	if err != nil {
		return nil, &FileError{path, 0, "cannot be read: " + reason(err)}
	}
	return readInto(keys, &File{Path: path, ForAlias: true}, data)
}

// ParseAliases reads the bytes of a file of aliases that stands in the repository at root.
func ParseAliases(keys *schema.Schema, path, root string, data []byte) (*File, error) {
	return readInto(keys, &File{Path: path, Root: root, ForAlias: true, Project: true}, data)
}

func (h Home) load(f *File) (*File, error) {
	path := f.Path
	data, err := atomicfile.Read(path, maxFile)
	if errors.Is(err, fs.ErrNotExist) {
		return readInto(h.Schema, f, nil)
	}
	if err != nil {
		return nil, &FileError{path, 0, "cannot be read: " + reason(err)}
	}
	if why := sharedFolder(h.Dir); why == "" {
		h.tighten(h.Dir, 0o700)
	} else if h.Notice != nil {
		h.Notice(fmt.Sprintf("%s is %s, so others can see what is in it; set GHARBOR_HOME to a folder of its own",
			h.Dir,
			why))
	}
	h.tighten(path, 0o600)
	return readInto(h.Schema, f, data)
}

// reason is the system's reason without the path, which stands before it.
func reason(err error) string { return atomicfile.Plain(err).Error() }

// sharedFolder says why the permissions of a folder are not the tool's to tighten, "" where they are, or are tight.
func sharedFolder(dir string) string {
	info, err := os.Stat(dir)
	if err != nil || info.Mode().Perm()&0o077 == 0 {
		return ""
	}
	if uid, ok := owner.UserID(info); ok && uid != os.Getuid() {
		return "another user's folder"
	}
	if info.Mode()&fs.ModeSticky != 0 || filepath.Dir(dir) == dir {
		return "a folder for everybody"
	}
	if home, err := os.UserHomeDir(); err == nil && filepath.Clean(home) == filepath.Clean(dir) {
		return "your home folder"
	}
	return ""
}

// tighten takes the rights of group and others from a file of the tool's own.
func (h Home) tighten(path string, mode fs.FileMode) {
	if h.AsFound || runtime.GOOS == "windows" {
		return // access lists rule there; docs/profiles.md says so
	}
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm()&^mode == 0 {
		return
	}
	text := fmt.Sprintf("%s could be used by others (%04o); now it is %04o", path, info.Mode().Perm(), mode)
	if info.Mode().Perm()&0o022 != 0 {
		text += ". Others could change it: check what is in it"
	}
	if err := os.Chmod(path, mode); err != nil {
		text = fmt.Sprintf("%s can be used by others (%04o) and could not be fixed: %s", path, info.Mode().Perm(),
			reason(err))
	}
	if h.Notice != nil {
		h.Notice(text)
	}
}

// Update edits the user's profile file: under the lock it reads the file,
// lets edit make a new text of it, checks that text as if it had been read,
// and replaces the file in one step. Where edit or the check fails nothing
// has changed.
func (h Home) Update(ctx context.Context, edit func(*File) (*Edit, error)) error {
	return h.update(ctx, h.ProfilesPath(), h.Load, edit)
}

// UpdateAliases edits the user's file of aliases in the same way.
func (h Home) UpdateAliases(ctx context.Context, edit func(*File) (*Edit, error)) error {
	return h.update(ctx, h.AliasesPath(), h.LoadAliases, edit)
}

func (h Home) update(ctx context.Context, path string, load func() (*File, error),
	edit func(*File) (*Edit, error)) error {
	if err := os.MkdirAll(h.Dir, 0o700); err != nil {
		what := "cannot be made: " + reason(err)
		if to, linkErr := os.Readlink(h.Dir); linkErr == nil {
			what = "is a link to " + clean.Word(to) + ", which does not exist"
		}
		return &FileError{h.Dir, 0, what}
	}
	target, err := atomicfile.Resolve(path)
	if err != nil {
		return &FileError{path, 0, reason(err)}
	}
	unlock, err := atomicfile.Lock(ctx, target)
	if errors.Is(err, context.Canceled) {
		return err
	}
	if err != nil {
		return &FileError{target + ".lock", 0, reason(err)}
	}
	defer unlock()
	file, err := load()
	if err != nil {
		return err
	}
	text, err := file.applyEdit(edit)
	if err != nil {
		return err
	}
	return WriteFile(target, text)
}

// applyEdit returns the file's text after an edit, checked as if it had been read.
func (f *File) applyEdit(edit func(*File) (*Edit, error)) ([]byte, error) {
	e, err := edit(f)
	if err != nil {
		return nil, err
	}
	return e.CheckedText()
}

// WriteFile replaces a file of the tool's in one step; its mode is 0600.
func WriteFile(path string, data []byte) error {
	if err := (atomicfile.Writer{}).Write(path, data); err != nil {
		return &FileError{path, 0, "cannot be written: " + reason(err)}
	}
	return nil
}
