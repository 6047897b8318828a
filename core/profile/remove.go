package profile

import (
	"bytes"
	"slices"

	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
)

// Remove takes a profile out of the file, with the comment directly above it.
func (f *File) Remove(name string) (*Edit, error) {
	p := f.byName[name]
	if p == nil {
		return nil, f.Missing(name)
	}
	for _, other := range f.Profiles {
		if like, ok := other.OwnValue(key.Like); ok && like.Value.Text() == name && other != p {
			return nil, refuse("profile %q is like it (%s:%d); remove that first, or: gharbor set %s like=", other.Name,
				f.Path, like.Line, other.Name)
		}
	}
	e := f.edit()
	e.want = slices.DeleteFunc(e.want, func(q *Profile) bool { return q == p })
	e.cutOut(&p.table)
	return e, nil
}

// cutOut takes a table out, with all that belongs to it.
func (e *Edit) cutOut(t *table) {
	d := e.doc
	for i, h := range d.headers {
		if i == 0 || len(h.path) < 2 || h.path[0] != t.kind || h.path[1] != t.Name {
			continue
		}
		e.cutTable(i)
	}
	for i := range d.entries {
		own := &d.entries[i]
		if kind, name, _ := d.owner(own); kind != t.kind || name != t.Name || len(d.headers[own.table].path) > 1 {
			continue
		}
		start, end := d.lines(own.start, own.outerEnd)
		if own.inline >= 0 {
			start, end = d.lines(own.inline, own.outerEnd)
		}
		e.cuts = append(e.cuts, textEdit{start: start, end: end})
	}
}

// commentAbove widens a table's start to the comment lines directly above it. Those at the head of the file stay:
// they are about the whole file.
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
	e.renameTable(&p.table, to)
	e.rename("profile", "like", from, to)
	return e, nil
}

// renameTable gives a table another name wherever the file writes it.
func (e *Edit) renameTable(t *table, to string) {
	for _, h := range e.doc.headers {
		if len(h.path) >= 2 && h.path[0] == t.kind && h.path[1] == t.Name {
			e.cuts = append(e.cuts, textEdit{int(h.name.start), int(h.name.end), nameKey(to)})
		}
	}
	seen := make(map[int32]bool)
	for i := range e.doc.entries {
		own := &e.doc.entries[i]
		kind, name, _ := e.doc.owner(own)
		if kind == t.kind && name == t.Name && own.name.end > 0 && !seen[own.name.start] {
			seen[own.name.start] = true
			e.cuts = append(e.cuts, textEdit{int(own.name.start), int(own.name.end), nameKey(to)})
		}
	}
}

// rename changes from to to in each table of a kind whose key names it.
func (e *Edit) rename(kind, k, from, to string) {
	for i := range e.doc.entries {
		own := &e.doc.entries[i]
		if of, _, field := e.doc.owner(own); of == kind && field == k && own.value.Raw == from {
			e.cuts = append(e.cuts, textEdit{int(own.valueAt), int(own.end), syntax.Quote(to)})
		}
	}
	renamed := func(t *table) {
		for i := range t.Entries {
			if string(t.Entries[i].Field.Name) == k {
				t.Entries[i].Value = schema.TextValue(to)
			}
		}
	}
	for i, other := range e.want {
		if kind == "profile" && other.Text(key.Name(k)) == from {
			changed := other.clone()
			renamed(&changed.table)
			e.want[i] = changed
		}
	}
	for i, other := range e.wantAliases {
		if kind == "alias" && other.Text(key.Name(k)) == from {
			changed := &Alias{table: other.copy()}
			renamed(&changed.table)
			e.wantAliases[i] = changed
		}
	}
}
