package querycmd

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode/utf8"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/results"
	"gentleharbor/core/statement"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/wording"
	"gentleharbor/internal/render"
)

// maxScript bounds the statements of query, which are checked before the first is sent.
const maxScript = 64 << 20

// statements are the statements to run, which were checked.
type statements struct {
	name       string // for places: the file's, "statement" or "standard input"
	text       []byte
	lexis      engine.Lexis
	statements int
	risks      []riskyStatement
}

// riskyStatement is a statement that may destroy something.
type riskyStatement struct {
	line, column int
	why          string
}

// again reads the statements from their start.
func (s *statements) again() *statement.Splitter {
	return statement.NewSplitter(bytes.NewReader(s.text), s.lexis)
}

// place is a place in the statements, in the form of compilers.
func (s *statements) place(line, column int) string {
	if column == 0 {
		return fmt.Sprintf("%s:%d", s.name, line)
	}
	return fmt.Sprintf("%s:%d:%d", s.name, line, column)
}

// statements reads and checks the statements, before the first is sent.
func (c *call) statements(_ context.Context, p *resolve.Profile, o queryOptions) (*statements, error) {
	s := &statements{name: "statement"}
	switch {
	case len(c.Args) == 2:
		s.text = []byte(c.Args[1])
	case o.file != "" && o.file != "-":
		s.name = clean.Line(o.file, 200)
		file, err := os.Open(c.path(o.file))
		if err == nil {
			defer file.Close()
			s.text, err = readScript(file)
		}
		if err != nil {
			err = fmt.Errorf("%s cannot be read: %w", s.name, atomicfile.Plain(err))
			return nil, base.Failure(base.ExitFile, err)
		}
	case render.IsTerminal(c.Stdin) && o.file == "":
		return nil, base.Failure(base.ExitUsage, errors.New("no statement was given: give one, or -file FILE"),
			"gharbor help query")
	default:
		s.name = "standard input"
		var err error
		if s.text, err = readScript(c.Stdin); err != nil {
			return nil, base.Failure(base.ExitFailed, fmt.Errorf("standard input cannot be read: %w", err))
		}
	}
	if p.Engine() == nil {
		return s, nil // the test says so
	}
	by := p.Engine().Statements
	s.lexis = by.Lexis
	if err := c.look(s, by, o, len(c.Args) == 2); err != nil {
		return nil, err
	}
	if s.statements == 0 {
		return nil, base.Usage("%s: no statement, only blanks or comments", s.name)
	}
	return s, nil
}

// readScript reads statements, from a pipe too.
func readScript(from io.Reader) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(from, maxScript+1))
	if err == nil && len(data) > maxScript {
		err = errors.New("it has more than 64 MiB of statements")
	}
	return data, err
}

var errPasswordInArgument = errors.New("everybody on this machine can read a password in an argument (ps); write " +
	"the statement into a file")

