// Package atomicfile reads files within bounds, and replaces them in one step, under a lock: a crash at any moment
// leaves the old file or the new one, and two writers at once lose nothing. All files that the tool keeps are written
// by it. It stands below all rooms and knows none of them.
package atomicfile

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/gofrs/flock"

	"gentleharbor/core/owner"
)

// ErrNotRegular is Open's error for a pipe, a device, a socket or a folder.
var ErrNotRegular = errors.New("it is not a regular file")

// Open opens a regular file to read. Anything else is an error: a pipe would wait for a writer, and a device has no
// end.
func Open(path string) (*os.File, error) {
	file, err := os.OpenFile(path, os.O_RDONLY|noWaiting, 0)
	if err != nil {
		return nil, err
	}
	info, err := file.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = ErrNotRegular
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return file, nil
}

// Read opens and reads a file of at most most bytes.
func Read(path string, most int64) ([]byte, error) {
	file, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	b.Grow(int(min(info.Size(), most)) + bytes.MinRead)
	_, err = b.ReadFrom(io.LimitReader(file, most+1))
	if err == nil && int64(b.Len()) > most {
		err = fmt.Errorf("it is larger than %d KiB", most>>10)
	}
	return b.Bytes(), err
}

// Plain is a file's error without the operation and the path, which the message has already.
func Plain(err error) error {
	var pathError *fs.PathError
	var linkError *os.LinkError // of a rename
	switch {
	case errors.As(err, &pathError):
		return pathError.Err
	case errors.As(err, &linkError) && errors.Is(linkError.Err, syscall.EBUSY):
		return fmt.Errorf("%w: a file that is mounted by itself can't be replaced; mount its folder", linkError.Err)
	case errors.As(err, &linkError):
		return linkError.Err
	}
	return err
}

// Inside is a path relative to a folder; ok is false for a path outside of it. It follows no links: pass it real
// paths where links matter.
func Inside(folder, path string) (from string, ok bool) {
	from, err := filepath.Rel(folder, path)
	return from, err == nil && filepath.IsLocal(from)
}

