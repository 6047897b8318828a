package profile

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/owner"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
)

// ProjectFile is the name of a project's own file of profiles.
const ProjectFile = "gharbor.toml"

// Place is where a project's file is, or would be made.
type Place struct {
	Path string
	Root string // the repository's root, or the file's folder where there is no repository
}

// FindProject looks for a project's file in dir and its parents, up to the root
// of the repository that dir is in; outside of a repository in dir alone. Where
// there is none, ok is false and the place is where one would be made.
func FindProject(dir string) (place Place, ok bool) {
	root := dir
	for at := dir; ; at = filepath.Dir(at) {
		if _, err := os.Lstat(filepath.Join(at, ".git")); err == nil {
			root = at
			break
		}
		if filepath.Dir(at) == at {
			break
		}
	}
	for at := dir; ; at = filepath.Dir(at) {
		path := filepath.Join(at, ProjectFile)
		if _, err := os.Lstat(path); err == nil {
			return Place{path, root}, true
		}
		if at == root || filepath.Dir(at) == at {
			return Place{filepath.Join(root, ProjectFile), root}, false
		}
	}
}

// IgnoredFile is the error of a file that a user other than you and root may change. Such a user could lead every
// connection elsewhere, so the file is not used.
type IgnoredFile struct{ FileError }

// Unwrap is the error of the file, with its place.
func (e *IgnoredFile) Unwrap() error { return &e.FileError }

func passedOver(path, why string) error {
	return &IgnoredFile{FileError{path, 0, why + ", so it is ignored"}}
}

// LoadProject reads a project's file, once: the bytes that are hashed are those that were parsed.
func LoadProject(keys *schema.Schema, place Place) (*File, error) {
	info, err := os.Stat(place.Path)
	if err != nil {
		return nil, &FileError{place.Path, 0, "cannot be read: " + reason(err)}
	}
	if why := owner.Unsafe(info); why != "" {
		return nil, passedOver(place.Path, why)
	}
	if !inside(place) {
		return nil, passedOver(place.Path, "it is a link out of the repository")
	}
	data, err := atomicfile.Read(place.Path, maxFile)
	if err != nil {
		return nil, &FileError{place.Path, 0, "cannot be read: " + reason(err)}
	}
	return readInto(keys, &File{Path: place.Path, Root: place.Root, Project: true}, data)
}

// inside reports whether a project's file is in its repository with links followed. A link in a clone can lead to any
// file of the user's, and an error message about that file would show a part of it.
func inside(place Place) bool {
	real, err := filepath.EvalSymlinks(place.Path)
	root, rootErr := filepath.EvalSymlinks(place.Root)
	if err != nil || rootErr != nil {
		return false
	}
	_, ok := atomicfile.Inside(root, real)
	return ok
}

// Attach adds the project's file to the user's: a name that the user's file does not have is looked up there, and so
// is one with "project:" before it.
func (f *File) Attach(project *File) { f.project = project }

// ProjectFile is the project's file, nil where there is none.
func (f *File) ProjectFile() *File { return f.project }

// Shadowed reports whether the user's file has a profile of the same name as this one of the project's.
func (f *File) Shadowed(p *Profile) bool {
	return p.in.Project && !f.Project && f.byName[p.Name] != nil
}

// All lists the profiles of both files, the user's first.
func (f *File) All() []*Profile {
	if f.project == nil {
		return f.Profiles
	}
	return append(append(make([]*Profile, 0, len(f.Profiles)+len(f.project.Profiles)), f.Profiles...),
		f.project.Profiles...)
}

// FullName is the name that finds a profile: with "project:" before it where the user's file has another of that
// name.
func (f *File) FullName(p *Profile) string {
	if f.Shadowed(p) {
		return syntax.ProjectPrefix + p.Name
	}
	return p.Name
}

// find returns the profile that a name means, or nil.
func (f *File) find(name string) *Profile {
	if own, ok := strings.CutPrefix(name, syntax.ProjectPrefix); ok {
		if f.project == nil {
			return nil
		}
		return f.project.byName[own]
	}
	if p := f.byName[name]; p != nil || f.project == nil {
		return p
	}
	return f.project.byName[name]
}

// InProject reports whether the table stands in a project's file.
func (t *table) InProject() bool { return t.in != nil && t.in.Project }

// UpdateProject edits a project's file as Update does the user's. A new file is
// readable as the user's umask has it: it is there to be shared.
func (h Home) UpdateProject(ctx context.Context, place Place, edit func(*File) (*Edit, error)) error {
	target, err := atomicfile.Resolve(place.Path)
	if err != nil {
		return &FileError{place.Path, 0, reason(err)}
	}
	unlock, err := atomicfile.LockIn(ctx, h.LocksPath(), target)
	if errors.Is(err, context.Canceled) {
		return err
	}
	if err != nil {
		return &FileError{place.Path, 0, reason(err)}
	}
	defer unlock()
	made := false
	if _, err := os.Lstat(target); errors.Is(err, fs.ErrNotExist) {
		made = true
	}
	var file *File
	if made {
		file, err = readInto(h.Schema, &File{Path: place.Path, Root: place.Root, Project: true}, nil)
	} else {
		file, err = LoadProject(h.Schema, place)
	}
	if err != nil {
		return err
	}
	text, err := file.applyEdit(edit)
	if err != nil {
		return err
	}
	if made {
		empty, err := os.OpenFile(target, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o666)
		if err != nil {
			return &FileError{place.Path, 0, "cannot be made: " + reason(err)}
		}
		empty.Close()
	}
	if err := (atomicfile.Writer{}).WriteShared(target, text); err != nil {
		if made {
			os.Remove(target)
		}
		return &FileError{place.Path, 0, "cannot be written: " + reason(err)}
	}
	return nil
}
