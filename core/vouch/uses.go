// Package vouch decides whether a profile or an alias of a project's file may be used. A
// cloned repository may hold a hostile one, so its profiles do nothing until the
// user has seen what each would use and said yes. What is recorded is those uses,
// with a hash of every file inside the repository that they name: a change of a
// note does not lapse it, a change of a use does. It stands between profile and
// route.
package vouch

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"gentleharbor/core/alias"
	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
	"gentleharbor/core/secret/optionfile"
)

// maxFile bounds a file that is hashed: certificates and scripts are far smaller.
const maxFile = 4 << 20

// Uses is what a project's profile would use, or where its alias leads.
type Uses struct {
	Profile string            // its name; of an alias "alias:NAME"
	Lines   []string          // for people, one use each, in a fixed order; part of the hash
	Files   map[string][]byte // the bytes of the files inside the repository, by absolute path
	Hash    string            // SHA-256 of the lines, hexadecimal; the same in every clone
	Trouble string            // why it can't be vouched for, "" where it can
}

// collector gathers lines.
type collector struct {
	p    *profile.Resolved // nil for an alias
	file *profile.File     // the project's
	home string            // the user's home folder
	Uses
}

// Of finds what a project's profile uses. Nothing is expanded, run or dialled;
// files inside the repository are read once, and hashed from what was read.
func Of(p *profile.Resolved) Uses {
	c := &collector{p: p, file: p.File(), home: p.Home(), Uses: Uses{Profile: p.Profile.Name, Files: make(map[string][]byte)}}
	c.value("engine", "engine")
	for _, key := range []string{"alias", "host", "hosts", "socket", "container", "endpoint", "port", "target", "service", "instance", "as"} {
		c.value(key, map[string]string{"hosts": "hosts", "target": "which host"}[key])
	}
	c.value("database", "database")
	c.value("user", "user")
	c.value("tls", "tls rule")
	if _, ok := p.Written("tls"); !ok {
		c.line("tls rule", "by default: verified, or offered where the address is one of this machine")
	}
	c.value("tls-name", "certificate name")
	for _, key := range []string{"tls-ca", "tls-cert", "tls-key", "server-key"} {
		if v, ok := p.Written(key); ok {
			c.named(key, v.Text())
		}
	}
	c.variables()
	c.secret()
	for _, h := range p.Hops() {
		c.hop(h)
	}
	if v, ok := p.Written("alias"); ok {
		c.aliases(v.Text())
	}
	c.hosts()
	c.Hash = sum(strings.Join(c.Lines, "\n"))
	return c.Uses
}

// AliasWord is what an alias of a project's file is called among what was vouched
// for, before its name.
const AliasWord = "alias:"

// OfAlias finds where an alias of a project's file leads, as far as that file says.
func OfAlias(a *profile.Alias, home string) Uses {
	c := &collector{file: a.File(), home: home, Uses: Uses{Profile: AliasWord + a.Name, Files: make(map[string][]byte)}}
	c.aliases(a.Name)
	c.hosts()
	c.Hash = sum(strings.Join(c.Lines, "\n"))
	return c.Uses
}

// Listed are uses that were found elsewhere, one a line.
func Listed(name string, lines []string) Uses {
	return Uses{Profile: name, Lines: lines, Hash: sum(strings.Join(lines, "\n"))}
}

// aliases gathers what the project's aliases behind a name say. One of the user's own
// would be used in their place: it is not the project's, and the same in no clone.
func (c *collector) aliases(word string) {
	for _, a := range alias.Within(c.file, word) {
		for _, e := range a.Entries {
			at := "alias " + a.Name + " " + e.Field.Name
			switch {
			case e.Field.Name == "note":
			case e.Field.Path:
				c.named(at, e.Value.Text())
			default:
				c.line(at, strings.Join(e.Value.List(), ", "))
			}
		}
	}
}

// hosts gathers the addresses that the project's file gives to names that are dialled;
// all of them, where a name is known only when it is.
func (c *collector) hosts() {
	dialled := alias.Dialled(c.file, c.p, strings.TrimPrefix(c.Profile, AliasWord))
	for _, h := range c.file.Hosts {
		if dialled(h.Name) {
			c.line("given host", h.Name+" is "+h.List())
		}
	}
}

