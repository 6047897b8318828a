// Package alias finds what a service alias means: it follows a name through the user's files, a project's and an
// engine's service file to the service's addresses, asks DNS for SRV records, and knocks at listeners without a
// login. On the way from profile to report it stands between profile and route; package profile reads the files.
package alias

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/intake"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
)

// Variable names further files of aliases, with the system's list separator between
// them.
const Variable = "GHARBOR_ALIASES"

// Book has all files with aliases. It implements resolve.Aliases.
type Book struct {
	Files   []*profile.File // the user's aliases.toml, then those of GHARBOR_ALIASES
	Project *profile.File   // nil where there is none
	Schema  *schema.Schema
	Lookup  func(name string) (string, bool)
	Home    string // the user's home folder

	// Vouch judges a project's alias that a profile of the user's names. Where the user vouched for it, there is no
	// finding, and the bytes of the files that it names, by path.
	Vouch func(*profile.Alias) (files map[string][]byte, found *finding.Finding)

	// JudgeFile judges a file that an environment variable names. Its finding is nil where the file is in no
	// repository, or was vouched for. JudgeFile may be nil.
	JudgeFile func(path string) *finding.Finding

	mu       sync.Mutex
	sections map[string]section // of the service file, as they were asked for
}

// section is the service file's section of a name.
type section struct {
	alias   *profile.Alias
	ignored []string
}

// Load reads the user's files. It skips a file of GHARBOR_ALIASES that belongs to another user, or for which judge
// has a finding, and calls notice. A file with a mistake, and one that does not exist, is an error.
func Load(h profile.Home, lookup func(string) (string, bool), home string, judge func(path string) *finding.Finding,
	notice func(error)) (*Book, error) {
	own, err := h.LoadAliases()
	if err != nil {
		return nil, err
	}
	b := &Book{Files: []*profile.File{own}, Schema: h.Schema, Lookup: lookup, Home: home, JudgeFile: judge}
	list, _ := lookup(Variable)
	for _, path := range filepath.SplitList(list) {
		if path == "" {
			continue
		}
		if found := judge(path); found != nil {
			notice(fmt.Errorf("%s, so its aliases are ignored; %s", found.Cause, strings.Join(found.Try, "; ")))
			continue
		}
		f, err := profile.LoadOtherAliases(h.Schema, path)
		var wrong *profile.FileError
		switch {
		case errors.As(err, new(*profile.IgnoredFile)):
			notice(err)
			continue
		case errors.As(err, &wrong) && wrong.Line == 0:
			return nil, &profile.FileError{Path: path, What: wrong.What + " (" + Variable + " names it)"}
		case err != nil:
			return nil, err
		}
		b.Files = append(b.Files, f)
	}
	return b, nil
}

// Find returns the alias of a word, or nil: the user's, else the project's. With "project:" before the name, it is
// the project's.
func (b *Book) Find(word string) *profile.Alias {
	if name, ok := strings.CutPrefix(word, syntax.ProjectPrefix); ok {
		return b.Project.AliasNamed(name)
	}
	for _, f := range b.Files {
		if a := f.AliasNamed(word); a != nil {
			return a
		}
	}
	return b.Project.AliasNamed(word)
}

// All lists each alias that a name can find, the user's first.
func (b *Book) All() []*profile.Alias {
	var all []*profile.Alias
	seen := make(map[string]bool)
	for _, f := range b.Files {
		for _, a := range f.Aliases {
			if !seen[a.Name] {
				seen[a.Name] = true
				all = append(all, a)
			}
		}
	}
	if b.Project != nil {
		all = append(all, b.Project.Aliases...)
	}
	return all
}

// ShortName is the shortest name that finds an alias from the user's own file.
func (b *Book) ShortName(a *profile.Alias) string {
	if a.InProject() && b.Find(a.Name) == a {
		return a.Name
	}
	return a.FullName()
}

// Missing is the error for an unknown alias. It does not repeat the word, which may be a password in the wrong place.
func (b *Book) Missing(word string) error {
	what := "no alias of that name; see gharbor alias list"
	if near := nearest.Name(word, b.names()); near != "" {
		what = fmt.Sprintf("no alias of that name; did you mean %q?", near)
	} else if len(b.All()) == 0 {
		what = "there are no aliases yet; to add one: gharbor alias add NAME addresses=HOST:PORT"
	}
	return &profile.RequestError{What: what}
}

// names are the words that Find knows.
func (b *Book) names() []string {
	var names []string
	for _, a := range b.All() {
		names = append(names, b.ShortName(a))
	}
	return names
}

// Chain follows an alias for a profile, for resolve.Aliases. A project's alias must be vouched for: with the
// project's profile, where that was vouched for with the same chain, else by itself.
func (b *Book) Chain(word string, by *resolve.Profile) (*address.Chain, *finding.Finding) {
	chain, found := b.Follow(word)
	if found != nil {
		return nil, found
	}
	var covered []*profile.Alias
	if sealed := by.ProjectProfile(); sealed != nil {
		own, _ := sealed.WrittenValue(key.Alias) // not one that somebody put in its place
		covered = Within(b.Project, own.Text())
	}
	for _, link := range chain.Links {
		if !link.InProject() || slices.Contains(covered, link) {
			continue
		}
		files, found := b.Judge(link)
		if found != nil {
			return nil, found
		}
		if chain.Pinned == nil {
			chain.Pinned = make(map[string][]byte)
		}
		maps.Copy(chain.Pinned, files)
	}
	return chain, nil
}

