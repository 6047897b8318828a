package secret

import (
	"bytes"
	"context"
	"fmt"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/program"
)

// Failure says why a secret could not be taken, by a finding.
type Failure struct{ Found *finding.Finding }

func (f *Failure) Error() string { return f.Found.Cause }

// command finds the program and runs nothing.
func (f *Finder) command(q Query) (*Location, *finding.Finding) {
	words := q.Command
	if len(words) == 0 {
		return nil, finding.New(finding.SecretMissing, "the password comes from a command, but the profile names none").
			Advise("name the program: gharbor set %s command=PROGRAM,WORD (or secret=\"command:PROGRAM WORD\")",
				q.Profile)
	}
	path, err := program.Find(words[0])
	if err != nil {
		found := finding.New(finding.SecretMissing, "the program %s, which prints the password, can't be run",
			clean.Quote(words[0]))
		if strings.Contains(words[0], "/") {
			return nil, found.Saw("%s", program.Reason(err)).Suggest("ls -l %s", clean.Shell(words[0]))
		}
		return nil, found.Saw("it is in none of the folders of PATH").
			Advise("name the program by its whole path: %s", q.wholePath())
	}
	return &Location{
		Place: "command " + clean.Line(path, 200),
		Read:  func(ctx context.Context) (Value, error) { return f.run(ctx, q, path, words) },
	}, nil
}

// wholePath suggests to name the program by its path.
func (q Query) wholePath() string {
	if q.Kind != OfDatabase {
		return fmt.Sprintf("%s %s %s=command:PATH", q.setCommand(), q.Profile, q.SettingKey())
	}
	return fmt.Sprintf("gharbor set %s command=PATH,WORD", q.Profile)
}

// run runs the command without input, and takes the first line of its output. The test's time limit does not run
// meanwhile.
func (f *Finder) run(ctx context.Context, q Query, path string, words []string) (Value, error) {
	one := program.Program{Words: words, Most: maxSecret}
	if q.Project {
		one.Dir = q.Folder // its words belong there, wherever one is
	}
	out := one.Run(ctx, path)
	line, _, _ := bytes.Cut(out.Data, []byte("\n"))
	line = bytes.TrimRight(line, "\r")
	failed := func(cause string, args ...any) error {
		found := finding.New(finding.SecretCommandFailed, "the command that prints the password "+cause, args...)
		if out.Said != "" {
			found.Saw("it said %s", clean.Quote(out.Said))
		}
		quoted := make([]string, len(words))
		for i, word := range words {
			quoted[i] = clean.Shell(word)
		}
		return &Failure{found.Suggest("%s >/dev/null   # does it work by itself?", strings.Join(quoted, " "))}
	}
	switch {
	case out.Late:
		return Value{}, failed("did not end within %s", program.Limit)
	case out.Code != 0:
		return Value{}, failed("ended with exit code %d", out.Code)
	case out.Err != nil:
		return Value{}, failed("could not be run: %s", program.Reason(out.Err))
	case out.Over && !bytes.Contains(out.Data, []byte("\n")):
		return Value{}, failed("printed a first line of more than %d KiB", maxSecret>>10)
	case len(line) == 0:
		return Value{}, failed("printed nothing in its first line")
	}
	return NewValue(string(line)), nil
}
