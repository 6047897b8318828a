// Package vouch decides whether a profile or an alias of a project's file may be used. A cloned repository may have a
// hostile one, so its profiles do nothing until the user has seen what each would use, and agreed. The record has
// those uses, and a hash of each file inside the repository that they name: after a change of a note it is still
// valid, after a change of a use it is not. It stands between profile and route. Start with FindUses and Use.
//
// Each key of a profile, a hop and an alias is a use, unless its entry in the table of keys says otherwise. The hash
// is made of the raw values, never of the shown text.
package vouch

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"gentleharbor/core/alias"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/cloudref"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
)

// Uses are what a project's profile would use, or where its alias leads.
type Uses struct {
	Profile string            // its name; of an alias "alias:NAME"
	List    []Use             // in a fixed order
	Files   map[string][]byte // the bytes of the files inside the repository, by the absolute path that names them
	Hash    string            // SHA-256 of the uses, hexadecimal; the same in every clone
	Trouble string            // why it can't be vouched for, "" where it can
}

// collector gathers uses.
type collector struct {
	p       *resolve.Profile // nil for an alias
	file    *profile.File    // the project's
	home    string           // the user's home folder
	repo    Repository
	list    []Use
	files   map[string][]byte
	trouble string // the first
}

func newCollector(p *resolve.Profile, file *profile.File, home string) *collector {
	c := &collector{p: p, file: file, home: home, repo: NewRepository(file.Root), files: make(map[string][]byte)}
	if _, _, trouble := c.repo.Look(file.Path); trouble != "" {
		c.trouble = trouble
	}
	return c
}

// FindUses finds what a project's profile uses. It expands, runs and dials nothing. It reads files inside the
// repository once, and hashes what it read.
func FindUses(p *resolve.Profile) Uses {
	c := newCollector(p, p.File(), p.Home())
	for _, f := range p.Schema().Fields() {
		if f.NotUse {
			continue
		}
		v, ok := p.WrittenValue(f.Name)
		if ok {
			c.value(f, string(f.Name), string(f.Name), v.Words(), p.Command)
		} else {
			c.unset(key.Name(string(f.Name)))
		}
	}
	for _, h := range p.Hops() {
		c.hop(h)
	}
	if v, ok := p.WrittenValue(key.Alias); ok {
		c.aliases(v.Text())
	}
	if v, ok := p.WrittenValue(key.Cloud); ok {
		ref, _ := cloudref.Parse(v.Text())
		c.cloud(c.file.CloudNamed(strings.TrimPrefix(ref.Account, syntax.ProjectPrefix)))
	}
	c.hosts(p.Profile.Name)
	return c.uses(p.Profile.Name)
}

// AliasWord stands before an alias's name in a record.
const AliasWord = "alias:"

// aliasUses finds where an alias of a project's file leads, by that file.
func aliasUses(a *profile.Alias, home string) Uses {
	c := newCollector(nil, a.File(), home)
	c.aliases(a.Name)
	c.hosts(a.Name)
	return c.uses(AliasWord + a.Name)
}

// CloudWord stands before a cloud account's name in a record.
const CloudWord = "cloud:"

// cloudUses finds what a cloud account of a project's file uses.
func cloudUses(one *profile.Cloud, home string) Uses {
	c := newCollector(nil, one.File(), home)
	c.cloud(one)
	c.hosts("")
	return c.uses(CloudWord + one.Name)
}

// cloud gathers what a cloud account says.
func (c *collector) cloud(one *profile.Cloud) {
	if one == nil {
		return
	}
	for _, e := range one.Entries {
		if !e.Field.NotUse {
			called := "cloud " + one.Name + " " + string(e.Field.Name)
			c.value(*e.Field, called, called, e.Value.Words(), func() []string { return c.commandOf(e) })
		}
	}
}

// commandOf is a command with an absolute path of its program.
func (c *collector) commandOf(e profile.Entry) []string {
	words := slices.Clone(e.Value.List())
	if e.Field.Source {
		_, arg, _ := strings.Cut(e.Value.Text(), ":")
		words = strings.Fields(arg)
	}
	if len(words) > 0 && strings.Contains(words[0], "/") {
		words[0] = c.absolute(words[0])
	}
	return words
}

func (c *collector) uses(name string) Uses {
	u := New(name, c.list)
	u.Files = c.files
	if c.trouble != "" {
		u.Trouble = c.trouble
	}
	return u
}

// add notes a use.
func (c *collector) add(key string, words ...string) {
	c.list = append(c.list, Use{Key: key, Words: words})
}

// means notes what holds for a key that nothing sets.
func (c *collector) means(key, what string) {
	c.list = append(c.list, Use{Key: key + " (not set)", Means: what})
}