// Judge returns no finding for an alias of the user's own, and for a project's that was vouched for; for that one it
// returns the bytes of the files that it names.
func (b *Book) Judge(a *profile.Alias) (map[string][]byte, *finding.Finding) {
	if !a.InProject() {
		return nil, nil
	}
	if b.Vouch == nil {
		return nil, NotVouched(a)
	}
	return b.Vouch(a)
}

// Vouched reports whether an alias may be used.
func (b *Book) Vouched(a *profile.Alias) bool {
	_, found := b.Judge(a)
	return found == nil
}

// NotVouched is the finding for a project's alias that nobody vouched for.
func NotVouched(a *profile.Alias) *finding.Finding {
	return finding.New(finding.AliasNotVouched,
		"the alias %s is from a project's file, and you have not approved it", a.Name).
		Suggest("gharbor vouch alias:%s   # shows where it leads, and asks", a.Name)
}

// Within follows a name in a project's file only. A profile of that file is vouched for with this chain, which is the
// same in each clone. It ends where a name is not in the file.
func Within(project *profile.File, word string) []*profile.Alias {
	var links []*profile.Alias
	for len(links) < profile.MaxAliases {
		a := project.AliasNamed(strings.TrimPrefix(word, syntax.ProjectPrefix))
		if a == nil || slices.Contains(links, a) {
			break
		}
		links = append(links, a)
		word = a.Text(key.Alias)
	}
	return links
}

// Follow follows an alias to the one that has the addresses. It does not check whether a project's alias may be used.
func (b *Book) Follow(word string) (*address.Chain, *finding.Finding) {
	chain := &address.Chain{}
	var last *profile.Alias
	for word != "" {
		a, ignored, found := b.next(word, last)
		if found != nil {
			return nil, found
		}
		circle := slices.Contains(chain.Links, a)
		chain.Links = append(chain.Links, a)
		chain.Ignored = append(chain.Ignored, ignored...)
		if circle || len(chain.Links) > profile.MaxAliases {
			return nil, cycle(chain, circle)
		}
		last, word = a, a.Text(key.Alias)
	}
	return chain, nil
}

// next is the alias of a word; by is the one that names it, nil for the first.
func (b *Book) next(word string, by *profile.Alias) (a *profile.Alias, ignored []string, found *finding.Finding) {
	if name, ok := strings.CutPrefix(word, syntax.ServicePrefix); ok {
		return b.service(name)
	}
	if a = b.Find(word); a != nil {
		return a, nil, nil
	}
	found = finding.New(finding.AliasUnknown, "there is no alias %s", clean.Quote(word))
	if by != nil {
		e, _ := by.OwnValue(key.Alias)
		found.Saw("the alias %s names it (%s:%d)", by.FullName(), by.Path(), e.Line)
	}
	found.Saw("looked in %s", b.places())
	if near := nearest.Name(word, b.names()); near != "" {
		found.Saw("the nearest name is %s", near)
	}
	found.Suggest("gharbor alias list")
	if syntax.ValidName(word) {
		found.Advise("say where it is: gharbor alias add %s addresses=HOST:PORT", word)
	}
	return nil, nil, found
}

// places are the files in which names are looked up.
func (b *Book) places() string {
	var places []string
	for _, f := range b.Files {
		places = append(places, f.Path)
	}
	if b.Project != nil {
		places = append(places, b.Project.Path)
	}
	return strings.Join(places, ", ")
}

func cycle(chain *address.Chain, circle bool) *finding.Finding {
	first := chain.Links[0]
	found := finding.New(finding.AliasCycle, "the alias %s leads back to itself",
		first.FullName())
	if !circle {
		found = finding.New(finding.AliasCycle, "the alias %s leads through more than %d others", first.FullName(),
			profile.MaxAliases)
	}
	last := chain.Links[len(chain.Links)-2]
	for i, link := range chain.Links[:len(chain.Links)-1] {
		e, _ := link.OwnValue(key.Alias)
		found.Saw("%s:%d: %s is %s", link.Path(), e.Line, link.FullName(), chain.Links[i+1].FullName())
	}
	return found.Advise("say where it is: gharbor alias set %s alias= addresses=HOST:PORT",
		last.FullName())
}

// service is an alias from an engine's service file, which is read once for each name.
func (b *Book) service(name string) (*profile.Alias, []string, *finding.Finding) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if s, ok := b.sections[name]; ok {
		return s.alias, s.ignored, nil
	}
	a, ignored, found := b.readService(name)
	if found != nil {
		return nil, nil, found
	}
	if b.sections == nil {
		b.sections = make(map[string]section)
	}
	b.sections[name] = section{a, ignored}
	return a, ignored, nil
}

