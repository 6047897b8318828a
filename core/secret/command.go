package secret

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
)

// commandLimit bounds a command's run: one that unlocks a store by itself takes
// a second or two, one that waits for somebody waits for ever.
const commandLimit = 10 * time.Second

// Failure is a secret that could not be taken, with a finding of its own.
type Failure struct{ Found *finding.Finding }

func (f *Failure) Error() string { return f.Found.Cause }

// command finds the program and runs nothing.
func (f *Finder) command(q Query) (*Located, *finding.Finding) {
	words := q.Command
	if len(words) == 0 {
		return nil, finding.New(finding.SecretMissing, "the password comes from a command, but the profile names none").
			Advise("name the program: gharbor set %s command=PROGRAM,WORD (or secret=\"command:PROGRAM WORD\")",
				q.Profile)
	}
	path, err := exec.LookPath(words[0])
	if err != nil {
		found := finding.New(finding.SecretMissing, "the program %s, which prints the password, can't be run",
			clean.Quoted(words[0]))
		if strings.Contains(words[0], "/") {
			return nil, found.Saw("%s", clean.Line(plainExec(err), 0)).Suggest("ls -l %s", clean.Shell(words[0]))
		}
		return nil, found.Saw("it is in none of the folders of PATH").
			Advise("name the program by its whole path: %s", q.wholePath())
	}
	if whole, err := filepath.Abs(path); err == nil {
		path = whole
	}
	return &Located{
		Place: "command " + clean.Line(path, 200),
		Read:  func(ctx context.Context) (Value, error) { return f.run(ctx, q, path, words) },
	}, nil
}

func plainExec(err error) string {
	var execError *exec.Error
	if errors.As(err, &execError) {
		err = execError.Err
	}
	return err.Error()
}

// wholePath is how to name the program by its path.
func (q Query) wholePath() string {
	if q.Kind != OfDatabase {
		return fmt.Sprintf("gharbor set %s %s=command:PATH", q.Profile, q.SettingKey())
	}
	return fmt.Sprintf("gharbor set %s command=PATH,WORD", q.Profile)
}

// run runs the command, without a shell and with nothing to read, and takes the
// first line of what it prints.
func (f *Finder) run(ctx context.Context, q Query, path string, words []string) (Value, error) {
	// The test's clock stands still meanwhile, and with it the deadline of ctx.
	bound, cancel := context.WithTimeout(context.WithoutCancel(ctx), commandLimit)
	defer cancel()
	defer context.AfterFunc(ctx, cancel)()
	cmd := exec.CommandContext(bound, path, words[1:]...)
	if q.Project {
		cmd.Dir = q.Folder // its words belong there, wherever one is
	}
	endWithChildren(cmd)
	cmd.WaitDelay = time.Second // for what it left behind with its output open
	var out, said bounded
	cmd.Stdout, cmd.Stderr = &out, &said
	err := cmd.Run()
	line, _, _ := bytes.Cut(out.data, []byte("\n"))
	line = bytes.TrimRight(line, "\r")
	failed := func(cause string, args ...any) error {
		found := finding.New(finding.SecretCommandFailed, "the command that prints the password "+cause, args...)
		if text := withoutOutput(string(said.data), out.data); text != "" {
			found.Saw("it said %s", clean.Quoted(text))
		}
		quoted := make([]string, len(words))
		for i, word := range words {
			quoted[i] = clean.Shell(word)
		}
		return &Failure{found.Suggest("%s >/dev/null   # does it work by itself?", strings.Join(quoted, " "))}
	}
	var exit *exec.ExitError
	switch {
	case bound.Err() != nil && ctx.Err() == nil:
		return Value{}, failed("did not end within %s", commandLimit)
	case errors.As(err, &exit) && exit.ExitCode() >= 0:
		return Value{}, failed("ended with exit code %d", exit.ExitCode())
	case err != nil && !errors.Is(err, exec.ErrWaitDelay):
		return Value{}, failed("could not be run: %s", clean.Line(plainExec(err), 0))
	case out.over && !bytes.Contains(out.data, []byte("\n")):
		return Value{}, failed("printed a first line of more than %d KiB", maxSecret>>10)
	case len(line) == 0:
		return Value{}, failed("printed nothing in its first line")
	}
	return NewValue(string(line)), nil
}

// withoutOutput is what a program said on its standard error without what it
// printed on its standard output.
func withoutOutput(said string, printed []byte) string {
	for line := range bytes.SplitSeq(printed, []byte("\n")) {
		if line := strings.TrimSpace(string(line)); line != "" {
			said = strings.ReplaceAll(said, line, Hidden)
		}
	}
	return strings.TrimSpace(said)
}

// bounded keeps the first maxSecret bytes of what is written and takes the rest
// without a word.
type bounded struct {
	data []byte
	over bool
}

func (b *bounded) Write(p []byte) (int, error) {
	room := min(len(p), maxSecret-len(b.data))
	b.data = append(b.data, p[:room]...)
	b.over = b.over || room < len(p)
	return len(p), nil
}
