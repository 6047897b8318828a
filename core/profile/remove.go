package profile

import (
	"bytes"
	"slices"
)

// Remove takes a profile out of the file, with the comment directly above it.
func (f *File) Remove(name string) (*Edit, error) {
	p := f.byName[name]
	if p == nil {
		return nil, f.Missing(name)
	}
	for _, other := range f.Profiles {
		if like, ok := other.Own("like"); ok && like.Value.Text() == name && other != p {
			return nil, refuse("profile %q is like it (%s:%d); remove that first, or: gharbor set %s like=", other.Name, f.Path, like.Line, other.Name)
		}
	}
	e := f.edit()
	d := e.doc
	e.want = slices.DeleteFunc(e.want, func(q *Profile) bool { return q == p })
	for i, h := range d.headers {
		if i == 0 || len(h.path) < 2 || h.path[1] != name {
			continue
		}
		e.cutTable(i)
	}
	for i := range d.entries {
		own := &d.entries[i]
		if who, _ := d.owner(own); who != name || len(d.headers[own.table].path) > 1 {
			continue
		}
		start, end := d.lines(own.start, own.outerEnd)
		if own.inline >= 0 {
			start, end = d.lines(own.inline, own.outerEnd)
		}
		e.cuts = append(e.cuts, cut{start: start, end: end})
	}
	return e, nil
}

// commentAbove widens a table's start to the comment lines directly above it,
// but for those at the head of the file, which speak of the whole.
func (d *document) commentAbove(start int) int {
	at := start
	for at > 0 {
		line := bytes.LastIndexByte(d.data[:at-1], '\n') + 1
		if !bytes.HasPrefix(bytes.TrimLeft(d.data[line:at], " \t"), []byte("#")) {
			return at
		}
		at = line
	}
	return start
}

// blankBelow widens a table's end over the blank lines behind it.
func (d *document) blankBelow(end int) int {
	for end < len(d.data) {
		i := bytes.IndexByte(d.data[end:], '\n')
		if i < 0 || len(bytes.TrimSpace(d.data[end:end+i])) > 0 {
			return end
		}
		end += i + 1
	}
	return end
}

// Rename gives a profile another name, also where others are like it.
func (f *File) Rename(from, to string) (*Edit, error) {
	p := f.byName[from]
	if p == nil {
		return nil, f.Missing(from)
	}
	if err := f.free(to); err != nil {
		return nil, err
	}
	e := f.edit()
	renamed := p.clone()
	renamed.Name = to
	e.want[slices.Index(e.want, p)] = renamed
	for _, h := range e.doc.headers {
		if len(h.path) >= 2 && h.path[1] == from {
			e.cuts = append(e.cuts, cut{int(h.name.start), int(h.name.end), nameKey(to)})
		}
	}
	seen := make(map[int32]bool)
	for i := range e.doc.entries {
		own := &e.doc.entries[i]
		who, field := e.doc.owner(own)
		if who == from && own.name.end > 0 && !seen[own.name.start] {
			seen[own.name.start] = true
			e.cuts = append(e.cuts, cut{int(own.name.start), int(own.name.end), nameKey(to)})
		}
		if field == "like" && own.value.text == from {
			e.cuts = append(e.cuts, cut{int(own.valueAt), int(own.end), quote(to)})
		}
	}
	for i, other := range e.want {
		if other.Text("like") != from {
			continue
		}
		changed := other.clone()
		for j := range changed.Entries {
			if changed.Entries[j].Field.Name == "like" {
				changed.Entries[j].Value = TextValue(to)
			}
		}
		e.want[i] = changed
	}
	return e, nil
}
