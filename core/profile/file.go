// Package profile finds, reads and edits the files of connection profiles and of aliases. What a profile means is
// package resolve's business, and which keys there are is schema's. It is the first room on the way profile → resolve
// → route → check → report. It dials nothing and asks nobody. Start with Home.Load and Parse.
//
// An edit changes the bytes of one table alone: comments, blank lines and the order of keys stay as the user wrote
// them. Each write goes through Home.Update, which locks the file, reads the new text as a check, and replaces the
// file in one step.
package profile

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
)

// Format is the number at the head of a profile file.
const Format = 1

// Entry is one key that a profile or an alias sets itself.
type Entry struct {
	Field *schema.Field
	Value schema.Value
	Line  int // in the file
}

// table is what profiles and aliases have in common: a table with a name.
type table struct {
	Name    string
	Line    int // of its table
	Entries []Entry

	kind string // the word before its name in the file: "profile", "alias"
	in   *File  // that it stands in
}

// Profile is one profile as its file has it: without what it takes by `like`, and without defaults.
type Profile struct {
	table
	Hops []*Hop // in order from here to the server

	direct int // the line of hop = [], 0 for none
}

// File is the file that the table stands in.
func (t *table) File() *File { return t.in }

// NoHops reports whether the profile says `hop = []`: no hops, also where the profile that it is like has some.
func (p *Profile) NoHops() bool { return p.direct > 0 }

// String is the table as messages name it.
func (t *table) String() string { return fmt.Sprintf("%s %q", t.kind, t.Name) }

// OwnValue returns the value that the table sets itself for a key.
func (t *table) OwnValue(name key.Name) (Entry, bool) {
	for _, e := range t.Entries {
		if e.Field.Name == name {
			return e, true
		}
	}
	return Entry{}, false
}

// Text is the own value of a key as text, "" where it is not set.
func (t *table) Text(name key.Name) string {
	e, _ := t.OwnValue(name)
	return e.Value.Text()
}

// File is a profile file without a mistake.
type File struct {
	Path     string
	Project  bool       // it is a project's gharbor.toml, not the user's own
	ForAlias bool       // it is a file of aliases, which holds no profiles
	Root     string     // of the repository that a project's file is in
	Profiles []*Profile // in the order of the file
	Aliases  []*Alias
	Clouds   []*Cloud
	Hosts    []HostEntry
	Settings Settings
	byName   map[string]*Profile
	aliases  map[string]*Alias
	data     []byte
	project  *File // the project's, attached to the user's
	schema   *schema.Schema
}

// Settings are those of the tool itself, from [settings] and [session] of the user's file.
type Settings struct {
	Wallet string // path of the wallet as written, "" for the usual place
	Reader string // path of a reader's pin file as written, "" for the usual place

	Session SessionSettings
}

// Parse reads a profile file's bytes. path is for messages. Every mistake is a
// *FileError, the first one in the order of the file.
func Parse(keys *schema.Schema, path string, data []byte) (*File, error) {
	return readInto(keys, &File{Path: path}, data)
}

// readInto reads data into a file whose path and kind are set.
func readInto(keys *schema.Schema, f *File, data []byte) (*File, error) {
	f.schema = keys
	f.byName, f.data = make(map[string]*Profile, len(data)/150), data // a short profile has 150 bytes
	if err := read(f.Path, data, &assembler{File: f, fields: make(map[string]*schema.Field)}); err != nil {
		return nil, err
	}
	if err := f.checkLikes(); err != nil {
		return nil, err
	}
	if err := f.checkHops(); err != nil {
		return nil, err
	}
	if err := f.checkPlaces(); err != nil {
		return nil, err
	}
	if err := f.checkAliases(); err != nil {
		return nil, err
	}
	if err := f.checkClouds(); err != nil {
		return nil, err
	}
	return f, nil
}

// Schema is the table of keys that the file was read by.
func (f *File) Schema() *schema.Schema { return f.schema }