// value notes a key's value, and the files that it names. called is the key with what it belongs to, for people; full
// is the key as set takes it. command are the words where the value is a command, with an absolute path of the
// program.
func (c *collector) value(f schema.Field, called, full string, words []string, command func() []string) {
	text := strings.Join(words, ",")
	kind, arg, _ := strings.Cut(text, ":")
	switch {
	case f.Path && !f.Address:
		c.noteFile(called, text, text)
	case f.Source && text == "command": // the key command has the words
		c.add(called, words...)
	case f.Name == "command" || f.Source && kind == "command":
		c.add(called, words...)
		c.command(called, command())
	case f.Source && arg != "" && (kind == "file" || c.includesNone(kind)):
		c.noteFile(called, text, arg)
	case f.Source && c.credentialFile(kind) != nil:
		c.add(called, text)
		if path, _, _ := strings.Cut(arg, "#"); path != "" {
			c.credentialFiles(called, c.credentialFile(kind), path)
		}
	case f.Source && kind == "env":
		c.add(called, text)
		c.add("variable in "+full, arg)
	default:
		c.add(called, words...)
	}
	for _, word := range words {
		for _, name := range syntax.Variables(word) {
			if f.Expands {
				c.add("variable in "+full, name)
			}
		}
	}
}

// unset notes what holds for a key that nothing sets, where that is a use by itself.
func (c *collector) unset(k key.Name) {
	_, command := c.p.WrittenValue(key.Command)
	switch {
	case k == "tls":
		c.means("tls", "verified, or offered where the address is one of this machine")
	case k == "secret" && !command:
		c.means("secret", "the engine's credential file, a wallet entry bound to this address, or your answer")
	}
}

// aliases notes what the project's aliases behind a name say. An alias of the user's own, which would be used in
// their place, is no part of the project.
func (c *collector) aliases(word string) {
	for _, a := range alias.Within(c.file, word) {
		for _, e := range a.Entries {
			if !e.Field.NotUse {
				called := "alias " + string(a.Name+string(" "+e.Field.Name))
				c.value(*e.Field, called, called, e.Value.Words(), nil)
			}
		}
	}
}

// hosts notes the addresses that the project's file gives to names that are dialled; all of them, where a name is
// known only at the dial.
func (c *collector) hosts(name string) {
	dialled := alias.DialsHost(c.file, c.p, name)
	for _, h := range c.file.Hosts {
		if dialled(h.Name) {
			words := make([]string, len(h.Addresses))
			for i, a := range h.Addresses {
				words[i] = a.String()
			}
			c.add("hosts "+h.Name, words...)
		}
	}
}

// hop notes what a jump host or proxy on the way would use.
func (c *collector) hop(h resolve.Hop) {
	at := fmt.Sprintf("hop %d ", h.Number)
	_, proxy := h.WrittenValue(key.Proxy)
	for _, f := range schema.HopFields() {
		e, ok := h.WrittenValue(f.Name)
		switch {
		case f.NotUse:
		case ok:
			c.value(f, at+string(f.Name), h.Key(f.Name), e.Value.Words(), func() []string { return h.Command(f.Name) })
		case f.Name == "agent" && !proxy:
			c.means(at+"agent", "the keys of your SSH agent are offered")
		case f.Name == "key" && !proxy:
			c.means(at+"key", "the usual key files in ~/.ssh, or those of your SSH client configuration, are offered")
		}
	}
}

// folder is the folder for relative paths of the project's file.
func (c *collector) folder() string { return filepath.Dir(c.file.Path) }

// absolute makes a path of the project's file absolute. Without a home folder no file is under "~".
func (c *collector) absolute(path string) string {
	if path == "~" || strings.HasPrefix(path, "~/") {
		return filepath.Join(c.home, strings.TrimPrefix(path, "~"))
	}
	if filepath.IsAbs(path) {
		return filepath.Clean(path)
	}
	return filepath.Join(c.folder(), path)
}

// noteFile notes a file that a value names.
func (c *collector) noteFile(key, value, path string) {
	c.look(key, []string{value}, c.absolute(path))
}

// look notes a file, with its hash where it is the repository's.
func (c *collector) look(key string, words []string, path string) []byte {
	file, data, trouble := c.repo.Look(path)
	if trouble != "" && c.trouble == "" {
		c.trouble = trouble
	}
	if file.State == Hashed && trouble == "" {
		c.files[path] = data
	}
	use := Use{Key: key, Words: words, File: file}
	if !slices.ContainsFunc(c.list, use.equal) {
		c.list = append(c.list, use)
	}
	return data
}

// equal reports whether two uses are the same for the hash.
func (u Use) equal(o Use) bool { return string(encode([]Use{u})) == string(encode([]Use{o})) }
