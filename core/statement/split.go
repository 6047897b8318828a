// Package statement splits scripts into statements, fills in placeholders, judges what a statement may destroy, and
// runs statements. It is a room behind check: statements run on the connection that a test proved. The rules of an
// engine are its engine.Statements; this package knows no socket. Start with NewSplitter.
package statement

import (
	"bytes"
	"fmt"
	"io"

	"gentleharbor/core/engine"
	"gentleharbor/core/readahead"
)

// maxStatement bounds one statement, in bytes: servers take at most 1 GiB.
const maxStatement = 1 << 30

// Piece is a part of a script that ends with a statement: put together again, the pieces are the script. Its bytes
// are valid until the next call of the splitter.
type Piece struct {
	Raw    []byte   // everything: blanks and comments before the statement, its text, and what ends it
	Text   []byte   // the statement alone; empty where there are only blanks and comments
	Line   int      // of the text's first character, from 1
	Column int      // likewise, in bytes from 1
	Words  []string // the statement's words in capital letters, without quotes, comments and values
	Data   bool     // lines of data follow, which Data gives
	Ended  bool     // something ended the statement; false for the rest of a script

	// Client is the request of a line for the server's own client, which ends the piece; nil for none.
	Client *engine.ClientLine

	depth  int            // of parentheses that are open at its end
	braces []span         // in Text
	colons []span         // likewise: :NAME, where lines for the client set variables
	moves  []substitution // where Fill changed something
}

// Empty reports whether there is no statement in the piece.
func (p *Piece) Empty() bool { return len(p.Text) == 0 }

// SyntaxError says why a script can't be split, and where the mistake begins.
type SyntaxError struct {
	Line, Column int
	What         string
	Open         string // what is open at the end of the text: "quote", "comment"; "" where more text would not help
}

func (e *SyntaxError) Error() string { return fmt.Sprintf("%d:%d: %s", e.Line, e.Column, e.What) }

// Splitter splits a script. It holds one statement at a time in memory.
type Splitter struct {
	in    io.Reader
	lexis engine.Lexis
	ended bool  // nothing more is to be read
	err   error // of reading

	buffer []byte // what was read and is still needed
	base   int    // where the piece that is looked at begins in it
	pos    int    // of the next byte to look at
	lineAt int    // the line at base, from 1
	column int    // the column at base, from 1

	client    *engine.ClientLines // nil: they are statements like others
	delimiter string
	standard  bool // '…' has no backslashes, though a setting of the server could change that
}

// NewSplitter splits a script by an engine's rules.
func NewSplitter(in io.Reader, lexis engine.Lexis) *Splitter {
	return &Splitter{in: in, lexis: lexis, lineAt: 1, column: 1, delimiter: ";", standard: true}
}

// WithClientLines makes the splitter recognise lines for the server's own client.
func (s *Splitter) WithClientLines(lines *engine.ClientLines) *Splitter {
	s.client = lines
	return s
}

// chunk is how much is read at a time.
const chunk = 64 << 10

// readMore reads the next piece of the input. It reports whether there was one.
func (s *Splitter) readMore() bool {
	if s.ended {
		return false
	}
	if len(s.buffer)-s.base > maxStatement {
		s.err, s.ended = &SyntaxError{
			Line: s.lineAt, Column: s.column, What: "this statement is longer than a server takes (1 GiB)",
		}, true
		return false
	}
	old := len(s.buffer)
	s.buffer, s.ended, s.err = readahead.Read(s.buffer, s.in, chunk)
	return len(s.buffer) > old || !s.ended
}

// at is the byte i places after the next one, 0 after the end.
func (s *Splitter) at(i int) byte {
	for s.pos+i >= len(s.buffer) {
		if !s.readMore() {
			return 0
		}
	}
	return s.buffer[s.pos+i]
}

// atEnd tells that nothing is left.
func (s *Splitter) atEnd() bool {
	for s.pos >= len(s.buffer) {
		if !s.readMore() {
			return true
		}
	}
	return false
}

// starts reports whether the rest starts with a text.
func (s *Splitter) starts(text string) bool {
	if text == "" {
		return false
	}
	s.at(len(text) - 1)
	return bytes.HasPrefix(s.buffer[s.pos:], []byte(text))
}

// place is the line and column of a position in the buffer.
func (s *Splitter) place(at int) (line, column int) {
	before := s.buffer[s.base:at]
	line = s.lineAt + bytes.Count(before, []byte("\n"))
	if i := bytes.LastIndexByte(before, '\n'); i >= 0 {
		return line, len(before) - i
	}
	return line, s.column + len(before)
}

