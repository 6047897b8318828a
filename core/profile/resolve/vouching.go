package resolve

import (
	"path/filepath"
	"strings"

	"gentleharbor/core/address"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
)

// checkVouched returns the finding for a profile that takes something from a project's file for which nobody vouched,
// nil for all others.
func (r *Profile) checkVouched() *finding.Finding {
	for _, p := range r.chain {
		if !p.InProject() {
			continue
		}
		if r.env.Vouch == nil {
			return NotVouched(p.Name)
		}
		sealed := r.sealProfile(p)
		found := r.env.Vouch(sealed)
		r.pinned = sealed.pinned
		return found
	}
	return nil
}

// Recheck gives what judges once more what the profile takes from a project's file: without a
// finding where it is still what the user vouched for. A secret is taken only after it, as a
// script may be rewritten while the connection is made. It is nil where nothing is a project's.
func (r *Profile) Recheck() func() *finding.Finding {
	for _, p := range r.chain {
		if p.InProject() && r.env.Vouch != nil {
			return func() *finding.Finding { return r.env.Vouch(r.sealProfile(p)) }
		}
	}
	return nil
}

// sealProfile is a project's profile as it is judged: alone, with no variable expanded.
func (r *Profile) sealProfile(p *profile.Profile) *Profile {
	s := &Profile{
		Profile:    p,
		Called:     r.Called,
		file:       p.File(),
		env:        r.env,
		chain:      p.File().Chain(p, nil),
		notVouched: NotVouched(p.Name),
	}
	s.address = address.ByKey(addressKey(nil, s.chain))
	return s
}

// ProjectProfile is the project's profile that this one is, or is like, in the form in which it is judged; nil where
// there is none.
func (r *Profile) ProjectProfile() *Profile {
	for _, p := range r.chain {
		if p.InProject() {
			return r.sealProfile(p)
		}
	}
	return nil
}

// NotVouched is the finding for a project's profile that nobody vouched for.
func NotVouched(name string) *finding.Finding {
	return finding.New(finding.ProfileNotVouched,
		"the profile is from a project's file, and you have not approved it").
		Suggest("gharbor vouch %s   # shows what it would use, and asks", name)
}

// Vouched reports whether the profile may be used: it is the user's own, or was
// vouched for.
func (r *Profile) Vouched() bool { return r.notVouched == nil }

// WhyNotVouched is the finding of a profile that may not be used, nil of one that
// may.
func (r *Profile) WhyNotVouched() *finding.Finding { return r.notVouched }

// WrittenValue is the value of a key as its file has it: no variable is expanded, no path made absolute. ok is false
// where nothing sets it.
func (r *Profile) WrittenValue(name key.Name) (schema.Value, bool) {
	field := r.Schema().Field(name)
	if field == nil || field.Address && name != r.address.Key {
		return schema.Value{}, false
	}
	e, ok := r.lookUp(field)
	return e.Value, ok
}

// File is the file that the profile stands in.
func (r *Profile) File() *profile.File { return r.file }

// Root is the repository that the profile's file belongs to, "" for the user's.
func (r *Profile) Root() string { return r.file.Root }

// Folder is where relative paths of the profile's file begin.
func (r *Profile) Folder() string { return filepath.Dir(r.file.Path) }

// Home is the user's home folder, which "~" stands for.
func (r *Profile) Home() string { return r.env.Home }

// Command is the program and the words that print the secret: those of the key
// command, or of a source command:WORDS. A program with a slash in it belongs to
// the folder of the file that names it.
func (r *Profile) Command() []string {
	e, ok := r.Get(key.Command)
	words := e.Value.List()
	if !ok {
		source, isCommand := strings.CutPrefix(r.Text(key.Secret), "command:")
		if !isCommand {
			return nil
		}
		words = strings.Fields(source)
		e, _ = r.Get(key.Secret)
	}
	if len(words) > 0 && strings.Contains(words[0], "/") {
		words = append([]string{syntax.WholePath(words[0], r.base(e.Origin), r.env.Home)}, words[1:]...)
	}
	return words
}

// SecretFolder is the folder of the file that names the command which prints the
// secret, that of the profile's own file where none does.
func (r *Profile) SecretFolder() string {
	for _, k := range []key.Name{"command", "secret"} {
		if e, ok := r.lookUp(r.Schema().Field(k)); ok && e.Origin.File != "" {
			return filepath.Dir(e.Origin.File)
		}
	}
	return r.Folder()
}

// Pin keeps the bytes that files of the profile had when they were judged. They are used, whatever the files have
// later.
func (r *Profile) Pin(files map[string][]byte) { r.pinned = files }

// PinnedFiles are the files that Pin was given, by absolute path; nil for none.
func (r *Profile) PinnedFiles() map[string][]byte { return r.pinned }
