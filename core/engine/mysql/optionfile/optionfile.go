// Package optionfile reads MySQL's and MariaDB's option files as their own clients do (MySQL documentation, "Using
// Option Files"): groups, quotes, escapes, comments, and the two directives that include other files. It notes the
// line of each option. core/secret finds passwords by it.
package optionfile

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"gentleharbor/core/atomicfile"
)

// Bounds. Real option files have some kilobytes; a larger one is no option file, or includes itself.
const (
	maxFile  = 1 << 20 // bytes of one file
	maxDepth = 10      // of files that include files, as in the servers' own reader
	maxFiles = 200     // altogether
)

// Option is one line of a group.
type Option struct {
	File  string
	Line  int
	Group string
	Name  string // with dashes: "ssl_ca" is "ssl-ca"
	Value string
	Set   bool // a value was written, if only an empty one
}

// Error is a mistake in a file.
type Error struct {
	File string
	Line int // 0 for the file as a whole
	What string
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return e.File + ": " + e.What
	}
	return fmt.Sprintf("%s:%d: %s", e.File, e.Line, e.What)
}

// Result is what a file and those that it includes have.
type Result struct {
	Options []Option // in the order in which they count: a later one overrides an earlier one
	Ignored []string // files that are passed over, with the reason: everybody may write them
}

// Read reads a file and those that it includes. Where the file does not exist, errors.Is finds fs.ErrNotExist in the
// error; an included one that does not exist is passed over, as by the servers' own clients.
func Read(path string) (Result, error) { return ReadWith(path, os.ReadFile) }

// ReadWith reads as Read does, with the caller's own reader of files.
func ReadWith(path string, read func(path string) ([]byte, error)) (Result, error) {
	return ReadListed(path, read, os.ReadDir)
}

// ReadListed reads as ReadWith does, with the caller's own reader of folders too, for !includedir.
func ReadListed(path string, read func(path string) ([]byte, error),
	list func(folder string) ([]fs.DirEntry, error)) (Result, error) {
	r := reader{read: read, list: list}
	err := r.file(path, 0)
	return r.Result, err
}

// Parse reads one file's own options. Included files are not followed.
func Parse(data []byte) ([]Option, error) {
	r := reader{alone: true}
	err := r.parse("", data, 0)
	return r.Options, err
}

type reader struct {
	alone bool // directives are passed over
	read  func(path string) ([]byte, error)
	list  func(folder string) ([]fs.DirEntry, error)
	Result
	files int
}

func (r *reader) file(path string, depth int) error {
	if r.files++; r.files > maxFiles {
		return &Error{path, 0, fmt.Sprintf("more than %d files are included", maxFiles)}
	}
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		return &Error{path, 0, "not a regular file"}
	}
	if runtime.GOOS != "windows" && info.Mode().Perm()&0o002 != 0 {
		r.Ignored = append(r.Ignored, path+" (everybody may write it)")
		return nil
	}
	if info.Size() > maxFile {
		return &Error{path, 0, fmt.Sprintf("larger than %d KiB", maxFile>>10)}
	}
	data, err := r.read(path)
	if err != nil {
		return err
	}
	return r.parse(path, data, depth)
}

// parse reads the lines of one file.
func (r *reader) parse(path string, data []byte, depth int) error {
	group, grouped := "", false
	number := 0
	for line := range bytes.SplitSeq(data, []byte("\n")) {
		number++
		text := strings.TrimLeft(string(bytes.TrimRight(line, "\r")), blanks)
		wrong := func(what string) error { return &Error{path, number, what} }
		switch {
		case text == "" || text[0] == '#' || text[0] == ';':
		case text[0] == '!' && r.alone:
		case text[0] == '!':
			if err := r.directive(path, number, strings.TrimSpace(text[1:]), depth); err != nil {
				return err
			}
		case text[0] == '[':
			name, _, ok := strings.Cut(text[1:], "]")
			if !ok {
				return wrong("a group without its closing bracket")
			}
			group, grouped = strings.TrimRight(name, blanks), true
		case !grouped:
			return wrong("an option before the first group")
		default:
			o := parseOption(text)
			o.File, o.Line, o.Group = path, number, group
			r.Options = append(r.Options, o)
		}
	}
	return nil
}

const blanks = " \t\v\f\r"

// directive follows !include FILE and !includedir FOLDER.
func (r *reader) directive(path string, number int, text string, depth int) error {
	word, target, _ := strings.Cut(strings.ReplaceAll(text, "\t", " "), " ")
	target = strings.TrimSpace(target)
	if word != "include" && word != "includedir" {
		return nil // as the servers' own reader: an unknown directive is passed over
	}
	if target == "" {
		return &Error{path, number, "!" + word + " without a path"}
	}
	if depth >= maxDepth {
		return &Error{path, number, fmt.Sprintf("includes are more than %d deep", maxDepth)}
	}
	if !filepath.IsAbs(target) {
		target = filepath.Join(filepath.Dir(path), target)
	}
	if word == "include" {
		return r.readInclude(path, number, target, depth)
	}
	entries, err := r.list(target)
	if err != nil {
		return &Error{path, number, "!includedir: " + atomicfile.Plain(err).Error()}
	}
	for _, entry := range entries { // sorted by name
		if slices.Contains([]string{".cnf", ".ini"}, filepath.Ext(entry.Name())) {
			if err := r.readInclude(path, number, filepath.Join(target, entry.Name()), depth); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *reader) readInclude(path string, number int, target string, depth int) error {
	err := r.file(target, depth+1)
	var own *Error
	if err == nil || errors.As(err, &own) {
		return err
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return &Error{path, number, fmt.Sprintf("!include %s: %s", target, atomicfile.Plain(err))}
}

// parseOption reads a name, or a name and a value. A comment begins at a # that
// is not within quotes.
func parseOption(text string) Option {
	text = withoutComment(text)
	name, value, set := strings.Cut(text, "=")
	o := Option{Name: strings.ReplaceAll(strings.TrimRight(name, blanks), "_", "-"), Set: set}
	if !set {
		return o
	}
	value = strings.Trim(value, blanks)
	if n := len(value); n > 1 && (value[0] == '"' || value[0] == '\'') && value[0] == value[n-1] {
		value = value[1 : n-1]
	}
	o.Value = unescape(value)
	return o
}

func withoutComment(text string) string {
	quote, escaped := byte(0), false
	for i := 0; i < len(text); i++ {
		c := text[i]
		if (c == '"' || c == '\'') && !escaped {
			switch quote {
			case 0:
				quote = c
			case c:
				quote = 0
			}
		}
		if quote == 0 && c == '#' {
			return text[:i]
		}
		escaped = quote != 0 && c == '\\' && !escaped
	}
	return text
}

// unescape replaces the escapes of an option's value; a backslash before
// anything else stays.
func unescape(s string) string {
	if !strings.Contains(s, `\`) {
		return s
	}
	with := map[byte]byte{'n': '\n', 't': '\t', 'r': '\r', 'b': '\b', 's': ' ', '"': '"', '\'': '\'', '\\': '\\'}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' || i == len(s)-1 {
			b.WriteByte(s[i])
			continue
		}
		i++
		if c, ok := with[s[i]]; ok {
			b.WriteByte(c)
		} else {
			b.WriteByte('\\')
			b.WriteByte(s[i])
		}
	}
	return b.String()
}
