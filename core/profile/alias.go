package profile

import (
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/hostname"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
)

// Alias is one name for where a service lives, as its file has it: a table
// [alias.NAME] of aliases.toml or of a project's gharbor.toml.
type Alias struct {
	table
}

// MaxAliases bounds a chain of aliases: a longer one is a mistake.
const MaxAliases = 16

// serviceOnly are the keys that a service file can give beyond those of
// an alias of ours.
var serviceOnly = []key.Name{key.User, key.Socket, key.Target}

// HostEntry is a host name with the addresses that a file gives it, in [hosts].
type HostEntry struct {
	Name      string // in small letters
	Addresses []netip.Addr
	File      string
	Line      int
}

// List is the addresses in one line.
func (h HostEntry) List() string {
	texts := make([]string, len(h.Addresses))
	for i, a := range h.Addresses {
		texts[i] = a.String()
	}
	return strings.Join(texts, ", ")
}

// At is where it stands: "aliases.toml:2".
func (h HostEntry) At() string { return fmt.Sprintf("%s:%d", filepath.Base(h.File), h.Line) }

func (h HostEntry) same(o HostEntry) bool {
	return h.Name == o.Name && slices.Equal(h.Addresses, o.Addresses)
}

// takeAliasTable takes the header [alias], [alias.NAME] or [hosts].
func (a *assembler) takeAliasTable(h header) error {
	word := h.path[0]
	switch {
	case h.array && word == "alias":
		return a.fail(h.line, "an alias is a table with single brackets: [alias.NAME]")
	case word == "hosts" && (h.array || len(h.path) > 1):
		return a.fail(h.line, `hosts is one table, [hosts], of lines "NAME" = ["ADDRESS", …]`)
	case len(h.path) == 1:
		return nil
	case len(h.path) > 2:
		return a.fail(h.line, "alias %q: %s", h.path[1], a.schema.UnknownAliasKey(strings.Join(h.path[2:], ".")))
	}
	_, err := a.alias(h.path[1], h.line)
	return err
}

func (a *assembler) alias(name string, line int) (*Alias, error) {
	if one := a.aliases[name]; one != nil {
		return one, nil
	}
	if !syntax.ValidName(name) {
		return nil, a.fail(line, "%s is not an alias name: %s", clean.Quote(name), syntax.NameRule)
	}
	one := &Alias{table: table{Name: name, Line: line, kind: "alias", in: a.File}}
	if a.aliases == nil {
		a.aliases = make(map[string]*Alias)
	}
	a.aliases[name] = one
	a.Aliases = append(a.Aliases, one)
	return one, nil
}

// takeAliasEntry takes a key of an alias; path begins with "alias" and its name.
func (a *assembler) takeAliasEntry(e *entry, path []string) error {
	line := int(e.line)
	one, err := a.alias(path[1], line)
	if err != nil {
		return err
	}
	if len(path) == 2 {
		if e.problem == "an empty table" {
			return nil
		}
		return a.fail(line, "alias %q: expected a table of keys", one.Name)
	}
	name := strings.Join(path[2:], ".")
	f := a.schema.AliasField(key.Name(name))
	if f == nil {
		return a.fail(line, "alias %q: %s", one.Name, a.schema.UnknownAliasKey(name))
	}
	return a.assign(&one.table, f, e)
}

// takeHost takes a line of [hosts].
func (a *assembler) takeHost(e *entry, k []string) error {
	line, name := int(e.line), strings.ToLower(strings.TrimSuffix(strings.Join(k, "."), "."))
	switch {
	case len(k) == 0 && e.problem == "an empty table":
		return nil
	case len(k) == 0:
		return a.fail(line, `hosts is a table, [hosts], of lines "NAME" = ["ADDRESS", …]`)
	case !syntax.ValidHost(name):
		return a.fail(line, "hosts: %s is not a host name", clean.Quote(name))
	case e.problem != "" || e.value.Kind != schema.Text && e.value.Kind != schema.List || len(e.value.List()) == 0:
		return a.fail(line, `hosts: %s: expected addresses such as ["192.0.2.10"]`, clean.Quote(name))
	}
	if _, err := netip.ParseAddr(name); err == nil || hostname.Local(name) {
		return a.fail(line, "hosts: %s is an address or this machine's own name, and is never looked up",
			clean.Quote(name))
	}
	for _, h := range a.Hosts {
		if h.Name == name {
			return a.fail(line, "hosts: %s is given twice (first at line %d)", clean.Quote(name), h.Line)
		}
	}
	h := HostEntry{Name: name, File: a.Path, Line: line}
	for _, text := range e.value.List() {
		addr, err := netip.ParseAddr(text)
		if err != nil || addr.Zone() != "" {
			return a.fail(line, "hosts: %s: expected IP addresses, without a port", clean.Quote(name))
		}
		h.Addresses = append(h.Addresses, addr.Unmap())
	}
	a.Hosts = append(a.Hosts, h)
	return nil
}

