// Package program runs a program that a profile or a cloud account names: without a shell, within bounds of time and
// output. At its end, it also ends all processes that the program started. It stands beneath secret and cloud. Start
// with Run.
package program

import (
	"bytes"
	"context"
	"errors"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"gentleharbor/core/clean"
)

// Limit bounds a run: a program that unlocks a store by itself takes a second or two, and one that waits for a person
// may never end.
const Limit = 10 * time.Second

// Program is what is run.
type Program struct {
	Words []string // its name or path, and what follows
	Dir   string   // "" for the working folder
	Input []byte   // what it can read, nil for nothing
	Most  int      // bytes of its output that are kept, and of what it says on its standard error
}

// Output is what a program left.
type Output struct {
	Data []byte
	Over bool   // there was more
	Said string // on its standard error, without what it printed
	Code int    // its exit code, 0 where it ended well
	Err  error  // why it could not be run to its end; nil where it ended by itself
	Late bool   // it did not end within Limit, and was ended
}

// Find returns the absolute path of a program, or the system's reason why it can't be run.
func Find(name string) (string, error) {
	path, err := exec.LookPath(name)
	if err != nil {
		return "", err
	}
	if whole, err := filepath.Abs(path); err == nil {
		path = whole
	}
	return path, nil
}

// Reason is an error of Find or of a run in the system's words.
func Reason(err error) string {
	var in *exec.Error
	if errors.As(err, &in) {
		err = in.Err
	}
	return clean.Line(err.Error(), 200)
}

// Run runs the program at a path. It ends when ctx is cancelled; the deadline of ctx does not count, as Limit bounds
// the time.
func (p Program) Run(ctx context.Context, path string) Output {
	bound, cancel := context.WithTimeout(context.WithoutCancel(ctx), Limit)
	defer cancel()
	defer context.AfterFunc(ctx, cancel)()
	cmd := exec.CommandContext(bound, path, p.Words[1:]...)
	cmd.Dir = p.Dir
	if p.Input != nil {
		cmd.Stdin = bytes.NewReader(p.Input)
	}
	endWithChildren(cmd)
	cmd.WaitDelay = time.Second // for what it left behind with its output open
	out, said := limitedBuffer{most: p.Most}, limitedBuffer{most: p.Most}
	cmd.Stdout, cmd.Stderr = &out, &said
	err := cmd.Run()
	result := Output{Data: out.data, Over: out.over, Said: withoutOutput(string(said.data), out.data)}
	var exit *exec.ExitError
	switch {
	case bound.Err() != nil && ctx.Err() == nil:
		result.Late = true
	case errors.As(err, &exit) && exit.ExitCode() >= 0:
		result.Code = exit.ExitCode()
	case err != nil && !errors.Is(err, exec.ErrWaitDelay):
		result.Err = err
	}
	return result
}

// hidden replaces, in a program's standard error, the text that it printed on standard output.
const hidden = "[hidden]"

// withoutOutput is a program's standard error, without text from its standard output.
func withoutOutput(said string, printed []byte) string {
	for line := range bytes.SplitSeq(printed, []byte("\n")) {
		if line := strings.TrimSpace(string(line)); line != "" {
			said = strings.ReplaceAll(said, line, hidden)
		}
	}
	return strings.TrimSpace(said)
}

// limitedBuffer keeps the first bytes that are written, and drops the rest without an error.
type limitedBuffer struct {
	most int
	data []byte
	over bool
}

func (b *limitedBuffer) Write(p []byte) (int, error) {
	room := min(len(p), b.most-len(b.data))
	b.data = append(b.data, p[:room]...)
	b.over = b.over || room < len(p)
	return len(p), nil
}
