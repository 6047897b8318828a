package profile

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2/unstable"

	"gentleharbor/core/profile/schema"
)

// maxFile bounds a profile file, in bytes: 10,000 profiles with notes are
// about 2 MiB, so what is larger is not a profile file.
const maxFile = 4 << 20

// FileError is a mistake in a file: one line, "FILE:LINE: what". It never
// repeats a value.
type FileError struct {
	Path string
	Line int // from 1; 0 where the mistake is the whole file
	What string
}

func (e *FileError) Error() string {
	if e.Line == 0 {
		return e.Path + ": " + e.What
	}
	return fmt.Sprintf("%s:%d: %s", e.Path, e.Line, e.What)
}

// document is a parsed TOML file with the place of each of its parts, so that an edit can change the bytes of one
// value and no others.
type document struct {
	path    string
	data    []byte
	headers []header
	entries []entry
}

// header is a [table] line; headers[0] stands for the root table.
type header struct {
	path  []string
	start int // offset of '['
	line  int
	array bool
	name  span // path[1] as written, where there is one
}

// emptyRange is an empty range at the header, which lines widens to its line.
func (h header) emptyRange() (int32, int32) { return int32(h.start), int32(h.start) }

// span is a range of bytes of the file. A file is smaller than 4 MiB, so its
// offsets fit an int32; 10,000 profiles have 70,000 entries.
type span struct{ start, end int32 }

// entry is one `key = value`, flattened: the entries of an inline table are
// entries of their own.
type entry struct {
	key        []string // relative to the table; entries with the same key share it
	value      schema.Value
	problem    string // "" or what is wrong with the value's type
	table      int32  // index into headers
	line       int32
	start, end int32 // of `key = value`
	valueAt    int32 // offset of the value
	inline     int32 // offset of the outermost inline table's key, -1 outside of one
	outerEnd   int32 // end of the outermost expression that it is in
	name       span  // the profile's name as written, where it is part of the key
}

// sink takes a file's tables and entries in their order. An error ends the
// reading.
type sink interface {
	takeTable(header) error
	takeEntry(*entry) error
}

func (d *document) takeTable(h header) error {
	d.headers = append(d.headers, h)
	return nil
}

func (d *document) takeEntry(e *entry) error {
	d.entries = append(d.entries, *e)
	return nil
}

// parseDocument reads data and keeps all of it, for an edit.
func parseDocument(path string, data []byte) (*document, error) {
	d := &document{path: path, data: data, headers: make([]header, 1)}
	return d, read(path, data, d)
}