// hop gathers what a jump host or proxy on the way would use.
func (c *collector) hop(h profile.EffectiveHop) {
	at := fmt.Sprintf("hop %d ", h.Number)
	_, proxy := h.Written("proxy")
	for _, f := range profile.HopFields() {
		e, ok := h.Written(f.Name)
		switch {
		case !ok && f.Name == "agent" && !proxy:
			c.line(at+"agent", "the keys of your SSH agent are offered")
		case !ok && f.Name == "key" && !proxy:
			c.line(at+"key", "the usual key files in ~/.ssh, or those of your SSH client configuration, are offered")
		case !ok:
		case f.Name == "key":
			c.named(at+"key", e.Value.Text())
		case f.Name == "secret" || f.Name == "key-secret":
			c.hopSecret(h, f.Name)
		default:
			c.line(at+f.Name, strings.Join(e.Value.List(), ", "))
			for _, name := range profile.Variables(e.Value.Text()) {
				if f.Expands {
					c.line("environment variable", name+", in "+h.Key(f.Name))
				}
			}
		}
	}
}

// hopSecret gathers where a hop's password or a key's passphrase is.
func (c *collector) hopSecret(h profile.EffectiveHop, key string) {
	at := fmt.Sprintf("hop %d %s", h.Number, key)
	e, _ := h.Written(key)
	kind, arg, _ := strings.Cut(e.Value.Text(), ":")
	switch kind {
	case "file":
		c.named(at, arg)
	case "command":
		c.words(at+" command", h.Command(key))
	default:
		c.line(at, e.Value.Text())
	}
}

// folder is where relative paths of the project's file begin.
func (c *collector) folder() string { return filepath.Dir(c.file.Path) }

