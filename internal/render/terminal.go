// Package render shows results: tables, reports, JSON. This file is for the terminal. Its rules: results go to
// stdout, all else to stderr; colour only on a terminal and never with NO_COLOR, and nothing is shown by colour
// alone; a question is asked only where both stdin and stderr are a terminal; a secret is read without echo, and
// Ctrl-C switches the echo on again; a failure is one lower-case line, followed by lines to try.
package render

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"golang.org/x/term"

	"gentleharbor/core/clean"
	"gentleharbor/core/defect"
	"gentleharbor/core/secret"
)

// Terminal prints all that is no result, and asks questions.
type Terminal struct {
	in     *os.File // nil where there is nobody to ask
	lines  *bufio.Reader
	err    io.Writer
	colour bool // on stderr
}

// NewTerminal makes the terminal of stdin and stderr, which may be files or pipes.
func NewTerminal(in io.Reader, stderr io.Writer, noColour bool) *Terminal {
	t := &Terminal{err: stderr}
	t.colour = Colours(stderr, noColour)
	if file, ok := in.(*os.File); ok && IsTerminal(file) && IsTerminal(stderr) {
		t.in = file
		t.lines = bufio.NewReader(file)
	}
	return t
}

// IsTerminal reports whether a stream is a terminal.
func IsTerminal(stream any) bool {
	file := FileOf(stream)
	return file != nil && term.IsTerminal(int(file.Fd()))
}

// Colours reports whether a stream may be written to in colour.
func Colours(stream any, noColour bool) bool {
	return IsTerminal(stream) && understandsEscapes(FileOf(stream)) && !noColour // progress needs escapes without colour
}

// Columns is the number of columns of a stream's terminal, 0 where it is none.
func Columns(stream any) int {
	if file := FileOf(stream); file != nil {
		if columns, _, err := term.GetSize(int(file.Fd())); err == nil {
			return columns
		}
	}
	return 0
}

// Restorer returns a function that restores a terminal's present state; without a terminal it does nothing.
func Restorer(stream any) (restore func()) {
	if file := FileOf(stream); file != nil {
		if state, err := term.GetState(int(file.Fd())); err == nil {
			return func() { term.Restore(int(file.Fd()), state) }
		}
	}
	return func() {}
}

// Interactive reports whether a person can be asked.
func (t *Terminal) Interactive() bool { return t.in != nil }

// Notice says something that is no failure.
func (t *Terminal) Notice(format string, args ...any) {
	const label = "notice: "
	fmt.Fprintln(t.err, label+wrap(safe(fmt.Sprintf(format, args...)), Columns(t.err), len(label)))
}

// Say writes a line to stderr, broken where it is too long for a terminal.
func (t *Terminal) Say(format string, args ...any) {
	width := Columns(t.err)
	for line := range strings.SplitSeq(safe(fmt.Sprintf(format, args...)), "\n") {
		fmt.Fprintln(t.err, fitLine(line, width))
	}
}

// safe removes from a text what could steer a terminal, and the password of a URL: it is the last guard for texts
// with a path, a variable's value or a file's word.
func safe(text string) string { return clean.WithoutPasswords(clean.Lines(text)) }

// Failure prints an error as one line, what was seen of it where it is a
// finding's, commands to try and steps to do.
func (t *Terminal) Failure(err error, try, steps []string) {
	const name, indent = "gharbor: ", 2
	width := Columns(t.err)
	text := safe(err.Error())
	var failure *secret.Failure
	if errors.As(err, &failure) {
		text += " (" + string(failure.Found.Code) + ")"
	}
	text = wrap(strings.Repeat("x", len(name)-indent)+text, width, indent)[len(name)-indent:] // the label takes room too
	fmt.Fprintln(t.err, paint(t.colour).style("1", strings.TrimSpace(name))+" "+text)
	if failure != nil {
		for _, line := range failure.Found.Seen {
			fmt.Fprintln(t.err, "  "+wrap("seen: "+safe(line), width, 8))
		}
	}
	const label = "  try: "
	for _, line := range try {
		if line = safe(line); width > 0 {
			line = fitTry(line, width, len(label))
		}
		fmt.Fprintln(t.err, label+line)
	}
	for _, line := range steps {
		fmt.Fprintln(t.err, "  do: "+wrap(safe(line), width, len(label)))
	}
}

