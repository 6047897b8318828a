package profile

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/profile/schema"
)

// insertKey puts a new key where a person would look for it: behind the last
// key of its table, written as the keys around it are.
func (e *Edit) insertKey(t *table, s schema.Override) error {
	d := e.doc
	key := s.Field.Name
	expect, isExpect := strings.CutPrefix(string(key), "expect.")
	if isExpect {
		if h := d.tableAt(t.kind, t.Name, "expect"); h >= 0 {
			e.insertInto(h, expect, s.Value)
			return nil
		}
	}
	if h := d.tableAt(t.kind, t.Name); h >= 0 {
		if isExpect && !e.hasDotted(h) {
			e.insertExpectTable(t, h, expect, s.Value)
			return nil
		}
		e.insertInto(h, string(key), s.Value)
		return nil
	}
	return e.insertDotted(t, string(key), s.Value)
}

func (d *document) tableAt(path ...string) int {
	for i, h := range d.headers {
		if i > 0 && slices.Equal(h.path, path) {
			return i
		}
	}
	return -1
}

// hasDotted reports whether a table writes its expectations as expect.key.
func (e *Edit) hasDotted(table int) bool {
	for i := range e.doc.entries {
		own := &e.doc.entries[i]
		if int(own.table) == table && own.key[0] == "expect" {
			return true
		}
	}
	return false
}

// lastOf is the last entry of a table, nil for an empty one.
func (d *document) lastOf(table int) *entry {
	var last *entry
	for i := range d.entries {
		if int(d.entries[i].table) == table {
			last = &d.entries[i]
		}
	}
	return last
}

// insertInto adds a key behind the last one of a table, its '=' under theirs.
func (e *Edit) insertInto(table int, key string, v schema.Value) {
	d := e.doc
	last := d.lastOf(table)
	if last == nil {
		_, end := d.lines(d.headers[table].emptyRange())
		e.insertLine(end, key+" = "+v.TOML())
		return
	}
	first := last.start
	if last.inline >= 0 {
		first = last.inline
	}
	start, end := d.lines(first, last.outerEnd)
	indent := string(d.data[start:first])
	width := 0
	if last.inline < 0 {
		written := d.data[last.start:last.valueAt]
		if i := bytes.LastIndexByte(written, '='); i > 0 && written[i-1] == ' ' {
			width = i - 1
		}
	}
	e.insertLine(end, fmt.Sprintf("%s%-*s = %s", indent, width, key, v.TOML()))
}

// insertLine adds a line at the end of another line.
func (e *Edit) insertLine(at int, line string) {
	data := e.doc.data
	if at > 0 && data[at-1] != '\n' {
		line = "\n" + line
	}
	e.insert(at, line+"\n")
}

// insert adds text in the file's own kind of line end. Several insertions at
// one place keep the order in which they were asked for.
func (e *Edit) insert(at int, text string) {
	if bytes.Contains(e.doc.data, []byte("\r\n")) {
		text = strings.ReplaceAll(text, "\n", "\r\n")
	}
	e.cuts = append(e.cuts, textEdit{at, at, text})
}

func (e *Edit) insertExpectTable(p *table, table int, key string, v schema.Value) {
	d := e.doc
	first, end := d.headers[table].emptyRange()
	if last := d.lastOf(table); last != nil {
		first, end = last.start, last.outerEnd
	}
	_, at := d.lines(first, end)
	for _, c := range e.cuts { // a second expectation of the same call
		if c.start == at && strings.Contains(c.text, ".expect]") {
			e.insert(at, key+" = "+v.TOML()+"\n")
			return
		}
	}
	text := "\n[profile." + nameKey(p.Name) + ".expect]\n" + key + " = " + v.TOML() + "\n"
	if at > 0 && d.data[at-1] != '\n' {
		text = "\n" + text
	}
	e.insert(at, text)
}

// insertDotted adds a key to a table that has no line of its own.
func (e *Edit) insertDotted(t *table, key string, v schema.Value) error {
	d := e.doc
	var last *entry
	for i := range d.entries {
		if kind, name, _ := d.owner(&d.entries[i]); kind == t.kind && name == t.Name &&
			len(d.headers[d.entries[i].table].path) < 2 {
			last = &d.entries[i]
		}
	}
	if last == nil { // only [profile.NAME.expect] stands in the file
		h := d.tableAt(t.kind, t.Name, "expect")
		if h < 0 {
			return refuse("gharbor can't change %s here; change it by hand (%s:%d)", t, e.file.Path, t.Line)
		}
		e.insert(d.headers[h].start, "["+t.kind+"."+nameKey(t.Name)+"]\n"+key+" = "+v.TOML()+"\n\n")
		return nil
	}
	if last.inline >= 0 {
		return refuse("%s is written as an inline table (%s:%d); add %s by hand", t, e.file.Path, last.line, key)
	}
	start, end := d.lines(last.start, last.outerEnd)
	e.insertLine(end, string(d.data[start:last.name.end])+"."+key+" = "+v.TOML())
	return nil
}