// NewUnfiled makes a profile of values that are in no file, such as those of a connection URL.
func NewUnfiled(keys *schema.Schema, name string, sets []schema.Override) *Profile {
	p := &Profile{table: table{Name: name, kind: "profile"}}
	for _, set := range sets {
		p.Entries = append(p.Entries, Entry{Field: set.Field, Value: set.Value})
	}
	p.in = &File{byName: map[string]*Profile{name: p}, Profiles: []*Profile{p}, schema: keys}
	return p
}

// Lookup returns the profile of that name, or nil: the user's own, else the attached project's. With "project:"
// before the name, it is the project's.
func (f *File) Lookup(name string) *Profile { return f.find(name) }

// Names returns the names of all profiles, sorted.
func (f *File) Names() []string {
	names := make([]string, 0, len(f.Profiles))
	for _, p := range f.All() {
		names = append(names, f.FullName(p))
	}
	slices.Sort(names)
	return names
}

// assembler makes profiles of a document's tables and entries.
type assembler struct {
	*File
	fields  map[string]*schema.Field // by the key within an expect table
	current header                   // the table that is being read
	format  bool
}

func (a *assembler) fail(line int, what string, args ...any) error {
	return &FileError{a.Path, line, fmt.Sprintf(what, args...)}
}

// takeTable takes a header: [profile], [profile.NAME], [profile.NAME.expect] or
// [[profile.NAME.hop]].
func (a *assembler) takeTable(h header) error {
	a.current = h
	switch {
	case a.ForAlias && a.explainMisplaced(h.path[0]) != "":
		return a.fail(h.line, "%s", a.explainMisplaced(h.path[0]))
	case h.path[0] == "session" && (a.Project || a.ForAlias):
		return a.fail(h.line, "session goes in your profiles.toml")
	case h.path[0] == "session" && !h.array && len(h.path) < 3:
		return nil
	case h.path[0] == "settings" && a.Project:
		return a.fail(h.line, "settings go in your profiles.toml, not in a project's file")
	case h.path[0] == "settings" && len(h.path) == 1 && !h.array:
		return nil
	case a.explainMisplaced(h.path[0]) != "":
		return a.fail(h.line, "%s", a.explainMisplaced(h.path[0]))
	case h.path[0] == "hosts" || h.path[0] == "alias":
		return a.takeAliasTable(h)
	case h.path[0] == "cloud":
		return a.takeCloudTable(h)
	case len(h.path) == 3 && h.path[2] == "hop" && !h.array:
		return a.fail(h.line, "a hop is a table with double brackets: [[profile.%s.hop]]", nameKey(h.path[1]))
	case h.array && !(len(h.path) == 3 && h.path[2] == "hop"):
		return a.fail(h.line, "a profile is a table with single brackets: [profile.NAME]")
	case len(h.path) == 1:
		return nil
	}
	p, err := a.profile(h.path[1], h.line)
	if err != nil {
		return err
	}
	switch {
	case h.array:
		return a.newHop(p, h.line)
	case len(h.path) == 2, len(h.path) == 3 && (h.path[2] == "expect" || h.path[2] == "container"):
		return nil
	}
	return a.fail(h.line, "profile %q: %s", p.Name, a.schema.UnknownKey(strings.Join(h.path[2:], ".")))
}

// explainMisplaced says why a table does not belong in this kind of file, "" where it does.
func (a *assembler) explainMisplaced(word string) string {
	switch {
	case a.ForAlias && (word == "profile" || word == "settings" || word == "cloud"):
		return "profiles, cloud accounts and settings go in profiles.toml; this is a file of aliases"
	case !a.ForAlias && !a.Project && (word == "alias" || word == "hosts"):
		return "aliases and hosts go in aliases.toml, beside this file"
	case slices.Contains(tables, word):
		return ""
	}
	near := ""
	if n := nearest.Name(word, tables); n != "" {
		near = fmt.Sprintf("; did you mean %q?", n)
	}
	holds := "a profile is a table [profile.NAME]"
	if a.ForAlias {
		holds = "an alias is a table [alias.NAME]"
	}
	return fmt.Sprintf("unknown table %s%s; %s", clean.Quote(word), near, holds)
}

