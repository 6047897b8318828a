package profile

import (
	"net/netip"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/hostname"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
)

// sameHosts reports whether two lists have the same hosts, in any order.
func sameHosts(a, b []HostEntry) bool {
	return len(a) == len(b) && !slices.ContainsFunc(a, func(h HostEntry) bool { return !slices.ContainsFunc(b, h.same) })
}

// SetHost writes the line of [hosts] that gives a host name its addresses; it replaces the one that is there.
func (f *File) SetHost(name string, addresses []netip.Addr) (*Edit, error) {
	want, err := wantedHost(name)
	if err != nil {
		return nil, err
	}
	if len(addresses) == 0 {
		return nil, refuse("a host needs an address")
	}
	var words []string
	for _, a := range addresses {
		want.Addresses = append(want.Addresses, a.Unmap())
		words = append(words, a.Unmap().String())
	}
	value := schema.ListValue(words...)
	e := f.edit()
	if at := slices.IndexFunc(e.wantHosts, func(h HostEntry) bool { return h.Name == want.Name }); at >= 0 {
		place, err := e.hostLine(want.Name)
		if err != nil {
			return nil, err
		}
		e.wantHosts[at] = want
		e.cuts = append(e.cuts, textEdit{int(place.valueAt), int(place.end), value.TOML()})
		return e, nil
	}
	e.wantHosts = append(e.wantHosts, want)
	table := slices.IndexFunc(e.doc.headers, func(h header) bool { return len(h.path) == 1 && h.path[0] == "hosts" })
	if table < 0 {
		e.appendTable("[hosts]\n\"" + want.Name + "\" = " + value.TOML() + "\n")
		return e, nil
	}
	e.insertInto(table, "\""+want.Name+"\"", value)
	return e, nil
}

// RemoveHost takes a host's line out of [hosts].
func (f *File) RemoveHost(name string) (*Edit, error) {
	want, err := wantedHost(name)
	if err != nil {
		return nil, err
	}
	e := f.edit()
	at := slices.IndexFunc(e.wantHosts, func(h HostEntry) bool { return h.Name == want.Name })
	if at < 0 {
		return nil, refuse("[hosts] has no line for %s", clean.Quote(want.Name))
	}
	place, err := e.hostLine(want.Name)
	if err != nil {
		return nil, err
	}
	e.wantHosts = slices.Delete(e.wantHosts, at, at+1)
	start, end := e.doc.lines(place.start, place.outerEnd)
	e.cuts = append(e.cuts, textEdit{start: start, end: end})
	return e, nil
}

// wantedHost is a host name in the form in which the file compares it.
func wantedHost(name string) (HostEntry, error) {
	name = strings.ToLower(strings.TrimSuffix(name, "."))
	if !syntax.ValidHost(name) {
		return HostEntry{}, refuse("expected a host name")
	}
	if _, err := netip.ParseAddr(name); err == nil || hostname.Local(name) {
		return HostEntry{}, refuse("%s is an address or this machine's own name, and is never looked up", clean.Quote(name))
	}
	return HostEntry{Name: name}, nil
}

// hostLine is where a host's line stands.
func (e *Edit) hostLine(name string) (*entry, error) {
	for i := range e.doc.entries {
		one := &e.doc.entries[i]
		path := append(slices.Clone(e.doc.headers[one.table].path), one.key...)
		if len(path) < 2 || path[0] != "hosts" ||
			strings.ToLower(strings.TrimSuffix(strings.Join(path[1:], "."), ".")) != name {
			continue
		}
		if one.inline >= 0 {
			return nil, refuse("hosts is an inline table (%s:%d); change it by hand", e.file.Path, one.line)
		}
		return one, nil
	}
	return nil, refuse("the line of %s was not found in %s; change it by hand", clean.Quote(name), e.file.Path)
}
