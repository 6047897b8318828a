// Package lineedit reads lines that a person types: with editing, a history and completion on a terminal that can, and
// plainly on one that can't (TERM=dumb).
//
// Three libraries were looked at. golang.org/x/term has no vi keys, no search in the history, and takes every
// character for one column wide. github.com/peterh/liner has no vi keys, and a pasted tab completes.
// github.com/reeflective/readline has both kinds of keys (and the user's .inputrc), search, pasted text as text, and
// wide and combining characters, so it is used; its question for the cursor's place is not (see screen).
package lineedit

import (
	"bufio"
	"errors"
	"io"
	"os"
	"strings"
)

// ErrDropped is Ctrl-C at a line: what was typed is dropped.
var ErrDropped = errors.New("the line was dropped")

// Editor reads lines. The end of the input (Ctrl-D at an empty line) is io.EOF.
type Editor interface {
	Read(prompt string) (string, error)
}

// Completion is a way to go on with a word.
type Completion struct {
	Text string // what stands in place of the word
	What string // what it is, for a list of several
}

// Settings are what an editor is made with.
type Settings struct {
	In, Out *os.File
	Vi      bool
	History func() []string // the oldest first; asked at each line
	// Complete gives the ways to go on with the text before the cursor, and how many bytes of it they stand in place of.
	Complete func(before string) (all []Completion, replaced int)
}

// New is an editor for a terminal: one that can't place its cursor gets a plain one.
func New(s Settings, term string) Editor {
	if term == "" || term == "dumb" {
		return NewPlain(s.In, s.Out)
	}
	return newFull(s)
}

// plainEditor reads lines as they come.
type plainEditor struct {
	in  *bufio.Reader
	out io.Writer
}

// NewPlain reads lines from anything, without editing.
func NewPlain(in io.Reader, out io.Writer) Editor { return &plainEditor{bufio.NewReader(in), out} }

func (p *plainEditor) Read(prompt string) (string, error) {
	if _, err := io.WriteString(p.out, prompt); err != nil {
		return "", err
	}
	line, err := p.in.ReadString('\n')
	if line != "" && errors.Is(err, io.EOF) {
		err = nil // the last line has no end
	}
	return strings.TrimRight(line, "\r\n"), err
}