// tables are the words that a table's header may begin with.
var tables = []string{"profile", "settings", "session", "alias", "hosts", "cloud"}

func (a *assembler) profile(name string, line int) (*Profile, error) {
	if p := a.byName[name]; p != nil {
		return p, nil
	}
	if !syntax.ValidName(name) {
		return nil, a.fail(line, "%s is not a profile name: %s", clean.Quote(name), syntax.NameRule)
	}
	p := &Profile{table: table{Name: name, Line: line, kind: "profile", in: a.File}}
	a.byName[name] = p
	a.Profiles = append(a.Profiles, p)
	return p, nil
}

// takeEntry takes one key: format at the root, or a profile's.
func (a *assembler) takeEntry(e *entry) error {
	h := a.current
	// the usual form, [profile.NAME] key = value
	if len(h.path) == 2 && len(e.key) == 1 && e.inline < 0 && e.key[0] != "hop" && h.path[0] == "profile" {
		return a.set(a.byName[h.path[1]], e, e.key)
	}
	path := append(slices.Clone(h.path), e.key...)
	own := !a.ForAlias && (path[0] == "settings" || path[0] == "session")
	if why := a.explainMisplaced(path[0]); len(path) > 1 && !own && why != "" && !strings.HasPrefix(why, "unknown") {
		return a.fail(int(e.line), "%s", why)
	}
	switch {
	case path[0] == "hosts":
		return a.takeHost(e, path[1:])
	case path[0] == "alias" && len(path) > 1:
		return a.takeAliasEntry(e, path)
	case path[0] == "cloud" && len(path) > 1:
		return a.takeCloudEntry(e, path)
	}
	switch path[0] {
	case "settings":
		return a.setting(e, path[1:])
	case "session":
		return a.session(e, path[1:])
	}
	if len(path) == 1 {
		return a.root(e, path[0])
	}
	if path[0] != "profile" {
		return a.root(e, strings.Join(path, "."))
	}
	line := int(e.line)
	p, err := a.profile(path[1], line)
	if err != nil {
		return err
	}
	if h.array {
		return a.setHop(p, e, path[3:])
	}
	if len(path) == 2 {
		if e.problem == "an empty table" {
			return nil
		}
		return a.fail(line, "profile %q: expected a table of keys", p.Name)
	}
	if path[2] == "hop" {
		if len(path) > 3 {
			return a.fail(line, "profile %q: a hop is a table of its own: [[profile.%s.hop]]", p.Name, nameKey(p.Name))
		}
		return a.noHops(p, e)
	}
	if path[2] == "container" && len(path) > 3 {
		return a.takePlace(p, e, strings.Join(path[3:], "."))
	}
	return a.set(p, e, path[2:])
}

// setting takes a key of [settings].
func (a *assembler) setting(e *entry, k []string) error {
	if a.Project {
		return a.fail(int(e.line), "settings go in your profiles.toml, not in a project's file")
	}
	name := strings.Join(k, ".")
	into := map[string]*string{"wallet": &a.Settings.Wallet, "reader": &a.Settings.Reader}[name]
	switch {
	case name == "" && e.problem == "an empty table":
		return nil
	case into == nil && len(k) == 0:
		return a.fail(int(e.line), "settings is a table: [settings]")
	case into == nil:
		near := ""
		if n := nearest.Name(name, []string{"wallet", "reader"}); n != "" {
			near = fmt.Sprintf("; did you mean %q?", n)
		}
		return a.fail(int(e.line), "settings: unknown key %s%s", clean.Quote(name), near)
	case e.problem != "" || e.value.Kind != schema.Text || e.value.Raw == "" || syntax.HasControl(e.value.Raw):
		return a.fail(int(e.line), "settings: %s: expected a path", name)
	case *into != "":
		return a.fail(int(e.line), "settings: %s is set twice", name)
	}
	*into = e.value.Raw
	return nil
}