// wrong is a syntax error that begins at a position in the buffer.
func (s *Splitter) wrong(at int, what string) error {
	line, column := s.place(at)
	return &SyntaxError{Line: line, Column: column, What: what}
}

// unclosedError is a syntax error of a text that ends too early.
func (s *Splitter) unclosedError(at int, open, what string) error {
	line, column := s.place(at)
	return &SyntaxError{line, column, what, open}
}

// Next is the next piece; io.EOF after the last.
func (s *Splitter) Next() (*Piece, error) {
	s.compact()
	if s.atEnd() {
		if s.err != nil {
			return nil, s.err
		}
		return nil, io.EOF
	}
	l := &scan{Splitter: s, start: -1}
	var err error
	switch {
	case s.lexis.Line != nil:
		err = l.runLine()
	case s.lexis.JSON:
		err = l.runDocument()
	default:
		err = l.run()
	}
	if s.err != nil {
		err = s.err
	}
	if err != nil {
		return nil, err
	}
	p := &Piece{Words: l.words, Ended: l.end >= 0, Client: l.asked, Data: l.copies(), depth: l.depth}
	p.Raw = s.buffer[s.base:s.pos]
	if l.start >= 0 {
		p.Text = s.buffer[l.start:l.last]
		p.Line, p.Column = s.place(l.start)
		for _, b := range l.braces {
			p.braces = append(p.braces, span{b.from - l.start, b.to - l.start})
		}
		for _, c := range l.colons {
			p.colons = append(p.colons, span{c.from - l.start, c.to - l.start})
		}
	} else if l.asked != nil {
		p.Line, p.Column = s.place(l.askedAt)
	} else {
		p.Line, p.Column = s.place(s.base)
	}
	s.settings(l.words)
	s.advance()
	return p, nil
}

// advance begins a new piece at the next byte.
func (s *Splitter) advance() {
	s.lineAt, s.column = s.place(s.pos)
	s.base = s.pos
}

// compact removes returned bytes from the buffer, once there are enough of them.
func (s *Splitter) compact() {
	if s.base > chunk || s.base == len(s.buffer) {
		n := copy(s.buffer, s.buffer[s.base:])
		s.buffer, s.pos, s.base = s.buffer[:n], s.pos-s.base, 0
	}
}

// settings notes what a statement changes in how later ones are read.
func (s *Splitter) settings(words []string) {
	if len(words) >= 3 && words[0] == "SET" && s.lexis.EscapeStrings {
		for i, word := range words {
			if word == "STANDARD_CONFORMING_STRINGS" && i+1 < len(words) {
				s.standard = words[len(words)-1] != "OFF"
			}
		}
	}
}

// Data are the lines of data after a piece that has some, without the line that ends them (\.), which it skips. Read
// them to the end before the next piece.
func (s *Splitter) Data() io.Reader { return &data{Splitter: s, lineBegins: true} }

// data reads the lines of data in a script.
type data struct {
	*Splitter
	lineBegins bool // the next byte is the first of a line
	done       bool
	end        string // the line that ended the data, as it stands there
}

// Read returns whole lines where they fit, and never a part of the line that ends the data.
func (d *data) Read(to []byte) (int, error) {
	if d.done || len(to) == 0 {
		return 0, io.EOF
	}
	d.compact()
	if d.lineBegins && d.atEndOfData() || d.atEnd() {
		d.done = true
		if d.err != nil {
			return 0, d.err
		}
		return 0, io.EOF
	}
	given := d.buffer[d.pos:]
	if len(given) > len(to) {
		given = given[:len(to)]
	}
	if i := bytes.Index(given, []byte("\n\\.")); i >= 0 {
		given = given[:i+1] // what comes behind may be the end
	} else if bytes.HasSuffix(given, []byte("\n\\")) {
		given = given[:len(given)-1]
	}
	n := copy(to, given)
	d.lineBegins = given[n-1] == '\n'
	d.pos += n
	d.advance()
	return n, nil
}

// atEndOfData skips the line that ends the data, if it is next.
func (d *data) atEndOfData() bool {
	for _, end := range []string{"\\.\n", "\\.\r\n"} {
		if d.starts(end) {
			d.end = end
			d.pos += len(end)
			d.advance()
			return true
		}
	}
	if rest := d.buffer[d.pos:]; (string(rest) == "\\." || string(rest) == "\\.\r") && !d.readMore() {
		d.end = string(rest)
		d.pos = len(d.buffer)
		d.advance()
		return true
	}
	return false
}

// Inherit takes over what another script's statements and lines have changed in how later ones are read.
func (s *Splitter) Inherit(from *Splitter) { s.delimiter, s.standard = from.delimiter, from.standard }
