package profile

import (
	"bytes"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
)

// RequestError says why an edit can't be made. The file has not changed.
type RequestError struct{ What string }

func (e *RequestError) Error() string { return e.What }

func refuse(what string, args ...any) error { return &RequestError{fmt.Sprintf(what, args...)} }

// Edit is a change of a file's text, and what the new text must mean.
type Edit struct {
	file *File
	doc  *document  // the file's text, taken apart
	want []*Profile // every profile that the new text must have, with its values
	cuts []textEdit

	wantAliases []*Alias
	wantHosts   []HostEntry
	wantClouds  []*Cloud
}

// textEdit replaces the bytes from start to end.
type textEdit struct {
	start, end int
	text       string
}

func (f *File) edit() *Edit {
	doc, err := parseDocument(f.Path, f.data)
	if err != nil {
		panic(err) // it was read before, or there were no File
	}
	return &Edit{file: f, doc: doc, want: slices.Clone(f.Profiles), wantAliases: slices.Clone(f.Aliases),
		wantHosts: slices.Clone(f.Hosts), wantClouds: slices.Clone(f.Clouds)}
}

// text applies the cuts.
func (e *Edit) text() []byte {
	slices.SortStableFunc(e.cuts, func(a, b textEdit) int { return a.start - b.start })
	var b bytes.Buffer
	at := 0
	data := e.doc.data
	if mark := "\xef\xbb\xbf"; bytes.HasPrefix(data, []byte(mark)) {
		at = len(mark) // TOML 1.0 has no byte order mark
	}
	for _, c := range e.cuts {
		if c.start < at { // two keys of one inline table; the first cut has it
			continue
		}
		b.Write(data[at:c.start])
		b.WriteString(c.text)
		at = c.end
	}
	b.Write(data[at:])
	return b.Bytes()
}

// CheckedText returns the new text, after it was read again and has exactly the wanted meaning. An edit that can't be
// made in the user's way of writing is refused, not approximated.
func (e *Edit) CheckedText() ([]byte, error) {
	text := e.text()
	if _, err := parseDocument(e.file.Path, text); err != nil {
		return nil, refuse("gharbor can't make this edit; make it by hand: %s", err)
	}
	got, err := readInto(e.file.schema, &File{Path: e.file.Path, Project: e.file.Project, ForAlias: e.file.ForAlias}, text)
	if err != nil {
		if fe, ok := err.(*FileError); ok {
			return nil, refuse("that would be wrong: %s", fe.What)
		}
		return nil, err
	}
	same := len(got.Profiles) == len(e.want) && len(got.Aliases) == len(e.wantAliases) &&
		sameHosts(got.Hosts, e.wantHosts) && len(got.Clouds) == len(e.wantClouds)
	for _, want := range e.want {
		same = same && want.sameAs(got.Lookup(want.Name))
	}
	for _, want := range e.wantAliases {
		found := got.aliases[want.Name]
		same = same && found != nil && want.sameEntries(&found.table)
	}
	for _, want := range e.wantClouds {
		found := got.CloudNamed(want.Name)
		same = same && found != nil && want.sameEntries(&found.table)
	}
	if !same {
		return nil, refuse("gharbor can't make this edit in %s; make it by hand", e.file.Path)
	}
	return text, nil
}

func (p *Profile) sameAs(o *Profile) bool {
	return o != nil && (p.direct > 0) == (o.direct > 0) && slices.EqualFunc(p.Hops, o.Hops, (*Hop).equal) &&
		p.sameEntries(&o.table)
}

func (t *table) sameEntries(o *table) bool {
	if len(t.Entries) != len(o.Entries) {
		return false
	}
	for _, e := range t.Entries {
		other, ok := o.OwnValue(e.Field.Name)
		if !ok || !e.Value.Equal(other.Value) {
			return false
		}
	}
	return true
}

// Missing is the error for a profile that no file has, with the nearest name.
func (f *File) Missing(name string) error {
	if near := nearest.Name(name, f.Names()); near != "" {
		return refuse("no profile of that name; did you mean %q?", near)
	}
	if len(f.Profiles) == 0 {
		return refuse("there are no profiles yet; to add one: gharbor add NAME. To find servers: gharbor nearby")
	}
	return refuse("no profile of that name; see gharbor list")
}

