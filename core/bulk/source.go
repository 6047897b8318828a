// Package bulk loads the rows of a data file into a table: it reads CSV and TSV row by row, sends them by the
// engine's fastest way, and finds the rows that a server refuses. It stands behind check, on a connection that a test
// proved. Start with NewSource and Sender.
package bulk

import (
	"bytes"
	"fmt"
	"io"

	"gentleharbor/core/readahead"
)

// Form is how a data file is written.
type Form struct {
	Tabs bool    // TSV with backslashes, as query writes it; else CSV by RFC 4180
	Null *string // the text that stands for NULL; nil for the usual: \N in TSV, nothing in CSV
}

// Row is a row of a data file. It is valid until the next one.
type Row struct {
	Line   int      // of its first character in the file, from 1
	Raw    []byte   // as it stands there, with its end
	Values [][]byte // nil is NULL
}

// RowError is a row that can't be read.
type RowError struct {
	Line int
	Raw  []byte
	What string
}

func (e *RowError) Error() string { return e.What }

// maxRow bounds a row in bytes.
const maxRow = 256 << 20

// Source reads rows.
type Source struct {
	in      io.Reader
	form    Form
	buffer  []byte
	pos     int // of the next row
	line    int // there
	ended   bool
	err     error
	values  [][]byte
	storage []byte // of values that are not in the buffer as they are
}

// NewSource reads the rows of a text.
func NewSource(in io.Reader, form Form) *Source { return &Source{in: in, form: form, line: 1} }

// readMore reads the next piece of the input. It reports whether there was one.
func (s *Source) readMore() bool {
	if s.ended {
		return false
	}
	const chunk = 256 << 10
	if s.pos > chunk || s.pos == len(s.buffer) {
		n := copy(s.buffer, s.buffer[s.pos:])
		s.buffer, s.pos = s.buffer[:n], 0
	}
	if len(s.buffer)-s.pos > maxRow {
		s.err, s.ended = fmt.Errorf("line %d: a row of more than %d MiB", s.line, maxRow>>20), true
		return false
	}
	old := len(s.buffer)
	s.buffer, s.ended, s.err = readahead.Read(s.buffer, s.in, chunk)
	return len(s.buffer) > old || !s.ended
}

// Next is the next row; io.EOF after the last. After a *RowError there may be more rows. It skips empty lines.
func (s *Source) Next() (Row, error) {
	for {
		end, lines, err := s.rowEnd()
		if err != nil {
			return Row{}, err
		}
		row := Row{Line: s.line, Raw: s.buffer[s.pos:end]}
		s.pos = end
		s.line += lines
		text := bytes.TrimSuffix(bytes.TrimSuffix(row.Raw, []byte("\n")), []byte("\r"))
		if len(text) == 0 {
			continue
		}
		s.values, s.storage = s.values[:0], s.storage[:0]
		what := ""
		if s.form.Tabs {
			s.tabs(text)
		} else {
			what = s.commas(text)
		}
		if what != "" {
			return Row{}, &RowError{row.Line, row.Raw, what}
		}
		row.Values = s.values
		return row, nil
	}
}

// rowEnd is the end of the row that begins at pos, and its number of lines. A line's end within quotes does not end a
// row; where quotes are never closed, the row is one line.
func (s *Source) rowEnd() (end, lines int, err error) {
	first, err := s.lineEnd(0)
	if err != nil {
		return 0, 0, err
	}
	if first == 0 {
		return 0, 0, io.EOF
	}
	if s.form.Tabs || bytes.IndexByte(s.buffer[s.pos:s.pos+first], '"') < 0 {
		return s.pos + first, 1, nil
	}
	n, lines, known := first, 1, 0
	for {
		var open bool
		if open, known = inQuotes(s.buffer[s.pos:s.pos+n], known); !open {
			return s.pos + n, lines, nil
		}
		next, err := s.lineEnd(n)
		if err != nil {
			return 0, 0, err
		}
		if next == n {
			return s.pos + first, 1, nil
		}
		n, lines = next, lines+1
	}
}