// checkAliases refuses an alias that says too little or contradicts itself. An alias of another file that it names is
// looked for only when it is used.
func (f *File) checkAliases() error {
	for _, one := range f.Aliases {
		if why := one.problem(f.schema); why != "" {
			return &FileError{f.Path, one.Line, fmt.Sprintf("alias %q: %s", one.Name, why)}
		}
	}
	return nil
}

// problem says what is wrong with an alias as a whole, or "".
func (a *Alias) problem(keys *schema.Schema) string {
	where := ""
	for _, k := range []key.Name{"addresses", "srv", "alias"} {
		if _, ok := a.OwnValue(k); ok {
			where = string(k)
		}
	}
	_, pick := a.OwnValue(key.Pick)
	engine := a.Text(key.Engine)
	spec := keys.Engines().ByWord(engine)
	switch {
	case where == "":
		return "it needs addresses, srv or alias"
	case pick && where == "srv":
		return "pick has no effect with srv: the records have their own order"
	case spec != nil && spec.Listener == nil && (a.Text(key.Service) != "" || a.Text(key.Instance) != ""):
		return "service and instance are what a listener of " + strings.Join(keys.Engines().WithKey("service"), " or ") +
			" knows; for " + engine + " it is database"
	case a.Text(key.Service) != "" && a.Text(key.Instance) != "":
		return "service and instance exclude each other; keep one"
	}
	if addresses, ok := a.OwnValue(key.Addresses); ok && engine == "" {
		return "" // the profile's engine says the port
	} else if ok && keys.Engines().Port(engine) == 0 {
		for _, item := range addresses.Value.List() {
			if _, port := hostname.SplitPort(item); port == "" {
				return "an address has no port"
			}
		}
	}
	return ""
}

// NewServiceAlias makes an alias of what a section of an engine's service file says. Its name begins with
// "service:".
func NewServiceAlias(keys *schema.Schema, name, path string, line int, sets []schema.Override) *Alias {
	a := &Alias{table: table{Name: name, Line: line, kind: "alias", in: &File{Path: path, schema: keys}}}
	port := ""
	for _, set := range sets {
		if set.Field.Name == "port" {
			port = set.Value.Text()
		}
	}
	add := func(name string, v schema.Value) {
		f := keys.AliasField(key.Name(name))
		if f == nil {
			f = keys.Field(key.Name(name))
		}
		a.Entries = append(a.Entries, Entry{Field: f, Value: v, Line: line})
	}
	for _, set := range sets {
		switch name := set.Field.Name; {
		case name == "host" || name == "hosts":
			var list []string
			for _, host := range set.Value.List() {
				list = append(list, withPort(host, port))
			}
			add("addresses", schema.ListValue(list...))
		case name == "port":
		case keys.AliasField(name) != nil || slices.Contains(serviceOnly, name):
			add(string(name), set.Value)
		}
	}
	if port != "" && a.Text(key.Socket) != "" {
		add("port", schema.Value{Kind: schema.Number, Raw: port})
	}
	return a
}

// withPort adds a port to an address that has none.
func withPort(item, port string) string {
	host, own := hostname.SplitPort(item)
	if own != "" || port == "" {
		return item
	}
	if strings.Contains(host, ":") {
		host = "[" + host + "]"
	}
	return host + ":" + port
}

// Path is the path of that file.
func (a *Alias) Path() string { return a.in.Path }

// FullName is the alias' name as the user's own file writes it: with "project:" before it where it stands in a
// project's file.
func (a *Alias) FullName() string {
	if a.InProject() {
		return syntax.ProjectPrefix + a.Name
	}
	return a.Name
}

// Root is the repository that a project's alias belongs to, "" for the user's.
func (a *Alias) Root() string { return a.in.Root }

// AliasNamed is the file's own alias of that name, or nil.
func (f *File) AliasNamed(name string) *Alias {
	if f == nil {
		return nil
	}
	return f.aliases[name]
}

// HostEntry is the line of the file's [hosts] for a host name.
func (f *File) HostEntry(host string) (HostEntry, bool) {
	if f == nil || len(f.Hosts) == 0 {
		return HostEntry{}, false
	}
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	for _, h := range f.Hosts {
		if h.Name == host {
			return h, true
		}
	}
	return HostEntry{}, false
}