// errNoTerminal is the error of a question where nobody can be asked.
var errNoTerminal = errors.New("there is no terminal to ask on")

// Secret asks for a secret without echo.
func (t *Terminal) Secret(ctx context.Context, prompt string) (secret.Value, error) {
	if t.in == nil {
		return secret.Value{}, errNoTerminal
	}
	fd := int(t.in.Fd())
	state, err := term.GetState(fd)
	if err != nil {
		return secret.Value{}, err
	}
	if err := echoOff(fd); err != nil {
		return secret.Value{}, err
	}
	fmt.Fprint(t.err, prompt+" (not shown): ")
	done := aroundStops(func() { term.Restore(fd, state) }, func() {
		echoOff(fd)
		fmt.Fprint(t.err, prompt+" (not shown): ")
	})
	defer done()
	var text []byte
	err = t.interruptible(ctx, func() (err error) {
		text, err = term.ReadPassword(fd)
		return err
	})
	fmt.Fprintln(t.err)
	term.Restore(fd, state) // reading it gave back what it found: no echo
	if err != nil {
		return secret.Value{}, err
	}
	return secret.NewValue(string(text)), nil
}

// HideTyping switches the echo off for several questions for secrets, so that text typed before a question is not
// shown either. seen switches it on again.
func (t *Terminal) HideTyping() (seen func()) {
	if t.in == nil {
		return func() {}
	}
	fd := int(t.in.Fd())
	state, err := term.GetState(fd)
	if err != nil || echoOff(fd) != nil {
		return func() {}
	}
	done := aroundStops(func() { term.Restore(fd, state) }, func() { echoOff(fd) })
	return func() {
		done()
		term.Restore(fd, state)
	}
}

// interruptible runs a blocking read, and abandons it when ctx ends.
func (t *Terminal) interruptible(ctx context.Context, read func() error) error {
	done := make(chan error, 1)
	defect.Go(func() { done <- read() })
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// Question asks for a line; Enter keeps the default.
func (t *Terminal) Question(ctx context.Context, prompt, byDefault string) (string, error) {
	if t.in == nil {
		return "", errNoTerminal
	}
	if byDefault != "" {
		prompt += " [" + byDefault + "]"
	}
	fmt.Fprint(t.err, prompt+": ")
	var line string
	err := t.interruptible(ctx, func() (err error) {
		line, err = t.lines.ReadString('\n')
		return err
	})
	if err != nil {
		fmt.Fprintln(t.err)
		if errors.Is(err, io.EOF) {
			err = errors.New("the input ended before the last answer; nothing was saved")
		}
		return "", err
	}
	if line = strings.TrimSpace(line); line == "" {
		return byDefault, nil
	}
	return line, nil
}

// Choice asks for the number of a choice; Enter takes the default. It shows a typed answer only if it is a choice, as
// it may be a secret that was typed too early. n is 0 for "-".
func (t *Terminal) Choice(ctx context.Context, prompt string, choices []string, byDefault int) (n int, err error) {
	if t.in == nil {
		return 0, errNoTerminal
	}
	fd := int(t.in.Fd())
	state, err := term.GetState(fd)
	if err != nil {
		return 0, err
	}
	defer term.Restore(fd, state)
	for {
		if err := echoOff(fd); err != nil {
			return 0, err
		}
		answer, err := t.Question(ctx, prompt, strconv.Itoa(byDefault))
		if err != nil {
			return 0, err
		}
		n, err := strconv.Atoi(answer)
		switch {
		case answer == "-":
			t.Say("-")
			return 0, nil
		case err == nil && n >= 1 && n <= len(choices):
			t.Say("%d  %s", n, choices[n-1])
			return n, nil
		}
		t.Say("\n  expected a number from 1 to %d (what you typed was not shown and is not saved)", len(choices))
	}
}

// Confirm asks a question of yes or no.
func (t *Terminal) Confirm(ctx context.Context, prompt string, byDefault bool) (bool, error) {
	choice := "y/N"
	if byDefault {
		choice = "Y/n"
	}
	for {
		answer, err := t.Question(ctx, prompt+" ["+choice+"]", "")
		if err != nil {
			return false, err
		}
		switch strings.ToLower(answer) {
		case "":
			return byDefault, nil
		case "y", "yes":
			return true, nil
		case "n", "no":
			return false, nil
		}
		t.Say("please answer y or n")
	}
}