func (f *File) free(name string) error {
	if !syntax.ValidName(name) {
		return refuse("not a profile name: %s", syntax.NameRule)
	}
	if p := f.byName[name]; p != nil {
		return refuse("profile %q exists already (%s:%d); gharbor set %s changes it", name, f.Path, p.Line, name)
	}
	return nil
}

// Add appends a profile.
func (f *File) Add(name string, sets []schema.Override) (*Edit, error) {
	return f.AddAll([]ProfileDraft{{name, sets}})
}

// ProfileDraft is a profile that is not in the file yet.
type ProfileDraft struct {
	Name string
	Sets []schema.Override
}

// AddAll adds several profiles in one edit: all of them are kept, or none.
func (f *File) AddAll(all []ProfileDraft) (*Edit, error) {
	e := f.edit()
	var text strings.Builder
	for i, one := range all {
		p, err := f.newProfile(one.Name, one.Sets)
		if err != nil {
			return nil, err
		}
		if i > 0 {
			text.WriteByte('\n')
		}
		text.WriteString(p.toml(f.schema))
		e.want = append(e.want, p)
	}
	e.appendTable(text.String())
	return e, nil
}

// newProfile makes a profile that the file does not have, and checks it.
func (f *File) newProfile(name string, sets []schema.Override) (*Profile, error) {
	if err := f.free(name); err != nil {
		return nil, err
	}
	p := &Profile{table: table{Name: name, kind: "profile"}}
	p.Hops, p.direct = hopsOf(sets)
	for _, s := range sets {
		if !s.Unset && s.Hop == 0 {
			p.Entries = append(p.Entries, Entry{Field: s.Field, Value: s.Value})
		}
	}
	if err := f.checkLike(p); err != nil {
		return nil, err
	}
	for i, h := range p.Hops {
		if why := h.problem(); why != "" {
			return nil, refuse("hop %d: %s", i+1, why)
		}
	}
	return p, nil
}

// appendTable adds a table at the end of the file.
func (e *Edit) appendTable(text string) {
	var b strings.Builder
	data := e.doc.data
	switch {
	case len(bytes.TrimSpace(data)) == 0:
		fmt.Fprintf(&b, "format = %d\n", Format)
	case data[len(data)-1] != '\n':
		b.WriteByte('\n')
	}
	if !bytes.HasSuffix(data, []byte("\n\n")) && !bytes.HasSuffix(data, []byte("\n\r\n")) {
		b.WriteByte('\n')
	}
	b.WriteString(text)
	e.insert(len(data), b.String())
}

// CopyValues are the keys that a copy of a profile sets, in the user's file or in the project's. In the other file a
// relative path becomes absolute, and a like that names a profile of the project gets "project:" before it. A
// project's profile can't be like one of the user's.
func (f *File) CopyValues(p *Profile, intoProject bool, home string) ([]schema.Override, error) {
	sets := make([]schema.Override, 0, len(p.Entries))
	for _, own := range p.Entries {
		set := schema.Override{Field: own.Field, Value: own.Value}
		switch {
		case p.InProject() == intoProject:
		case own.Field.Name == "like" && intoProject:
			return nil, refuse("%s is like %s from your own file; a project's profile can't be", p.Name,
				own.Value.Text())
		case own.Field.Name == "like":
			set.Value = schema.TextValue(syntax.ProjectPrefix + own.Value.Text())
		default:
			set.Value = p.absoluteValue(own, home)
		}
		sets = append(sets, set)
	}
	if p.direct > 0 {
		sets = append(sets, schema.Override{Field: &schema.Field{Name: "hop"}, Hop: -1})
	}
	for i, h := range p.Hops {
		for _, own := range h.Entries {
			set := schema.Override{Field: own.Field, Value: own.Value, Hop: i + 1}
			if p.InProject() != intoProject {
				set.Value = p.absoluteValue(own, home)
			}
			sets = append(sets, set)
		}
	}
	return sets, nil
}

