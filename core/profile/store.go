package profile

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"time"

	"github.com/gofrs/flock"

	"gentleharbor/core/owner"
)

// Home is the folder of the tool's own files.
type Home struct {
	Dir    string
	Notice func(string) // told of what was mended; may be nil
}

// FindHome returns $GHARBOR_HOME, else gentle-harbor in the user's
// configuration folder. It creates nothing.
func FindHome(lookup func(string) (string, bool)) (Home, error) {
	if dir, ok := lookup("GHARBOR_HOME"); ok && dir != "" {
		whole, err := filepath.Abs(dir)
		return Home{Dir: whole}, err
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return Home{}, fmt.Errorf("no place for the profiles: %w; set GHARBOR_HOME to a folder", err)
	}
	return Home{Dir: filepath.Join(dir, "gentle-harbor")}, nil
}

// ProfilesPath is the user's profile file.
func (h Home) ProfilesPath() string { return filepath.Join(h.Dir, "profiles.toml") }

// Load reads the user's profile file; a file that is not there has no
// profiles. Loose permissions are mended, and said.
func (h Home) Load() (*File, error) {
	path := h.ProfilesPath()
	data, err := readBounded(path)
	if errors.Is(err, fs.ErrNotExist) {
		return Parse(path, nil)
	}
	if err != nil {
		return nil, &FileError{path, 0, "cannot be read: " + reason(err)}
	}
	if why := sharedFolder(h.Dir); why == "" {
		h.tighten(h.Dir, 0o700)
	} else if h.Notice != nil {
		h.Notice(fmt.Sprintf("%s is %s, so others can see what is in it; set GHARBOR_HOME to a folder of its own", h.Dir, why))
	}
	h.tighten(path, 0o600)
	return Parse(path, data)
}

func readBounded(path string) ([]byte, error) {
	info, err := os.Stat(path) // before it is opened: a pipe would wait for a writer
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, errors.New("it is not a regular file")
	}
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	var b bytes.Buffer
	b.Grow(int(min(info.Size(), MaxFile)) + bytes.MinRead)
	_, err = b.ReadFrom(io.LimitReader(file, MaxFile+1))
	return b.Bytes(), err
}

// reason is the system's reason without the path, which stands before it.
func reason(err error) string {
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		return pathError.Err.Error()
	}
	return err.Error()
}

// sharedFolder says why a folder is not the tool's own to tighten, where it is
// looser than it would be: "" for one that is.
func sharedFolder(dir string) string {
	info, err := os.Stat(dir)
	if err != nil || info.Mode().Perm()&0o077 == 0 {
		return ""
	}
	if uid, ok := owner.Of(info); ok && uid != os.Getuid() {
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

// tighten takes away what group and others may do with a file of the tool's.
func (h Home) tighten(path string, mode fs.FileMode) {
	if runtime.GOOS == "windows" {
		return // access lists rule there; docs/profiles.md says so
	}
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm()&^mode == 0 {
		return
	}
	text := fmt.Sprintf("%s could be used by others (%04o); it is %04o now", path, info.Mode().Perm(), mode)
	if err := os.Chmod(path, mode); err != nil {
		text = fmt.Sprintf("%s can be used by others (%04o) and could not be mended: %s", path, info.Mode().Perm(), reason(err))
	}
	if h.Notice != nil {
		h.Notice(text)
	}
}

// lockWait bounds the wait for another writer. A write takes milliseconds, so
// a lock held this long belongs to a program that hangs.
const lockWait = 30 * time.Second

// Update edits the user's profile file: under the lock it reads the file,
// lets edit make a new text of it, checks that text as if it had been read,
// and replaces the file in one step. Where edit or the check fails nothing
// has changed.
func (h Home) Update(ctx context.Context, edit func(*File) (*Edit, error)) error {
	if err := os.MkdirAll(h.Dir, 0o700); err != nil {
		return &FileError{h.Dir, 0, "cannot be made: " + reason(err)}
	}
	target, err := resolveLink(h.ProfilesPath())
	if err != nil {
		return &FileError{h.ProfilesPath(), 0, reason(err)}
	}
	unlock, err := lock(ctx, target+".lock")
	if err != nil {
		return err
	}
	defer unlock()
	file, err := h.Load()
	if err != nil {
		return err
	}
	e, err := edit(file)
	if err != nil {
		return err
	}
	text, err := e.checked()
	if err != nil {
		return err
	}
	return WriteFile(target, text)
}

// resolveLink follows symbolic links, so that a rename replaces the file that
// a link in a dotfiles folder leads to and not the link.
func resolveLink(path string) (string, error) {
	for range 40 { // the system's own limit for links in a row
		info, err := os.Lstat(path)
		if errors.Is(err, fs.ErrNotExist) || err == nil && info.Mode()&fs.ModeSymlink == 0 {
			dir, err := filepath.EvalSymlinks(filepath.Dir(path))
			if err != nil {
				return "", err
			}
			return filepath.Join(dir, filepath.Base(path)), nil
		}
		if err != nil {
			return "", err
		}
		to, err := os.Readlink(path)
		if err != nil {
			return "", err
		}
		if !filepath.IsAbs(to) {
			to = filepath.Join(filepath.Dir(path), to)
		}
		path = to
	}
	return "", errors.New("too many symbolic links in a row")
}

func lock(ctx context.Context, path string) (unlock func(), err error) {
	ctx, cancel := context.WithTimeout(ctx, lockWait)
	defer cancel()
	l := flock.New(path, flock.SetPermissions(0o600))
	held, err := l.TryLockContext(ctx, 5*time.Millisecond)
	if err != nil || !held {
		if errors.Is(err, context.DeadlineExceeded) {
			return nil, &FileError{path, 0, "another gharbor has held this lock for 30 s; end it and try again"}
		}
		if err == nil {
			err = errors.New("could not be locked")
		}
		return nil, &FileError{path, 0, reason(err)}
	}
	return func() { l.Unlock() }, nil
}

// WriteFile replaces path by data in one step: a temporary file in the same
// folder, fsync, rename, fsync of the folder. Its mode is 0600. A crash leaves
// the old file or the new one.
func WriteFile(path string, data []byte) (err error) {
	dir := filepath.Dir(path)
	temp, err := os.CreateTemp(dir, "."+filepath.Base(path)+".*.tmp") // made 0600
	if err != nil {
		return &FileError{path, 0, "cannot be written: " + reason(err)}
	}
	defer func() {
		if err != nil {
			temp.Close()
			os.Remove(temp.Name())
			err = &FileError{path, 0, "cannot be written: " + reason(err)}
		}
	}()
	if _, err = temp.Write(data); err != nil {
		return err
	}
	if err = temp.Sync(); err != nil {
		return err
	}
	if err = temp.Close(); err != nil {
		return err
	}
	if err = os.Rename(temp.Name(), path); err != nil {
		return err
	}
	if d, openErr := os.Open(dir); openErr == nil {
		d.Sync() // not every system can; the rename itself has happened
		d.Close()
	}
	return nil
}
