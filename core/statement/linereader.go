package statement

import (
	"bytes"
	"errors"
	"io"

	"gentleharbor/core/engine"
)

// LineReader collects a text that comes line by line, and returns each statement when it ends.
type LineReader struct {
	Lexis engine.Lexis // of the engine

	text []byte
	last *Splitter // what the statements have changed of how the next are read
}

// Add adds a line.
func (t *LineReader) Add(line string) { t.text = append(append(t.text, line...), '\n') }

// Drop drops what has not ended.
func (t *LineReader) Drop() { t.text = nil }

// Text is the beginning of a statement that has not ended.
func (t *LineReader) Text() []byte { return t.text }

// Empty tells that no statement has begun.
func (t *LineReader) Empty() bool { return len(bytes.TrimSpace(t.text)) == 0 }

// Next is the next complete statement, with a copy of its bytes; nil where there is none. open then says what is
// open: "quote", "comment", "brackets", "statement"; "" for nothing. The error is a *SyntaxError that more text does
// not fix; the text is dropped.
func (t *LineReader) Next() (p *Piece, open string, err error) {
	s := NewSplitter(bytes.NewReader(t.text), t.Lexis)
	if t.last != nil {
		s.Inherit(t.last)
	}
	for {
		p, err := s.Next()
		var wrong *SyntaxError
		switch {
		case errors.Is(err, io.EOF):
			t.text = nil
			return nil, "", nil
		case errors.As(err, &wrong) && wrong.Open != "":
			return nil, wrong.Open, nil
		case err != nil:
			t.text = nil
			return nil, "", err
		case !p.Ended && !p.Empty() && p.depth > 0:
			return nil, "brackets", nil
		case !p.Ended && !p.Empty():
			return nil, "statement", nil
		case !p.Ended: // only blanks and comments, or a line that changes what ends a statement
			t.last, t.text = s, t.text[len(p.Raw):]
			continue
		}
		t.last, t.text = s, t.text[len(p.Raw):]
		if p.Empty() {
			s = NewSplitter(bytes.NewReader(t.text), t.Lexis)
			s.Inherit(t.last)
			continue
		}
		p.Text, p.Raw = bytes.Clone(p.Text), bytes.Clone(p.Raw)
		return p, "", nil
	}
}