// look takes the statements apart once.
func (c *call) look(s *statements, by *engine.Statements, o queryOptions, argument bool) error {
	used := make(map[string]bool)
	for splitter := s.again(); ; {
		p, err := splitter.Next()
		var wrong *statement.SyntaxError
		switch {
		case errors.Is(err, io.EOF):
			if unused := o.values.UnusedNames(used); len(unused) > 0 {
				return base.Usage("-let %s: no statement has {%s}", unused[0], unused[0])
			}
			return nil
		case errors.As(err, &wrong):
			return base.Usage("%s: %s", s.place(wrong.Line, wrong.Column), wrong.What)
		case err != nil:
			return err
		case p.Empty():
			continue
		case p.Text[0] == '\\' && by.ClientLines != nil && by.ClientLines.Begins(`\`):
			return base.Advise(base.Failure(base.ExitUsage,
				fmt.Errorf("%s: a line with a \\ is for another client, and no statement", s.place(p.Line, p.Column)),
				"gharbor browse "+clean.Shell(c.Args[0])+"   # to look around"),
				"run a script that has such lines: gharbor load "+clean.Shell(c.Args[0])+" FILE")
		case copies(p.Words):
			return base.Usage("%s: query runs no COPY FROM STDIN or TO STDOUT", s.place(p.Line, p.Column))
		case argument && statement.HasSecret(p.Words, by):
			return base.Advise(base.Failure(base.ExitUsage, errPasswordInArgument),
				"put it into a file: gharbor query "+clean.Shell(c.Args[0])+" -file FILE")
		}
		if o.atomic && by.Rules != nil && by.Rules.NotAtomic != "" {
			return base.Usage("-atomic: %s", by.Rules.NotAtomic)
		}
		if o.atomic && statement.Commits(p.Words, by) {
			return base.Usage("%s: %s ends the transaction of -atomic on this engine",
				s.place(p.Line, p.Column), p.Words[0])
		}
		s.statements++
		if _, err := statement.Fill(p, o.values, by, used); errors.As(err, &wrong) {
			return base.Usage("%s: %s", s.place(wrong.Line, wrong.Column), wrong.What)
		} else if err != nil {
			return err
		}
		if why := statement.Risk(p.Words, by); why != "" {
			s.risks = append(s.risks, riskyStatement{p.Line, p.Column, why})
		}
	}
}

// copies reports whether a statement sends data over the connection itself.
func copies(words []string) bool {
	if len(words) == 0 || words[0] != "COPY" {
		return false
	}
	text := " " + strings.Join(words, " ") + " "
	return strings.Contains(text, " FROM STDIN ") || strings.Contains(text, " TO STDOUT ")
}

// resultWriter writes results, and notes for a person beside them.
type resultWriter struct {
	*call
	script   *statements
	writer   *results.Writer
	runner   engine.Runner
	terminal bool
	most     int64 // rows of a result; 0 for all
	rows     int64
	last     engine.Outcome
	given    int // results with rows, of the statement
}

func (s *resultWriter) Begin(columns []engine.Column) error {
	s.rows = 0
	s.given++
	return s.writer.Begin(columns)
}

func (s *resultWriter) Row(values [][]byte) error {
	if s.rows++; s.most > 0 && s.rows > s.most {
		return nil
	}
	return s.writer.Row(values)
}

func (s *resultWriter) End(done engine.Outcome) error {
	s.last = done
	return s.writer.End(done)
}

// Notice says what the server says.
func (s *resultWriter) Notice(n engine.Notice) { s.tellNotice(n) }

// tellNotice prints a server's notice.
func (c *call) tellNotice(n engine.Notice) {
	text := clean.Line(strings.ToLower(n.Severity), 20) + ": " + clean.Visible(n.Message)
	if n.Detail != "" {
		text += "; " + clean.Visible(n.Detail)
	}
	if n.Hint != "" {
		text += "; " + clean.Visible(n.Hint)
	}
	c.Say("the server says %s", text)
}

// printOutcome prints a statement's count and time on a terminal.
func (s *resultWriter) printOutcome(_ *statement.Piece, took time.Duration) {
	if !s.terminal {
		return
	}
	what := ""
	switch d := s.last; {
	case d.Changed >= 0 && s.given == 0:
		what = fmt.Sprintf("%d %s changed", d.Changed, wording.Plural(int(d.Changed), "row", "rows"))
	case s.given > 0:
		what = fmt.Sprintf("%d %s", s.rows, wording.Plural(int(s.rows), "row", "rows"))
		if s.most > 0 && s.rows > s.most {
			what += fmt.Sprintf(", the first %d shown", s.most)
		}
	default:
		what = "done"
		if d.Command != "" {
			what = strings.ToLower(clean.Line(d.Command, 40)) + ": done"
		}
	}
	s.given = 0
	at := ""
	if server := s.runner.Took(); server > 0 {
		at = fmt.Sprintf(", %s at the server", shortTime(server))
	}
	s.Say("%s; %s%s", what, shortTime(took), at)
}

// shortTime is a time in words.
func shortTime(d time.Duration) string { return check.Duration(float64(d.Microseconds()) / 1000) }

// reportFailure says what the server refused.
func (s *resultWriter) reportFailure(f *statement.Failure) {
	s.tellFailure(s.script.place(f.Line, f.Column), f)
}

// tellFailure prints what the server refused, in the form of compilers.
func (c *call) tellFailure(place string, f *statement.Failure) {
	c.Say("%s: %s", clean.Visible(place), clean.Visible(f.Error()))
	line := strings.TrimLeft(f.Source, " \t")
	if line != "" {
		c.Say("  %s", clean.Visible(strings.ReplaceAll(line, "\t", " ")))
	}
	if f.Width > 0 {
		before := min(max(0, f.Column-1-(len(f.Source)-len(line))), len(line))
		c.Say("  %s%s", strings.Repeat(" ", utf8.RuneCountInString(line[:before])), strings.Repeat("~", f.Width))
	}
	for _, line := range [][2]string{{"detail", f.Detail}, {"hint", f.Hint}, {"where", f.Where}} {
		if line[1] != "" {
			c.Say("  %s: %s", line[0], clean.Visible(line[1]))
		}
	}
}