func sum(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

func (c *collector) line(what, value string) {
	c.Lines = append(c.Lines, what+": "+clean.Quoted(value))
}

func (c *collector) value(key, what string) {
	if what == "" {
		what = key
	}
	if v, ok := c.p.Written(key); ok {
		c.line(what, strings.Join(v.List(), ", "))
	}
}

// variables lists the environment variables that the values would be filled from.
func (c *collector) variables() {
	for _, key := range []string{"host", "port", "database", "user", "socket"} {
		v, ok := c.p.Written(key)
		if !ok {
			continue
		}
		for _, name := range profile.Variables(v.Text()) {
			c.line("environment variable", name+", in "+key)
		}
	}
}

// secret lists where the password would come from.
func (c *collector) secret() {
	v, ok := c.p.Written("secret")
	_, command := c.p.Written("command")
	if !ok && !command {
		c.line("secret", "the engine's credential file, a wallet entry bound to this address, or your answer")
		return
	}
	kind, arg, _ := strings.Cut(v.Text(), ":")
	if !ok {
		kind = "command"
	}
	if group, of := strings.CutPrefix(v.Text(), "optionfile#"); of {
		kind, arg = "optionfile", "#"+group
	}
	switch {
	case kind == "command":
		c.command()
	case kind == "env":
		c.line("environment variable", arg+", as the password")
	case kind == "container":
		c.line("secret", "the variable "+arg+" of the container's environment")
	case arg == "" || kind == "wallet" || kind == "keyring":
		c.line("secret", v.Text())
	case kind == "optionfile":
		path, group, _ := strings.Cut(arg, "#")
		if group != "" {
			c.line("option group", group)
		}
		if path != "" {
			c.optionFiles(path)
		} else {
			c.line("secret", "optionfile")
		}
	default:
		c.named("secret "+kind, arg)
	}
}

// command lists the words, and the files of the repository that they name.
func (c *collector) command() {
	words := c.p.Command()
	if len(words) == 0 {
		c.line("secret", "command, and the profile names none")
		return
	}
	c.words("command", words)
}

// words gathers a command's program and words, and the files of the repository among
// them.
func (c *collector) words(what string, words []string) {
	if len(words) == 0 {
		return
	}
	shown := slices.Clone(words)
	shown[0] = c.relative(shown[0])
	c.line(what, strings.Join(shown, " "))
	program := words[0]
	if !strings.Contains(program, "/") {
		found, err := exec.LookPath(program)
		if err != nil && !errors.Is(err, exec.ErrDot) {
			return // not found: there is nothing to be changed
		}
		if program, err = filepath.Abs(found); err != nil {
			return
		}
	}
	if c.inside(program) {
		c.hash("program", program)
	}
	for _, word := range words[1:] {
		for _, path := range fileWords(word) {
			if !filepath.IsAbs(path) {
				path = filepath.Join(c.folder(), path)
			}
			if info, err := os.Stat(path); err == nil && c.inside(path) {
				if info.IsDir() {
					c.Trouble = fmt.Sprintf("the command is given a folder of the repository (%s), whose files can't all be vouched for; give it files", c.relative(path))
					continue
				}
				c.hash("file of the command", path)
			}
		}
	}
}

// fileWords are the parts of a command's word that may name a file: the word,
// and what stands behind its first equals sign.
func fileWords(word string) []string {
	parts := []string{word}
	if _, after, ok := strings.Cut(word, "="); ok && after != "" {
		parts = append(parts, after)
	}
	return parts
}

// whole makes a path that stands in the project's file absolute.
func (c *collector) whole(path string) string {
	if path == "~" || strings.HasPrefix(path, "~/") {
		return filepath.Join(c.home, strings.TrimPrefix(path, "~"))
	}
	if filepath.IsAbs(path) {
		return filepath.Clean(path)
	}
	return filepath.Join(c.folder(), path)
}

// inside reports whether a path is within the repository, by its name or by
// where links lead it.
func (c *collector) inside(path string) bool {
	under := func(path, root string) bool {
		rel, err := filepath.Rel(root, path)
		return err == nil && rel != ".." && !strings.HasPrefix(rel, "../")
	}
	if under(path, c.file.Root) {
		return true
	}
	real, err := filepath.EvalSymlinks(path)
	root, rootErr := filepath.EvalSymlinks(c.file.Root)
	return err == nil && rootErr == nil && under(real, root)
}

// relative is a path as it is in every clone: from the repository's root where it
// is inside.
func (c *collector) relative(path string) string {
	if rel, err := filepath.Rel(c.file.Root, path); err == nil && filepath.IsAbs(path) && rel != ".." && !strings.HasPrefix(rel, "../") {
		return "./" + rel
	}
	return path
}

// named is a file that a key names: hashed where it is the repository's.
func (c *collector) named(what, written string) {
	path := c.whole(written)
	if c.inside(path) {
		c.hash(what, path)
		return
	}
	c.line(what, written)
}

// hash notes a file of the repository with the hash of its bytes.
func (c *collector) hash(what, path string) {
	data, err := atomicfile.Read(path, maxFile)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		c.line(what, c.relative(path)+" (not there)")
		return
	case err != nil:
		c.Trouble = fmt.Sprintf("%s cannot be read: %s", c.relative(path), atomicfile.Plain(err))
		c.line(what, c.relative(path)+" (cannot be read)")
		return
	}
	c.Files[path] = data
	c.line(what, c.relative(path)+" sha256:"+sum(string(data)))
}

// optionFiles notes an option file and all that it includes.
func (c *collector) optionFiles(written string) {
	path := c.whole(written)
	if !c.inside(path) {
		c.line("option file", written)
		return
	}
	_, err := optionfile.ReadWith(path, func(path string) ([]byte, error) {
		data, err := atomicfile.Read(path, maxFile)
		if err == nil && c.inside(path) {
			c.hash("option file", path)
			data = c.Files[path]
		} else if err == nil {
			c.line("option file", path)
		}
		return data, err
	})
	switch {
	case errors.Is(err, fs.ErrNotExist):
		c.line("option file", c.relative(path)+" (not there)")
	case err != nil:
		c.Trouble = fmt.Sprintf("the option file %s cannot be read: %s", c.relative(path), atomicfile.Plain(err))
		c.line("option file", c.relative(path)+" (cannot be read)")
	}
}