// read parses data as TOML and gives each table and entry to take. Errors are *FileError.
func read(path string, data []byte, take sink) error {
	if len(data) > maxFile {
		return &FileError{path, 0, "the file is larger than 4 MiB; a profile file has at most that"}
	}
	if !utf8.Valid(data) {
		return &FileError{path, invalidLine(data), "not valid UTF-8; save the file as UTF-8"}
	}
	r := reader{
		path:    path,
		data:    data,
		take:    take,
		strings: make(map[string]string),
		keys:    make(map[string][]string),
		line:    1,
	}
	r.current = &r.root
	r.parser.Reset(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")))
	r.base = len(data) - len(r.parser.Data())
	for r.err == nil && r.parser.NextExpression() {
		node := r.parser.Expression()
		switch node.Kind {
		case unstable.Table, unstable.ArrayTable:
			r.header(node)
		case unstable.KeyValue:
			r.keyValue(node, entry{inline: -1}, r.current)
		}
	}
	if r.err != nil {
		return r.err
	}
	if err := r.parser.Error(); err != nil {
		return r.syntaxError(err)
	}
	return nil
}

func invalidLine(data []byte) int {
	line := 1
	for len(data) > 0 {
		r, width := utf8.DecodeRune(data)
		if r == utf8.RuneError && width == 1 {
			break
		}
		if r == '\n' {
			line++
		}
		data = data[width:]
	}
	return line
}

type reader struct {
	path    string
	data    []byte
	take    sink
	err     error // take's
	given   entry // what take is shown, so that 60,000 entries are one in memory
	parser  unstable.Parser
	table   int32               // number of the table that is being read, 0 for the root
	within  []string            // its path
	root    definition          // all tables so far
	current *definition         // that of the table that is being read
	base    int                 // bytes before the parser's input (a byte order mark)
	strings map[string]string   // texts seen, so that 10,000 "host" are one string
	keys    map[string][]string // keys of one part seen
	line    int
	at      int // the offset that line belongs to
}

// lineAt counts on from the last call; offsets mostly grow.
func (r *reader) lineAt(offset int) int {
	if offset < r.at {
		r.line, r.at = 1, 0
	}
	r.line += bytes.Count(r.data[r.at:offset], []byte{'\n'})
	r.at = offset
	return r.line
}

func (r *reader) intern(b []byte) string {
	if s, ok := r.strings[string(b)]; ok {
		return s
	}
	s := string(b)
	r.strings[s] = s
	return s
}

// key reads a dotted key; nth is where its component number n stands.
func (r *reader) key(it unstable.Iterator, n int) (path []string, nth span) {
	for it.Next() {
		node := it.Node()
		if path == nil && it.IsLast() && n != 0 {
			return r.single(node.Data), span{}
		}
		if path == nil {
			path = make([]string, 0, 3)
		}
		if len(path) == n {
			nth.start = int32(r.base) + int32(node.Raw.Offset)
			nth.end = nth.start + int32(node.Raw.Length)
		}
		if len(path) == 1 {
			path = append(path, string(node.Data)) // mostly a profile's name, which there is once
			continue
		}
		path = append(path, r.intern(node.Data))
	}
	return path, nth
}

// single is a key of one part.
func (r *reader) single(b []byte) []string {
	if key, ok := r.keys[string(b)]; ok {
		return key
	}
	key := []string{r.intern(b)}
	r.keys[key[0]] = key
	return key
}

func (r *reader) header(node *unstable.Node) {
	path, name := r.key(node.Key(), 1)
	first := r.base + int(node.Child().Raw.Offset)
	start := bytes.LastIndexByte(r.data[:first], '\n') + 1
	start += bytes.IndexByte(r.data[start:], '[')
	r.table++
	r.within = path
	h := header{path: path, start: start, line: r.lineAt(start), array: node.Kind == unstable.ArrayTable, name: name}
	var err error
	if r.current, err = r.root.header(path, h.array, int32(h.line)); err != nil {
		r.err = &FileError{r.path, h.line, err.Error()}
		return
	}
	r.err = r.take.takeTable(h)
}

// keyValue takes a key and its value; outer is the inline table that it is in,
// and in the definition of the table that the key belongs to.
func (r *reader) keyValue(node *unstable.Node, outer entry, in *definition) {
	e := outer
	if r.err != nil {
		return
	}
	e.table = r.table
	depth := len(r.within) + len(outer.key)
	key, name := r.key(node.Key(), 1-depth)
	parts := len(key)
	if depth < 2 && depth+len(key) >= 2 {
		e.name = name
	}
	if outer.key != nil {
		key = slices.Concat(outer.key, key)
	}
	e.key = key
	e.start = int32(r.base) + int32(node.Raw.Offset)
	e.end = e.start + int32(node.Raw.Length)
	e.line = int32(r.lineAt(int(e.start)))
	if e.inline < 0 {
		e.outerEnd = e.end
	}
	value := node.Value()
	// A plain `key = value` is the usual case; whoever takes it knows whether it is set twice.
	if parts > 1 || value.Kind == unstable.InlineTable || value.Kind == unstable.Array {
		var err error
		if in, err = in.key(slices.Concat(r.within, key), parts, r.table, e.line); err != nil {
			r.err = &FileError{r.path, int(e.line), err.Error()}
			return
		}
	}
	if value.Kind == unstable.InlineTable {
		if e.inline < 0 {
			e.inline = e.start
		}
		empty := true
		for it := value.Children(); it.Next(); {
			if it.Node().Kind == unstable.KeyValue {
				r.keyValue(it.Node(), e, in)
				empty = false
			}
		}
		if empty {
			e.problem = "an empty table"
			r.give(e)
		}
		return
	}
	e.valueAt = r.valueStart(e)
	e.value, e.problem = r.value(value)
	r.give(e)
}

// give gives an entry to take, which copies what it keeps.
func (r *reader) give(e entry) {
	r.given = e
	r.err = r.take.takeEntry(&r.given)
}

// valueStart finds the value in `key = value`: after the '=' that follows the
// key, which may be quoted and hold a '=' itself.
func (r *reader) valueStart(e entry) int32 {
	text := r.data[e.start:e.end]
	var quoted byte
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quoted == '"' && c == '\\':
			i++
		case quoted != 0:
			if c == quoted {
				quoted = 0
			}
		case c == '"' || c == '\'':
			quoted = c
		case c == '=':
			for i++; i < len(text) && (text[i] == ' ' || text[i] == '\t'); i++ {
			}
			return e.start + int32(i)
		}
	}
	return e.end
}

func (r *reader) value(node *unstable.Node) (schema.Value, string) {
	switch node.Kind {
	case unstable.String:
		return schema.Value{Kind: schema.Text, Raw: r.intern(node.Data)}, ""
	case unstable.Integer:
		n, err := strconv.ParseInt(strings.TrimPrefix(string(node.Data), "+"), 0, 64)
		if err != nil {
			return schema.Value{}, "a number out of range"
		}
		return schema.Value{Kind: schema.Number, Raw: strconv.FormatInt(n, 10)}, ""
	case unstable.Bool:
		return schema.Value{Kind: schema.Switch, Raw: string(node.Data)}, ""
	case unstable.Array:
		v := schema.Value{Kind: schema.List}
		for it := node.Children(); it.Next(); {
			switch it.Node().Kind {
			case unstable.String:
				v.Items = append(v.Items, r.intern(it.Node().Data))
			case unstable.Comment:
			default:
				return schema.Value{}, "a list with something that is no text"
			}
		}
		return v, ""
	case unstable.Float:
		return schema.Value{}, "a number with a fraction"
	}
	return schema.Value{}, "a date or time"
}

func (r *reader) syntaxError(err error) error {
	var syntax *unstable.ParserError
	offset := 0
	what := "not valid TOML"
	if errors.As(err, &syntax) {
		what = "not valid TOML: " + syntax.Message
		if len(syntax.Highlight) > 0 {
			offset = r.base + int(r.parser.Range(syntax.Highlight).Offset)
		}
	}
	line := r.lineAt(min(offset, len(r.data)))
	text := r.data[bytes.LastIndexByte(r.data[:offset], '\n')+1:]
	if _, after, found := bytes.Cut(text, []byte("=")); found {
		after = bytes.TrimLeft(after, " \t")
		if len(after) > 0 && (after[0] >= 'a' && after[0] <= 'z' || after[0] >= 'A' && after[0] <= 'Z' || after[0] == '/') {
			what = "not valid TOML: text needs double quotes around it"
		}
	}
	return &FileError{r.path, line, what}
}