// lineEnd is the end of the line that begins n bytes after pos, counted from pos.
func (s *Source) lineEnd(n int) (int, error) {
	for from := n; ; {
		if i := bytes.IndexByte(s.buffer[s.pos+from:], '\n'); i >= 0 {
			return from + i + 1, nil
		}
		from = len(s.buffer) - s.pos
		if s.readMore() {
			continue
		}
		if s.err != nil {
			return 0, s.err
		}
		return len(s.buffer) - s.pos, nil
	}
}

// inQuotes reports whether a text ends within a value in quotes. from is the start of a value; the result is the
// start of the last one, from which to go on with more text.
func inQuotes(text []byte, from int) (open bool, value int) {
	for from < len(text) {
		if text[from] != '"' {
			i := bytes.IndexByte(text[from:], ',')
			if i < 0 {
				return false, from
			}
			from += i + 1
			continue
		}
		at := from + 1
		for {
			i := bytes.IndexByte(text[at:], '"')
			if i < 0 {
				return true, from
			}
			at += i + 1
			if at == len(text) || text[at] != '"' {
				break
			}
			at++
		}
		i := bytes.IndexByte(text[at:], ',')
		if i < 0 {
			return false, from
		}
		from = at + i + 1
	}
	return false, from
}

// commas splits a row of CSV into values. It returns what is wrong, "" for nothing.
func (s *Source) commas(text []byte) string {
	for {
		if len(text) > 0 && text[0] == '"' {
			value, rest, what := s.readQuoted(text)
			if what != "" {
				return what
			}
			s.values = append(s.values, value)
			if len(rest) == 0 {
				return ""
			}
			text = rest[1:]
			continue
		}
		i := bytes.IndexByte(text, ',')
		value := text
		if i >= 0 {
			value = text[:i]
		}
		if bytes.IndexByte(value, '"') >= 0 {
			return fmt.Sprintf("value %d has a quote in it and does not begin with one", len(s.values)+1)
		}
		if s.isNull(value, "") {
			value = nil
		}
		s.values = append(s.values, value)
		if i < 0 {
			return ""
		}
		text = text[i+1:]
	}
}

// isNull reports whether a value without quotes stands for NULL.
func (s *Source) isNull(value []byte, usual string) bool {
	if s.form.Null != nil {
		return string(value) == *s.form.Null
	}
	return string(value) == usual
}

// readQuoted reads a value in quotes. rest begins with the comma after it, or is empty.
func (s *Source) readQuoted(text []byte) (value, rest []byte, what string) {
	text = text[1:]
	i := bytes.IndexByte(text, '"')
	if i >= 0 && (i+1 == len(text) || text[i+1] == ',') {
		return text[:i:i], text[i+1:], ""
	}
	from := len(s.storage)
	for {
		i := bytes.IndexByte(text, '"')
		switch {
		case i < 0:
			return nil, nil, fmt.Sprintf("value %d: quotes are not closed", len(s.values)+1)
		case i+1 < len(text) && text[i+1] == '"':
			s.storage = append(s.storage, text[:i+1]...)
			text = text[i+2:]
		case i+1 == len(text) || text[i+1] == ',':
			s.storage = append(s.storage, text[:i]...)
			return s.storage[from:len(s.storage):len(s.storage)], text[i+1:], ""
		default:
			return nil, nil, fmt.Sprintf("value %d goes on after its closing quote", len(s.values)+1)
		}
	}
}

// tabs takes a row of TSV apart.
func (s *Source) tabs(text []byte) {
	for {
		i := bytes.IndexByte(text, '\t')
		value := text
		if i >= 0 {
			value = text[:i]
		}
		switch {
		case s.isNull(value, `\N`):
			value = nil
		case bytes.IndexByte(value, '\\') >= 0:
			value = s.unescape(value)
		}
		s.values = append(s.values, value)
		if i < 0 {
			return
		}
		text = text[i+1:]
	}
}

// unescape returns a value without its backslashes.
func (s *Source) unescape(value []byte) []byte {
	from := len(s.storage)
	for i := 0; i < len(value); i++ {
		c := value[i]
		if c == '\\' && i+1 < len(value) {
			i++
			switch c = value[i]; c {
			case 't':
				c = '\t'
			case 'n':
				c = '\n'
			case 'r':
				c = '\r'
			}
		}
		s.storage = append(s.storage, c)
	}
	return s.storage[from:len(s.storage):len(s.storage)]
}