func (a *assembler) root(e *entry, k string) error {
	if k != "format" {
		near := ""
		if n := nearest.Name(k, []string{"format", "profile", "alias", "hosts", "cloud"}); n != "" {
			near = fmt.Sprintf("; did you mean %q?", n)
		}
		if a.schema.Field(key.Name(k)) != nil {
			near = "; a profile's keys go below its line [profile.NAME]"
		}
		return a.fail(int(e.line), "unknown key %s%s", clean.Quote(k), near)
	}
	if a.format {
		return a.fail(int(e.line), "format is here twice")
	}
	a.format = true
	if e.value.Kind != schema.Number || e.value.Raw != fmt.Sprint(Format) {
		return a.fail(int(e.line), "format: expected %d (a newer gharbor wrote this file, or the number is wrong)",
			Format)
	}
	return nil
}

// set gives a profile a key's value, after checking both.
func (a *assembler) set(p *Profile, e *entry, k []string) error {
	f := a.field(k)
	if f == nil {
		name := strings.Join(k, ".")
		if name == "expect" && e.problem == "an empty table" {
			return nil
		}
		return a.fail(int(e.line), "profile %q: %s", p.Name, a.schema.UnknownKey(name))
	}
	return a.assign(&p.table, f, e)
}

// assign gives a table the value of one of its keys.
func (a *assembler) assign(t *table, f *schema.Field, e *entry) error {
	if why := typeProblem(f, e); why != "" {
		return a.fail(int(e.line), "%s: %s: expected %s, found %s", t, f.Name, f.Expected, why)
	}
	if f.Kind == schema.Number && e.value.Kind == schema.Text || f.Kind == schema.NameOrLabels || f.Switchy {
		e.value.Kind = f.Kind
	}
	if why := f.Check(e.value); why != "" {
		return a.fail(int(e.line), "%s: %s: %s", t, f.Name, why)
	}
	return a.assignUnchecked(t, f, e)
}

// assignUnchecked is assign for a value that needs no check, or is checked when all of it was read.
func (a *assembler) assignUnchecked(t *table, f *schema.Field, e *entry) error {
	for _, own := range t.Entries {
		if own.Field == f {
			return a.fail(int(e.line), "%s: %s is set twice (first at line %d)", t, f.Name, own.Line)
		}
		if f.Address && own.Field.Address {
			return a.fail(int(e.line), "%s: two kinds of address, %s here and %s at line %d; keep one", t, f.Name,
				own.Field.Name, own.Line)
		}
	}
	if t.Entries == nil {
		t.Entries = make([]Entry, 0, 8)
	}
	t.Entries = append(t.Entries, Entry{Field: f, Value: e.value, Line: int(e.line)})
	return nil
}

func (a *assembler) field(k []string) *schema.Field {
	switch {
	case len(k) == 1 && !strings.Contains(k[0], "."):
		return a.schema.Field(key.Name(k[0]))
	case len(k) == 2 && k[0] == "expect":
		f := a.fields[k[1]]
		if f == nil {
			f = a.schema.Field(key.Name("expect." + k[1]))
			a.fields[k[1]] = f
		}
		return f
	}
	return nil
}

// typeProblem names a value's type where it is not the field's.
func typeProblem(f *schema.Field, e *entry) string {
	if e.problem != "" {
		return e.problem
	}
	if e.value.Kind == f.Kind {
		return ""
	}
	switch {
	case f.Kind == schema.Number && e.value.Kind == schema.Text && strings.Contains(e.value.Raw, "${"):
		return ""
	case f.Switchy && e.value.Kind == schema.Switch, f.Kind == schema.NameOrLabels && e.value.Kind == schema.Text:
		return ""
	}
	return map[schema.Kind]string{
		schema.Text:   "text",
		schema.Number: "a number",
		schema.List:   "a list",
		schema.Switch: "true or false",
	}[e.value.Kind]
}

// WholeSetting makes the path of a setting absolute.
func (f *File) WholeSetting(path, home string) string {
	return syntax.WholePath(path, filepath.Dir(f.Path), home)
}
