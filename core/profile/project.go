package profile

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/finding"
	"gentleharbor/core/owner"
)

// ProjectFile is the name of a project's own file of profiles.
const ProjectFile = "gharbor.toml"

// ProjectPrefix before a name says that the project's profile is meant, also
// where the user has one of that name.
const ProjectPrefix = "project:"

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

// PassedOver is a file that another user than root may change. It could lead every connection
// elsewhere, so it counts as if it were not there.
type PassedOver struct{ FileError }

// Unwrap is the error of the file, with its place.
func (e *PassedOver) Unwrap() error { return &e.FileError }

func passedOver(path, why string) error {
	return &PassedOver{FileError{path, 0, why + ", so it is passed over"}}
}

// LoadProject reads a project's file. Its bytes are read once: what is hashed is
// what was parsed.
func (s *Schema) LoadProject(place Place) (*File, error) {
	info, err := os.Stat(place.Path)
	if err != nil {
		return nil, &FileError{place.Path, 0, "cannot be read: " + reason(err)}
	}
	if why := owner.Unsafe(info); why != "" {
		return nil, passedOver(place.Path, why)
	}
	if !inside(place) {
		return nil, passedOver(place.Path, "it is a link that leads out of the repository")
	}
	data, err := atomicfile.Read(place.Path, MaxFile)
	if err != nil {
		return nil, &FileError{place.Path, 0, "cannot be read: " + reason(err)}
	}
	return s.readInto(&File{Path: place.Path, Root: place.Root, Project: true}, data)
}

// inside reports whether a project's file really is in its repository: a link in a clone may lead
// to any file of the user's, and what is wrong with that would be told.
func inside(place Place) bool {
	real, err := filepath.EvalSymlinks(place.Path)
	root, rootErr := filepath.EvalSymlinks(place.Root)
	if err != nil || rootErr != nil {
		return false
	}
	_, ok := atomicfile.Inside(root, real)
	return ok
}

// Attach lets the user's file know the project's: names that the user does not
// have lead there, and so does a name with "project:" before it.
func (f *File) Attach(project *File) { f.project = project }

// Attached is the project's file, nil where there is none.
func (f *File) Attached() *File { return f.project }

// Shadowed reports whether a project's profile has a name that the user's file
// has too.
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

// Called is the name by which a profile is meant: with "project:" before it
// where the user's file has one of the same name.
func (f *File) Called(p *Profile) string {
	if f.Shadowed(p) {
		return ProjectPrefix + p.Name
	}
	return p.Name
}

// find returns the profile that a name means, or nil.
func (f *File) find(name string) *Profile {
	if own, ok := strings.CutPrefix(name, ProjectPrefix); ok {
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
		file, err = h.Schema.readInto(&File{Path: place.Path, Root: place.Root, Project: true}, nil)
	} else {
		file, err = h.Schema.LoadProject(place)
	}
	if err != nil {
		return err
	}
	text, err := file.edited(edit)
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

// unvouched is the finding for a profile that takes something from a project's
// file which nobody vouched for; nil for all others.
func (r *Resolved) unvouched() *finding.Finding {
	for _, p := range r.chain {
		if !p.InProject() {
			continue
		}
		if r.env.Vouch == nil {
			return NotVouched(p.Name)
		}
		sealed := r.sealed(p)
		found := r.env.Vouch(sealed)
		r.pinned = sealed.pinned
		return found
	}
	return nil
}

// Recheck gives what judges once more what the profile takes from a project's file: without a
// finding where it is still what the user vouched for. A secret is taken only after it, as a
// script may be rewritten while the connection is made. It is nil where nothing is a project's.
func (r *Resolved) Recheck() func() *finding.Finding {
	for _, p := range r.chain {
		if p.InProject() && r.env.Vouch != nil {
			return func() *finding.Finding { return r.env.Vouch(r.sealed(p)) }
		}
	}
	return nil
}

// sealed is a project's profile as it is judged: by itself, and nothing of it
// expanded.
func (r *Resolved) sealed(p *Profile) *Resolved {
	s := &Resolved{
		Profile:    p,
		Called:     r.Called,
		file:       p.in,
		env:        r.env,
		chain:      p.in.chain(p, nil),
		notVouched: NotVouched(p.Name),
	}
	s.address = addressKind(nil, s.chain)
	return s
}

// Sealed is the project's profile that this one is, or is like, as it is judged;
// nil where there is none.
func (r *Resolved) Sealed() *Resolved {
	for _, p := range r.chain {
		if p.InProject() {
			return r.sealed(p)
		}
	}
	return nil
}

// NotVouched is the finding for a project's profile that nobody vouched for.
func NotVouched(name string) *finding.Finding {
	return finding.New(finding.ProfileNotVouched,
		"the profile stands in a project's file, and you have not vouched for what it uses").
		Suggest("gharbor vouch %s   # shows what it would use, and asks", name)
}

// Vouched reports whether the profile may be used: it is the user's own, or was
// vouched for.
func (r *Resolved) Vouched() bool { return r.notVouched == nil }

// WhyNotVouched is the finding of a profile that may not be used, nil of one that
// may.
func (r *Resolved) WhyNotVouched() *finding.Finding { return r.notVouched }

// Written is the value of a key as its file has it: no variable is expanded, and
// no path made whole. ok is false where nothing sets it.
func (r *Resolved) Written(key string) (Value, bool) {
	field := r.Schema().Field(key)
	if field == nil || field.Address && key != r.address {
		return Value{}, false
	}
	e, ok := r.lookUp(field)
	return e.Value, ok
}

// File is the file that the profile stands in.
func (r *Resolved) File() *File { return r.file }

// Root is the repository that the profile's file belongs to, "" for the user's.
func (r *Resolved) Root() string { return r.file.Root }

// Folder is where relative paths of the profile's file begin.
func (r *Resolved) Folder() string { return filepath.Dir(r.file.Path) }

// Home is the user's home folder, which "~" stands for.
func (r *Resolved) Home() string { return r.env.Home }

// Command is the program and the words that print the secret: those of the key
// command, or of a source command:WORDS. A program with a slash in it belongs to
// the folder of the file that names it.
func (r *Resolved) Command() []string {
	e, ok := r.Get("command")
	words := e.Value.List()
	if !ok {
		source, isCommand := strings.CutPrefix(r.Text("secret"), "command:")
		if !isCommand {
			return nil
		}
		words = strings.Fields(source)
		e, _ = r.Get("secret")
	}
	if len(words) > 0 && strings.Contains(words[0], "/") {
		words = append([]string{wholePath(words[0], r.base(e.Origin), r.env.Home)}, words[1:]...)
	}
	return words
}

// SecretFolder is the folder of the file that names the command which prints the
// secret, that of the profile's own file where none does.
func (r *Resolved) SecretFolder() string {
	for _, key := range []string{"command", "secret"} {
		if e, ok := r.lookUp(r.Schema().Field(key)); ok && e.Origin.File != "" {
			return filepath.Dir(e.Origin.File)
		}
	}
	return r.Folder()
}

// Pin keeps the bytes of files that the profile names, as they were when they were
// judged: they are used in place of what the files have later.
func (r *Resolved) Pin(files map[string][]byte) { r.pinned = files }

// Pinned are the files that Pin was given, by absolute path; nil for none.
func (r *Resolved) Pinned() map[string][]byte { return r.pinned }
