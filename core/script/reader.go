// Package script reads scripts for a server: files that include others, with lines for the server's own client,
// packed or not. A script is read twice. The first time (Scan) finds all that can't be run, and what the script makes
// and drops; the second time sends its statements. No file outside of the first one's folder is opened. Start with
// Open.
package script

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/engine"
	"gentleharbor/core/statement"
)

// Place is a place in a script.
type Place struct {
	File         string // as a person names it
	Line, Column int    // from 1; Column 0 where only the line is known
}

func (p Place) String() string {
	if p.Column == 0 {
		return fmt.Sprintf("%s:%d", p.File, p.Line)
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// reached reports whether an item's place is at or after the one where sending begins.
func (p Place) reached(at Place) bool { return p == Place{} || at.File == p.File && at.Line >= p.Line }

// Error is a script that can't be carried out.
type Error struct {
	Place
	What string
	Err  error // may be nil
}

// Error is a mistake in a script, with its place where that is known.
func (e *Error) Error() string {
	if e.Place == (Place{}) {
		return e.What
	}
	return e.Place.String() + ": " + e.What
}

func (e *Error) Unwrap() error { return e.Err }

// Item is one step: a statement, another database, or words to print. It is valid until the next one.
type Item struct {
	Place
	Piece    *statement.Piece // nil for another database and for words
	Data     io.Reader        // the data of a statement that takes some; it must be read to its end
	Database string           // to be connected to
	Echo     string
	Shows    bool // Echo counts
}

// Reader reads a script item by item.
type Reader struct {
	by      *engine.Statements
	outside bool
	root    string // the folder that includes must be in
	stack   []*file
	vars    map[string]string
	locked  string // the word of the line that must end what it began
	read    atomic.Int64
}

// Options say how to read.
type Options struct {
	By      *engine.Statements
	Outside bool      // files outside of the first one's folder are included too
	Input   io.Reader // what the name - stands for
	Folder  string    // where a relative name is looked for
}

// Open opens a script.
func Open(path string, o Options) (*Reader, error) {
	r := &Reader{by: o.By, outside: o.Outside, vars: make(map[string]string)}
	if path == "-" {
		r.root = o.Folder
		f := &file{name: "standard input", folder: o.Folder, raw: CountBytes(o.Input, &r.read)}
		return r, r.push(f)
	}
	absolute := path
	if !filepath.IsAbs(path) {
		absolute = filepath.Join(o.Folder, path)
	}
	absolute, err := filepath.EvalSymlinks(absolute)
	if err != nil {
		return nil, unreadable(path, err)
	}
	r.root = filepath.Dir(absolute)
	f, err := openFile(absolute, path, &r.read)
	if err != nil {
		return nil, err
	}
	return r, r.push(f)
}

func unreadable(path string, err error) error {
	return &Error{Place{File: path, Line: 1}, "cannot be read: " + atomicfile.Plain(err).Error(), err}
}

// push begins a file.
func (r *Reader) push(f *file) error {
	text, err := f.text()
	if err != nil {
		f.close()
		return err
	}
	f.splitter = statement.NewSplitter(text, r.by.Lexis)
	if r.by.ClientLines != nil {
		f.splitter.WithClientLines(r.by.ClientLines)
	}
	if len(r.stack) > 0 {
		f.splitter.Inherit(r.stack[len(r.stack)-1].splitter)
	}
	r.stack = append(r.stack, f)
	return nil
}

// pop ends a file.
func (r *Reader) pop() {
	f := r.stack[len(r.stack)-1]
	r.stack = r.stack[:len(r.stack)-1]
	if len(r.stack) > 0 {
		r.stack[len(r.stack)-1].splitter.Inherit(f.splitter)
	}
	f.close()
}

// Close closes the files that are open.
func (r *Reader) Close() {
	for len(r.stack) > 0 {
		r.pop()
	}
}

// Bytes is how many bytes of the files were read, before they are unpacked. It may be called while Next runs.
func (r *Reader) Bytes() int64 { return r.read.Load() }

// Next is the next item; io.EOF after the last. Its error is an *Error else.
func (r *Reader) Next() (*Item, error) {
	for len(r.stack) > 0 {
		f := r.stack[len(r.stack)-1]
		p, err := f.splitter.Next()
		var wrong *statement.SyntaxError
		switch {
		case errors.Is(err, io.EOF):
			r.pop()
			continue
		case errors.As(err, &wrong):
			return nil, &Error{Place{f.name, wrong.Line, wrong.Column}, wrong.What, err}
		case err != nil:
			return nil, unreadable(f.name, err)
		}
		at := Place{f.name, p.Line, p.Column}
		if p.Client != nil {
			item, err := r.line(f, p.Client, at)
			if item != nil || err != nil {
				return item, err
			}
			continue
		}
		if p.Empty() {
			continue
		}
		if p, err = r.expandPiece(p); err != nil {
			return nil, &Error{at, err.Error(), nil}
		}
		item := &Item{Place: at, Piece: p}
		if p.Data {
			item.Data = f.splitter.Data()
		}
		return item, nil
	}
	return nil, io.EOF
}

// line runs a line for the client. It returns an item where there is something to do.
func (r *Reader) line(f *file, line *engine.ClientLine, at Place) (*Item, error) {
	refuse := func(what string) error { return &Error{at, "gharbor can't run this line: " + what, nil} }
	text := r.replaceVariables(line.Text)
	if r.locked != "" && (line.Do != engine.LineRestrict || line.Text != r.locked) {
		return nil, refuse("the file allows none here")
	}
	switch line.Do {
	case engine.LineRefused:
		return nil, refuse(line.Why)
	case engine.LineRestrict:
		r.locked = map[bool]string{true: line.Text}[r.locked == ""]
	case engine.LineInclude:
		return nil, r.include(f, text, at)
	case engine.LineDatabase:
		return &Item{Place: at, Database: text}, nil
	case engine.LineEcho:
		return &Item{Place: at, Echo: text, Shows: true}, nil
	case engine.LineSet:
		r.vars[line.Name] = text
	case engine.LineEnd:
		r.pop()
	}
	return nil, nil
}

// include begins another file.
func (r *Reader) include(from *file, name string, at Place) error {
	refuse := func(format string, args ...any) error { return &Error{at, fmt.Sprintf(format, args...), nil} }
	path, shown := name, name
	if !filepath.IsAbs(path) {
		path = filepath.Join(from.folder, path)
		shown = filepath.Join(filepath.Dir(from.name), name)
	}
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return refuse("the file %s cannot be read: %v", shown, atomicfile.Plain(err))
	}
	if in, err := filepath.Rel(r.root, real); !r.outside && (err != nil || in == ".." || strings.HasPrefix(in, "../")) {
		return refuse("the file %s is outside of the folder %s; to allow it: -outside", shown, r.root)
	}
	f, err := openFile(real, shown, &r.read)
	if err != nil {
		var wrong *Error
		errors.As(err, &wrong)
		return refuse("the file %s %s", shown, wrong.What)
	}
	for _, open := range r.stack {
		if open.info != nil && os.SameFile(open.info, f.info) {
			f.close()
			return refuse("the file %s includes itself", shown)
		}
	}
	return r.push(f)
}

// expandPiece returns a piece with its variables replaced.
func (r *Reader) expandPiece(p *statement.Piece) (*statement.Piece, error) {
	if len(r.vars) == 0 {
		return p, nil
	}
	return p.Expand(r.vars, r.by)
}

// replaceVariables replaces the variables in the words of a line.
func (r *Reader) replaceVariables(text string) string {
	if len(r.vars) == 0 || !strings.Contains(text, ":") {
		return text
	}
	var pairs []string
	longestFirst := func(a, b string) int { return cmp.Or(len(b)-len(a), strings.Compare(a, b)) }
	for _, name := range slices.SortedFunc(maps.Keys(r.vars), longestFirst) {
		pairs = append(pairs, ":"+name, r.vars[name])
	}
	return strings.NewReplacer(pairs...).Replace(text)
}
