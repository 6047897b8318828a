// Package lineedit reads lines that a person types: with editing, a history and completion where the terminal can
// place its cursor, without where it can't (TERM=dumb).
//
// Three libraries were compared. golang.org/x/term has no vi keys and no search in the history, and takes each
// character to be one column wide. github.com/peterh/liner has no vi keys, and completes at a pasted tab.
// github.com/reeflective/readline has both kinds of keys (and the user's .inputrc), search, paste as text, and wide
// and combining characters, so it is used, without its question for the cursor's place (see screen).
package lineedit

import (
	"bufio"
	"errors"
	"io"
	"os"
	"strings"
)

// ErrDropped says that a person dropped the line with Ctrl-C.
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
	// Complete returns completions for the text before the cursor, and how many bytes of it they replace.
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