// absoluteValue is an entry's value; a path in it is made absolute.
func (p *Profile) absoluteValue(own Entry, home string) schema.Value {
	if own.Value.Kind != schema.Text || own.Field.Expands && strings.Contains(own.Value.Raw, "$") {
		return own.Value
	}
	return schema.TextValue(own.Field.AbsolutePath(own.Value.Raw, filepath.Dir(p.in.Path), home))
}

func (f *File) checkLike(p *Profile) error {
	like := p.Text(key.Like)
	if like == "" || !f.Project && strings.HasPrefix(like, syntax.ProjectPrefix) ||
		f.byName[like] != nil && like != p.Name {
		return nil
	}
	if near := nearest.Name(like, f.Names()); near != "" && near != p.Name {
		return refuse("like: no profile of that name; did you mean %q?", near)
	}
	return refuse("like: no profile of that name; see gharbor list")
}

// toml writes a profile as a table of its own, its keys in the usual order.
func (p *Profile) toml(keys *schema.Schema) string {
	var own, expect []Entry
	for i := range keys.Fields() {
		if e, ok := p.OwnValue(keys.Fields()[i].Name); ok {
			if strings.HasPrefix(string(keys.Fields()[i].Name), "expect.") {
				expect = append(expect, e)
			} else {
				own = append(own, e)
			}
		}
	}
	text := tableText("[profile."+nameKey(p.Name)+"]", "", own)
	if p.direct > 0 {
		text += "hop = []\n"
	}
	for _, h := range p.Hops {
		text += "\n" + tableText("[[profile."+nameKey(p.Name)+".hop]]", "", h.sortedEntries())
	}
	if len(expect) > 0 {
		text += "\n" + tableText("[profile."+nameKey(p.Name)+".expect]", "expect.", expect)
	}
	return text
}

// tableText writes a table, the signs of equality one under the other.
func tableText(header, prefix string, entries []Entry) string {
	var b strings.Builder
	width := 0
	for _, e := range entries {
		width = max(width, len(e.Field.Name)-len(prefix))
	}
	fmt.Fprintf(&b, "%s\n", header)
	for _, e := range entries {
		fmt.Fprintf(&b, "%-*s = %s\n", width, strings.TrimPrefix(string(e.Field.Name), prefix), e.Value.TOML())
	}
	return b.String()
}

// nameKey is a profile's or an alias' name as part of a TOML key.
func nameKey(name string) string {
	if strings.Contains(name, ".") {
		return `"` + name + `"`
	}
	return name
}

// Set changes keys of a profile.
func (f *File) Set(name string, sets []schema.Override) (*Edit, error) {
	p := f.byName[name]
	if p == nil {
		return nil, f.Missing(name)
	}
	if err := refuseRepeated(sets); err != nil {
		return nil, err
	}
	want := p.clone()
	e := f.edit()
	// a new expect table follows the new keys
	plainFirst := slices.SortedStableFunc(slices.Values(sets), func(a, b schema.Override) int {
		return strings.Count(string(a.Field.Name), ".") - strings.Count(string(b.Field.Name), ".")
	})
	for _, s := range plainFirst {
		var err error
		if s.Hop > 0 {
			err = e.setHop(want, s)
		} else {
			err = e.setOne(&p.table, &want.table, s)
		}
		if err != nil {
			return nil, err
		}
	}
	if err := twoAddresses(f, &want.table, "gharbor set "+name); err != nil {
		return nil, err
	}
	if err := f.checkLike(want); err != nil {
		return nil, err
	}
	e.want[slices.Index(e.want, p)] = want
	return e, nil
}

// refuseRepeated refuses a key that is given twice.
func refuseRepeated(sets []schema.Override) error {
	for i, s := range sets {
		if slices.ContainsFunc(sets[:i], func(o schema.Override) bool { return o.Field == s.Field && o.Hop == s.Hop }) {
			return refuse("%s is given twice", s.Field.Name)
		}
	}
	return nil
}

// copy is a table that can be changed without this one.
func (t *table) copy() table {
	return table{Name: t.Name, Line: t.Line, Entries: slices.Clone(t.Entries), kind: t.kind}
}