// Resolve follows symbolic links, so that a rename replaces the target of a link in a dotfiles folder, and not the
// link. The file need not exist; its folder must.
func Resolve(path string) (string, error) {
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

// lockWait bounds the wait for another writer. A write takes milliseconds, so a program that holds a lock for this
// long hangs.
const lockWait = 10 * time.Second

// ErrHeld says that another process held a lock for longer than a write takes.
var ErrHeld = errors.New("another gharbor has held this lock for 10 s; end it and try again")

// ErrNoLocks says that the file system has no file locks. Nothing is written there: of two writers at once, one would
// lose its changes.
var ErrNoLocks = errors.New("this file system has no file locks; " +
	"use a folder on a local disk, for gharbor's own files by GHARBOR_HOME")

// noLocks reports whether an error of flock(2) says that the file system has no locks.
func noLocks(err error) bool {
	return errors.Is(err, syscall.ENOLCK) || errors.Is(err, errors.ErrUnsupported)
}

// Lock waits for path's lock: another file, path with ".lock" at the end, which is never replaced. unlock releases
// it.
func Lock(ctx context.Context, path string) (unlock func(), err error) {
	return lock(ctx, path+".lock")
}

// LockIn is Lock for a file beside which no lock file may be left: the lock is in a folder of the tool's, named by
// the hash of the path.
func LockIn(ctx context.Context, folder, path string) (unlock func(), err error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	sum := sha256.Sum256([]byte(path))
	return lock(ctx, filepath.Join(folder, hex.EncodeToString(sum[:8])+".lock"))
}

func lock(ctx context.Context, path string) (unlock func(), err error) {
	ctx, cancel := context.WithTimeout(ctx, lockWait)
	defer cancel()
	// a link could make a file elsewhere
	l := flock.New(path, flock.SetFlag(os.O_CREATE|os.O_RDONLY|noFollow|noWaiting), flock.SetPermissions(0o600))
	held, err := l.TryLockContext(ctx, time.Millisecond) // often: a writer that comes again at once would win each time
	if err != nil || !held {
		switch {
		case errors.Is(err, context.DeadlineExceeded):
			err = ErrHeld
		case noLocks(err):
			err = fmt.Errorf("%w (%w)", ErrNoLocks, Plain(err))
		case err == nil:
			err = errors.New("could not be locked")
		}
		return nil, err
	}
	return func() { l.Unlock() }, nil
}

// Writer replaces files. The zero Writer is ready.
type Writer struct {
	Step func(name string) // told of each step before it is taken; may be nil
}

// Write replaces path by data: a temporary file in the same folder, fsync,
// rename, fsync of the folder. The file's mode is 0600.
func (w Writer) Write(path string, data []byte) error { return w.write(path, data, nil) }

// WriteShared is Write for a file that its owner may let others read: the new file has the old one's read permissions
// and group. Only the owner may write to it.
func (w Writer) WriteShared(path string, data []byte) error {
	old, err := os.Stat(path)
	if err != nil {
		old = nil
	}
	return w.write(path, data, old)
}

func (w Writer) write(path string, data []byte, old fs.FileInfo) (err error) {
	dir := filepath.Dir(path)
	sweep(path)
	w.step("create")
	temp, err := createTemp(dir, filepath.Base(path))
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			temp.Close()
			os.Remove(temp.Name())
		}
	}()
	w.step("write")
	if _, err = temp.Write(data); err != nil {
		return err
	}
	if old != nil && old.Mode().Perm()&0o044 != 0 {
		if gid, ok := owner.GroupOf(old); ok {
			err = temp.Chown(-1, gid) // only a member of the group may; else it stays 0600
		}
		if err == nil {
			err = temp.Chmod(0o600 | old.Mode().Perm()&0o044)
		}
		if err != nil && !errors.Is(err, fs.ErrPermission) {
			return err
		}
	}
	w.step("sync")
	if err = temp.Sync(); err != nil {
		return err
	}
	if err = temp.Close(); err != nil {
		return err
	}
	w.step("rename")
	if err = os.Rename(temp.Name(), path); err != nil {
		return err
	}
	w.step("sync folder")
	if d, openErr := os.Open(dir); openErr == nil {
		d.Sync() // not every system can; the rename itself has happened
		d.Close()
	}
	w.step("done")
	return nil
}

func (w Writer) step(name string) {
	if w.Step != nil {
		w.Step(name)
	}
}

// createTemp makes the temporary file, with mode 0600, and locks it: an unlocked one is from a killed writer. Where
// there are no locks, nobody removes any.
func createTemp(dir, base string) (*os.File, error) {
	for {
		temp, err := os.CreateTemp(dir, "."+base+".*.tmp")
		if err != nil {
			return nil, err
		}
		if err := hold(temp); err != nil && !noLocks(err) {
			temp.Close()
			os.Remove(temp.Name())
			return nil, err
		}
		if _, err := os.Lstat(temp.Name()); err == nil {
			return temp, nil
		}
		temp.Close() // another writer took it for a killed one's before it was held
	}
}

// sweep removes the temporary files that killed writers left: they may have a password that was changed or removed
// since. Where it can't, the write still succeeds.
func sweep(path string) {
	dir, start := filepath.Dir(path), "."+filepath.Base(path)+"."
	entries, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	for _, entry := range entries {
		number, ok := strings.CutPrefix(entry.Name(), start)
		number, temp := strings.CutSuffix(number, ".tmp")
		if !ok || !temp || number == "" || strings.Trim(number, "0123456789") != "" || !entry.Type().IsRegular() {
			continue
		}
		if whole := filepath.Join(dir, entry.Name()); abandoned(whole) {
			os.Remove(whole)
		}
	}
}
