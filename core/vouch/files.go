package vouch

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/owner"
)

// maxFile bounds a file that is hashed: certificates and scripts are far smaller.
const maxFile = 4 << 20

// Repository is the folder tree in which a project's file is committed. Its files are read and hashed, by their real
// paths; a file outside of it is neither, whatever path or link names it.
type Repository struct {
	root string // the real path
	err  error  // why the root can't be found
}

// NewRepository is the repository with a root, which may be a link.
func NewRepository(root string) Repository {
	real, err := filepath.EvalSymlinks(root)
	return Repository{real, err}
}

// Look follows all links of an absolute path, and reads the file where that is inside the repository. trouble says
// why nobody can vouch for it, "" where one can.
func (r Repository) Look(path string) (file File, data []byte, trouble string) {
	real, err := realPath(path)
	if err == nil {
		err = r.err
	}
	if err != nil {
		return File{State: Outside, Path: path}, nil,
			fmt.Sprintf("%s leads nowhere: %s", clean.Word(path), atomicfile.Plain(err))
	}
	inside, ok := atomicfile.Inside(r.root, real)
	if !ok {
		file = File{State: Outside, Real: real}
		if real != filepath.Clean(path) {
			file.Path = real // a link leads there, and may lead elsewhere tomorrow
		}
		return file, nil, ""
	}
	file = File{State: Hashed, Path: "./" + filepath.ToSlash(inside)}
	data, err = r.read(inside)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		file.State = Missing
		return file, nil, ""
	case err != nil:
		return file, nil, fmt.Sprintf("%s cannot be used: %s", clean.Word(file.Path), atomicfile.Plain(err))
	}
	file.Sum = sum(data)
	return file, data, ""
}

// Inside is the path from the repository's root, "./…", which is the same in each clone; false for a path
// outside.
func (r Repository) Inside(path string) (string, bool) {
	real, err := realPath(path)
	if err != nil || r.err != nil {
		return "", false
	}
	inside, ok := atomicfile.Inside(r.root, real)
	return "./" + filepath.ToSlash(inside), ok
}

// read reads a file of the repository by its real path from the root. A link that somebody puts into the path
// meanwhile is an error, and never leads out of the root (os.Root).
func (r Repository) read(inside string) ([]byte, error) {
	root, err := os.OpenRoot(r.root)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	info, err := root.Stat(inside)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, errors.New("it is not a regular file")
	}
	file, err := root.Open(inside)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if info, err = file.Stat(); err != nil {
		return nil, err
	}
	if why := owner.Unsafe(info); why != "" {
		return nil, errors.New(why)
	}
	if err := r.folders(root, inside); err != nil {
		return nil, err
	}
	var b bytes.Buffer
	if _, err = b.ReadFrom(io.LimitReader(file, maxFile+1)); err == nil && b.Len() > maxFile {
		err = fmt.Errorf("it is larger than %d KiB", maxFile>>10)
	}
	return b.Bytes(), err
}

// folders refuses a file if anybody may replace it, in a folder between it and the root.
func (r Repository) folders(root *os.Root, inside string) error {
	for at := filepath.Dir(inside); ; at = filepath.Dir(at) {
		info, err := root.Stat(at)
		if err != nil {
			return err
		}
		if why := owner.Unsafe(info); why != "" {
			return fmt.Errorf("its folder ./%s: %s", strings.TrimPrefix(filepath.ToSlash(at), "."), why)
		}
		if at == "." {
			return nil
		}
	}
}

// realPath follows all links of an absolute path, which need not exist.
func realPath(path string) (string, error) {
	path = filepath.Clean(path)
	for range 40 { // the system's own limit for links in a row
		real, err := filepath.EvalSymlinks(path)
		if !errors.Is(err, fs.ErrNotExist) {
			return real, err
		}
		to, linkErr := os.Readlink(path)
		if linkErr != nil { // not there itself: its folder may be
			if filepath.Dir(path) == path {
				return path, nil
			}
			folder, err := realPath(filepath.Dir(path))
			return filepath.Join(folder, filepath.Base(path)), err
		}
		if !filepath.IsAbs(to) {
			to = filepath.Join(filepath.Dir(path), to)
		}
		path = filepath.Clean(to)
	}
	return "", errors.New("too many symbolic links in a row")
}