// clone is a copy that can be changed without the profile.
func (p *Profile) clone() *Profile {
	c := &Profile{table: p.copy(), direct: p.direct}
	for _, h := range p.Hops {
		c.Hops = append(c.Hops, &Hop{Line: h.Line, Entries: slices.Clone(h.Entries)})
	}
	return c
}

// twoAddresses refuses a second kind of address; set is the command that changes
// the table.
func twoAddresses(f *File, want *table, set string) error {
	var first *Entry
	for i, own := range want.Entries {
		if !own.Field.Address {
			continue
		}
		if first == nil {
			first = &want.Entries[i]
			continue
		}
		old, new := *first, own
		if old.Line == 0 {
			old, new = new, old
		}
		return refuse("%s and %s are two kinds of address (%s is at %s:%d); to change: %s %s= %s=…",
			old.Field.Name, new.Field.Name, old.Field.Name, f.Path, old.Line, set, old.Field.Name, new.Field.Name)
	}
	return nil
}

// setOne notes what one key=value changes in the text and in the table.
func (e *Edit) setOne(t, want *table, s schema.Override) error {
	at := slices.IndexFunc(want.Entries, func(own Entry) bool { return own.Field == s.Field })
	place := e.doc.entryOf(t, string(s.Field.Name))
	if at >= 0 && place == nil {
		var err error
		if place, err = e.placeTable(t, string(s.Field.Name)); err != nil {
			return err
		}
	}
	switch {
	case at >= 0 && s.Unset:
		if place.inline >= 0 {
			return refuse("%s is an inline table (%s:%d); remove %s by hand", t, e.file.Path, place.line, s.Field.Name)
		}
		want.Entries = slices.Delete(want.Entries, at, at+1)
		start, end := e.doc.lines(place.start, place.outerEnd)
		e.cuts = append(e.cuts, textEdit{start: start, end: end})
	case at >= 0:
		want.Entries[at].Value = s.Value
		e.cuts = append(e.cuts, textEdit{int(place.valueAt), int(place.end), s.Value.TOML()})
	case !s.Unset:
		want.Entries = append(want.Entries, Entry{Field: s.Field, Value: s.Value})
		return e.insertKey(t, s)
	}
	return nil
}

// placeTable is an entry for a key whose value is an inline table on its own.
func (e *Edit) placeTable(t *table, key string) (*entry, error) {
	first := e.doc.entryOf(t, key+".project")
	if first == nil || first.inline < 0 || len(e.doc.headers[first.table].path) != 2 {
		return nil, refuse("%s: %s is written as separate keys in %s; change it by hand", t, key, e.file.Path)
	}
	whole := *first
	whole.start, whole.end, whole.inline = first.inline, first.outerEnd, -1
	equals := bytes.IndexByte(e.doc.data[whole.start:], '=') + 1
	for equals < len(e.doc.data) && e.doc.data[int(whole.start)+equals] == ' ' {
		equals++
	}
	whole.valueAt = whole.start + int32(equals)
	return &whole, nil
}

// entryOf finds where a table's key stands in the file.
func (d *document) entryOf(t *table, key string) *entry {
	for i := range d.entries {
		e := &d.entries[i]
		if kind, name, field := d.owner(e); kind == t.kind && name == t.Name && field == key {
			return e
		}
	}
	return nil
}

// owner is the table that an entry belongs to, by its kind and name, and the key's
// full name.
func (d *document) owner(e *entry) (kind, name, field string) {
	table := d.headers[e.table].path
	path := e.key
	if len(table) > 0 {
		path = slices.Concat(table, e.key)
	}
	if len(path) < 2 || path[0] != "profile" && path[0] != "alias" && path[0] != "cloud" {
		return "", "", ""
	}
	return path[0], path[1], strings.Join(path[2:], ".")
}

// lines widens a range to whole lines, a comment behind it included.
func (d *document) lines(from, to int32) (start, end int) {
	start, end = int(from), int(to)
	start = bytes.LastIndexByte(d.data[:start], '\n') + 1
	if i := bytes.IndexByte(d.data[end:], '\n'); i >= 0 {
		return start, end + i + 1
	}
	return start, len(d.data)
}