// serviceSpec is the engine that has a service file, nil where none has.
func (b *Book) serviceSpec() *engine.Spec {
	for _, spec := range b.Schema.Engines().All() {
		if spec.Services != nil {
			return spec
		}
	}
	return nil
}

func (b *Book) readService(name string) (*profile.Alias, []string, *finding.Finding) {
	spec := b.serviceSpec()
	if spec == nil {
		return nil, nil, finding.New(finding.AliasUnknown, "no engine here has a service file")
	}
	file := spec.Services
	paths := file.Paths(b.Lookup, b.Home)
	var names []string
	looked := []string{}
	for _, path := range paths {
		if b.JudgeFile != nil && file.ByVariable(path, b.Lookup) {
			if found := b.JudgeFile(path); found != nil {
				return nil, nil, found
			}
		}
		data, err := intake.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			looked = append(looked, path+" (not there)")
			continue
		}
		var section engine.Section
		var one intake.Connection
		if err == nil {
			var of []string
			section, of, err = file.Find(data, path, name)
			names = append(names, of...)
		}
		if err == nil && section.Line > 0 {
			one, err = intake.Reader{Schema: b.Schema}.Section(spec, section, path)
		}
		if err != nil {
			return nil, nil, finding.New(finding.AliasServiceFile, "%s %s can't be used", file.Name, path).
				Saw("%s", clean.Line(err.Error(), 300)).
				Suggest("ls -l %s", clean.Shell(path))
		}
		if section.Line > 0 {
			ignored := one.Other
			if one.Password.Present() {
				ignored = append(ignored, "password (say in the profile where it is)")
			}
			return profile.NewServiceAlias(b.Schema, syntax.ServicePrefix+name, path, section.Line, one.Sets), ignored, nil
		}
		looked = append(looked, path)
	}
	found := finding.New(finding.AliasUnknown, "no service file has a section %s", clean.Quote(name)).
		Saw("looked in %s", strings.Join(looked, ", "))
	if near := nearest.Name(name, names); near != "" {
		found.Saw("the nearest name is %s", clean.Quote(near))
	}
	return nil, nil, found.Suggest("${EDITOR:-vi} %s   # and add a section [%s]", clean.Shell(paths[0]), name)
}

// HostEntry is the line of [hosts] for a host name. The user's files come first. A project's counts only for names in
// that file, in the form that was vouched for.
func (b *Book) HostEntry(host string, by *resolve.Profile) (profile.HostEntry, bool) {
	if h, ok := b.UserHost(host); ok {
		return h, true
	}
	h, ok := b.Project.HostEntry(host)
	if !ok {
		return h, false
	}
	if sealed := by.ProjectProfile(); sealed != nil && DialsHost(b.Project, sealed, "")(h.Name) {
		return h, true
	}
	if chain := by.Service(); chain != nil {
		for _, link := range chain.Links {
			if h, ok := b.GivenTo(host, link); ok {
				return h, true
			}
		}
	}
	return profile.HostEntry{}, false
}

// GivenTo is the line of [hosts] for a host name that an alias lists.
func (b *Book) GivenTo(host string, a *profile.Alias) (profile.HostEntry, bool) {
	if h, ok := b.UserHost(host); ok {
		return h, true
	}
	h, ok := b.Project.HostEntry(host)
	return h, ok && a.InProject() && DialsHost(b.Project, nil, a.Name)(h.Name)
}

// UserHost is the line of the user's own [hosts] for a host name.
func (b *Book) UserHost(host string) (profile.HostEntry, bool) {
	for _, f := range b.Files {
		if h, ok := f.HostEntry(host); ok {
			return h, true
		}
	}
	return profile.HostEntry{}, false
}

// Users lists the profiles and aliases that name an alias, directly or over others: "profile archive", "alias
// old-archive".
func (b *Book) Users(a *profile.Alias, profiles ...*profile.File) []string {
	var users []string
	leads := func(word string) bool {
		chain, found := b.Follow(word)
		return found == nil && slices.Contains(chain.Links, a)
	}
	for _, o := range b.All() {
		if o != a && leads(b.ShortName(o)) {
			users = append(users, "alias "+b.ShortName(o))
		}
	}
	for _, f := range profiles {
		if f == nil {
			continue
		}
		for _, p := range f.Profiles {
			if leads(p.Text(key.Alias)) {
				name := p.Name
				if f.Project {
					name = syntax.ProjectPrefix + name
				}
				users = append(users, "profile "+name)
			}
		}
	}
	return users
}

// UsedAliases are the aliases that profiles of some files name, directly or over others.
func (b *Book) UsedAliases(files ...*profile.File) map[*profile.Alias]bool {
	used := make(map[*profile.Alias]bool)
	words := make(map[string]bool)
	for _, f := range files {
		if f == nil {
			continue
		}
		for _, p := range f.Profiles {
			word := p.Text(key.Alias)
			if word == "" || words[word] {
				continue
			}
			words[word] = true
			if chain, found := b.Follow(word); found == nil {
				for _, link := range chain.Links {
					used[link] = true
				}
			}
		}
	}
	return used
}
