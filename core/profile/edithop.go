package profile

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/profile/schema"
)

// hopTable is the header of a profile's hop, -1 where it is not written as a
// table of its own.
func (d *document) hopTable(name string, number int) int {
	for i, h := range d.headers {
		if h.array && len(h.path) == 3 && h.path[1] == name {
			if number--; number == 0 {
				return i
			}
		}
	}
	return -1
}

// setHop notes what one hop.N.key=value changes in the text and in the profile.
func (e *Edit) setHop(want *Profile, s schema.Override) error {
	if s.Hop > len(want.Hops) {
		return want.noSuchHop(s.Hop)
	}
	h, table := want.Hops[s.Hop-1], e.doc.hopTable(want.Name, s.Hop)
	at := slices.IndexFunc(h.Entries, func(own Entry) bool { return own.Field == s.Field })
	switch {
	case at < 0 && s.Unset:
		return nil
	case at < 0:
		h.Entries = append(h.Entries, Entry{Field: s.Field, Value: s.Value})
		e.insertInto(table, string(s.Field.Name), s.Value)
	default:
		place := e.doc.entryIn(table, string(s.Field.Name))
		if s.Unset {
			h.Entries = slices.Delete(h.Entries, at, at+1)
			start, end := e.doc.lines(place.start, place.outerEnd)
			e.cuts = append(e.cuts, textEdit{start: start, end: end})
			break
		}
		h.Entries[at].Value = s.Value
		e.cuts = append(e.cuts, textEdit{int(place.valueAt), int(place.end), s.Value.TOML()})
	}
	return nil
}

func (d *document) entryIn(table int, key string) *entry {
	for i := range d.entries {
		if own := &d.entries[i]; int(own.table) == table && strings.Join(own.key, ".") == key {
			return own
		}
	}
	return nil
}

func (p *Profile) noSuchHop(number int) error {
	switch len(p.Hops) {
	case 0:
		return refuse("profile %q has no hop of its own; to add one: gharbor hop add %s host=HOST", p.Name, p.Name)
	case 1:
		return refuse("profile %q has one hop, and no hop %d", p.Name, number)
	}
	return refuse("profile %q has %d hops, and no hop %d", p.Name, len(p.Hops), number)
}

// AddHop appends a hop to a profile, as the last before the server.
func (f *File) AddHop(name string, sets []schema.Override) (*Edit, error) {
	p := f.byName[name]
	if p == nil {
		return nil, f.Missing(name)
	}
	if p.direct > 0 {
		return nil, refuse("profile %q says hop = [] (%s:%d); remove that line first", name, f.Path, p.direct)
	}
	h := &Hop{}
	for _, s := range sets {
		h.Entries = append(h.Entries, Entry{Field: s.Field, Value: s.Value})
	}
	if why := h.problem(); why != "" {
		return nil, refuse("%s", why)
	}
	e := f.edit()
	want := p.clone()
	want.Hops = append(want.Hops, h)
	e.want[slices.Index(e.want, p)] = want
	behind := e.doc.hopTable(name, len(p.Hops))
	for _, path := range [][]string{{"profile", name}, {"profile", name, "expect"}} {
		if behind < 0 {
			behind = e.doc.tableAt(path...)
		}
	}
	if behind < 0 {
		return nil, refuse("profile %q has no table of its own (%s:%d); add the hop by hand", name, f.Path, p.Line)
	}
	e.insertTable(behind, "[[profile."+nameKey(name)+".hop]]", h.sortedEntries())
	return e, nil
}

// insertTable adds a table behind another one.
func (e *Edit) insertTable(behind int, header string, entries []Entry) {
	d := e.doc
	first, end := d.headers[behind].emptyRange()
	if last := d.lastOf(behind); last != nil {
		first, end = last.start, last.outerEnd
	}
	_, at := d.lines(first, end)
	var b strings.Builder
	if at > 0 && d.data[at-1] != '\n' {
		b.WriteByte('\n')
	}
	fmt.Fprintf(&b, "\n%s\n", header)
	for _, own := range entries {
		fmt.Fprintf(&b, "%s = %s\n", own.Field.Name, own.Value.TOML())
	}
	if rest := d.data[at:]; len(bytes.TrimSpace(rest)) > 0 && !bytes.HasPrefix(rest, []byte("\n")) &&
		!bytes.HasPrefix(rest, []byte("\r\n")) {
		b.WriteByte('\n')
	}
	e.insert(at, b.String())
}

// RemoveHop takes a hop out of a profile.
func (f *File) RemoveHop(name string, number int) (*Edit, error) {
	p := f.byName[name]
	switch {
	case p == nil:
		return nil, f.Missing(name)
	case number < 1 || number > len(p.Hops):
		return nil, p.noSuchHop(number)
	}
	e := f.edit()
	want := p.clone()
	want.Hops = slices.Delete(want.Hops, number-1, number)
	e.want[slices.Index(e.want, p)] = want
	e.cutTable(e.doc.hopTable(name, number))
	return e, nil
}

// cutTable takes a table out, with the comment directly above it.
func (e *Edit) cutTable(table int) {
	d := e.doc
	first, last := d.headers[table].emptyRange()
	if own := d.lastOf(table); own != nil {
		last = own.outerEnd
	}
	start, end := d.lines(first, last)
	e.cuts = append(e.cuts, textEdit{start: d.commentAbove(start), end: d.blankBelow(end)})
}
