// Package history keeps the statements of interactive sessions, in a file for each profile. A line is JSON: {"at":
// TIME, "ms": duration, "text": STATEMENT}. Several sessions of a profile may use its file at the same time: each
// line is added with one write, and shortening the file needs its lock. Start with Open.
package history

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"gentleharbor/core/atomicfile"
)

// Most is how many statements are kept. A file may have a tenth more before it is made shorter.
const Most = 5000

// maxFile bounds a file that is read, and maxText a statement that is kept.
const (
	maxFile = 64 << 20
	maxText = 256 << 10
)

// Entry is a statement.
type Entry struct {
	At   time.Time `json:"at"`
	MS   float64   `json:"ms,omitempty"` // how long it took, 0 where it did not end
	Text string    `json:"text"`
}

// File is the history of a profile.
type File struct{ path string }

// Folder is where the files are, below the tool's own folder.
func Folder(home string) string { return filepath.Join(home, "history") }

// ForProfile is the history of a profile, by its name. A project's profile has another history than the user's own of
// the same name.
func ForProfile(home, profile string, project bool) *File {
	if project {
		profile += "@project"
	}
	return &File{filepath.Join(Folder(home), profile+".statements")}
}

// Move gives a history another profile's name. It does nothing where there is none.
func (f *File) Move(to *File) (moved bool, err error) {
	err = os.Rename(f.path, to.path)
	os.Remove(f.path + ".lock")
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// Remove removes a history.
func (f *File) Remove() (removed bool, err error) {
	err = os.Remove(f.path)
	os.Remove(f.path + ".lock")
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// Path is the file's.
func (f *File) Path() string { return f.path }

// Entries are the statements, the oldest first, at most Most. It skips a line that can't be read: after a power cut
// it may be incomplete.
func (f *File) Entries() ([]Entry, error) {
	data, err := atomicfile.Read(f.path, maxFile)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	all := read(data)
	return all[max(0, len(all)-Most):], nil
}

func read(data []byte) []Entry {
	var all []Entry
	lines := bufio.NewScanner(bytes.NewReader(data))
	lines.Buffer(nil, 8*maxText)
	for lines.Scan() {
		var e Entry
		if json.Unmarshal(lines.Bytes(), &e) == nil && e.Text != "" {
			all = append(all, e)
		}
	}
	return all
}

// Add keeps a statement, unless it is very long.
func (f *File) Add(ctx context.Context, e Entry) error {
	if len(e.Text) > maxText {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(f.path), 0o700); err != nil {
		return err
	}
	unlock, err := atomicfile.Lock(ctx, f.path)
	if err != nil {
		return err
	}
	defer unlock()
	if err := f.shorten(); err != nil {
		return err
	}
	file, err := os.OpenFile(f.path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	line, err := json.Marshal(e)
	if err == nil {
		_, err = file.Write(append(line, '\n'))
	}
	return errors.Join(err, file.Close())
}

// shorten drops the oldest statements of a file that has far too many. The lock is held.
func (f *File) shorten() error {
	info, err := os.Stat(f.path)
	if err != nil || info.Size() < 64*Most { // no statement is shorter than that, with its time
		return nil
	}
	data, err := atomicfile.Read(f.path, maxFile)
	if err != nil {
		return err
	}
	all := read(data)
	if len(all) < Most+Most/10 {
		return nil
	}
	var kept bytes.Buffer
	for _, e := range all[len(all)-Most+1:] {
		line, err := json.Marshal(e)
		if err != nil {
			return err
		}
		kept.Write(append(line, '\n'))
	}
	return (atomicfile.Writer{}).Write(f.path, kept.Bytes())
}
